//! Who asks for something, as far as the client says it.

use axum::extract::FromRequestParts;
use axum::http::request::Parts;

use crate::problems::Refusal;

/// Longest name, in characters.
const LONGEST: usize = 200;

/// The header `Gonvel-Who`, percent-encoded: a name for histories. Empty without it.
pub(crate) struct Who(pub(crate) String);

impl<S: Send + Sync> FromRequestParts<S> for Who {
    type Rejection = Refusal;

    async fn from_request_parts(parts: &mut Parts, _: &S) -> Result<Self, Refusal> {
        let Some(said) = parts.headers.get("gonvel-who") else { return Ok(Self(String::new())) };
        let refused = |finding: &str| Refusal::invalid("gonvel-who", format!("the header Gonvel-Who {finding}"));
        let text = percent_encoding::percent_decode(said.as_bytes()).decode_utf8();
        let name = text.map_err(|_| refused("is not text: give a name, percent-encoded"))?.trim().to_owned();
        if name.chars().count() > LONGEST {
            return Err(refused("is too long: shorten it to 200 characters or fewer"));
        }
        Ok(Self(name.replace(char::is_control, " ")))
    }
}
