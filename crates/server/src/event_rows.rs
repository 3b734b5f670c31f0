//! A topic's newest records as rows: which columns they have, and how many would fit those that were chosen.

use std::collections::HashMap;
use std::sync::Arc;

use axum::Json;
use axum::extract::State;
use gonvel_core::change::{ChangeBatch, ChangeBatchBuilder, ChangeKind};
use gonvel_core::event_rows::{EventRows, Only, Unknown};
use gonvel_core::failure::without_particulars;
use gonvel_core::naming::{PartitionId, SchemaId, TopicName};
use gonvel_core::ports::{PortError, Topic, TopicLog};
use gonvel_core::record::StoredRecord as Placed;
use gonvel_core::record_form::ReadForm;
use gonvel_core::schemas::Language;
use gonvel_events::proposing::{Looked, Seen, Types, TypesIn, propose};
use gonvel_events::{Came, EventForm, EventSchema, Teller};
use gonvel_http_api::{
    EventRow, Problem, RefusedEvents, SeenField, SeenHeader, SeenType, SeenTypes, TriedEventRows, TryEventRows,
};
use gonvel_shape::cast::text_of;
use gonvel_shape::ty::Ty;

use crate::problems::{Body, Path, Refusal};
use crate::records::{Decoder, Newest};
use crate::state::ServerState;

/// Records looked at, if nothing else is said, and at most.
const MOST: i64 = 10_000;
/// Rows shown.
const SHOWN: usize = 20;
/// Characters of a cell that are shown.
const CELL: usize = 400;
/// Causes that are told.
const CAUSES: usize = 20;

/// How records become rows as long as no field becomes a column: what is only looked at adds none.
fn standing(rows: &EventRows) -> EventRows {
    let unknown = if rows.unknown == Unknown::AddColumn { Unknown::LeaveOut } else { rows.unknown };
    EventRows { unknown, ..rows.clone() }
}

/// A form, or why there is none.
///
/// # Errors
/// [`Refusal`] at the field `topics`.
pub(crate) fn form(topic: &str, rows: &EventRows) -> Result<EventForm, Refusal> {
    EventForm::new(topic, &standing(rows)).map_err(|finding| Refusal::invalid("topics", format!("{topic}: {finding}")))
}

/// The newest records of a topic as rows, in order of their times, with the keys of their rows; what does not fit is left out.
pub(crate) async fn newest_rows(
    state: &ServerState,
    topic: &Topic,
    rows: &EventRows,
    most: usize,
) -> Result<(ChangeBatch, Vec<Vec<u8>>), Refusal> {
    let records = newest(state, topic, most).await?;
    rows_of(state, topic.name.as_str(), rows, &records).await
}

/// Records as rows, with the keys of their rows; what does not fit is left out.
pub(crate) async fn rows_of(
    state: &ServerState,
    topic: &str,
    rows: &EventRows,
    records: &[(PartitionId, Placed)],
) -> Result<(ChangeBatch, Vec<Vec<u8>>), Refusal> {
    let form = form(topic, rows)?;
    let schemas = schemas(state, records).await?;
    let mut builder = ChangeBatchBuilder::new(form.table().clone());
    let (mut keys, mut own) = (Vec::new(), Vec::new());
    for (partition, placed) in records {
        let headers = placed.record.encoded_headers();
        let came = came(*partition, placed, &headers);
        let schema = placed.record.schema.and_then(|id| schemas.get(&id)).map(|found| &found.reads);
        if form.takes(&came, schema) == Ok(true) && form.read_all(&came, schema, &mut builder, &mut own).is_ok() {
            keys.extend(own.drain(..).map(|key| key.to_vec()));
        }
    }
    Ok((builder.finish(), keys))
}

fn came<'a>(partition: PartitionId, placed: &'a Placed, headers: &'a [u8]) -> Came<'a> {
    Came { record: placed.record.as_ref_with(headers), partition: partition.0, offset: placed.offset.0 }
}

