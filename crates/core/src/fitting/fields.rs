//! The fields of a schema that columns can fill, in all three languages.

use serde_json::Value as Json;

use super::target_field::{FieldKind, TargetField};
use crate::avro::schema::{Logical, Schema};
use crate::schemas::Parsed;

/// Deepest nesting of records whose fields are filled one by one.
const DEEPEST: usize = 8;
/// Most fields.
const MOST: usize = 1_000;

/// The fields of a schema; none if its values are no objects.
#[must_use]
pub fn target_fields(schema: &Parsed) -> Vec<TargetField> {
    let mut out = Vec::new();
    match schema {
        Parsed::Avro(schema) => avro(schema, &mut Vec::new(), true, &mut out),
        Parsed::JsonSchema(schema) => json(schema.root(), &mut Vec::new(), true, &mut out),
        Parsed::Protobuf(schema) => out = schema.target_fields(DEEPEST, MOST),
    }
    out.truncate(MOST);
    out
}

/// What a union holds besides null, if that is one thing; and whether null fits.
fn inner(schema: &Schema) -> (Option<&Schema>, bool) {
    let Schema::Union(branches) = schema else { return (Some(schema), *schema == Schema::Null) };
    let nullable = branches.contains(&Schema::Null);
    let mut some = branches.iter().filter(|branch| **branch != Schema::Null);
    match (some.next(), some.next()) {
        (Some(one), None) => (Some(one), nullable),
        _ => (None, nullable),
    }
}

fn avro(schema: &Schema, path: &mut Vec<String>, needed: bool, out: &mut Vec<TargetField>) {
    let Schema::Record { fields, .. } = schema else { return };
    for field in fields.iter() {
        let (of, nullable) = inner(&field.schema);
        let lacks = needed && field.default.is_none() && !nullable;
        path.push(field.name.clone());
        match of {
            Some(record @ Schema::Record { .. }) if path.len() < DEEPEST => avro(record, path, lacks, out),
            of => out.push(TargetField {
                path: path.clone(),
                kind: of.map_or(FieldKind::Any, avro_kind),
                needed: lacks,
                nullable,
                aliases: field.aliases.clone(),
            }),
        }
        path.pop();
    }
}

fn avro_kind(schema: &Schema) -> FieldKind {
    let logical = match schema {
        Schema::Int(logical) | Schema::Long(logical) | Schema::Bytes(logical) | Schema::String(logical) => *logical,
        Schema::Fixed { logical, .. } => *logical,
        _ => None,
    };
    match (schema, logical) {
        (_, Some(Logical::Decimal { scale, .. })) => FieldKind::Decimal(usize::try_from(scale).unwrap_or(0)),
        (_, Some(Logical::Date)) => FieldKind::Date,
        (_, Some(Logical::TimeMillis)) => FieldKind::OfDay(1_000),
        (_, Some(Logical::TimeMicros)) => FieldKind::OfDay(1),
        (_, Some(Logical::TimestampMillis | Logical::TimestampMicros)) => FieldKind::Moment,
        (_, Some(Logical::LocalTimestampMillis | Logical::LocalTimestampMicros)) => FieldKind::LocalMoment,
        (Schema::Boolean, _) => FieldKind::Boolean,
        (Schema::Int(_), _) => FieldKind::Whole(32),
        (Schema::Long(_), _) => FieldKind::Whole(64),
        (Schema::Float | Schema::Double, _) => FieldKind::Floating,
        (Schema::Bytes(_) | Schema::Fixed { .. }, _) => FieldKind::Bytes,
        (Schema::String(_), _) => FieldKind::Text,
        (Schema::Enum { symbols, .. }, _) => FieldKind::OneOf(symbols.to_vec()),
        _ => FieldKind::Nested,
    }
}

fn json(schema: &Json, path: &mut Vec<String>, needed: bool, out: &mut Vec<TargetField>) {
    let Some(Json::Object(properties)) = schema.get("properties") else { return };
    let required = |name: &str| {
        schema.get("required").and_then(Json::as_array).is_some_and(|all| all.iter().any(|n| n.as_str() == Some(name)))
    };
    for (name, of) in properties {
        let types: Vec<&str> = match of.get("type") {
            Some(Json::String(one)) => vec![one],
            Some(Json::Array(some)) => some.iter().filter_map(Json::as_str).collect(),
            _ => Vec::new(),
        };
        let nullable = types.contains(&"null") || types.is_empty();
        let some: Vec<&str> = types.into_iter().filter(|ty| *ty != "null").collect();
        let lacks = needed && required(name);
        path.push(name.clone());
        if some == ["object"] && of.get("properties").is_some() && path.len() < DEEPEST {
            json(of, path, lacks, out);
        } else {
            out.push(TargetField {
                path: path.clone(),
                kind: json_kind(&some, of),
                needed: lacks,
                nullable,
                aliases: Vec::new(),
            });
        }
        path.pop();
    }
}

fn json_kind(types: &[&str], of: &Json) -> FieldKind {
    if let Some(names) = of.get("enum").and_then(Json::as_array) {
        let names: Vec<String> = names.iter().filter_map(Json::as_str).map(str::to_owned).collect();
        if !names.is_empty() {
            return FieldKind::OneOf(names);
        }
    }
    match (types, of.get("format").and_then(Json::as_str)) {
        (["string"], Some("date-time")) => FieldKind::Moment,
        (["string"], Some("date")) => FieldKind::Date,
        (["string"], _) => FieldKind::Text,
        (["boolean"], _) => FieldKind::Boolean,
        (["integer"], _) => FieldKind::Whole(64),
        (["number"] | ["integer", "number"] | ["number", "integer"], _) => FieldKind::Floating,
        (["object" | "array"] | ["object", "array"] | ["array", "object"], _) => FieldKind::Nested,
        _ => FieldKind::Any,
    }
}
