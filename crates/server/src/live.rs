//! Live updates by server-sent events.

use std::convert::Infallible;
use std::sync::{Arc, Weak};
use std::time::Duration;

use axum::extract::State;
use axum::response::sse::{Event, KeepAlive, Sse};
use futures::{Stream, StreamExt, stream};
use gonvel_http_api::Connector;

use crate::state::ServerState;

const EVERY: Duration = Duration::from_millis(500);

/// Looks at the connectors while anyone watches, once for all who do.
pub(crate) async fn watch_connectors(state: Weak<ServerState>) {
    loop {
        tokio::time::sleep(EVERY).await;
        let Some(state) = state.upgrade() else { return };
        if state.connectors.receiver_count() == 0 {
            continue;
        }
        look(&state).await;
    }
}

/// Tells all who watch if the connectors are others than they were told last.
async fn look(state: &ServerState) {
    let Ok(now) = crate::connectors::all(state).await else { return };
    state.connectors.send_if_modified(|before| {
        let differs = serde_json::to_string(&**before).ok() != serde_json::to_string(&now).ok();
        if differs {
            *before = Arc::new(now);
        }
        differs
    });
}

/// All connectors whenever one of them changed: events named `connectors` whose data is a JSON list.
#[utoipa::path(operation_id = "watchConnectors", get, path = "/api/v1/live/connectors", tag = "connectors",
    responses((status = 200, content_type = "text/event-stream", body = [Connector])))]
pub(crate) async fn connectors(State(state): State<Arc<ServerState>>) -> Sse<impl Stream<Item = Result<Event, Infallible>>> {
    // what is told first is what later ones are compared with: who watched before may have been told something else long ago
    let mut changes = state.connectors.subscribe();
    look(&state).await;
    changes.mark_changed();
    let events = stream::unfold(changes, |mut changes| async move {
        changes.changed().await.ok()?;
        let now = changes.borrow_and_update().clone();
        let event = Event::default().event("connectors").json_data(&*now).unwrap_or_default();
        Some((Ok(event), changes))
    });
    Sse::new(events.fuse()).keep_alive(KeepAlive::default())
}
