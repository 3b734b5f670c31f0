//! Members of readers: they join, read their share, commit and leave.

use std::sync::Arc;
use std::time::{Duration, Instant};

use axum::Json;
use axum::extract::State;
use axum::http::{HeaderMap, StatusCode};
use axum::response::Response;
use futures::stream;
use gonvel_core::naming::{Offset, PartitionId, ReaderName, TopicName, TopicPartition};
use gonvel_core::ports::{PortError, ReaderStore, Share as StoredShare, TopicLog};
use gonvel_http_api::{
    Commit, MemberQuery, MemberRecords, NewMember, Problem, ReaderStreamQuery, Share, SharePart, TopicRecord,
};
use uuid::Uuid;

use super::Held;
use crate::creating::{Creating, KeyHeader, made_id};
use crate::problems::{Body, Path, Query, Refusal, name_at};
use crate::records::reading::read_up_to;
use crate::records::{Following, MOST, PIECE, Piece, answer, limit_of, wait_of, wants_lines};
use crate::state::ServerState;
use gonvel_storage::Database;

const USUAL_TTL_MS: u64 = 30_000;
/// How often a stream looks what its member's share is.
const LOOK: Duration = Duration::from_secs(2);

fn ttl(asked: Option<u64>) -> Result<Duration, Refusal> {
    let ttl = asked.unwrap_or(USUAL_TTL_MS);
    if (1_000..=600_000).contains(&ttl) {
        return Ok(Duration::from_millis(ttl));
    }
    Err(Refusal::invalid("ttl_ms", format!("{ttl} ms: give 1000 to 600000")))
}

fn parts(held: &Held, places: &[(TopicPartition, Offset)]) -> Vec<SharePart> {
    let part = |(at, next): &(TopicPartition, Offset)| SharePart {
        topic: held.name(at.topic),
        partition: at.partition.0,
        next_offset: next.0,
    };
    places.iter().map(part).collect()
}

async fn shown(state: &ServerState, share: &StoredShare) -> Result<Share, PortError> {
    let held = Held::of(state, share.partitions.iter().map(|(at, _)| at.topic)).await?;
    Ok(Share { member: share.member, partitions: parts(&held, &share.partitions) })
}

/// Joins a reader as a new member; the partitions are shared out anew.
#[utoipa::path(operation_id = "joinReader", post, path = "/api/v1/readers/{name}/members", tag = "readers", request_body = NewMember, params(KeyHeader),
    responses((status = 201, body = Share), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn join(
    State(state): State<Arc<ServerState>>,
    Path(name): Path<String>,
    Creating(creation, request): Creating<NewMember>,
) -> Result<(StatusCode, Json<Share>), Refusal> {
    let name = ReaderName::parse(name)?;
    let make = async |database: &Database| {
        let label = request.label.unwrap_or_else(|| "member".to_owned());
        Ok(database.join(&name, &label, ttl(request.ttl_ms)?).await?.member.to_string())
    };
    let show = async |member: String| {
        let share = state.database.share(&name, made_id(&member)?).await?;
        Ok(Json(shown(&state, &share).await?))
    };
    creation.make(&state, make, show).await
}

/// Stays active, and tells the share as it is at present.
#[utoipa::path(operation_id = "stayWithReader", put, path = "/api/v1/readers/{name}/members/{member}", tag = "readers", request_body = NewMember,
    responses((status = 200, body = Share), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn stay(
    State(state): State<Arc<ServerState>>,
    Path((name, member)): Path<(String, Uuid)>,
    Body(request): Body<NewMember>,
) -> Result<Json<Share>, Refusal> {
    let share = state.database.stay(&ReaderName::parse(name)?, member, ttl(request.ttl_ms)?).await?;
    Ok(Json(shown(&state, &share).await?))
}

/// Leaves a reader; the partitions are shared out anew.
#[utoipa::path(operation_id = "leaveReader", delete, path = "/api/v1/readers/{name}/members/{member}", tag = "readers",
    responses((status = 204), (status = 404, body = Problem)))]
