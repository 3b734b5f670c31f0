//! JSON for people as Avro values: the inverse of [`super::json`].

use std::collections::HashMap;

use chrono::{DateTime, NaiveDate, NaiveDateTime, NaiveTime};
use serde_json::Value as Json;
use serde_json::value::RawValue;

use super::binary::{DEEPEST, write_bytes, write_length, write_long};
use super::defaults;
use super::json::collect;
use super::schema::{Field, Logical, Schema};
use crate::civil::{DAY_US, days_from_civil};

/// Why a value does not fit a schema.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("at {path}: {finding}")]
pub struct FitError {
    /// Where in the value, as a path of names.
    pub path: String,
    /// What was found and what fits.
    pub finding: String,
}

/// Appends a value, as [`super::json::read`] shows it, in the binary encoding of a schema.
///
/// Of a union's branches the first that fits is taken. A field that is left out takes its default, else is null where that fits.
///
/// # Errors
/// [`FitError`] with the place; what was appended until then is to be thrown away.
pub fn write(schema: &Schema, value: &Json, out: &mut Vec<u8>) -> Result<(), FitError> {
    write_given(schema, Given { value, text: None }, out)
}

/// The same of JSON text, whose numbers keep all their digits where the schema has a decimal.
///
/// # Errors
/// As [`write`], also where the text is not JSON.
pub fn write_text(schema: &Schema, text: &str, out: &mut Vec<u8>) -> Result<(), FitError> {
    let not_json = |e: serde_json::Error| FitError { path: "$".into(), finding: format!("it is not JSON: {e}") };
    let value: Json = serde_json::from_str(text).map_err(not_json)?;
    let text = if has_long_numbers(text) { serde_json::from_str(text).ok() } else { None };
    write_given(schema, Given { value: &value, text }, out)
}

fn write_given(schema: &Schema, given: Given<'_>, out: &mut Vec<u8>) -> Result<(), FitError> {
    let mut named = HashMap::new();
    collect(schema, &mut named);
    Writer { named }.value(schema, given, "$", 0, out)
}

/// Whether a text may have numbers of more digits than a double keeps.
fn has_long_numbers(text: &str) -> bool {
    let mut digits = 0;
    text.bytes().any(|byte| {
        digits = match byte {
            b'0'..=b'9' => digits + 1,
            b'.' => digits,
            _ => 0,
        };
        digits > 15
    })
}

/// A value, and the text it was read from where that says more.
#[derive(Clone, Copy)]
struct Given<'v> {
    value: &'v Json,
    text: Option<&'v RawValue>,
}

impl<'v> Given<'v> {
    fn of(value: &'v Json) -> Self {
        Self { value, text: None }
    }

    /// The texts of an array's elements.
    fn items(self) -> Vec<Option<&'v RawValue>> {
        self.text.and_then(|text| serde_json::from_str(text.get()).ok()).unwrap_or_default()
    }

    /// The texts of an object's members.
    fn members(self) -> HashMap<String, &'v RawValue> {
        self.text.and_then(|text| serde_json::from_str(text.get()).ok()).unwrap_or_default()
    }

    /// A number as it was written.
    fn number(self, number: &serde_json::Number) -> String {
        self.text.map_or_else(|| number.to_string(), |text| text.get().to_owned())
    }
}

struct Writer<'s> {
    named: HashMap<&'s str, &'s Schema>,
}

fn wrong<T>(path: &str, finding: impl Into<String>) -> Result<T, FitError> {
    Err(FitError { path: path.to_owned(), finding: finding.into() })
}

fn unfit<T>(path: &str, value: &Json, wanted: &str) -> Result<T, FitError> {
    let mut found = value.to_string();
    if found.len() > 60 {
        found.truncate((0..=57).rev().find(|&n| found.is_char_boundary(n)).unwrap_or(0));
        found.push('…');
    }
    wrong(path, format!("found {found}, where {wanted} belongs"))
}

