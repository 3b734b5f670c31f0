//! What applications send to be appended, as records: JSON, lines of JSON, bytes.

use base64::Engine as _;
use bytes::Bytes;
use chrono::DateTime;
use serde::Deserialize;
use serde_json::value::RawValue;

use crate::naming::{PartitionId, SchemaId};
use crate::partitioning::partition_of;
use crate::record::{Header, Record};

/// Largest record: key, value and headers, in bytes.
pub const LARGEST_RECORD: usize = 1 << 20;
/// Most headers of a record.
pub const MOST_HEADERS: usize = 10_000;
/// Longest text of a value or a key in JSON, in bytes: it may be shorter in the form that it is stored in.
const LONGEST_JSON: usize = 4 * LARGEST_RECORD;
/// Most records in one request.
pub const MOST_RECORDS: usize = 10_000;

/// A record to append, and the partition it was sent to by number.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Draft {
    /// The record; its time is 0 where none was given.
    pub record: Record,
    /// Whether a time was given.
    pub has_time: bool,
    /// The partition asked for.
    pub partition: Option<i32>,
}

/// Why a request is refused. Nothing of it is appended.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum DraftError {
    /// One of the records is wrong.
    #[error("record {index}: {finding}")]
    Record {
        /// Its number in the request, from 0.
        index: usize,
        /// What was found and what would be right.
        finding: String,
    },
    /// A record is too large.
    #[error(
        "record {index} has {bytes} bytes: a record has {LARGEST_RECORD} at most; keep large values elsewhere and append where they are"
    )]
    TooLarge {
        /// Its number in the request, from 0.
        index: usize,
        /// Its size.
        bytes: usize,
    },
    /// Too many records.
    #[error("the request has more than {MOST_RECORDS} records: send them in several requests")]
    TooMany,
    /// No record at all.
    #[error("the request has no record: send at least one")]
    None,
    /// The body as a whole cannot be read.
    #[error("{0}")]
    Body(String),
}

impl DraftError {
    fn at(index: usize, finding: impl Into<String>) -> Self {
        Self::Record { index, finding: finding.into() }
    }
}

#[derive(Deserialize)]
#[serde(untagged)]
enum Headers {
    List(Vec<HeaderForm>),
    Map(serde_json::Map<String, serde_json::Value>),
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct HeaderForm {
    name: String,
    #[serde(default)]
    value: Option<String>,
    #[serde(default)]
    value_base64: Option<String>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Form<'a> {
    #[serde(borrow, default)]
    key: Option<&'a RawValue>,
    #[serde(default)]
    key_base64: Option<String>,
    #[serde(borrow, default)]
    value: Option<&'a RawValue>,
    #[serde(default)]
    value_base64: Option<String>,
    #[serde(default)]
    headers: Option<Headers>,
    #[serde(default)]
    timestamp: Option<String>,
    #[serde(default)]
    partition: Option<i32>,
}

/// How values and keys are written.
pub trait Encoding {
    /// The bytes of a value given as JSON, and the schema they follow.
    ///
    /// # Errors
    /// What does not fit.
    fn value(&self, json: &RawValue) -> Result<(Bytes, Option<SchemaId>), String>;

    /// The bytes of a key given as JSON, and the schema they follow.
    ///
    /// # Errors
    /// What does not fit.
    fn key(&self, json: &RawValue) -> Result<(Bytes, Option<SchemaId>), String>;
}

/// Values stay the JSON text they are; a key that is text is that text without quotes.
#[derive(Debug, Clone, Copy)]
pub struct AsText;

impl Encoding for AsText {
    fn value(&self, json: &RawValue) -> Result<(Bytes, Option<SchemaId>), String> {
        Ok((Bytes::copy_from_slice(json.get().as_bytes()), None))
    }

    fn key(&self, json: &RawValue) -> Result<(Bytes, Option<SchemaId>), String> {
        let text = serde_json::from_str::<String>(json.get()).unwrap_or_else(|_| json.get().to_owned());
        Ok((text.into(), None))
    }
}

/// Records of a request, each with its number there, and those that cannot be read.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Each {
    /// Records that can be appended, with their numbers from 0.
    pub drafts: Vec<(usize, Draft)>,
    /// Numbers of the others, in order, with what is wrong with each.
    pub refused: Vec<(usize, String)>,
}

impl Each {
    /// All of these records.
    #[must_use]
    pub fn of(drafts: Vec<Draft>) -> Self {
        Self { drafts: drafts.into_iter().enumerate().collect(), refused: Vec::new() }
    }

