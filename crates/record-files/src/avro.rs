//! Rows as an Avro object container file.

use std::fs::File;
use std::io::BufReader;

use bytes::Bytes;
use gonvel_core::avro::binary::{DecodeError, Reader, write_bytes, write_length, write_long};
use gonvel_core::avro::container::{self, Codec, Container, Sync};
use gonvel_core::avro::fingerprint::fingerprint;
use gonvel_core::produce::MOST_HEADERS;
use gonvel_core::record::Header;

use crate::form::{FileError, Form, bad_file};
use crate::row::{Row, Rows, Write};

const SCHEMA: &str = r#"{"type":"record","name":"ExportedRecord","namespace":"gonvel","fields":[
{"name":"partition","type":"int"},
{"name":"offset","type":"long"},
{"name":"timestamp","type":{"type":"long","logicalType":"timestamp-micros"}},
{"name":"key","type":["null","bytes"]},
{"name":"value","type":["null","bytes"]},
{"name":"headers","type":{"type":"array","items":{"type":"record","name":"ExportedHeader","fields":[{"name":"name","type":"string"},{"name":"value","type":"bytes"}]}}},
{"name":"schema","type":["null","long"]},
{"name":"key_schema","type":["null","long"]},
{"name":"schema_text","type":["null","string"]},
{"name":"key_schema_text","type":["null","string"]}]}"#;
/// Bytes and rows of a block, about.
const BLOCK_BYTES: usize = 256 << 10;
const BLOCK_ROWS: u32 = 5_000;
/// Bytes a block of a file may unpack to.
const MOST_BYTES: usize = 256 << 20;

pub(crate) struct AvroWriter {
    sync: Sync,
    begun: bool,
    rows: u32,
    data: Vec<u8>,
}

impl AvroWriter {
    pub(crate) fn begin(sync: Sync) -> Self {
        Self { sync, begun: false, rows: 0, data: Vec::new() }
    }

    fn flush(&mut self, out: &mut Vec<u8>) -> Result<(), FileError> {
        if !self.begun {
            out.extend(container::header(SCHEMA, Codec::Zstandard, &self.sync));
            self.begun = true;
        }
        if self.rows > 0 {
            let packed = container::pack(&self.data).map_err(FileError::Write)?;
            container::write_block(self.rows, &packed, &self.sync, out);
            self.rows = 0;
            self.data.clear();
        }
        Ok(())
    }
}

fn optional<T>(value: Option<T>, out: &mut Vec<u8>, write: impl FnOnce(T, &mut Vec<u8>)) {
    match value {
        None => out.push(0),
        Some(value) => {
            out.push(2);
            write(value, out);
        }
    }
}

impl Write for AvroWriter {
    fn row(&mut self, row: &Row, out: &mut Vec<u8>) -> Result<(), FileError> {
        let data = &mut self.data;
        write_long(row.partition.into(), data);
        write_long(row.offset, data);
        write_long(row.timestamp_us, data);
        for part in [&row.key, &row.value] {
            optional(part.as_ref(), data, |bytes, out| write_bytes(bytes, out));
        }
        if !row.headers.is_empty() {
            write_length(row.headers.len(), data);
            for header in &row.headers {
                write_bytes(header.name.as_bytes(), data);
                write_bytes(&header.value, data);
            }
        }
        data.push(0);
        for id in [row.schema, row.key_schema] {
            optional(id, data, write_long);
        }
        for text in [&row.schema_text, &row.key_schema_text] {
            optional(text.as_ref(), data, |text, out| write_bytes(text.as_bytes(), out));
        }
        self.rows += 1;
        if self.data.len() >= BLOCK_BYTES || self.rows >= BLOCK_ROWS {
            self.flush(out)?;
        }
        Ok(())
    }

    fn finish(&mut self, out: &mut Vec<u8>) -> Result<(), FileError> {
        self.flush(out)
    }
}

pub(crate) fn read(file: File) -> Result<Rows, FileError> {
    let mut container = Container::open(BufReader::new(file)).map_err(|e| bad_file(Form::Avro, e))?;
    // the canonical form leaves out what does not matter to readers, as logical types
    if fingerprint(&container.schema).ok() != fingerprint(SCHEMA).ok() {
        return Err(bad_file(Form::Avro, "its records are not those of an export: append such a file as records instead"));
    }
    let (mut number, mut over) = (0, false);
    // the block that is being read, how many of its rows are left, and where the next one begins
    let (mut data, mut left, mut at) = (Vec::new(), 0_u64, 0);
    let mut next = move || -> Result<Option<Row>, String> {
        while left == 0 {
            if at < data.len() {
                return Err(DecodeError::Number.to_string());
            }
            let Some((count, block)) = container.next_block(MOST_BYTES).map_err(|e| e.to_string())? else {
                return Ok(None);
            };
            (data, left, at) = (block, count, 0);
        }
        let mut reader = Reader::new(&data[at..]);
        let found = row(&mut reader).map_err(|e| e.to_string())?;
        (left, at) = (left - 1, data.len() - reader.remaining());
        Ok(Some(found))
    };
    Ok(Box::new(std::iter::from_fn(move || {
        if over {
            return None;
        }
        let found = next().map_err(|finding| FileError::Row { row: number, finding }).transpose();
        over = !matches!(found, Some(Ok(_)));
        number += 1;
        found
    })))
}

fn bytes(reader: &mut Reader<'_>) -> Result<Option<Bytes>, DecodeError> {
    if reader.branch(2)? == 0 { Ok(None) } else { reader.bytes().map(|b| Some(Bytes::copy_from_slice(b))) }
}

fn long(reader: &mut Reader<'_>) -> Result<Option<i64>, DecodeError> {
    if reader.branch(2)? == 0 { Ok(None) } else { reader.long().map(Some) }
}

fn text(reader: &mut Reader<'_>) -> Result<Option<String>, DecodeError> {
    if reader.branch(2)? == 0 { Ok(None) } else { reader.text().map(|t| Some(t.to_owned())) }
}

fn row(reader: &mut Reader<'_>) -> Result<Row, DecodeError> {
    let mut row = Row {
        partition: reader.int()?,
        offset: reader.long()?,
        timestamp_us: reader.long()?,
        key: bytes(reader)?,
        value: bytes(reader)?,
        ..Row::default()
    };
    loop {
        let count = reader.long()?;
        if count == 0 {
            break;
        }
        if count < 0 {
            reader.long()?;
        }
        for _ in 0..count.unsigned_abs() {
            // more than a record may have
            if row.headers.len() > MOST_HEADERS {
                return Err(DecodeError::Large);
            }
            let name = reader.text()?.to_owned();
            row.headers.push(Header { name, value: Bytes::copy_from_slice(reader.bytes()?) });
        }
    }
    (row.schema, row.key_schema) = (long(reader)?, long(reader)?);
    (row.schema_text, row.key_schema_text) = (text(reader)?, text(reader)?);
    Ok(row)
}
