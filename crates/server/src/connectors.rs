//! Connectors.

use std::collections::HashMap;
use std::sync::Arc;

use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use gonvel_core::connector::State as LaneState;
use gonvel_core::connector::{Definition, ValidConnector, Wish, may_load_so};
use gonvel_core::naming::{ConnectorId, ConnectorName};
use gonvel_core::ports::{Deed, FleetStore, PortError};
use gonvel_core::produce::time;
use gonvel_http_api::{
    Action, ActionOutcome, ActionRequest, Connector, ConnectorOrder, ConnectorRequest, ConnectorsQuery, ManyActions,
    ObjectKind, Operation, OperationKind, Page, PagingQuery, Plan, PlanQuery, Problem, ProblemType, ReloadRequest,
    RemainsQuery,
};
use gonvel_runtime::systems;
use gonvel_storage::Database;
use gonvel_storage::catalog::connectors::Connector as Stored;
use gonvel_storage::operations::NewOperation;
use serde_json::json;
use uuid::Uuid;

use crate::addressed::ConnectorAt;
use crate::creating::{Creating, Creation, KeyHeader, made_id};
use crate::drafts;
use crate::listing::{Listed, Place, has};
use crate::operations::{self, Begun, subject, word};
use crate::plans::{self, OrPlan, counted};
use crate::preflights;
use crate::presenting;
use crate::problems::{Body, Query, Refusal};
use crate::revisions::{IfMatch, IfMatchHeader, Tagged};
use crate::state::ServerState;
use crate::topic_users::uses;
use crate::who::Who;

/// Those of the given connectors that are there, as they are doing; all where none are given.
pub(crate) async fn among(state: &ServerState, ids: Option<&[ConnectorId]>) -> Result<Vec<Connector>, Refusal> {
    presented(state, state.database.connectors_among(ids).await?).await
}

async fn presented(state: &ServerState, connectors: Vec<Stored>) -> Result<Vec<Connector>, Refusal> {
    let systems: HashMap<Uuid, (String, String)> =
        state.database.connections().await?.into_iter().map(|c| (c.id, (c.name, c.kind))).collect();
    let quarantined = state.database.quarantine_counts().await?;
    let present = |c: &Stored| {
        let system = c.definition.connection().and_then(|id| systems.get(&id));
        let system = system.map(|(name, kind)| (name.as_str(), kind.as_str()));
        presenting::connector(c, system, quarantined.get(&c.id.0).copied().unwrap_or(0))
    };
    Ok(connectors.iter().map(present).collect())
}

pub(crate) async fn find(state: &ServerState, id: Uuid) -> Result<Connector, Refusal> {
    let found = state.database.find_connector(ConnectorId(id)).await?;
    let system = match found.definition.connection() {
        Some(connection) => Some(state.database.find_connection(connection).await?),
        None => None,
    };
    let system = system.as_ref().map(|c| (c.name.as_str(), c.kind.as_str()));
    let quarantined = state.database.quarantine_counts().await?.get(&id).copied().unwrap_or(0);
    Ok(presenting::connector(&found, system, quarantined))
}

/// Connectors and how they are doing.
#[utoipa::path(operation_id = "listConnectors", get, path = "/api/v1/connectors", tag = "connectors", params(ConnectorsQuery, PagingQuery),
    responses((status = 200, body = Page<Connector>)))]
pub(crate) async fn list(
    State(state): State<Arc<ServerState>>,
    Listed { which, paging }: Listed<ConnectorsQuery>,
) -> Result<Json<Page<Connector>>, Refusal> {
    let mut stored = state.database.connectors().await?;
    stored.retain(|c| {
        has(&c.name, which.search.as_ref())
            && which.kind.is_none_or(|kind| drafts::word(kind) == c.definition.kind())
            && which.topic.as_ref().is_none_or(|topic| uses(c, topic))
    });
    let mut connectors = presented(&state, stored).await?;
    // what only shows when they are presented
    connectors.retain(|c| {
        which.state.is_none_or(|state| state == c.condition.state)
            && which.system.as_ref().is_none_or(|system| *system == c.system)
    });
    let place = |c: &Connector| match which.order {
        ConnectorOrder::Name => Place::named(&c.name),
        ConnectorOrder::CreatedAt => Place::numbered(time(&c.created_at).unwrap_or_default(), &c.name),
        ConnectorOrder::LatencyMs => Place::measured(c.latency_ms, &c.name),
        ConnectorOrder::LagMs => Place::measured(c.lag_ms, &c.name),
        ConnectorOrder::Quarantined => Place::numbered(c.quarantined, &c.name),
    };
    Ok(Json(match which.order {
        ConnectorOrder::LatencyMs | ConnectorOrder::LagMs => paging.page_moving(connectors, which.descending, place)?,
        _ => paging.page(connectors, which.descending, place)?,
    }))
}

