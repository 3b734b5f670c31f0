//! Columns for records that were seen: what stood in them, how often, of which types, and what that comes to.

mod types;

use gonvel_core::avro::schema::{Logical, Schema};
use gonvel_core::civil::read_rfc3339;
use gonvel_core::event_rows::{EventColumn, EventRows, Part};
use serde_json::Value as Json;

use crate::schema::EventSchema;
pub use types::{Types, TypesIn};

/// Fields that are told apart, at most.
const MOST_FIELDS: usize = 300;
/// Deepest nesting that is looked into.
const DEEPEST: usize = 12;

/// A field that was seen.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Seen {
    /// The names down to it.
    pub path: Vec<String>,
    /// Records that had it.
    pub present: u64,
    /// Of those, how many had null there.
    pub null: u64,
    /// What else stood there: `text`, `time`, `date`, `uuid`, `whole number`, `number`, `true or false`, `array`, `object`, and how often.
    pub types: Vec<(&'static str, u64)>,
    /// The type of a column for it; none where its fields are columns of their own.
    pub ty: Option<String>,
    /// Whether a schema says the type.
    pub declared: bool,
}

/// Records that are looked at, one after the other.
#[derive(Debug, Default)]
pub struct Looked {
    /// Records in all.
    pub records: u64,
    /// Of those, how many have a key.
    pub keyed: u64,
    /// How many have no value.
    pub without_value: u64,
    /// How many have a value that is no object.
    pub no_object: u64,
    /// Names of headers, and how many records have each.
    pub headers: Vec<(String, u64)>,
    fields: Vec<Seen>,
}

fn type_of(value: &Json) -> &'static str {
    match value {
        Json::Null => "null",
        Json::Bool(_) => "true or false",
        Json::Number(number) if number.is_i64() || number.is_u64() => "whole number",
        Json::Number(_) => "number",
        Json::String(text) if read_rfc3339(text).is_some() => "time",
        Json::String(text) if is_date(text) => "date",
        Json::String(text) if is_uuid(text) => "uuid",
        Json::String(_) => "text",
        Json::Array(_) => "array",
        Json::Object(_) => "object",
    }
}

fn is_date(text: &str) -> bool {
    text.len() == 10 && read_rfc3339(&format!("{text}T00:00:00Z")).is_some()
}

fn is_uuid(text: &str) -> bool {
    let dash = |(place, c): (usize, char)| if matches!(place, 8 | 13 | 18 | 23) { c == '-' } else { c.is_ascii_hexdigit() };
    text.len() == 36 && text.char_indices().all(dash)
}

/// What stands in a path for any element of an array.
pub const ELEMENT: &str = "[]";
/// Elements of one array that are looked at.
const ELEMENTS_LOOKED_AT: usize = 50;

/// Whether a path leads into the elements of an array.
fn in_elements(path: &[String]) -> bool {
    path.iter().any(|name| name == ELEMENT)
}

impl Looked {
    /// Takes in one record: its value as people read it, whether it has a key, the names of its headers.
    pub fn see(&mut self, value: Option<&Json>, keyed: bool, headers: &[&str]) {
        self.records += 1;
        self.keyed += u64::from(keyed);
        for name in headers {
            match self.headers.iter().position(|(known, _)| known == name) {
                Some(place) => self.headers[place].1 += 1,
                None if self.headers.len() < MOST_FIELDS => self.headers.push(((*name).to_owned(), 1)),
                None => {}
            }
        }
        match value {
            None => self.without_value += 1,
            Some(Json::Object(fields)) => {
                let mut path = Vec::new();
                fields.iter().for_each(|(name, value)| self.field(name, value, &mut path));
            }
            Some(_) => self.no_object += 1,
        }
    }

