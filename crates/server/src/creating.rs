//! Requests that make something, each carried out once however often it is sent with the same key.

use std::sync::Arc;

use axum::extract::{FromRequest, FromRequestParts, Request};
use axum::http::request::Parts;
use axum::http::{HeaderMap, StatusCode};
use gonvel_http_api::ProblemType;
use gonvel_storage::Database;
use gonvel_storage::once::Once;
use serde::de::DeserializeOwned;
use utoipa::IntoParams;
use uuid::Uuid;

use crate::problems::{Refusal, json_body, read};
use crate::state::ServerState;

/// The header by which a retry is known.
#[derive(IntoParams)]
#[into_params(parameter_in = Header)]
#[expect(dead_code, reason = "it stands for the header in the document")]
pub(crate) struct KeyHeader {
    /// A key of the client's own, 1 to 200 characters: the same request with it makes one thing, and is answered with it again for a day.
    #[param(rename = "Idempotency-Key", min_length = 1, max_length = 200)]
    idempotency_key: Option<String>,
}

/// A header that has to be plain text: one that is not is not passed over.
pub(crate) fn plain<'a>(headers: &'a HeaderMap, name: &str) -> Result<Option<&'a str>, Refusal> {
    let Some(value) = headers.get(name) else { return Ok(None) };
    let wrong = |_| Refusal::invalid(name, "its value is not plain text: use the letters, digits and signs of ASCII");
    value.to_str().map(Some).map_err(wrong)
}

/// The key that a request was given.
pub(crate) fn key(headers: &HeaderMap) -> Result<Option<&str>, Refusal> {
    let key = plain(headers, "idempotency-key")?;
    match key {
        Some(key) if key.is_empty() || key.len() > 200 => {
            Err(Refusal::invalid("Idempotency-Key", "the key has to have 1 to 200 characters"))
        }
        key => Ok(key),
    }
}

/// The id of what a request made.
pub(crate) fn made_id(text: &str) -> Result<Uuid, Refusal> {
    text.parse()
        .map_err(|_| Refusal::new(ProblemType::Failed, format!("what a request made is kept as {text:?}, which is no id")))
}

fn once(parts: &Parts, state: &ServerState, body: &[u8]) -> Result<Option<Once>, Refusal> {
    let asked = format!("{} {}\n", parts.method, parts.uri);
    Ok(key(&parts.headers)?.map(|key| state.database.asked_once(key, &[asked.as_bytes(), body])))
}

/// How a retry of a request is known.
pub(crate) struct Creation(Option<Once>);

/// Of a request without a body.
impl FromRequestParts<Arc<ServerState>> for Creation {
    type Rejection = Refusal;

    async fn from_request_parts(parts: &mut Parts, state: &Arc<ServerState>) -> Result<Self, Refusal> {
        once(parts, state, b"").map(Self)
    }
}

/// A request with a JSON body.
pub(crate) struct Creating<T>(pub(crate) Creation, pub(crate) T);

impl<T: DeserializeOwned> FromRequest<Arc<ServerState>> for Creating<T> {
    type Rejection = Refusal;

    async fn from_request(request: Request, state: &Arc<ServerState>) -> Result<Self, Refusal> {
        let (parts, body) = request.into_parts();
        let body = json_body(Request::from_parts(parts.clone(), body), state).await?;
        Ok(Self(Creation(once(&parts, state, &body)?), read(&body)?))
    }
}

impl<T> Creating<T> {
    /// One that no retry follows.
    pub(crate) fn unkeyed(request: T) -> Self {
        Self(Creation(None), request)
    }
}

impl Creation {
    /// Makes something and shows it, or shows what the same request made before. What makes it gives its id, or its name.
    pub(crate) async fn make<T>(
        self,
        state: &ServerState,
        make: impl AsyncFnOnce(&Database) -> Result<String, Refusal>,
        show: impl AsyncFnOnce(String) -> Result<T, Refusal>,
    ) -> Result<(StatusCode, T), Refusal> {
        let database = state.database.once(self.0.clone());
        let before = async || match &self.0 {
            Some(once) => state.database.made_by(once).await,
            None => Ok(None),
        };
        let (made, retried) = match before().await? {
            Some(made) => (made, true),
            None => match make(&database).await {
                Ok(made) => (made, false),
                // the same request may have come twice at once
                Err(refusal) => (before().await?.ok_or(refusal)?, true),
            },
        };
        match show(made).await {
            Err(refusal) if retried && refusal.is(ProblemType::NotFound) => {
                Err(Refusal::new(ProblemType::Refused, "what this request made was deleted since"))
            }
            shown => Ok((StatusCode::CREATED, shown?)),
        }
    }
}
