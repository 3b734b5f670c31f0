//! Connections.

use std::sync::Arc;

use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use gonvel_core::civil::rfc3339;
use gonvel_core::installation::ConnectionText;
use gonvel_core::naming::ConnectionName;
use gonvel_core::ports::{DatabaseAddress, FleetStore, Login, TlsMode};
use gonvel_core::preflight::may_start;
use gonvel_core::secret::Secret;
use gonvel_http_api::{
    Connection, ConnectionRequest, Preflight, Problem, RowSample, SampleColumn, SampleRequest, SampleRow, SourceTable,
    SystemKind,
};
use gonvel_runtime::systems;
use gonvel_storage::catalog::connections::{self as stored, ConnectionInput};
use uuid::Uuid;

use crate::preflights;
use crate::problems::{Body, Path, Refusal};
use crate::state::ServerState;

fn present(connection: stored::Connection, used_by: Vec<String>) -> Connection {
    Connection {
        id: connection.id,
        name: connection.name,
        kind: connection.kind,
        host: connection.host,
        port: u16::try_from(connection.port).unwrap_or(0),
        database: connection.database,
        user: connection.username,
        tls: serde_json::from_value(connection.tls.into()).unwrap_or_default(),
        ca: connection.ca,
        log_user: connection.log_username,
        settings: serde_json::from_value(connection.settings).unwrap_or_default(),
        revision: connection.revision,
        created_at: rfc3339(connection.created_at.timestamp_micros()),
        used_by,
    }
}

/// What a manifest's address is refused for before anything is reached: the field, and why.
pub(crate) fn refused_address(text: &ConnectionText) -> Option<(String, String)> {
    // its kind is told with the others that are known
    let refusal = address(ConnectionRequest { kind: None, ..asked(text) }).err()?;
    Some((refusal.field().unwrap_or("host").to_owned(), refusal.detail()))
}

/// Whether a kept secret is not sent on to what a manifest says, or does not belong to it.
pub(crate) fn guards_less(before: &DatabaseAddress, text: &ConnectionText) -> bool {
    let now = address(asked(text)).ok();
    now.is_none_or(|now| less_guarded(before, &now).is_some() || before.log_login.is_none() && now.log_login.is_some())
}

/// What a manifest asks for, without its secrets.
pub(crate) fn asked(text: &ConnectionText) -> ConnectionRequest {
    ConnectionRequest {
        name: text.connection.clone(),
        kind: Some(text.kind.clone()),
        host: text.host.clone(),
        port: text.port,
        database: text.database.clone(),
        user: text.user.clone(),
        password: None,
        tls: text.tls,
        ca: text.ca.clone(),
        log_user: text.log_user.clone(),
        log_password: None,
        settings: text.settings.clone(),
    }
}

fn address(request: ConnectionRequest) -> Result<DatabaseAddress, Refusal> {
    let kinds = systems::kinds();
    if let Some(kind) = request.kind.as_ref().filter(|kind| !kinds.iter().any(|about| about.kind == kind.as_str())) {
        let known: Vec<&str> = kinds.iter().map(|about| about.kind.as_ref()).collect();
        return Err(Refusal::invalid("kind", format!("there is no kind {kind:?}: the kinds are {}", known.join(", "))));
    }
    for (field, value) in [("host", &request.host), ("database", &request.database), ("user", &request.user)] {
        if value.trim().is_empty() {
            return Err(Refusal::invalid(field, format!("the {field} is empty: fill it in")));
        }
    }
    // a path would be a socket of this machine, and some of the others begin another setting
    let of_a_host = |c: char| c.is_alphanumeric() || matches!(c, '.' | '-' | '_' | ':' | '%');
    if let Some(other) = request.host.chars().find(|c| !of_a_host(*c)) {
        let finding = format!("{other:?} stands in no host name or address: give one like db.orchard.example or 10.0.0.7");
        return Err(Refusal::invalid("host", finding));
    }
    if request.port == 0 {
        return Err(Refusal::invalid("port", "port 0 is no port: PostgreSQL's usual one is 5432"));
    }
    let named = |c: char| c.is_ascii_alphanumeric() || matches!(c, '_' | '.');
    if let Some(name) = request.settings.keys().find(|name| name.is_empty() || !name.chars().all(named)) {
        return Err(Refusal::invalid("settings", format!("{name:?} is no setting: give name=value, as in lock_timeout=5s")));
    }
    let ca = request.ca.filter(|pem| !pem.trim().is_empty());
    if let Some(pem) = &ca {
        systems::check_ca(pem)?;
    }
    let log_user = request.log_user.filter(|user| !user.trim().is_empty());
    let log_password = Secret::new(request.log_password.unwrap_or_default());
    Ok(DatabaseAddress {
        tls: request.tls,
        ca,
        log_login: log_user.map(|user| Login { user, password: log_password }),
        settings: request.settings,
        password: Secret::new(request.password.unwrap_or_default()),
        ..DatabaseAddress::new(&request.host, request.port, &request.database, &request.user, "")
    })
}

