//! Who appends: applications by the names they give. What they did is gathered here and noted each second, so that no append waits for
//! it; a server that is killed loses a second of these counts, and no record.

use std::sync::{Arc, Weak};
use std::time::Duration;

use axum::Json;
use axum::extract::State;
use axum::http::HeaderMap;
use gonvel_core::civil::rfc3339;
use gonvel_core::naming::TopicName;
use gonvel_core::ports::TopicLog;
use gonvel_http_api::{Page, PagingQuery, Problem, ProduceQuery, Producer, ProducersQuery};

use crate::listing::{Listed, Place, has};
use crate::problems::{Refusal, name_at};
use crate::state::ServerState;

const EVERY: Duration = Duration::from_secs(1);
/// Longest name, in characters.
const LONGEST_NAME: usize = 100;

/// Notes what was heard for as long as the server is there.
pub(crate) async fn note(state: Weak<ServerState>) {
    loop {
        tokio::time::sleep(EVERY).await;
        let Some(state) = state.upgrade() else { return };
        let tallies = state.heard.take();
        if !tallies.is_empty()
            && let Err(error) = state.database.note_producers(&tallies).await
        {
            tracing::debug!(%error, "producers are noted later");
            state.heard.put_back(tallies);
        }
    }
}

/// The name that a request gives for who appends; empty if it gives none.
pub(crate) fn named(headers: &HeaderMap, query: &ProduceQuery) -> Result<String, Refusal> {
    let header = headers.get("producer-name");
    let wrong = |finding: String| Refusal::invalid(if header.is_some() { "Producer-Name" } else { "producer" }, finding);
    let given = match header {
        Some(value) => Some(
            value
                .to_str()
                .map_err(|_| {
                    wrong("the name of the producer is not plain text: give it as ?producer=, percent-encoded".into())
                })?
                .to_owned(),
        ),
        None => query.producer.clone(),
    };
    let Some(name) = given else { return Ok(String::new()) };
    let name = name.trim();
    if name.is_empty() || name.chars().count() > LONGEST_NAME || name.chars().any(char::is_control) {
        return Err(wrong(format!(
            "a producer cannot be called {name:?}: give 1 to {LONGEST_NAME} characters, or leave it out"
        )));
    }
    Ok(name.to_owned())
}

/// Applications that append, by topic and by the name they give with `Producer-Name`; what they did in the last second may still be
/// missing. One that appended nothing for 90 days is forgotten.
#[utoipa::path(operation_id = "listProducers", get, path = "/api/v1/producers", tag = "records", params(ProducersQuery, PagingQuery),
    responses((status = 200, body = Page<Producer>), (status = 404, body = Problem)))]
pub(crate) async fn list(
    State(state): State<Arc<ServerState>>,
    Listed { which, paging }: Listed<ProducersQuery>,
) -> Result<Json<Page<Producer>>, Refusal> {
    let topic = match which.topic {
        Some(name) => Some(state.database.topic(&TopicName::parse(name).map_err(name_at("topic"))?).await?.id.0),
        None => None,
    };
    let time = |at: chrono::DateTime<chrono::Utc>| rfc3339(at.timestamp_micros());
    let mut found = state.database.producers(topic).await?;
    found.retain(|producer| has(&producer.name, which.search.as_ref()));
    let page = paging.page(found, which.descending, |producer| Place::told(&producer.topic, &producer.name))?;
    Ok(Json(page.map(|p| Producer {
        topic: p.topic,
        name: p.name,
        first_at: time(p.first_at),
        last_append: p.last_append.map(time),
        records: p.records,
        rate_per_s: p.rate_per_s,
        refused: p.refused,
        last_refused: p.last_refused.map(time),
        why: (p.refused > 0).then_some(p.why),
    })))
}
