//! What keywords say by themselves.

use serde_json::{Map, Value as Json};

use super::likeness::is_like;

pub(super) const TYPES: [&str; 7] = ["null", "boolean", "integer", "number", "string", "array", "object"];

/// The types a schema lets through by `type`; a number includes the integers.
pub(super) fn types(schema: &Map<String, Json>) -> Vec<&str> {
    match schema.get("type") {
        Some(Json::String(one)) => vec![one],
        Some(Json::Array(several)) => several.iter().filter_map(Json::as_str).collect(),
        _ => TYPES.into_iter().filter(|t| *t != "integer").collect(),
    }
}

/// The values a schema lists, by `enum` or `const`.
pub(super) fn listed(schema: &Map<String, Json>) -> Option<Vec<&Json>> {
    let one = schema.get("const").map(|one| vec![one]);
    let several = schema.get("enum").and_then(Json::as_array).map(|list| list.iter().collect::<Vec<_>>());
    match (one, several) {
        (Some(one), Some(several)) => Some(one.into_iter().filter(|v| several.iter().any(|s| equal(v, s))).collect()),
        (one, several) => one.or(several),
    }
}

pub(super) fn type_of(value: &Json) -> &'static str {
    match value {
        Json::Null => "null",
        Json::Bool(_) => "boolean",
        Json::Number(n) if n.is_i64() || n.is_u64() || n.as_f64().is_some_and(|f| f.fract() == 0.0) => "integer",
        Json::Number(_) => "number",
        Json::String(_) => "string",
        Json::Array(_) => "array",
        Json::Object(_) => "object",
    }
}

pub(super) fn required(schema: &Map<String, Json>) -> Vec<&str> {
    schema.get("required").and_then(Json::as_array).into_iter().flatten().filter_map(Json::as_str).collect()
}

pub(super) fn patterns(schema: &Map<String, Json>) -> Vec<(&String, &Json)> {
    schema.get("patternProperties").and_then(Json::as_object).into_iter().flatten().collect()
}

/// What a schema says of a property: its own schema and those of names like it, or else that of further ones.
pub(super) fn says_of<'s>(schema: &'s Map<String, Json>, name: &str) -> Vec<&'s Json> {
    let matching = patterns(schema).into_iter().filter(|(pattern, _)| is_like(pattern, name)).map(|(_, schema)| schema);
    let found: Vec<&Json> = schema.get("properties").and_then(|p| p.get(name)).into_iter().chain(matching).collect();
    if found.is_empty() { schema.get("additionalProperties").into_iter().collect() } else { found }
}

/// The schemas of the items at the front, and that of the rest; draft-07 does not know "prefixItems".
pub(super) fn items(schema: &Map<String, Json>, is_draft_7: bool) -> (Vec<&Json>, Option<&Json>) {
    match (schema.get("prefixItems").filter(|_| !is_draft_7), schema.get("items")) {
        (Some(Json::Array(front)), rest) => (front.iter().collect(), rest),
        (_, Some(Json::Array(front))) => (front.iter().collect(), schema.get("additionalItems")),
        (_, rest) => (Vec::new(), rest),
    }
}

/// Whether two values are equal, as the specification has it: numbers by what they are worth.
pub(super) fn equal(a: &Json, b: &Json) -> bool {
    match (a, b) {
        (Json::Number(a), Json::Number(b)) => a == b || a.as_f64() == b.as_f64(),
        (Json::Array(a), Json::Array(b)) => a.len() == b.len() && a.iter().zip(b).all(|(a, b)| equal(a, b)),
        (Json::Object(a), Json::Object(b)) => {
            a.len() == b.len() && a.iter().all(|(name, value)| b.get(name).is_some_and(|other| equal(value, other)))
        }
        _ => type_of(a) == type_of(b) && a == b,
    }
}