/// Saves a connector and, if asked to, starts it. It is not saved if it is to be started or checked and its preflight fails.
#[utoipa::path(operation_id = "createConnector", post, path = "/api/v1/connectors", tag = "connectors", request_body = ConnectorRequest, params(KeyHeader),
    responses((status = 201, body = Connector), (status = 409, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn create(
    State(state): State<Arc<ServerState>>,
    who: Who,
    Creating(creation, request): Creating<ConnectorRequest>,
) -> Result<(StatusCode, Tagged<Connector>), Refusal> {
    let make = async |database: &Database| make(&state, database, request, &who).await;
    creation.make(&state, make, async |id| Ok(tagged(find(&state, made_id(&id)?).await?))).await
}

async fn make(state: &ServerState, database: &Database, request: ConnectorRequest, who: &Who) -> Result<String, Refusal> {
    let id = ConnectorId(Uuid::now_v7());
    let definition = request.definition.clone();
    let connector = ValidConnector::check(id, ConnectorName::parse(request.name)?, definition)?;
    if state.database.connectors().await?.iter().any(|c| c.name == connector.name().as_str()) {
        let taken = PortError::Exists { what: format!("the connector {}", connector.name()) };
        return Err(taken.into());
    }
    preflights::can_do(state, connector.definition()).await?;
    let report = if request.start || request.checked {
        Some(preflights::check(state, connector.definition(), None).await?)
    } else {
        None
    };
    if let Some(report) = report.as_ref().filter(|r| !r.ready()) {
        return Err(Refusal::preflight(report.checks.clone()));
    }
    let wish = if request.start { Wish::Run } else { Wish::Draft };
    database.create_from_draft(&connector, wish, &who.0, request.draft).await?;
    if let Some(report) = &report {
        state.database.keep_report(id, report).await?;
    }
    state.nudge.notify_one();
    Ok(id.to_string())
}

/// A connector with the version of its definition.
pub(crate) fn tagged(connector: Connector) -> Tagged<Connector> {
    Tagged(connector.version, connector)
}

/// One connector.
#[utoipa::path(operation_id = "getConnector", get, path = "/api/v1/connectors/{connector}", tag = "connectors",
    responses((status = 200, body = Connector), (status = 404, body = Problem)))]
pub(crate) async fn one(
    State(state): State<Arc<ServerState>>,
    ConnectorAt(id): ConnectorAt,
) -> Result<Tagged<Connector>, Refusal> {
    find(&state, id).await.map(tagged)
}

/// Deletes a connector, as an operation. What it left in its system (a replication slot, a publication, positions) is removed first, or
/// with `leave_remains` stays there and is listed; its topics and the rows it delivered stay.
#[utoipa::path(operation_id = "deleteConnector", delete, path = "/api/v1/connectors/{connector}", tag = "connectors", params(PlanQuery, RemainsQuery, IfMatchHeader, KeyHeader),
    responses((status = 202, body = Operation), (status = 404, body = Problem), (status = 412, body = Problem)))]
