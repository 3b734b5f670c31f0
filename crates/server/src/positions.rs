//! Where connectors stand, and setting that.

use std::collections::HashMap;
use std::sync::Arc;

use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use futures::{StreamExt, stream};
use gonvel_core::connector::{Definition, SourceDefinition, State as LaneState, Wish, may_load_so};
use gonvel_core::naming::{ConnectorId, Offset, TopicPartition};
use gonvel_core::ports::{Deed, FleetStore, PortError};
use gonvel_core::reposition::Move;
use gonvel_http_api::{
    Agreement, AgreementOutcome, BeginAnew, Connector, ConnectorPositions, HeldPlace, LogSpan, Moves, NamedQuery, Page,
    PagingQuery, PlanQuery, Problem, Reposition, SinkPosition, SourcePosition, Target,
};
use gonvel_runtime::history::{self, Disagreement, Judges};
use gonvel_storage::Database;
use gonvel_storage::catalog::connectors::Connector as Stored;

use crate::addressed::ConnectorAt;
use crate::connectors::{find, tagged};
use crate::listing::{Listed, Place, has};
use crate::plans::{self, OrPlan};
use crate::preflights;
use crate::problems::{Body, Query, Refusal};
use crate::reached::Reached;
use crate::readers::{Goal, Held, plan_of, planned, told};
use crate::revisions::Tagged;
use crate::standing::{move_to, stands};
use crate::state::ServerState;
use crate::who::Who;

/// Systems that are asked side by side: one that does not answer takes seconds.
const ASKED_AT_ONCE: usize = 16;

/// Where a connector stands that reads topics, by partition, in order.
async fn in_order(state: &ServerState, stored: &Stored) -> Result<Vec<(TopicPartition, Offset)>, Refusal> {
    let mut stands: Vec<_> = stands(state, stored).await?.into_iter().map(|(at, next)| (at, Offset(next))).collect();
    stands.sort_unstable();
    Ok(stands)
}

/// The partitions of which a sink's target has other records than the log, each with the offset up to which they agree.
async fn parted_of(state: &ServerState, stored: &Stored) -> Result<HashMap<TopicPartition, i64>, Refusal> {
    let Some(connection) = stored.definition.position_in() else { return Ok(HashMap::new()) };
    let address = state.database.address(connection).await?;
    let stands = state.reached().stands(&address, stored.id).await?;
    let parted = history::parted(&state.database, stands).await?;
    Ok(parted.into_iter().map(|parted| (parted.at, parted.agree_to)).collect())
}

/// Whether each connector goes on from where it stands, after Gonvel's own database was restored or another one took over: asked of its
/// system, as its lanes ask when they start. Nothing is changed.
#[utoipa::path(operation_id = "listAgreements", get, path = "/api/v1/agreements", tag = "connectors",
    params(NamedQuery, PagingQuery), responses((status = 200, body = Page<Agreement>)))]
pub(crate) async fn agreements(
    State(state): State<Arc<ServerState>>,
    Listed { which, paging }: Listed<NamedQuery>,
) -> Result<Json<Page<Agreement>>, Refusal> {
    let connectors = state.database.connectors().await?.into_iter().filter(|c| has(&c.name, which.search.as_ref()));
    let page = paging.page(connectors, which.descending, |c| Place::named(&c.name))?;
    let asked = page.items.into_iter().map(|stored| {
        let database = state.database.clone();
        async move { agreement(&database, stored).await }
    });
    let items = stream::iter(asked).buffered(ASKED_AT_ONCE).collect().await;
    Ok(Json(Page { items, next: page.next }))
}

async fn agreement(database: &Database, stored: Stored) -> Agreement {
    let errands = Reached(database.clone());
    let judges = Judges { log: database, fleet: database, errands: &errands };
    let (outcome, says) = match history::check(&judges, stored.id, &stored.definition).await {
        Ok(()) => (AgreementOutcome::Agrees, None),
        Err(Disagreement { finding, unknown: true }) => (AgreementOutcome::Unknown, Some(finding)),
        Err(Disagreement { finding, unknown: false }) => (AgreementOutcome::Differs, Some(finding)),
    };
    let kind = stored.definition.kind().to_owned();
    Agreement { connector: stored.id.0, name: stored.name, kind, outcome, says }
}

