//! Errors as problem documents (RFC 9457): the one place that maps them to HTTP.

use axum::Json;
use axum::body::Bytes;
use axum::extract::path::ErrorKind;
use axum::extract::rejection::{BytesRejection, FailedToBufferBody, PathRejection};
use axum::extract::{FromRequest, FromRequestParts, MatchedPath, Request};
use axum::http::request::Parts;
use axum::http::{HeaderMap, StatusCode, header};
use axum::response::{IntoResponse, Response};
use gonvel_core::connector::DefinitionError;
use gonvel_core::naming::NameError;
use gonvel_core::ports::PortError;
use gonvel_core::preflight::{self, Report};
use gonvel_http_api::{Check, Outcome, Problem, ProblemError, ProblemType, SchemaFault};
use gonvel_runtime::standing::Unknown;
use gonvel_runtime::systems::ConnectorError;
use serde::de::DeserializeOwned;
use serde_path_to_error::{Path as Within, Segment};

/// An answer that is not what was asked for.
#[derive(Debug, Clone)]
pub(crate) struct Refusal {
    problem: Box<Problem>,
    /// What it is about, and what was found there where that is not what the document says as a whole.
    at: Vec<At>,
}

/// A place of the request that a refusal is about.
#[derive(Debug, Clone, Default)]
struct At {
    /// A field or parameter, or what stands in one: `name`, `load.chunks`.
    field: String,
    finding: Option<String>,
    line_and_column: Option<(usize, usize)>,
}

/// Where something that is named in a refusal stands in the request.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Place {
    /// At a JSON Pointer of the body.
    Body(String),
    /// A parameter of this name.
    Parameter(String),
}

impl Refusal {
    pub(crate) fn new(kind: ProblemType, detail: impl Into<String>) -> Self {
        Self { problem: Box::new(Problem::new(kind, detail)), at: Vec::new() }
    }

    pub(crate) fn invalid(field: &str, detail: impl Into<String>) -> Self {
        Self::new(ProblemType::Invalid, detail).at(field)
    }

    /// More than may be sent at once.
    pub(crate) fn too_large(detail: impl Into<String>) -> Self {
        Self::new(ProblemType::TooLarge, detail)
    }

    /// Says more in the detail.
    pub(crate) fn add(mut self, text: &str) -> Self {
        self.problem.detail = format!("{}; {text}", self.problem.detail);
        self
    }

    /// Says what to do in this case.
    pub(crate) fn remedied(mut self, remedy: impl Into<String>) -> Self {
        self.problem.remedy = remedy.into();
        self
    }

    /// What it says, in a sentence.
    pub(crate) fn detail(&self) -> String {
        self.problem.told()
    }

    /// What it says, where what was sent is the reason.
    pub(crate) fn of_the_request(&self) -> Option<&str> {
        let status = self.problem.status;
        ((400..500).contains(&status) && ![404, 429].contains(&status)).then_some(&self.problem.detail)
    }

    /// The field that it is about.
    pub(crate) fn field(&self) -> Option<&str> {
        self.at.first().map(|at| at.field.as_str())
    }

    /// Says what it is about: a field or a parameter.
    pub(crate) fn at(mut self, field: &str) -> Self {
        self.at = vec![At { field: field.into(), ..At::default() }];
        self
    }

    /// Says what was found at one more place of it.
    pub(crate) fn and_at(mut self, field: &str, finding: &str, line_and_column: Option<(usize, usize)>) -> Self {
        self.at.push(At { field: field.into(), finding: Some(finding.into()), line_and_column });
        self
    }

    /// Takes what it says of a first record for all of the body.
    pub(crate) fn of_the_whole(mut self) -> Self {
        for at in self.at.iter_mut().filter(|at| at.field == "0") {
            at.field.clear();
        }
        self
    }

    /// Says where in a text that was sent something is wrong.
    pub(crate) fn with_fault(self, field: &str, fault: &SchemaFault) -> Self {
        self.and_at(field, &fault.finding, Some((fault.line, fault.column)))
    }

    /// A preflight that did not pass: its first failed check in the document's own members, all checks beside it.
    pub(crate) fn preflight(report: Report) -> Self {
        let mut refusal = Self::new(ProblemType::Preflight, "see the checks");
        let failed = |check: &&preflight::Check| check.outcome == preflight::Outcome::Failed;
        if let Some(first) = report.iter().find(failed) {
            refusal.problem.detail.clone_from(&first.finding);
            refusal.problem.statement.clone_from(&first.statement);
            if let Some(remedy) = &first.remedy {
                refusal = refusal.remedied(remedy.as_str());
            }
        }
        for check in report.iter().filter(failed) {
            if let Some(field) = &check.field {
                refusal = refusal.and_at(field, &check.finding, None);
            }
        }
        refusal.problem.checks = checks(report);
        refusal
    }

