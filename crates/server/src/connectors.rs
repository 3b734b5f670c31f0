//! Connectors.

use std::sync::Arc;

use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use gonvel_core::connector::{Definition, ValidConnector, Wish};
use gonvel_core::naming::{ConnectorId, ConnectorName};
use gonvel_core::ports::PortError;
use gonvel_http_api::{Action, ActionRequest, Connector, ConnectorRequest, Problem, ReloadRequest};
use uuid::Uuid;

use crate::preflights;
use crate::presenting;
use crate::problems::{Body, Refusal};
use crate::state::ServerState;

pub(crate) async fn all(state: &ServerState) -> Result<Vec<Connector>, Refusal> {
    let systems: std::collections::HashMap<Uuid, String> =
        state.database.connections().await?.into_iter().map(|c| (c.id, c.name)).collect();
    let connectors = state.database.connectors().await?;
    let present = |c: &gonvel_storage::catalog::connectors::Connector| {
        presenting::connector(c, systems.get(&c.definition.connection()).cloned().unwrap_or_default())
    };
    Ok(connectors.iter().map(present).collect())
}

pub(crate) async fn find(state: &ServerState, id: Uuid) -> Result<Connector, Refusal> {
    let found = state.database.find_connector(ConnectorId(id)).await?;
    let system = state.database.find_connection(found.definition.connection()).await?;
    Ok(presenting::connector(&found, system.name))
}

/// All connectors and how they are doing.
#[utoipa::path(operation_id = "listConnectors", get, path = "/api/v1/connectors", tag = "connectors", responses((status = 200, body = [Connector])))]
pub(crate) async fn list(State(state): State<Arc<ServerState>>) -> Result<Json<Vec<Connector>>, Refusal> {
    all(&state).await.map(Json)
}

/// Saves a connector and, if asked to, starts it; it is not saved if its preflight then fails.
#[utoipa::path(operation_id = "createConnector", post, path = "/api/v1/connectors", tag = "connectors", request_body = ConnectorRequest,
    responses((status = 201, body = Connector), (status = 409, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn create(
    State(state): State<Arc<ServerState>>,
    Body(request): Body<ConnectorRequest>,
) -> Result<(StatusCode, Json<Connector>), Refusal> {
    let id = ConnectorId(Uuid::now_v7());
    let definition = presenting::asked_definition(&request.definition);
    let connector = ValidConnector::check(id, ConnectorName::parse(request.name)?, definition)?;
    if state.database.connectors().await?.iter().any(|c| c.name == connector.name().as_str()) {
        let taken = PortError::Exists { what: format!("the connector {}", connector.name()) };
        return Err(taken.into());
    }
    let report = if request.start { Some(preflights::check(&state, connector.definition(), None).await?) } else { None };
    if let Some(report) = report.as_ref().filter(|r| !r.ready()) {
        return Err(Refusal::preflight(report.checks.clone()));
    }
    state.database.create_connector(&connector, if request.start { Wish::Run } else { Wish::Draft }).await?;
    if let Some(report) = &report {
        state.database.keep_report(id, report).await?;
    }
    state.nudge.notify_one();
    Ok((StatusCode::CREATED, Json(find(&state, id.0).await?)))
}

/// One connector.
#[utoipa::path(operation_id = "getConnector", get, path = "/api/v1/connectors/{id}", tag = "connectors",
    responses((status = 200, body = Connector), (status = 404, body = Problem)))]
pub(crate) async fn one(State(state): State<Arc<ServerState>>, Path(id): Path<Uuid>) -> Result<Json<Connector>, Refusal> {
    find(&state, id).await.map(Json)
}

/// Deletes a connector. Its replication slot, publication and positions are removed first; its topics and the rows it
/// delivered stay.
#[utoipa::path(operation_id = "deleteConnector", delete, path = "/api/v1/connectors/{id}", tag = "connectors",
    responses((status = 202, body = Connector), (status = 404, body = Problem)))]
pub(crate) async fn remove(
    State(state): State<Arc<ServerState>>,
    Path(id): Path<Uuid>,
) -> Result<(StatusCode, Json<Connector>), Refusal> {
    state.database.ask(ConnectorId(id), Wish::Delete).await?;
    state.nudge.notify_one();
    Ok((StatusCode::ACCEPTED, Json(find(&state, id).await?)))
}

/// Starts or pauses a connector. Starting one that halted tries again; what does not run must pass its preflight first.
#[utoipa::path(operation_id = "actOnConnector", post, path = "/api/v1/connectors/{id}/actions", tag = "connectors", request_body = ActionRequest,
    responses((status = 200, body = Connector), (status = 404, body = Problem), (status = 409, body = Problem)))]
pub(crate) async fn act(
    State(state): State<Arc<ServerState>>,
    Path(id): Path<Uuid>,
    Body(request): Body<ActionRequest>,
) -> Result<Json<Connector>, Refusal> {
    let connector = state.database.find_connector(ConnectorId(id)).await?;
    if request.action == Action::Start && connector.wish != Wish::Run {
        let report = preflights::check(&state, &connector.definition, Some(connector.id)).await?;
        state.database.keep_report(connector.id, &report).await?;
        if !report.ready() {
            return Err(Refusal::preflight(report.checks));
        }
    }
    let wish = if request.action == Action::Start { Wish::Run } else { Wish::Pause };
    state.database.ask(connector.id, wish).await?;
    state.nudge.notify_one();
    find(&state, id).await.map(Json)
}

/// Loads tables of a source again from their start, beside what is being followed. Their rows are appended to their topics as
/// loads; whoever reads them applies them by key.
#[utoipa::path(operation_id = "loadAgain", post, path = "/api/v1/connectors/{id}/reload", tag = "connectors", request_body = ReloadRequest,
    responses((status = 202, body = Connector), (status = 404, body = Problem), (status = 409, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn load_again(
    State(state): State<Arc<ServerState>>,
    Path(id): Path<Uuid>,
    Body(request): Body<ReloadRequest>,
) -> Result<(StatusCode, Json<Connector>), Refusal> {
    let connector = state.database.find_connector(ConnectorId(id)).await?;
    let Definition::Source(source) = &connector.definition else {
        return Err(
            PortError::Refused("a sink has no table to load: load it in the source that writes its topics".into()).into()
        );
    };
    if connector.wish == Wish::Draft {
        return Err(PortError::Refused("the connector has not started yet: starting it loads its tables".into()).into());
    }
    if request.tables.is_empty() {
        return Err(Refusal::invalid("tables", "no table is named: name at least one, as schema.table"));
    }
    let found = connector.lanes.iter().flat_map(|l| l.tables.keys());
    let known: std::collections::HashSet<String> =
        source.tables.iter().map(gonvel_core::connector::CapturedTable::qualified).chain(found.cloned()).collect();
    let captured = |name: &String| known.contains(name);
    if let Some(unknown) = request.tables.iter().find(|name| !captured(name)) {
        return Err(Refusal::invalid("tables", format!("{} does not capture a table {unknown}", connector.name)));
    }
    state.database.ask_to_load_again(connector.id, &request.tables).await?;
    state.database.start_anew(&[connector.id]).await?;
    state.nudge.notify_one();
    Ok((StatusCode::ACCEPTED, Json(find(&state, id).await?)))
}
