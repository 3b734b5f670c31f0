//! Connections.

use std::collections::BTreeMap;
use std::sync::Arc;

use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use gonvel_core::civil::rfc3339;
use gonvel_core::kinds::Setting;
use gonvel_core::naming::ConnectionName;
use gonvel_core::ports::systems::Kind;
use gonvel_core::ports::{Address, FleetStore};
use gonvel_core::preflight::may_start;
use gonvel_core::secret::Secret;
use gonvel_http_api::{
    Connection, ConnectionRequest, ConnectionsQuery, NamedQuery, Page, PagingQuery, Plan, PlanQuery, Preflight, Problem,
    ProblemType, RowSample, SampleColumn, SampleRequest, SampleRow, SourceTable, SystemKind,
};
use gonvel_manifests::ConnectionText;
use gonvel_runtime::systems;
use gonvel_storage::Database;
use gonvel_storage::catalog::connections::{self as stored, ConnectionInput};
use gonvel_storage::catalog::connectors::Connector;
use serde_json::Value;
use uuid::Uuid;

use crate::addressed::ConnectionAt;
use crate::creating::{Creating, KeyHeader, made_id};
use crate::listing::{Listed, Place, Unfiltered, has};
use crate::plans::{self, OrPlan};
use crate::preflights;
use crate::problems::{Body, Query, Refusal};
use crate::revisions::{IfMatch, IfMatchHeader, Tagged};
use crate::state::ServerState;

fn present(connection: stored::Connection, used_by: Vec<String>) -> Connection {
    let address = connection.address();
    let kind = systems::kind(&address.kind).ok();
    let mut settings = address.settings.clone();
    // what was not said is as usual
    for setting in kind.iter().flat_map(|kind| kind.about().settings).filter(|setting| !setting.secret) {
        if let (Some(usual), false) = (setting.usual_value(), settings.contains_key(setting.name.as_ref())) {
            settings.insert(setting.name.to_string(), usual);
        }
    }
    Connection {
        kept_secrets: connection.kept_secrets(),
        id: connection.id,
        name: connection.name,
        place: kind.map(|kind| kind.place(&address)).unwrap_or_default(),
        usual_schema: kind.and_then(|kind| kind.about().usual_schema).map(Into::into),
        kind: connection.kind,
        settings,
        revision: connection.revision,
        created_at: rfc3339(connection.created_at.timestamp_micros()),
        used_by,
    }
}

/// What a manifest's address is refused for before anything is reached: the field, and why.
pub(crate) fn refused_address(text: &ConnectionText) -> Option<(String, String)> {
    let refusal = address(&asked(text)).err()?;
    Some((refusal.field().unwrap_or("kind").to_owned(), refusal.detail()))
}

/// Whether a kept secret is not sent on to what a manifest says, or does not belong to it.
pub(crate) fn guards_less(before: &Address, text: &ConnectionText) -> bool {
    let Ok((kind, now)) = address(&asked(text)) else { return true };
    let about = kind.about();
    let comes = |s: &Setting| s.secret && about.in_force(s, &now.settings) && !about.in_force(s, &before.settings);
    kind.guards_less(before, &now).is_some() || about.settings.iter().any(comes)
}

/// What a manifest asks for, without its secrets.
pub(crate) fn asked(text: &ConnectionText) -> ConnectionRequest {
    ConnectionRequest { name: text.connection.clone(), kind: Some(text.kind.clone()), settings: text.plain() }
}