/// What of a changed address guards a kept password less than before; none if nothing does.
fn less_guarded(before: &DatabaseAddress, now: &DatabaseAddress) -> Option<&'static str> {
    let strength = |tls: TlsMode| match tls {
        TlsMode::Off => 0,
        TlsMode::Prefer => 1,
        TlsMode::Require => 2,
        TlsMode::Verify => 3,
    };
    if (&before.host, before.port) != (&now.host, now.port) {
        return Some("the address changed");
    }
    if before.database != now.database {
        return Some("the database changed");
    }
    if strength(now.tls) < strength(before.tls) {
        return Some("the encryption became weaker");
    }
    (before.tls == TlsMode::Verify && before.ca != now.ca).then_some("other certificates are trusted")
}

/// The kinds of systems that a connection can be to, with the settings of each.
#[utoipa::path(operation_id = "listKinds", get, path = "/api/v1/kinds", tag = "connections", responses((status = 200, body = [SystemKind])))]
pub(crate) async fn kinds() -> Json<Vec<SystemKind>> {
    Json(systems::kinds())
}

/// All connections.
#[utoipa::path(operation_id = "listConnections", get, path = "/api/v1/connections", tag = "connections", responses((status = 200, body = [Connection])))]
pub(crate) async fn list(State(state): State<Arc<ServerState>>) -> Result<Json<Vec<Connection>>, Refusal> {
    let connectors = state.database.connectors().await?;
    let connections = state.database.connections().await?.into_iter().map(|connection| {
        let users = connectors.iter().filter(|c| c.definition.connections().contains(&connection.id));
        let users = users.map(|c| c.name.clone()).collect();
        present(connection, users)
    });
    Ok(Json(connections.collect()))
}

/// Saves a connection, once the server was reached and logged in to with it.
#[utoipa::path(operation_id = "createConnection", post, path = "/api/v1/connections", tag = "connections", request_body = ConnectionRequest,
    responses((status = 201, body = Connection), (status = 409, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn create(
    State(state): State<Arc<ServerState>>,
    Body(request): Body<ConnectionRequest>,
) -> Result<(StatusCode, Json<Connection>), Refusal> {
    let name = ConnectionName::parse(request.name.clone())?;
    let input = ConnectionInput { name, address: address(request)? };
    let report = systems::test(&input.address).await;
    if !may_start(&report) {
        return Err(Refusal::preflight(report));
    }
    let made = state.database.create_connection(&input).await?;
    Ok((StatusCode::CREATED, Json(present(made, Vec::new()))))
}

/// Replaces a connection, once the server was reached and logged in to with it. Connectors that use it start anew with it.
#[utoipa::path(operation_id = "replaceConnection", put, path = "/api/v1/connections/{id}", tag = "connections", request_body = ConnectionRequest,
    responses((status = 200, body = Connection), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn replace(
    State(state): State<Arc<ServerState>>,
    Path(id): Path<Uuid>,
    Body(request): Body<ConnectionRequest>,
) -> Result<Json<Connection>, Refusal> {
    let name = ConnectionName::parse(request.name.clone())?;
    let keep_password = request.password.is_none();
    let keep_log_password = request.log_password.is_none();
    let mut address = address(request)?;
    if keep_password || (keep_log_password && address.log_login.is_some()) {
        let before = state.database.address(id).await?;
        if let Some(what) = less_guarded(&before, &address) {
            // whoever may change a connection could have its password sent to a server of their own
            let field = if keep_password { "password" } else { "log_password" };
            return Err(Refusal::invalid(
                field,
                format!("{what}, and a kept password is not sent on to what it was not given for: enter it again"),
            ));
        }
        if keep_password {
            address.password = before.password;
        }
        if let (true, Some(login), Some(before)) = (keep_log_password, &mut address.log_login, before.log_login) {
            login.password = before.password;
        }
    }
    let report = systems::test(&address).await;
    if !may_start(&report) {
        return Err(Refusal::preflight(report));
    }
    let made = state.database.replace_connection(id, &ConnectionInput { name, address }, keep_password).await?;
    let mut used_by = Vec::new();
    for connector in state.database.connectors().await? {
        if connector.definition.connections().contains(&id) {
            state.database.ask(connector.id, connector.wish, "").await?;
            used_by.push(connector.name);
        }
    }
    state.nudge.notify_one();
    Ok(Json(present(made, used_by)))
}

/// Deletes a connection that no connector uses.
#[utoipa::path(operation_id = "deleteConnection", delete, path = "/api/v1/connections/{id}", tag = "connections",
    responses((status = 204), (status = 404, body = Problem), (status = 409, body = Problem)))]
pub(crate) async fn remove(State(state): State<Arc<ServerState>>, Path(id): Path<Uuid>) -> Result<StatusCode, Refusal> {
    // those whose system it is the database knows of itself
    let connectors = state.database.connectors().await?;
    let mut lookups = connectors.iter().filter(|c| c.definition.connections().contains(&id));
    if let Some(connector) = lookups.find(|c| c.definition.connection() != Some(id)) {
        let detail = format!("{} looks up columns through the connection: take that lookup out first", connector.name);
        return Err(gonvel_core::ports::PortError::Refused(detail).into());
    }
    state.database.delete_connection(id).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Tries a connection that is not saved.
#[utoipa::path(operation_id = "testConnection", post, path = "/api/v1/connections/test", tag = "connections", request_body = ConnectionRequest,
    responses((status = 200, body = Preflight), (status = 422, body = Problem)))]
