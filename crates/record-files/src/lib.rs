//! Records as files: Avro, Parquet, JSON Lines and CSV, written and read piece by piece.
//!
//! Every form holds the same columns, so that what was written comes back equal: partition, offset, timestamp, key, value,
//! headers, the schemas' numbers, and each schema's text in the first row that uses it.
#![deny(missing_docs)]

mod avro;
mod csv_form;
mod json_lines;
mod parquet_form;

use std::fs::File;
use std::str::FromStr;

use base64::Engine as _;
use bytes::Bytes;
use gonvel_core::record::Header;

/// A row of a file.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Row {
    /// The partition the record was in.
    pub partition: i32,
    /// Its offset there.
    pub offset: i64,
    /// Microseconds since 1970-01-01 UTC.
    pub timestamp_us: i64,
    /// The key.
    pub key: Option<Bytes>,
    /// The value.
    pub value: Option<Bytes>,
    /// The headers in order.
    pub headers: Vec<Header>,
    /// Number of the schema of the value.
    pub schema: Option<i64>,
    /// Number of the schema of the key.
    pub key_schema: Option<i64>,
    /// The text of the value's schema, in the first row that uses it.
    pub schema_text: Option<String>,
    /// The text of the key's schema, in the first row that uses it.
    pub key_schema_text: Option<String>,
}

impl Row {
    /// Its key, its value and its headers, in bytes.
    #[must_use]
    pub fn size(&self) -> usize {
        let of = |part: &Option<Bytes>| part.as_ref().map_or(0, Bytes::len);
        of(&self.key) + of(&self.value) + self.headers.iter().map(|h| h.name.len() + h.value.len()).sum::<usize>()
    }
}

/// A form of files.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Form {
    /// Avro object container file.
    Avro,
    /// Apache Parquet.
    Parquet,
    /// A JSON object on each line.
    JsonLines,
    /// Comma-separated values with a line of names.
    Csv,
}

impl Form {
    /// All of them.
    pub const ALL: [Self; 4] = [Self::Avro, Self::Parquet, Self::JsonLines, Self::Csv];

    /// The word for it, which is also the ending of a file's name.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Avro => "avro",
            Self::Parquet => "parquet",
            Self::JsonLines => "jsonl",
            Self::Csv => "csv",
        }
    }

    /// Its media type.
    #[must_use]
    pub fn media_type(self) -> &'static str {
        match self {
            Self::Avro => "application/avro",
            Self::Parquet => "application/vnd.apache.parquet",
            Self::JsonLines => "application/x-ndjson",
            Self::Csv => "text/csv; charset=utf-8",
        }
    }
}

impl FromStr for Form {
    type Err = FileError;

    fn from_str(text: &str) -> Result<Self, FileError> {
        let found = Self::ALL.into_iter().find(|form| form.word() == text.to_ascii_lowercase());
        found.ok_or_else(|| FileError::Form(text.to_owned()))
    }
}

/// Why a file cannot be written or read.
#[derive(Debug, thiserror::Error)]
pub enum FileError {
    /// No form of that name.
    #[error("there is no form {0:?}: take avro, parquet, jsonl or csv")]
    Form(String),
    /// The file is not one of this form, or not of records.
    #[error("the file cannot be read as {form}: {finding}")]
    File {
        /// The form.
        form: &'static str,
        /// What was found.
        finding: String,
    },
    /// A row is wrong.
    #[error("row {row}: {finding}")]
    Row {
        /// Its number in the file, from 0.
        row: u64,
        /// What was found and what would be right.
        finding: String,
    },
    /// Writing failed, which is our own mistake.
    #[error("the file could not be written: {0}")]
    Write(String),
}

trait Write: Send {
    fn row(&mut self, row: &Row, out: &mut Vec<u8>) -> Result<(), FileError>;
    fn finish(&mut self, out: &mut Vec<u8>) -> Result<(), FileError>;
}

/// Writes a file piece by piece.
pub struct Writer(Box<dyn Write>);

impl Writer {
    /// Begins a file. `unique` are sixteen bytes that no other file has.
    ///
    /// # Errors
    /// [`FileError::Write`].
    pub fn begin(form: Form, unique: [u8; 16]) -> Result<Self, FileError> {
        Ok(Self(match form {
            Form::Avro => Box::new(avro::AvroWriter::begin(unique)),
            Form::Parquet => Box::new(parquet_form::ParquetWriter::begin()?),
            Form::JsonLines => Box::new(json_lines::JsonLinesWriter),
            Form::Csv => Box::new(csv_form::CsvWriter::begin()),
        }))
    }

    /// Adds a row; what is ready of the file is appended.
    ///
    /// # Errors
    /// [`FileError::Write`].
    pub fn row(&mut self, row: &Row, out: &mut Vec<u8>) -> Result<(), FileError> {
        self.0.row(row, out)
    }

    /// Appends the rest of the file.
    ///
    /// # Errors
    /// [`FileError::Write`].
    pub fn finish(&mut self, out: &mut Vec<u8>) -> Result<(), FileError> {
        self.0.finish(out)
    }
}

/// The rows of a file, read as they are asked for.
pub type Rows = Box<dyn Iterator<Item = Result<Row, FileError>> + Send>;

/// Reads a file.
///
/// # Errors
/// [`FileError::File`] if it is not of this form.
pub fn read(form: Form, file: File) -> Result<Rows, FileError> {
    match form {
        Form::Avro => avro::read(file),
        Form::Parquet => parquet_form::read(file),
        Form::JsonLines => Ok(json_lines::read(file)),
        Form::Csv => csv_form::read(file),
    }
}

fn bad_file(form: Form, finding: impl ToString) -> FileError {
    FileError::File { form: form.word(), finding: finding.to_string() }
}

fn to_base64(bytes: &[u8]) -> String {
    base64::engine::general_purpose::STANDARD.encode(bytes)
}
