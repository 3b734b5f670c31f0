//! A schema for values that were seen: which fields are always there, which types they take, between which numbers they lie.

use std::collections::BTreeMap;

use serde_json::{Map, Value as Json, json};

use super::Language;
use crate::civil::read_rfc3339;
use crate::column::ColumnType;
use crate::table::TableSchema;

/// Deepest nesting that is looked into.
const DEEPEST: usize = 24;
/// Fields of an object that are told apart; one with more holds its data in the names.
const MOST_FIELDS: usize = 500;

/// What was seen of the values at one place.
#[derive(Debug, Default)]
pub struct Shape {
    nulls: u64,
    booleans: u64,
    integers: Option<(i64, i64)>,
    numbers: Option<(f64, f64)>,
    texts: u64,
    times: u64,
    uuids: u64,
    lists: u64,
    items: Option<Box<Shape>>,
    objects: u64,
    /// In the order they were first seen.
    fields: Vec<(String, Shape, u64)>,
    places: BTreeMap<String, usize>,
}

impl Shape {
    /// Takes in one value.
    pub fn see(&mut self, value: &Json) {
        self.take(value, 0);
    }

    fn take(&mut self, value: &Json, depth: usize) {
        match value {
            Json::Null => self.nulls += 1,
            Json::Bool(_) => self.booleans += 1,
            Json::Number(number) => match number.as_i64() {
                Some(n) => self.integers = Some(self.integers.map_or((n, n), |(a, b)| (a.min(n), b.max(n)))),
                None => {
                    let n = number.as_f64().unwrap_or(f64::MAX);
                    self.numbers = Some(self.numbers.map_or((n, n), |(a, b)| (a.min(n), b.max(n))));
                }
            },
            Json::String(text) => {
                self.texts += 1;
                self.times += u64::from(read_rfc3339(text).is_some());
                self.uuids += u64::from(text.len() == 36 && uuid::Uuid::parse_str(text).is_ok());
            }
            Json::Array(items) => {
                self.lists += 1;
                if depth < DEEPEST {
                    let inner = self.items.get_or_insert_default();
                    items.iter().for_each(|item| inner.take(item, depth + 1));
                }
            }
            Json::Object(object) => {
                self.objects += 1;
                if depth < DEEPEST {
                    object.iter().for_each(|(name, value)| self.field(name, value, depth));
                }
            }
        }
    }

    fn field(&mut self, name: &str, value: &Json, depth: usize) {
        let place = match self.places.get(name) {
            Some(place) => *place,
            None if self.fields.len() >= MOST_FIELDS => return,
            None => {
                self.places.insert(name.to_owned(), self.fields.len());
                self.fields.push((name.to_owned(), Self::default(), 0));
                self.fields.len() - 1
            }
        };
        let (_, shape, seen) = &mut self.fields[place];
        shape.take(value, depth + 1);
        *seen += 1;
    }

    /// The schema in a language; `name` is that of the outermost type.
    ///
    /// Protocol Buffers are not inferred: their field numbers are a promise that no data holds.
    #[must_use]
    pub fn schema(&self, language: Language, name: &str) -> Option<String> {
        let schema = match language {
            Language::Avro => self.avro(&mut Naming::default(), name),
            Language::JsonSchema => {
                let mut schema = json!({"$schema": "https://json-schema.org/draft/2020-12/schema", "title": name});
                if let (Json::Object(all), Json::Object(own)) = (&mut schema, self.json_schema()) {
                    all.extend(own);
                }
                schema
            }
            Language::Protobuf => return None,
        };
        serde_json::to_string_pretty(&schema).ok()
    }

    /// The least and the greatest number; a whole one stays exact beside those with a fraction.
    #[allow(clippy::cast_precision_loss, reason = "only to see which is the further one")]
    fn bounds(&self) -> Option<(Json, Json)> {
        Some(match (self.integers, self.numbers) {
            (None, None) => return None,
            (Some((low, high)), None) => (low.into(), high.into()),
            (None, Some((low, high))) => (low.into(), high.into()),
            (Some((a, b)), Some((low, high))) => {
                (if a as f64 <= low { a.into() } else { low.into() }, if b as f64 >= high { b.into() } else { high.into() })
            }
        })
    }

