//! The change form: how a captured change is written as an Avro value and read back into column batches.
//!
//! A value is a record of `change` (the kind), `new` and `old` (the row after and before), `unchanged` (names of columns the
//! source did not send because they did not change: they are null in `new` but not null in the source) and `origin`. `old`
//! is null, the whole `Row`, or only the `Key`, by what the source told. A key is the `Key` record alone.

use std::fmt::Write as _;
use std::sync::Arc;

use serde_json::{Value as Json, json};

use crate::avro::binary::{DecodeError, Reader, write_bytes, write_decimal, write_length, write_long};
use crate::avro::fingerprint::fingerprint;
use crate::avro::schema::{Field, Logical, Schema, SchemaError};
use crate::avro::single_object;
use crate::change::{ChangeBatch, ChangeBatchBuilder, ChangeKind, OldImage, Origin};
use crate::column::{ColumnArray, ColumnType, NOT_A_NUMBER, Value, WrongColumn};
use crate::data_type::DataType;
use crate::latest_per_key::Says;
use crate::table::{Column, TableSchema};

/// Why a value could not be read as a change.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum ChangeFormError {
    /// The bytes do not follow the schema.
    #[error(transparent)]
    Data(#[from] DecodeError),
    /// The schema is not one of a change form.
    #[error("the schema is not a change form: {0}")]
    NotChangeForm(String),
    /// The schema is not one of a row form.
    #[error("the schema is not a row form: {0}")]
    NotRowForm(String),
    /// The JSON text does not follow the schema.
    #[error("the JSON text does not follow the schema: {0}")]
    Json(String),
    /// Not a schema at all.
    #[error(transparent)]
    Schema(#[from] SchemaError),
    /// Our own mistake.
    #[error(transparent)]
    Column(#[from] WrongColumn),
}

/// The change form of one table at one moment: its schema texts and the way to write and read it.
#[derive(Debug, Clone)]
pub struct ChangeForm {
    /// The table.
    pub table: Arc<TableSchema>,
    /// Avro schema of the value.
    pub value_text: String,
    /// Avro schema of the key.
    pub key_text: String,
    value_fingerprint: u64,
    key_fingerprint: u64,
    key_columns: Vec<usize>,
}

impl ChangeForm {
    /// The form for a table.
    ///
    /// # Panics
    /// Never: the schema texts it makes are JSON.
    #[must_use]
    pub fn of(table: Arc<TableSchema>) -> Self {
        let key = key_schema(&table, true);
        let value_text = value_schema(&table).to_string();
        let key_text = key.to_string();
        let value_fingerprint = fingerprint(&value_text).expect("made as JSON");
        let key_fingerprint = fingerprint(&key_text).expect("made as JSON");
        let key_columns = table.key_columns();
        Self { table, value_text, key_text, value_fingerprint, key_fingerprint, key_columns }
    }

    /// The form that a value schema's text describes.
    ///
    /// # Errors
    /// [`ChangeFormError`] if the text is no schema or not one of a change form.
    pub fn from_value_text(text: &str) -> Result<Self, ChangeFormError> {
        let schema = Schema::parse(text)?;
        Ok(Self::of(Arc::new(table_of(&schema).map_err(|e| ChangeFormError::NotChangeForm(e.to_owned()))?)))
    }

    /// Appends the key of a row, in single-object encoding.
    pub fn write_key(&self, image: &[ColumnArray], row: usize, out: &mut Vec<u8>) {
        single_object::header(self.key_fingerprint, out);
        for &column in &self.key_columns {
            let column_of = &self.table.columns[column];
            write_present(column_of.ty, one_form(column_of, image[column].value(row)), out);
        }
    }

    /// Appends a change, in single-object encoding.
    pub fn write_change(&self, batch: &ChangeBatch, row: usize, out: &mut Vec<u8>) {
        single_object::header(self.value_fingerprint, out);
        let kind = batch.kinds[row];
        write_length(ChangeKind::ALL.iter().position(|k| *k == kind).expect("all kinds are listed"), out);
        if matches!(kind, ChangeKind::Delete | ChangeKind::Truncate) {
            out.push(0);
        } else {
            out.push(2);
            self.write_row(&batch.new, row, out);
        }
        match batch.old_images[row] {
            OldImage::None => out.push(0),
            OldImage::Row => {
                out.push(2);
                self.write_row(&batch.old, row, out);
            }
            OldImage::Key => {
                out.push(4);
                for &column in &self.key_columns {
                    write_present(self.table.columns[column].ty, batch.old[column].value(row), out);
                }
            }
        }
        match batch.unchanged.get(&row) {
            Some(columns) if !batch.unchanged.is_empty() => {
                write_length(columns.len(), out);
                for &column in columns {
                    write_bytes(self.table.columns[column].name.as_bytes(), out);
                }
                out.push(0);
            }
            _ => out.push(0),
        }
        let origin = &batch.origins[row];
        write_bytes(self.table.system.as_bytes(), out);
        write_bytes(self.table.schema.as_bytes(), out);
        write_bytes(self.table.table.as_bytes(), out);
        write_position(origin.position, out);
        write_long(origin.transaction.cast_signed(), out);
        write_long(origin.sequence.cast_signed(), out);
        write_long(origin.commit_time_us, out);
    }

    pub(crate) fn write_row(&self, image: &[ColumnArray], row: usize, out: &mut Vec<u8>) {
        for (column, array) in self.table.columns.iter().zip(image) {
            match array.value(row) {
                Value::Null => out.push(0),
                Value::Decimal(NOT_A_NUMBER) => {
                    out.push(4);
                    write_bytes(b"NaN", out);
                }
                value => {
                    out.push(2);
                    write_plain(column.ty, value, out);
                }
            }
        }
    }

    /// Reads a change's data (after the single-object header) into the builder, whose table must be this form's.
    ///
    /// # Errors
    /// [`ChangeFormError`] if the bytes do not follow the form; the builder is then not to be used further.
    pub fn read_change(&self, data: &[u8], builder: &mut ChangeBatchBuilder) -> Result<ChangeKind, ChangeFormError> {
        let mut reader = Reader::new(data);
        let kind = ChangeKind::ALL[reader.branch(ChangeKind::ALL.len())?];
        builder.begin(kind, Origin::default());
        if reader.branch(2)? == 0 {
            builder.no_new();
        } else {
            for (index, column) in self.table.columns.iter().enumerate() {
                builder.new_value(index, read_nullable(column.ty, &mut reader)?)?;
            }
        }
        match reader.branch(3)? {
            0 => builder.no_old(),
            1 => {
                builder.begin_old(OldImage::Row);
                for (index, column) in self.table.columns.iter().enumerate() {
                    builder.old_value(index, read_nullable(column.ty, &mut reader)?)?;
                }
            }
            _ => {
                builder.begin_old(OldImage::Key);
                for (index, column) in self.table.columns.iter().enumerate() {
                    let value = if column.key { read_present(column.ty, &mut reader)? } else { Value::Null };
                    builder.old_value(index, value)?;
                }
            }
        }
        self.read_unchanged(&mut reader, builder)?;
        for _ in 0..3 {
            reader.bytes()?;
        }
        builder.set_origin(Origin {
            position: read_position(reader.text()?).ok_or(DecodeError::Number)?,
            transaction: reader.long()?.cast_unsigned(),
            sequence: reader.long()?.cast_unsigned(),
            commit_time_us: reader.long()?,
        });
        if reader.remaining() > 0 {
            return Err(DecodeError::Number.into());
        }
        Ok(kind)
    }

    /// The position of the change's transaction in its source's log, from a change's data (after the single-object header).
    ///
    /// # Errors
    /// [`ChangeFormError`] if the bytes do not follow the form.
    pub fn position(&self, data: &[u8]) -> Result<u64, ChangeFormError> {
        let mut reader = Reader::new(data);
        reader.branch(ChangeKind::ALL.len())?;
        if reader.branch(2)? == 1 {
            for column in &self.table.columns {
                read_nullable(column.ty, &mut reader)?;
            }
        }
        match reader.branch(3)? {
            0 => {}
            1 => {
                for column in &self.table.columns {
                    read_nullable(column.ty, &mut reader)?;
                }
            }
            _ => {
                for &column in &self.key_columns {
                    read_present(self.table.columns[column].ty, &mut reader)?;
                }
            }
        }
        loop {
            let count = reader.long()?;
            if count == 0 {
                break;
            }
            if count < 0 {
                reader.long()?;
            }
            for _ in 0..count.unsigned_abs() {
                reader.bytes()?;
            }
        }
        for _ in 0..3 {
            reader.bytes()?;
        }
        Ok(read_position(reader.text()?).ok_or(DecodeError::Number)?)
    }

    /// What a change's data (after the single-object header) says of its key.
    ///
    /// # Errors
    /// [`ChangeFormError`] if the bytes do not follow the form.
    pub fn says(&self, data: &[u8]) -> Result<Says, ChangeFormError> {
        let mut builder = ChangeBatchBuilder::new(self.table.clone());
        let kind = self.read_change(data, &mut builder)?;
        let whole = builder.finish().unchanged.is_empty();
        Ok(match kind {
            ChangeKind::Delete => Says::Gone,
            _ if whole => Says::Whole,
            _ => Says::Part,
        })
    }

    fn read_unchanged(&self, reader: &mut Reader<'_>, builder: &mut ChangeBatchBuilder) -> Result<(), ChangeFormError> {
        loop {
            let count = reader.long()?;
            if count == 0 {
                return Ok(());
            }
            if count < 0 {
                reader.long()?;
            }
            for _ in 0..count.unsigned_abs() {
                let name = reader.text()?;
                if let Some(column) = self.table.columns.iter().position(|c| c.name == name) {
                    builder.mark_unchanged(column);
                }
            }
        }
    }
}

/// A key's value in the form that all values have which its database takes for equal: a row whose key is written otherwise from then on is
/// the same row, and its records belong in the same partition.
fn one_form<'v>(column: &Column, value: Value<'v>) -> Value<'v> {
    match value {
        Value::Float(0.0) => Value::Float(0.0),
        Value::Double(0.0) => Value::Double(0.0),
        // without a scale of its own each value has one
        Value::Text(text) if column.has_several_forms() && text.contains('.') => {
            Value::Text(text.trim_end_matches('0').trim_end_matches('.'))
        }
        value => value,
    }
}

