//! Errors as problem documents (RFC 9457): the one place that maps them to HTTP.

use axum::Json;
use axum::extract::rejection::JsonRejection;
use axum::extract::{FromRequest, FromRequestParts, Request};
use axum::http::request::Parts;
use axum::http::{StatusCode, header};
use axum::response::{IntoResponse, Response};
use gonvel_core::connector::DefinitionError;
use gonvel_core::naming::NameError;
use gonvel_core::ports::PortError;
use gonvel_core::preflight::{self, Report};
use gonvel_http_api::{Check, Outcome, Problem, SchemaFault};
use gonvel_runtime::standing::Unknown;
use gonvel_runtime::systems::ConnectorError;
use serde::de::DeserializeOwned;

/// An answer that is not what was asked for.
#[derive(Debug)]
pub(crate) struct Refusal(Box<Problem>);

impl Refusal {
    pub(crate) fn new(status: StatusCode, kind: &str, title: &str, detail: impl Into<String>) -> Self {
        Self(Box::new(Problem {
            kind: kind.into(),
            title: title.into(),
            status: status.as_u16(),
            detail: detail.into(),
            remedy: None,
            statement: None,
            field: None,
            fault: None,
            checks: Vec::new(),
        }))
    }

    pub(crate) fn invalid(field: &str, detail: impl Into<String>) -> Self {
        Self::new(StatusCode::UNPROCESSABLE_ENTITY, "invalid", "The request cannot be carried out as given", detail)
            .at(field)
    }

    /// More than may be sent at once.
    pub(crate) fn too_large(detail: impl Into<String>) -> Self {
        Self::new(StatusCode::PAYLOAD_TOO_LARGE, "too-large", "It is too large", detail)
    }

    /// Says more in the detail.
    pub(crate) fn add(mut self, text: &str) -> Self {
        self.0.detail = format!("{}; {text}", self.0.detail);
        self
    }

    /// What it says, in a sentence.
    pub(crate) fn detail(&self) -> String {
        match &self.0.remedy {
            Some(remedy) => format!("{}: {remedy}", self.0.detail),
            None => self.0.detail.clone(),
        }
    }

    /// What it says, where what was sent is the reason.
    pub(crate) fn of_the_request(&self) -> Option<&str> {
        ((400..500).contains(&self.0.status) && ![404, 429].contains(&self.0.status)).then_some(&self.0.detail)
    }

    /// The field that it is about.
    pub(crate) fn field(&self) -> Option<&str> {
        self.0.field.as_deref()
    }

    pub(crate) fn at(mut self, field: &str) -> Self {
        self.0.field = Some(field.into());
        self
    }

    /// Says where in a text that was sent something is wrong.
    pub(crate) fn with_fault(mut self, fault: SchemaFault) -> Self {
        self.0.fault = Some(fault);
        self
    }

    /// A preflight that did not pass: its first failed check in the document's own members, all checks beside it.
    pub(crate) fn preflight(report: Report) -> Self {
        let mut refusal = Self::new(
            StatusCode::UNPROCESSABLE_ENTITY,
            "preflight",
            "The preflight found something missing",
            "see the checks",
        );
        if let Some(failed) = report.iter().find(|c| c.outcome == preflight::Outcome::Failed) {
            refusal.0.detail.clone_from(&failed.finding);
            refusal.0.remedy.clone_from(&failed.remedy);
            refusal.0.statement.clone_from(&failed.statement);
            refusal.0.field.clone_from(&failed.field);
        }
        refusal.0.checks = checks(report);
        refusal
    }
}

/// Parts of an address; what cannot be read is refused with a problem document.
pub(crate) struct Path<T>(pub(crate) T);

impl<T: DeserializeOwned + Send, S: Send + Sync> FromRequestParts<S> for Path<T> {
    type Rejection = Refusal;

    async fn from_request_parts(parts: &mut Parts, state: &S) -> Result<Self, Refusal> {
        let read = axum::extract::Path::<T>::from_request_parts(parts, state).await;
        read.map(|axum::extract::Path(value)| Self(value)).map_err(|e| malformed("path", "Invalid URL: ", &e.body_text()))
    }
}

/// What stands behind the question mark; what cannot be read is refused with a problem document.
pub(crate) struct Query<T>(pub(crate) T);

impl<T: DeserializeOwned, S: Send + Sync> FromRequestParts<S> for Query<T> {
    type Rejection = Refusal;

    async fn from_request_parts(parts: &mut Parts, state: &S) -> Result<Self, Refusal> {
        let read = axum::extract::Query::<T>::from_request_parts(parts, state).await;
        let wrong = |text: &str| malformed("query", "Failed to deserialize query string: ", text);
        read.map(|axum::extract::Query(value)| Self(value)).map_err(|e| wrong(&e.body_text()))
    }
}