    fn field(&mut self, name: &str, value: &Json, path: &mut Vec<String>) {
        path.push(name.to_owned());
        if let Some(seen) = self.at(path) {
            seen.present += 1;
            let found = type_of(value);
            if found == "null" {
                seen.null += 1;
            } else if let Some((_, count)) = seen.types.iter_mut().find(|(known, _)| *known == found) {
                *count += 1;
            } else {
                seen.types.push((found, 1));
            }
            match value {
                Json::Object(fields) if path.len() < DEEPEST => {
                    fields.iter().for_each(|(name, value)| self.field(name, value, path));
                }
                // what is in its elements, in case each of them is to be a row
                Json::Array(items) if !path.iter().any(|name| name == ELEMENT) && path.len() < DEEPEST => {
                    items.iter().take(ELEMENTS_LOOKED_AT).for_each(|item| self.field(ELEMENT, item, path));
                }
                _ => {}
            }
        }
        path.pop();
    }

    fn at(&mut self, path: &[String]) -> Option<&mut Seen> {
        let place = match self.fields.iter().position(|seen| seen.path == path) {
            Some(place) => place,
            None if self.fields.len() >= MOST_FIELDS => return None,
            None => {
                // below what it is in, before what comes after that
                let above = &path[..path.len() - 1];
                let after = self.fields.iter().rposition(|seen| seen.path.starts_with(above)).filter(|_| !above.is_empty());
                let place = after.map_or(self.fields.len(), |place| place + 1);
                self.fields.insert(place, Seen { path: path.to_vec(), ..Seen::default() });
                place
            }
        };
        self.fields.get_mut(place)
    }

    /// All fields, with the types that a schema or what was seen gives them.
    #[must_use]
    pub fn fields(mut self, schema: Option<&EventSchema>) -> (Self, Vec<Seen>) {
        for (path, ty) in declared(schema) {
            if let Some(seen) = self.at(&path) {
                seen.declared = true;
                seen.ty = ty;
            }
        }
        let mut fields = std::mem::take(&mut self.fields);
        let whole: Vec<Vec<String>> =
            fields.iter().filter(|seen| seen.declared && seen.ty.is_some()).map(|seen| seen.path.clone()).collect();
        // what is below a column that takes all of it is no column of its own
        fields.retain(|seen| {
            in_elements(&seen.path)
                || !whole.iter().any(|above| above.len() < seen.path.len() && seen.path.starts_with(above))
        });
        let mixed: Vec<Vec<String>> =
            fields.iter().filter(|seen| !seen.declared && seen.is_mixed()).map(|s| s.path.clone()).collect();
        fields.retain(|seen| {
            in_elements(&seen.path)
                || !mixed.iter().any(|above| above.len() < seen.path.len() && seen.path.starts_with(above))
        });
        let named = fields.iter().filter(|seen| seen.path.last().is_some_and(|name| name != ELEMENT));
        let parents: Vec<Vec<String>> = named.map(|seen| seen.path[..seen.path.len() - 1].to_vec()).collect();
        for seen in &mut fields {
            if !seen.declared {
                seen.ty = if parents.contains(&seen.path) { None } else { Some(seen.seen_type().to_owned()) };
            }
        }
        (self, fields)
    }
}

impl Seen {
    fn is_mixed(&self) -> bool {
        self.types.len() > 1 && self.types.iter().any(|(ty, _)| *ty == "object")
    }

    /// The type that takes all that was seen.
    fn seen_type(&self) -> &'static str {
        let only = |allowed: &[&str]| !self.types.is_empty() && self.types.iter().all(|(ty, _)| allowed.contains(ty));
        match () {
            () if self.types.is_empty() => "text",
            () if only(&["true or false"]) => "boolean",
            () if only(&["whole number"]) => "bigint",
            () if only(&["whole number", "number"]) => "double precision",
            () if only(&["time"]) => "timestamp with time zone",
            () if only(&["date"]) => "date",
            () if only(&["uuid"]) => "uuid",
            () if only(&["text", "time", "date", "uuid"]) => "text",
            () => "jsonb",
        }
    }
}