fn write_position(position: u64, out: &mut Vec<u8>) {
    // by hand: formatting would be a good part of writing a small row
    let mut text = [0_u8; 17];
    let mut start = text.len();
    let mut put = |digit: u8| {
        start -= 1;
        text[start] = digit;
    };
    for (number, half) in [position & 0xffff_ffff, position >> 32].into_iter().enumerate() {
        if number > 0 {
            put(b'/');
        }
        let mut left = half;
        loop {
            put(b"0123456789ABCDEF"[usize::try_from(left & 0xf).unwrap_or(0)]);
            left >>= 4;
            if left == 0 {
                break;
            }
        }
    }
    write_bytes(&text[start..], out);
}

/// Reads a position as [`position_text`] writes it.
#[must_use]
pub fn read_position(text: &str) -> Option<u64> {
    let (high, low) = text.split_once('/')?;
    Some(u64::from(u32::from_str_radix(high, 16).ok()?) << 32 | u64::from(u32::from_str_radix(low, 16).ok()?))
}

/// A position in a source's order as text: two hexadecimal numbers around a slash, whatever system it is of.
#[must_use]
pub fn position_text(position: u64) -> String {
    format!("{:X}/{:X}", position >> 32, position & 0xffff_ffff)
}

/// A value of a column that cannot be null: of a key.
fn write_present(ty: ColumnType, value: Value<'_>, out: &mut Vec<u8>) {
    if matches!(ty, ColumnType::Decimal { .. }) {
        if value == Value::Decimal(NOT_A_NUMBER) {
            out.push(2);
            return write_bytes(b"NaN", out);
        }
        out.push(0);
    }
    write_plain(ty, value, out);
}