    /// Refuses records for which a check finds something.
    pub fn check(&mut self, mut finds: impl FnMut(&Draft) -> Option<String>) {
        let refused = &mut self.refused;
        self.drafts.retain(|(number, draft)| match finds(draft) {
            None => true,
            Some(finding) => {
                refused.push((*number, finding));
                false
            }
        });
        self.refused.sort_by_key(|(number, _)| *number);
    }

    /// All records, or the first one that is wrong.
    ///
    /// # Errors
    /// [`DraftError`].
    pub fn all(self) -> Result<Vec<Draft>, DraftError> {
        match self.refused.into_iter().next() {
            Some((number, finding)) => Err(DraftError::at(number, finding)),
            None => checked(self.drafts.into_iter().map(|(_, draft)| draft).collect()),
        }
    }
}

/// One record or a list of records as JSON: `{"key": …, "value": …, "headers": {…}, "timestamp": "…", "partition": …}`, with
/// `key_base64` and `value_base64` for bytes.
///
/// # Errors
/// [`DraftError`] for the body as a whole.
pub fn from_json(body: &[u8], encoding: &dyn Encoding) -> Result<Each, DraftError> {
    let text = std::str::from_utf8(body).map_err(|e| DraftError::Body(format!("the body is not UTF-8 text: {e}")))?;
    let whole = |e: serde_json::Error| DraftError::Body(format!("the body is not JSON: {e}"));
    if text.trim_start().starts_with('[') {
        let forms: Vec<&RawValue> = serde_json::from_str(text).map_err(whole)?;
        return drafts(forms.into_iter().map(|form| (form.get(), None)), encoding);
    }
    let form: &RawValue = serde_json::from_str(text).map_err(whole)?;
    drafts([(form.get(), None)], encoding)
}

/// A record on each line, in the form of [`from_json`]; empty lines are passed over.
///
/// # Errors
/// [`DraftError`] for the body as a whole.
pub fn from_lines(body: &[u8], encoding: &dyn Encoding) -> Result<Each, DraftError> {
    let text = std::str::from_utf8(body).map_err(|e| DraftError::Body(format!("the body is not UTF-8 text: {e}")))?;
    let lines = text.lines().enumerate().filter(|(_, line)| !line.trim().is_empty());
    drafts(lines.map(|(number, line)| (line, Some(number + 1))), encoding)
}

/// The body is one record's value.
///
/// # Errors
/// [`DraftError::TooLarge`].
pub fn from_bytes(body: Bytes) -> Result<Vec<Draft>, DraftError> {
    checked(vec![Draft { record: Record { value: Some(body), ..Record::default() }, ..Draft::default() }])
}

fn drafts<'a>(
    forms: impl IntoIterator<Item = (&'a str, Option<usize>)>,
    encoding: &dyn Encoding,
) -> Result<Each, DraftError> {
    let mut out = Each::default();
    for (index, (text, line)) in forms.into_iter().enumerate() {
        if index == MOST_RECORDS {
            return Err(DraftError::TooMany);
        }
        match (draft(text, encoding), line) {
            (Ok(draft), _) => out.drafts.push((index, draft)),
            (Err(finding), None) => out.refused.push((index, finding)),
            (Err(finding), Some(line)) => out.refused.push((index, format!("line {line}: {finding}"))),
        }
    }
    if out.drafts.is_empty() && out.refused.is_empty() { Err(DraftError::None) } else { Ok(out) }
}

/// The bytes of a draft's key, value and headers.
#[must_use]
pub fn size(draft: &Draft) -> usize {
    let record = &draft.record;
    let of = |part: &Option<Bytes>| part.as_ref().map_or(0, Bytes::len);
    let headers: usize = record.headers.iter().map(|h| h.name.len() + h.value.len()).sum();
    of(&record.key) + of(&record.value) + headers
}

/// What is wrong with a draft's headers, if anything is.
#[must_use]
pub fn too_many_headers(draft: &Draft) -> Option<String> {
    let headers = draft.record.headers.len();
    (headers > MOST_HEADERS).then(|| format!("it has {headers} headers: {MOST_HEADERS} at most"))
}

/// Whether there is a record and none is too large.
///
/// # Errors
/// [`DraftError`].
pub fn checked(drafts: Vec<Draft>) -> Result<Vec<Draft>, DraftError> {
    if drafts.is_empty() {
        return Err(DraftError::None);
    }
    for (index, draft) in drafts.iter().enumerate() {
        let bytes = size(draft);
        if bytes > LARGEST_RECORD {
            return Err(DraftError::TooLarge { index, bytes });
        }
    }
    Ok(drafts)
}

