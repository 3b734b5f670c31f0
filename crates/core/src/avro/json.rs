//! Avro values as JSON for people: unions without their branch names, decimals and times as text.

use std::collections::HashMap;

use serde_json::{Map, Number, Value as Json};

use super::binary::{DEEPEST, DecodeError, Reader};
use super::schema::{Field, Logical, Schema};
use crate::civil;

/// Reads one value of this schema as JSON.
///
/// # Errors
/// [`DecodeError`] if the bytes were not written with the schema.
pub fn read(schema: &Schema, reader: &mut Reader<'_>) -> Result<Json, DecodeError> {
    let mut named = HashMap::new();
    collect(schema, &mut named);
    reader.next_value();
    value(schema, reader, &named, 0)
}

/// The same, with the schema's named types already collected: a part of a schema may name types of what is around it.
///
/// # Errors
/// As [`read`].
pub fn read_named(schema: &Schema, reader: &mut Reader<'_>, named: &HashMap<&str, &Schema>) -> Result<Json, DecodeError> {
    value(schema, reader, named, 0)
}

pub(super) fn collect<'s>(schema: &'s Schema, named: &mut HashMap<&'s str, &'s Schema>) {
    match schema {
        Schema::Array(inner) | Schema::Map(inner) => collect(inner, named),
        Schema::Union(branches) => branches.iter().for_each(|b| collect(b, named)),
        Schema::Record { names, fields } if named.insert(&names.full, schema).is_none() => {
            fields.iter().for_each(|f| collect(&f.schema, named));
        }
        _ => {}
    }
}

/// A decimal's text: `-12.30` for -1230 at scale 2.
#[must_use]
pub fn decimal_text(unscaled: i128, scale: usize) -> String {
    let digits = unscaled.unsigned_abs().to_string();
    let sign = if unscaled < 0 { "-" } else { "" };
    if scale == 0 {
        return format!("{sign}{digits}");
    }
    let padded = format!("{digits:0>width$}", width = scale + 1);
    let (whole, fraction) = padded.split_at(padded.len() - scale);
    format!("{sign}{whole}.{fraction}")
}

fn date_text(days: i64) -> String {
    match i32::try_from(days) {
        Ok(i32::MAX) => "infinity".to_owned(),
        Ok(i32::MIN) => "-infinity".to_owned(),
        _ => {
            let mut out = Vec::new();
            if civil::write_date(days, &mut out) {
                out.extend_from_slice(b" BC");
            }
            String::from_utf8(out).expect("digits and dashes")
        }
    }
}

fn timestamp_text(us: i64, zoned: bool) -> String {
    match us {
        i64::MAX => "infinity".to_owned(),
        i64::MIN => "-infinity".to_owned(),
        _ if zoned => civil::rfc3339(us),
        _ => civil::rfc3339(us).replacen('Z', "", 1),
    }
}

pub(super) fn long_json(number: i64, logical: Option<Logical>) -> Json {
    match logical {
        Some(Logical::Date) => date_text(number).into(),
        Some(Logical::TimestampMicros) => timestamp_text(number, true).into(),
        Some(Logical::LocalTimestampMicros) => timestamp_text(number, false).into(),
        Some(Logical::TimestampMillis) => {
            number.checked_mul(1000).map_or(number.into(), |us| timestamp_text(us, true).into())
        }
        Some(Logical::LocalTimestampMillis) => {
            number.checked_mul(1000).map_or(number.into(), |us| timestamp_text(us, false).into())
        }
        _ => number.into(),
    }
}

