//! The rows that shapes are tried on, and what they are tried with.

use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;

use gonvel_core::change::{ChangeBatch, ChangeBatchBuilder, ChangeKind, Origin};
use gonvel_core::column::{ColumnType, Value};
use gonvel_core::connector::{Definition, ReadTopic};
use gonvel_core::event_rows::read_name;
use gonvel_core::naming::{ConnectorId, Offset, PartitionId, SchemaId, TopicName};
use gonvel_core::ports::{FleetStore, SchemaStore, TopicLog};
use gonvel_core::record::{Record, StoredRecord};
use gonvel_core::record_form::ReadForm;
use gonvel_core::shape::Shapes;
use gonvel_core::table::TableSchema;
use gonvel_http_api::RowsFrom;
use gonvel_runtime::trying::{self, Tried};
use gonvel_shape::own::Own;
use gonvel_shape::plan::{Plan, Shape};
use gonvel_shape::reference::Reference;
use gonvel_shape::run::Context;
use gonvel_shape::tools::Tools;

use crate::event_rows::{newest_rows, rows_of};
use crate::problems::{Refusal, name_at};
use crate::quarantine::asked;
use crate::records::{NoChanges, newest_changes};
use crate::state::ServerState;

/// Rows, or at least the table that they would be of.
pub(super) struct Rows {
    /// What their steps are given by: a topic, or `schema.table`.
    pub(super) name: String,
    pub(super) table: Arc<TableSchema>,
    pub(super) batch: Option<ChangeBatch>,
    /// Why there are none.
    pub(super) none: Option<String>,
}

pub(super) async fn rows(state: &ServerState, from: &RowsFrom, most: usize) -> Result<Rows, Refusal> {
    match from {
        RowsFrom::Topic { topic, rows: Some(rows) } => {
            let topic = state.database.topic(&TopicName::parse(topic.clone()).map_err(name_at("rows"))?).await?;
            let (batch, _) = newest_rows(state, &topic, rows, most).await?;
            let none = batch.is_empty().then(|| "no record of the topic becomes a row so".to_owned());
            let name = read_name(topic.name.as_str(), Some(rows));
            Ok(Rows { name, table: batch.table.clone(), batch: Some(batch), none })
        }
        RowsFrom::Topic { topic, rows: None } => {
            let topic = state.database.topic(&TopicName::parse(topic.clone()).map_err(name_at("rows"))?).await?;
            match newest_changes(state, &topic, most).await? {
                Ok(found) => {
                    let name = topic.name.as_str().to_owned();
                    Ok(Rows { name, table: found.batch.table.clone(), batch: Some(found.batch), none: None })
                }
                Err(NoChanges::Empty) => {
                    let detail =
                        format!("{} holds no records yet: start its source first, then shape what comes", topic.name);
                    Err(Refusal::invalid("rows", detail))
                }
                Err(NoChanges::Other(finding)) => {
                    let detail = format!("{}: {finding}: if they are events, choose first how they become rows", topic.name);
                    Err(Refusal::invalid("rows", detail))
                }
            }
        }
        RowsFrom::Table { connection, table } => {
            let address = state.database.address(*connection).await?;
            let batch = state.reached().rows(&address, table, most).await?;
            let none = batch.is_empty().then(|| "the table has no rows".to_owned());
            let table = batch.table.clone();
            Ok(Rows { name: table.qualified(), table, batch: Some(batch), none })
        }
        RowsFrom::Quarantine { connector, cause } => waiting(state, ConnectorId(*connector), asked(cause)?, most).await,
    }
}

/// Rows that wait in quarantine for one cause: of one topic or table, and of one shape.
async fn waiting(state: &ServerState, connector: ConnectorId, cause: i64, most: usize) -> Result<Rows, Refusal> {
    let most = i64::try_from(most).unwrap_or(i64::MAX);
    let kept = state.database.quarantined(Some(connector), Some(cause), &["waiting", "asked"], 0, most).await?;
    let nothing = |finding: &str| Refusal::invalid("rows", format!("{finding}: try the shape on the newest rows"));
    let Some(first) = kept.first() else { return Err(nothing("nothing of this cause waits any more")) };
    let of_one = kept.iter().filter(|k| k.topic_id == first.topic_id);
    let stored = state.database.find_connector(connector).await?;
    if let (Definition::Source(source), true) = (&stored.definition, first.record_offset < 0) {
        let table = source.tables.iter().find(|t| t.topic == first.topic);
        let table = table.ok_or_else(|| nothing("the table of these rows is no longer captured by name"))?;
        let address = state.database.address(source.connection).await?;
        let keys = of_one.filter_map(|k| serde_json::from_slice(k.key.as_deref()?).ok()).collect::<Vec<_>>();
        let batch = state.reached().rows_by_key(&address, table, &keys).await?;
        let none = batch.is_empty().then(|| "the rows are no longer in their table".to_owned());
        return Ok(Rows { name: table.qualified(), table: batch.table.clone(), batch: Some(batch), none });
    }
    let read = stored.definition.read_topics().into_iter().filter(|read| read.topic == first.topic);
    let read: Vec<ReadTopic<'_>> = read.filter(|read| read.rows.is_some()).collect();
    if !read.is_empty() {
        let records = of_one.map(|kept| {
            let record = kept.record();
            let value = kept.mended.clone().map(bytes::Bytes::from).or(record.value);
            let placed = StoredRecord { offset: Offset(kept.record_offset), record: Record { value, ..record } };
            (PartitionId(kept.partition), placed)
        });
        let records: Vec<_> = records.collect();
        let mut found = None;
        // of several types the first of which there are rows: those of one cause mostly are of one
        for ReadTopic { name, rows, .. } in read {
            let Some(rows) = rows else { continue };
            let (batch, _) = rows_of(state, &first.topic, rows, &records).await?;
            if found.as_ref().is_none_or(|(_, before): &(String, ChangeBatch)| before.is_empty()) {
                found = Some((name, batch));
            }
        }
        let (name, batch) = found.ok_or_else(|| nothing("the topic of these records is no longer read"))?;
        let none = batch.is_empty().then(|| "none of these records becomes a row: mend them first".to_owned());
        return Ok(Rows { name, table: batch.table.clone(), batch: Some(batch), none });
    }
    let schema = first.value_schema.ok_or_else(|| nothing("these records have no schema"))?;
    let text = state.database.schema_text(SchemaId(schema)).await?;
    let form = ReadForm::from_value_text(&text).map_err(|_| nothing("these records are no changes of a table"))?;
    let mut builder = ChangeBatchBuilder::new(form.table().clone());
    for kept in of_one.filter(|k| k.value_schema == Some(schema)) {
        let record = kept.record();
        let value = kept.mended.as_deref().or(record.value.as_deref());
        let read = form.read(record.key.as_deref().unwrap_or_default(), value, record.timestamp_us, &mut builder);
        read.map_err(|e| nothing(&format!("a record cannot be read ({e})")))?;
    }
    Ok(Rows { name: first.topic.clone(), table: form.table().clone(), batch: Some(builder.finish()), none: None })
}

