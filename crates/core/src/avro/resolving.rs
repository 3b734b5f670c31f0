//! Reading values written with one schema in the form of another ("Schema Resolution" in the specification).

use std::collections::HashMap;

use serde_json::{Map, Value as Json};

use super::binary::{DEEPEST, DecodeError, Reader};
use super::defaults;
use super::json::{blocks, bytes_json, collect, float_json, long_json, read_named};
use super::resolution::{logical, matches, means_the_same, of, promotes, promotion_keeps_meaning, said, writers_field};
use super::schema::{Field, Schema};

/// Why a value cannot be read in another schema's form.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum ResolveError {
    /// The bytes were not written with the writer's schema.
    #[error(transparent)]
    Decode(#[from] DecodeError),
    /// The value has no place in the reader's schema.
    #[error("at {path}: {finding}")]
    Unfit {
        /// Where, as a path of names.
        path: String,
        /// What was found and what fits.
        finding: String,
    },
}

/// Reads values of a writer's schema in the form of a reader's.
pub struct Resolver<'s> {
    reader: &'s Schema,
    writer: &'s Schema,
    readers: HashMap<&'s str, &'s Schema>,
    writers: HashMap<&'s str, &'s Schema>,
}

type Resolved = Result<Json, ResolveError>;

fn unfit<T>(path: &str, finding: String) -> Result<T, ResolveError> {
    Err(ResolveError::Unfit { path: path.to_owned(), finding })
}

impl<'s> Resolver<'s> {
    /// For values of a writer's schema, in the form of a reader's.
    #[must_use]
    pub fn new(reader: &'s Schema, writer: &'s Schema) -> Self {
        let (mut readers, mut writers) = (HashMap::new(), HashMap::new());
        collect(reader, &mut readers);
        collect(writer, &mut writers);
        Self { reader, writer, readers, writers }
    }

    /// Reads one value as JSON in the reader's form, as [`super::json::read`] shows it.
    ///
    /// # Errors
    /// [`ResolveError`] with the place in the reader's schema.
    pub fn read(&self, from: &mut Reader<'_>) -> Resolved {
        from.next_value();
        self.value(self.reader, self.writer, from, "$", 0)
    }