    fn json_schema(&self) -> Json {
        let mut out = Map::new();
        let mut types = Vec::new();
        let mut push = |seen: bool, ty: &str| {
            if seen {
                types.push(Json::from(ty));
            }
        };
        push(self.nulls > 0, "null");
        push(self.booleans > 0, "boolean");
        push(self.integers.is_some() && self.numbers.is_none(), "integer");
        push(self.numbers.is_some(), "number");
        push(self.texts > 0, "string");
        push(self.lists > 0, "array");
        push(self.objects > 0, "object");
        if types.len() == 1 {
            out.insert("type".into(), types.remove(0));
        } else if !types.is_empty() {
            out.insert("type".into(), types.into());
        }
        if let Some((low, high)) = self.bounds() {
            out.extend([("minimum".into(), low), ("maximum".into(), high)]);
        }
        if self.texts > 0 && self.times == self.texts {
            out.insert("format".into(), "date-time".into());
        } else if self.texts > 0 && self.uuids == self.texts {
            out.insert("format".into(), "uuid".into());
        }
        if let Some(items) = &self.items {
            out.insert("items".into(), items.json_schema());
        }
        if self.objects > 0 {
            let properties: Map<String, Json> = self.fields.iter().map(|(n, s, _)| (n.clone(), s.json_schema())).collect();
            let always: Vec<&String> =
                self.fields.iter().filter(|(.., seen)| *seen == self.objects).map(|(n, ..)| n).collect();
            out.insert("properties".into(), properties.into());
            if !always.is_empty() {
                out.insert("required".into(), json!(always));
            }
        }
        out.into()
    }

    fn avro(&self, naming: &mut Naming, name: &str) -> Json {
        let mut branches: Vec<Json> = Vec::new();
        if self.nulls > 0 {
            branches.push("null".into());
        }
        if self.booleans > 0 {
            branches.push("boolean".into());
        }
        match (self.integers, self.numbers) {
            (_, Some(_)) => branches.push("double".into()),
            (Some((low, high)), None) => {
                let small = i32::try_from(low).is_ok() && i32::try_from(high).is_ok();
                branches.push(if small { "int" } else { "long" }.into());
            }
            (None, None) => {}
        }
        if self.texts > 0 {
            branches.push(if self.times == self.texts {
                json!({"type": "long", "logicalType": "timestamp-micros"})
            } else if self.uuids == self.texts {
                json!({"type": "string", "logicalType": "uuid"})
            } else {
                "string".into()
            });
        }
        if self.lists > 0 {
            let items = self.items.as_ref().map_or(Json::from("null"), |items| items.avro(naming, &format!("{name}_item")));
            branches.push(json!({"type": "array", "items": items}));
        }
        if self.objects > 0 {
            branches.push(self.record(naming, name));
        }
        // a number as whole numbers of 64 bits beside times would be two of one type
        let longs = branches
            .iter()
            .filter(|b| **b == "long" || b.get("logicalType").is_some_and(|l| l == "timestamp-micros"))
            .count();
        if longs > 1 {
            branches.retain(|b| b.get("logicalType").is_none_or(|l| l != "timestamp-micros"));
            branches.push("string".into());
        }
        match branches.len() {
            0 => "null".into(),
            1 => branches.remove(0),
            _ => branches.into(),
        }
    }

    fn record(&self, naming: &mut Naming, name: &str) -> Json {
        let mut taken = Vec::new();
        let full = naming.type_name(name);
        let fields: Vec<Json> = self
            .fields
            .iter()
            .map(|(source, shape, seen)| {
                let own = one_of(source, &mut taken);
                let mut ty = shape.avro(naming, &own);
                let mut field = json!({"name": own});
                let optional = *seen < self.objects;
                let nullable = |ty: &Json| *ty == "null" || ty.as_array().is_some_and(|b| b.iter().any(|b| b == "null"));
                if optional && !nullable(&ty) {
                    ty = match ty {
                        Json::Array(mut branches) => {
                            branches.insert(0, "null".into());
                            branches.into()
                        }
                        one => json!(["null", one]),
                    };
                }
                field["type"] = ty.clone();
                if nullable(&ty) {
                    field["default"] = Json::Null;
                }
                if let Some(range) = shape.range() {
                    field["observed"] = range;
                }
                if own != *source {
                    field["sourceName"] = source.as_str().into();
                }
                field
            })
            .collect();
        json!({"type": "record", "name": full, "fields": fields})
    }

    fn range(&self) -> Option<Json> {
        self.bounds().map(|(low, high)| json!({"minimum": low, "maximum": high}))
    }
}

