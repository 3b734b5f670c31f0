//! Functions of one's own: kept by version, tried on their examples and on the rows of all that use them.

use std::collections::BTreeSet;
use std::sync::Arc;

use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use gonvel_core::civil::rfc3339;
use gonvel_core::connector::{Definition, Wish};
use gonvel_core::own_function::OwnFunction;
use gonvel_core::ports::PortError;
use gonvel_http_api::{
    FunctionDetail, FunctionEffect, FunctionEntry, FunctionRequest, FunctionUser, FunctionVersion, NamedQuery, Page,
    PagingQuery, Plan, PlanQuery, Problem, ProblemType, RowsFrom, TriedExample, TriedFunction,
};
use gonvel_shape::own::Own;
use gonvel_shape::own_tried::{self, Exampled};
use gonvel_shape::tools::Tools;
use gonvel_storage::catalog::connectors::Connector;
use gonvel_storage::catalog::functions::KeptFunction;

use crate::listing::{Listed, Place, has};
use crate::plans::{self, OrPlan};
use crate::problems::{Body, Path, Query, Refusal};
use crate::revisions::{IfMatch, IfMatchHeader, Tagged};
use crate::shapes::{compared_with, found};
use crate::state::ServerState;
use crate::who::Who;

/// Rows that a change is tried on, of each table or topic.
const ROWS: usize = 1_000;
/// Tables and topics that a change is tried on.
const MOST_EFFECTS: usize = 50;

fn version(kept: &KeptFunction) -> FunctionVersion {
    FunctionVersion {
        signature: kept.function.signature(),
        function: kept.function.clone(),
        version: kept.version,
        saved_by: kept.saved_by.clone(),
        saved_at: rfc3339(kept.saved_at.timestamp_micros()),
    }
}

/// All texts in a value, one after the other.
fn texts(value: &serde_json::Value, out: &mut Vec<String>) {
    match value {
        serde_json::Value::String(text) => out.push(text.clone()),
        serde_json::Value::Array(items) => items.iter().for_each(|item| texts(item, out)),
        serde_json::Value::Object(fields) => fields.values().for_each(|value| texts(value, out)),
        _ => {}
    }
}

/// Whether anything in a value calls a function, itself or by another.
fn calls(own: &Own, value: &impl serde::Serialize, name: &str) -> bool {
    let mut all = Vec::new();
    texts(&serde_json::to_value(value).unwrap_or_default(), &mut all);
    all.iter().any(|text| own.called_by(text).contains(name))
}

fn users<'c>(own: &Own, connectors: &'c [Connector], name: &str) -> Vec<&'c Connector> {
    connectors.iter().filter(|c| calls(own, c.definition.shape(), name)).collect()
}

fn entry(kept: &KeptFunction, own: &Own, all: &[KeptFunction], connectors: &[Connector]) -> FunctionEntry {
    let name = &kept.function.name;
    let user = |c: &Connector| FunctionUser { id: c.id.0, name: c.name.clone() };
    let callers = all
        .iter()
        .filter(|other| other.function.name != *name && own.called_by(&other.function.value).contains(name.as_str()));
    FunctionEntry {
        current: version(kept),
        used_by: users(own, connectors, name).into_iter().map(user).collect(),
        called_by: callers.map(|other| other.function.name.clone()).collect(),
    }
}

fn registry(all: &[KeptFunction]) -> Own {
    Own::of(all.iter().map(|kept| kept.function.clone()))
}

/// All functions with what uses them.
pub(crate) async fn all(state: &ServerState) -> Result<Vec<FunctionEntry>, Refusal> {
    let (all, connectors) = (state.database.kept_functions().await?, state.database.connectors().await?);
    let own = registry(&all);
    Ok(all.iter().map(|kept| entry(kept, &own, &all, &connectors)).collect())
}

/// Functions of one's own, with what uses them.
#[utoipa::path(operation_id = "listFunctions", get, path = "/api/v1/functions", tag = "shapes", params(NamedQuery, PagingQuery),
    responses((status = 200, body = Page<FunctionEntry>)))]
pub(crate) async fn list(
    State(state): State<Arc<ServerState>>,
    Listed { which, paging }: Listed<NamedQuery>,
) -> Result<Json<Page<FunctionEntry>>, Refusal> {
    let mut found = all(&state).await?;
    found.retain(|entry| has(&entry.current.function.name, which.search.as_ref()));
    Ok(Json(paging.page(found, which.descending, |entry| Place::named(&entry.current.function.name))?))
}

