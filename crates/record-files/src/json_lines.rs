//! Rows as lines of JSON: text as text, other bytes in base64 under a name of their own.

use std::fs::File;
use std::io::{BufRead, BufReader, Read};

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use bytes::Bytes;
use gonvel_core::civil::rfc3339;
use gonvel_core::produce::{from_base64, time};
use gonvel_core::record::Header;
use serde::{Deserialize, Serialize};

use crate::form::FileError;
use crate::row::{Row, Rows, Write};

/// Longest line, in bytes.
const LONGEST: u64 = 256 << 20;

#[derive(Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct HeaderForm {
    name: String,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    value: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    value_base64: Option<String>,
}

impl HeaderForm {
    pub(crate) fn of(header: &Header) -> Self {
        let (value, value_base64) = split(Some(&header.value));
        Self { name: header.name.clone(), value, value_base64 }
    }

    pub(crate) fn header(self) -> Result<Header, String> {
        let value = joined(self.value, self.value_base64)?;
        Ok(Header { name: self.name, value: value.ok_or("a header has a value")? })
    }
}

#[derive(Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct Line {
    #[serde(default)]
    partition: i32,
    #[serde(default)]
    offset: i64,
    timestamp: Timestamp,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    key: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    key_base64: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    value: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    value_base64: Option<String>,
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    headers: Vec<HeaderForm>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    schema: Option<i64>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    key_schema: Option<i64>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    schema_text: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    key_schema_text: Option<String>,
}

/// A time as text, or as microseconds where RFC 3339 has no year for it.
#[derive(Serialize, Deserialize)]
#[serde(untagged)]
enum Timestamp {
    Text(String),
    Micros(i64),
}

/// A time as text that comes back as it was, or its number.
pub(crate) fn timestamp_text(us: i64) -> Option<String> {
    let text = rfc3339(us);
    (time(&text) == Ok(us)).then_some(text)
}

/// Bytes as text if they are, else in base64.
pub(crate) fn split(bytes: Option<&Bytes>) -> (Option<String>, Option<String>) {
    match bytes.map(|b| (b, std::str::from_utf8(b))) {
        None => (None, None),
        Some((_, Ok(text))) => (Some(text.to_owned()), None),
        Some((bytes, Err(_))) => (None, Some(STANDARD.encode(bytes))),
    }
}

pub(crate) fn joined(text: Option<String>, base64: Option<String>) -> Result<Option<Bytes>, String> {
    match (text, base64) {
        (Some(_), Some(_)) => Err("it is given as text and in base64: give one of them".into()),
        (Some(text), None) => Ok(Some(text.into())),
        (None, Some(text)) => from_base64(&text).map(|bytes| Some(bytes.into())),
        (None, None) => Ok(None),
    }
}

pub(crate) struct JsonLinesWriter;

impl Write for JsonLinesWriter {
    fn row(&mut self, row: &Row, out: &mut Vec<u8>) -> Result<(), FileError> {
        let (key, key_base64) = split(row.key.as_ref());
        let (value, value_base64) = split(row.value.as_ref());
        let line = Line {
            partition: row.partition,
            offset: row.offset,
            timestamp: timestamp_text(row.timestamp_us).map_or(Timestamp::Micros(row.timestamp_us), Timestamp::Text),
            key,
            key_base64,
            value,
            value_base64,
            headers: row.headers.iter().map(HeaderForm::of).collect(),
            schema: row.schema,
            key_schema: row.key_schema,
            schema_text: row.schema_text.clone(),
            key_schema_text: row.key_schema_text.clone(),
        };
        serde_json::to_writer(&mut *out, &line).map_err(|e| FileError::Write(e.to_string()))?;
        out.push(b'\n');
        Ok(())
    }

    fn finish(&mut self, _: &mut Vec<u8>) -> Result<(), FileError> {
        Ok(())
    }
}

pub(crate) fn read(file: File) -> Rows {
    let mut input = BufReader::new(file);
    let (mut number, mut over) = (0, false);
    Box::new(std::iter::from_fn(move || {
        let mut line = Vec::new();
        while !over {
            line.clear();
            match input.by_ref().take(LONGEST).read_until(b'\n', &mut line) {
                Ok(0) => return None,
                Ok(length) if length as u64 == LONGEST => {
                    over = true;
                    let finding =
                        format!("its line is longer than {LONGEST} bytes: export large records as avro or parquet");
                    return Some(Err(FileError::Row { row: number, finding }));
                }
                Ok(_) if line.iter().all(u8::is_ascii_whitespace) => continue,
                Ok(_) => {}
                Err(error) => {
                    over = true;
                    return Some(Err(FileError::Row { row: number, finding: error.to_string() }));
                }
            }
            let found = row(&line).map_err(|finding| FileError::Row { row: number, finding });
            over = found.is_err();
            number += 1;
            return Some(found);
        }
        None
    }))
}

fn row(line: &[u8]) -> Result<Row, String> {
    let line: Line = serde_json::from_slice(line).map_err(|e| e.to_string())?;
    let timestamp_us = match line.timestamp {
        Timestamp::Text(text) => time(&text)?,
        Timestamp::Micros(us) => us,
    };
    Ok(Row {
        partition: line.partition,
        offset: line.offset,
        timestamp_us,
        key: joined(line.key, line.key_base64).map_err(|e| format!("the key: {e}"))?,
        value: joined(line.value, line.value_base64).map_err(|e| format!("the value: {e}"))?,
        headers: line.headers.into_iter().map(HeaderForm::header).collect::<Result<_, _>>()?,
        schema: line.schema,
        key_schema: line.key_schema,
        schema_text: line.schema_text,
        key_schema_text: line.key_schema_text,
    })
}
