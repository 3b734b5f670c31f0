//! What records of any form become, held against what they say.
#![allow(clippy::unwrap_used, reason = "what fails here fails the test")]

mod expanding;
mod forms;
mod parts;

use gonvel_core::change::{ChangeBatch, ChangeBatchBuilder, ChangeKind};
use gonvel_core::event_rows::{EventColumn, EventRows, Part};
use gonvel_core::record::Record;
use gonvel_events::{Came, EventForm, EventSchema};
use gonvel_shape::cast::text_of;
use gonvel_shape::ty::Ty;

/// Columns with the place of the record as its key.
fn by_place(mut columns: Vec<EventColumn>) -> EventRows {
    columns.push(EventColumn::of(Part::Partition, "p", "integer").as_key());
    columns.push(EventColumn::of(Part::Offset, "o", "bigint").as_key());
    EventRows { columns, ..EventRows::default() }
}

fn read(
    form: &EventForm,
    record: &Record,
    schema: Option<&EventSchema>,
    builder: &mut ChangeBatchBuilder,
) -> Result<ChangeKind, String> {
    let headers = record.encoded_headers();
    let came = Came { record: record.as_ref_with(&headers), partition: 2, offset: 41 };
    form.read(&came, schema, builder).map(|(kind, _)| kind)
}

/// A record's row as text.
fn row(form: &EventForm, record: &Record, schema: Option<&EventSchema>) -> Result<Vec<Option<String>>, String> {
    let mut builder = ChangeBatchBuilder::new(form.table().clone());
    read(form, record, schema, &mut builder)?;
    Ok(texts(&builder.finish(), 0))
}

fn texts(batch: &ChangeBatch, row: usize) -> Vec<Option<String>> {
    let cell = |(column, array): (&gonvel_core::table::Column, &gonvel_core::column::ColumnArray)| {
        let value = array.value(row);
        (value != gonvel_core::column::Value::Null).then(|| text_of(&Ty::of(column), value).into_owned())
    };
    batch.table.columns.iter().zip(batch.identifying(row)).map(cell).collect()
}