    /// The document, with what it is about at the places that are known of the address that was asked.
    pub(crate) fn is(&self, kind: ProblemType) -> bool {
        self.problem.of_type() == Some(kind)
    }

    pub(crate) fn document(self, place: impl Fn(&str) -> Option<Place>) -> Problem {
        let mut problem = *self.problem;
        let of_the_request = problem.of_type() == Some(ProblemType::Invalid);
        let error = |at: At| {
            let (first, rest) = at.field.split_once('.').map_or((at.field.as_str(), None), |(a, b)| (a, Some(b)));
            let within = || pointer(rest.into_iter().flat_map(|rest| rest.split('.')));
            // without a name it is all of the body, and a number is one of a list; what is of the system is in the checks
            let (pointer, parameter) = match place(first) {
                _ if first.is_empty() => (Some(String::new()), None),
                _ if first.bytes().all(|b| b.is_ascii_digit()) => (Some(pointer([first])), None),
                Some(Place::Parameter(name)) => (None, Some(name)),
                Some(Place::Body(to)) => (Some(to + &within()), None),
                // what the request has and its document does not
                None if of_the_request => (Some(pointer([first])), None),
                None => (None, None),
            };
            ProblemError {
                pointer,
                parameter,
                finding: at.finding.unwrap_or_else(|| problem.detail.clone()),
                line: at.line_and_column.map(|(line, _)| line),
                column: at.line_and_column.map(|(_, column)| column),
            }
        };
        let more: Vec<ProblemError> = self.at.into_iter().map(error).collect();
        problem.errors.extend(more);
        problem
    }
}

/// A JSON Pointer of these steps.
pub(crate) fn pointer<'a>(steps: impl IntoIterator<Item = &'a str>) -> String {
    steps.into_iter().map(|step| format!("/{}", step.replace('~', "~0").replace('/', "~1"))).collect()
}

/// Parts of an address; what cannot be read is refused with a problem document.
pub(crate) struct Path<T>(pub(crate) T);

impl<T: DeserializeOwned + Send, S: Send + Sync> FromRequestParts<S> for Path<T> {
    type Rejection = Refusal;

    async fn from_request_parts(parts: &mut Parts, state: &S) -> Result<Self, Refusal> {
        match axum::extract::Path::<T>::from_request_parts(parts, state).await {
            Ok(axum::extract::Path(value)) => Ok(Self(value)),
            Err(rejection) => {
                let address = parts.extensions.get::<MatchedPath>().map(MatchedPath::as_str).unwrap_or_default();
                Err(misread(&rejection, address))
            }
        }
    }
}

fn misread(rejection: &PathRejection, address: &str) -> Refusal {
    let (key, finding) = match rejection {
        PathRejection::FailedToDeserializePathParams(error) => match error.kind() {
            ErrorKind::ParseErrorAtKey { key, value, expected_type } => {
                (Some(key.as_str()), format!("{value:?} is no {expected_type}"))
            }
            ErrorKind::ParseError { value, expected_type } => (None, format!("{value:?} is no {expected_type}")),
            ErrorKind::DeserializeError { key, value, message } => (Some(key.as_str()), format!("{value:?}: {message}")),
            ErrorKind::InvalidUtf8InPathParam { key } => (Some(key.as_str()), "it is not UTF-8".to_owned()),
            other => (None, other.to_string()),
        },
        other => (None, other.body_text()),
    };
    // one that stands alone in its address is told without its name
    let alone = || address.rsplit_once('{').and_then(|(_, rest)| rest.split_once('}')).map(|(name, _)| name);
    unread("path", key.or_else(alone), &finding)
}

/// What stands behind the question mark; what cannot be read is refused with a problem document.
pub(crate) struct Query<T>(pub(crate) T);

impl<T: DeserializeOwned, S: Send + Sync> FromRequestParts<S> for Query<T> {
    type Rejection = Refusal;

    async fn from_request_parts(parts: &mut Parts, state: &S) -> Result<Self, Refusal> {
        let read = axum::extract::Query::<T>::from_request_parts(parts, state).await;
        read.map(|axum::extract::Query(value)| Self(value)).map_err(|rejection| {
            let said = rejection.body_text();
            let said = said.strip_prefix("Failed to deserialize query string: ").unwrap_or(&said);
            // the parameter stands before what is wrong with it, or in it where it is not known or missing
            match said.split_once(": ").filter(|(name, _)| !name.contains(' ')) {
                Some((name, finding)) => unread("query", Some(name), finding),
                None => unread("query", said.split('`').nth(1).filter(|_| said.contains("field `")), said),
            }
        })
    }
}

