//! Readers: named consumers of topics.

mod members;
mod moving;

use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;

use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use chrono::Utc;
use gonvel_core::civil::rfc3339;
use gonvel_core::naming::{ConnectorId, Offset, ReaderName, TopicId, TopicName, TopicPartition};
use gonvel_core::ports::{PartitionBounds, PortError, Reader as Stored, ReaderStore, Topic, TopicLog};
use gonvel_core::reposition::{self, plan};
use gonvel_http_api::{
    Member, Moves, NewReader, Page, PagingQuery, Plan, PlanQuery, Position, Problem, Reader, ReaderOrder, ReaderTopics,
    ReadersQuery, Reposition, Target,
};

use crate::creating::{Creating, KeyHeader};
use crate::listing::{Listed, Place, has};
use crate::plans::{self, OrPlan};
use crate::problems::{Body, Path, Query, Refusal, name_at};
use crate::records::reading::{asked_time, offset_at, unpack};
use crate::standing::stands;
use crate::state::ServerState;
use gonvel_storage::Database;

pub(crate) use members::*;
pub(crate) use moving::{plan_of, planned, told};

/// What partitions hold, read once for a request.
#[derive(Default)]
pub(crate) struct Held {
    pub(crate) bounds: HashMap<TopicPartition, PartitionBounds>,
    names: HashMap<TopicId, TopicName>,
}

impl Held {
    pub(crate) async fn of(state: &ServerState, topics: impl IntoIterator<Item = TopicId>) -> Result<Self, PortError> {
        let mut held = Self::default();
        let wanted: Vec<TopicId> = topics.into_iter().collect();
        if wanted.is_empty() {
            return Ok(held);
        }
        held.names = state.database.topics().await?.into_iter().map(|t| (t.id, t.name)).collect();
        for topic in wanted {
            if held.bounds.keys().any(|at| at.topic == topic) {
                continue;
            }
            match state.database.bounds(topic).await {
                Ok(bounds) => {
                    held.bounds.extend(bounds.into_iter().map(|b| (TopicPartition { topic, partition: b.partition }, b)))
                }
                // deleted a moment ago: its positions go as well
                Err(PortError::NotFound { .. }) => {}
                Err(error) => return Err(error),
            }
        }
        Ok(held)
    }

    pub(crate) fn name(&self, topic: TopicId) -> String {
        self.names.get(&topic).map(ToString::to_string).unwrap_or_default()
    }
}

/// Age of the record that is read next, in milliseconds. Its time does not change, so it is looked up once for a position.
async fn waiting_ms(state: &ServerState, at: TopicPartition, next: Offset) -> Result<Option<i64>, PortError> {
    let time_us = match state.time_at(at, next) {
        Some(time_us) => time_us,
        None => {
            let block = state.database.read(at, next, 1).await?.into_iter().next();
            let Some(block) = block else { return Ok(None) };
            let Some(found) = unpack(at, &block)?.into_iter().find(|r| r.offset >= next) else { return Ok(None) };
            state.note_time_at(at, next, found.record.timestamp_us);
            found.record.timestamp_us
        }
    };
    Ok(Some((Utc::now().timestamp_micros() - time_us).max(0) / 1000))
}

async fn present(state: &ServerState, stored: &Stored, held: &Held) -> Result<Reader, PortError> {
    let mut positions = Vec::with_capacity(stored.positions.len());
    for position in &stored.positions {
        let Some(bounds) = held.bounds.get(&position.at) else { continue };
        let offsets = bounds.next.0 - position.next.0.clamp(bounds.first.0, bounds.next.0);
        let lag_ms = if offsets > 0 { waiting_ms(state, position.at, position.next).await? } else { None };
        // where nothing is kept behind it, it has read all there is
        let lag_records = if lag_ms.is_some() { offsets } else { 0 };
        positions.push(Position {
            topic: held.name(position.at.topic),
            partition: position.at.partition.0,
            next_offset: position.next.0,
            lag_records,
            lag_ms,
            committed_at: position.committed_us.map(rfc3339),
            member: position.holder,
        });
    }
    let members = stored.members.iter().map(|m| Member {
        id: m.id,
        label: m.label.clone(),
        joined_at: rfc3339(m.joined_us),
        until: rfc3339(m.until_us),
    });
    Ok(Reader {
        name: stored.name.to_string(),
        created_at: rfc3339(stored.created_us),
        topics: stored.topics.iter().map(|t| held.name(*t)).collect(),
        members: members.collect(),
        lag_records: positions.iter().map(|p| p.lag_records).sum(),
        lag_ms: positions.iter().filter_map(|p| p.lag_ms).max(),
        committed_at: stored.positions.iter().filter_map(|p| p.committed_us).max().map(rfc3339),
        positions,
    })
}