pub(crate) async fn remove(
    State(state): State<Arc<ServerState>>,
    ConnectorAt(id): ConnectorAt,
    who: Who,
    Query(query): Query<PlanQuery>,
    Query(RemainsQuery { leave_remains }): Query<RemainsQuery>,
    at: IfMatch,
    creation: Creation,
) -> Result<OrPlan<Begun>, Refusal> {
    let planned = async || {
        let stored = state.database.find_connector(ConnectorId(id)).await?;
        at.holds(&format!("the connector {}", stored.name), stored.version)?;
        let remains = if leave_remains { remains(&state, &stored).await? } else { Vec::new() };
        let plan = delete_plan(&state, &stored, leave_remains, &remains).await?;
        let of = ("deleteConnector", id, stored.version, leave_remains);
        Ok::<_, Refusal>((plans::settle(&query, plan, &of, Vec::new())?, stored, remains))
    };
    if query.dry_run {
        return planned().await?.0.map(OrPlan::Plan).ok_or_else(plans::changed);
    }
    // whoever asks once more may find it gone by now: looked at only where this is not known already
    let begun = operations::begin(&state, creation, async |database| {
        let (_, stored, remains) = planned().await?;
        let says = if leave_remains {
            format!("Deletes {} and leaves in its system what it left there", stored.name)
        } else {
            format!("Removes {} from its system and deletes it", stored.name)
        };
        let new = NewOperation {
            kind: word(OperationKind::Delete),
            says: &says,
            who: &who.0,
            subject: subject(ObjectKind::Connector, Some(id), &stored.name),
            connector: Some(stored.id),
            total: Some(1),
            result: json!({ "remains": remains }),
        };
        let id = database.ask_to_delete(stored.id, leave_remains, &new).await?;
        state.nudge.notify_one();
        Ok(id)
    });
    Ok(OrPlan::Done(begun.await?))
}

/// Has a connector deleted as soon as it has left its system.
pub(crate) async fn delete(state: &ServerState, id: ConnectorId, who: &str) -> Result<(), Refusal> {
    state.database.ask(id, Wish::Delete, who).await?;
    state.nudge.notify_one();
    Ok(())
}

/// What a connector left in its system, each in a few words.
async fn remains(state: &ServerState, stored: &Stored) -> Result<Vec<String>, Refusal> {
    let Some(connection) = stored.definition.connection() else { return Ok(Vec::new()) };
    let address = state.database.address(connection).await?;
    Ok(systems::remains(&stored.definition, &address, stored.id)?)
}

/// What deleting a connector takes.
async fn delete_plan(
    state: &ServerState,
    stored: &Stored,
    leave_remains: bool,
    remains: &[String],
) -> Result<Plan, Refusal> {
    let mut says = Vec::new();
    if leave_remains && let Some(connection) = stored.definition.connection() {
        let system = state.database.find_connection(connection).await?.name;
        says.push(format!("{} is deleted without asking {system} for anything.", stored.name));
        says.extend(remains.iter().map(|left| format!("There stays: {left}.")));
    } else if let Some(connection) = stored.definition.connection() {
        let system = state.database.find_connection(connection).await?.name;
        says.push(match stored.definition.kind() {
            "source" => format!(
                "{} is deleted, and its place in {system} with it: a new source starts with a load of all rows.",
                stored.name
            ),
            _ => format!(
                "{} is deleted, and its positions in {system} with it; the rows that it delivered stay.",
                stored.name
            ),
        });
    } else {
        says.push(format!("{} is deleted, and its positions with it; the records that it wrote stay.", stored.name));
    }
    let waiting = state.database.quarantine_counts().await?.get(&stored.id.0).copied().unwrap_or(0);
    if waiting > 0 {
        says.push(format!("It forgets {} waiting in quarantine.", counted(waiting, "record")));
    }
    Ok(Plan { needs_confirming: true, says, records: waiting, ..Plan::default() })
}

/// Starts, pauses, stops a connector, or starts its lanes anew. Starting one that halted tries again; what does not run must pass
/// its preflight first.
#[utoipa::path(operation_id = "actOnConnector", post, path = "/api/v1/connectors/{connector}/actions", tag = "connectors", request_body = ActionRequest,
    responses((status = 200, body = Connector), (status = 404, body = Problem), (status = 409, body = Problem)))]
pub(crate) async fn act(
    State(state): State<Arc<ServerState>>,
    ConnectorAt(id): ConnectorAt,
    who: Who,
    Body(request): Body<ActionRequest>,
) -> Result<Tagged<Connector>, Refusal> {
    let connector = state.database.find_connector(ConnectorId(id)).await?;
    if request.lane.is_some() && request.action != Action::Restart {
        return Err(Refusal::invalid(
            "lane",
            "a lane is started anew, or all of them; the connector is started, paused and stopped",
        ));
    }
    carry_out(&state, &connector, request, &who).await?;
    state.nudge.notify_one();
    find(&state, id).await.map(tagged)
}

