//! The fields of a schema that columns can fill, in all three languages.

use serde_json::Value as Json;

use crate::avro::schema::{Logical, Schema};
use crate::schemas::Parsed;

/// Deepest nesting of records whose fields are filled one by one.
const DEEPEST: usize = 8;
/// Most fields.
const MOST: usize = 1_000;

/// What a field holds.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum FieldKind {
    /// True or false.
    Boolean,
    /// A whole number of so many bits.
    Whole(u8),
    /// A number of single or double precision.
    Floating,
    /// A number with so many digits after the point.
    Decimal(usize),
    /// Text.
    Text,
    /// One of these texts.
    OneOf(Vec<String>),
    /// Bytes.
    Bytes,
    /// A date.
    Date,
    /// A time of day, in so many parts of a second.
    OfDay(i64),
    /// A moment.
    Moment,
    /// A date with a time of day.
    LocalMoment,
    /// An object or a list, whole.
    Nested,
    /// Anything.
    Any,
}

impl FieldKind {
    /// The word for it.
    #[must_use]
    pub fn word(&self) -> String {
        match self {
            Self::Boolean => "true or false".into(),
            Self::Whole(bits) => format!("a whole number of {bits} bits"),
            Self::Floating => "a number".into(),
            Self::Decimal(0) => "a whole number".into(),
            Self::Decimal(1) => "a number with a digit after the point".into(),
            Self::Decimal(scale) => format!("a number with {scale} digits after the point"),
            Self::Text => "text".into(),
            Self::OneOf(names) => format!("one of {}", names.join(", ")),
            Self::Bytes => "bytes".into(),
            Self::Date => "a date".into(),
            Self::OfDay(_) => "a time of day".into(),
            Self::Moment => "a time".into(),
            Self::LocalMoment => "a time without a zone".into(),
            Self::Nested => "an object or a list".into(),
            Self::Any => "anything".into(),
        }
    }
}

/// A field that a column can fill.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TargetField {
    /// The names of the fields down to it.
    pub path: Vec<String>,
    /// What it holds.
    pub kind: FieldKind,
    /// Whether a value without it does not fit.
    pub needed: bool,
    /// Whether null fits.
    pub nullable: bool,
    /// Other names of it.
    pub aliases: Vec<String>,
}

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
