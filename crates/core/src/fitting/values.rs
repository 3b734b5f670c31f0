//! A column's value as the JSON that a field is written from.

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use serde_json::{Map, Number, Value as Json};

use super::FieldKind;
use crate::avro::json::decimal_text;
use crate::civil::{DAY_US, rfc3339};
use crate::column::{ColumnType, NOT_A_NUMBER, Value};
use crate::data_type::DataType;
use crate::schemas::Language;
use crate::sql_text;
use crate::table::Column;

fn text_of(value: Value<'_>, column: &Column) -> String {
    match value {
        Value::Text(text) => text.to_owned(),
        Value::Boolean(truth) => truth.to_string(),
        value => {
            let mut out = Vec::new();
            sql_text::write(column.ty, value, &mut out);
            String::from_utf8_lossy(&out).into_owned()
        }
    }
}

fn no(kind: &FieldKind) -> String {
    format!("the value is not {}", kind.word())
}

/// A number's digits, whatever it is held as.
fn digits(value: Value<'_>, column: &Column) -> Option<String> {
    Some(match value {
        Value::Int(v) => v.to_string(),
        Value::Long(v) => v.to_string(),
        Value::Float(v) => v.to_string(),
        Value::Double(v) => v.to_string(),
        Value::Decimal(NOT_A_NUMBER) => "NaN".into(),
        Value::Decimal(v) => match column.ty {
            ColumnType::Decimal { scale, .. } => decimal_text(v, usize::from(scale)),
            _ => return None,
        },
        Value::Text(text) => text.trim().to_owned(),
        _ => return None,
    })
}

/// A number's text without zeros after the point that there are too many of.
fn cut(mut text: String, scale: usize) -> String {
    while text.ends_with('0') && text.split_once('.').is_some_and(|(_, after)| after.len() > scale) {
        text.pop();
    }
    text
}

fn whole(text: &str) -> Option<i64> {
    match text.split_once('.') {
        Some((before, after)) if after.bytes().all(|b| b == b'0') => before.parse().ok(),
        Some(_) => None,
        None => text.parse().ok(),
    }
}

fn floating(text: &str, language: Language) -> Option<Json> {
    let number: f64 = text.parse().ok()?;
    if let Some(number) = Number::from_f64(number) {
        return Some(Json::Number(number));
    }
    let name = match (language, number.is_nan(), number > 0.0) {
        (_, true, _) => "NaN",
        (Language::Avro, _, true) => "inf",
        (Language::Avro, _, false) => "-inf",
        (_, _, true) => "Infinity",
        (_, _, false) => "-Infinity",
    };
    Some(name.into())
}

/// Microseconds since 1970 of a date or a time.
fn micros(value: Value<'_>) -> Option<i64> {
    match value {
        Value::Timestamp(us) => Some(us),
        Value::Date(days) => i64::from(days).checked_mul(DAY_US),
        Value::Text(text) => {
            let text = text.trim().replacen(' ', "T", 1);
            let zoned = chrono::DateTime::parse_from_rfc3339(&text).ok().map(|t| t.timestamp_micros());
            zoned.or_else(|| text.parse::<chrono::NaiveDateTime>().ok().map(|t| t.and_utc().timestamp_micros())).or_else(
                || text.parse::<chrono::NaiveDate>().ok()?.and_hms_opt(0, 0, 0).map(|t| t.and_utc().timestamp_micros()),
            )
        }
        _ => None,
    }
}

fn of_day(text: &str) -> Option<i64> {
    let time: chrono::NaiveTime = text.trim().parse().ok()?;
    time.signed_duration_since(chrono::NaiveTime::MIN).num_microseconds()
}

