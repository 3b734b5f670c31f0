//! Topics.

use std::collections::HashMap;
use std::sync::Arc;

use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use chrono::Utc;
use gonvel_core::civil::rfc3339;
use gonvel_core::connector::Wish;
use gonvel_core::naming::{ConnectorId, TopicName};
use gonvel_core::ports::{PortError, ReaderStore, Topic as StoredTopic, TopicLog};
use gonvel_http_api::{
    ChangePreview, DeletePreview, DeleteQuery, Keep, Keeper, MorePartitions, NewTopic, Page, PagingQuery, Partition,
    PartitionLoss, Problem, ProblemType, Topic, TopicOrder, TopicSample, TopicSchema, TopicSettings, TopicSummary,
    TopicsQuery,
};
use gonvel_storage::catalog::connectors::Connector;

use crate::listing::{Listed, Place, Unfiltered, has};
use crate::problems::{Body, Path, Query, Refusal};
use crate::revisions::{IfMatch, IfMatchHeader, Tagged};
use crate::state::ServerState;
use crate::topic_users::{users, uses};

fn checked(settings: &TopicSettings) -> Result<(), Refusal> {
    settings.check().map_err(|e| Refusal::invalid(e.setting(), e.to_string()))
}

fn summary(
    topic: &StoredTopic,
    (records, bytes): (i64, i64),
    connectors: &[Connector],
    producers: Vec<String>,
) -> TopicSummary {
    let (written_by, read_by) = users(connectors, topic.name.as_str());
    TopicSummary {
        name: topic.name.to_string(),
        partitions: topic.partitions,
        records,
        bytes,
        settings: topic.settings.clone(),
        created_at: rfc3339(topic.created_us),
        written_by,
        producers,
        read_by,
    }
}

async fn whole(state: &ServerState, topic: &StoredTopic) -> Result<Topic, Refusal> {
    let bounds = state.database.bounds(topic.id).await?;
    let partitions = bounds.iter().map(|b| Partition {
        partition: b.partition.0,
        first_offset: b.first.0,
        next_offset: b.next.0,
        records: b.records,
        bytes: b.bytes,
    });
    let (records, bytes) = (bounds.iter().map(|b| b.records).sum(), bounds.iter().map(|b| b.bytes).sum());
    let connectors = state.database.connectors().await?;
    let producers = state.database.producers(Some(topic.id.0)).await?.into_iter().filter(|p| p.records > 0);
    Ok(Topic {
        summary: summary(topic, (records, bytes), &connectors, producers.map(|p| p.name).collect()),
        revision: topic.revision,
        readers: state.database.readers_of(topic.id).await?,
        partition_list: partitions.collect(),
    })
}

async fn tagged(state: &ServerState, topic: &StoredTopic) -> Result<Tagged<Topic>, Refusal> {
    Ok(Tagged(topic.revision, whole(state, topic).await?))
}

async fn find(state: &ServerState, name: String) -> Result<StoredTopic, Refusal> {
    Ok(state.database.topic(&TopicName::parse(name)?).await?)
}

/// Topics.
#[utoipa::path(operation_id = "listTopics", get, path = "/api/v1/topics", tag = "topics", params(TopicsQuery, PagingQuery),
    responses((status = 200, body = Page<TopicSummary>)))]