pub(crate) async fn leave(
    State(state): State<Arc<ServerState>>,
    Path((name, member)): Path<(String, Uuid)>,
) -> Result<StatusCode, Refusal> {
    state.database.leave(&ReaderName::parse(name)?, member).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Records of a member's share, from its committed positions on. Nothing is changed by it: what was read is committed with the positions
/// that this gives (`POST .../commit`), which also keeps the member active; one that has nothing to commit stays with `PUT`.
#[utoipa::path(operation_id = "readAsMember", get, path = "/api/v1/readers/{name}/members/{member}/records", tag = "readers", params(MemberQuery),
    responses((status = 200, body = MemberRecords), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn read(
    State(state): State<Arc<ServerState>>,
    Path((name, member)): Path<(String, Uuid)>,
    Query(query): Query<MemberQuery>,
) -> Result<Json<MemberRecords>, Refusal> {
    let name = ReaderName::parse(name)?;
    let limit = limit_of(query.limit, MOST)?;
    let deadline = Instant::now() + wait_of(query.wait_ms)?;
    let share = state.database.share(&name, member).await?;
    let held = Held::of(&state, share.partitions.iter().map(|(at, _)| at.topic)).await?;
    let mut following = Following::new(state.clone(), share.partitions.clone(), query.raw);
    let mut records: Vec<TopicRecord> = Vec::new();
    if share.partitions.is_empty() {
        tokio::time::sleep_until(deadline.into()).await;
    }
    while records.len() < limit && !share.partitions.is_empty() {
        let patience = if records.is_empty() { deadline.saturating_duration_since(Instant::now()) } else { Duration::ZERO };
        let piece = following.next(patience, limit - records.len()).await?;
        if piece.is_empty() && patience.is_zero() {
            break;
        }
        records.extend(piece.into_iter().map(|(at, record)| TopicRecord { topic: held.name(at.topic), record }));
    }
    Ok(Json(MemberRecords { records, positions: parts(&held, &following.places) }))
}

/// Commits positions, all or none; the member has to hold their partitions.
#[utoipa::path(operation_id = "commitPositions", post, path = "/api/v1/readers/{name}/members/{member}/commit", tag = "readers", request_body = Commit,
    responses((status = 204), (status = 404, body = Problem), (status = 409, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn commit(
    State(state): State<Arc<ServerState>>,
    Path((name, member)): Path<(String, Uuid)>,
    Body(request): Body<Commit>,
) -> Result<StatusCode, Refusal> {
    let name = ReaderName::parse(name)?;
    let mut positions = Vec::new();
    for part in request.positions {
        let topic = state.database.topic(&TopicName::parse(part.topic).map_err(name_at("positions"))?).await?;
        let bounds = state.database.bounds(topic.id).await?;
        let bounds = bounds.iter().find(|b| b.partition.0 == part.partition).ok_or_else(|| {
            let last = topic.partitions - 1;
            Refusal::invalid("partition", format!("{} has no partition {}: it has 0 to {last}", topic.name, part.partition))
        })?;
        read_up_to(bounds, part.next_offset)?;
        positions
            .push((TopicPartition { topic: topic.id, partition: PartitionId(part.partition) }, Offset(part.next_offset)));
    }
    state.database.commit(&name, member, &positions).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// What a member reads, as long as it is one.
struct Reading {
    state: Arc<ServerState>,
    name: ReaderName,
    member: Uuid,
    following: Following,
    held: Held,
    /// When the share was last looked at.
    looked: Instant,
}

impl Reading {
    /// Takes up partitions that were given to the member since, from where they are committed to, and lets go of others.
    async fn look(&mut self) -> Result<(), PortError> {
        self.looked = Instant::now();
        let mut places = self.state.database.share(&self.name, self.member).await?.partitions;
        for (at, next) in &mut places {
            if let Some((_, read_to)) = self.following.places.iter().find(|(p, _)| p == at) {
                *next = *read_to;
            }
        }
        let of = |places: &[(TopicPartition, Offset)]| places.iter().map(|(at, _)| *at).collect::<Vec<_>>();
        if of(&places) != of(&self.following.places) {
            self.held = Held::of(&self.state, places.iter().map(|(at, _)| at.topic)).await?;
            self.following.places = places;
        }
        Ok(())
    }

    async fn next(&mut self) -> Result<Vec<TopicRecord>, PortError> {
        if self.looked.elapsed() >= LOOK {
            self.look().await?;
        }
        if self.following.places.is_empty() {
            tokio::time::sleep(LOOK).await;
            return Ok(Vec::new());
        }
        let piece = self.following.next(LOOK, PIECE).await?;
        Ok(piece.into_iter().map(|(at, record)| TopicRecord { topic: self.held.name(at.topic), record }).collect())
    }
}

/// Records of a member's share for as long as the connection is open, from its committed positions on, as server-sent events named
/// `record` or, with `Accept: application/x-ndjson`, as lines of JSON. Nothing is committed by it: the client says what it has with
/// `POST .../commit`, which also keeps the member active. It ends when the member is one no more.
#[utoipa::path(operation_id = "streamAsMember", get, path = "/api/v1/readers/{name}/members/{member}/stream", tag = "readers",
    params(ReaderStreamQuery),
    responses((status = 200, content((TopicRecord = "text/event-stream"), ([TopicRecord] = "application/x-ndjson"))),
        (status = 404, body = Problem), (status = 429, body = Problem)))]
pub(crate) async fn stream_as_member(
    State(state): State<Arc<ServerState>>,
    Path((name, member)): Path<(String, Uuid)>,
    Query(query): Query<ReaderStreamQuery>,
    headers: HeaderMap,
) -> Result<Response, Refusal> {
    let name = ReaderName::parse(name)?;
    let permit = state.limits.stream()?;
    let share = state.database.share(&name, member).await?;
    let held = Held::of(&state, share.partitions.iter().map(|(at, _)| at.topic)).await?;
    let following = Following::new(state.clone(), share.partitions, query.raw);
    let reading = Reading { state, name, member, following, held, looked: Instant::now() };
    let pieces = stream::unfold(Some(reading), |reading| async move {
        let mut reading = reading?;
        match reading.next().await {
            // where it goes on is what was committed
            Ok(records) => {
                let records = records.into_iter().map(|record| (record, None)).collect();
                Some((Ok(Piece { records, cursor: None }), Some(reading)))
            }
            Err(error) => Some((Err(error), None)),
        }
    });
    Ok(answer(wants_lines(&headers), permit, pieces))
}