    fn value(&self, reader: &Schema, writer: &Schema, from: &mut Reader<'_>, path: &str, depth: usize) -> Resolved {
        if depth > DEEPEST {
            return Err(DecodeError::Deep.into());
        }
        let reader = of(reader, &self.readers);
        let writer = of(writer, &self.writers);
        if let Schema::Union(branches) = writer {
            return self.value(reader, &branches[from.branch(branches.len())?], from, path, depth + 1);
        }
        if let Schema::Union(branches) = reader {
            let branches = branches.iter().map(|branch| of(branch, &self.readers));
            let exact = branches.clone().find(|branch| matches(branch, writer));
            let mut near: Vec<&Schema> = branches.filter(|branch| promotes(branch, writer)).collect();
            near.sort_by_key(|branch| !promotion_keeps_meaning(branch, writer));
            return match exact.or_else(|| near.first().copied()) {
                Some(branch) => self.value(branch, writer, from, path, depth + 1),
                None => unfit(path, format!("the value is {}, which none of the branches takes", said(writer))),
            };
        }
        if !matches(reader, writer) && !promotes(reader, writer) {
            return unfit(path, format!("the value is {}, {} is expected", said(writer), said(reader)));
        }
        if promotes(reader, writer) && !promotion_keeps_meaning(reader, writer) {
            return unfit(path, format!("the value is {}, {} is expected", said(writer), said(reader)));
        }
        if let (Some(r), Some(w)) = (logical(reader), logical(writer))
            && std::mem::discriminant(reader) == std::mem::discriminant(writer)
            && !means_the_same(r, w)
        {
            return unfit(path, format!("the value is {}, {} is expected", said(writer), said(reader)));
        }
        Ok(match (reader, writer) {
            (Schema::Array(reader), Schema::Array(writer)) => {
                let mut items = Vec::new();
                let mut failed = None;
                blocks(from, |from| {
                    from.part(0)?;
                    let item = self.value(reader, writer, from, &format!("{path}[]"), depth + 1);
                    keep(item, &mut failed).map(|item| items.push(item))
                })
                .map_err(|e| failed.unwrap_or(ResolveError::Decode(e)))?;
                items.into()
            }
            (Schema::Map(reader), Schema::Map(writer)) => {
                let mut items = Map::new();
                let mut failed = None;
                blocks(from, |from| {
                    let key = from.text()?.to_owned();
                    from.part(key.len())?;
                    let item = self.value(reader, writer, from, &format!("{path}.{key}"), depth + 1);
                    keep(item, &mut failed).map(|item| drop(items.insert(key, item)))
                })
                .map_err(|e| failed.unwrap_or(ResolveError::Decode(e)))?;
                items.into()
            }
            (Schema::Enum { symbols, default, .. }, Schema::Enum { symbols: written, .. }) => {
                let symbol = &written[from.branch(written.len())?];
                match symbols.iter().find(|s| *s == symbol).or(default.as_ref()) {
                    Some(symbol) => symbol.as_str().into(),
                    None => return unfit(path, format!("{symbol} is none of {}", symbols.join(", "))),
                }
            }
            (Schema::Record { fields, .. }, Schema::Record { fields: written, .. }) => {
                self.record(fields, written, from, path, depth)?
            }
            (Schema::Fixed { size, logical, .. }, Schema::Fixed { size: written, .. }) => {
                if size != written {
                    return unfit(path, format!("the value has {written} bytes, {size} are expected"));
                }
                bytes_json(from.take(*size)?, *logical)
            }
            (Schema::Long(logical), Schema::Int(_)) => long_json(from.long()?, *logical),
            #[allow(clippy::cast_precision_loss, reason = "the specification promotes whole numbers to the nearest one")]
            (Schema::Float | Schema::Double, Schema::Int(_) | Schema::Long(_)) => float_json(from.long()? as f64),
            (Schema::Bytes(logical), Schema::String(_)) => bytes_json(from.bytes()?, *logical),
            (Schema::String(_), Schema::Bytes(_)) => match std::str::from_utf8(from.bytes()?) {
                Ok(text) => text.into(),
                Err(_) => return unfit(path, "the bytes are not text in UTF-8".to_owned()),
            },
            (Schema::Int(l), Schema::Int(_)) => long_json(from.long()?, *l),
            (Schema::Long(l), Schema::Long(_)) => long_json(from.long()?, *l),
            (Schema::Bytes(l), Schema::Bytes(_)) => bytes_json(from.bytes()?, *l),
            _ => read_named(writer, from, &self.writers)?,
        })
    }

    fn record(&self, fields: &[Field], written: &[Field], from: &mut Reader<'_>, path: &str, depth: usize) -> Resolved {
        let taken: Vec<Option<usize>> = fields.iter().map(|f| writers_field(f, written).map(|(place, _)| place)).collect();
        let mut values: Vec<Option<Json>> = vec![None; fields.len()];
        for (place, writer) in written.iter().enumerate() {
            let mut readers = taken.iter().enumerate().filter(|(_, from)| **from == Some(place)).map(|(reader, _)| reader);
            match readers.next() {
                Some(reader) => {
                    from.part(fields[reader].name.len())?;
                    let at = format!("{path}.{}", fields[reader].name);
                    let value = self.value(&fields[reader].schema, &writer.schema, from, &at, depth + 1)?;
                    readers.for_each(|other| values[other] = Some(value.clone()));
                    values[reader] = Some(value);
                }
                None => drop(read_named(&writer.schema, from, &self.writers)?),
            }
        }
        let mut object = Map::new();
        for (field, value) in fields.iter().zip(values) {
            let name = field.attributes.get("sourceName").and_then(Json::as_str).unwrap_or(&field.name);
            let Some(value) = value.or_else(|| defaults::shown(field, &self.readers)) else {
                return unfit(
                    &format!("{path}.{}", field.name),
                    "the data has no such field, and it has no default".to_owned(),
                );
            };
            object.insert(name.to_owned(), value);
        }
        Ok(object.into())
    }
}

/// Carries an error of ours through a reader of blocks, which knows only its own.
fn keep(item: Resolved, failed: &mut Option<ResolveError>) -> Result<Json, DecodeError> {
    item.map_err(|error| {
        *failed = Some(error);
        DecodeError::Short
    })
}