/// Unscaled value of a decimal's text at a scale; none if it has more digits after the point, zeros aside, or is no number.
fn unscaled(text: &str, scale: usize) -> Option<i128> {
    let (sign, digits) = text.strip_prefix('-').map_or((1, text), |rest| (-1, rest));
    let (plain, exponent) = match digits.split_once(['e', 'E']) {
        Some((plain, exponent)) => (plain, exponent.parse::<i32>().ok()?),
        None => (digits, 0),
    };
    let (whole, fraction) = plain.split_once('.').unwrap_or((plain, ""));
    let all_digits = |t: &str| t.bytes().all(|b| b.is_ascii_digit());
    if whole.is_empty() || !all_digits(whole) || !all_digits(fraction) {
        return None;
    }
    let significant = format!("{whole}{fraction}");
    let trimmed = significant.trim_end_matches('0');
    if trimmed.is_empty() {
        return Some(0);
    }
    // the place of the last digit that counts, behind the point
    let trimmed_off = i64::try_from(significant.len() - trimmed.len()).ok()?;
    let behind = i64::try_from(fraction.len()).ok()? - i64::from(exponent) - trimmed_off;
    let zeros = u32::try_from(i64::try_from(scale).ok()? - behind).ok()?;
    trimmed.parse::<i128>().ok()?.checked_mul(10_i128.checked_pow(zeros)?)?.checked_mul(sign)
}

fn smallest(bytes: [u8; 16]) -> Vec<u8> {
    let fill = if bytes[0] & 0x80 == 0 { 0 } else { 0xff };
    let mut from = 0;
    while from < 15 && bytes[from] == fill && (bytes[from + 1] & 0x80) == (fill & 0x80) {
        from += 1;
    }
    bytes[from..].to_vec()
}

fn from_hex(text: &str) -> Option<Vec<u8>> {
    let digits = text.strip_prefix("\\x")?.as_bytes();
    let nibble = |b: u8| char::from(b).to_digit(16).and_then(|d| u8::try_from(d).ok());
    digits
        .len()
        .is_multiple_of(2)
        .then(|| digits.chunks(2).map(|two| Some(nibble(two[0])? << 4 | nibble(two[1])?)).collect())?
}

fn micros(text: &str, zoned: bool) -> Option<i64> {
    match text {
        "infinity" => Some(i64::MAX),
        "-infinity" => Some(i64::MIN),
        _ if zoned => DateTime::parse_from_rfc3339(text).ok().map(|t| t.timestamp_micros()).or_else(|| far(text, true)),
        _ => text.parse::<NaiveDateTime>().ok().map(|t| t.and_utc().timestamp_micros()).or_else(|| far(text, false)),
    }
}

/// A time of a year that RFC 3339 does not have, as [`super::json`] shows it: before the year 1 or after 9999.
fn far(text: &str, zoned: bool) -> Option<i64> {
    let (plain, era) = text.strip_suffix(" BC").map_or((text, ""), |plain| (plain, " BC"));
    let (date, time) = plain.split_once('T')?;
    let time = if zoned { time.strip_suffix('Z')? } else { time };
    let of_day = time.parse::<NaiveTime>().ok()?.signed_duration_since(NaiveTime::MIN).num_microseconds()?;
    far_days(&format!("{date}{era}"))?.checked_mul(DAY_US)?.checked_add(of_day)
}

fn far_days(text: &str) -> Option<i64> {
    let (plain, before_christ) = text.strip_suffix(" BC").map_or((text, false), |plain| (plain, true));
    let mut parts = plain.split('-').map(|part| part.parse::<u32>().ok().map(i64::from));
    let (year, month, day) = (parts.next()??, parts.next()??, parts.next()??);
    let fits = parts.next().is_none() && (1..=12).contains(&month) && (1..=31).contains(&day);
    fits.then(|| days_from_civil(if before_christ { 1 - year } else { year }, month, day))
}

fn days(text: &str) -> Option<i64> {
    match text {
        "infinity" => Some(i32::MAX.into()),
        "-infinity" => Some(i32::MIN.into()),
        _ => {
            let date: Option<NaiveDate> = text.parse().ok();
            date.map(|date| (date - NaiveDate::default()).num_days()).or_else(|| far_days(text))
        }
    }
}