pub(crate) fn unread(what: &str, parameter: Option<&str>, finding: &str) -> Refusal {
    let named = parameter.map(|name| format!(", {name}")).unwrap_or_default();
    let detail = format!("the {what} of the address cannot be read{named}: {finding}");
    let mut refusal = Refusal::new(ProblemType::Malformed, detail);
    let parameter = parameter.map(str::to_owned);
    refusal.problem.errors.push(ProblemError { parameter, finding: finding.to_owned(), ..ProblemError::default() });
    refusal
}

/// An address that is there, asked by a method that it does not take.
pub(crate) async fn method_not_allowed(method: axum::http::Method) -> Refusal {
    Refusal::new(ProblemType::Method, format!("this address does not take {method}"))
}

/// A report in the form of the API.
pub(crate) fn checks(report: Report) -> Vec<Check> {
    let check = |c: preflight::Check| Check {
        name: c.name,
        outcome: match c.outcome {
            preflight::Outcome::Passed => Outcome::Passed,
            preflight::Outcome::Warning => Outcome::Warning,
            preflight::Outcome::Failed => Outcome::Failed,
        },
        finding: c.finding,
        meaning: c.meaning,
        remedy: c.remedy,
        statement: c.statement,
        field: c.field,
        can_be_done: c.can_be_done,
    };
    report.into_iter().map(check).collect()
}

impl IntoResponse for Refusal {
    fn into_response(self) -> Response {
        let mut response = written(&self.clone().document(|name| Some(Place::Body(pointer([name])))));
        // whoever knows the address says where in the request it is about
        response.extensions_mut().insert(self);
        response
    }
}

/// A problem document as an answer.
pub(crate) fn written(problem: &Problem) -> Response {
    let status = StatusCode::from_u16(problem.status).unwrap_or(StatusCode::INTERNAL_SERVER_ERROR);
    let mut response = (status, Json(problem)).into_response();
    response.headers_mut().insert(header::CONTENT_TYPE, header::HeaderValue::from_static("application/problem+json"));
    if matches!(status, StatusCode::SERVICE_UNAVAILABLE | StatusCode::TOO_MANY_REQUESTS) {
        response.headers_mut().insert(header::RETRY_AFTER, header::HeaderValue::from_static("2"));
    }
    response
}

impl From<PortError> for Refusal {
    fn from(error: PortError) -> Self {
        let kind = match &error {
            PortError::NotFound { .. } => ProblemType::NotFound,
            PortError::Exists { .. } => ProblemType::Exists,
            PortError::Refused(_) => ProblemType::Refused,
            PortError::TryAgain { cause, .. } => {
                tracing::warn!(%error, %cause, "a request could not be carried out");
                ProblemType::TryAgain
            }
            PortError::Unfit { .. } => ProblemType::Unfit,
            PortError::Failed { cause, .. } => {
                tracing::error!(%error, %cause, "a request failed");
                ProblemType::Failed
            }
            PortError::Changed { .. } => ProblemType::Changed,
            PortError::OutOfTurn { .. } => ProblemType::OutOfTurn,
            PortError::KeyReused { .. } | PortError::SequenceReused { .. } => ProblemType::KeyReused,
            PortError::NotHeld { .. } => ProblemType::NotHeld,
            PortError::Fenced { .. } | PortError::Damaged { .. } => {
                tracing::error!(%error, "a request failed");
                ProblemType::Failed
            }
        };
        let refusal = Self::new(kind, error.finding());
        let refusal = match error.remedy() {
            Some(remedy) => refusal.remedied(remedy),
            None => refusal,
        };
        match &error {
            PortError::Exists { .. } => refusal.at("name"),
            PortError::Changed { .. } => refusal.at("If-Match"),
            PortError::KeyReused { .. } => refusal.at("Idempotency-Key"),
            PortError::OutOfTurn { .. } | PortError::SequenceReused { .. } => refusal.at("Producer-Sequence"),
            _ => refusal,
        }
    }
}