/// How a system is reached, as its kind reads it.
fn address(request: &ConnectionRequest) -> Result<(&'static dyn Kind, Address), Refusal> {
    let kind = match &request.kind {
        Some(word) => systems::kind(word)?,
        None => systems::first_kind(),
    };
    let secret = |value: &Value| match value {
        Value::String(secret) => Ok(Secret::new(secret.clone())),
        _ => Err("a secret is text".to_owned()),
    };
    let about = kind.about();
    let read = about.read(&request.settings, secret).map_err(|faults| {
        let first = faults.into_iter().next();
        first.map_or_else(|| Refusal::invalid("kind", "it cannot be read"), |f| Refusal::invalid(&f.setting, f.finding))
    })?;
    let address =
        Address { kind: about.kind.into_owned(), settings: read.plain, secrets: read.secrets, keys: BTreeMap::new() };
    kind.check(&address)?;
    Ok((kind, address))
}

/// The kinds of systems that a connection can be to, with the settings of each.
#[utoipa::path(operation_id = "listKinds", get, path = "/api/v1/kinds", tag = "connections", params(PagingQuery),
    responses((status = 200, body = Page<SystemKind>)))]
pub(crate) async fn kinds(Listed { paging, .. }: Listed<Unfiltered>) -> Result<Json<Page<SystemKind>>, Refusal> {
    Ok(Json(paging.page_in_order(systems::kinds())?))
}

/// All connections with what uses them.
pub(crate) async fn all(state: &ServerState) -> Result<Vec<Connection>, Refusal> {
    let connectors = state.database.connectors().await?;
    let connections = state.database.connections().await?.into_iter();
    let with_users = connections.map(|connection| {
        let used_by = users(&connectors, connection.id);
        present(connection, used_by)
    });
    Ok(with_users.collect())
}

/// Connections.
#[utoipa::path(operation_id = "listConnections", get, path = "/api/v1/connections", tag = "connections",
    params(ConnectionsQuery, PagingQuery), responses((status = 200, body = Page<Connection>)))]
pub(crate) async fn list(
    State(state): State<Arc<ServerState>>,
    Listed { which, paging }: Listed<ConnectionsQuery>,
) -> Result<Json<Page<Connection>>, Refusal> {
    let mut connections = all(&state).await?;
    let kind = which.kind.as_ref();
    connections.retain(|c| has(&c.name, which.search.as_ref()) && kind.is_none_or(|kind| c.kind == *kind));
    Ok(Json(paging.page(connections, which.descending, |connection| Place::named(&connection.name))?))
}

/// One connection.
#[utoipa::path(operation_id = "getConnection", get, path = "/api/v1/connections/{connection}", tag = "connections",
    responses((status = 200, body = Connection), (status = 404, body = Problem)))]
pub(crate) async fn one(
    State(state): State<Arc<ServerState>>,
    ConnectionAt(id): ConnectionAt,
) -> Result<Tagged<Connection>, Refusal> {
    find(&state, id).await
}

async fn find(state: &ServerState, id: Uuid) -> Result<Tagged<Connection>, Refusal> {
    let connection = state.database.find_connection(id).await?;
    let used_by = users(&state.database.connectors().await?, id);
    Ok(Tagged(connection.revision, present(connection, used_by)))
}

/// The connectors that reach their system, or a table that they look rows up in, through a connection.
fn users(connectors: &[Connector], connection: Uuid) -> Vec<String> {
    connectors.iter().filter(|c| c.definition.connections().contains(&connection)).map(|c| c.name.clone()).collect()
}

