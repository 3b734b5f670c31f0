//! Topics.

use std::collections::HashMap;
use std::sync::Arc;

use axum::Json;
use axum::extract::{Path, State};
use gonvel_core::civil::rfc3339;
use gonvel_core::connector::Definition;
use gonvel_core::naming::TopicName;
use gonvel_core::ports::{Topic as StoredTopic, TopicLog};
use gonvel_http_api::{Partition, Problem, Topic, TopicSummary};
use gonvel_storage::catalog::connectors::Connector;

use crate::problems::Refusal;
use crate::state::ServerState;

fn users(connectors: &[Connector], topic: &str) -> (Vec<String>, Vec<String>) {
    let (mut written_by, mut read_by) = (Vec::new(), Vec::new());
    for connector in connectors {
        match &connector.definition {
            Definition::Source { tables, .. } if tables.iter().any(|t| t.topic == topic) => {
                written_by.push(connector.name.clone());
            }
            Definition::Sink { topics, .. } if topics.iter().any(|t| t.topic == topic) => {
                read_by.push(connector.name.clone());
            }
            _ => {}
        }
    }
    (written_by, read_by)
}

fn summary(topic: &StoredTopic, records: i64, bytes: i64, connectors: &[Connector]) -> TopicSummary {
    let (written_by, read_by) = users(connectors, topic.name.as_str());
    TopicSummary {
        name: topic.name.to_string(),
        partitions: topic.partitions,
        records,
        bytes,
        created_at: rfc3339(topic.created_us),
        written_by,
        read_by,
    }
}

/// All topics.
#[utoipa::path(operation_id = "listTopics", get, path = "/api/v1/topics", tag = "topics", responses((status = 200, body = [TopicSummary])))]
pub(crate) async fn list(State(state): State<Arc<ServerState>>) -> Result<Json<Vec<TopicSummary>>, Refusal> {
    let connectors = state.database.connectors().await?;
    let sizes: HashMap<i64, (i64, i64)> =
        state.database.topic_sizes().await?.into_iter().map(|s| (s.topic_id, (s.records, s.bytes))).collect();
    let topics = state.database.topics().await?;
    let topics = topics.iter().map(|topic| {
        let (records, bytes) = sizes.get(&topic.id.0).copied().unwrap_or_default();
        summary(topic, records, bytes, &connectors)
    });
    Ok(Json(topics.collect()))
}

/// One topic with its partitions.
#[utoipa::path(operation_id = "getTopic", get, path = "/api/v1/topics/{name}", tag = "topics",
    responses((status = 200, body = Topic), (status = 404, body = Problem)))]
pub(crate) async fn one(State(state): State<Arc<ServerState>>, Path(name): Path<String>) -> Result<Json<Topic>, Refusal> {
    let topic = state.database.topic(&TopicName::parse(name)?).await?;
    let bounds = state.database.bounds(topic.id).await?;
    let records = bounds.iter().map(|b| b.next.0 - b.first.0).sum();
    let bytes = bounds.iter().map(|b| b.bytes).sum();
    let partitions = bounds.iter().map(|b| Partition {
        partition: b.partition.0,
        first_offset: b.first.0,
        next_offset: b.next.0,
        bytes: b.bytes,
    });
    let connectors = state.database.connectors().await?;
    Ok(Json(Topic { summary: summary(&topic, records, bytes, &connectors), partition_list: partitions.collect() }))
}