pub(super) fn bytes_json(bytes: &[u8], logical: Option<Logical>) -> Json {
    match logical {
        Some(Logical::Uuid) if bytes.len() == 16 => {
            uuid::Uuid::from_slice(bytes).map_or(Json::Null, |id| id.to_string().into())
        }
        Some(Logical::Decimal { scale, .. }) if !bytes.is_empty() && bytes.len() <= 16 => {
            let mut wide = if bytes[0] & 0x80 == 0 { [0; 16] } else { [0xff; 16] };
            wide[16 - bytes.len()..].copy_from_slice(bytes);
            decimal_text(i128::from_be_bytes(wide), usize::try_from(scale).unwrap_or(0)).into()
        }
        _ => {
            let mut text = String::with_capacity(bytes.len() * 2 + 2);
            text.push_str("\\x");
            for byte in bytes {
                text.push(char::from_digit(u32::from(byte >> 4), 16).expect("a nibble"));
                text.push(char::from_digit(u32::from(byte & 15), 16).expect("a nibble"));
            }
            text.into()
        }
    }
}

pub(super) fn float_json(number: f64) -> Json {
    Number::from_f64(number).map_or_else(|| number.to_string().into(), Json::Number)
}

fn value(
    schema: &Schema,
    reader: &mut Reader<'_>,
    named: &HashMap<&str, &Schema>,
    depth: usize,
) -> Result<Json, DecodeError> {
    if depth > DEEPEST {
        return Err(DecodeError::Deep);
    }
    Ok(match schema {
        Schema::Null => Json::Null,
        Schema::Boolean => reader.boolean()?.into(),
        Schema::Int(logical) | Schema::Long(logical) => long_json(reader.long()?, *logical),
        Schema::Float => {
            float_json(f64::from(f32::from_le_bytes(reader.take(4)?.try_into().map_err(|_| DecodeError::Short)?)))
        }
        Schema::Double => float_json(f64::from_le_bytes(reader.take(8)?.try_into().map_err(|_| DecodeError::Short)?)),
        Schema::Bytes(logical) => bytes_json(reader.bytes()?, *logical),
        Schema::String(_) => reader.text()?.into(),
        Schema::Fixed { size, logical, .. } => bytes_json(reader.take(*size)?, *logical),
        Schema::Enum { symbols, .. } => symbols[reader.branch(symbols.len())?].as_str().into(),
        Schema::Array(inner) => {
            let mut items = Vec::new();
            blocks(reader, |reader| {
                reader.part(0)?;
                items.push(value(inner, reader, named, depth + 1)?);
                Ok(())
            })?;
            items.into()
        }
        Schema::Map(inner) => {
            let mut items = Map::new();
            blocks(reader, |reader| {
                let key = reader.text()?.to_owned();
                reader.part(key.len())?;
                items.insert(key, value(inner, reader, named, depth + 1)?);
                Ok(())
            })?;
            items.into()
        }
        Schema::Union(branches) => value(&branches[reader.branch(branches.len())?], reader, named, depth + 1)?,
        Schema::Record { fields, .. } => record(fields, reader, named, depth)?,
        Schema::Recursive(name) => match named.get(name.as_str()) {
            Some(schema) => value(schema, reader, named, depth + 1)?,
            None => return Err(DecodeError::Deep),
        },
    })
}

fn record(
    fields: &[Field],
    reader: &mut Reader<'_>,
    named: &HashMap<&str, &Schema>,
    depth: usize,
) -> Result<Json, DecodeError> {
    let mut object = Map::new();
    for field in fields {
        let name = field.attributes.get("sourceName").and_then(Json::as_str).unwrap_or(&field.name);
        reader.part(name.len())?;
        object.insert(name.to_owned(), value(&field.schema, reader, named, depth + 1)?);
    }
    Ok(object.into())
}

/// Reads the blocks of an array or a map.
pub(super) fn blocks(
    reader: &mut Reader<'_>,
    mut one: impl FnMut(&mut Reader<'_>) -> Result<(), DecodeError>,
) -> Result<(), DecodeError> {
    loop {
        let count = reader.long()?;
        if count == 0 {
            return Ok(());
        }
        if count < 0 {
            reader.long()?;
        }
        for _ in 0..count.unsigned_abs() {
            // an item of no bytes (a null) must not let a count run on for ever
            let remained = reader.remaining();
            if remained == 0 {
                return Err(DecodeError::Short);
            }
            one(reader)?;
            reader.item(remained)?;
        }
    }
}
