//! Keys of a topic's records, as columns refer to them.

use serde_json::Value;

/// Keys that a column's values are picked from; the same ones for the same records, in an order of their own.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum Keys {
    /// As text.
    Texts(Vec<String>),
    /// As whole numbers.
    Whole(Vec<i64>),
}

/// What the keys of a topic are as texts or as whole numbers; of keys with several fields, in one of them.
///
/// # Errors
/// Why they are not, for people.
pub(super) fn keys(topic: &str, there: Option<&Vec<Value>>, field: Option<&str>, whole: bool) -> Result<Keys, String> {
    let there = there.filter(|keys| !keys.is_empty());
    let there = there.ok_or_else(|| format!("the topic {topic} is not there yet, or holds no records with keys"))?;
    let mut parts = Vec::with_capacity(there.len());
    for key in there {
        parts.push(part(topic, key, field)?);
    }
    let text = |value: &Value| value.as_str().map_or_else(|| value.to_string(), str::to_owned);
    if !whole {
        let mut texts: Vec<String> = parts.into_iter().map(text).collect();
        texts.sort();
        texts.dedup();
        return Ok(Keys::Texts(texts));
    }
    let number = |value: &Value| {
        let read = value.as_i64().or_else(|| value.as_str()?.parse().ok());
        read.ok_or_else(|| format!("{} is a key in {topic}, and no whole number: leave whole out", text(value)))
    };
    let mut numbers = parts.into_iter().map(number).collect::<Result<Vec<i64>, String>>()?;
    numbers.sort_unstable();
    numbers.dedup();
    Ok(Keys::Whole(numbers))
}

fn part<'v>(topic: &str, key: &'v Value, field: Option<&str>) -> Result<&'v Value, String> {
    let names = |fields: &serde_json::Map<String, Value>| fields.keys().cloned().collect::<Vec<_>>().join(", ");
    match (key, field) {
        (Value::Object(fields), Some(field)) => {
            fields.get(field).ok_or_else(|| format!("keys in {topic} have no field {field}: take one of {}", names(fields)))
        }
        (Value::Object(fields), None) => match fields.values().next().filter(|_| fields.len() == 1) {
            Some(only) => Ok(only),
            None => Err(format!("keys in {topic} have several fields: name one, as in field: {}", names(fields))),
        },
        (_, Some(field)) => Err(format!("keys in {topic} have no fields, and {field} is named: leave it out")),
        (value, None) => Ok(value),
    }
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used, reason = "what fails here fails the test")]

    use serde_json::json;

    use super::*;

    #[test]
    fn keys_of_any_form_are_picked_from_and_others_refused() {
        let of = |there: Value, field, whole| keys("bins", there.as_array(), field, whole);
        let texts = |texts: &[&str]| Ok(Keys::Texts(texts.iter().map(|text| (*text).to_owned()).collect()));
        assert_eq!(of(json!(["b", "a", "b"]), None, false), texts(&["a", "b"]));
        assert_eq!(of(json!([{"id": 10}, {"id": 9}]), None, true), Ok(Keys::Whole(vec![9, 10])));
        assert_eq!(of(json!([{"id": 10}, {"id": 9}]), None, false), texts(&["10", "9"]));
        assert_eq!(of(json!([{"room": 1, "bin": "7"}]), Some("bin"), true), Ok(Keys::Whole(vec![7])));
        for (there, field, whole, part) in [
            (json!([]), None, false, "holds no records with keys"),
            (json!([{"room": 1, "bin": 2}]), None, false, "several fields: name one, as in field: room, bin"),
            (json!([{"room": 1}]), Some("rom"), false, "no field rom: take one of room"),
            (json!(["a"]), Some("room"), false, "have no fields"),
            (json!([1, "bin-7"]), None, true, "bin-7 is a key in bins, and no whole number"),
        ] {
            let finding = of(there, field, whole).unwrap_err();
            assert!(finding.contains(part), "{finding}");
        }
        assert!(keys("bins", None, None, false).unwrap_err().contains("bins is not there yet"));
    }
}