#[inline]
fn write_plain(ty: ColumnType, value: Value<'_>, out: &mut Vec<u8>) {
    match value {
        Value::Boolean(v) => out.push(u8::from(v)),
        Value::Int(v) | Value::Date(v) => write_long(i64::from(v), out),
        Value::Long(v) | Value::Timestamp(v) => write_long(v, out),
        Value::Float(v) => out.extend_from_slice(&v.to_le_bytes()),
        Value::Double(v) => out.extend_from_slice(&v.to_le_bytes()),
        Value::Decimal(v) => write_decimal(v, out),
        Value::Text(v) => write_bytes(v.as_bytes(), out),
        Value::Bytes(v) => write_bytes(v, out),
        // a key column without a value: only possible for a row the source sent without its key; zero keeps the form readable
        Value::Null => match ty {
            ColumnType::Float32 => out.extend_from_slice(&[0; 4]),
            ColumnType::Float64 => out.extend_from_slice(&[0; 8]),
            ColumnType::Decimal { .. } => write_decimal(0, out),
            _ => out.push(0),
        },
    }
}

#[inline]
pub(crate) fn read_nullable<'a>(ty: ColumnType, reader: &mut Reader<'a>) -> Result<Value<'a>, DecodeError> {
    let branches = if matches!(ty, ColumnType::Decimal { .. }) { 3 } else { 2 };
    match reader.branch(branches)? {
        0 => Ok(Value::Null),
        1 => read_plain(ty, reader),
        _ => read_not_a_number(reader),
    }
}

