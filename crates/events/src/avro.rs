//! Avro data as cells ("Binary Encoding" in the specification).

use std::borrow::Cow;
use std::collections::HashMap;

use gonvel_core::avro::binary::{DEEPEST, DecodeError, Reader};
use gonvel_core::avro::json;
use gonvel_core::avro::schema::{Logical, Schema};
use serde_json::{Map, Value as Json};

use crate::beside::Beside;
use crate::cell::Cell;
use crate::tree::{Node, Path};

/// Reads values of one schema into cells.
pub(crate) struct AvroReading<'s> {
    pub(crate) named: &'s HashMap<String, Schema>,
    pub(crate) beside: Beside,
}

fn damaged(error: &DecodeError) -> String {
    format!("the value does not follow its schema ({error}): mend the record, or discard it")
}

impl AvroReading<'_> {
    /// Reads a value; gives the fields that no column takes, as a JSON object, where that is asked for.
    pub(crate) fn read<'a>(
        &self,
        schema: &Schema,
        data: &'a [u8],
        root: &Node,
        cells: &mut [Cell<'a>],
    ) -> Result<Option<String>, String> {
        let mut reader = Reader::new(data);
        let mut rest = None;
        self.value(schema, &mut reader, root, &Path::ROOT, cells, &mut rest, 0)?;
        match reader.remaining() {
            0 => Ok(rest.map(|rest| rest.to_string())),
            left => Err(format!("{left} bytes are left over after the value: it was written with another schema")),
        }
    }

    #[allow(clippy::too_many_arguments, reason = "what is read, by what, and where it goes")]
    fn value<'a>(
        &self,
        schema: &Schema,
        reader: &mut Reader<'a>,
        node: &Node,
        path: &Path<'_>,
        cells: &mut [Cell<'a>],
        rest: &mut Option<Json>,
        depth: usize,
    ) -> Result<(), String> {
        if depth > DEEPEST {
            return Err(damaged(&DecodeError::Deep));
        }
        let start = *reader;
        let within = Self { named: self.named, beside: self.beside.below(node) };
        match schema {
            Schema::Union(branches) => {
                let branch = reader.branch(branches.len()).map_err(|e| damaged(&e))?;
                return self.value(&branches[branch], reader, node, path, cells, rest, depth + 1);
            }
            Schema::Recursive(name) => match self.named.get(name) {
                Some(schema) => return self.value(schema, reader, node, path, cells, rest, depth + 1),
                None => return Err(damaged(&DecodeError::Deep)),
            },
            Schema::Record { fields, .. } => {
                let mut hint = 0;
                for field in fields.iter() {
                    let name = field.attributes.get("sourceName").and_then(Json::as_str).unwrap_or(&field.name);
                    let below = path.down(name);
                    match node.child(name, &mut hint) {
                        Some(child) => {
                            let mut inner = None;
                            within.value(&field.schema, reader, child, &below, cells, &mut inner, depth + 1)?;
                            keep(rest, name, inner);
                        }
                        None => within.beside(&field.schema, reader, &below, name, rest, depth)?,
                    }
                }
            }
            Schema::Map(of) if node.goes_on() => {
                within.map(of, reader, node, path, cells, rest, depth)?;
            }
            Schema::Array(_) | Schema::Map(_) => {
                if node.goes_on() {
                    return Err(path.no_object("an array"));
                }
                self.skip(schema, reader, depth).map_err(|e| damaged(&e))?;
            }
            scalar => {
                let cell = scalar_cell(scalar, reader).map_err(|e| damaged(&e))?;
                if node.goes_on() {
                    if !matches!(cell, Cell::Null) {
                        return Err(path.no_object("a single value"));
                    }
                    node.null_below(cells);
                }
                node.columns.iter().for_each(|&column| cells[column] = cell.clone());
                return Ok(());
            }
        }
        if !node.columns.is_empty() {
            let mut again = start;
            let json = self.as_json(schema, &mut again).map_err(|e| damaged(&e))?.to_string();
            node.columns.iter().for_each(|&column| cells[column] = Cell::Json(Cow::Owned(json.clone())));
        }
        Ok(())
    }

    /// A field that no column takes.
    #[allow(clippy::too_many_arguments, reason = "what is read, by what, and where it goes")]
    fn beside(
        &self,
        schema: &Schema,
        reader: &mut Reader<'_>,
        path: &Path<'_>,
        name: &str,
        rest: &mut Option<Json>,
        depth: usize,
    ) -> Result<(), String> {
        match self.beside {
            Beside::Refused => Err(path.unknown()),
            Beside::Kept => {
                let json = self.as_json(schema, reader).map_err(|e| damaged(&e))?;
                keep(rest, name, Some(json));
                Ok(())
            }
            _ => self.skip(schema, reader, depth + 1).map_err(|e| damaged(&e)),
        }
    }

    #[allow(clippy::too_many_arguments, reason = "what is read, by what, and where it goes")]
    fn map<'a>(
        &self,
        of: &Schema,
        reader: &mut Reader<'a>,
        node: &Node,
        path: &Path<'_>,
        cells: &mut [Cell<'a>],
        rest: &mut Option<Json>,
        depth: usize,
    ) -> Result<(), String> {
        let mut hint = 0;
        loop {
            let count = reader.long().map_err(|e| damaged(&e))?;
            if count == 0 {
                return Ok(());
            }
            if count < 0 {
                reader.long().map_err(|e| damaged(&e))?;
            }
            for _ in 0..count.unsigned_abs() {
                let name = reader.text().map_err(|e| damaged(&e))?;
                let below = path.down(name);
                match node.child(name, &mut hint) {
                    Some(child) => {
                        let mut inner = None;
                        self.value(of, reader, child, &below, cells, &mut inner, depth + 1)?;
                        keep(rest, name, inner);
                    }
                    None => self.beside(of, reader, &below, name, rest, depth)?,
                }
            }
        }
    }

    fn as_json(&self, schema: &Schema, reader: &mut Reader<'_>) -> Result<Json, DecodeError> {
        let named: HashMap<&str, &Schema> = self.named.iter().map(|(name, schema)| (name.as_str(), schema)).collect();
        json::read_named(schema, reader, &named)
    }

    fn skip(&self, schema: &Schema, reader: &mut Reader<'_>, depth: usize) -> Result<(), DecodeError> {
        if depth > DEEPEST {
            return Err(DecodeError::Deep);
        }
        match schema {
            Schema::Array(_) | Schema::Map(_) => loop {
                let count = reader.long()?;
                if count == 0 {
                    return Ok(());
                }
                if count < 0 {
                    // the block says its length
                    let length = reader.length()?;
                    reader.take(length)?;
                    continue;
                }
                for _ in 0..count {
                    if reader.remaining() == 0 {
                        return Err(DecodeError::Short);
                    }
                    let remained = reader.remaining();
                    match schema {
                        Schema::Array(of) => self.skip(of, reader, depth + 1)?,
                        Schema::Map(of) => {
                            reader.bytes()?;
                            self.skip(of, reader, depth + 1)?;
                        }
                        _ => {}
                    }
                    reader.item(remained)?;
                }
            },
            Schema::Union(branches) => {
                let branch = reader.branch(branches.len())?;
                self.skip(&branches[branch], reader, depth + 1)
            }
            Schema::Record { fields, .. } => fields.iter().try_for_each(|f| self.skip(&f.schema, reader, depth + 1)),
            Schema::Recursive(name) => match self.named.get(name) {
                Some(schema) => self.skip(schema, reader, depth + 1),
                None => Err(DecodeError::Deep),
            },
            scalar => scalar_cell(scalar, reader).map(|_| ()),
        }
    }
}

