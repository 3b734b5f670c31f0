//! How a connector's records are written and read: change form or row form, as Avro or as JSON text.

use std::sync::Arc;

use crate::avro::binary::{DecodeError, Reader};
use crate::avro::schema::Schema;
use crate::avro::{from_json, json, single_object};
use crate::change::{ChangeBatch, ChangeBatchBuilder, ChangeKind};
use crate::change_form::{ChangeForm, ChangeFormError};
use crate::column::ColumnArray;
use crate::connector::{Encoding, ValueForm, Values};
use crate::latest_per_key::Says;
use crate::row_form::RowForm;
use crate::table::TableSchema;

/// The length of what stands before the data in single-object encoding.
const HEADER: usize = 10;

/// Schemas by which records are written as JSON text instead of Avro.
#[derive(Debug, Clone)]
struct JsonSchemas {
    value: Schema,
    key: Schema,
}

/// How the records of one table at one moment are written.
#[derive(Debug, Clone)]
pub struct RecordForm {
    change: ChangeForm,
    row: Option<RowForm>,
    json: Option<JsonSchemas>,
}

impl RecordForm {
    /// The way a source writes a table's records.
    ///
    /// # Panics
    /// Never: the schema texts it makes are schemas.
    #[must_use]
    pub fn of(table: Arc<TableSchema>, values: Values) -> Self {
        let row = (values.form == ValueForm::Row).then(|| RowForm::of(table.clone()));
        let mut form = Self { change: ChangeForm::of(table), row, json: None };
        if values.encoding == Encoding::Json {
            let parse = |text: &str| Schema::parse(text).expect("made as a schema");
            form.json = Some(JsonSchemas { value: parse(form.value_text()), key: parse(form.key_text()) });
        }
        form
    }

    /// Avro schema of the value, which JSON text follows as well.
    #[must_use]
    pub fn value_text(&self) -> &str {
        self.row.as_ref().map_or(&self.change.value_text, |row| &row.value_text)
    }

    /// Avro schema of the key.
    #[must_use]
    pub fn key_text(&self) -> &str {
        &self.change.key_text
    }

    /// Appends the key of a row.
    pub fn write_key(&self, image: &[ColumnArray], row: usize, out: &mut Vec<u8>) {
        let start = out.len();
        self.change.write_key(image, row, out);
        if let Some(schemas) = &self.json {
            as_json(&schemas.key, start, out);
        }
    }

    /// Appends a change's value; false if the change has none: a delete in row form.
    pub fn write_value(&self, batch: &ChangeBatch, row: usize, out: &mut Vec<u8>) -> bool {
        let start = out.len();
        let written = match &self.row {
            Some(form) => form.write(&self.change, batch, row, out),
            None => {
                self.change.write_change(batch, row, out);
                true
            }
        };
        if let (true, Some(schemas)) = (written, &self.json) {
            as_json(&schemas.value, start, out);
        }
        written
    }
}

/// Replaces the Avro value from `start` on by its JSON text.
fn as_json(schema: &Schema, start: usize, out: &mut Vec<u8>) {
    let value = json::read(schema, &mut Reader::new(&out[start + HEADER..]));
    out.truncate(start);
    out.extend_from_slice(value.expect("just written by this schema").to_string().as_bytes());
}

/// A form that records are read by, as their schema says.
#[derive(Debug, Clone)]
pub struct ReadForm {
    kind: Read,
    value: Schema,
    key: Schema,
}

#[derive(Debug, Clone)]
enum Read {
    Change(ChangeForm),
    Row(RowForm),
}

impl ReadForm {
    /// The form that a value schema's text describes.
    ///
    /// # Errors
    /// [`ChangeFormError`] if the text is no schema or is of no form that a source writes.
    ///
    /// # Panics
    /// Never: the schema texts a form makes are schemas.
    pub fn from_value_text(text: &str) -> Result<Self, ChangeFormError> {
        let kind = match RowForm::from_value_text(text) {
            Ok(form) => Read::Row(form),
            Err(_) => Read::Change(ChangeForm::from_value_text(text)?),
        };
        let table = match &kind {
            Read::Change(form) => form.table.clone(),
            Read::Row(form) => form.table.clone(),
        };
        let key = Schema::parse(&ChangeForm::of(table).key_text).expect("made as a schema");
        Ok(Self { kind, value: Schema::parse(text)?, key })
    }