pub(crate) fn read_present<'a>(ty: ColumnType, reader: &mut Reader<'a>) -> Result<Value<'a>, DecodeError> {
    if matches!(ty, ColumnType::Decimal { .. }) && reader.branch(2)? == 1 {
        return read_not_a_number(reader);
    }
    read_plain(ty, reader)
}

fn read_not_a_number<'a>(reader: &mut Reader<'a>) -> Result<Value<'a>, DecodeError> {
    reader.bytes()?;
    Ok(Value::Decimal(NOT_A_NUMBER))
}

#[inline]
fn read_plain<'a>(ty: ColumnType, reader: &mut Reader<'a>) -> Result<Value<'a>, DecodeError> {
    Ok(match ty {
        ColumnType::Boolean => Value::Boolean(reader.boolean()?),
        ColumnType::Int16 | ColumnType::Int32 => Value::Int(reader.int()?),
        ColumnType::Int64 => Value::Long(reader.long()?),
        ColumnType::Float32 => Value::Float(f32::from_le_bytes(reader.take(4)?.try_into().map_err(|_| DecodeError::Short)?)),
        ColumnType::Float64 => {
            Value::Double(f64::from_le_bytes(reader.take(8)?.try_into().map_err(|_| DecodeError::Short)?))
        }
        ColumnType::Decimal { .. } => Value::Decimal(reader.decimal()?),
        ColumnType::Text | ColumnType::Verbatim => Value::Text(reader.text()?),
        ColumnType::Bytes => Value::Bytes(reader.bytes()?),
        ColumnType::Date => Value::Date(reader.int()?),
        ColumnType::Timestamp | ColumnType::TimestampTz => Value::Timestamp(reader.long()?),
    })
}

/// A name that Avro takes: letters, digits and underscores, not beginning with a digit.
fn avro_name(name: &str) -> String {
    let mut out = String::with_capacity(name.len());
    for (i, c) in name.chars().enumerate() {
        if c.is_ascii_alphabetic() || c == '_' || (i > 0 && c.is_ascii_digit()) {
            out.push(c);
        } else {
            let _ = write!(out, "_{:x}", u32::from(c));
        }
    }
    out
}

fn plain_schema(ty: ColumnType) -> Json {
    match ty {
        ColumnType::Boolean => json!("boolean"),
        ColumnType::Int16 | ColumnType::Int32 => json!("int"),
        ColumnType::Int64 => json!("long"),
        ColumnType::Float32 => json!("float"),
        ColumnType::Float64 => json!("double"),
        ColumnType::Decimal { precision, scale } => {
            json!({"type": "bytes", "logicalType": "decimal", "precision": precision, "scale": scale})
        }
        ColumnType::Text | ColumnType::Verbatim => json!("string"),
        ColumnType::Bytes => json!("bytes"),
        ColumnType::Date => json!({"type": "int", "logicalType": "date"}),
        ColumnType::Timestamp => json!({"type": "long", "logicalType": "local-timestamp-micros"}),
        ColumnType::TimestampTz => json!({"type": "long", "logicalType": "timestamp-micros"}),
    }
}

pub(crate) fn column_schema(column: &Column, nullable: bool) -> Json {
    let mut branches = vec![plain_schema(column.ty)];
    if nullable {
        branches.insert(0, json!("null"));
    }
    if matches!(column.ty, ColumnType::Decimal { .. }) {
        branches.push(json!("string"));
    }
    let ty = if branches.len() == 1 { branches.remove(0) } else { Json::Array(branches) };
    let mut field = json!({"name": avro_name(&column.name), "type": ty, "sourceType": column.source_type});
    if nullable {
        // a column that is added later reads as null where data was written without it
        field["default"] = Json::Null;
    }
    if field["name"] != column.name.as_str() {
        field["sourceName"] = json!(column.name);
    }
    if column.ty == ColumnType::Verbatim {
        field["verbatim"] = json!(true);
    }
    if nullable && column.key {
        field["key"] = json!(true);
    }
    field
}

pub(crate) fn namespace(table: &TableSchema) -> String {
    [&table.system, &table.schema, &table.table].map(|part| avro_name(part)).join(".")
}