fn keep(rest: &mut Option<Json>, name: &str, found: Option<Json>) {
    if let Some(found) = found
        && let Json::Object(members) = rest.get_or_insert_with(|| Map::new().into())
    {
        members.insert(name.to_owned(), found);
    }
}

/// A value that has no parts. `null` takes no bytes.
fn scalar_cell<'a>(schema: &Schema, reader: &mut Reader<'a>) -> Result<Cell<'a>, DecodeError> {
    let four = |reader: &mut Reader<'a>| -> Result<[u8; 4], DecodeError> {
        reader.take(4)?.try_into().map_err(|_| DecodeError::Short)
    };
    Ok(match schema {
        Schema::Boolean => Cell::Boolean(reader.boolean()?),
        Schema::Int(logical) | Schema::Long(logical) => whole(reader.long()?, *logical)?,
        Schema::Float => Cell::Float(f32::from_le_bytes(four(reader)?)),
        Schema::Double => Cell::Double(f64::from_le_bytes(reader.take(8)?.try_into().map_err(|_| DecodeError::Short)?)),
        Schema::Bytes(logical) => bytes(reader.bytes()?, *logical),
        Schema::Fixed { size, logical, .. } => bytes(reader.take(*size)?, *logical),
        Schema::String(_) => Cell::Text(Cow::Borrowed(reader.text()?)),
        Schema::Enum { symbols, .. } => Cell::Text(Cow::Owned(symbols[reader.branch(symbols.len())?].clone())),
        _ => Cell::Null,
    })
}

fn whole<'a>(number: i64, logical: Option<Logical>) -> Result<Cell<'a>, DecodeError> {
    let millis = |number: i64| number.checked_mul(1000).ok_or(DecodeError::Number);
    Ok(match logical {
        Some(Logical::Date) => Cell::Date(i32::try_from(number).map_err(|_| DecodeError::Number)?),
        Some(Logical::TimestampMicros | Logical::LocalTimestampMicros) => Cell::Timestamp(number),
        Some(Logical::TimestampMillis | Logical::LocalTimestampMillis) => Cell::Timestamp(millis(number)?),
        Some(Logical::TimestampNanos | Logical::LocalTimestampNanos) => Cell::Timestamp(number.div_euclid(1000)),
        Some(Logical::TimeMillis) => Cell::OfDay(millis(number)?),
        Some(Logical::TimeMicros) => Cell::OfDay(number),
        _ => Cell::Whole(number.into()),
    })
}

fn bytes<'a>(bytes: &'a [u8], logical: Option<Logical>) -> Cell<'a> {
    match logical {
        Some(Logical::Decimal { scale, .. }) if !bytes.is_empty() && bytes.len() <= 16 && scale <= 38 => {
            let mut wide = if bytes[0] & 0x80 == 0 { [0; 16] } else { [0xff; 16] };
            wide[16 - bytes.len()..].copy_from_slice(bytes);
            Cell::Decimal(i128::from_be_bytes(wide), u8::try_from(scale).unwrap_or(0))
        }
        Some(Logical::Uuid) if bytes.len() == 16 => {
            let digits: String = bytes.iter().map(|byte| format!("{byte:02x}")).collect();
            Cell::Text(Cow::Owned([&digits[..8], &digits[8..12], &digits[12..16], &digits[16..20], &digits[20..]].join("-")))
        }
        _ => Cell::Bytes(Cow::Borrowed(bytes)),
    }
}