/// About the newest so many records, the oldest of them first.
async fn newest(state: &ServerState, topic: &Topic, most: usize) -> Result<Vec<(PartitionId, Placed)>, Refusal> {
    let mut records = Vec::new();
    let mut pieces = Newest::of(state, topic, most).await?;
    while let Some((partition, piece)) = pieces.piece(state).await? {
        records.extend(piece.into_iter().map(|placed| (partition, placed)));
    }
    records.sort_by_key(|(partition, placed)| (placed.record.timestamp_us, *partition, placed.offset));
    Ok(records)
}

/// A schema that records were written by.
struct Found {
    reads: EventSchema,
    language: Language,
    text: String,
}

async fn schemas(state: &ServerState, records: &[(PartitionId, Placed)]) -> Result<HashMap<SchemaId, Found>, Refusal> {
    let mut found = HashMap::new();
    let mut gone = Vec::new();
    for id in records.iter().filter_map(|(_, placed)| placed.record.schema) {
        if found.contains_key(&id) || gone.contains(&id) {
            continue;
        }
        match state.database.schema_version(id).await {
            Ok((language, text)) => match EventSchema::new(language, &text) {
                Ok(reads) => drop(found.insert(id, Found { reads, language, text })),
                Err(_) => gone.push(id),
            },
            Err(PortError::NotFound { .. }) => gone.push(id),
            Err(error) => return Err(error.into()),
        }
    }
    Ok(found)
}

