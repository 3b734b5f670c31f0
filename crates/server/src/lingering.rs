//! A refusal reaches who is still sending.
//!
//! A server that answers a large request early and closes makes the sender's next write fail, and most clients then report a
//! broken connection and never read why. So what is left of a refused body is read and thrown away before the answer goes
//! out, within limits (RFC 9112, section 9.6 describes the hazard).

use std::pin::Pin;
use std::sync::{Arc, Mutex, PoisonError};
use std::task::{Context, Poll};
use std::time::Duration;

use axum::body::{Body, Bytes, HttpBody};
use axum::extract::Request;
use axum::http::header;
use axum::middleware::Next;
use axum::response::Response;
use http_body::{Frame, SizeHint};

/// Bytes of a refused body that are read: what is larger loses its connection.
const MOST: usize = 256 << 20;
/// How long it is read.
const PATIENCE: Duration = Duration::from_secs(10);
/// How long nothing may come: who pauses is not in the middle of a write.
const PAUSE: Duration = Duration::from_millis(300);

/// The request's body, which stays reachable after its handler has let go of it.
#[derive(Clone)]
struct Shared(Arc<Mutex<Body>>);

impl Shared {
    fn with<T>(&self, act: impl FnOnce(Pin<&mut Body>) -> T) -> T {
        act(Pin::new(&mut *self.0.lock().unwrap_or_else(PoisonError::into_inner)))
    }

    async fn read_on(self) {
        let mut read = 0;
        while read < MOST {
            let frame = std::future::poll_fn(|context| self.with(|body| body.poll_frame(context)));
            match tokio::time::timeout(PAUSE, frame).await {
                Ok(Some(Ok(frame))) => read += frame.data_ref().map_or(0, Bytes::len),
                Ok(Some(Err(_)) | None) | Err(_) => return,
            }
        }
    }
}

impl HttpBody for Shared {
    type Data = Bytes;
    type Error = axum::Error;

    fn poll_frame(self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<Option<Result<Frame<Bytes>, axum::Error>>> {
        self.with(|body| body.poll_frame(context))
    }

    fn is_end_stream(&self) -> bool {
        self.with(|body| body.is_end_stream())
    }

    fn size_hint(&self) -> SizeHint {
        self.with(|body| body.size_hint())
    }
}

/// Answers, and before a refusal reads what is left of the request. One that asked to be told first (`Expect`) has not sent
/// anything and is told at once.
pub(crate) async fn linger(request: Request, next: Next) -> Response {
    if request.body().is_end_stream() || request.headers().contains_key(header::EXPECT) {
        return next.run(request).await;
    }
    let (head, body) = request.into_parts();
    let body = Shared(Arc::new(Mutex::new(body)));
    let answer = next.run(Request::from_parts(head, Body::new(body.clone()))).await;
    // also of what is answered with what the same request made before
    if !body.is_end_stream() {
        let _ = tokio::time::timeout(PATIENCE, body.read_on()).await;
    }
    answer
}
