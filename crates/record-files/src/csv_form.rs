//! Rows as comma-separated values. CSV does not tell nothing from empty text: the column `without` names the parts that are not
//! there.

use std::fs::File;

use bytes::Bytes;
use gonvel_core::produce::time;

use crate::form::{FileError, Form, bad_file};
use crate::json_lines::{HeaderForm, joined, split, timestamp_text};
use crate::row::{Row, Rows, Write};

const COLUMNS: [&str; 13] = [
    "partition",
    "offset",
    "timestamp",
    "key",
    "value",
    "without",
    "key_base64",
    "value_base64",
    "headers",
    "schema",
    "key_schema",
    "schema_text",
    "key_schema_text",
];

pub(crate) struct CsvWriter {
    begun: bool,
}

impl CsvWriter {
    pub(crate) fn begin() -> Self {
        Self { begun: false }
    }

    fn head(&mut self, out: &mut Vec<u8>) -> Result<(), FileError> {
        if !self.begun {
            self.begun = true;
            record(&COLUMNS.map(str::to_owned), out)?;
        }
        Ok(())
    }
}

fn record(fields: &[String], out: &mut Vec<u8>) -> Result<(), FileError> {
    let failed = |e: csv::Error| FileError::Write(e.to_string());
    let mut writer = csv::WriterBuilder::new().from_writer(&mut *out);
    writer.write_record(fields).map_err(failed)?;
    writer.flush().map_err(|e| FileError::Write(e.to_string()))
}

fn number<T: ToString>(value: Option<T>) -> String {
    value.map(|v| v.to_string()).unwrap_or_default()
}

impl Write for CsvWriter {
    fn row(&mut self, row: &Row, out: &mut Vec<u8>) -> Result<(), FileError> {
        self.head(out)?;
        let (key, key_base64) = split(row.key.as_ref());
        let (value, value_base64) = split(row.value.as_ref());
        let without: Vec<&str> =
            [("key", &row.key), ("value", &row.value)].iter().filter(|(_, part)| part.is_none()).map(|(n, _)| *n).collect();
        let headers: Vec<HeaderForm> = row.headers.iter().map(HeaderForm::of).collect();
        let headers = if headers.is_empty() { String::new() } else { json(&headers)? };
        let fields = [
            row.partition.to_string(),
            row.offset.to_string(),
            timestamp_text(row.timestamp_us).unwrap_or_else(|| row.timestamp_us.to_string()),
            key.unwrap_or_default(),
            value.unwrap_or_default(),
            without.join(" "),
            key_base64.unwrap_or_default(),
            value_base64.unwrap_or_default(),
            headers,
            number(row.schema),
            number(row.key_schema),
            row.schema_text.clone().unwrap_or_default(),
            row.key_schema_text.clone().unwrap_or_default(),
        ];
        record(&fields, out)
    }

    fn finish(&mut self, out: &mut Vec<u8>) -> Result<(), FileError> {
        self.head(out)
    }
}

fn json(headers: &[HeaderForm]) -> Result<String, FileError> {
    serde_json::to_string(headers).map_err(|e| FileError::Write(e.to_string()))
}

pub(crate) fn read(file: File) -> Result<Rows, FileError> {
    let mut reader = csv::ReaderBuilder::new().from_reader(file);
    let names = reader.headers().map_err(|e| bad_file(Form::Csv, e))?.clone();
    if let Some(unknown) = names.iter().find(|n| !COLUMNS.contains(n)) {
        return Err(bad_file(Form::Csv, format!("there is no column {unknown:?}: they are {}", COLUMNS.join(", "))));
    }
    for [one, other] in [["value", "value_base64"], ["key", "key_base64"], ["timestamp", "timestamp"]] {
        if !names.iter().any(|n| n == one || n == other) {
            let finding = format!(
                "its first line has no column {one:?}: add it, since nothing says what it would be; of records that have no key or no value \
                 the column \"without\" says so"
            );
            return Err(bad_file(Form::Csv, finding));
        }
    }
    let places = COLUMNS.map(|column| names.iter().position(|n| n == column));
    let (mut number, mut over) = (0, false);
    let mut records = reader.into_records();
    Ok(Box::new(std::iter::from_fn(move || {
        if over {
            return None;
        }
        let found = records.next()?.map_err(|e| e.to_string()).and_then(|record| row(&record, &places));
        let found = found.map_err(|finding| FileError::Row { row: number, finding });
        over = found.is_err();
        number += 1;
        Some(found)
    })))
}

fn row(record: &csv::StringRecord, places: &[Option<usize>; 13]) -> Result<Row, String> {
    let field = |column: &str| {
        let place = COLUMNS.iter().position(|c| *c == column).and_then(|n| places[n]);
        place.and_then(|place| record.get(place)).unwrap_or_default()
    };
    let some = |column: &str| Some(field(column)).filter(|t| !t.is_empty()).map(str::to_owned);
    let whole = |column: &str| -> Result<Option<i64>, String> {
        some(column).map(|t| t.parse().map_err(|_| format!("{column} is {t:?}: give a whole number"))).transpose()
    };
    let part = |name: &str| -> Result<Option<Bytes>, String> {
        if field("without").split(' ').any(|w| w == name) {
            return Ok(None);
        }
        match some(&format!("{name}_base64")) {
            None => Ok(Some(Bytes::copy_from_slice(field(name).as_bytes()))),
            base64 => joined(some(name), base64).map_err(|e| format!("the {name}: {e}")),
        }
    };
    let timestamp_us = match some("timestamp") {
        None => return Err("timestamp is empty: give a time like 2026-11-25T09:30:00Z".into()),
        Some(text) => text.parse().or_else(|_| time(&text))?,
    };
    let headers: Vec<HeaderForm> = match some("headers") {
        None => Vec::new(),
        Some(text) => {
            serde_json::from_str(&text).map_err(|e| format!("the headers are not a JSON list of names and values: {e}"))?
        }
    };
    Ok(Row {
        partition: i32::try_from(whole("partition")?.unwrap_or(0)).map_err(|e| format!("partition: {e}"))?,
        offset: whole("offset")?.unwrap_or(0),
        timestamp_us,
        key: part("key")?,
        value: part("value")?,
        headers: headers.into_iter().map(HeaderForm::header).collect::<Result<_, _>>()?,
        schema: whole("schema")?,
        key_schema: whole("key_schema")?,
        schema_text: some("schema_text"),
        key_schema_text: some("key_schema_text"),
    })
}