/// Rows that a person made, as the texts of their columns.
pub(super) fn made(
    table: &Arc<TableSchema>,
    rows: &[BTreeMap<String, Option<String>>],
) -> Result<Option<ChangeBatch>, Refusal> {
    if rows.is_empty() {
        return Ok(None);
    }
    let mut builder = ChangeBatchBuilder::new(table.clone());
    let now = chrono::Utc::now().timestamp_micros();
    for (number, row) in rows.iter().enumerate() {
        if let Some(unknown) = row.keys().find(|name| !table.columns.iter().any(|c| c.name == **name)) {
            return Err(Refusal::invalid("made", format!("row {}: there is no column {unknown}", number + 1)));
        }
        builder.begin(ChangeKind::Insert, Origin { commit_time_us: now, ..Origin::default() });
        for (place, column) in table.columns.iter().enumerate() {
            let text = row.get(&column.name).and_then(Option::as_deref);
            let wrong = |finding: &str| Refusal::invalid("made", format!("row {}, {}: {finding}", number + 1, column.name));
            let given = match text {
                None => gonvel_shape::value::Given::Null,
                Some(text) if matches!(column.ty, ColumnType::Text | ColumnType::Verbatim) => {
                    gonvel_shape::value::Given::text(text)
                }
                Some(text) => {
                    gonvel_shape::cast::read_text(text, &gonvel_shape::ty::Ty::of(column)).map_err(|e| wrong(&e))?
                }
            };
            if column.key && given.value() == Value::Null {
                return Err(wrong("the key needs a value"));
            }
            builder.new_value(place, given.value()).map_err(|e| wrong(&e.to_string()))?;
        }
        builder.no_old();
    }
    Ok(Some(builder.finish()))
}

/// What shapes are tried with, looking into some references. Keyed hashes are made with a secret that is thrown away: a trial answers
/// whatever its caller makes up, and would tell which value a stored hash stands for.
pub(super) fn context_with(state: &ServerState, own: Own, references: HashMap<String, Reference>) -> Context {
    let mut context = Context::new(Tools::new(state.trial_key.clone()).with(own));
    context.references = references;
    context
}

/// The functions of one's own that are in force.
pub(super) async fn own(state: &ServerState) -> Result<Own, Refusal> {
    Ok(Own::of(state.database.own_functions().await?))
}

/// What shapes are tried with: the references they look into, as far as those are there, and the tables that cannot be read, with
/// why.
pub(crate) async fn context(state: &ServerState, shapes: &Shapes) -> Result<(Context, Vec<(String, String)>), Refusal> {
    let own = own(state).await?;
    context_of(state, shapes, own).await
}

/// The same with other functions of one's own.
pub(super) async fn context_of(
    state: &ServerState,
    shapes: &Shapes,
    own: Own,
) -> Result<(Context, Vec<(String, String)>), Refusal> {
    let read = Tried::read(Arc::new(state.database.clone()), shapes).await?;
    Ok((context_with(state, own, read.rows), read.unread))
}

/// The table that a shape makes of another.
///
/// # Errors
/// The first thing that is wrong.
pub(crate) fn fits(
    table: &Arc<TableSchema>,
    shapes: &Shapes,
    name: &str,
    context: &Context,
) -> Result<Arc<TableSchema>, gonvel_shape::finding::Finding> {
    let shape = Shape { rules: &shapes.rules, steps: shapes.of(name) };
    if shape.is_nothing(table) {
        return Ok(table.clone());
    }
    let compiled = Plan::compile(table, shape, &trying::tables(&context.references), &context.tools);
    match compiled.plan {
        Some(plan) => Ok(plan.output),
        None => Err(compiled
            .findings
            .into_iter()
            .next()
            .unwrap_or_else(|| gonvel_shape::finding::Finding::error("it does not fit"))),
    }
}