/// Saves a connection, once the server was reached and logged in to with it.
#[utoipa::path(operation_id = "createConnection", post, path = "/api/v1/connections", tag = "connections", request_body = ConnectionRequest, params(KeyHeader),
    responses((status = 201, body = Connection), (status = 409, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn create(
    State(state): State<Arc<ServerState>>,
    Creating(creation, request): Creating<ConnectionRequest>,
) -> Result<(StatusCode, Tagged<Connection>), Refusal> {
    let make = async |database: &Database| {
        let name = ConnectionName::parse(request.name.clone())?;
        let (_, address) = address(&request)?;
        let input = ConnectionInput { name, address };
        let report = state.reached().test(&input.address).await;
        if !may_start(&report) {
            return Err(Refusal::preflight(report));
        }
        Ok(database.create_connection(&input).await?.id.to_string())
    };
    creation.make(&state, make, async |id| find(&state, made_id(&id)?).await).await
}

/// Replaces a connection, once the server was reached and logged in to with it. Connectors that use it start anew with it.
#[utoipa::path(operation_id = "replaceConnection", put, path = "/api/v1/connections/{connection}", tag = "connections", request_body = ConnectionRequest,
    params(IfMatchHeader),
    responses((status = 200, body = Connection), (status = 404, body = Problem), (status = 409, body = Problem), (status = 412, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn replace(
    State(state): State<Arc<ServerState>>,
    ConnectionAt(id): ConnectionAt,
    at: IfMatch,
    Body(request): Body<ConnectionRequest>,
) -> Result<Tagged<Connection>, Refusal> {
    let now = state.database.find_connection(id).await?;
    let revision = at.to_change(&format!("the connection {}", now.name), now.revision)?;
    let name = ConnectionName::parse(request.name.clone())?;
    let (kind, mut address) = address(&request)?;
    let before = state.database.address(id).await?;
    if before.kind != address.kind {
        let finding = format!("it is a connection of kind {}: make one of another kind under another name", before.kind);
        return Err(Refusal::invalid("kind", finding));
    }
    let about = kind.about();
    for setting in about.settings.iter().filter(|s| s.secret && about.in_force(s, &address.settings)) {
        let name = setting.name.as_ref();
        // one that is given empty is none
        let Some(kept) = before.secrets.get(name).filter(|_| !request.settings.contains_key(name)) else { continue };
        if let Some(what) = kind.guards_less(&before, &address) {
            // whoever may change a connection could have its secret sent to a server of their own
            return Err(Refusal::invalid(
                name,
                format!("{what}, and a kept {name} is not sent on to what it was not given for: enter it again"),
            ));
        }
        address.secrets.insert(name.to_owned(), kept.clone());
    }
    let report = state.reached().test(&address).await;
    if !may_start(&report) {
        return Err(Refusal::preflight(report));
    }
    let made = state.database.replace_connection(id, revision, &ConnectionInput { name, address }).await?;
    let mut used_by = Vec::new();
    for connector in state.database.connectors().await? {
        if connector.definition.connections().contains(&id) {
            state.database.ask(connector.id, connector.wish, "").await?;
            used_by.push(connector.name);
        }
    }
    state.nudge.notify_one();
    Ok(Tagged(made.revision, present(made, used_by)))
}

fn unused(name: &str, used_by: &[String]) -> Result<(), Refusal> {
    if used_by.is_empty() {
        return Ok(());
    }
    let detail = format!("the connection {name} is used by {}", used_by.join(", "));
    Err(Refusal::new(ProblemType::InUse, detail).remedied("delete those first, or take their lookups through it out"))
}

/// Deletes a connection that nothing uses.
pub(crate) async fn delete(state: &ServerState, id: Uuid) -> Result<(), Refusal> {
    let name = state.database.find_connection(id).await?.name;
    unused(&name, &users(&state.database.connectors().await?, id))?;
    Ok(state.database.delete_connection(id).await?)
}

/// Deletes a connection that no connector uses.
#[utoipa::path(operation_id = "deleteConnection", delete, path = "/api/v1/connections/{connection}", tag = "connections", params(PlanQuery, IfMatchHeader),
    responses((status = 204), (status = 404, body = Problem), (status = 409, body = Problem), (status = 412, body = Problem)))]
pub(crate) async fn remove(
    State(state): State<Arc<ServerState>>,
    ConnectionAt(id): ConnectionAt,
    Query(query): Query<PlanQuery>,
    at: IfMatch,
) -> Result<OrPlan<StatusCode>, Refusal> {
    let now = state.database.find_connection(id).await?;
    at.holds(&format!("the connection {}", now.name), now.revision)?;
    let used_by = users(&state.database.connectors().await?, id);
    if !query.dry_run {
        unused(&now.name, &used_by)?;
    }
    let says =
        format!("{} is deleted, and the secrets that are kept for it with it. The system itself is not touched.", now.name);
    let plan = Plan { needs_confirming: true, says: vec![says], against: used_by, ..Plan::default() };
    if let Some(plan) = plans::settle(&query, plan, &("deleteConnection", id, now.revision), Vec::new())? {
        return Ok(OrPlan::Plan(plan));
    }
    state.database.delete_connection(id).await?;
    Ok(OrPlan::Done(StatusCode::NO_CONTENT))
}

/// Tries a connection that is not saved.
#[utoipa::path(operation_id = "testConnection", post, path = "/api/v1/connections/test", tag = "connections", request_body = ConnectionRequest,
    responses((status = 200, body = Preflight), (status = 422, body = Problem)))]