fn key_schema(table: &TableSchema, alone: bool) -> Json {
    let fields: Vec<Json> = table.columns.iter().filter(|c| c.key).map(|c| column_schema(c, false)).collect();
    let mut key = json!({"type": "record", "name": "Key", "fields": fields});
    if alone {
        key["namespace"] = json!(namespace(table));
    }
    key
}

fn value_schema(table: &TableSchema) -> Json {
    let columns: Vec<Json> = table.columns.iter().map(|c| column_schema(c, true)).collect();
    let kinds: Vec<&str> = ChangeKind::ALL.iter().map(|k| k.word()).collect();
    json!({
        "type": "record", "name": "Change", "namespace": namespace(table),
        "system": table.system, "schema": table.schema, "table": table.table,
        "fields": [
            {"name": "change", "type": {"type": "enum", "name": "Kind", "symbols": kinds}},
            {"name": "new", "type": ["null", {"type": "record", "name": "Row", "fields": columns}]},
            {"name": "old", "type": ["null", "Row", key_schema(table, false)]},
            {"name": "unchanged", "type": {"type": "array", "items": "string"}},
            {"name": "origin", "type": {"type": "record", "name": "Origin", "fields": [
                {"name": "system", "type": "string", "is": table.system},
                {"name": "schema", "type": "string", "is": table.schema},
                {"name": "table", "type": "string", "is": table.table},
                {"name": "position", "type": "string"},
                {"name": "transaction", "type": "long"},
                {"name": "sequence", "type": "long"},
                {"name": "commit_time", "type": {"type": "long", "logicalType": "timestamp-micros"}}
            ]}}
        ]
    })
}

fn table_of(schema: &Schema) -> Result<TableSchema, &'static str> {
    let Schema::Record { fields, .. } = schema else { return Err("it is not a record") };
    let field = |name: &str| fields.iter().find(|f| f.name == name);
    let Some(Field { schema: Schema::Union(new), .. }) = field("new") else { return Err("\"new\" is not a union") };
    let [Schema::Null, Schema::Record { fields: row, .. }] = new.as_slice() else {
        return Err("\"new\" is not a nullable row");
    };
    let Some(Field { schema: Schema::Record { fields: origin, .. }, .. }) = field("origin") else {
        return Err("\"origin\" is not a record");
    };
    let is = |name: &str| {
        let found = origin.iter().find(|f| f.name == name).and_then(|f| f.attributes.get("is")).and_then(Json::as_str);
        found.map(str::to_owned).ok_or("\"origin\" does not name its table")
    };
    let columns = row.iter().map(column_of).collect::<Result<Vec<_>, _>>()?;
    Ok(TableSchema { system: is("system")?, schema: is("schema")?, table: is("table")?, columns })
}

pub(crate) fn column_of(field: &Field) -> Result<Column, &'static str> {
    let Schema::Union(branches) = &field.schema else { return Err("a column is not nullable") };
    let attribute = |name: &str| field.attributes.get(name);
    let text = |name: &str| attribute(name).and_then(Json::as_str).map(str::to_owned);
    let source_type = DataType::named(&text("sourceType").ok_or("a column does not name its source type")?);
    let ty = match branches.get(1).ok_or("a column has no type")? {
        Schema::Boolean => ColumnType::Boolean,
        Schema::Int(None) if source_type == DataType::Int16 => ColumnType::Int16,
        Schema::Int(None) => ColumnType::Int32,
        Schema::Long(None) => ColumnType::Int64,
        Schema::Float => ColumnType::Float32,
        Schema::Double => ColumnType::Float64,
        Schema::Bytes(Some(Logical::Decimal { precision, scale })) => ColumnType::Decimal {
            precision: u8::try_from(*precision).map_err(|_| "a decimal has too many digits")?,
            scale: u8::try_from(*scale).map_err(|_| "a decimal has too many digits")?,
        },
        Schema::Bytes(_) => ColumnType::Bytes,
        Schema::String(_) if attribute("verbatim").is_some() => ColumnType::Verbatim,
        Schema::String(_) => ColumnType::Text,
        Schema::Int(Some(Logical::Date)) => ColumnType::Date,
        Schema::Long(Some(Logical::TimestampMicros)) => ColumnType::TimestampTz,
        Schema::Long(Some(Logical::LocalTimestampMicros)) => ColumnType::Timestamp,
        _ => return Err("a column has a type that no source writes"),
    };
    let name = text("sourceName").unwrap_or_else(|| field.name.clone());
    Ok(Column { name, ty, source_type, key: attribute("key").is_some() })
}

#[cfg(test)]
#[path = "change_form_tests.rs"]
mod tests;
