//! Streams that would go on for ever end with a problem document when the server stops.

use axum::body::{Body, Bytes};
use axum::extract::{Request, State};
use axum::http::header;
use axum::middleware::Next;
use axum::response::Response;
use futures::{StreamExt, stream};
use gonvel_http_api::{Problem, ProblemType};
use tokio::sync::watch;

use crate::records::last_line;

/// What ends a stream when the server stops.
fn stopped() -> Problem {
    let remedy = "ask again in a moment, from where this ended".into();
    Problem { remedy, ..Problem::new(ProblemType::TryAgain, "the server stops") }
}

pub(crate) async fn end_streams(State(stopping): State<watch::Receiver<bool>>, request: Request, next: Next) -> Response {
    let response = next.run(request).await;
    let form = response.headers().get(header::CONTENT_TYPE).and_then(|form| form.to_str().ok()).unwrap_or_default();
    let last = if form.starts_with("text/event-stream") {
        let problem = serde_json::to_string(&stopped()).unwrap_or_default();
        format!("event: problem\ndata: {problem}\n\n")
    } else if form.starts_with("application/x-ndjson") && !response.headers().contains_key(header::CONTENT_DISPOSITION) {
        last_line(&stopped())
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