async fn detail(state: &ServerState, name: &str) -> Result<FunctionDetail, Refusal> {
    let versions = state.database.function_versions(name).await?;
    let (all, connectors) = (state.database.kept_functions().await?, state.database.connectors().await?);
    Ok(FunctionDetail {
        entry: entry(&versions[0], &registry(&all), &all, &connectors),
        versions: versions.iter().map(version).collect(),
    })
}

async fn tagged(state: &ServerState, name: &str) -> Result<Tagged<FunctionDetail>, Refusal> {
    let detail = detail(state, name).await?;
    Ok(Tagged(detail.entry.current.version, detail))
}

/// One function with its versions.
#[utoipa::path(operation_id = "getFunction", get, path = "/api/v1/functions/{name}", tag = "shapes",
    responses((status = 200, body = FunctionDetail), (status = 404, body = Problem)))]
pub(crate) async fn one(
    State(state): State<Arc<ServerState>>,
    Path(name): Path<String>,
) -> Result<Tagged<FunctionDetail>, Refusal> {
    tagged(&state, &name).await
}

/// Where the rows of a connector's shape come from, by what its steps are given by.
fn rows_of(definition: &Definition) -> Vec<(String, RowsFrom)> {
    match definition {
        Definition::Source(source) => source
            .tables
            .iter()
            .map(|table| {
                let from = RowsFrom::Table { connection: source.connection, table: table.clone() };
                (table.qualified(), from)
            })
            .collect(),
        Definition::Sink(_) | Definition::Topics(_) => definition
            .read_topics()
            .into_iter()
            .map(|read| (read.name, RowsFrom::Topic { topic: read.topic.to_owned(), rows: read.rows.cloned() }))
            .collect(),
    }
}

/// What a change does to the rows of all that use the function.
async fn effects(
    state: &ServerState,
    before: &Own,
    after: &Own,
    function: &OwnFunction,
) -> Result<Vec<FunctionEffect>, Refusal> {
    let connectors = state.database.connectors().await?;
    let mut out = Vec::new();
    for connector in users(after, &connectors, &function.name) {
        let shapes = connector.definition.shape();
        let by_rules = calls(after, &shapes.rules, &function.name);
        for (of, from) in rows_of(&connector.definition) {
            if out.len() == MOST_EFFECTS || !(by_rules || calls(after, &shapes.of(&of), &function.name)) {
                continue;
            }
            let (compared, finding) = match compared_with(state, &from, ROWS, (shapes, before), (shapes, after)).await {
                Ok(compared) => (Some(compared), None),
                Err(refusal) => (None, Some(refusal.detail())),
            };
            out.push(FunctionEffect { connector: connector.name.clone(), of, compared, finding });
        }
    }
    Ok(out)
}

async fn tried(state: &ServerState, all: &[KeptFunction], function: &OwnFunction) -> Result<TriedFunction, Refusal> {
    let before = registry(all);
    let after = before.clone().with(function.clone());
    let tools = Tools::new(state.trial_key.clone()).with(after.clone());
    let (findings, examples) = own_tried::tried(function, &tools);
    let effects = if findings.is_empty() { effects(state, &before, &after, function).await? } else { Vec::new() };
    let example = |e: Exampled| TriedExample { found: e.found, finding: e.finding, holds: e.holds };
    Ok(TriedFunction { findings: found(findings), examples: examples.into_iter().map(example).collect(), effects })
}

/// Tries a function: on its examples, and on the newest rows of all that use it. Nothing is saved.
#[utoipa::path(operation_id = "tryFunction", post, path = "/api/v1/functions/try", tag = "shapes", request_body = FunctionRequest,
    responses((status = 200, body = TriedFunction), (status = 422, body = Problem)))]
pub(crate) async fn try_function(
    State(state): State<Arc<ServerState>>,
    Body(request): Body<FunctionRequest>,
) -> Result<Json<TriedFunction>, Refusal> {
    let all = state.database.kept_functions().await?;
    Ok(Json(tried(&state, &all, &request.function).await?))
}