async fn presented(state: &ServerState, readers: &[Stored]) -> Result<Vec<Reader>, Refusal> {
    let held = Held::of(state, readers.iter().flat_map(|r| r.topics.iter().copied())).await?;
    let mut out = Vec::with_capacity(readers.len());
    for reader in readers {
        out.push(present(state, reader, &held).await?);
    }
    Ok(out)
}

/// All readers.
pub(crate) async fn all(state: &ServerState) -> Result<Vec<Reader>, Refusal> {
    presented(state, &state.database.readers().await?).await
}

async fn find(state: &ServerState, name: &ReaderName) -> Result<Reader, Refusal> {
    let stored = state.database.reader(name).await?;
    let held = Held::of(state, stored.topics.iter().copied()).await?;
    Ok(present(state, &stored, &held).await?)
}

/// Readers and where they stand.
#[utoipa::path(operation_id = "listReaders", get, path = "/api/v1/readers", tag = "readers", params(ReadersQuery, PagingQuery),
    responses((status = 200, body = Page<Reader>)))]
pub(crate) async fn list(
    State(state): State<Arc<ServerState>>,
    Listed { which, paging }: Listed<ReadersQuery>,
) -> Result<Json<Page<Reader>>, Refusal> {
    let mut stored = state.database.readers().await?;
    stored.retain(|reader| has(reader.name.as_str(), which.search.as_ref()));
    let of_topic = |reader: &Reader| which.topic.as_ref().is_none_or(|topic| reader.topics.contains(topic));
    let found = presented(&state, &stored).await?.into_iter().filter(of_topic);
    let place = |reader: &Reader| match which.order {
        ReaderOrder::Name => Place::named(&reader.name),
        ReaderOrder::LagRecords => Place::numbered(reader.lag_records, &reader.name),
        ReaderOrder::LagMs => Place::numbered(reader.lag_ms.unwrap_or(i64::MIN), &reader.name),
    };
    Ok(Json(match which.order {
        ReaderOrder::Name => paging.page(found, which.descending, place)?,
        ReaderOrder::LagRecords | ReaderOrder::LagMs => paging.page_moving(found, which.descending, place)?,
    }))
}