pub(crate) async fn test_new(
    State(state): State<Arc<ServerState>>,
    Body(request): Body<ConnectionRequest>,
) -> Result<Json<Preflight>, Refusal> {
    let (_, address) = address(&request)?;
    Ok(Json(preflights::present(preflights::timed(state.reached().test(&address)).await)))
}

/// Tries a saved connection.
#[utoipa::path(operation_id = "testSavedConnection", post, path = "/api/v1/connections/{connection}/test", tag = "connections",
    responses((status = 200, body = Preflight), (status = 404, body = Problem)))]
pub(crate) async fn test_saved(
    State(state): State<Arc<ServerState>>,
    ConnectionAt(id): ConnectionAt,
) -> Result<Json<Preflight>, Refusal> {
    let address = state.database.address(id).await?;
    Ok(Json(preflights::present(preflights::timed(state.reached().test(&address)).await)))
}

/// The tables a connection's database has.
#[utoipa::path(operation_id = "listTables", get, path = "/api/v1/connections/{connection}/tables", tag = "connections",
    params(NamedQuery, PagingQuery),
    responses((status = 200, body = Page<SourceTable>), (status = 404, body = Problem), (status = 502, body = Problem)))]
pub(crate) async fn tables(
    State(state): State<Arc<ServerState>>,
    ConnectionAt(id): ConnectionAt,
    Listed { which, paging }: Listed<NamedQuery>,
) -> Result<Json<Page<SourceTable>>, Refusal> {
    let address = state.database.address(id).await?;
    let mut tables = state.reached().tables(&address).await?;
    tables.retain(|t| has(&t.table, which.search.as_ref()));
    let page = paging.page(tables, which.descending, |t| Place::told(&t.schema, &t.table))?;
    Ok(Json(page.map(|t| SourceTable { schema: t.schema, table: t.table, rows: t.rows, key: t.key, columns: t.columns })))
}

/// A few rows of a table as they are now, and the records they would become.
#[utoipa::path(operation_id = "sampleRows", post, path = "/api/v1/connections/{connection}/sample", tag = "connections", request_body = SampleRequest,
    responses((status = 200, body = RowSample), (status = 404, body = Problem), (status = 422, body = Problem), (status = 502, body = Problem)))]
pub(crate) async fn sample(
    State(state): State<Arc<ServerState>>,
    ConnectionAt(id): ConnectionAt,
    Body(request): Body<SampleRequest>,
) -> Result<Json<RowSample>, Refusal> {
    let address = state.database.address(id).await?;
    let table = request.table.clone();
    let sample = state.reached().sample(&address, &table, request.values).await?;
    let columns = sample.columns.into_iter().map(|c| SampleColumn {
        name: c.name,
        source_type: c.source_type,
        key: c.key,
        captured: c.captured,
    });
    let rows = sample.rows.into_iter().map(|r| SampleRow { cells: r.cells, key: r.key, value: r.value, bytes: r.bytes });
    Ok(Json(RowSample { columns: columns.collect(), rows: rows.collect() }))
}
