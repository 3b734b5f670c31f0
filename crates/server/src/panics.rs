//! Panics: a request that panics is answered all the same, and each one is counted where people look.

use std::any::Any;
use std::panic::PanicHookInfo;
use std::sync::{Mutex, PoisonError};

use axum::response::{IntoResponse, Response};
use gonvel_core::civil::rfc3339;
use gonvel_http_api::{Panics, ProblemType};

use crate::problems::Refusal;

static SEEN: Mutex<Option<Seen>> = Mutex::new(None);

#[derive(Clone)]
struct Seen {
    count: u64,
    last_us: i64,
    place: String,
}

/// Counts the panics of this process from now on, whichever task they are in. What is noted is where in the code, never with what values.
pub fn count() {
    let tell = std::panic::take_hook();
    std::panic::set_hook(Box::new(move |info| {
        note(info);
        tell(info);
    }));
}

fn note(info: &PanicHookInfo<'_>) {
    let place = info.location().map_or_else(|| "an unknown place".to_owned(), ToString::to_string);
    let mut seen = SEEN.lock().unwrap_or_else(PoisonError::into_inner);
    let count = seen.as_ref().map_or(0, |seen| seen.count) + 1;
    *seen = Some(Seen { count, last_us: chrono::Utc::now().timestamp_micros(), place });
    metrics::counter!("gonvel_panics_total").absolute(count);
}

/// What was seen so far; none if there was no panic.
pub fn seen() -> Option<Panics> {
    let seen = SEEN.lock().unwrap_or_else(PoisonError::into_inner).clone()?;
    Some(Panics { count: seen.count, last_at: rfc3339(seen.last_us), place: seen.place })
}

/// The answer to a request that panicked.
pub(crate) fn answer(_: Box<dyn Any + Send>) -> Response {
    let detail = "the request met a defect in Gonvel and was given up: the server's log says where";
    Refusal::new(ProblemType::Defect, detail).into_response()
}
