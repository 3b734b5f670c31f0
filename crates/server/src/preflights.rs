//! Preflights: what a connector needs, checked for one that is being built, kept with one that is saved.

use std::collections::HashMap;
use std::sync::Arc;
use std::time::Instant;

use axum::Json;
use axum::extract::State;
use gonvel_core::civil::rfc3339;
use gonvel_core::connector::{Definition, ReadTopic, ValidConnector};
use gonvel_core::delivered::{self, Nulls};
use gonvel_core::loops::System;
use gonvel_core::naming::{ConnectorId, ConnectorName, TopicName};
use gonvel_core::ports::{Address, FleetStore, PortError, TopicLog};
use gonvel_core::preflight::{Check, KeptReport, Report};
use gonvel_core::record_form::ReadForm;
use gonvel_core::table::TableSchema;
use gonvel_http_api::{ConnectorRequest, MendRequest, Preflight, Problem, ProblemType};
use gonvel_runtime::systems;
use gonvel_shape::lookups::cannot_be_read;
use uuid::Uuid;

use crate::addressed::ConnectorAt;
use crate::event_rows::{form, newest_rows};
use crate::existing;
use crate::problems::{Body, Refusal, checks};
use crate::records::newest_changes;
use crate::shapes::{context, fits};
use crate::state::ServerState;

/// Runs checks and notes when, and how long they took.
pub(crate) async fn timed(checking: impl Future<Output = Report>) -> KeptReport {
    let start = Instant::now();
    let checks = checking.await;
    let took_ms = u64::try_from(start.elapsed().as_millis()).unwrap_or(u64::MAX);
    KeptReport { at_us: chrono::Utc::now().timestamp_micros(), took_ms, checks }
}

pub(crate) fn present(report: KeptReport) -> Preflight {
    Preflight { ready: report.ready(), took_ms: report.took_ms, at: rfc3339(report.at_us), checks: checks(report.checks) }
}

/// The kind of the system that a connector reaches, by its word; none if it reaches none.
pub(crate) async fn kind_of(state: &ServerState, definition: &Definition) -> Result<Option<String>, Refusal> {
    Ok(match definition.connection() {
        Some(connection) => Some(state.database.find_connection(connection).await?.kind),
        None => None,
    })
}

/// Looks whether the kind of a connector's system can do what it is to do.
pub(crate) async fn can_do(state: &ServerState, definition: &Definition) -> Result<(), Refusal> {
    let kind = kind_of(state, definition).await?;
    match kind.as_deref().and_then(|kind| systems::unable(kind, definition).into_iter().next()) {
        Some(error) => Err(error.into()),
        None => Ok(()),
    }
}

/// Looks whether a source's system has rows to load.
pub(crate) async fn can_load(state: &ServerState, definition: &Definition) -> Result<(), Refusal> {
    let Some(kind) = kind_of(state, definition).await? else { return Ok(()) };
    let about = systems::kind(&kind)?.about();
    if about.source.as_ref().is_some_and(|source| source.loads) {
        return Ok(());
    }
    Err(Refusal::invalid(
        "tables",
        format!("a system of the kind {} has no rows to load: they come as they are made", about.name),
    ))
}

/// Checks what a connector needs; one that is saved is given with its id.
pub(crate) async fn check(
    state: &ServerState,
    definition: &Definition,
    connector: Option<ConnectorId>,
) -> Result<KeptReport, Refusal> {
    check_shaped(state, definition, connector, None).await
}

/// The same, as if a topic's rows already had another shape.
pub(crate) async fn check_shaped(
    state: &ServerState,
    definition: &Definition,
    connector: Option<ConnectorId>,
    other: Option<(String, TableSchema)>,
) -> Result<KeptReport, Refusal> {
    let address = match definition.connection() {
        Some(connection) => Some(state.database.address(connection).await?),
        None => None,
    };
    let mut shapes = shapes(state, definition).await?;
    shapes.extend(other);
    let mut shaped = shaped(state, definition, address.as_ref(), &mut shapes).await?;
    shaped.extend(crate::fitting::checks(state, definition, &shapes).await?);
    let connections = state.database.connections().await?;
    let systems: HashMap<Uuid, System> = connections.into_iter().map(|c| (c.id, systems::place(&c.address()))).collect();
    let others = state.database.connectors().await?.into_iter().filter(|c| Some(c.id) != connector).map(|c| {
        let system = c.definition.connection().and_then(|id| systems.get(&id)).cloned().unwrap_or_default();
        (c.name, system, c.definition)
    });
    let others = others.collect();
    let nulls = nulls(state, definition).await?;
    let begun = existing::begun(state, connector).await?;
    let there = existing::checks(state, definition, address.as_ref(), &begun).await?;
    let errands = state.reached();
    let asked = systems::Asked {
        errands: &*errands,
        definition,
        connector,
        address: address.as_ref(),
        shapes,
        begun,
        nulls,
        others,
    };
    let mut report = timed(systems::preflight(&asked)).await;
    report.checks.extend(shaped);
    report.checks.extend(there);
    Ok(report)
}

