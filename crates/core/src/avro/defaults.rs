//! Defaults of fields: their own JSON form, in which bytes are text of code points up to 255 and a union's value is that of one
//! of its branches ("Complex Types", "Records" in the specification).

use std::collections::HashMap;

use serde_json::Value as Json;

use super::binary::{DEEPEST, Reader, write_bytes, write_length, write_long};
use super::json::{self, collect};
use super::schema::{Field, Schema};

/// Checks the defaults of all fields; the path to the field and what is wrong with the first that does not fit.
pub(super) fn check(schema: &Schema) -> Result<(), (Vec<String>, String)> {
    let mut named = HashMap::new();
    collect(schema, &mut named);
    let mut seen = Vec::new();
    walk(schema, &named, &mut Vec::new(), &mut seen)
}

fn walk<'s>(
    schema: &'s Schema,
    named: &HashMap<&'s str, &'s Schema>,
    path: &mut Vec<String>,
    seen: &mut Vec<&'s str>,
) -> Result<(), (Vec<String>, String)> {
    match schema {
        Schema::Array(inner) | Schema::Map(inner) => walk(inner, named, path, seen),
        Schema::Union(branches) => branches.iter().try_for_each(|b| walk(b, named, path, seen)),
        Schema::Record { names, fields } if !seen.contains(&names.full.as_str()) => {
            seen.push(&names.full);
            fields.iter().try_for_each(|field| {
                path.push(field.name.clone());
                if let Some(default) = &field.default {
                    let fits = write(&field.schema, default, named, 0, &mut Vec::new());
                    fits.map_err(|finding| (path.clone(), finding))?;
                }
                walk(&field.schema, named, path, seen)?;
                path.pop();
                Ok(())
            })
        }
        _ => Ok(()),
    }
}

/// A field's default as [`super::json::read`] shows values; none if it has none.
#[must_use]
pub fn shown(field: &Field, named: &HashMap<&str, &Schema>) -> Option<Json> {
    let mut out = Vec::new();
    write(&field.schema, field.default.as_ref()?, named, 0, &mut out).ok()?;
    json::read_named(&field.schema, &mut Reader::new(&out), named).ok()
}

fn unfit<T>(value: &Json, wanted: &str) -> Result<T, String> {
    Err(format!("{value} stands where {wanted} belongs"))
}

fn code_points(text: &str) -> Option<Vec<u8>> {
    text.chars().map(|c| u8::try_from(u32::from(c)).ok()).collect()
}

fn write(
    schema: &Schema,
    value: &Json,
    named: &HashMap<&str, &Schema>,
    depth: usize,
    out: &mut Vec<u8>,
) -> Result<(), String> {
    if depth > DEEPEST {
        return Err(format!("it is nested deeper than {DEEPEST}"));
    }
    match (schema, value) {
        (Schema::Null, Json::Null) => {}
        (Schema::Null, _) => return unfit(value, "null"),
        (Schema::Boolean, Json::Bool(yes)) => out.push((*yes).into()),
        (Schema::Boolean, _) => return unfit(value, "true or false"),
        (Schema::Int(_), _) => match value.as_i64().and_then(|n| i32::try_from(n).ok()) {
            Some(number) => write_long(number.into(), out),
            None => return unfit(value, "a whole number of 32 bits"),
        },
        (Schema::Long(_), _) => match value.as_i64() {
            Some(number) => write_long(number, out),
            None => return unfit(value, "a whole number"),
        },
        (Schema::Float | Schema::Double, _) => match value.as_f64() {
            #[allow(clippy::cast_possible_truncation, reason = "the nearest number of 32 bits is what is meant")]
            Some(number) if *schema == Schema::Float => out.extend_from_slice(&(number as f32).to_le_bytes()),
            Some(number) => out.extend_from_slice(&number.to_le_bytes()),
            None => return unfit(value, "a number"),
        },
        (Schema::Bytes(_), _) => match value.as_str().and_then(code_points) {
            Some(bytes) => write_bytes(&bytes, out),
            None => return unfit(value, "text of code points up to 255"),
        },
        (Schema::Fixed { size, .. }, _) => match value.as_str().and_then(code_points).filter(|b| b.len() == *size) {
            Some(bytes) => out.extend_from_slice(&bytes),
            None => return unfit(value, &format!("text of {size} code points up to 255")),
        },
        (Schema::String(_), Json::String(text)) => write_bytes(text.as_bytes(), out),
        (Schema::String(_), _) => return unfit(value, "text"),
        (Schema::Enum { symbols, .. }, _) => match value.as_str().and_then(|t| symbols.iter().position(|s| s == t)) {
            Some(place) => write_length(place, out),
            None => return unfit(value, &format!("one of {}", symbols.join(", "))),
        },
        (Schema::Array(inner), Json::Array(items)) => {
            if !items.is_empty() {
                write_length(items.len(), out);
            }
            items.iter().try_for_each(|item| write(inner, item, named, depth + 1, out))?;
            out.push(0);
        }
        (Schema::Array(_), _) => return unfit(value, "a list"),
        (Schema::Map(inner), Json::Object(items)) => {
            if !items.is_empty() {
                write_length(items.len(), out);
            }
            for (name, item) in items {
                write_bytes(name.as_bytes(), out);
                write(inner, item, named, depth + 1, out)?;
            }
            out.push(0);
        }
        (Schema::Union(branches), _) => {
            let start = out.len();
            for (place, branch) in branches.iter().enumerate() {
                write_length(place, out);
                if write(branch, value, named, depth + 1, out).is_ok() {
                    return Ok(());
                }
                out.truncate(start);
            }
            return unfit(value, "a value of one of the union's branches");
        }
        (Schema::Record { fields, .. }, Json::Object(object)) => {
            for field in fields.iter() {
                let Some(value) = object.get(&field.name).or(field.default.as_ref()) else {
                    return Err(format!("the field {} is missing in it", field.name));
                };
                write(&field.schema, value, named, depth + 1, out)?;
            }
        }
        (Schema::Map(_) | Schema::Record { .. }, _) => return unfit(value, "an object"),
        (Schema::Recursive(name), _) => match named.get(name.as_str()) {
            Some(schema) => write(schema, value, named, depth + 1, out)?,
            None => return Err(format!("it names {name}, which is not defined")),
        },
    }
    Ok(())
}
