//! Changes of every kind of object, told to whoever watches.

mod known;
mod looking;
pub(crate) mod watched;

use std::convert::Infallible;
use std::sync::Arc;
use std::time::Duration;

use axum::body::{Body, Bytes};
use axum::extract::State;
use axum::http::{HeaderMap, header};
use axum::response::{IntoResponse, Response};
use futures::{StreamExt, stream};
use gonvel_http_api::{EventData, EventLine, EventsQuery, ObjectKind, Problem, ProblemType};
use tokio::sync::{OwnedSemaphorePermit, watch};
use tokio::time::Instant;

pub use self::known::{Announced, From, Known};
use crate::problems::{Query, Refusal};
use crate::records::{LastEventIdHeader, begun_again, wants_lines};
use crate::state::ServerState;

pub(crate) use looking::look;

/// Longest time without a sign of life.
const QUIET: Duration = Duration::from_secs(10);
/// Changes that are sent at once.
const PIECE: usize = 1_000;
/// Shortest time between two pieces: of what changes faster only the newest is told.
const PACE: Duration = Duration::from_millis(50);
/// How long one who begins waits until its kinds are looked at.
const PATIENCE: Duration = Duration::from_secs(10);

/// Someone who watches kinds of objects, for as long as it does.
struct Watching {
    state: Arc<ServerState>,
    kinds: Vec<ObjectKind>,
}

impl Watching {
    fn begin(state: Arc<ServerState>, kinds: Vec<ObjectKind>) -> Self {
        state.events.count(|watching| watching.extend(&kinds));
        Self { state, kinds }
    }

    /// Waits until what is known of its kinds is what is there.
    async fn looked_at(&self) -> Result<(), Refusal> {
        let mut looked_at = self.state.events.looked_at.subscribe();
        let all = looked_at.wait_for(|looked_at| self.kinds.iter().all(|kind| looked_at.contains(kind)));
        match tokio::time::timeout(PATIENCE, all).await {
            Ok(Ok(_)) => Ok(()),
            _ => Err(Refusal::new(ProblemType::TryAgain, "Gonvel's own database does not tell what is there")),
        }
    }
}

impl Drop for Watching {
    fn drop(&mut self) {
        self.state.events.count(|watching| {
            for kind in &self.kinds {
                if let Some(at) = watching.iter().position(|watched| watched == kind) {
                    watching.swap_remove(at);
                }
            }
        });
    }
}

/// Changes of objects from now on, or from a cursor: as server-sent events named `change` whose `id` is a cursor, or with `Accept:
/// application/x-ndjson` a line of JSON each, with a `cursor`. Each says what the object is now, as its list shows it, or that it is gone;
/// of an object that changed several times the newest is enough. The first event, `begin`, says whether what changed since the cursor
/// follows, or lists are to be read anew. What is made, changed or deleted is told at once; numbers that grow with the log about once a
/// second.
#[utoipa::path(operation_id = "watchObjects", get, path = "/api/v1/events", tag = "events", params(EventsQuery, LastEventIdHeader),
    responses((status = 200, content((EventData = "text/event-stream"), ([EventLine] = "application/x-ndjson"))),
        (status = 429, body = Problem)))]
pub(crate) async fn events(
    State(state): State<Arc<ServerState>>,
    Query(query): Query<EventsQuery>,
    headers: HeaderMap,
) -> Result<Response, Refusal> {
    let cursor = begun_again(&headers, query.cursor.as_deref());
    let permit = state.limits.watch()?;
    let kinds = query.kinds.map_or_else(|| ObjectKind::ALL.to_vec(), |kinds| kinds.0);
    let watching = Watching::begin(state.clone(), kinds);
    watching.looked_at().await?;
    let (place, anew, begin) = state.events.known(|known| {
        let from = match cursor {
            Some(cursor) => known.read(cursor.text).ok_or_else(|| cursor.refused())?,
            None => From::Anew,
        };
        let (place, anew) = match from {
            From::After(place) => (place, false),
            From::Anew => (known.last(), true),
        };
        Ok::<_, Refusal>((place, anew, known.cursor(place)))
    })?;
    let lines = wants_lines(&headers);
    let form = if lines { "application/x-ndjson" } else { "text/event-stream" };
    let first = if lines {
        format!("{{\"anew\":{anew},\"cursor\":\"{begin}\"}}\n")
    } else {
        format!("id: {begin}\nevent: begin\ndata: {{\"anew\":{anew}}}\n\n")
    };
    let changes = state.events.last.subscribe();
    let telling = Telling { watching, changes, place, lines, _permit: permit };
    let rest = stream::unfold(telling, async |mut telling| telling.next().await.map(|piece| (piece, telling)));
    let body = stream::once(async { Bytes::from(first) }).chain(rest).map(Ok::<_, Infallible>);
    Ok(([(header::CONTENT_TYPE, form), (header::CACHE_CONTROL, "no-cache")], Body::from_stream(body)).into_response())
}

/// A stream of changes to one client.
struct Telling {
    watching: Watching,
    changes: watch::Receiver<u64>,
    /// Up to where it was told.
    place: u64,
    /// Whether it takes lines of JSON.
    lines: bool,
    _permit: OwnedSemaphorePermit,
}

impl Telling {
    /// What changed since, or a sign of life; none once nothing is told any more.
    async fn next(&mut self) -> Option<Bytes> {
        let quiet = Instant::now() + QUIET;
        let piece = loop {
            self.changes.borrow_and_update();
            let events = &self.watching.state.events;
            let (told, upto) = events.known(|known| known.since(self.place, &self.watching.kinds, PIECE));
            self.place = upto;
            if !told.is_empty() {
                let each = told.iter().map(|told| if self.lines { &told.line } else { &told.event });
                break each.flatten().copied().collect();
            }
            match tokio::time::timeout_at(quiet, self.changes.changed()).await {
                Ok(changed) => changed.ok()?,
                Err(_) => {
                    let cursor = events.known(|known| known.cursor(self.place));
                    let sign =
                        if self.lines { format!("{{\"cursor\":\"{cursor}\"}}\n") } else { format!("id: {cursor}\n\n") };
                    break Bytes::from(sign);
                }
            }
        };
        tokio::time::sleep(PACE).await;
        Some(piece)
    }
}