/// Tries how a topic's newest records become rows, as asked or as it is proposed. Nothing is written.
#[utoipa::path(operation_id = "tryEventRows", post, path = "/api/v1/topics/{name}/event-rows", tag = "topics", request_body = TryEventRows,
    responses((status = 200, body = TriedEventRows), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn try_rows(
    State(state): State<Arc<ServerState>>,
    Path(name): Path<String>,
    Body(request): Body<TryEventRows>,
) -> Result<Json<TriedEventRows>, Refusal> {
    let most = request.records.unwrap_or(MOST);
    if !(1..=MOST).contains(&most) {
        return Err(Refusal::invalid("records", format!("{most} records: ask for 1 to {MOST}")));
    }
    let topic = state.database.topic(&TopicName::parse(name)?).await?;
    if let Some(rows) = &request.rows {
        form(topic.name.as_str(), rows)?;
    }
    let only = request.rows.as_ref().map_or_else(|| request.only.clone(), |rows| rows.only.clone());
    if let Some(only) = &only {
        only.check().map_err(|finding| Refusal::invalid("only", finding))?;
    }
    let records = newest(&state, &topic, usize::try_from(most).unwrap_or(1)).await?;
    let found = schemas(&state, &records).await?;
    let mut decoder = Decoder::default();
    for (_, placed) in &records {
        decoder.learn(&state, placed).await?;
    }
    let name = topic.name.as_str().to_owned();
    // looking at many records is work for the processor
    let tried = tokio::task::spawn_blocking(move || tried(&name, request.rows, only, &records, &found, &decoder));
    let tried = tried.await.map_err(|e| PortError::TryAgain { during: "looking at records", cause: Box::new(e) })?;
    tried.map(Json).map_err(|finding| Refusal::invalid("rows", finding))
}

fn tried(
    topic: &str,
    asked: Option<EventRows>,
    only: Option<Only>,
    records: &[(PartitionId, Placed)],
    schemas: &HashMap<SchemaId, Found>,
    decoder: &Decoder,
) -> Result<TriedEventRows, String> {
    let latest = records.iter().rev().find_map(|(_, placed)| schemas.get(&placed.record.schema?));
    let teller = only.as_ref().map(Teller::new);
    let (mut looked, mut types, mut of_other_types) = (Looked::default(), Types::default(), 0_u64);
    for (partition, placed) in records {
        let record = &placed.record;
        let value = record.value.as_ref().map(|value| decoder.json(Some(value), record.schema));
        let headers: Vec<(&str, &[u8])> =
            record.headers.iter().map(|header| (header.name.as_str(), header.value.as_ref())).collect();
        types.see(&headers, value.as_ref());
        let encoded = record.encoded_headers();
        let schema = record.schema.and_then(|id| schemas.get(&id)).map(|found| &found.reads);
        let taken = teller.as_ref().map_or(Ok(true), |teller| teller.takes(&came(*partition, placed, &encoded), schema));
        if taken == Ok(false) {
            of_other_types += 1;
            continue;
        }
        let names: Vec<&str> = headers.iter().map(|(name, _)| *name).collect();
        looked.see(value.as_ref(), record.key.is_some(), &names);
    }
    let (looked, fields) = looked.fields(latest.map(|found| &found.reads));
    let rows = asked.unwrap_or_else(|| {
        // a schema of all types declares fields that this one never has
        let of_type: Vec<Seen> = fields.iter().filter(|seen| only.is_none() || seen.present > 0).cloned().collect();
        EventRows { only, ..propose(&looked, &of_type) }
    });
    let form = EventForm::new(topic, &standing(&rows))?;
    let mut builder = ChangeBatchBuilder::new(form.table().clone());
    let (mut fitting, mut refused): (Vec<(PartitionId, i64)>, HashMap<String, RefusedEvents>) = Default::default();
    let (mut keys, mut fit) = (Vec::new(), 0_u64);
    for (partition, placed) in records {
        let headers = placed.record.encoded_headers();
        let schema = placed.record.schema.and_then(|id| schemas.get(&id)).map(|found| &found.reads);
        let came = came(*partition, placed, &headers);
        let read = match form.takes(&came, schema) {
            Ok(false) => continue,
            Ok(true) => form.read_all(&came, schema, &mut builder, &mut keys).map(drop),
            Err(finding) => Err(finding),
        };
        match read {
            Ok(()) => {
                fit += 1;
                fitting.extend(keys.iter().map(|_| (*partition, placed.offset.0)));
            }
            Err(finding) => {
                let of_cause = refused.entry(without_particulars(&finding)).or_insert_with(|| RefusedEvents {
                    finding,
                    records: 0,
                    partition: partition.0,
                    offset: placed.offset.0,
                });
                of_cause.records += 1;
            }
        }
    }
    let batch = builder.finish();
    let mut refused: Vec<RefusedEvents> = refused.into_values().collect();
    refused.sort_by_key(|cause| (std::cmp::Reverse(cause.records), cause.partition, cause.offset));
    refused.truncate(CAUSES);
    Ok(TriedEventRows {
        records: looked.records,
        of_other_types,
        types: types.found().into_iter().map(presented_types).collect(),
        keyed: looked.keyed,
        changes: latest
            .is_some_and(|found| found.language == Language::Avro && ReadForm::from_value_text(&found.text).is_ok()),
        fields: fields.into_iter().map(presented).collect(),
        headers: looked.headers.iter().map(|(name, records)| SeenHeader { name: name.clone(), records: *records }).collect(),
        sample: shown(&batch, &fitting),
        fit,
        rows,
        refused,
    })
}

fn presented(seen: Seen) -> SeenField {
    let types = seen.types.into_iter().map(|(what, records)| SeenType { what: what.to_owned(), records }).collect();
    let Seen { path, present, null, ty, declared, .. } = seen;
    SeenField { path, present, null, types, ty, declared }
}

fn presented_types(found: TypesIn) -> SeenTypes {
    let types = found.types.into_iter().map(|(what, records)| SeenType { what, records }).collect();
    SeenTypes { part: found.part, path: found.path, types }
}

/// The newest rows, the newest first.
fn shown(batch: &ChangeBatch, places: &[(PartitionId, i64)]) -> Vec<EventRow> {
    let types: Vec<Ty> = batch.table.columns.iter().map(Ty::of).collect();
    let cell = |column: usize, row: usize| {
        let value = batch.identifying(row)[column].value(row);
        if value == gonvel_core::column::Value::Null {
            return None;
        }
        let text = text_of(&types[column], value);
        Some(if text.len() > CELL { text.chars().take(CELL).chain(['…']).collect() } else { text.into_owned() })
    };
    let rows = places.iter().enumerate().rev().take(SHOWN);
    rows.map(|(row, (partition, offset))| EventRow {
        partition: partition.0,
        offset: *offset,
        deletes: batch.kinds[row] == ChangeKind::Delete,
        cells: (0..types.len()).map(|column| cell(column, row)).collect(),
    })
    .collect()
}