/// Where a connector stands: a sink in its topics, a source in its system's log.
#[utoipa::path(operation_id = "getPositions", get, path = "/api/v1/connectors/{connector}/positions", tag = "connectors",
    responses((status = 200, body = ConnectorPositions), (status = 404, body = Problem), (status = 502, body = Problem)))]
pub(crate) async fn positions(
    State(state): State<Arc<ServerState>>,
    ConnectorAt(id): ConnectorAt,
) -> Result<Json<ConnectorPositions>, Refusal> {
    let stored = state.database.find_connector(ConnectorId(id)).await?;
    if let (Definition::Source(_), Some(connection)) = (&stored.definition, stored.definition.connection()) {
        let address = state.database.address(connection).await?;
        let position = stored.said().find_map(|l| l.position.clone());
        let held = state.reached().place(&address, stored.id).await?.map(|place| HeldPlace {
            missing: position.clone().filter(|_| !place.kept).map(|from| LogSpan { from, to: place.end.clone() }),
            held_by: place.held_as,
            confirmed: place.confirmed,
            kept: place.kept,
            active: place.active,
            kept_bytes: place.kept_bytes,
            end: place.end,
        });
        let source = SourcePosition { position, held };
        return Ok(Json(ConnectorPositions { source: Some(source), partitions: Vec::new() }));
    }
    let stands = in_order(&state, &stored).await?;
    let held = Held::of(&state, stands.iter().map(|(at, _)| at.topic)).await?;
    // a lane that carries looked when it started
    let carries = stored.said().all(|l| matches!(l.state, LaneState::Following | LaneState::Loading));
    let parted = if carries { HashMap::new() } else { parted_of(&state, &stored).await? };
    let position = |(at, next): &(TopicPartition, Offset)| {
        let bounds = held.bounds.get(at)?;
        Some(SinkPosition {
            topic: held.name(at.topic),
            partition: at.partition.0,
            next_offset: next.0,
            first_offset: bounds.first.0,
            end_offset: bounds.next.0,
            waiting: (bounds.next.0 - next.0.max(bounds.first.0)).max(0),
            missed: (bounds.first.0 - next.0).max(0),
            agree_to: parted.get(at).copied(),
        })
    };
    Ok(Json(ConnectorPositions { source: None, partitions: stands.iter().filter_map(position).collect() }))
}

/// Whether nothing of a connector is at work, or why it is to be held first.
fn at_rest(stored: &Stored, halted_too: bool) -> Result<(), Refusal> {
    let rests = |state: LaneState| {
        matches!(state, LaneState::Paused | LaneState::Stopped | LaneState::Draft)
            || (halted_too && state == LaneState::Halted)
    };
    let asked = matches!(stored.wish, Wish::Pause | Wish::Stop) || halted_too && stored.wish == Wish::Run;
    if asked && stored.said().all(|l| rests(l.state)) {
        return Ok(());
    }
    Err(PortError::Refused(format!("{} is at work: pause or stop it first, and look again", stored.name)).into())
}