fn long(value: &Json, logical: Option<Logical>, path: &str) -> Result<i64, FitError> {
    let (from_text, wanted): (Option<i64>, _) = match (logical, value.as_str()) {
        (Some(Logical::Date), text) => (text.and_then(days), "a date like \"2026-11-25\""),
        (Some(Logical::TimestampMicros), text) => {
            (text.and_then(|t| micros(t, true)), "a time like \"2026-11-25T09:30:00Z\"")
        }
        (Some(Logical::TimestampMillis), text) => {
            (text.and_then(|t| micros(t, true)).map(|us| us.div_euclid(1000)), "a time like \"2026-11-25T09:30:00Z\"")
        }
        (Some(Logical::LocalTimestampMillis), text) => {
            (text.and_then(|t| micros(t, false)).map(|us| us.div_euclid(1000)), "a time like \"2026-11-25T09:30:00\"")
        }
        (Some(Logical::LocalTimestampMicros), text) => {
            (text.and_then(|t| micros(t, false)), "a time like \"2026-11-25T09:30:00\"")
        }
        _ => (None, "a whole number"),
    };
    match from_text.or_else(|| value.as_i64()) {
        Some(number) => Ok(number),
        None => unfit(path, value, wanted),
    }
}

impl Writer<'_> {
    fn value(&self, schema: &Schema, given: Given<'_>, path: &str, depth: usize, out: &mut Vec<u8>) -> Result<(), FitError> {
        let value = given.value;
        if depth > DEEPEST {
            return wrong(path, format!("the value is nested deeper than {DEEPEST}"));
        }
        match (schema, value) {
            (Schema::Null, Json::Null) => {}
            (Schema::Null, _) => return unfit(path, value, "null"),
            (Schema::Boolean, Json::Bool(yes)) => out.push((*yes).into()),
            (Schema::Boolean, _) => return unfit(path, value, "true or false"),
            (Schema::Int(logical), _) => match i32::try_from(long(value, *logical, path)?) {
                Ok(number) => write_long(number.into(), out),
                Err(_) => return unfit(path, value, "a whole number of 32 bits"),
            },
            (Schema::Long(logical), _) => write_long(long(value, *logical, path)?, out),
            (Schema::Float | Schema::Double, _) => {
                let number = match value {
                    Json::Number(number) => number.as_f64(),
                    Json::String(text) => {
                        ["NaN", "inf", "-inf"].contains(&text.as_str()).then(|| text.parse().ok()).flatten()
                    }
                    _ => None,
                };
                let Some(number) = number else { return unfit(path, value, "a number") };
                if *schema == Schema::Float {
                    #[allow(clippy::cast_possible_truncation, reason = "the nearest number of 32 bits is what is meant")]
                    let single = number as f32;
                    if single.is_infinite() && number.is_finite() {
                        return unfit(path, value, "a number of 32 bits, up to about 3.4e38,");
                    }
                    out.extend_from_slice(&single.to_le_bytes());
                } else {
                    out.extend_from_slice(&number.to_le_bytes());
                }
            }
            (Schema::Bytes(logical), _) => write_bytes(&bytes(given, *logical, path)?, out),
            (Schema::Fixed { size, logical, .. }, _) => fixed(given, *size, *logical, path, out)?,
            (Schema::String(_), Json::String(text)) => write_bytes(text.as_bytes(), out),
            (Schema::String(_), _) => return unfit(path, value, "text"),
            (Schema::Enum { symbols, .. }, _) => match value.as_str().and_then(|t| symbols.iter().position(|s| s == t)) {
                Some(place) => write_length(place, out),
                None => return unfit(path, value, &format!("one of {}", symbols.join(", "))),
            },
            (Schema::Array(inner), Json::Array(items)) => {
                if !items.is_empty() {
                    write_length(items.len(), out);
                }
                let texts = given.items();
                for (number, value) in items.iter().enumerate() {
                    let item = Given { value, text: texts.get(number).copied().flatten() };
                    self.value(inner, item, &format!("{path}[{number}]"), depth + 1, out)?;
                }
                out.push(0);
            }
            (Schema::Array(_), _) => return unfit(path, value, "a list"),
            (Schema::Map(inner), Json::Object(items)) => {
                if !items.is_empty() {
                    write_length(items.len(), out);
                }
                let texts = given.members();
                for (name, value) in items {
                    let item = Given { value, text: texts.get(name).copied() };
                    write_bytes(name.as_bytes(), out);
                    self.value(inner, item, &format!("{path}.{name}"), depth + 1, out)?;
                }
                out.push(0);
            }
            (Schema::Union(branches), _) => self.union(branches, given, path, depth, out)?,
            (Schema::Record { fields, .. }, Json::Object(object)) => {
                self.record(fields, (object, given), path, depth, out)?
            }
            (Schema::Map(_) | Schema::Record { .. }, _) => return unfit(path, value, "an object"),
            (Schema::Recursive(name), _) => match self.named.get(name.as_str()) {
                Some(schema) => self.value(schema, given, path, depth + 1, out)?,
                None => return wrong(path, format!("the schema names {name}, which it does not define")),
            },
        }
        Ok(())
    }

    fn union(
        &self,
        branches: &[Schema],
        given: Given<'_>,
        path: &str,
        depth: usize,
        out: &mut Vec<u8>,
    ) -> Result<(), FitError> {
        let start = out.len();
        let mut first = None;
        for (place, branch) in branches.iter().enumerate() {
            write_length(place, out);
            match self.value(branch, given, path, depth + 1, out) {
                Ok(()) => return Ok(()),
                // what the first branch with a meaning says is most likely what people need to hear
                Err(error) if *branch != Schema::Null => drop(first.get_or_insert(error)),
                Err(_) => {}
            }
            out.truncate(start);
        }
        Err(first.unwrap_or(FitError { path: path.to_owned(), finding: "only null belongs here".to_owned() }))
    }

    fn record(
        &self,
        fields: &[Field],
        (object, given): (&serde_json::Map<String, Json>, Given<'_>),
        path: &str,
        depth: usize,
        out: &mut Vec<u8>,
    ) -> Result<(), FitError> {
        let shown = |field: &Field| -> String {
            field.attributes.get("sourceName").and_then(Json::as_str).unwrap_or(&field.name).to_owned()
        };
        if let Some(unknown) = object.keys().find(|name| !fields.iter().any(|f| shown(f) == **name)) {
            let known: Vec<String> = fields.iter().map(shown).collect();
            return wrong(path, format!("there is no field {unknown:?}: the fields are {}", known.join(", ")));
        }
        let texts = given.members();
        for field in fields {
            let name = shown(field);
            let place = format!("{path}.{name}");
            match object.get(&name) {
                Some(value) => {
                    let member = Given { value, text: texts.get(&name).copied() };
                    self.value(&field.schema, member, &place, depth + 1, out)?;
                }
                None if field.default.is_some() => match defaults::shown(field, &self.named) {
                    Some(default) => self.value(&field.schema, Given::of(&default), &place, depth + 1, out)?,
                    None => return wrong(&place, "the field is missing, and its default cannot be read"),
                },
                None if self.value(&field.schema, Given::of(&Json::Null), &place, depth + 1, &mut Vec::new()).is_ok() => {
                    self.value(&field.schema, Given::of(&Json::Null), &place, depth + 1, out)?;
                }
                None => return wrong(&place, "the field is missing"),
            }
        }
        Ok(())
    }
}

