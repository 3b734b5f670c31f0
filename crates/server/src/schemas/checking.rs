//! What a text would be as a schema's next version: whether it keeps the rule, what changes, what that does to whom.

use std::sync::Arc;

use axum::Json;
use axum::extract::{Path, Query, State};
use axum::http::StatusCode;
use gonvel_core::connector::Definition;
use gonvel_core::naming::{SchemaId, SchemaName, TopicName, TopicPartition};
use gonvel_core::ports::{PortError, TopicLog};
use gonvel_core::preflight;
use gonvel_core::record_form::ReadForm;
use gonvel_core::schemas::{self as core, Language, Misfit, Parsed, Standalone};
use gonvel_http_api::{
    AffectedUse, DifferenceQuery, Problem, SchemaBreach, SchemaDifference, SchemaFault, SchemaImpact, SchemaMisfit,
    SchemaText, SchemaVerdict, Trial, UnreadableRecord,
};
use gonvel_storage::catalog::schemas::{Binding, Refers, StoredVersion};

use super::refers;
use crate::preflights;
use crate::problems::{Body, Refusal};
use crate::records::backward;
use crate::state::ServerState;
use crate::topics;

/// Records of a topic that a draft is tried on.
const TRIED: usize = 10_000;
/// Records told of that cannot be read.
const FIRST: usize = 5;

/// Parses a text; a fault is told with line and column.
pub(super) async fn parsed(
    state: &ServerState,
    language: Language,
    text: &str,
    refers: &[Refers],
) -> Result<Standalone, Refusal> {
    let references = state.database.schema_references(refers).await?;
    core::parse(language, text, &references).map_err(|fault| {
        Refusal::new(StatusCode::UNPROCESSABLE_ENTITY, "schema-text", "The schema's text cannot be taken", fault.to_string())
            .at("text")
    })
}

fn misfits(misfits: Vec<Misfit>) -> Vec<SchemaMisfit> {
    let one = |m: Misfit| SchemaMisfit { path: m.path, rule: m.rule.to_owned(), finding: m.finding, remedy: m.remedy };
    misfits.into_iter().map(one).collect()
}

fn differences(earlier: &Parsed, later: &Parsed) -> Vec<SchemaDifference> {
    let one = |d: core::Difference| SchemaDifference {
        breaks: d.breaks().map(str::to_owned),
        path: d.change.path,
        words: d.change.words,
        past_reads: misfits(d.past_reads),
        reads_past: misfits(d.reads_past),
    };
    core::differences(earlier, later).into_iter().map(one).collect()
}

fn readable(language: Language, version: &StoredVersion) -> Result<Parsed, Refusal> {
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
    let references = state.database.schema_references(&refers(&request.references)).await?;
    let mut verdict = SchemaVerdict {
        passes: false,
        fault: None,
        same_as: versions.iter().find(|v| says_the_same(&v.text, &request.text)).map(|v| v.version),
        breaches: Vec::new(),
        differences: Vec::new(),
    };
    let new = match core::parse(stored.language, &request.text, &references) {
        Ok(new) => new.parsed,
        Err(fault) => {
            verdict.fault = Some(SchemaFault { line: fault.line, column: fault.column, finding: fault.finding });
            return Ok(Json(verdict));
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
    Ok(Json(verdict))
}

/// What changed between two versions, in words.
#[utoipa::path(operation_id = "differSchema", get, path = "/api/v1/schemas/{name}/difference", tag = "schemas", params(DifferenceQuery),
    responses((status = 200, body = [SchemaDifference]), (status = 404, body = Problem)))]
pub(crate) async fn difference(
    State(state): State<Arc<ServerState>>,
    Path(name): Path<String>,
    Query(query): Query<DifferenceQuery>,
) -> Result<Json<Vec<SchemaDifference>>, Refusal> {
    let name = SchemaName::parse(name)?;
    let (stored, versions) = state.database.schema(&name).await?;
    let find = |number: i32| {
        let found = versions.iter().find(|v| v.version == number);
        found.ok_or_else(|| Refusal::from(PortError::NotFound { what: format!("version {number} of the schema {name}") }))
    };
    let (from, to) = (readable(stored.language, find(query.from)?)?, readable(stored.language, find(query.to)?)?);
    Ok(Json(differences(&from, &to)))
}