/// Records of a topic that are looked at for nulls.
const LOOKED_AT: usize = 1_000;

/// What is null in the newest records of the topics that a sink delivers as they are.
async fn nulls(state: &ServerState, definition: &Definition) -> Result<HashMap<String, Nulls>, Refusal> {
    let mut nulls = HashMap::new();
    let Definition::Sink(sink) = definition else { return Ok(nulls) };
    for of_topic in sink.topics.iter().filter(|t| sink.shape.is_nothing_for(&t.name())) {
        let topic = match state.database.topic(&TopicName::parse(of_topic.topic.as_str())?).await {
            Ok(topic) => topic,
            Err(PortError::NotFound { .. }) => continue,
            Err(error) => return Err(error.into()),
        };
        if let Some(rows) = &of_topic.rows {
            let (batch, _) = newest_rows(state, &topic, rows, LOOKED_AT).await?;
            nulls.insert(of_topic.name(), delivered::nulls(&batch));
            continue;
        }
        if let Ok(newest) = newest_changes(state, &topic, LOOKED_AT).await? {
            nulls.insert(topic.name.as_str().to_owned(), delivered::nulls(&newest.batch));
        }
    }
    Ok(nulls)
}

/// Works the shape out for every table or topic whose columns are known: what it makes of them takes their place, and what is
/// wrong is a check that failed.
async fn shaped(
    state: &ServerState,
    definition: &Definition,
    address: Option<&Address>,
    tables: &mut HashMap<String, TableSchema>,
) -> Result<Vec<Check>, Refusal> {
    if definition.shape().is_nothing() {
        return Ok(Vec::new());
    }
    tables.extend(captured(state, definition, address).await);
    let (context, unread) = context(state, definition.shape()).await?;
    let mut checks = Vec::new();
    for (table, why) in unread {
        let check = Check::failed("shape", "shape", cannot_be_read(&table)).means("nothing can be looked up in it");
        checks.push(check.remedy(why));
    }
    for (name, table) in tables.iter_mut() {
        match fits(&Arc::new(table.clone()), definition.shape(), name, &context) {
            Ok(output) => table.clone_from(&output),
            Err(finding) => {
                let remedy = finding.suggestion.clone().unwrap_or_else(|| "change the step".to_owned());
                let finding = gonvel_shape::finding::Finding { suggestion: None, ..finding };
                let check = Check::failed("shape", "shape", format!("{name}, {finding}"))
                    .means("its rows could not be shaped")
                    .remedy(remedy);
                checks.push(check);
            }
        }
    }
    if checks.is_empty() {
        checks.push(Check::passed("shape", "every step fits the columns that come"));
    }
    Ok(checks)
}

/// The columns of what a connector shapes: of a source's tables, or of the topics that are read.
pub(crate) async fn inputs(state: &ServerState, definition: &Definition) -> Result<HashMap<String, TableSchema>, Refusal> {
    let address = match definition {
        Definition::Source(source) => Some(state.database.address(source.connection).await?),
        Definition::Sink(_) | Definition::Topics(_) => None,
    };
    let mut inputs = shapes(state, definition).await?;
    inputs.extend(captured(state, definition, address.as_ref()).await);
    Ok(inputs)
}

/// The columns of a source's tables; one that is not there is another check's finding.
async fn captured(state: &ServerState, definition: &Definition, address: Option<&Address>) -> Vec<(String, TableSchema)> {
    let mut tables = Vec::new();
    if let (Definition::Source(source), Some(address)) = (definition, address) {
        for table in &source.tables {
            if let Ok(shape) = state.reached().describe(address, table).await {
                tables.push((table.qualified(), shape));
            }
        }
    }
    tables
}