fn draft(text: &str, encoding: &dyn Encoding) -> Result<Draft, String> {
    let form: Form<'_> = serde_json::from_str(text).map_err(|e| {
        format!(
            "{e}; a record is an object with key, value, headers, timestamp and partition, or key_base64 and value_base64"
        )
    })?;
    let (key, key_schema) = part("key", form.key, form.key_base64, |json| encoding.key(json))?;
    let (value, schema) = part("value", form.value, form.value_base64, |json| encoding.value(json))?;
    let headers = match form.headers {
        None => Vec::new(),
        Some(Headers::Map(map)) => map
            .into_iter()
            .map(|(name, value)| match value {
                serde_json::Value::String(text) => Ok(Header { name, value: text.into() }),
                other => Err(format!("the header {name:?} is {other}: a header is text, or in a list with value_base64")),
            })
            .collect::<Result<_, _>>()?,
        Some(Headers::List(list)) => list.into_iter().map(header).collect::<Result<_, _>>()?,
    };
    let timestamp_us = form.timestamp.as_deref().map(time).transpose()?;
    let record = Record { key, value, headers, timestamp_us: timestamp_us.unwrap_or(0), schema, key_schema };
    Ok(Draft { record, has_time: timestamp_us.is_some(), partition: form.partition })
}

/// Microseconds of a time in RFC 3339.
///
/// # Errors
/// What is wrong with it.
pub fn time(text: &str) -> Result<i64, String> {
    let wrong = |e: chrono::ParseError| format!("{text:?} is not a time ({e}): write it like 2026-11-25T09:30:00Z");
    DateTime::parse_from_rfc3339(text).map(|t| t.timestamp_micros()).map_err(wrong)
}

type Part = (Option<Bytes>, Option<SchemaId>);

fn part(
    name: &str,
    json: Option<&RawValue>,
    base64: Option<String>,
    encode: impl FnOnce(&RawValue) -> Result<(Bytes, Option<SchemaId>), String>,
) -> Result<Part, String> {
    match (json.filter(|j| j.get() != "null"), base64) {
        (Some(_), Some(_)) => Err(format!("it has both {name} and {name}_base64: give one of them")),
        (Some(json), None) if json.get().len() > LONGEST_JSON => {
            Err(format!("the {name} has {} bytes of JSON: a record has {LARGEST_RECORD} at most", json.get().len()))
        }
        (Some(json), None) => {
            encode(json).map(|(bytes, schema)| (Some(bytes), schema)).map_err(|e| format!("the {name}: {e}"))
        }
        (None, Some(text)) => {
            from_base64(&text).map(|bytes| (Some(bytes.into()), None)).map_err(|e| format!("{name}_base64: {e}"))
        }
        (None, None) => Ok((None, None)),
    }
}

fn header(form: HeaderForm) -> Result<Header, String> {
    let value = match (form.value, form.value_base64) {
        (Some(text), None) => Bytes::from(text),
        (None, Some(text)) => from_base64(&text).map_err(|e| format!("the header {:?}: {e}", form.name))?.into(),
        _ => return Err(format!("the header {:?} has to have either value or value_base64", form.name)),
    };
    Ok(Header { name: form.name, value })
}

/// What is wrong with the partition that a draft asks for, if anything is.
#[must_use]
pub fn no_partition(draft: &Draft, partitions: i32) -> Option<String> {
    let asked = draft.partition.filter(|asked| !(0..partitions).contains(asked))?;
    Some(format!("there is no partition {asked}: the topic has 0 to {}", partitions - 1))
}

/// The partition of a draft. Records without a key and a partition all go to the one given.
#[must_use]
pub fn place(draft: &Draft, partitions: i32, keyless: i32) -> PartitionId {
    match (draft.partition, &draft.record.key) {
        (Some(asked), _) => PartitionId(asked),
        (None, Some(key)) => partition_of(Some(key), partitions),
        (None, None) => PartitionId(keyless.rem_euclid(partitions)),
    }
}

