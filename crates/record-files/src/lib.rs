//! Records as files: Avro, Parquet, JSON Lines and CSV, written and read piece by piece.
//!
//! Every form holds the same columns, so that what was written comes back equal: partition, offset, timestamp, key, value,
//! headers, the schemas' numbers, and each schema's text in the first row that uses it.
#![deny(missing_docs)]

mod avro;
mod csv_form;
mod form;
mod json_lines;
mod parquet_form;
mod row;

use std::fs::File;

pub use form::{FileError, Form};
use row::Write;
pub use row::{Row, Rows};

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