/// The shapes of captured rows in the topics that a sink is to deliver.
pub(crate) async fn shapes(state: &ServerState, definition: &Definition) -> Result<HashMap<String, TableSchema>, Refusal> {
    let mut shapes = HashMap::new();
    for ReadTopic { name, topic, rows, .. } in definition.read_topics() {
        if let Some(rows) = rows {
            shapes.insert(name, (**form(topic, rows)?.table()).clone());
            continue;
        }
        let versions = state.database.schemas_of(&TopicName::parse(topic)?).await?;
        let latest = versions.iter().rev().find(|v| v.role == "value");
        if let Some(form) = latest.and_then(|v| ReadForm::from_value_text(&v.text).ok()) {
            shapes.insert(topic.to_owned(), (**form.table()).clone());
        }
    }
    Ok(shapes)
}

fn valid(request: ConnectorRequest) -> Result<Definition, Refusal> {
    let definition = request.definition.clone();
    // a connector that is being built may have no name yet
    let name = if request.name.is_empty() { "unnamed".to_owned() } else { request.name };
    let connector = ValidConnector::check(ConnectorId(Uuid::nil()), ConnectorName::parse(name)?, definition)?;
    Ok(connector.definition().clone())
}

/// Checks what a connector would need, without saving it.
#[utoipa::path(operation_id = "preflightConnector", post, path = "/api/v1/connectors/preflight", tag = "connectors", request_body = ConnectorRequest,
    responses((status = 200, body = Preflight), (status = 422, body = Problem)))]
pub(crate) async fn of_unsaved(
    State(state): State<Arc<ServerState>>,
    Body(request): Body<ConnectorRequest>,
) -> Result<Json<Preflight>, Refusal> {
    Ok(Json(present(check(&state, &valid(request)?, None).await?)))
}

/// Carries out the remedy of a check that the connection's own login may carry out, and checks again. The statement is the one
/// of a report made now; what the caller knows of it is only the check's name.
#[utoipa::path(operation_id = "mendConnector", post, path = "/api/v1/connectors/preflight/mend", tag = "connectors", request_body = MendRequest,
    responses((status = 200, body = Preflight), (status = 409, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn mend(
    State(state): State<Arc<ServerState>>,
    Body(request): Body<MendRequest>,
) -> Result<Json<Preflight>, Refusal> {
    let definition = valid(request.connector)?;
    let report = check(&state, &definition, None).await?.checks;
    let statement = report.into_iter().find(|c| c.name == request.check && c.can_be_done).and_then(|c| c.statement);
    let statement = statement.ok_or_else(|| {
        let detail =
            format!("the check {:?} has nothing that could be done from here now: look at the new report", request.check);
        Refusal::new(ProblemType::NothingToMend, detail)
    })?;
    let nowhere = || Refusal::invalid("definition", "a connector between topics has no system to mend");
    let address = state.database.address(definition.connection().ok_or_else(nowhere)?).await?;
    state.reached().mend(&address, statement).await?;
    Ok(Json(present(check(&state, &definition, None).await?)))
}

/// The report of a connector's last preflight.
#[utoipa::path(operation_id = "getConnectorPreflight", get, path = "/api/v1/connectors/{connector}/preflight", tag = "connectors",
    responses((status = 200, body = Option<Preflight>), (status = 404, body = Problem)))]
pub(crate) async fn kept(
    State(state): State<Arc<ServerState>>,
    ConnectorAt(id): ConnectorAt,
) -> Result<Json<Option<Preflight>>, Refusal> {
    Ok(Json(state.database.report(ConnectorId(id)).await?.map(present)))
}

/// Checks again what a connector needs, and keeps the report.
#[utoipa::path(operation_id = "checkConnector", post, path = "/api/v1/connectors/{connector}/preflight", tag = "connectors",
    responses((status = 200, body = Preflight), (status = 404, body = Problem)))]
pub(crate) async fn again(
    State(state): State<Arc<ServerState>>,
    ConnectorAt(id): ConnectorAt,
) -> Result<Json<Preflight>, Refusal> {
    let connector = state.database.find_connector(ConnectorId(id)).await?;
    let report = check(&state, &connector.definition, Some(connector.id)).await?;
    state.database.keep_report(connector.id, &report).await?;
    Ok(Json(present(report)))
}
