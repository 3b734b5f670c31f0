//! The built console, from the binary.

use axum::http::{StatusCode, Uri, header};
use axum::response::{IntoResponse, Response};

use crate::problems::Refusal;

#[derive(rust_embed::RustEmbed)]
#[folder = "../../console/dist"]
struct Files;

/// A built file, or the console's page for every address of its own.
pub(crate) async fn serve(uri: Uri) -> Response {
    let path = uri.path().trim_start_matches('/');
    if path.starts_with("api/") {
        let detail = format!("there is no {}: see /api/openapi.json", uri.path());
        return Refusal::new(StatusCode::NOT_FOUND, "not-found", "There is nothing at this address", detail).into_response();
    }
    let (name, file) = match Files::get(path) {
        Some(file) => (path, Some(file)),
        None if path.starts_with("assets/") => (path, None),
        None => ("index.html", Files::get("index.html")),
    };
    let Some(file) = file else { return StatusCode::NOT_FOUND.into_response() };
    let kind = mime_guess::from_path(name).first_or_octet_stream();
    // built files carry their content's hash in their name; the page itself must always be the present one
    let keep = if path.starts_with("assets/") { "public, max-age=31536000, immutable" } else { "no-cache" };
    ([(header::CONTENT_TYPE, kind.as_ref()), (header::CACHE_CONTROL, keep)], file.data).into_response()
}