pub(crate) async fn list(
    State(state): State<Arc<ServerState>>,
    Listed { which, paging }: Listed<TopicsQuery>,
) -> Result<Json<Page<TopicSummary>>, Refusal> {
    let connectors = state.database.connectors().await?;
    let sizes: HashMap<i64, (i64, i64)> =
        state.database.topic_sizes().await?.into_iter().map(|s| (s.topic_id, (s.records, s.bytes))).collect();
    let mut producers: HashMap<i64, Vec<String>> = HashMap::new();
    for producer in state.database.producers(None).await?.into_iter().filter(|p| p.records > 0) {
        producers.entry(producer.topic_id).or_default().push(producer.name);
    }
    let size = |topic: &StoredTopic| sizes.get(&topic.id.0).copied().unwrap_or_default();
    let topics = state.database.topics().await?.into_iter().filter(|topic| has(topic.name.as_str(), which.search.as_ref()));
    let page = paging.page(topics, which.descending, |topic| {
        let name = topic.name.as_str();
        match which.order {
            TopicOrder::Name => Place::named(name),
            TopicOrder::CreatedAt => Place::numbered(topic.created_us, name),
            TopicOrder::Records => Place::numbered(size(topic).0, name),
            TopicOrder::Bytes => Place::numbered(size(topic).1, name),
        }
    })?;
    Ok(Json(page.map(|topic| summary(&topic, size(&topic), &connectors, producers.remove(&topic.id.0).unwrap_or_default()))))
}

/// Makes a topic.
#[utoipa::path(operation_id = "createTopic", post, path = "/api/v1/topics", tag = "topics", request_body = NewTopic,
    responses((status = 201, body = Topic), (status = 409, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn create(
    State(state): State<Arc<ServerState>>,
    Body(request): Body<NewTopic>,
) -> Result<(StatusCode, Tagged<Topic>), Refusal> {
    let name = TopicName::parse(request.name)?;
    checked(&request.settings)?;
    let made = match state.database.create_topic(&name, request.partitions, &request.settings).await {
        Err(PortError::Refused(detail)) => return Err(Refusal::invalid("partitions", detail)),
        made => made?,
    };
    Ok((StatusCode::CREATED, tagged(&state, &made).await?))
}

/// One topic with its partitions.
#[utoipa::path(operation_id = "getTopic", get, path = "/api/v1/topics/{name}", tag = "topics",
    responses((status = 200, body = Topic), (status = 404, body = Problem)))]
pub(crate) async fn one(State(state): State<Arc<ServerState>>, Path(name): Path<String>) -> Result<Tagged<Topic>, Refusal> {
    let topic = find(&state, name).await?;
    tagged(&state, &topic).await
}