/// Fields by their paths, each with the type of a column for it; none where its fields are columns of their own.
pub(crate) type Declared = Vec<(Vec<String>, Option<String>)>;

/// The fields that a schema declares.
pub(crate) fn declared(schema: Option<&EventSchema>) -> Declared {
    let mut out = Vec::new();
    match schema {
        Some(EventSchema::Avro { schema, .. }) => of_avro(schema, &mut Vec::new(), &mut out),
        Some(EventSchema::Json(root)) => of_json_schema(root, &mut Vec::new(), &mut out),
        Some(EventSchema::Protobuf(_)) | None => {}
    }
    out
}

fn of_avro(schema: &Schema, path: &mut Vec<String>, out: &mut Declared) {
    let Schema::Record { fields, .. } = schema else { return };
    for field in fields.iter() {
        let name = field.attributes.get("sourceName").and_then(Json::as_str).unwrap_or(&field.name);
        path.push(name.to_owned());
        let inner = match &field.schema {
            Schema::Union(branches) => {
                let mut some = branches.iter().filter(|branch| **branch != Schema::Null);
                match (some.next(), some.next()) {
                    (Some(one), None) => Some(one),
                    _ => None,
                }
            }
            one => Some(one),
        };
        match inner {
            Some(record @ Schema::Record { .. }) if path.len() < DEEPEST => {
                out.push((path.clone(), None));
                of_avro(record, path, out);
            }
            inner => out.push((path.clone(), Some(inner.map_or("jsonb".into(), avro_type)))),
        }
        path.pop();
    }
}

fn avro_type(schema: &Schema) -> String {
    let logical = match schema {
        Schema::Int(logical) | Schema::Long(logical) | Schema::Bytes(logical) | Schema::String(logical) => *logical,
        Schema::Fixed { logical, .. } => *logical,
        _ => None,
    };
    match (schema, logical) {
        (_, Some(Logical::Decimal { precision, scale })) if precision <= 38 => {
            return format!("numeric({precision},{scale})");
        }
        (_, Some(Logical::Date)) => "date",
        (_, Some(Logical::TimeMillis | Logical::TimeMicros)) => "time without time zone",
        (_, Some(Logical::TimestampMillis | Logical::TimestampMicros | Logical::TimestampNanos)) => {
            "timestamp with time zone"
        }
        (_, Some(Logical::LocalTimestampMillis | Logical::LocalTimestampMicros | Logical::LocalTimestampNanos)) => {
            "timestamp without time zone"
        }
        (_, Some(Logical::Uuid)) => "uuid",
        (Schema::Boolean, _) => "boolean",
        (Schema::Int(_), _) => "integer",
        (Schema::Long(_), _) => "bigint",
        (Schema::Float, _) => "real",
        (Schema::Double, _) => "double precision",
        (Schema::Bytes(_) | Schema::Fixed { .. }, _) => "bytea",
        (Schema::String(_) | Schema::Enum { .. } | Schema::Null, _) => "text",
        _ => "jsonb",
    }
    .to_owned()
}

fn of_json_schema(schema: &Json, path: &mut Vec<String>, out: &mut Declared) {
    let Some(Json::Object(properties)) = schema.get("properties") else { return };
    for (name, of) in properties {
        path.push(name.clone());
        let types: Vec<&str> = match of.get("type") {
            Some(Json::String(one)) => vec![one],
            Some(Json::Array(some)) => some.iter().filter_map(Json::as_str).filter(|ty| *ty != "null").collect(),
            _ => Vec::new(),
        };
        let format = of.get("format").and_then(Json::as_str);
        match (types.as_slice(), format) {
            (["object"], _) if path.len() < DEEPEST && of.get("properties").is_some() => {
                out.push((path.clone(), None));
                of_json_schema(of, path, out);
            }
            // said in another way than by a type: what was seen decides
            ([], _) => {}
            (types, format) => {
                let ty = match (types, format) {
                    (["string"], Some("date-time")) => "timestamp with time zone",
                    (["string"], Some("date")) => "date",
                    (["string"], Some("uuid")) => "uuid",
                    (["string"], _) => "text",
                    (["boolean"], _) => "boolean",
                    (["integer"], _) => "bigint",
                    (["number"], _) | (["integer", "number"] | ["number", "integer"], _) => "double precision",
                    _ => "jsonb",
                };
                out.push((path.clone(), Some(ty.to_owned())));
            }
        }
        path.pop();
    }
}

