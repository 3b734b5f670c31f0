//! The forms that files have, and why one cannot be written or read.

use std::str::FromStr;

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

pub(crate) fn bad_file(form: Form, finding: impl ToString) -> FileError {
    FileError::File { form: form.word(), finding: finding.to_string() }
}