/// A JSON Schema of a table's rows, as row form in JSON writes them. Whether a column may be null is not known but of the key,
/// which never is.
#[must_use]
pub fn of_table(table: &TableSchema) -> String {
    let whole = |low: i64, high: i64| json!({"type": "integer", "minimum": low, "maximum": high});
    let text = |format: &str| json!({"type": "string", "format": format});
    let mut properties = Map::new();
    for column in &table.columns {
        let mut of = match column.ty {
            ColumnType::Boolean => json!({"type": "boolean"}),
            ColumnType::Int16 => whole(i16::MIN.into(), i16::MAX.into()),
            ColumnType::Int32 => whole(i32::MIN.into(), i32::MAX.into()),
            ColumnType::Int64 => json!({"type": "integer"}),
            // what is no number (NaN, the infinities) is written as text
            ColumnType::Float32 | ColumnType::Float64 => json!({"type": ["number", "string"]}),
            ColumnType::Date => text("date"),
            ColumnType::TimestampTz => text("date-time"),
            ColumnType::Decimal { .. }
            | ColumnType::Text
            | ColumnType::Verbatim
            | ColumnType::Bytes
            | ColumnType::Timestamp => {
                json!({"type": "string"})
            }
        };
        if !column.key {
            of["type"] = match of["type"].take() {
                Json::Array(mut types) => {
                    types.insert(0, "null".into());
                    types.into()
                }
                one => json!(["null", one]),
            };
        }
        of["description"] = column.source_type.to_string().into();
        properties.insert(column.name.clone(), of);
    }
    let names: Vec<&String> = table.columns.iter().map(|c| &c.name).collect();
    let schema = json!({
        "$schema": "https://json-schema.org/draft/2020-12/schema", "title": table.qualified(), "type": "object",
        "properties": properties, "required": names,
    });
    serde_json::to_string_pretty(&schema).unwrap_or_default()
}

/// A name of letters, digits and underscores.
fn plain(name: &str) -> String {
    let mut out: String = name.chars().map(|c| if c.is_ascii_alphanumeric() { c } else { '_' }).collect();
    if out.chars().next().is_none_or(|c| c.is_ascii_digit()) {
        out.insert(0, '_');
    }
    out
}

fn one_of(name: &str, taken: &mut Vec<String>) -> String {
    let first = plain(name);
    let mut own = first.clone();
    let mut number = 1;
    while taken.contains(&own) {
        number += 1;
        own = format!("{first}_{number}");
    }
    taken.push(own.clone());
    own
}

/// Names of types that were given away.
#[derive(Default)]
struct Naming(Vec<String>);

impl Naming {
    fn type_name(&mut self, name: &str) -> String {
        one_of(name, &mut self.0)
    }
}

#[cfg(test)]
mod tests {
    use super::super::{Parsed, parse};
    use super::*;
    use crate::avro::from_json;

    #[test]
    fn what_was_seen_fits_what_is_inferred_and_says_optionality_and_ranges() {
        let seen = [
            json!({"room": 3, "celsius": 1.5, "at": "2026-11-25T09:30:00Z", "door": {"open": false, "since-min": 4}}),
            json!({"room": 58, "celsius": -2, "at": "2026-11-25T09:31:00Z", "alarms": ["high", null]}),
            json!({"room": 7, "celsius": null, "at": "2026-11-25T09:32:00Z", "big": 9_000_000_000_i64}),
        ];
        let mut shape = Shape::default();
        seen.iter().for_each(|value| shape.see(value));
        let avro = shape.schema(Language::Avro, "readings.value").unwrap();
        let Parsed::Avro(schema) = parse(Language::Avro, &avro, &[]).unwrap().parsed else { panic!("not Avro") };
        let text = shape.schema(Language::JsonSchema, "readings").unwrap();
        let Parsed::JsonSchema(described) = parse(Language::JsonSchema, &text, &[]).unwrap().parsed else {
            panic!("not JSON Schema")
        };
        for value in &seen {
            from_json::write(&schema, value, &mut Vec::new()).unwrap();
            described.validate(value).unwrap();
        }
        let json: Json = serde_json::from_str(&text).unwrap();
        assert_eq!(json["required"], json!(["room", "celsius", "at"]));
        assert_eq!(
            (&json["properties"]["room"]["minimum"], &json["properties"]["room"]["maximum"]),
            (&json!(3), &json!(58))
        );
        assert_eq!(json["properties"]["at"]["format"], "date-time");
        assert!(
            described.validate(&json!({"room": 59, "celsius": 1.5, "at": "x"})).is_err(),
            "out of the range that was seen"
        );
    }
}