/// A column's name for a path: its names between underscores, in lower case.
pub(crate) fn name_for(path: &[String], taken: &[EventColumn]) -> String {
    let joined = path.join("_");
    let mut plain: String =
        joined.chars().map(|c| if c.is_ascii_alphanumeric() { c.to_ascii_lowercase() } else { '_' }).collect();
    if plain.starts_with(|c: char| c.is_ascii_digit()) || plain.is_empty() {
        plain.insert(0, '_');
    }
    // room for a number behind it
    plain.truncate(59);
    let mut own = plain.clone();
    let mut number = 1;
    while taken.iter().any(|column| column.name == own) {
        number += 1;
        own = format!("{plain}_{number}");
    }
    own
}

/// Headers that say what an event is, and columns for them.
const OF_EVENTS: [(&str, &str, &str); 5] = [
    ("ce-id", "event_id", "text"),
    ("ce-source", "event_source", "text"),
    ("ce-type", "event_type", "text"),
    ("ce-subject", "event_subject", "text"),
    ("ce-time", "event_time", "timestamp with time zone"),
];

/// The rows that these records would usually become: each a row of its own, with a column for every field that holds a value.
#[must_use]
pub fn propose(looked: &Looked, fields: &[Seen]) -> EventRows {
    let mut columns: Vec<EventColumn> = Vec::new();
    for seen in fields.iter().filter(|seen| !in_elements(&seen.path)) {
        let Some(ty) = &seen.ty else { continue };
        let name = name_for(&seen.path, &columns);
        columns.push(EventColumn { name, ty: ty.clone(), path: seen.path.clone(), ..EventColumn::of(Part::Field, "", "") });
    }
    if columns.is_empty() {
        columns.push(EventColumn::of(Part::Value, "value", "text"));
    }
    let mut fact = |name: &str, column: EventColumn| {
        let name = name_for(&[name.to_owned()], &columns);
        columns.push(EventColumn { name, ..column });
    };
    for (header, name, ty) in OF_EVENTS {
        if looked.headers.iter().any(|(known, _)| known == header) {
            fact(name, EventColumn { path: vec![header.to_owned()], ..EventColumn::of(Part::Header, "", ty) });
        }
    }
    if looked.keyed > 0 {
        fact("record_key", EventColumn::of(Part::Key, "", "text"));
    }
    fact("record_time", EventColumn::of(Part::Time, "", "timestamp with time zone"));
    fact("record_partition", EventColumn::of(Part::Partition, "", "integer").as_key());
    fact("record_offset", EventColumn::of(Part::Offset, "", "bigint").as_key());
    EventRows { columns, ..EventRows::default() }
}

#[cfg(test)]
mod tests {
    use super::*;
    use gonvel_core::schemas::Language;
    use serde_json::json;

    fn named(rows: &EventRows) -> Vec<(String, String)> {
        rows.columns.iter().map(|c| (c.name.clone(), c.ty.clone())).collect()
    }

