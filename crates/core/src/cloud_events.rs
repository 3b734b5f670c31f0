//! CloudEvents 1.0 as records ("HTTP Protocol Binding" and "JSON Event Format" of the specification).
//!
//! An event's data is the record's value; its attributes become headers named `ce-` and the attribute, its media type the
//! header `content-type`. The extension `partitionkey` is the key, `time` the record's time.

use bytes::Bytes;
use percent_encoding::percent_decode_str;
use serde_json::value::RawValue;
use serde_json::{Map, Value};

use crate::produce::{Draft, DraftError, checked, from_base64, time};
use crate::record::{Header, Record};

/// Attributes an event must have, each a text that is not empty.
const REQUIRED: [&str; 4] = ["specversion", "id", "source", "type"];

fn attribute(name: &str, value: &str, out: &mut Draft) -> Result<(), String> {
    if name.is_empty() || !name.bytes().all(|b| b.is_ascii_lowercase() || b.is_ascii_digit()) {
        return Err(format!("{name:?} is not the name of an attribute: use lower-case letters and digits"));
    }
    match name {
        "specversion" if value != "1.0" => {
            return Err(format!("specversion is {value:?}: only events of version \"1.0\" are taken"));
        }
        "time" => {
            out.record.timestamp_us = time(value).map_err(|e| format!("time: {e}"))?;
            out.has_time = true;
        }
        "partitionkey" => out.record.key = Some(Bytes::copy_from_slice(value.as_bytes())),
        _ => {}
    }
    out.record.headers.push(Header { name: format!("ce-{name}"), value: Bytes::copy_from_slice(value.as_bytes()) });
    Ok(())
}

fn complete(draft: Draft) -> Result<Draft, String> {
    for name in REQUIRED {
        let there = draft.record.headers.iter().any(|h| h.name.strip_prefix("ce-") == Some(name) && !h.value.is_empty());
        if !there {
            return Err(format!("the attribute {name:?} is missing: an event has {}", REQUIRED.join(", ")));
        }
    }
    Ok(draft)
}

/// An event whose attributes are HTTP headers (binary mode): `attributes` are the headers that begin with `ce-`, without that.
///
/// # Errors
/// [`DraftError`].
pub fn binary<'a>(
    attributes: impl IntoIterator<Item = (&'a str, &'a str)>,
    content_type: Option<&str>,
    body: Bytes,
) -> Result<Vec<Draft>, DraftError> {
    let at = |finding| DraftError::Record { index: 0, finding };
    let value = (content_type.is_some() || !body.is_empty()).then_some(body);
    let mut draft = Draft { record: Record { value, ..Record::default() }, ..Draft::default() };
    for (name, value) in attributes {
        // the binding has text of headers percent-encoded
        attribute(&name.to_ascii_lowercase(), &percent_decode_str(value).decode_utf8_lossy(), &mut draft).map_err(at)?;
    }
    if let Some(media) = content_type {
        draft.record.headers.push(Header { name: "content-type".into(), value: Bytes::copy_from_slice(media.as_bytes()) });
    }
    checked(vec![complete(draft).map_err(at)?])
}

/// One event as a JSON document (structured mode).
///
/// # Errors
/// [`DraftError`].
pub fn structured(body: &[u8]) -> Result<Vec<Draft>, DraftError> {
    let event: &RawValue =
        serde_json::from_slice(body).map_err(|e| DraftError::Body(format!("the body is not a JSON document: {e}")))?;
    checked(vec![event_of(event).map_err(|finding| DraftError::Record { index: 0, finding })?])
}

/// A list of events (batched mode).
///
/// # Errors
/// [`DraftError`] names the event by its number.
pub fn batched(body: &[u8]) -> Result<Vec<Draft>, DraftError> {
    let events: Vec<&RawValue> =
        serde_json::from_slice(body).map_err(|e| DraftError::Body(format!("the body is not a JSON list: {e}")))?;
    if events.len() > crate::produce::MOST_RECORDS {
        return Err(DraftError::TooMany);
    }
    let one = |(index, event): (usize, &&RawValue)| event_of(event).map_err(|finding| DraftError::Record { index, finding });
    checked(events.iter().enumerate().map(one).collect::<Result<_, _>>()?)
}

fn event_of(event: &RawValue) -> Result<Draft, String> {
    #[derive(serde::Deserialize)]
    struct Data<'a> {
        #[serde(borrow, default)]
        data: Option<&'a RawValue>,
    }
    let mut members: Map<String, Value> =
        serde_json::from_str(event.get()).map_err(|e| format!("an event is a JSON object: {e}"))?;
    let raw: Data<'_> = serde_json::from_str(event.get()).map_err(|e| e.to_string())?;
    let data = members.remove("data").filter(|d| !d.is_null());
    let base64 = members.remove("data_base64").filter(|d| !d.is_null());
    let media = match members.get("datacontenttype") {
        None | Some(Value::Null) => None,
        Some(Value::String(media)) => Some(media.clone()),
        Some(other) => return Err(format!("datacontenttype is {other}: give a media type as text")),
    };
    let is_json = media.as_deref().is_none_or(is_json);
    let value = match (data, base64) {
        (Some(_), Some(_)) => return Err("it has both data and data_base64: give one of them".into()),
        (None, None) => None,
        (None, Some(Value::String(text))) => Some(Bytes::from(from_base64(&text).map_err(|e| format!("data_base64: {e}"))?)),
        (None, Some(other)) => return Err(format!("data_base64 is {other}: give text")),
        // data of another kind than JSON is text in the document
        (Some(Value::String(text)), None) if !is_json => Some(text.into()),
        (Some(_), None) => raw.data.map(|d| Bytes::copy_from_slice(d.get().as_bytes())),
    };
    let has_value = value.is_some();
    let mut draft = Draft { record: Record { value, ..Record::default() }, ..Draft::default() };
    for (name, value) in members {
        let text = match value {
            Value::Null => continue,
            Value::String(text) => text,
            Value::Bool(yes) => yes.to_string(),
            Value::Number(number) if number.is_i64() => number.to_string(),
            other => {
                return Err(format!(
                    "the attribute {name:?} is {other}: an attribute is text, a whole number, true or false"
                ));
            }
        };
        if name != "datacontenttype" {
            attribute(&name, &text, &mut draft)?;
        }
    }
    if has_value {
        let media = media.unwrap_or_else(|| "application/json".to_owned());
        draft.record.headers.push(Header { name: "content-type".into(), value: media.into() });
    }
    complete(draft)
}