/// What an action comes to with a connector as it is; none if it changes nothing.
fn would(connector: &Stored, action: Action) -> Option<&'static str> {
    const SOURCE_WAITS: &str = "its system keeps its log for it meanwhile, on its own disk";
    const SINK_WAITS: &str = "records wait in their topics meanwhile, as long as those keep them";
    let halted = connector.said().any(|l| matches!(l.state, LaneState::Halted | LaneState::Retrying));
    let waits = if connector.definition.kind() == "source" { SOURCE_WAITS } else { SINK_WAITS };
    match (action, connector.wish) {
        (_, Wish::Delete) => None,
        (Action::Start, Wish::Run) if halted => Some("tries again at once, from where it stands"),
        (Action::Start, Wish::Run) => None,
        (Action::Start, Wish::Draft) => Some("is checked and starts for the first time"),
        (Action::Start, _) => Some("is checked and goes on where it stands"),
        (Action::Pause, Wish::Run) => Some(waits),
        (Action::Pause, Wish::Stop) => Some("is held by a runner again, without moving anything"),
        (Action::Pause, _) => None,
        (Action::Stop, Wish::Run) => Some(waits),
        (Action::Stop, Wish::Pause) => Some("is held by no runner any more; its place is kept"),
        (Action::Stop, _) => None,
        (Action::Restart, Wish::Run) => Some("starts anew where it stands; nothing is lost or doubled"),
        (Action::Restart, _) => None,
    }
}

async fn carry_out(state: &ServerState, connector: &Stored, request: ActionRequest, who: &Who) -> Result<(), Refusal> {
    if request.action == Action::Start && connector.wish != Wish::Run {
        let report = preflights::check(state, &connector.definition, Some(connector.id)).await?;
        state.database.keep_report(connector.id, &report).await?;
        if !report.ready() {
            return Err(Refusal::preflight(report.checks));
        }
    }
    let wish = match request.action {
        Action::Start => Wish::Run,
        Action::Pause => Wish::Pause,
        Action::Stop => Wish::Stop,
        Action::Restart => {
            if connector.wish != Wish::Run {
                return Err(PortError::Refused("the connector does not run: start it".into()).into());
            }
            return Ok(state.database.restart(connector.id, request.lane, &who.0).await?);
        }
    };
    if connector.wish == Wish::Draft && matches!(wish, Wish::Pause | Wish::Stop) {
        return Err(PortError::Refused("the connector is a draft and does not run: there is nothing to hold".into()).into());
    }
    Ok(state.database.ask(connector.id, wish, &who.0).await?)
}