/// Makes a reader.
#[utoipa::path(operation_id = "createReader", post, path = "/api/v1/readers", tag = "readers", request_body = NewReader, params(KeyHeader),
    responses((status = 201, body = Reader), (status = 404, body = Problem), (status = 409, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn create(
    State(state): State<Arc<ServerState>>,
    Creating(creation, request): Creating<NewReader>,
) -> Result<(StatusCode, Json<Reader>), Refusal> {
    let make = async |database: &Database| {
        let name = ReaderName::parse(request.name)?;
        let (_, start) = beginning(&state, request.topics, request.start, &[]).await?;
        database.create_reader(&name, &start).await?;
        Ok(name.to_string())
    };
    creation.make(&state, make, async |name| Ok(Json(find(&state, &ReaderName::parse(name)?).await?))).await
}

/// Topics by their names, and where a reader begins in those that it does not read already.
async fn beginning(
    state: &ServerState,
    topics: Vec<String>,
    start: Option<Target>,
    reads: &[TopicId],
) -> Result<(Vec<TopicId>, Vec<(TopicPartition, Offset)>), Refusal> {
    if topics.is_empty() {
        return Err(Refusal::invalid("topics", "a reader reads at least one topic: name it"));
    }
    let target = start.unwrap_or(Target::Earliest);
    if matches!(target, Target::By { .. }) {
        return Err(Refusal::invalid(
            "start",
            "in a new topic a reader stands nowhere yet: begin at earliest, latest, a time or an offset",
        ));
    }
    let mut named: BTreeMap<String, Topic> = BTreeMap::new();
    for topic in topics {
        let found = state.database.topic(&TopicName::parse(topic).map_err(name_at("topics"))?).await?;
        named.insert(found.name.to_string(), found);
    }
    let goal = Goal::of(state, &target, "start").await?;
    let mut start = Vec::new();
    for topic in named.values().filter(|topic| !reads.contains(&topic.id)) {
        for bounds in state.database.bounds(topic.id).await? {
            let at = TopicPartition { topic: topic.id, partition: bounds.partition };
            let to = goal.at(state, at, &bounds).await?;
            let moved = plan(&bounds, bounds.first, to).map_err(|e| Refusal::invalid("start", e.to_string()))?;
            start.push((at, moved.to));
        }
    }
    Ok((named.values().map(|topic| topic.id).collect(), start))
}

/// Lets a reader read other topics. Its members stay, and share the partitions out anew.
#[utoipa::path(operation_id = "changeReaderTopics", put, path = "/api/v1/readers/{name}/topics", tag = "readers", request_body = ReaderTopics,
    params(PlanQuery),
    responses((status = 200, body = Reader), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn change_topics(
    State(state): State<Arc<ServerState>>,
    Path(name): Path<String>,
    Query(query): Query<PlanQuery>,
    Body(request): Body<ReaderTopics>,
) -> Result<OrPlan<Json<Reader>>, Refusal> {
    let name = ReaderName::parse(name)?;
    let reads = state.database.reader(&name).await?.topics;
    let begins = serde_json::to_string(&request.start).unwrap_or_default();
    let (topics, start) = beginning(&state, request.topics, request.start, &reads).await?;
    let plan = topics_plan(&state, &reads, &topics).await?;
    let ids = |topics: &[TopicId]| topics.iter().map(|topic| topic.0).collect::<Vec<_>>();
    let of = ("changeReaderTopics", name.as_str(), ids(&reads), ids(&topics), begins);
    if let Some(plan) = plans::settle(&query, plan, &of, Vec::new())? {
        return Ok(OrPlan::Plan(plan));
    }
    state.database.change_topics(&name, &topics, &start).await?;
    Ok(OrPlan::Done(Json(find(&state, &name).await?)))
}

/// Lets a reader read other topics, beginning in new ones at their start.
pub(crate) async fn read_others(state: &ServerState, name: String, topics: Vec<String>) -> Result<(), Refusal> {
    let name = ReaderName::parse(name)?;
    let reads = state.database.reader(&name).await?.topics;
    let (topics, start) = beginning(state, topics, None, &reads).await?;
    Ok(state.database.change_topics(&name, &topics, &start).await?)
}

/// What it does to a reader that it reads other topics.
async fn topics_plan(state: &ServerState, reads: &[TopicId], topics: &[TopicId]) -> Result<Plan, PortError> {
    let names: HashMap<TopicId, TopicName> = state.database.topics().await?.into_iter().map(|t| (t.id, t.name)).collect();
    let named = |of: &[TopicId], without: &[TopicId]| {
        let named = of.iter().filter(|topic| !without.contains(topic)).filter_map(|topic| names.get(topic));
        named.map(ToString::to_string).collect::<Vec<_>>()
    };
    let (come, gone) = (named(topics, reads), named(reads, topics));
    let mut says = Vec::new();
    if !come.is_empty() {
        says.push(format!("It begins to read {}.", come.join(", ")));
    }
    if !gone.is_empty() {
        says.push(format!("It reads {} no more: its positions there are lost.", gone.join(", ")));
    }
    if says.is_empty() {
        says.push("It reads these topics already.".into());
    }
    Ok(Plan { needs_confirming: !gone.is_empty(), says, ..Plan::default() })
}

/// One reader.
#[utoipa::path(operation_id = "getReader", get, path = "/api/v1/readers/{name}", tag = "readers",
    responses((status = 200, body = Reader), (status = 404, body = Problem)))]
pub(crate) async fn one(State(state): State<Arc<ServerState>>, Path(name): Path<String>) -> Result<Json<Reader>, Refusal> {
    find(&state, &ReaderName::parse(name)?).await.map(Json)
}

/// Deletes a reader with its positions. Refused while members are active.
#[utoipa::path(operation_id = "deleteReader", delete, path = "/api/v1/readers/{name}", tag = "readers", params(PlanQuery), params(PlanQuery),
    responses((status = 204), (status = 404, body = Problem), (status = 409, body = Problem)))]
