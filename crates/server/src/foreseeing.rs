//! What topics will forget before their readers have read it, while that can still be helped.

use std::collections::{BTreeMap, HashMap};
use std::sync::{Arc, PoisonError, Weak};
use std::time::Duration;

use axum::Json;
use axum::extract::State;
use chrono::Utc;
use futures::{StreamExt, stream};
use gonvel_core::civil::rfc3339;
use gonvel_core::connector::{Definition, State as LaneState};
use gonvel_core::naming::{Offset, TopicId, TopicPartition};
use gonvel_core::ports::{LaneStatus, PortError, ReaderStore, Topic, TopicLog};
use gonvel_core::retention::{Outlook, SoonForgotten as Found};
use gonvel_http_api::{Page, PagingQuery, SoonForgotten};
use gonvel_storage::catalog::connectors::Connector;
use uuid::Uuid;

use crate::listing::{Listed, Unfiltered};
use crate::problems::Refusal;
use crate::standing::stands;
use crate::state::ServerState;

/// How often it is looked, unless a topic's settings change.
const EVERY: Duration = Duration::from_secs(60);
/// How far ahead, in milliseconds.
const AHEAD_MS: i64 = 86_400_000;
/// Systems that are asked side by side.
const ASKED_AT_ONCE: usize = 8;

/// One who reads, and where it stands.
struct Standing {
    name: String,
    connector: Option<Uuid>,
    positions: Vec<(TopicPartition, Offset)>,
}

/// Looks for as long as the server is there.
pub(crate) async fn look(state: Weak<ServerState>) {
    let Some(mut changes) = state.upgrade().map(|server| server.database.settings_changes()) else { return };
    loop {
        let Some(server) = state.upgrade() else { return };
        match once(&server).await {
            Ok(found) => *server.soon_forgotten.lock().unwrap_or_else(PoisonError::into_inner) = Arc::new(found),
            Err(_) => tracing::debug!("what is soon forgotten is looked at later"),
        }
        drop(server);
        let _ = tokio::time::timeout(EVERY, changes.changed()).await;
    }
}

/// What topics will have forgotten within a day that a reader or a connector has not read yet, as it was found within the last minute.
#[utoipa::path(operation_id = "listSoonForgotten", get, path = "/api/v1/soon-forgotten", tag = "topics",
    params(PagingQuery), responses((status = 200, body = Page<SoonForgotten>)))]
pub(crate) async fn list(
    State(state): State<Arc<ServerState>>,
    Listed { paging, .. }: Listed<Unfiltered>,
) -> Result<Json<Page<SoonForgotten>>, Refusal> {
    let found = state.soon_forgotten.lock().unwrap_or_else(PoisonError::into_inner).clone();
    Ok(Json(paging.page_in_order(found.to_vec())?))
}

async fn once(state: &Arc<ServerState>) -> Result<Vec<SoonForgotten>, Refusal> {
    let topics = state.database.topics().await?;
    let forgets: HashMap<TopicId, &Topic> = topics
        .iter()
        .filter(|t| t.settings.forget_after_ms.is_some() || t.settings.most_bytes.is_some())
        .map(|t| (t.id, t))
        .collect();
    if forgets.is_empty() {
        return Ok(Vec::new());
    }
    let mut standing: Vec<Standing> = Vec::new();
    for reader in state.database.readers().await? {
        let positions = reader.positions.iter().map(|p| (p.at, p.next)).collect();
        standing.push(Standing { name: reader.name.to_string(), connector: None, positions });
    }
    let mut behind = state.database.connectors().await?;
    behind.retain(|connector| may_be_overtaken(connector, &topics));
    let asked: Vec<_> = behind.into_iter().map(|connector| standing_of(state.clone(), connector)).collect();
    standing.extend(stream::iter(asked).buffered(ASKED_AT_ONCE).collect::<Vec<_>>().await);
    let mut found = Vec::new();
    for (id, topic) in forgets {
        match taken_from(state, topic, &standing).await {
            Ok(taken) => found.extend(taken),
            Err(PortError::NotFound { .. }) => tracing::debug!(topic = id.0, "the topic was deleted meanwhile"),
            Err(error) => return Err(error.into()),
        }
    }
    found.sort_unstable_by(|a, b| (&a.at, &a.name, &a.topic).cmp(&(&b.at, &b.name, &b.topic)));
    Ok(found)
}

async fn standing_of(state: Arc<ServerState>, connector: Connector) -> Standing {
    // one that does not answer is asked again at the next look
    let positions = stands(&state, &connector).await.unwrap_or_default();
    let positions = positions.into_iter().map(|(at, next)| (at, Offset(next))).collect();
    Standing { name: connector.name, connector: Some(connector.id.0), positions }
}

/// Whether a connector reads what may be forgotten before it gets there. One that follows closely does not have to be asked where it stands.
fn may_be_overtaken(connector: &Connector, topics: &[Topic]) -> bool {
    let together = LaneStatus::together(connector.said());
    let close_ms = together.filter(|lane| lane.state == LaneState::Following).and_then(|lane| lane.lag_ms);
    let overtaken = |topic: &Topic| {
        #[allow(clippy::cast_possible_truncation, reason = "a lag is milliseconds of years at most")]
        let by_age = |age_ms: i64| close_ms.is_none_or(|lag_ms| lag_ms as i64 + AHEAD_MS >= age_ms);
        topic.settings.most_bytes.is_some() && close_ms != Some(0.0) || topic.settings.forget_after_ms.is_some_and(by_age)
    };
    let reads = |topic: &Topic| connector.definition.read_topics().iter().any(|read| read.topic == topic.name.as_str());
    !matches!(connector.definition, Definition::Source(_)) && topics.iter().any(|topic| reads(topic) && overtaken(topic))
}

/// What a topic takes from whom.
async fn taken_from(state: &ServerState, topic: &Topic, standing: &[Standing]) -> Result<Vec<SoonForgotten>, PortError> {
    if !standing.iter().any(|s| s.positions.iter().any(|(at, _)| at.topic == topic.id)) {
        return Ok(Vec::new());
    }
    let bounds: BTreeMap<_, _> = state.database.bounds(topic.id).await?.into_iter().map(|b| (b.partition, b)).collect();
    let outlook: Outlook = state.database.outlook(topic, Utc::now().timestamp_micros()).await?;
    let mut taken = Vec::new();
    for reader in standing {
        let positions: Vec<_> = reader
            .positions
            .iter()
            .filter(|(at, _)| at.topic == topic.id)
            .filter_map(|(at, next)| {
                let bounds = bounds.get(&at.partition)?;
                // what has gone already is told elsewhere
                (*next < bounds.next).then_some((at.partition, (*next).max(bounds.first)))
            })
            .collect();
        let found = outlook.takes_from(&positions, AHEAD_MS * 1000);
        let first = found.iter().min_by_key(|(_, Found { at_us, .. })| *at_us);
        if let Some((place, Found { at_us, .. })) = first {
            taken.push(SoonForgotten {
                name: reader.name.clone(),
                connector: reader.connector,
                topic: topic.name.to_string(),
                partition: positions[*place].0.0,
                records: found.iter().map(|(_, found)| found.records).sum(),
                at: rfc3339(*at_us),
            });
        }
    }
    Ok(taken)
}
