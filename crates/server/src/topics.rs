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
    Keep, Keeper, MorePartitions, NewTopic, Page, PagingQuery, Partition, PartitionLoss, Plan, PlanQuery, Problem,
    ProblemType, Topic, TopicOrder, TopicSample, TopicSchema, TopicSettings, TopicSummary, TopicsQuery, Touched,
    TouchedKind,
};
use gonvel_storage::Database;
use gonvel_storage::catalog::connectors::Connector;
use gonvel_storage::topic_log::keeper::WouldForget;
use gonvel_storage::topic_log::topics::MOST_PARTITIONS;

use crate::creating::{Creating, KeyHeader};
use crate::listing::{Listed, Place, Unfiltered, has};
use crate::plans::{self, OrPlan, counted};
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

/// What is to be known beside topics to show them.
struct Around {
    connectors: Vec<Connector>,
    /// Records and bytes of each.
    sizes: HashMap<i64, (i64, i64)>,
    producers: HashMap<i64, Vec<String>>,
}

impl Around {
    async fn of(state: &ServerState) -> Result<Self, PortError> {
        let sizes = state.database.topic_sizes().await?.into_iter().map(|s| (s.topic_id, (s.records, s.bytes)));
        let mut producers: HashMap<i64, Vec<String>> = HashMap::new();
        for producer in state.database.producers(None).await?.into_iter().filter(|p| p.records > 0) {
            producers.entry(producer.topic_id).or_default().push(producer.name);
        }
        Ok(Self { connectors: state.database.connectors().await?, sizes: sizes.collect(), producers })
    }

    fn size(&self, topic: &StoredTopic) -> (i64, i64) {
        self.sizes.get(&topic.id.0).copied().unwrap_or_default()
    }

    fn summary(&mut self, topic: &StoredTopic) -> TopicSummary {
        let producers = self.producers.remove(&topic.id.0).unwrap_or_default();
        summary(topic, self.size(topic), &self.connectors, producers)
    }
}

/// All topics.
pub(crate) async fn all(state: &ServerState) -> Result<Vec<TopicSummary>, Refusal> {
    let mut around = Around::of(state).await?;
    Ok(state.database.topics().await?.iter().map(|topic| around.summary(topic)).collect())
}

/// Topics.
#[utoipa::path(operation_id = "listTopics", get, path = "/api/v1/topics", tag = "topics", params(TopicsQuery, PagingQuery),
    responses((status = 200, body = Page<TopicSummary>)))]
pub(crate) async fn list(
    State(state): State<Arc<ServerState>>,
    Listed { which, paging }: Listed<TopicsQuery>,
) -> Result<Json<Page<TopicSummary>>, Refusal> {
    let mut around = Around::of(&state).await?;
    let topics = state.database.topics().await?.into_iter().filter(|topic| has(topic.name.as_str(), which.search.as_ref()));
    let page = paging.page(topics, which.descending, |topic| {
        let name = topic.name.as_str();
        match which.order {
            TopicOrder::Name => Place::named(name),
            TopicOrder::CreatedAt => Place::numbered(topic.created_us, name),
            TopicOrder::Records => Place::numbered(around.size(topic).0, name),
            TopicOrder::Bytes => Place::numbered(around.size(topic).1, name),
        }
    })?;
    Ok(Json(page.map(|topic| around.summary(&topic))))
}

