//! Who appends: applications by the names they give. What they did is gathered here and noted each second, so that no append waits for
//! it; a server that is killed loses a second of these counts, and no record.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, Weak};
use std::time::Duration;

use axum::Json;
use axum::extract::State;
use axum::http::HeaderMap;
use gonvel_core::civil::rfc3339;
use gonvel_core::naming::{TopicId, TopicName};
use gonvel_core::ports::TopicLog;
use gonvel_http_api::{Problem, ProduceQuery, Producer, ProducersQuery};
use gonvel_storage::producers::ProducerTally;

use crate::problems::{Query, Refusal};
use crate::state::ServerState;

const EVERY: Duration = Duration::from_secs(1);
/// Producers that are held at once until they are noted.
const MOST_HELD: usize = 5_000;
/// Longest name, in characters.
const LONGEST_NAME: usize = 100;
/// Most that is kept of a reason, in characters.
const LONGEST_REASON: usize = 500;

/// What applications did since it was last noted.
#[derive(Default)]
pub(crate) struct Heard(Mutex<HashMap<(TopicId, String), ProducerTally>>);

impl Heard {
    /// Adds what a producer did.
    pub(crate) fn add(&self, topic: TopicId, name: &str, records: usize, refused: usize, why: Option<&str>) {
        let Ok(mut heard) = self.0.lock() else { return };
        let key = (topic, name.to_owned());
        if records + refused == 0 || heard.len() >= MOST_HELD && !heard.contains_key(&key) {
            return;
        }
        let tally = heard.entry(key).or_insert_with(|| ProducerTally {
            topic_id: topic.0,
            name: name.to_owned(),
            ..ProducerTally::default()
        });
        tally.records += i64::try_from(records).unwrap_or(0);
        tally.refused += i64::try_from(refused).unwrap_or(0);
        if let Some(why) = why {
            tally.why = why.chars().take(LONGEST_REASON).collect();
        }
    }

    fn take(&self) -> Vec<ProducerTally> {
        self.0.lock().map(|mut heard| heard.drain().map(|(_, tally)| tally).collect()).unwrap_or_default()
    }

    /// What could not be noted is to be noted later.
    fn put_back(&self, tallies: Vec<ProducerTally>) {
        for tally in tallies {
            let why = (tally.refused > 0).then_some(tally.why.as_str());
            let counts = [tally.records, tally.refused].map(|n| usize::try_from(n).unwrap_or(0));
            self.add(TopicId(tally.topic_id), &tally.name, counts[0], counts[1], why);
        }
    }
}

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
    let wrong = |finding: String| Refusal::invalid("Producer-Name", finding);
    let given = match headers.get("producer-name") {
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
#[utoipa::path(operation_id = "listProducers", get, path = "/api/v1/producers", tag = "records", params(ProducersQuery),
    responses((status = 200, body = [Producer]), (status = 404, body = Problem)))]
pub(crate) async fn list(
    State(state): State<Arc<ServerState>>,
    Query(query): Query<ProducersQuery>,
) -> Result<Json<Vec<Producer>>, Refusal> {
    let topic = match query.topic {
        Some(name) => Some(state.database.topic(&TopicName::parse(name)?).await?.id.0),
        None => None,
    };
    let time = |at: chrono::DateTime<chrono::Utc>| rfc3339(at.timestamp_micros());
    let found = state.database.producers(topic).await?.into_iter().map(|p| Producer {
        topic: p.topic,
        name: p.name,
        first_at: time(p.first_at),
        last_append: p.last_append.map(time),
        records: p.records,
        rate_per_s: p.rate_per_s,
        refused: p.refused,
        last_refused: p.last_refused.map(time),
        why: (p.refused > 0).then_some(p.why),
    });
    Ok(Json(found.collect()))
}
