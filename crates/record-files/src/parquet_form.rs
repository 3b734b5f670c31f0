//! Rows as a Parquet file, a row group at a time.

use std::fs::File;
use std::io;
use std::sync::{Arc, Mutex};

use bytes::Bytes;
use gonvel_core::record::Header;
use parquet::basic::{Compression, ZstdLevel};
use parquet::data_type::{ByteArray, ByteArrayType, DataType, Int32Type, Int64Type};
use parquet::errors::ParquetError;
use parquet::file::properties::WriterProperties;
use parquet::file::reader::{FileReader, SerializedFileReader};
use parquet::file::writer::{SerializedFileWriter, SerializedRowGroupWriter};
use parquet::record::{Field, Row as ParquetRow};
use parquet::schema::parser::parse_message_type;

use crate::form::{FileError, Form, bad_file};
use crate::row::{Row, Rows, Write};

const SCHEMA: &str = "message records {
  REQUIRED INT32 partition;
  REQUIRED INT64 offset;
  REQUIRED INT64 timestamp (TIMESTAMP(MICROS,true));
  OPTIONAL BYTE_ARRAY key;
  OPTIONAL BYTE_ARRAY value;
  REQUIRED GROUP headers (LIST) {
    REPEATED GROUP list {
      REQUIRED GROUP element {
        REQUIRED BYTE_ARRAY name (STRING);
        REQUIRED BYTE_ARRAY value;
      }
    }
  }
  OPTIONAL INT64 schema;
  OPTIONAL INT64 key_schema;
  OPTIONAL BYTE_ARRAY schema_text (STRING);
  OPTIONAL BYTE_ARRAY key_schema_text (STRING);
}";
/// Rows and bytes of a row group, about.
const GROUP_ROWS: usize = 50_000;
const GROUP_BYTES: usize = 16 << 20;

/// What the file's writer has written and no one has taken yet.
#[derive(Clone, Default)]
struct Sink(Arc<Mutex<Vec<u8>>>);

