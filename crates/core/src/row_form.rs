//! The row form: the row after a change as an Avro value, and no value for a delete. The key says which row it is.

use std::sync::Arc;

use serde_json::{Value as Json, json};

use crate::avro::binary::{DecodeError, Reader};
use crate::avro::fingerprint::fingerprint;
use crate::avro::schema::Schema;
use crate::avro::single_object;
use crate::change::{ChangeBatch, ChangeBatchBuilder, ChangeKind, OldImage, Origin};
use crate::change_form::{ChangeForm, ChangeFormError, column_of, column_schema, namespace, read_nullable, read_present};
use crate::column::Value;
use crate::table::TableSchema;

/// The row form of one table at one moment: its schema's text and the way to write and read it.
#[derive(Debug, Clone)]
pub struct RowForm {
    /// The table.
    pub table: Arc<TableSchema>,
    /// Avro schema of the value.
    pub value_text: String,
    value_fingerprint: u64,
}

impl RowForm {
    /// The form for a table.
    ///
    /// # Panics
    /// Never: the schema text it makes is JSON.
    #[must_use]
    pub fn of(table: Arc<TableSchema>) -> Self {
        let value_text = value_schema(&table).to_string();
        let value_fingerprint = fingerprint(&value_text).expect("made as JSON");
        Self { table, value_text, value_fingerprint }
    }

    /// The form that a value schema's text describes.
    ///
    /// # Errors
    /// [`ChangeFormError`] if the text is no schema or not one of a row form.
    pub fn from_value_text(text: &str) -> Result<Self, ChangeFormError> {
        let schema = Schema::parse(text)?;
        let wrong = |e: &str| ChangeFormError::NotRowForm(e.to_owned());
        let Schema::Record { fields, .. } = &schema else { return Err(wrong("it is not a record")) };
        let places = fields.first().and_then(|f| f.attributes.get("of")).and_then(Json::as_array);
        let place = |n: usize| places.and_then(|p| p.get(n)).and_then(Json::as_str).map(str::to_owned);
        let (Some(system), Some(schema), Some(table)) = (place(0), place(1), place(2)) else {
            return Err(wrong("its first field does not name the table"));
        };
        let columns = fields.iter().map(column_of).collect::<Result<Vec<_>, _>>().map_err(wrong)?;
        Ok(Self::of(Arc::new(TableSchema { system, schema, table, columns })))
    }

    /// Appends a change's row, in single-object encoding; false if the change is a delete, which has no value.
    ///
    /// A truncate has no row form: whoever writes rows does not ask for truncates.
    pub fn write(&self, form: &ChangeForm, batch: &ChangeBatch, row: usize, out: &mut Vec<u8>) -> bool {
        if matches!(batch.kinds[row], ChangeKind::Delete | ChangeKind::Truncate) {
            return false;
        }
        single_object::header(self.value_fingerprint, out);
        form.write_row(&batch.new, row, out);
        true
    }

    /// Reads a row's data (after the single-object header), or none for a delete, into the builder, whose table must be this
    /// form's. The key's data identify the row of a delete.
    ///
    /// # Errors
    /// [`ChangeFormError`] if the bytes do not follow the form; the builder is then not to be used further.
    pub fn read(
        &self,
        data: Option<&[u8]>,
        key: &[u8],
        timestamp_us: i64,
        builder: &mut ChangeBatchBuilder,
    ) -> Result<ChangeKind, ChangeFormError> {
        let origin = Origin { commit_time_us: timestamp_us, ..Origin::default() };
        let (mut reader, kind) = match data {
            Some(data) => (Reader::new(data), ChangeKind::Update),
            None => (Reader::new(key), ChangeKind::Delete),
        };
        builder.begin(kind, origin);
        if kind == ChangeKind::Delete {
            builder.no_new();
            builder.begin_old(OldImage::Key);
            for (index, column) in self.table.columns.iter().enumerate() {
                let value = if column.key { read_present(column.ty, &mut reader)? } else { Value::Null };
                builder.old_value(index, value)?;
            }
        } else {
            for (index, column) in self.table.columns.iter().enumerate() {
                builder.new_value(index, read_nullable(column.ty, &mut reader)?)?;
            }
            builder.no_old();
        }
        if reader.remaining() > 0 { Err(DecodeError::Number.into()) } else { Ok(kind) }
    }
}

fn value_schema(table: &TableSchema) -> Json {
    let mut columns: Vec<Json> = table.columns.iter().map(|c| column_schema(c, true)).collect();
    if let Some(first) = columns.first_mut() {
        first["of"] = json!([table.system, table.schema, table.table]);
    }
    json!({"type": "record", "name": "Row", "namespace": namespace(table), "fields": columns})
}