impl From<ConnectorError> for Refusal {
    fn from(error: ConnectorError) -> Self {
        let detail = error.to_string();
        match error {
            ConnectorError::Settings { field, finding, remedy, statement } => {
                let mut refusal = Self::new(ProblemType::Settings, finding).remedied(remedy);
                refusal.problem.statement = statement;
                match field {
                    Some(field) => refusal.at(field),
                    None => refusal,
                }
            }
            ConnectorError::TryAgain { finding, remedy, .. } => {
                Self::new(ProblemType::Unreachable, finding).remedied(remedy)
            }
            _ => Self::new(ProblemType::Failed, detail),
        }
    }
}

impl From<Unknown> for Refusal {
    fn from(error: Unknown) -> Self {
        match error {
            Unknown::System(error) => error.into(),
            Unknown::Catalog(error) => error.into(),
        }
    }
}

/// A name that cannot be one, where it stands elsewhere than at `name`.
pub(crate) fn name_at(field: &str) -> impl Fn(NameError) -> Refusal {
    move |error| Refusal::invalid(field, error.to_string())
}

impl From<NameError> for Refusal {
    fn from(error: NameError) -> Self {
        Self::invalid("name", error.to_string())
    }
}

impl From<DefinitionError> for Refusal {
    fn from(error: DefinitionError) -> Self {
        let cause = std::error::Error::source(&error).map(|c| format!(": {c}")).unwrap_or_default();
        Self::invalid(error.field(), format!("{error}{cause}"))
    }
}

/// A JSON body; what is wrong with it becomes a problem document too, with the place.
pub(crate) struct Body<T>(pub(crate) T);

impl<S: Send + Sync, T: DeserializeOwned> FromRequest<S> for Body<T> {
    type Rejection = Refusal;

    async fn from_request(request: Request, state: &S) -> Result<Self, Refusal> {
        read(&json_body(request, state).await?).map(Self)
    }
}

/// A body that is said to be JSON, not yet read.
pub(crate) async fn json_body<S: Send + Sync>(request: Request, state: &S) -> Result<Bytes, Refusal> {
    if !is_json(request.headers()) {
        let detail = "the body is not said to be JSON: send the header Content-Type: application/json";
        return Err(Refusal::new(ProblemType::MediaType, detail));
    }
    Bytes::from_request(request, state).await.map_err(|rejection| unbuffered(&rejection))
}

/// Why a body could not be taken in.
pub(crate) fn unbuffered(rejection: &BytesRejection) -> Refusal {
    match rejection {
        BytesRejection::FailedToBufferBody(FailedToBufferBody::LengthLimitError(_)) => {
            Refusal::new(ProblemType::TooLarge, "the body is larger than is taken here at once")
        }
        other => Refusal::new(ProblemType::Malformed, format!("the body broke off: {}", other.body_text())),
    }
}

fn is_json(headers: &HeaderMap) -> bool {
    let form = headers.get(header::CONTENT_TYPE).and_then(|form| form.to_str().ok()).unwrap_or_default();
    let form = form.split(';').next().unwrap_or_default().trim().to_ascii_lowercase();
    form == "application/json" || (form.starts_with("application/") && form.ends_with("+json"))
}

pub(crate) fn read<T: DeserializeOwned>(body: &[u8]) -> Result<T, Refusal> {
    let mut reader = serde_json::Deserializer::from_slice(body);
    let unreadable = |error: &serde_json::Error, at: &Within| {
        let said = error.to_string();
        // the place is told beside it
        let said = said.rsplit_once(" at line ").map_or(said.as_str(), |(said, _)| said);
        let place = Some((error.line(), error.column())).filter(|(line, _)| *line > 0);
        let kind = if error.is_data() { ProblemType::Invalid } else { ProblemType::Malformed };
        let to = pointer(at.iter().filter_map(step).collect::<Vec<_>>().iter().map(String::as_str));
        let within = if to.is_empty() { String::new() } else { format!(" at {to}") };
        let mut refusal = Refusal::new(kind, format!("the body cannot be read{within}: {said}"));
        refusal.problem.errors.push(ProblemError {
            pointer: Some(to),
            parameter: None,
            finding: said.to_owned(),
            line: place.map(|(line, _)| line),
            column: place.map(|(_, column)| column),
        });
        refusal
    };
    let value = serde_path_to_error::deserialize(&mut reader).map_err(|e| unreadable(e.inner(), e.path()))?;
    let end = serde_path_to_error::Track::new().path();
    reader.end().map_err(|e| unreadable(&e, &end))?;
    Ok(value)
}

fn step(segment: &Segment) -> Option<String> {
    match segment {
        Segment::Seq { index } => Some(index.to_string()),
        Segment::Map { key } => Some(key.clone()),
        // the variant of a value is not a place of its own
        Segment::Enum { .. } | Segment::Unknown => None,
    }
}
