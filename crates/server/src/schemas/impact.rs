//! What a text would do as a schema's next version: to the connectors and readers of its topics, and to their newest records.

use std::collections::HashMap;
use std::collections::hash_map::Entry;
use std::sync::Arc;

use axum::Json;
use axum::extract::State;
use bytes::Bytes;
use gonvel_core::connector::Definition;
use gonvel_core::naming::{PartitionId, SchemaId, SchemaName, TopicName};
use gonvel_core::ports::{PortError, TopicLog};
use gonvel_core::preflight;
use gonvel_core::record::StoredRecord as Placed;
use gonvel_core::record_form::ReadForm;
use gonvel_core::schemas::values::{ValueSchema, read_plain};
use gonvel_core::schemas::{Parsed, Standalone};
use gonvel_http_api::{AffectedUse, Problem, SchemaDifference, SchemaImpact, SchemaText, Trial, UnreadableRecord};
use gonvel_storage::catalog::schemas::{Binding, StoredVersion};

use super::checking::{differences, parsed, readable};
use super::shapes_touched::{Drafted, Touched, touched};
use crate::preflights;
use crate::problems::{Body, Path, Refusal};
use crate::records::Newest;
use crate::state::ServerState;

/// Records of a topic that a draft is tried on.
const TRIED: usize = 10_000;
/// Records told of that cannot be read.
const FIRST: usize = 5;

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
    let new = parsed(&state, stored.language, &request.text, &request.references).await?;
    let changed = match versions.last() {
        Some(latest) => differences(&readable(stored.language, latest)?, &new.parsed),
        None => Vec::new(),
    };
    let (bound, _) = state.database.schema_uses(&name).await?;
    let mut impact = SchemaImpact { uses: Vec::new(), trials: Vec::new() };
    for binding in &bound {
        impact.uses.extend(affected(&state, binding, &changed, &new, versions.last()).await?);
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

/// Whether a topic's records become rows by columns that the connector names.
fn reads_events(definition: &Definition, topic: &str) -> bool {
    match definition {
        Definition::Source(_) => false,
        Definition::Sink(sink) => sink.topics.iter().any(|t| t.topic == topic && t.rows.is_some()),
        Definition::Topics(topics) => topics.carries.iter().any(|t| t.topic == topic && t.rows.is_some()),
    }
}

async fn affected(
    state: &ServerState,
    binding: &Binding,
    changed: &[SchemaDifference],
    new: &Standalone,
    latest: Option<&StoredVersion>,
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
    let columns = |text: &str| ReadForm::from_value_text(text).ok().map(|form| (**form.table()).clone());
    let value = binding.role == "value";
    let (old, drafted) = (latest.and_then(|v| columns(&v.text)), columns(&new.text).filter(|_| value));
    let unread = changed.iter().any(|d| !d.past_reads.is_empty());
    for connector in state.database.connectors().await? {
        let reads = connector.definition.reads(&binding.topic);
        match &connector.definition {
            definition if !reads && connector.writes(&binding.topic) => {
                let meaning = "goes on writing by the columns of its rows, and registers its versions by itself; this version is for other writers";
                out.push(say(definition.kind(), &connector.name, meaning.to_owned(), None));
            }
            definition if reads_events(definition, &binding.topic) => {
                let meaning = "goes on reading the columns that it was given: try them on records of the new version";
                out.push(say(definition.kind(), &connector.name, meaning.to_owned(), None));
            }
            definition if reads && value && drafted.is_none() => {
                let meaning = "could not carry its records: they would be neither changes nor rows of a table";
                out.push(say(definition.kind(), &connector.name, meaning.to_owned(), None));
            }
            definition @ Definition::Sink(_) if reads && value => {
                let shape = drafted.clone().map(|table| (binding.topic.clone(), table));
                let report = preflights::check_shaped(state, definition, Some(connector.id), shape).await;
                let found: Vec<preflight::Check> = match report {
                    Ok(report) => report
                        .checks
                        .into_iter()
                        .filter(|c| c.statement.is_some() || c.outcome == preflight::Outcome::Failed)
                        // what its steps make of it is said of the shape
                        .filter(|c| c.name != "shape")
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
                let said =
                    |c: preflight::Check| say("sink", &connector.name, format!("{}: {}", c.name, c.finding), c.statement);
                out.extend(found.into_iter().map(said));
            }
            _ => {}
        }
        if let Some(new) = &drafted {
            let draft = Drafted { topic: &binding.topic, old: old.as_ref(), new, fields: &fields };
            match touched(state, &connector.definition, &draft).await {
                Ok(None) => {}
                Ok(Some(Touched { fields, meaning })) => {
                    out.push(AffectedUse { fields, ..say("shape", &connector.name, meaning, None) });
                }
                Err(_) => {
                    let meaning = "what it looks into cannot be read now: whether its steps fit is not known";
                    out.push(say("shape", &connector.name, meaning.to_owned(), None));
                }
            }
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

/// What a draft says to records.
struct Reading {
    draft: Parsed,
    role: String,
    /// The schema's versions, by the numbers that records have.
    versions: Vec<(SchemaId, i32)>,
    known: HashMap<SchemaId, Option<Arc<ValueSchema>>>,
    trial: Trial,
}

impl Reading {
    fn part<'r>(&self, placed: &'r Placed) -> (Option<&'r Bytes>, Option<SchemaId>) {
        let record = &placed.record;
        if self.role == "key" { (record.key.as_ref(), record.key_schema) } else { (record.value.as_ref(), record.schema) }
    }

    async fn learn(&mut self, state: &ServerState, piece: &[Placed]) -> Result<(), PortError> {
        let ids: Vec<SchemaId> = piece.iter().filter_map(|placed| self.part(placed).1).collect();
        for id in ids {
            if let Entry::Vacant(place) = self.known.entry(id) {
                place.insert(state.schema(id).await?);
            }
        }
        Ok(())
    }

    fn read(&mut self, partition: PartitionId, piece: &[Placed]) {
        for placed in piece {
            let (Some(bytes), id) = self.part(placed) else { continue };
            self.trial.tried += 1;
            let read = match id.and_then(|id| self.known.get(&id).cloned().flatten()) {
                Some(schema) => schema.read_by(&self.draft, bytes),
                None => read_plain(&self.draft, bytes),
            };
            let Err(finding) = read else { continue };
            self.trial.failed += 1;
            if self.trial.first.len() < FIRST {
                let version = self.versions.iter().find(|(v, _)| Some(*v) == id).map(|(_, number)| *number);
                let (partition, offset) = (partition.0, placed.offset.0);
                self.trial.first.push(UnreadableRecord { partition, offset, version, finding });
            }
        }
    }
}

/// Reads a topic's newest records by the draft.
async fn trial(
    state: &ServerState,
    binding: &Binding,
    new: &Standalone,
    versions: &[StoredVersion],
) -> Result<Trial, Refusal> {
    let topic = state.database.topic(&TopicName::parse(binding.topic.clone())?).await?;
    let mut reading = Reading {
        draft: new.parsed.clone(),
        role: binding.role.clone(),
        versions: versions.iter().map(|v| (SchemaId(v.id), v.version)).collect(),
        known: HashMap::new(),
        trial: Trial { topic: binding.topic.clone(), role: binding.role.clone(), tried: 0, failed: 0, first: Vec::new() },
    };
    let mut newest = Newest::of(state, &topic, TRIED).await?;
    while let Some((partition, piece)) = newest.piece(state).await? {
        reading.learn(state, &piece).await?;
        // decoding is work for the processor: the threads that answer requests must not wait for it
        let done = tokio::task::spawn_blocking(move || {
            reading.read(partition, &piece);
            reading
        });
        reading = done.await.map_err(|e| PortError::TryAgain { during: "trying records", cause: Box::new(e) })?;
    }
    Ok(reading.trial)
}