fn bytes(given: Given<'_>, logical: Option<Logical>, path: &str) -> Result<Vec<u8>, FitError> {
    let value = given.value;
    if let Some(Logical::Decimal { scale, precision }) = logical {
        let scale = usize::try_from(scale).unwrap_or(usize::MAX);
        let text = match value {
            Json::String(text) => text.clone(),
            Json::Number(number) => given.number(number),
            _ => return unfit(path, value, "a number as text"),
        };
        return match unscaled(&text, scale).filter(|n| n.unsigned_abs() < 10_u128.saturating_pow(precision)) {
            Some(number) => Ok(smallest(number.to_be_bytes())),
            None => unfit(path, value, &format!("a number of {precision} digits with up to {scale} after the point")),
        };
    }
    if logical == Some(Logical::Uuid) {
        return match value.as_str().and_then(|text| uuid::Uuid::parse_str(text).ok()) {
            Some(id) => Ok(id.as_bytes().to_vec()),
            None => unfit(path, value, "a UUID"),
        };
    }
    match value.as_str().and_then(from_hex) {
        Some(bytes) => Ok(bytes),
        None => unfit(path, value, "bytes as \"\\\\x\" and hexadecimal digits"),
    }
}

fn fixed(given: Given<'_>, size: usize, logical: Option<Logical>, path: &str, out: &mut Vec<u8>) -> Result<(), FitError> {
    let mut bytes = bytes(given, logical, path)?;
    if matches!(logical, Some(Logical::Decimal { .. })) && bytes.len() < size {
        let fill = if bytes[0] & 0x80 == 0 { 0 } else { 0xff };
        bytes.splice(0..0, std::iter::repeat_n(fill, size - bytes.len()));
    }
    if bytes.len() != size {
        return unfit(path, given.value, &format!("exactly {size} bytes"));
    }
    out.extend_from_slice(&bytes);
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::super::binary::Reader;
    use super::super::json;
    use super::*;
    use proptest::prelude::*;
    use serde_json::json;

    const BIN: &str = r#"{"type":"record","name":"Bin","fields":[
        {"name":"id","type":"long"},
        {"name":"variety","type":{"type":"enum","name":"Variety","symbols":["amber","russet"]}},
        {"name":"weight","type":["null",{"type":"bytes","logicalType":"decimal","precision":8,"scale":2}]},
        {"name":"picked","type":["null",{"type":"int","logicalType":"date"}]},
        {"name":"weighed","type":["null",{"type":"long","logicalType":"timestamp-micros"}]},
        {"name":"local","type":["null",{"type":"long","logicalType":"local-timestamp-micros"}]},
        {"name":"seal","type":["null","bytes",{"type":"fixed","name":"Seal","size":2}]},
        {"name":"notes","type":{"type":"array","items":"string"}},
        {"name":"rooms","type":{"type":"map","values":["null","double"]}},
        {"name":"from","type":["null","Bin"]}]}"#;

    fn bin(depth: u32) -> BoxedStrategy<Json> {
        let from = if depth == 0 { Just(Json::Null).boxed() } else { prop_oneof![Just(Json::Null), bin(depth - 1)].boxed() };
        let time = 0_i64..4_000_000_000_000_000;
        let some = (
            any::<i64>(),
            any::<bool>(),
            prop::option::of(-99_999_999_i128..99_999_999),
            prop::option::of(-300_000_i64..300_000),
            prop::option::of(time.clone()),
            prop::option::of(time),
            prop::option::of(prop::collection::vec(any::<u8>(), 0..5)),
            prop::collection::vec(any::<String>(), 0..3),
            prop::collection::btree_map(any::<String>(), prop::option::of(-1e9..1e9_f64), 0..3),
            from,
        );
        some.prop_map(|(id, amber, weight, picked, weighed, local, seal, notes, rooms, from)| {
            let date = |days: i64| (NaiveDate::default() + chrono::Duration::days(days)).to_string();
            let hex = |bytes: Vec<u8>| bytes.iter().fold("\\x".to_owned(), |text, byte| format!("{text}{byte:02x}"));
            json!({
                "id": id, "variety": if amber { "amber" } else { "russet" },
                "weight": weight.map(|w| json::decimal_text(w, 2)),
                "picked": picked.map(date),
                "weighed": weighed.map(crate::civil::rfc3339),
                "local": local.map(|us| crate::civil::rfc3339(us).replace('Z', "")),
                "seal": seal.map(hex), "notes": notes, "rooms": rooms, "from": from,
            })
        })
        .boxed()
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(64))]

        #[test]
        fn values_come_back_as_they_were_given(value in bin(2)) {
            let schema = Schema::parse(BIN).unwrap();
            let mut out = Vec::new();
            write(&schema, &value, &mut out).unwrap();
            let mut reader = Reader::new(&out);
            prop_assert_eq!(json::read(&schema, &mut reader).unwrap(), value);
            prop_assert_eq!(reader.remaining(), 0);
        }
    }

    #[test]
    fn what_does_not_fit_is_said_with_its_place() {
        let schema = Schema::parse(BIN).unwrap();
        let good = json!({"id": 7, "variety": "amber", "notes": [], "rooms": {}});
        assert_eq!(write(&schema, &good, &mut Vec::new()), Ok(()));
        let cases = [
            ("id", json!("7"), "$.id: found \"7\", where a whole number"),
            ("id", json!(7.5), "$.id: found 7.5"),
            ("variety", json!("pear"), "one of amber, russet"),
            ("weight", json!("1.234"), "8 digits with up to 2"),
            ("weight", json!("1234567.00"), "8 digits"),
            ("picked", json!("25 November"), "a date like"),
            ("notes", json!(["a", 3]), "$.notes[1]: found 3, where text"),
            ("rooms", json!({"3": "cold"}), "$.rooms.3: found \"cold\", where a number"),
            ("seal", json!("\\x1"), "hexadecimal"),
            ("ripe", json!(true), "there is no field \"ripe\": the fields are id, variety"),
        ];
        for (field, value, expected) in cases {
            let mut bad = good.clone();
            bad[field] = value;
            let error = write(&schema, &bad, &mut Vec::new()).unwrap_err().to_string();
            assert!(error.contains(expected), "{error}");
        }
        let error = write(&schema, &json!({"id": 7}), &mut Vec::new()).unwrap_err().to_string();
        assert_eq!(error, "at $.variety: the field is missing");
    }

    #[test]
    fn numbers_keep_their_digits() {
        let schema = Schema::parse(
            r#"{"type":"record","name":"Load","fields":[
                {"name":"kg","type":{"type":"bytes","logicalType":"decimal","precision":30,"scale":2}},
                {"name":"prices","type":{"type":"array","items":["null",{"type":"bytes","logicalType":"decimal","precision":20,"scale":4}]}},
                {"name":"by","type":{"type":"map","values":{"type":"record","name":"Part","fields":[
                    {"name":"share","type":{"type":"fixed","name":"Share","size":12,"logicalType":"decimal","precision":25,"scale":20}}]}}}]}"#,
        )
        .unwrap();
        let text = r#"{"kg": 1234567890123456789012345.67, "prices": [null, 12345678901234.5678, 18.50, 2e3],
            "by": {"north": {"share": 0.12345678901234567891}, "south": {"share": -1.5e-3}}}"#;
        let mut out = Vec::new();
        write_text(&schema, text, &mut out).unwrap();
        let shown = crate::avro::json::read(&schema, &mut crate::avro::binary::Reader::new(&out)).unwrap();
        let expected = serde_json::json!({"kg": "1234567890123456789012345.67", "prices": [null, "12345678901234.5678", "18.5000", "2000.0000"],
            "by": {"north": {"share": "0.12345678901234567891"}, "south": {"share": "-0.00150000000000000000"}}});
        assert_eq!(shown, expected);
        for (text, scale, expected) in [
            ("0.00", 1, Some(0)),
            ("1.10", 1, Some(11)),
            ("1.11", 1, None),
            ("1e2", 0, Some(100)),
            ("12e-1", 1, Some(12)),
            ("12e-1", 0, None),
            ("100e-2", 0, Some(1)),
            ("-7", 2, Some(-700)),
            ("1e99", 0, None),
            ("1e", 0, None),
            ("", 0, None),
            ("1e-9999999999", 0, None),
        ] {
            assert_eq!(unscaled(text, scale), expected, "{text} at {scale}");
        }
        let single = Schema::parse(r#""float""#).unwrap();
        let refused = write(&single, &serde_json::json!(1e39), &mut Vec::new()).unwrap_err().to_string();
        assert!(refused.contains("a number of 32 bits"), "{refused}");
        write(&single, &serde_json::json!(3.4e38), &mut Vec::new()).unwrap();
    }
}