/// Moves a connector that reads topics and is paused or stopped. It has to be confirmed: a dry run shows what would be skipped or delivered
/// again in each partition, and its tag has exactly that carried out.
#[utoipa::path(operation_id = "moveConnector", post, path = "/api/v1/connectors/{connector}/positions", tag = "connectors", request_body = Reposition,
    params(PlanQuery),
    responses((status = 200, body = Moves), (status = 404, body = Problem), (status = 409, body = Problem),
        (status = 412, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn reposition(
    State(state): State<Arc<ServerState>>,
    ConnectorAt(id): ConnectorAt,
    who: Who,
    Query(query): Query<PlanQuery>,
    Body(request): Body<Reposition>,
) -> Result<OrPlan<Json<Moves>>, Refusal> {
    let decided = plans::decided(&query)?;
    let stored = state.database.find_connector(ConnectorId(id)).await?;
    if stored.definition.kind() == "source" {
        let detail = "a source stands where its system's log is kept for it: let it begin anew, or load tables again";
        return Err(PortError::Refused(detail.into()).into());
    }
    let stands = in_order(&state, &stored).await?;
    let held = Held::of(&state, stands.iter().map(|(at, _)| at.topic)).await?;
    let goal = match &request.target {
        Target::Agreed if stored.definition.position_in().is_some() => {
            let mut places: HashMap<_, _> = stands.iter().map(|(at, next)| (*at, next.0)).collect();
            places.extend(parted_of(&state, &stored).await?);
            Goal::Places(places)
        }
        target => Goal::of(&state, target, "target").await?,
    };
    let planned = planned(&state, &held, &stored.name, &stands, &request, &goal, decided.as_deref()).await?;
    let (plan, decided) = plan_of(&planned, &stored.name);
    let of = ("moveConnector", id, &request);
    if let Some(plan) = plans::settle(&query, plan, &of, decided)? {
        return Ok(OrPlan::Plan(plan));
    }
    at_rest(&stored, false)?;
    let moves: Vec<_> = planned.iter().map(|(at, _, m)| (*at, m.from, m.to)).collect();
    move_to(&state, &stored, &moves, matches!(request.target, Target::Agreed)).await?;
    let (skipped, repeated): (Vec<i64>, Vec<i64>) = planned.iter().map(|(.., m)| (m.skipped, m.repeated)).unzip();
    // forgotten before they were delivered: moving on accepts it
    let lost = |(at, _, m): &(TopicPartition, String, Move)| {
        let first = held.bounds.get(at).map_or(0, |bounds| bounds.first.0);
        (first.min(m.to.0) - m.from.0).max(0)
    };
    let lost: i64 = planned.iter().map(lost).sum();
    let lost = if lost > 0 { format!("; {lost} were forgotten before they were delivered") } else { String::new() };
    let detail = format!(
        "{} records skipped, {} to be delivered again, in {} partitions{lost}",
        skipped.iter().sum::<i64>(),
        repeated.iter().sum::<i64>(),
        planned.len()
    );
    let deed = Deed { connector: stored.id, who: &who.0, what: "moved", detail: Some(&detail) };
    state.database.note(deed).await?;
    Ok(OrPlan::Done(Json(told(&planned))))
}

/// Lets a source begin anew that is paused, stopped or halted: it gets a new place at the end of its system's log, and loads every
/// table again. That closes a gap which a lost slot left.
#[utoipa::path(operation_id = "beginAnew", post, path = "/api/v1/connectors/{connector}/begin-anew", tag = "connectors", request_body = BeginAnew,
    responses((status = 202, body = Connector), (status = 404, body = Problem), (status = 409, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn begin_anew(
    State(state): State<Arc<ServerState>>,
    ConnectorAt(id): ConnectorAt,
    who: Who,
    Body(request): Body<BeginAnew>,
) -> Result<(StatusCode, Tagged<Connector>), Refusal> {
    let stored = state.database.find_connector(ConnectorId(id)).await?;
    let Definition::Source(source) = &stored.definition else {
        return Err(PortError::Refused("what reads topics is moved to their start instead".into()).into());
    };
    may_load_so(source, request.existing_rows, |_| true).map_err(|e| Refusal::invalid("existing_rows", e.to_string()))?;
    let so = SourceDefinition { existing_rows: Some(request.existing_rows), ..source.clone() };
    preflights::can_do(&state, &so.into()).await?;
    at_rest(&stored, true)?;
    state.database.begin_anew(stored.id, request.existing_rows, &who.0).await?;
    state.nudge.notify_one();
    Ok((StatusCode::ACCEPTED, tagged(find(&state, id).await?)))
}
