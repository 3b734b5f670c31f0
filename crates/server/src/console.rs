//! The built console, as the program brings it.

use std::borrow::Cow;

use axum::http::{StatusCode, Uri, header};
use axum::response::{IntoResponse, Response};

use gonvel_http_api::ProblemType;

use crate::problems::Refusal;

/// A built file of the console by its path within it, such as `index.html`.
pub type ConsoleFiles = fn(&str) -> Option<Cow<'static, [u8]>>;

/// A built file, or the console's page for every address of its own.
pub(crate) fn serve(files: ConsoleFiles, uri: &Uri) -> Response {
    let path = uri.path().trim_start_matches('/');
    if path.starts_with("api/") {
        let detail = format!("there is no {}", uri.path());
        return Refusal::new(ProblemType::NotFound, detail).remedied("see /api/openapi.json").into_response();
    }
    let (name, file) = match files(path) {
        Some(file) => (path, Some(file)),
        None if path.starts_with("assets/") => (path, None),
        None => ("index.html", files("index.html")),
    };
    let Some(file) = file else { return StatusCode::NOT_FOUND.into_response() };
    let kind = mime_guess::from_path(name).first_or_octet_stream();
    // built files carry their content's hash in their name; the page itself must always be the present one
    let keep = if path.starts_with("assets/") { "public, max-age=31536000, immutable" } else { "no-cache" };
    ([(header::CONTENT_TYPE, kind.as_ref()), (header::CACHE_CONTROL, keep)], file).into_response()
}
