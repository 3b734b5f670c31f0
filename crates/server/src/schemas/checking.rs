//! What a text would be as a schema's next version: whether it keeps the rule, and what changes.

use std::sync::Arc;

use axum::Json;
use axum::extract::State;
use gonvel_core::naming::{SchemaName, TopicName};
use gonvel_core::ports::PortError;
use gonvel_core::schemas::{self as core, Language, Misfit, Parsed, Standalone};
use gonvel_http_api::{
    DifferenceQuery, Page, PagingQuery, Problem, ProblemType, SchemaBreach, SchemaDifference, SchemaFault, SchemaMisfit,
    SchemaReference, SchemaText, SchemaVerdict,
};
use gonvel_storage::catalog::schemas::{StoredSchema, StoredVersion};

use crate::listing::Listed;
use crate::problems::{Body, Path, Refusal};
use crate::state::ServerState;

/// Parses a text; a fault is told with line and column.
pub(super) async fn parsed(
    state: &ServerState,
    language: Language,
    text: &str,
    refers: &[SchemaReference],
) -> Result<Standalone, Refusal> {
    let references = state.database.schema_references(refers).await?;
    let text = text.to_owned();
    // a long text is work for the processor: the threads that answer requests must not wait for it
    let parsed = tokio::task::spawn_blocking(move || core::parse(language, &text, &references));
    let parsed = parsed.await.map_err(|e| PortError::TryAgain { during: "reading a schema", cause: Box::new(e) })?;
    parsed.map_err(|fault| {
        let refusal = Refusal::new(ProblemType::SchemaText, fault.to_string());
        refusal.with_fault("text", &fault_of(fault))
    })
}

fn fault_of(fault: core::TextFault) -> SchemaFault {
    SchemaFault { line: fault.line, column: fault.column, finding: fault.finding }
}

fn misfits(misfits: Vec<Misfit>) -> Vec<SchemaMisfit> {
    let one = |m: Misfit| SchemaMisfit {
        path: m.path,
        rule: m.rule.to_owned(),
        finding: m.finding,
        remedy: m.remedy,
        unknown: m.unknown,
    };
    misfits.into_iter().map(one).collect()
}

pub(super) fn differences(earlier: &Parsed, later: &Parsed) -> Vec<SchemaDifference> {
    let one = |d: core::Difference| SchemaDifference {
        breaks: d.breaks().map(str::to_owned),
        path: d.change.path,
        words: d.change.words,
        past_reads: misfits(d.past_reads),
        reads_past: misfits(d.reads_past),
    };
    core::differences(earlier, later).into_iter().map(one).collect()
}

pub(super) fn readable(language: Language, version: &StoredVersion) -> Result<Parsed, Refusal> {
    core::parse_standalone(language, &version.standalone)
        .map_err(|e| Refusal::invalid("version", format!("version {} cannot be read: {e}", version.version)))
}

/// Whether two texts are one, however they are laid out.
fn says_the_same(one: &str, other: &str) -> bool {
    let json = |text: &str| serde_json::from_str::<serde_json::Value>(text).ok();
    one == other || json(one).is_some_and(|one| json(other) == Some(one))
}

/// Checks a text as a schema's next version, without registering it.
#[utoipa::path(operation_id = "checkSchema", post, path = "/api/v1/schemas/{name}/check", tag = "schemas", request_body = SchemaText,
    responses((status = 200, body = SchemaVerdict), (status = 404, body = Problem)))]
pub(crate) async fn check(
    State(state): State<Arc<ServerState>>,
    Path(name): Path<String>,
    Body(request): Body<SchemaText>,
) -> Result<Json<SchemaVerdict>, Refusal> {
    let (stored, versions) = state.database.schema(&SchemaName::parse(name)?).await?;
    let references = state.database.schema_references(&request.references).await?;
    // comparing is work for the processor: the threads that answer requests must not wait for it
    let verdict = tokio::task::spawn_blocking(move || verdict(&stored, &versions, &request.text, &references));
    Ok(Json(verdict.await.map_err(|e| PortError::TryAgain { during: "comparing schemas", cause: Box::new(e) })??))
}