impl io::Write for Sink {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.0.lock().map_err(|_| io::Error::other("a writer failed before"))?.extend_from_slice(bytes);
        Ok(bytes.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

impl Sink {
    fn take(&self, out: &mut Vec<u8>) {
        if let Ok(mut written) = self.0.lock() {
            out.append(&mut written);
        }
    }
}

pub(crate) struct ParquetWriter {
    sink: Sink,
    writer: Option<SerializedFileWriter<Sink>>,
    rows: Vec<Row>,
    bytes: usize,
}

fn failed(error: ParquetError) -> FileError {
    FileError::Write(error.to_string())
}

impl ParquetWriter {
    pub(crate) fn begin() -> Result<Self, FileError> {
        let schema = Arc::new(parse_message_type(SCHEMA).map_err(failed)?);
        let zstd = Compression::ZSTD(ZstdLevel::try_new(1).map_err(failed)?);
        let properties = WriterProperties::builder().set_compression(zstd).set_dictionary_enabled(false).build();
        let sink = Sink::default();
        let writer = SerializedFileWriter::new(sink.clone(), schema, Arc::new(properties)).map_err(failed)?;
        Ok(Self { sink, writer: Some(writer), rows: Vec::new(), bytes: 0 })
    }

    fn group(&mut self) -> Result<(), FileError> {
        let rows = std::mem::take(&mut self.rows);
        self.bytes = 0;
        let Some(writer) = self.writer.as_mut().filter(|_| !rows.is_empty()) else { return Ok(()) };
        let mut group = writer.next_row_group().map_err(failed)?;
        required::<Int32Type>(&mut group, rows.iter().map(|r| r.partition)).map_err(failed)?;
        required::<Int64Type>(&mut group, rows.iter().map(|r| r.offset)).map_err(failed)?;
        required::<Int64Type>(&mut group, rows.iter().map(|r| r.timestamp_us)).map_err(failed)?;
        optional::<ByteArrayType>(&mut group, rows.iter().map(|r| r.key.clone().map(ByteArray::from))).map_err(failed)?;
        optional::<ByteArrayType>(&mut group, rows.iter().map(|r| r.value.clone().map(ByteArray::from))).map_err(failed)?;
        repeated(&mut group, &rows, |h| Bytes::from(h.name.clone())).map_err(failed)?;
        repeated(&mut group, &rows, |h| h.value.clone()).map_err(failed)?;
        optional::<Int64Type>(&mut group, rows.iter().map(|r| r.schema)).map_err(failed)?;
        optional::<Int64Type>(&mut group, rows.iter().map(|r| r.key_schema)).map_err(failed)?;
        let text = |t: &Option<String>| t.as_ref().map(|t| ByteArray::from(t.as_str()));
        optional::<ByteArrayType>(&mut group, rows.iter().map(|r| text(&r.schema_text))).map_err(failed)?;
        optional::<ByteArrayType>(&mut group, rows.iter().map(|r| text(&r.key_schema_text))).map_err(failed)?;
        group.close().map_err(failed)?;
        Ok(())
    }
}

type Group<'a> = SerializedRowGroupWriter<'a, Sink>;

fn column<T: DataType>(
    group: &mut Group<'_>,
    values: &[T::T],
    definitions: Option<&[i16]>,
    repetitions: Option<&[i16]>,
) -> Result<(), ParquetError> {
    let Some(mut writer) = group.next_column()? else { return Err(ParquetError::General("a column is missing".into())) };
    writer.typed::<T>().write_batch(values, definitions, repetitions)?;
    writer.close()
}

fn required<T: DataType>(group: &mut Group<'_>, values: impl Iterator<Item = T::T>) -> Result<(), ParquetError> {
    column::<T>(group, &values.collect::<Vec<_>>(), None, None)
}

fn optional<T: DataType>(group: &mut Group<'_>, values: impl Iterator<Item = Option<T::T>>) -> Result<(), ParquetError> {
    let values: Vec<Option<T::T>> = values.collect();
    let definitions: Vec<i16> = values.iter().map(|v| i16::from(v.is_some())).collect();
    let present: Vec<T::T> = values.into_iter().flatten().collect();
    column::<T>(group, &present, Some(&definitions), None)
}

fn repeated(group: &mut Group<'_>, rows: &[Row], part: impl Fn(&Header) -> Bytes) -> Result<(), ParquetError> {
    let (mut values, mut definitions, mut repetitions) = (Vec::new(), Vec::new(), Vec::new());
    for row in rows {
        if row.headers.is_empty() {
            definitions.push(0);
            repetitions.push(0);
        }
        for (number, header) in row.headers.iter().enumerate() {
            values.push(ByteArray::from(part(header)));
            definitions.push(1);
            repetitions.push(i16::from(number > 0));
        }
    }
    column::<ByteArrayType>(group, &values, Some(&definitions), Some(&repetitions))
}

impl Write for ParquetWriter {
    fn row(&mut self, row: &Row, out: &mut Vec<u8>) -> Result<(), FileError> {
        let of = |part: &Option<Bytes>| part.as_ref().map_or(0, Bytes::len);
        self.bytes +=
            of(&row.key) + of(&row.value) + row.headers.iter().map(|h| h.name.len() + h.value.len()).sum::<usize>() + 64;
        self.rows.push(row.clone());
        if self.rows.len() >= GROUP_ROWS || self.bytes >= GROUP_BYTES {
            self.group()?;
        }
        self.sink.take(out);
        Ok(())
    }

    fn finish(&mut self, out: &mut Vec<u8>) -> Result<(), FileError> {
        self.group()?;
        if let Some(writer) = self.writer.take() {
            writer.close().map_err(failed)?;
        }
        self.sink.take(out);
        Ok(())
    }
}

/// The library panics on some damaged files: such a file is refused like any other that cannot be read.
fn guarded<T>(reading: impl FnOnce() -> T) -> Result<T, String> {
    std::panic::catch_unwind(std::panic::AssertUnwindSafe(reading)).map_err(|_| "it is damaged".to_owned())
}

pub(crate) fn read(file: File) -> Result<Rows, FileError> {
    let bad = |finding: String| bad_file(Form::Parquet, finding);
    let reader = guarded(|| SerializedFileReader::new(file)).map_err(bad)?.map_err(|e| bad_file(Form::Parquet, e))?;
    let wanted = parse_message_type(SCHEMA).map_err(failed)?;
    let found = reader.metadata().file_metadata().schema().clone();
    for field in wanted.get_fields() {
        if !found.get_fields().iter().any(|f| f.name() == field.name()) {
            return Err(bad_file(Form::Parquet, format!("it has no column {:?}", field.name())));
        }
    }
    let mut rows = guarded(|| reader.into_iter()).map_err(bad)?;
    let (mut number, mut over) = (0, false);
    Ok(Box::new(std::iter::from_fn(move || {
        if over {
            return None;
        }
        let found = match guarded(|| rows.next()) {
            Ok(next) => next?.map_err(|e| e.to_string()).and_then(|r| row(&r)),
            Err(finding) => Err(finding),
        };
        let found = found.map_err(|finding| FileError::Row { row: number, finding });
        over = found.is_err();
        number += 1;
        Some(found)
    })))
}

fn bytes(field: &Field) -> Result<Option<Bytes>, String> {
    match field {
        Field::Null => Ok(None),
        Field::Bytes(bytes) => Ok(Some(Bytes::copy_from_slice(bytes.data()))),
        Field::Str(text) => Ok(Some(Bytes::copy_from_slice(text.as_bytes()))),
        other => Err(format!("found {other}, where bytes belong")),
    }
}

fn long(field: &Field) -> Result<Option<i64>, String> {
    match field {
        Field::Null => Ok(None),
        Field::Long(n) | Field::TimestampMicros(n) => Ok(Some(*n)),
        Field::Int(n) => Ok(Some((*n).into())),
        other => Err(format!("found {other}, where a whole number belongs")),
    }
}

fn text(field: &Field) -> Result<Option<String>, String> {
    match field {
        Field::Null => Ok(None),
        Field::Str(text) => Ok(Some(text.clone())),
        other => Err(format!("found {other}, where text belongs")),
    }
}

fn headers(field: &Field) -> Result<Vec<Header>, String> {
    let Field::ListInternal(list) = field else { return Err(format!("found {field}, where a list of headers belongs")) };
    let one = |field: &Field| {
        let Field::Group(group) = field else { return Err(format!("found {field}, where a header belongs")) };
        let (mut name, mut value) = (None, None);
        for (column, field) in group.get_column_iter() {
            match column.as_str() {
                "name" => name = text(field)?,
                "value" => value = bytes(field)?,
                _ => {}
            }
        }
        Ok(Header { name: name.ok_or("a header has a name")?, value: value.ok_or("a header has a value")? })
    };
    list.elements().iter().map(one).collect()
}

fn row(found: &ParquetRow) -> Result<Row, String> {
    let mut row = Row::default();
    for (column, field) in found.get_column_iter() {
        let at = |e: String| format!("{column}: {e}");
        match column.as_str() {
            "partition" => {
                row.partition = i32::try_from(long(field).map_err(at)?.unwrap_or(0)).map_err(|e| e.to_string())?;
            }
            "offset" => row.offset = long(field).map_err(at)?.unwrap_or(0),
            "timestamp" => row.timestamp_us = long(field).map_err(at)?.unwrap_or(0),
            "key" => row.key = bytes(field).map_err(at)?,
            "value" => row.value = bytes(field).map_err(at)?,
            "headers" => row.headers = headers(field).map_err(at)?,
            "schema" => row.schema = long(field).map_err(at)?,
            "key_schema" => row.key_schema = long(field).map_err(at)?,
            "schema_text" => row.schema_text = text(field).map_err(at)?,
            "key_schema_text" => row.key_schema_text = text(field).map_err(at)?,
            _ => {}
        }
    }
    Ok(row)
}