/// The elements of an array's text, as JSON.
fn list(text: &str, column: &Column) -> Option<Json> {
    let inner = text.strip_prefix('{')?.strip_suffix('}')?;
    let DataType::Array(of) = &column.source_type else { return None };
    let mut out = Vec::new();
    let mut rest = inner;
    while !rest.is_empty() {
        let (element, after) = match rest.strip_prefix('"') {
            Some(quoted) => {
                let (mut text, mut chars) = (String::new(), quoted.char_indices());
                let end = loop {
                    match chars.next()? {
                        (at, '"') => break at,
                        (_, '\\') => text.push(chars.next()?.1),
                        (_, c) => text.push(c),
                    }
                };
                (Json::String(text), &quoted[end + 1..])
            }
            None => {
                let end = rest.find(',').unwrap_or(rest.len());
                let plain = &rest[..end];
                if plain.contains('{') {
                    return None;
                }
                let json = match plain {
                    "NULL" => Json::Null,
                    "t" if **of == DataType::Boolean => true.into(),
                    "f" if **of == DataType::Boolean => false.into(),
                    plain if of.is_number() => serde_json::from_str(plain).ok()?,
                    plain => plain.into(),
                };
                (json, &rest[end..])
            }
        };
        out.push(element);
        rest = after.strip_prefix(',').unwrap_or(after);
    }
    Some(Json::Array(out))
}

/// A column's value as JSON that a field of a kind is written from.
///
/// # Errors
/// What it is not.
pub(super) fn json(value: Value<'_>, column: &Column, kind: &FieldKind, language: Language) -> Result<Json, String> {
    use FieldKind as K;
    if value == Value::Null {
        return Ok(Json::Null);
    }
    let found = match kind {
        K::Boolean => match value {
            Value::Boolean(truth) => Some(Json::Bool(truth)),
            Value::Text("true" | "t") => Some(Json::Bool(true)),
            Value::Text("false" | "f") => Some(Json::Bool(false)),
            _ => None,
        },
        K::Whole(_) => digits(value, column).and_then(|text| whole(&text)).map(Into::into),
        K::Floating => digits(value, column).and_then(|text| floating(&text, language)),
        // its digits: a double has not room for all of them
        K::Decimal(scale) => {
            digits(value, column).filter(|text| text.parse::<f64>().is_ok()).map(|text| cut(text, *scale).into())
        }
        K::Text | K::OneOf(_) => match value {
            Value::Bytes(bytes) => Some(STANDARD.encode(bytes).into()),
            value => Some(text_of(value, column).into()),
        },
        K::Bytes => {
            let bytes = match value {
                Value::Bytes(bytes) => Some(bytes),
                Value::Text(text) => Some(text.as_bytes()),
                _ => None,
            };
            bytes.map(|bytes| match language {
                Language::Avro => {
                    let hex: String = bytes.iter().map(|b| format!("{b:02x}")).collect();
                    format!("\\x{hex}").into()
                }
                _ => STANDARD.encode(bytes).into(),
            })
        }
        K::Date => match value {
            Value::Date(_) => Some(text_of(value, column).into()),
            value => micros(value).map(|us| rfc3339(us).get(..10).unwrap_or_default().into()),
        },
        K::Moment => micros(value).map(|us| rfc3339(us).into()),
        K::LocalMoment => micros(value).map(|us| rfc3339(us).trim_end_matches('Z').into()),
        K::OfDay(parts) => of_day(&text_of(value, column)).map(|us| (us / parts).into()),
        K::Nested | K::Any => match (value, &column.source_type) {
            (Value::Text(text), DataType::Json | DataType::Jsonb) => serde_json::from_str(text).ok(),
            (Value::Text(text), DataType::Array(_)) => list(text, column),
            (Value::Text(text), _) if *kind == K::Nested => {
                serde_json::from_str(text).ok().filter(|json: &Json| json.is_object() || json.is_array())
            }
            (Value::Boolean(truth), _) => Some(Json::Bool(truth)),
            (Value::Int(v), _) => Some(v.into()),
            (Value::Long(v), _) => Some(v.into()),
            (Value::Float(_) | Value::Double(_) | Value::Decimal(_), _) => {
                digits(value, column).and_then(|text| floating(&text, language))
            }
            (Value::Timestamp(us), _) => Some(rfc3339(us).into()),
            (value, _) => Some(text_of(value, column).into()),
        },
    };
    found.ok_or_else(|| no(kind))
}

/// Sets what stands at the end of a path.
pub(super) fn put(into: &mut Map<String, Json>, path: &[String], value: Json) {
    let Some((name, rest)) = path.split_first() else { return };
    if rest.is_empty() {
        into.insert(name.clone(), value);
        return;
    }
    // a record that nothing is known of is null as a whole
    if value.is_null() && !into.contains_key(name) {
        return;
    }
    let inner = into.entry(name.clone()).or_insert_with(|| Json::Object(Map::new()));
    if let Json::Object(inner) = inner {
        put(inner, rest, value);
    }
}