pub(crate) async fn test_new(Body(request): Body<ConnectionRequest>) -> Result<Json<Preflight>, Refusal> {
    let address = address(request)?;
    Ok(Json(preflights::present(preflights::timed(systems::test(&address)).await)))
}

/// Tries a saved connection.
#[utoipa::path(operation_id = "testSavedConnection", post, path = "/api/v1/connections/{id}/test", tag = "connections",
    responses((status = 200, body = Preflight), (status = 404, body = Problem)))]
pub(crate) async fn test_saved(
    State(state): State<Arc<ServerState>>,
    Path(id): Path<Uuid>,
) -> Result<Json<Preflight>, Refusal> {
    let address = state.database.address(id).await?;
    Ok(Json(preflights::present(preflights::timed(systems::test(&address)).await)))
}

/// The tables a connection's database has.
#[utoipa::path(operation_id = "listTables", get, path = "/api/v1/connections/{id}/tables", tag = "connections",
    responses((status = 200, body = [SourceTable]), (status = 404, body = Problem), (status = 502, body = Problem)))]
pub(crate) async fn tables(
    State(state): State<Arc<ServerState>>,
    Path(id): Path<Uuid>,
) -> Result<Json<Vec<SourceTable>>, Refusal> {
    let address = state.database.address(id).await?;
    let found = systems::list_tables(&address).await?.into_iter().map(|t| SourceTable {
        schema: t.schema,
        table: t.table,
        rows: t.rows,
        key: t.key,
        columns: t.columns,
    });
    Ok(Json(found.collect()))
}

/// A few rows of a table as they are now, and the records they would become.
#[utoipa::path(operation_id = "sampleRows", post, path = "/api/v1/connections/{id}/sample", tag = "connections", request_body = SampleRequest,
    responses((status = 200, body = RowSample), (status = 404, body = Problem), (status = 422, body = Problem), (status = 502, body = Problem)))]
pub(crate) async fn sample(
    State(state): State<Arc<ServerState>>,
    Path(id): Path<Uuid>,
    Body(request): Body<SampleRequest>,
) -> Result<Json<RowSample>, Refusal> {
    let address = state.database.address(id).await?;
    let table = request.table.clone();
    let sample = systems::sample(&address, &table, request.values).await?;
    let columns = sample.columns.into_iter().map(|c| SampleColumn {
        name: c.name,
        source_type: c.source_type,
        key: c.key,
        captured: c.captured,
    });
    let rows = sample.rows.into_iter().map(|r| SampleRow { cells: r.cells, key: r.key, value: r.value, bytes: r.bytes });
    Ok(Json(RowSample { columns: columns.collect(), rows: rows.collect() }))
}