/// Acts on several connectors. One that refuses leaves the others alone.
#[utoipa::path(operation_id = "actOnConnectors", post, path = "/api/v1/connectors/actions", tag = "connectors", request_body = ManyActions,
    params(PlanQuery),
    responses((status = 200, body = [ActionOutcome]), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn act_on_many(
    State(state): State<Arc<ServerState>>,
    who: Who,
    Query(query): Query<PlanQuery>,
    Body(request): Body<ManyActions>,
) -> Result<OrPlan<Json<Vec<ActionOutcome>>>, Refusal> {
    let all = state.database.connectors().await?;
    if plans::looked_at(&query) {
        let outcomes = outcomes(&state, &all, &request, None).await?;
        let changes = outcomes.iter().filter(|one| one.changes).count();
        let says = vec![format!("It changes {changes} of {} connectors.", outcomes.len())];
        // how it does changes all the time, what it is to do only by someone's wish
        let wishes: Vec<_> = outcomes.iter().map(|one| (one.connector, one.changes)).collect();
        let plan = Plan { says, outcomes, ..Plan::default() };
        if let Some(plan) = plans::settle(&query, plan, &("actOnConnectors", &request, wishes), Vec::new())? {
            return Ok(OrPlan::Plan(plan));
        }
    }
    let out = outcomes(&state, &all, &request, Some(&who)).await?;
    state.nudge.notify_one();
    Ok(OrPlan::Done(Json(out)))
}

/// What an action does to each of several connectors; where someone does it, how that went.
async fn outcomes(
    state: &ServerState,
    all: &[Stored],
    request: &ManyActions,
    who: Option<&Who>,
) -> Result<Vec<ActionOutcome>, Refusal> {
    let mut out = Vec::with_capacity(request.connectors.len());
    for id in &request.connectors {
        let connector = all.iter().find(|c| c.id.0 == *id);
        let connector = connector.ok_or_else(|| PortError::NotFound { what: format!("connector {id}") })?;
        let would = would(connector, request.action);
        let refused = match who.filter(|_| would.is_some()) {
            None => None,
            Some(who) => {
                let one = ActionRequest { action: request.action, lane: None };
                carry_out(state, connector, one, who).await.err().map(|refusal| refusal.detail())
            }
        };
        out.push(ActionOutcome {
            connector: *id,
            name: connector.name.clone(),
            state: presenting::connector(connector, None, 0).condition.state,
            says: would.unwrap_or("stays as it is").into(),
            changes: would.is_some(),
            refused,
        });
    }
    Ok(out)
}

/// Loads tables of a source again from their start, beside what is being followed, as an operation. Their rows are appended to their topics as
/// loads; whoever reads them applies them by key.
#[utoipa::path(operation_id = "loadAgain", post, path = "/api/v1/connectors/{connector}/reload", tag = "connectors", request_body = ReloadRequest, params(KeyHeader),
    responses((status = 202, body = Operation), (status = 404, body = Problem), (status = 409, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn load_again(
    State(state): State<Arc<ServerState>>,
    ConnectorAt(id): ConnectorAt,
    who: Who,
    Creating(creation, request): Creating<ReloadRequest>,
) -> Result<Begun, Refusal> {
    operations::begin(&state, creation, async |database| {
        let connector = state.database.find_connector(ConnectorId(id)).await?;
        let Definition::Source(source) = &connector.definition else {
            return Err(PortError::Refused(
                "a sink has no table to load: load it in the source that writes its topics".into(),
            )
            .into());
        };
        if connector.wish == Wish::Draft {
            return Err(PortError::Refused("the connector has not started yet: starting it loads its tables".into()).into());
        }
        if request.tables.is_empty() {
            return Err(Refusal::invalid("tables", "no table is named: name at least one, as schema.table"));
        }
        let found = connector.found().map(|(name, _)| name);
        let known: std::collections::HashSet<String> =
            source.tables.iter().map(gonvel_core::connector::CapturedTable::qualified).chain(found.cloned()).collect();
        let captured = |name: &String| known.contains(name);
        if let Some(unknown) = request.tables.iter().find(|name| !captured(name)) {
            return Err(Refusal::invalid("tables", format!("{} does not capture a table {unknown}", connector.name)));
        }
        let loaded = |name: &str| request.tables.iter().any(|table| table == name);
        may_load_so(source, request.existing_rows, loaded).map_err(|e| Refusal::invalid("existing_rows", e.to_string()))?;
        preflights::can_load(&state, &connector.definition).await?;
        let says = format!("Loads {} of {} again", request.tables.join(", "), connector.name);
        let new = NewOperation {
            kind: word(OperationKind::LoadAgain),
            says: &says,
            who: &who.0,
            subject: subject(ObjectKind::Connector, Some(id), &connector.name),
            connector: Some(connector.id),
            total: None,
            result: json!({}),
        };
        let (tables, existing) = (&request.tables, request.existing_rows);
        let begun = database.ask_to_load_again_as(connector.id, tables, existing, Some(&new)).await?;
        let tables = format!("{}: {}", tables.join(", "), existing.told());
        let deed = Deed { connector: connector.id, who: &who.0, what: "asked to load again", detail: Some(&tables) };
        state.database.note(deed).await?;
        state.database.start_anew(&[connector.id]).await?;
        state.nudge.notify_one();
        begun.ok_or_else(|| Refusal::new(ProblemType::Failed, "the operation did not begin"))
    })
    .await
}