    /// The table's shape.
    #[must_use]
    pub fn table(&self) -> &Arc<TableSchema> {
        match &self.kind {
            Read::Change(form) => &form.table,
            Read::Row(form) => &form.table,
        }
    }

    /// Whether a record without a value is a delete.
    #[must_use]
    pub fn is_row_form(&self) -> bool {
        matches!(self.kind, Read::Row(_))
    }

    /// Reads a record into the builder, whose table must be this form's.
    ///
    /// # Errors
    /// [`ChangeFormError`] if the bytes do not follow the form; the builder is then not to be used further.
    pub fn read(
        &self,
        key: &[u8],
        value: Option<&[u8]>,
        timestamp_us: i64,
        builder: &mut ChangeBatchBuilder,
    ) -> Result<ChangeKind, ChangeFormError> {
        let (mut of_value, mut of_key) = (Vec::new(), Vec::new());
        let value = value.map(|v| data(&self.value, v, &mut of_value)).transpose()?;
        match (&self.kind, value) {
            (Read::Change(form), Some(value)) => form.read_change(value, builder),
            (Read::Change(_), None) => Err(DecodeError::Short.into()),
            (Read::Row(form), Some(value)) => form.read(Some(value), &[], timestamp_us, builder),
            (Read::Row(form), None) => form.read(None, data(&self.key, key, &mut of_key)?, timestamp_us, builder),
        }
    }
}

impl ReadForm {
    /// What a value says of its key.
    ///
    /// # Errors
    /// [`ChangeFormError`] if the bytes do not follow the form.
    pub fn says(&self, value: &[u8]) -> Result<Says, ChangeFormError> {
        let mut scratch = Vec::new();
        match &self.kind {
            Read::Change(form) => form.says(data(&self.value, value, &mut scratch)?),
            Read::Row(_) => Ok(Says::Whole),
        }
    }

    /// The position of a value's transaction in its source's log; 0 for a row of an initial load, and in row form, which does
    /// not say it.
    ///
    /// # Errors
    /// [`ChangeFormError`] if the bytes do not follow the form.
    pub fn position(&self, value: Option<&[u8]>) -> Result<u64, ChangeFormError> {
        let (Read::Change(form), Some(value)) = (&self.kind, value) else { return Ok(0) };
        let mut scratch = Vec::new();
        form.position(data(&self.value, value, &mut scratch)?)
    }
}

/// The Avro data of a record's part that is in single-object encoding or JSON text.
fn data<'a>(schema: &Schema, part: &'a [u8], scratch: &'a mut Vec<u8>) -> Result<&'a [u8], ChangeFormError> {
    if let Some((_, data)) = single_object::split(part) {
        return Ok(data);
    }
    let json = serde_json::from_slice(part).map_err(|e| ChangeFormError::Json(e.to_string()))?;
    from_json::write(schema, &json, scratch).map_err(|e| ChangeFormError::Json(e.to_string()))?;
    Ok(scratch)
}

/// Rows of a table as JSON objects.
#[derive(Debug, Clone)]
pub struct RowJson {
    form: ChangeForm,
    row: Schema,
}

impl RowJson {
    /// For a table's rows.
    ///
    /// # Panics
    /// Never: the schema text it makes is a schema.
    #[must_use]
    pub fn of(table: Arc<TableSchema>) -> Self {
        let row = Schema::parse(&RowForm::of(table.clone()).value_text).expect("made as a schema");
        Self { form: ChangeForm::of(table), row }
    }

    /// A row with those of its columns that are kept, by their names in the system.
    ///
    /// # Panics
    /// If the row is past the image's end.
    #[must_use]
    pub fn row(&self, image: &[ColumnArray], row: usize, keep: impl Fn(usize) -> bool) -> serde_json::Value {
        let mut data = Vec::new();
        self.form.write_row(image, row, &mut data);
        let json = json::read(&self.row, &mut Reader::new(&data)).expect("just written by this schema");
        let serde_json::Value::Object(fields) = json else { return json };
        let columns = &self.form.table.columns;
        let kept = fields.into_iter().zip(columns).enumerate().filter(|(index, _)| keep(*index));
        kept.map(|(_, ((_, value), column))| (column.name.clone(), value)).collect::<serde_json::Map<_, _>>().into()
    }
}
