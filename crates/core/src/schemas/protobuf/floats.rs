//! Numbers of JSON that a field of 32 bits cannot hold: the decoder of the JSON mapping would make them infinite.

use prost_reflect::{Kind, MessageDescriptor};
use serde_json::Value as Json;

/// Whether all numbers of a value fit the fields that they are for; what is no value of the message is left to the decoder.
pub(super) fn check(message: &MessageDescriptor, value: &Json, path: &str) -> Result<(), String> {
    let Json::Object(members) = value else { return Ok(()) };
    for (name, value) in members {
        let field = message.get_field_by_name(name).or_else(|| message.get_field_by_json_name(name));
        let Some(field) = field else { continue };
        let path = format!("{path}.{name}");
        match (field.kind(), value) {
            (Kind::Message(entry), Json::Object(entries)) if field.is_map() => {
                let kind = entry.map_entry_value_field().kind();
                entries.iter().try_for_each(|(key, value)| of_kind(&kind, value, &format!("{path}{{{key:?}}}")))?;
            }
            (kind, Json::Array(items)) => {
                let place = |(n, value): (usize, &Json)| of_kind(&kind, value, &format!("{path}[{n}]"));
                (0..).zip(items).try_for_each(place)?;
            }
            (kind, value) => of_kind(&kind, value, &path)?,
        }
    }
    Ok(())
}

fn of_kind(kind: &Kind, value: &Json, path: &str) -> Result<(), String> {
    match kind {
        Kind::Message(message) if message.full_name() == "google.protobuf.FloatValue" => of_kind(&Kind::Float, value, path),
        Kind::Message(message) => check(message, value, path),
        Kind::Float => {
            let number = match value {
                Json::Number(number) => number.as_f64(),
                Json::String(text) if !text.contains("Inf") => text.parse().ok(),
                _ => None,
            };
            #[allow(clippy::cast_possible_truncation, reason = "the nearest number of 32 bits is what is meant")]
            let infinite = number.is_some_and(|number| (number as f32).is_infinite());
            if infinite {
                return Err(format!("at {path}: a number of 32 bits, up to about 3.4e38, is expected, found {value}"));
            }
            Ok(())
        }
        _ => Ok(()),
    }
}

#[cfg(test)]
mod tests {
    use serde_json::json;

    use super::super::ProtoSchema;

    #[test]
    fn numbers_that_a_field_of_32_bits_cannot_hold_are_refused_by_their_place() {
        let text = "syntax = \"proto3\"; message Bin { float kg = 1; double all = 2; repeated float each = 3; \
                    map<string, float> by_room = 4; Bin inner = 5; repeated Bin bins = 6; }";
        let schema = ProtoSchema::parse(text).unwrap();
        for (value, place) in [
            (json!({"kg": 1e39}), "$.kg"),
            (json!({"kg": "-1e39"}), "$.kg"),
            (json!({"each": [1, 3.5e38]}), "$.each[1]"),
            (json!({"by_room": {"3": 1e300}}), "$.by_room{\"3\"}"),
            (json!({"byRoom": {"3": 1e300}}), "$.byRoom{\"3\"}"),
            (json!({"inner": {"bins": [{"kg": 1}, {"kg": 1e39}]}}), "$.inner.bins[1].kg"),
        ] {
            let refused = schema.from_json(&value).unwrap_err();
            assert!(refused.starts_with(&format!("at {place}: ")), "{value}: {refused}");
        }
        for right in [
            json!({"kg": 3.4e38, "all": 1e300, "each": [-1, 0.1], "inner": {"kg": null}}),
            json!({"kg": "Infinity", "each": ["-Infinity", "NaN", "2.5"]}),
        ] {
            schema.from_json(&right).unwrap_or_else(|e| panic!("{right}: {e}"));
        }
    }
}