fn malformed(what: &str, prefix: &str, text: &str) -> Refusal {
    let finding = text.strip_prefix(prefix).unwrap_or(text);
    let mut refusal = Refusal::new(
        StatusCode::BAD_REQUEST,
        "malformed",
        "The address cannot be read",
        format!("the {what} of the address cannot be read: {finding}"),
    );
    refusal.0.remedy = Some("write it as /api/openapi.json says".into());
    refusal.0.field = Some(what.into());
    refusal
}

/// An address that is there, asked by a method that it does not take.
pub(crate) async fn method_not_allowed(method: axum::http::Method) -> Refusal {
    let detail = format!("this address does not take {method}: see /api/openapi.json");
    Refusal::new(StatusCode::METHOD_NOT_ALLOWED, "method", "The address does not take this method", detail)
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
        let status = StatusCode::from_u16(self.0.status).unwrap_or(StatusCode::INTERNAL_SERVER_ERROR);
        let mut response = (status, Json(self.0)).into_response();
        response.headers_mut().insert(header::CONTENT_TYPE, header::HeaderValue::from_static("application/problem+json"));
        if matches!(status, StatusCode::SERVICE_UNAVAILABLE | StatusCode::TOO_MANY_REQUESTS) {
            response.headers_mut().insert(header::RETRY_AFTER, header::HeaderValue::from_static("2"));
        }
        response
    }
}

impl From<PortError> for Refusal {
    fn from(error: PortError) -> Self {
        let detail = error.to_string();
        match error {
            PortError::NotFound { .. } => Self::new(StatusCode::NOT_FOUND, "not-found", "It is not there", detail),
            PortError::Exists { .. } => Self::new(StatusCode::CONFLICT, "exists", "The name is taken", detail).at("name"),
            PortError::Refused(_) => Self::new(StatusCode::CONFLICT, "refused", "It cannot be done now", detail),
            PortError::TryAgain { ref cause, .. } => {
                tracing::warn!(%error, %cause, "a request could not be carried out");
                Self::new(StatusCode::SERVICE_UNAVAILABLE, "try-again", "Gonvel's own database does not answer", detail)
            }
            PortError::Unfit { .. } => {
                Self::new(StatusCode::UNPROCESSABLE_ENTITY, "unfit", "A value cannot be stored", detail)
            }
            PortError::Failed { ref cause, .. } => {
                tracing::error!(%error, %cause, "a request failed");
                Self::new(StatusCode::INTERNAL_SERVER_ERROR, "failed", "Gonvel's own database refused", detail)
            }
            PortError::Changed { .. } => {
                Self::new(StatusCode::PRECONDITION_FAILED, "changed", "It was changed by another", detail)
            }
            PortError::OutOfTurn { .. } => {
                Self::new(StatusCode::CONFLICT, "out-of-turn", "The sequence is not next", detail)
            }
            PortError::KeyReused { .. } | PortError::SequenceReused { .. } => {
                Self::new(StatusCode::UNPROCESSABLE_ENTITY, "key-reused", "The idempotency key was used before", detail)
            }
            PortError::NotHeld { .. } => Self::new(StatusCode::CONFLICT, "not-held", "Another member reads it", detail),
            PortError::Fenced { .. } | PortError::Damaged { .. } => {
                tracing::error!(%error, "a request failed");
                Self::new(StatusCode::INTERNAL_SERVER_ERROR, "failed", "Stored data cannot be read", detail)
            }
        }
    }
}

impl From<ConnectorError> for Refusal {
    fn from(error: ConnectorError) -> Self {
        let detail = error.to_string();
        match error {
            ConnectorError::Settings { field, finding, remedy, statement } => {
                let mut refusal =
                    Self::new(StatusCode::UNPROCESSABLE_ENTITY, "settings", "A setting must be changed first", finding);
                (refusal.0.remedy, refusal.0.statement) = (Some(remedy), statement);
                refusal.0.field = field.map(str::to_owned);
                refusal
            }
            ConnectorError::TryAgain { finding, remedy, .. } => {
                let mut refusal = Self::new(StatusCode::BAD_GATEWAY, "unreachable", "The system does not answer", finding);
                refusal.0.remedy = Some(remedy);
                refusal
            }
            _ => Self::new(StatusCode::INTERNAL_SERVER_ERROR, "failed", "It failed", detail),
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

/// A JSON body; what is wrong with it becomes a problem document too.
pub(crate) struct Body<T>(pub(crate) T);

impl<S: Send + Sync, T: serde::de::DeserializeOwned> FromRequest<S> for Body<T> {
    type Rejection = Refusal;

    async fn from_request(request: Request, state: &S) -> Result<Self, Refusal> {
        match Json::<T>::from_request(request, state).await {
            Ok(Json(body)) => Ok(Self(body)),
            Err(rejection) => {
                let status = match &rejection {
                    JsonRejection::JsonDataError(_) => StatusCode::UNPROCESSABLE_ENTITY,
                    other => other.status(),
                };
                Err(Refusal::new(status, "body", "The body cannot be read", rejection.body_text()))
            }
        }
    }
}