/// Bytes of base64 with the standard alphabet ("Base 64 Encoding" in RFC 4648).
///
/// # Errors
/// What is wrong with it.
pub fn from_base64(text: &str) -> Result<Vec<u8>, String> {
    base64::engine::general_purpose::STANDARD.decode(text).map_err(|e| format!("it is not base64 ({e})"))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn records_are_taken_in_all_forms() {
        let body = br#"[
            {"key": "bin-7", "value": {"weight": 18.50}, "headers": {"room": "3"}, "timestamp": "1970-01-01T00:00:01Z"},
            {"key": {"id": 7}, "value": null, "partition": 2},
            {"key_base64": "AP8=", "value_base64": "", "headers": [{"name": "seal", "value_base64": "AQI="}]}
        ]"#;
        let found = from_json(body, &AsText).and_then(Each::all).unwrap();
        let [first, second, third] = &found[..] else { panic!("{found:?}") };
        assert_eq!(first.record.key.as_deref(), Some(&b"bin-7"[..]));
        // the text of the value stays as it was sent
        assert_eq!(first.record.value.as_deref(), Some(&br#"{"weight": 18.50}"#[..]));
        assert_eq!((first.record.timestamp_us, first.has_time, first.partition), (1_000_000, true, None));
        assert_eq!(first.record.headers[0].value, "3");
        assert_eq!((second.record.value.as_ref(), second.partition, second.has_time), (None, Some(2), false));
        assert_eq!(second.record.key.as_deref(), Some(&br#"{"id": 7}"#[..]));
        assert_eq!(third.record.key.as_deref(), Some(&[0, 255][..]));
        assert_eq!(third.record.value.as_deref(), Some(&[][..]));
        assert_eq!(third.record.headers[0].value, &[1, 2][..]);
        let lines = b"{\"value\": 1}\n\n{\"value\": 2}\n";
        assert_eq!(from_lines(lines, &AsText).unwrap().drafts.len(), 2);
        assert_eq!(from_json(b"{\"value\": 1}", &AsText).unwrap().drafts.len(), 1);
    }

    #[test]
    fn bad_records_are_named() {
        let large = format!(r#"[{{"value": 1}}, {{"value": "{}"}}]"#, "x".repeat(LARGEST_RECORD));
        let many = format!("[{}]", vec!["{}"; MOST_RECORDS + 1].join(","));
        let cases: [(&str, &str); 11] = [
            ("", "the body is not JSON"),
            ("[]", "no record"),
            (r#"[{"value": 1}, {"valu": 2}]"#, "record 1: unknown field `valu`"),
            (r#"[{"value": 1}, 7]"#, "record 1: invalid type"),
            (r#"{"value": 1, "value_base64": "AA=="}"#, "record 0: it has both value and value_base64"),
            (r#"{"value_base64": "?"}"#, "record 0: value_base64: it is not base64"),
            (r#"{"timestamp": "yesterday"}"#, "write it like 2026-11-25T09:30:00Z"),
            (r#"{"headers": {"room": 3}}"#, "the header \"room\" is 3"),
            (r#"{"headers": [{"name": "room"}]}"#, "either value or value_base64"),
            (&large, "record 1 has 1048578 bytes"),
            (&many, "more than 10000 records"),
        ];
        for (body, expected) in cases {
            let error = from_json(body.as_bytes(), &AsText).and_then(Each::all).unwrap_err().to_string();
            assert!(error.contains(expected), "{error}");
        }
        let lines = from_lines(b"{}\n\n{\"value\":}\n{}\n7\n", &AsText).unwrap();
        let numbers: Vec<usize> = lines.refused.iter().map(|(number, _)| *number).collect();
        assert_eq!((numbers, lines.drafts.iter().map(|(n, _)| *n).collect::<Vec<_>>()), (vec![1, 3], vec![0, 2]));
        let error = lines.all().unwrap_err().to_string();
        assert!(error.starts_with("record 1: line 3: "), "{error}");
        let mut each = from_json(br#"[{"partition": 9}, {"partition": 2}, 7]"#, &AsText).unwrap();
        each.check(|draft| no_partition(draft, 6));
        let findings: Vec<(usize, bool)> =
            each.refused.iter().map(|(n, f)| (*n, f.contains("the topic has 0 to 5"))).collect();
        assert_eq!((findings, each.drafts.len()), (vec![(0, true), (2, false)], 1));
    }

    #[test]
    fn keys_decide_the_partition_unless_it_is_asked_for() {
        let with = |key: Option<&'static str>, partition| Draft {
            record: Record { key: key.map(Bytes::from), ..Record::default() },
            partition,
            ..Draft::default()
        };
        let drafts = [with(Some("bin-1"), None), with(Some("bin-1"), Some(0)), with(None, None), with(None, None)];
        let places: Vec<i32> = drafts.iter().map(|draft| place(draft, 6, 10).0).collect();
        assert_eq!(places, [partition_of(Some(b"bin-1"), 6).0, 0, 4, 4]);
    }
}