    #[test]
    fn columns_are_found_in_what_was_seen_with_how_often_and_as_what() {
        let seen = [
            json!({"room": 3, "celsius": 1.5, "door": {"open": true}, "at": "2026-11-25T09:30:00Z", "tags": ["a"], "mixed": 1}),
            json!({"room": 4, "celsius": 2, "door": {"open": null}, "at": "2026-11-25T09:31:00Z", "mixed": {"a": 1}}),
            json!({"room": 5, "celsius": null, "Room No.": "b", "mixed": "x"}),
        ];
        let mut looked = Looked::default();
        seen.iter().for_each(|value| looked.see(Some(value), true, &["ce-type", "ce-type-of"]));
        looked.see(None, true, &[]);
        looked.see(Some(&json!(7)), false, &[]);
        let (looked, fields) = looked.fields(None);
        assert_eq!((looked.records, looked.keyed, looked.without_value, looked.no_object), (5, 4, 1, 1));
        let of = |path: &[&str]| fields.iter().find(|seen| seen.path == path).unwrap();
        assert_eq!((of(&["celsius"]).present, of(&["celsius"]).null), (3, 1));
        assert_eq!(of(&["celsius"]).types, [("number", 1), ("whole number", 1)]);
        assert_eq!(of(&["door"]).ty, None);
        let rows = propose(&looked, &fields);
        rows.check().unwrap();
        let expected = [
            ("room", "bigint"),
            ("celsius", "double precision"),
            ("door_open", "boolean"),
            ("at", "timestamp with time zone"),
            ("tags", "jsonb"),
            ("mixed", "jsonb"),
            ("room_no_", "text"),
            ("event_type", "text"),
            ("record_key", "text"),
            ("record_time", "timestamp with time zone"),
            ("record_partition", "integer"),
            ("record_offset", "bigint"),
        ];
        assert_eq!(named(&rows), expected.map(|(name, ty)| (name.to_owned(), ty.to_owned())));
        assert!(rows.by_place());
    }

    #[test]
    fn a_schema_says_types_and_fields_that_were_not_seen_yet() {
        let text = r#"{"type":"record","name":"Reading","fields":[
            {"name":"room","type":"int"}, {"name":"celsius","type":{"type":"bytes","logicalType":"decimal","precision":4,"scale":1}},
            {"name":"door","type":["null",{"type":"record","name":"Door","fields":[{"name":"open","type":"boolean"}]}]},
            {"name":"at","type":{"type":"long","logicalType":"timestamp-micros"}},
            {"name":"alarms","type":{"type":"array","items":"string"}}, {"name":"either","type":["int","string"]}]}"#;
        let avro = EventSchema::new(Language::Avro, text).unwrap();
        let mut looked = Looked::default();
        looked.see(Some(&json!({"room": 3, "celsius": "1.5"})), false, &[]);
        let (looked, fields) = looked.fields(Some(&avro));
        let expected = [
            ("room", "integer"),
            ("celsius", "numeric(4,1)"),
            ("door_open", "boolean"),
            ("at", "timestamp with time zone"),
            ("alarms", "jsonb"),
            ("either", "jsonb"),
        ];
        assert_eq!(named(&propose(&looked, &fields))[..6], expected.map(|(name, ty)| (name.to_owned(), ty.to_owned())));

        let schema = json!({"type": "object", "properties": {"room": {"type": "integer"}, "at": {"type": ["null", "string"], "format": "date-time"},
            "door": {"type": "object", "properties": {"open": {"type": "boolean"}}}, "free": {"type": "object"}, "any": {}}});
        let mut looked = Looked::default();
        looked.see(Some(&json!({"room": 3, "any": 1.5, "free": {"a": 1}})), false, &[]);
        let (looked, fields) = looked.fields(Some(&EventSchema::Json(schema)));
        let expected = [
            ("room", "bigint"),
            ("any", "double precision"),
            ("free", "jsonb"),
            ("at", "timestamp with time zone"),
            ("door_open", "boolean"),
        ];
        assert_eq!(named(&propose(&looked, &fields))[..5], expected.map(|(name, ty)| (name.to_owned(), ty.to_owned())));
    }
}
