//! Streams that would go on for ever end with a last line when the server stops.

use axum::body::{Body, Bytes};
use axum::extract::{Request, State};
use axum::http::header;
use axum::middleware::Next;
use axum::response::Response;
use futures::{StreamExt, stream};
use serde_json::json;
use tokio::sync::watch;

/// What the last line says.
const LAST: &str = "the server stops; ask again in a moment, from where this ended";

pub(crate) async fn end_streams(State(stopping): State<watch::Receiver<bool>>, request: Request, next: Next) -> Response {
    let response = next.run(request).await;
    let form = response.headers().get(header::CONTENT_TYPE).and_then(|form| form.to_str().ok()).unwrap_or_default();
    let last = if form.starts_with("text/event-stream") {
        format!("event: ended\ndata: {LAST}\n\n")
    } else if form.starts_with("application/x-ndjson") && !response.headers().contains_key(header::CONTENT_DISPOSITION) {
        format!("{}\n", json!({"ended": LAST}))
    } else {
        return response;
    };
    let (parts, body) = response.into_parts();
    let (mut stops, ends) = (stopping.clone(), stopping);
    let stopped = async move { drop(stops.wait_for(|stopping| *stopping).await) };
    let end = stream::once(async move { ends.borrow().then(|| Ok(Bytes::from(last))) }).filter_map(async |line| line);
    let body = body.into_data_stream().take_until(Box::pin(stopped)).chain(Box::pin(end));
    Response::from_parts(parts, Body::from_stream(body.fuse()))
}