/// Saves a function's next version, once its examples hold and the shapes that use it still fit their rows. Connectors that use it are
/// started anew with it.
#[utoipa::path(operation_id = "saveFunction", put, path = "/api/v1/functions/{name}", tag = "shapes", request_body = FunctionRequest,
    params(IfMatchHeader),
    responses((status = 200, body = FunctionDetail), (status = 412, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn save(
    State(state): State<Arc<ServerState>>,
    Path(name): Path<String>,
    who: Who,
    at: IfMatch,
    Body(request): Body<FunctionRequest>,
) -> Result<Tagged<FunctionDetail>, Refusal> {
    let function = request.function;
    if function.name != name {
        let detail =
            format!("the function is called {} in its address and {} in itself: give one name", name, function.name);
        return Err(Refusal::invalid("name", detail));
    }
    let all = state.database.kept_functions().await?;
    // one that is not there needs no revision, and whoever names none means to make one
    let version = match all.iter().find(|kept| kept.function.name == name) {
        Some(_) if at == IfMatch::Unsaid => {
            return Err(PortError::Exists { what: format!("the function {name}") }.into());
        }
        Some(kept) => at.to_change(&format!("the function {name}"), kept.version)?,
        None => {
            at.holds(&format!("the function {name}"), 0)?;
            0
        }
    };
    let tried = tried(&state, &all, &function).await?;
    if let Some(finding) = tried.findings.first() {
        let text = match &finding.suggestion {
            Some(suggestion) => format!("{}; {suggestion}", finding.message),
            None => finding.message.clone(),
        };
        return Err(Refusal::invalid(&finding.field, text));
    }
    if let Some((number, example)) = tried.examples.iter().enumerate().find(|(_, e)| !e.holds) {
        let says = function.examples[number].gives.as_deref().unwrap_or("null");
        let gives = example.finding.as_deref().or(example.found.as_deref()).unwrap_or("null");
        let detail = format!("example {} gives {gives}, and says {says}: mend the expression or the example", number + 1);
        return Err(Refusal::invalid("examples", detail));
    }
    for effect in &tried.effects {
        let wrong = effect.compared.iter().flat_map(|c| &c.findings).find(|f| f.wrong);
        if let Some(finding) = wrong {
            let detail = format!(
                "{} would no longer fit, at {}: {}; change its shape first, or give this function another name",
                effect.connector, effect.of, finding.message
            );
            return Err(Refusal::invalid("value", detail));
        }
    }
    state.database.save_function(&name, version, Some(&function), &who.0).await?;
    let own = registry(&all).with(function);
    let connectors = state.database.connectors().await?;
    let using: Vec<_> = users(&own, &connectors, &name).into_iter().filter(|c| c.wish == Wish::Run).map(|c| c.id).collect();
    state.database.start_anew(&using).await?;
    state.nudge.notify_one();
    tagged(&state, &name).await
}

fn user_names(entry: &FunctionEntry) -> Vec<String> {
    let names = entry.used_by.iter().map(|user| &user.name).chain(&entry.called_by);
    names.cloned().collect::<BTreeSet<_>>().into_iter().collect()
}

fn unused(name: &str, used_by: &[String]) -> Result<(), Refusal> {
    if used_by.is_empty() {
        return Ok(());
    }
    let detail = format!("{name} is used by {}", used_by.join(", "));
    Err(Refusal::new(ProblemType::InUse, detail).remedied("change those first"))
}

/// Deletes a function that nothing uses.
pub(crate) async fn delete(state: &ServerState, name: &str, who: &Who) -> Result<(), Refusal> {
    let entry = detail(state, name).await?.entry;
    unused(name, &user_names(&entry))?;
    state.database.save_function(name, entry.current.version, None, &who.0).await?;
    Ok(())
}

/// Deletes a function that nothing uses.
#[utoipa::path(operation_id = "deleteFunction", delete, path = "/api/v1/functions/{name}", tag = "shapes", params(PlanQuery, IfMatchHeader),
    responses((status = 204), (status = 404, body = Problem), (status = 409, body = Problem), (status = 412, body = Problem)))]
pub(crate) async fn remove(
    State(state): State<Arc<ServerState>>,
    Path(name): Path<String>,
    Query(query): Query<PlanQuery>,
    at: IfMatch,
    who: Who,
) -> Result<OrPlan<StatusCode>, Refusal> {
    let entry = detail(&state, &name).await?.entry;
    let used_by = user_names(&entry);
    if !query.dry_run {
        unused(&name, &used_by)?;
    }
    let now = entry.current.version;
    at.holds(&format!("the function {name}"), now)?;
    let says = format!("{name} is deleted, and its versions with it.");
    let plan = Plan { needs_confirming: true, says: vec![says], against: used_by, ..Plan::default() };
    if let Some(plan) = plans::settle(&query, plan, &("deleteFunction", &name, now), Vec::new())? {
        return Ok(OrPlan::Plan(plan));
    }
    state.database.save_function(&name, now, None, &who.0).await?;
    Ok(OrPlan::Done(StatusCode::NO_CONTENT))
}