/// Changes what a topic keeps, if it is still as it was read.
#[utoipa::path(operation_id = "changeTopic", put, path = "/api/v1/topics/{name}/settings", tag = "topics", request_body = TopicSettings,
    params(IfMatchHeader),
    responses((status = 200, body = Topic), (status = 404, body = Problem), (status = 412, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn change(
    State(state): State<Arc<ServerState>>,
    Path(name): Path<String>,
    at: IfMatch,
    Body(settings): Body<TopicSettings>,
) -> Result<Tagged<Topic>, Refusal> {
    let topic = find(&state, name).await?;
    let revision = at.to_change(topic.revision)?;
    checked(&settings)?;
    let changed = state.database.change_topic(topic.id, revision, &settings).await?;
    tagged(&state, &changed).await
}

/// What new settings would remove. Nothing is changed.
#[utoipa::path(operation_id = "previewTopicChange", post, path = "/api/v1/topics/{name}/settings/preview", tag = "topics",
    request_body = TopicSettings,
    responses((status = 200, body = ChangePreview), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn preview_change(
    State(state): State<Arc<ServerState>>,
    Path(name): Path<String>,
    Body(request): Body<TopicSettings>,
) -> Result<Json<ChangePreview>, Refusal> {
    let topic = find(&state, name).await?;
    let settings = request;
    checked(&settings)?;
    let losses = state.database.would_forget(topic.id, &settings, Utc::now().timestamp_micros()).await?;
    let mut notes = Vec::new();
    match (topic.settings.keep, settings.keep) {
        (Keep::All, Keep::Latest) => notes.push(
            "Of each key only the newest record stays; older ones are removed in the background, for ever. Readers no longer see every change."
                .to_owned(),
        ),
        (Keep::Latest, Keep::All) => {
            notes.push("Records are kept from now on; those that were removed do not come back.".to_owned());
        }
        _ => {}
    }
    if settings.hot_span_ms.is_some() && settings.hot_span_ms != topic.settings.hot_span_ms {
        notes.push("Older blocks move to object storage, and are read on from there.".to_owned());
    }
    Ok(Json(ChangePreview {
        records: losses.iter().map(|l| l.records).sum(),
        bytes: losses.iter().map(|l| l.bytes).sum(),
        partitions: losses
            .iter()
            .map(|l| PartitionLoss { partition: l.partition, before_offset: l.before, records: l.records, bytes: l.bytes })
            .collect(),
        notes,
    }))
}

/// Adds partitions. Keys go to other partitions from then on: the order of a key's records does not hold across the change,
/// so it has to be said that this is known. Connectors that use the topic are started anew.
#[utoipa::path(operation_id = "addPartitions", post, path = "/api/v1/topics/{name}/partitions", tag = "topics", request_body = MorePartitions,
    params(IfMatchHeader),
    responses((status = 200, body = Topic), (status = 404, body = Problem), (status = 409, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn add_partitions(
    State(state): State<Arc<ServerState>>,
    Path(name): Path<String>,
    at: IfMatch,
    Body(request): Body<MorePartitions>,
) -> Result<Tagged<Topic>, Refusal> {
    let topic = find(&state, name).await?;
    at.holds(&format!("the topic {}", topic.name), topic.revision)?;
    if !request.keys_may_move {
        let detail = format!(
            "with {} partitions instead of {} most keys go to another partition from then on: a reader may see a key's new \
             records before its older ones. Say keys_may_move if that does no harm, or make a new topic",
            request.partitions, topic.partitions
        );
        return Err(Refusal::new(ProblemType::KeysMove, detail).at("keys_may_move"));
    }
    let connectors = state.database.connectors().await?;
    let writers: Vec<ConnectorId> = connectors.iter().filter(|c| c.writes(topic.name.as_str())).map(|c| c.id).collect();
    let grown = match state.database.add_partitions(topic.id, request.partitions, &writers).await {
        Err(PortError::Refused(detail)) => return Err(Refusal::invalid("partitions", detail)),
        grown => grown?,
    };
    let using: Vec<ConnectorId> =
        connectors.iter().filter(|c| c.wish == Wish::Run && uses(c, grown.name.as_str())).map(|c| c.id).collect();
    state.database.start_anew(&using).await?;
    state.nudge.notify_one();
    tagged(&state, &grown).await
}

async fn delete_preview(state: &ServerState, topic: &StoredTopic) -> Result<DeletePreview, Refusal> {
    let bounds = state.database.bounds(topic.id).await?;
    let (written_by, read_by) = users(&state.database.connectors().await?, topic.name.as_str());
    Ok(DeletePreview {
        records: bounds.iter().map(|b| b.records).sum(),
        bytes: bounds.iter().map(|b| b.bytes).sum(),
        written_by,
        read_by,
        readers: state.database.readers_of(topic.id).await?,
    })
}

/// What deleting a topic would take, and what stands against it.
#[utoipa::path(operation_id = "previewTopicDelete", get, path = "/api/v1/topics/{name}/delete-preview", tag = "topics",
    responses((status = 200, body = DeletePreview), (status = 404, body = Problem)))]
pub(crate) async fn preview_delete(
    State(state): State<Arc<ServerState>>,
    Path(name): Path<String>,
) -> Result<Json<DeletePreview>, Refusal> {
    let topic = find(&state, name).await?;
    Ok(Json(delete_preview(&state, &topic).await?))
}

/// Deletes a topic with all its records, for ever. Its name has to be given once more, no connector may use it and no reader
/// of it may have active members.
#[utoipa::path(operation_id = "deleteTopic", delete, path = "/api/v1/topics/{name}", tag = "topics", params(DeleteQuery, IfMatchHeader),
    responses((status = 204), (status = 404, body = Problem), (status = 409, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn remove(
    State(state): State<Arc<ServerState>>,
    Path(name): Path<String>,
    Query(query): Query<DeleteQuery>,
    at: IfMatch,
) -> Result<StatusCode, Refusal> {
    let topic = find(&state, name).await?;
    at.holds(&format!("the topic {}", topic.name), topic.revision)?;
    if query.confirm.as_deref() != Some(topic.name.as_str()) {
        let detail =
            format!("all records of {} go for ever: give its name once more as confirm if that is meant", topic.name);
        return Err(Refusal::invalid("confirm", detail));
    }
    let preview = delete_preview(&state, &topic).await?;
    let mut using: Vec<String> =
        preview.written_by.iter().chain(&preview.read_by).map(|name| format!("the connector {name}")).collect();
    for reader in state.database.readers().await? {
        if reader.topics.contains(&topic.id) && !reader.members.is_empty() {
            using.push(format!("active members of the reader {}", reader.name));
        }
    }
    if !using.is_empty() {
        let detail = format!("{} is used by {}", topic.name, using.join(", "));
        return Err(Refusal::new(ProblemType::InUse, detail).remedied("stop or change them first"));
    }
    state.database.delete_topic(topic.id).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// A topic's size over the last day, about once a minute while it changes.
#[utoipa::path(operation_id = "getTopicHistory", get, path = "/api/v1/topics/{name}/history", tag = "topics",
    params(PagingQuery), responses((status = 200, body = Page<TopicSample>), (status = 404, body = Problem)))]
pub(crate) async fn history(
    State(state): State<Arc<ServerState>>,
    Path(name): Path<String>,
    Listed { paging, .. }: Listed<Unfiltered>,
) -> Result<Json<Page<TopicSample>>, Refusal> {
    let topic = find(&state, name).await?;
    let samples = state.database.topic_history(topic.id).await?;
    let page = paging.page(samples, false, |sample| Place::numbered(sample.at.timestamp_micros(), ""))?;
    Ok(Json(page.map(|s| TopicSample { at: rfc3339(s.at.timestamp_micros()), appended: s.appended, bytes: s.bytes })))
}

/// The registered versions of a topic's schemas.
#[utoipa::path(operation_id = "listTopicSchemas", get, path = "/api/v1/topics/{name}/schemas", tag = "topics",
    params(PagingQuery), responses((status = 200, body = Page<TopicSchema>), (status = 404, body = Problem)))]
pub(crate) async fn schemas(
    State(state): State<Arc<ServerState>>,
    Path(name): Path<String>,
    Listed { paging, .. }: Listed<Unfiltered>,
) -> Result<Json<Page<TopicSchema>>, Refusal> {
    let topic = find(&state, name).await?;
    let versions = state.database.schemas_of(&topic.name).await?.into_iter().map(|v| TopicSchema {
        id: v.id,
        name: v.name,
        language: v.language,
        role: v.role,
        required: v.required,
        version: v.version,
        text: v.text,
    });
    Ok(Json(paging.page_in_order(versions)?))
}

/// What the keeper did, and what waits for it.
#[utoipa::path(operation_id = "getKeeper", get, path = "/api/v1/keeper", tag = "topics", responses((status = 200, body = Keeper)))]
pub(crate) async fn keeper(State(state): State<Arc<ServerState>>) -> Result<Json<Keeper>, Refusal> {
    let said = state.database.keeper_said().await?;
    let at = said.as_ref().map(|(_, at)| rfc3339(at.timestamp_micros()));
    let said = said.map(|(said, _)| said).unwrap_or_default();
    Ok(Json(Keeper {
        at,
        merged_blocks: said.merged_blocks,
        forgotten_records: said.forgotten_records,
        superseded_records: said.superseded_records,
        moved_blocks: said.moved_blocks,
        dropped: said.dropped,
        small_blocks_waiting: said.small_blocks_waiting,
        latest_waiting: said.latest_waiting,
        drops_waiting: said.drops_waiting,
        worked_ms: said.worked_us / 1000,
        failure: said.failure,
    }))
}