fn is_json(media: &str) -> bool {
    let essence = media.split(';').next().unwrap_or_default().trim().to_ascii_lowercase();
    essence.ends_with("/json") || essence.ends_with("+json")
}

#[cfg(test)]
mod tests {
    use super::*;

    fn header<'a>(draft: &'a Draft, name: &str) -> Option<&'a [u8]> {
        draft.record.headers.iter().find(|h| h.name == name).map(|h| &h.value[..])
    }

    #[test]
    fn the_three_modes_give_the_same_record() {
        let event = r#"{"specversion":"1.0","id":"w-1","source":"/lines/2","type":"bin.weighed","partitionkey":"bin-7",
            "time":"2026-11-25T09:30:00Z","subject":"Rösti","data":{"weight": 18.50}}"#;
        let one = structured(event.as_bytes()).unwrap();
        assert_eq!(one[0].record.key.as_deref(), Some(&b"bin-7"[..]));
        assert_eq!(one[0].record.value.as_deref(), Some(&br#"{"weight": 18.50}"#[..]));
        assert_eq!(header(&one[0], "ce-type"), Some(&b"bin.weighed"[..]));
        assert_eq!(header(&one[0], "content-type"), Some(&b"application/json"[..]));
        assert!(one[0].has_time);
        let list = batched(format!("[{event},{event}]").as_bytes()).unwrap();
        assert_eq!(list, [one[0].clone(), one[0].clone()]);
        let attributes = [
            ("Specversion", "1.0"),
            ("id", "w-1"),
            ("source", "/lines/2"),
            ("type", "bin.weighed"),
            ("partitionkey", "bin-7"),
            ("time", "2026-11-25T09:30:00Z"),
            ("subject", "R%C3%B6sti"),
        ];
        let found = binary(attributes, Some("application/json"), Bytes::from_static(br#"{"weight": 18.50}"#)).unwrap();
        assert_eq!(found, one);
    }

    #[test]
    fn data_of_other_kinds_is_kept_as_it_is() {
        let with = |rest: &str| {
            let text = format!(r#"{{"specversion":"1.0","id":"1","source":"s","type":"t",{rest}}}"#);
            structured(text.as_bytes()).map(|mut d| d.remove(0).record.value)
        };
        assert_eq!(with(r#""data":"plain","datacontenttype":"text/plain""#).unwrap().as_deref(), Some(&b"plain"[..]));
        assert_eq!(with(r#""data":"quoted""#).unwrap().as_deref(), Some(&br#""quoted""#[..]));
        assert_eq!(with(r#""data_base64":"AP8=""#).unwrap().as_deref(), Some(&[0, 255][..]));
        assert_eq!(with(r#""data":null,"count":3"#).unwrap(), None);
    }

    #[test]
    fn what_is_no_event_is_said_with_its_number() {
        let good = r#"{"specversion":"1.0","id":"1","source":"s","type":"t"}"#;
        let cases = [
            (r#"{"specversion":"0.3","id":"1","source":"s","type":"t"}"#, "specversion is \"0.3\""),
            (r#"{"specversion":"1.0","id":"","source":"s","type":"t"}"#, "\"id\" is missing"),
            (r#"{"specversion":"1.0","id":"1","source":"s"}"#, "\"type\" is missing"),
            (r#"{"specversion":"1.0","id":"1","source":"s","type":"t","time":"noon"}"#, "is not a time"),
            (r#"{"specversion":"1.0","id":"1","source":"s","type":"t","Room":"3"}"#, "\"Room\" is not the name"),
            (r#"{"specversion":"1.0","id":"1","source":"s","type":"t","room":{}}"#, "\"room\" is {}"),
            (r#"{"specversion":"1.0","id":"1","source":"s","type":"t","data":1,"data_base64":"AA=="}"#, "both data"),
            ("7", "an event is a JSON object"),
        ];
        for (bad, expected) in cases {
            let error = batched(format!("[{good},{bad}]").as_bytes()).unwrap_err().to_string();
            assert!(error.starts_with("record 1: ") && error.contains(expected), "{error}");
        }
        assert!(matches!(batched(good.as_bytes()), Err(DraftError::Body(_))));
        assert!(matches!(structured(b"{"), Err(DraftError::Body(_))));
    }
}
