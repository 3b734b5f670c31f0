//! Revisions of what can be changed, as entity tags (RFC 9110): told with it, and named by whoever changes it.

use axum::Json;
use axum::extract::FromRequestParts;
use axum::http::header::{ETAG, IF_MATCH};
use axum::http::request::Parts;
use axum::response::{IntoResponse, Response};
use gonvel_core::ports::PortError;
use gonvel_http_api::ProblemType;
use serde::Serialize;
use utoipa::IntoParams;

use crate::problems::Refusal;

/// Something with the revision that it is at.
pub(crate) struct Tagged<T>(pub(crate) i32, pub(crate) T);

impl<T: Serialize> IntoResponse for Tagged<T> {
    fn into_response(self) -> Response {
        ([(ETAG, format!("\"{}\"", self.0))], Json(self.1)).into_response()
    }
}

/// The parameter of an address that changes or deletes what has a revision.
#[derive(IntoParams)]
#[into_params(parameter_in = Header)]
#[expect(dead_code, reason = "it stands for the header in the document")]
pub(crate) struct IfMatchHeader {
    /// The `ETag` of what is to be changed, as it was read: if that is another one by now, nothing is changed (412). `*` takes it as
    /// it is.
    #[param(rename = "If-Match", example = "\"3\"")]
    if_match: Option<String>,
}

/// The revision that a request is for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum IfMatch {
    /// It does not say.
    Unsaid,
    /// Whichever there is.
    Any,
    /// This one.
    Only(i32),
}

impl<S: Send + Sync> FromRequestParts<S> for IfMatch {
    type Rejection = Refusal;

    async fn from_request_parts(parts: &mut Parts, _: &S) -> Result<Self, Refusal> {
        let Some(said) = parts.headers.get(IF_MATCH) else { return Ok(Self::Unsaid) };
        let said = said.to_str().unwrap_or_default().trim();
        if said == "*" {
            return Ok(Self::Any);
        }
        let tag = said.strip_prefix('"').and_then(|rest| rest.strip_suffix('"')).filter(|tag| !tag.contains('"'));
        match tag {
            // no revision is called so: it fits none
            Some(tag) => Ok(Self::Only(tag.parse().unwrap_or(-1))),
            None => {
                let finding = format!("{said:?} is no entity tag: send one ETag as it came, with its quotes, or *");
                Err(Refusal::new(ProblemType::Malformed, finding).at("If-Match"))
            }
        }
    }
}

impl IfMatch {
    /// The revision that is to be changed, where it is the one that is there now; it has to be said which.
    pub(crate) fn to_change(self, what: &str, now: i32) -> Result<i32, Refusal> {
        if self == Self::Unsaid {
            let detail = "the request does not say which revision it changes, so it could undo what another did";
            return Err(Refusal::new(ProblemType::Unconditional, detail).at("If-Match"));
        }
        self.holds(what, now)?;
        Ok(now)
    }

    /// Whether what is at this revision now is what is meant; where nothing is said it is.
    pub(crate) fn holds(self, what: &str, now: i32) -> Result<(), Refusal> {
        match self {
            Self::Only(revision) if revision != now => Err(PortError::Changed { what: what.to_owned() }.into()),
            _ => Ok(()),
        }
    }
}