fn verdict(
    stored: &StoredSchema,
    versions: &[StoredVersion],
    text: &str,
    references: &[core::Reference],
) -> Result<SchemaVerdict, Refusal> {
    let mut verdict =
        SchemaVerdict { passes: false, fault: None, same_as: None, breaches: Vec::new(), differences: Vec::new() };
    let new = match core::parse(stored.language, text, references) {
        Ok(new) => {
            // with other references the same text says something else
            let same = |v: &&StoredVersion| says_the_same(&v.text, text) && says_the_same(&v.standalone, &new.text);
            verdict.same_as = versions.iter().find(same).map(|v| v.version);
            new.parsed
        }
        Err(fault) => {
            verdict.fault = Some(fault_of(fault));
            return Ok(verdict);
        }
    };
    let earlier =
        versions.iter().map(|v| Ok((v.version, readable(stored.language, v)?))).collect::<Result<Vec<_>, Refusal>>()?;
    if let Some((_, latest)) = earlier.last() {
        verdict.differences = differences(latest, &new);
    }
    if verdict.same_as.is_none() {
        let earlier: Vec<(i32, &Parsed)> = earlier.iter().map(|(version, parsed)| (*version, parsed)).collect();
        let breach =
            |b: core::Breach| SchemaBreach { half: b.half.to_owned(), version: b.version, misfits: misfits(b.misfits) };
        verdict.breaches = core::breaches(stored.rule, &new, &earlier).into_iter().map(breach).collect();
    }
    verdict.passes = verdict.breaches.is_empty() && (stored.retired_at.is_none() || verdict.same_as.is_some());
    Ok(verdict)
}

/// What a text would be as the next version of what a topic's keys or values are bound to: whether it passes, and what changes.
/// None if nothing is bound yet.
pub(crate) async fn next_version(
    state: &ServerState,
    topic: &TopicName,
    role: &str,
    text: &str,
) -> Result<Option<(bool, Vec<SchemaDifference>)>, Refusal> {
    let bound = state.database.schemas_of(topic).await?;
    let Some(bound) = bound.iter().rev().find(|v| v.role == role) else { return Ok(None) };
    let (stored, versions) = state.database.schema(&SchemaName::parse(bound.name.clone())?).await?;
    let text = text.to_owned();
    let verdict = tokio::task::spawn_blocking(move || verdict(&stored, &versions, &text, &[]));
    let verdict = verdict.await.map_err(|e| PortError::TryAgain { during: "comparing schemas", cause: Box::new(e) })??;
    Ok(Some((verdict.passes, if verdict.same_as.is_some() { Vec::new() } else { verdict.differences })))
}

/// What changed between two versions, in words.
#[utoipa::path(operation_id = "differSchema", get, path = "/api/v1/schemas/{name}/difference", tag = "schemas", params(DifferenceQuery, PagingQuery),
    responses((status = 200, body = Page<SchemaDifference>), (status = 404, body = Problem)))]
pub(crate) async fn difference(
    State(state): State<Arc<ServerState>>,
    Path(name): Path<String>,
    Listed { which: query, paging }: Listed<DifferenceQuery>,
) -> Result<Json<Page<SchemaDifference>>, Refusal> {
    let name = SchemaName::parse(name)?;
    let (stored, versions) = state.database.schema(&name).await?;
    let find = |number: i32| {
        let found = versions.iter().find(|v| v.version == number);
        found.ok_or_else(|| Refusal::from(PortError::NotFound { what: format!("version {number} of the schema {name}") }))
    };
    let (from, to) = (readable(stored.language, find(query.from)?)?, readable(stored.language, find(query.to)?)?);
    Ok(Json(paging.page_in_order(differences(&from, &to))?))
}