pub(crate) async fn remove(
    State(state): State<Arc<ServerState>>,
    Path(name): Path<String>,
    Query(query): Query<PlanQuery>,
) -> Result<OrPlan<StatusCode>, Refusal> {
    let name = ReaderName::parse(name)?;
    let stored = state.database.reader(&name).await?;
    let says = format!("{name} is deleted, and its positions with it: who reads under this name later begins anew.");
    let plan = Plan { needs_confirming: true, says: vec![says], ..Plan::default() };
    let topics: Vec<i64> = stored.topics.iter().map(|topic| topic.0).collect();
    if let Some(plan) = plans::settle(&query, plan, &("deleteReader", name.as_str(), topics), Vec::new())? {
        return Ok(OrPlan::Plan(plan));
    }
    state.database.delete_reader(&name).await?;
    Ok(OrPlan::Done(StatusCode::NO_CONTENT))
}

/// A place that was asked for, looked up once for all partitions.
pub(crate) enum Goal {
    Same(reposition::Target),
    Time(i64),
    Places(HashMap<TopicPartition, i64>),
}

impl Goal {
    pub(crate) async fn of(state: &ServerState, target: &Target, field: &str) -> Result<Self, Refusal> {
        Ok(match target {
            Target::Earliest => Self::Same(reposition::Target::Earliest),
            Target::Latest => Self::Same(reposition::Target::Latest),
            Target::Offset { offset } => Self::Same(reposition::Target::Offset(Offset(*offset))),
            Target::By { records } => Self::Same(reposition::Target::By(*records)),
            Target::Time { time } => Self::Time(asked_time(field, Some(time))?.unwrap_or_default()),
            Target::Agreed => {
                let finding =
                    "only a sink has a place where its target and the log agree: a reader's position came back with the log";
                return Err(Refusal::invalid(field, finding));
            }
            Target::Connector { connector } => {
                let other = state.database.find_connector(ConnectorId(*connector)).await?;
                if other.definition.kind() == "source" {
                    let finding =
                        format!("{} stands in no topic by itself: name a sink, or a connector between topics", other.name);
                    return Err(Refusal::invalid(field, finding));
                }
                Self::Places(stands(state, &other).await?)
            }
        })
    }

    async fn at(
        &self,
        state: &ServerState,
        at: TopicPartition,
        held: &PartitionBounds,
    ) -> Result<reposition::Target, PortError> {
        Ok(match self {
            Self::Same(target) => *target,
            Self::Time(time_us) => reposition::Target::Offset(Offset(offset_at(state, at, *time_us).await?)),
            // what the other has yet to come to may be no longer kept
            Self::Places(places) => places.get(&at).map_or(reposition::Target::Earliest, |next| {
                reposition::Target::Offset(Offset((*next).clamp(held.first.0, held.next.0)))
            }),
        })
    }
}

/// Moves a reader. It has to be confirmed: a dry run shows what would be skipped or read again in each partition, and its tag has exactly
/// that carried out. Refused while members are active.
#[utoipa::path(operation_id = "repositionReader", post, path = "/api/v1/readers/{name}/reposition", tag = "readers", request_body = Reposition,
    params(PlanQuery),
    responses((status = 200, body = Moves), (status = 404, body = Problem), (status = 409, body = Problem),
        (status = 412, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn reposition(
    State(state): State<Arc<ServerState>>,
    Path(name): Path<String>,
    Query(query): Query<PlanQuery>,
    Body(request): Body<Reposition>,
) -> Result<OrPlan<Json<Moves>>, Refusal> {
    let name = ReaderName::parse(name)?;
    let decided = plans::decided(&query)?;
    let stored = state.database.reader(&name).await?;
    if !stored.members.is_empty() {
        let labels: Vec<&str> = stored.members.iter().map(|m| m.label.as_str()).collect();
        let detail =
            format!("{name} cannot be repositioned while members are active ({}): stop them first", labels.join(", "));
        return Err(PortError::Refused(detail).into());
    }
    let held = Held::of(&state, stored.topics.iter().copied()).await?;
    let stands: Vec<_> = stored.positions.iter().map(|p| (p.at, p.next)).collect();
    let goal = Goal::of(&state, &request.target, "target").await?;
    let planned = planned(&state, &held, name.as_str(), &stands, &request, &goal, decided.as_deref()).await?;
    let (plan, decided) = plan_of(&planned, name.as_str());
    let moves: Vec<_> = planned.iter().map(|(at, _, m)| (*at, m.from, m.to)).collect();
    let of = ("repositionReader", name.as_str(), &request);
    if let Some(plan) = plans::settle(&query, plan, &of, decided)? {
        return Ok(OrPlan::Plan(plan));
    }
    state.database.reposition(&name, &moves).await?;
    Ok(OrPlan::Done(Json(told(&planned))))
}