/// What a text would do as a schema's next version: to the connectors and readers of its topics, and to their newest records.
#[utoipa::path(operation_id = "previewSchema", post, path = "/api/v1/schemas/{name}/impact", tag = "schemas", request_body = SchemaText,
    responses((status = 200, body = SchemaImpact), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn impact(
    State(state): State<Arc<ServerState>>,
    Path(name): Path<String>,
    Body(request): Body<SchemaText>,
) -> Result<Json<SchemaImpact>, Refusal> {
    let name = SchemaName::parse(name)?;
    let (stored, versions) = state.database.schema(&name).await?;
    let new = parsed(&state, stored.language, &request.text, &refers(&request.references)).await?;
    let changed = match versions.last() {
        Some(latest) => differences(&readable(stored.language, latest)?, &new.parsed),
        None => Vec::new(),
    };
    let (bound, _) = state.database.schema_uses(&name).await?;
    let mut impact = SchemaImpact { uses: Vec::new(), trials: Vec::new() };
    for binding in &bound {
        impact.uses.extend(affected(&state, binding, &changed, &new).await?);
        impact.trials.push(trial(&state, binding, &new, &versions).await?);
    }
    Ok(Json(impact))
}

/// A field's name in a path; of a change, that of the row's column.
fn field_of(path: &str) -> Option<&str> {
    let path = path.strip_prefix("$.")?;
    let path = path.strip_prefix("new.").or_else(|| path.strip_prefix("old.")).unwrap_or(path);
    path.split(['.', '[', '{']).next().filter(|name| !name.is_empty())
}

async fn affected(
    state: &ServerState,
    binding: &Binding,
    changed: &[SchemaDifference],
    new: &Standalone,
) -> Result<Vec<AffectedUse>, Refusal> {
    let mut fields: Vec<String> = changed.iter().filter_map(|d| field_of(&d.path)).map(str::to_owned).collect();
    fields.sort_unstable();
    fields.dedup();
    if fields.is_empty() {
        return Ok(Vec::new());
    }
    let mut out = Vec::new();
    let say = |kind: &str, name: &str, meaning: String, statement: Option<String>| AffectedUse {
        kind: kind.to_owned(),
        name: name.to_owned(),
        topic: binding.topic.clone(),
        fields: fields.clone(),
        meaning,
        statement,
    };
    let unread = changed.iter().any(|d| !d.past_reads.is_empty());
    for connector in state.database.connectors().await? {
        match (topics::writes(&connector, &binding.topic), &connector.definition) {
            (Some(true), _) => {
                let meaning = "goes on writing by the table's own columns, and registers its versions by itself; this version is for other writers";
                out.push(say("source", &connector.name, meaning.to_owned(), None));
            }
            (Some(false), definition @ Definition::Sink(_)) if binding.role == "value" => {
                let shape =
                    ReadForm::from_value_text(&new.text).ok().map(|form| (binding.topic.clone(), (**form.table()).clone()));
                let Some(shape) = shape else {
                    let meaning = "could not deliver its records: they would be neither changes nor rows of a table";
                    out.push(say("sink", &connector.name, meaning.to_owned(), None));
                    continue;
                };
                let report = preflights::check_shaped(state, definition, Some(connector.id), Some(shape)).await;
                let found: Vec<preflight::Check> = match report {
                    Ok(report) => report
                        .checks
                        .into_iter()
                        .filter(|c| c.statement.is_some() || c.outcome == preflight::Outcome::Failed)
                        .collect(),
                    Err(_) => {
                        out.push(say(
                            "sink",
                            &connector.name,
                            "its database does not answer now: what its table would need is not known".to_owned(),
                            None,
                        ));
                        continue;
                    }
                };
                if found.is_empty() {
                    out.push(say("sink", &connector.name, "its table takes the new records as it is".to_owned(), None));
                }
                out.extend(found.into_iter().map(|c| say("sink", &connector.name, c.finding, c.statement)));
            }
            _ => {}
        }
    }
    let topic = state.database.topic(&TopicName::parse(binding.topic.clone())?).await?;
    for reader in state.database.readers_of(topic.id).await? {
        let meaning = if unread {
            "would get records that the version it may know cannot read"
        } else {
            "can read the new records with the version it may know"
        };
        out.push(say("reader", &reader, meaning.to_owned(), None));
    }
    Ok(out)
}

/// Reads a topic's newest records by the draft.
async fn trial(
    state: &ServerState,
    binding: &Binding,
    new: &Standalone,
    versions: &[StoredVersion],
) -> Result<Trial, Refusal> {
    let topic = state.database.topic(&TopicName::parse(binding.topic.clone())?).await?;
    let mut trial =
        Trial { topic: binding.topic.clone(), role: binding.role.clone(), tried: 0, failed: 0, first: Vec::new() };
    let bounds = state.database.bounds(topic.id).await?;
    let each = (TRIED / bounds.len().max(1)).max(1);
    for bounds in bounds {
        let at = TopicPartition { topic: topic.id, partition: bounds.partition };
        let placed = backward(state, at, &bounds, bounds.next.0 - 1, each).await?;
        let mut known = std::collections::HashMap::new();
        for record in &placed {
            let id = if binding.role == "key" { record.record.key_schema } else { record.record.schema };
            if let Some(id) = id
                && !known.contains_key(&id)
            {
                known.insert(id, state.schema(id).await?);
            }
        }
        let (draft, role, versions) = (
            new.parsed.clone(),
            binding.role.clone(),
            versions.iter().map(|v| (SchemaId(v.id), v.version)).collect::<Vec<_>>(),
        );
        // decoding is work for the processor: the threads that answer requests must not wait for it
        let tried = tokio::task::spawn_blocking(move || {
            let (mut tried, mut failed, mut first) = (0_i64, 0_i64, Vec::new());
            for placed in placed {
                let record = &placed.record;
                let (bytes, id) =
                    if role == "key" { (&record.key, record.key_schema) } else { (&record.value, record.schema) };
                let Some(bytes) = bytes else { continue };
                tried += 1;
                let schema = id.and_then(|id| known.get(&id).cloned().flatten());
                let read = match schema {
                    Some(schema) => schema.read_by(&draft, bytes),
                    None => core::values::read_plain(&draft, bytes),
                };
                if let Err(finding) = read {
                    failed += 1;
                    let version = versions.iter().find(|(v, _)| Some(*v) == id).map(|(_, number)| *number);
                    if first.len() < FIRST {
                        first.push(UnreadableRecord {
                            partition: bounds.partition.0,
                            offset: placed.offset.0,
                            version,
                            finding,
                        });
                    }
                }
            }
            (tried, failed, first)
        });
        let (tried, failed, first) =
            tried.await.map_err(|e| PortError::TryAgain { during: "trying records", cause: Box::new(e) })?;
        trial.tried += tried;
        trial.failed += failed;
        trial.first.extend(first);
        trial.first.truncate(FIRST);
    }
    Ok(trial)
}