/// Makes a topic.
#[utoipa::path(operation_id = "createTopic", post, path = "/api/v1/topics", tag = "topics", request_body = NewTopic, params(KeyHeader),
    responses((status = 201, body = Topic), (status = 409, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn create(
    State(state): State<Arc<ServerState>>,
    Creating(creation, request): Creating<NewTopic>,
) -> Result<(StatusCode, Tagged<Topic>), Refusal> {
    let make = async |database: &Database| {
        let name = TopicName::parse(request.name)?;
        checked(&request.settings)?;
        match database.create_topic(&name, request.partitions, &request.settings).await {
            Err(PortError::Refused(detail)) => Err(Refusal::invalid("partitions", detail)),
            made => Ok(made?.name.to_string()),
        }
    };
    creation.make(&state, make, async |name| tagged(&state, &find(&state, name).await?).await).await
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
    params(PlanQuery, IfMatchHeader),
    responses((status = 200, body = Topic), (status = 404, body = Problem), (status = 412, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn change(
    State(state): State<Arc<ServerState>>,
    Path(name): Path<String>,
    Query(query): Query<PlanQuery>,
    at: IfMatch,
    Body(settings): Body<TopicSettings>,
) -> Result<OrPlan<Tagged<Topic>>, Refusal> {
    let topic = find(&state, name).await?;
    let revision = at.to_change(&format!("the topic {}", topic.name), topic.revision)?;
    checked(&settings)?;
    let plan = change_plan(&state, &topic, &settings).await?;
    let of = ("changeTopic", topic.id.0, topic.revision, &settings);
    if let Some(plan) = plans::settle(&query, plan, &of, Vec::new())? {
        return Ok(OrPlan::Plan(plan));
    }
    let changed = state.database.change_topic(topic.id, revision, &settings).await?;
    tagged(&state, &changed).await.map(OrPlan::Done)
}

/// What new settings would remove.
async fn change_plan(state: &ServerState, topic: &StoredTopic, settings: &TopicSettings) -> Result<Plan, Refusal> {
    let now_us = Utc::now().timestamp_micros();
    // what goes by the settings of now is not the change's doing
    let due = state.database.would_forget(topic.id, &topic.settings, now_us).await?;
    let mut losses = state.database.would_forget(topic.id, settings, now_us).await?;
    for loss in &mut losses {
        for due in due.iter().filter(|due| due.partition == loss.partition) {
            loss.records -= due.records;
            loss.bytes -= due.bytes;
        }
    }
    losses.retain(|loss| loss.records > 0);
    let (records, bytes) = (losses.iter().map(|l| l.records).sum(), losses.iter().map(|l| l.bytes).sum());
    let mut says = Vec::new();
    if records > 0 {
        says.push(format!("{} forgets {} within a minute, for ever.", topic.name, counted(records, "record")));
    }
    match (topic.settings.keep, settings.keep) {
        (Keep::All, Keep::Latest) => says.push(
            "Of each key only the newest record stays; older ones are removed in the background, for ever. Readers no longer see every change."
                .to_owned(),
        ),
        (Keep::Latest, Keep::All) => {
            says.push("Records are kept from now on; those that were removed do not come back.".to_owned());
        }
        _ => {}
    }
    if settings.hot_span_ms.is_some() && settings.hot_span_ms != topic.settings.hot_span_ms {
        says.push("Older blocks move to object storage, and are read on from there.".to_owned());
    }
    let thins = topic.settings.keep == Keep::All && settings.keep == Keep::Latest;
    let loss = |l: WouldForget| PartitionLoss {
        partition: l.partition,
        before_offset: l.before,
        records: l.records,
        bytes: l.bytes,
    };
    let partitions = losses.into_iter().map(loss).collect();
    Ok(Plan { needs_confirming: records > 0 || thins, says, records, bytes, partitions, ..Plan::default() })
}

/// Adds partitions. Keys go to other partitions from then on: the order of a key's records does not hold across the change,
/// so it has to be confirmed. Connectors that use the topic are started anew.
#[utoipa::path(operation_id = "addPartitions", post, path = "/api/v1/topics/{name}/partitions", tag = "topics", request_body = MorePartitions,
    params(PlanQuery, IfMatchHeader),
    responses((status = 200, body = Topic), (status = 404, body = Problem), (status = 409, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn add_partitions(
    State(state): State<Arc<ServerState>>,
    Path(name): Path<String>,
    Query(query): Query<PlanQuery>,
    at: IfMatch,
    Body(request): Body<MorePartitions>,
) -> Result<OrPlan<Tagged<Topic>>, Refusal> {
    let topic = find(&state, name).await?;
    at.holds(&format!("the topic {}", topic.name), topic.revision)?;
    let (now, then) = (topic.partitions, request.partitions);
    if then > now && then <= MOST_PARTITIONS {
        let says = format!(
            "With {then} partitions instead of {now} most keys of {} go to another partition from then on: a reader may see a key's new \
             records before its older ones.",
            topic.name
        );
        let starts = |c: &&Connector| c.wish == Wish::Run && uses(c, topic.name.as_str());
        let connectors = state.database.connectors().await?;
        let touched =
            connectors.iter().filter(starts).map(|c| touched(TouchedKind::Connector, &c.name, "starts anew")).collect();
        let plan = Plan { needs_confirming: true, says: vec![says], touched, ..Plan::default() };
        let of = ("addPartitions", topic.id.0, topic.revision, &request);
        if let Some(plan) = plans::settle(&query, plan, &of, Vec::new())? {
            return Ok(OrPlan::Plan(plan));
        }
    }
    let grown = grow(&state, &topic, then).await?;
    tagged(&state, &grown).await.map(OrPlan::Done)
}

/// Adds partitions, and starts anew who uses the topic.
pub(crate) async fn grow(state: &ServerState, topic: &StoredTopic, partitions: i32) -> Result<StoredTopic, Refusal> {
    let connectors = state.database.connectors().await?;
    let writers: Vec<ConnectorId> = connectors.iter().filter(|c| c.writes(topic.name.as_str())).map(|c| c.id).collect();
    let grown = match state.database.add_partitions(topic.id, partitions, &writers).await {
        Err(PortError::Refused(detail)) => return Err(Refusal::invalid("partitions", detail)),
        grown => grown?,
    };
    let using: Vec<ConnectorId> =
        connectors.iter().filter(|c| c.wish == Wish::Run && uses(c, grown.name.as_str())).map(|c| c.id).collect();
    state.database.start_anew(&using).await?;
    state.nudge.notify_one();
    Ok(grown)
}

fn touched(kind: TouchedKind, name: &str, says: &str) -> Touched {
    Touched { kind, name: name.to_owned(), says: says.to_owned() }
}

/// What deleting a topic would take, and what stands against it.
async fn delete_plan(state: &ServerState, topic: &StoredTopic) -> Result<Plan, Refusal> {
    let bounds = state.database.bounds(topic.id).await?;
    let (written_by, read_by) = users(&state.database.connectors().await?, topic.name.as_str());
    let mut against: Vec<String> = written_by.iter().chain(&read_by).map(|name| format!("the connector {name}")).collect();
    let mut found: Vec<Touched> = written_by.iter().map(|name| touched(TouchedKind::Connector, name, "writes it")).collect();
    found.extend(read_by.iter().map(|name| touched(TouchedKind::Connector, name, "reads it")));
    for reader in state.database.readers().await? {
        if reader.topics.contains(&topic.id) {
            found.push(touched(TouchedKind::Reader, reader.name.as_str(), "loses its position in it"));
            if !reader.members.is_empty() {
                against.push(format!("active members of the reader {}", reader.name));
            }
        }
    }
    let records: i64 = bounds.iter().map(|b| b.records).sum();
    let says = vec![format!("{} is deleted with {}, for ever.", topic.name, counted(records, "record"))];
    let bytes = bounds.iter().map(|b| b.bytes).sum();
    Ok(Plan { needs_confirming: true, says, records, bytes, touched: found, against, ..Plan::default() })
}

/// Deletes a topic with all its records, for ever. It has to be confirmed; no connector may use it and no reader of it may have
/// active members.
#[utoipa::path(operation_id = "deleteTopic", delete, path = "/api/v1/topics/{name}", tag = "topics", params(PlanQuery, IfMatchHeader),
    responses((status = 204), (status = 404, body = Problem), (status = 409, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn remove(
    State(state): State<Arc<ServerState>>,
    Path(name): Path<String>,
    Query(query): Query<PlanQuery>,
    at: IfMatch,
) -> Result<OrPlan<StatusCode>, Refusal> {
    let topic = find(&state, name).await?;
    at.holds(&format!("the topic {}", topic.name), topic.revision)?;
    let plan = delete_plan(&state, &topic).await?;
    let used = in_use(&topic, &plan);
    if let Some(plan) = plans::settle(&query, plan, &("deleteTopic", topic.id.0), Vec::new())? {
        return Ok(OrPlan::Plan(plan));
    }
    used?;
    state.database.delete_topic(topic.id).await?;
    Ok(OrPlan::Done(StatusCode::NO_CONTENT))
}

fn in_use(topic: &StoredTopic, plan: &Plan) -> Result<(), Refusal> {
    if plan.against.is_empty() {
        return Ok(());
    }
    let detail = format!("{} is used by {}", topic.name, plan.against.join(", "));
    Err(Refusal::new(ProblemType::InUse, detail).remedied("stop or change them first"))
}

/// Deletes a topic that nothing uses.
pub(crate) async fn delete(state: &ServerState, name: &str) -> Result<(), Refusal> {
    let topic = find(state, name.to_owned()).await?;
    in_use(&topic, &delete_plan(state, &topic).await?)?;
    Ok(state.database.delete_topic(topic.id).await?)
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
