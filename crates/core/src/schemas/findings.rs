//! What is found in texts of schemas, and between two of them.

use serde::{Deserialize, Serialize};

use crate::avro::schema::SchemaError;
use crate::json_place::Place;

/// A text that is refused. Lines and columns count from 1.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("line {line}, column {column}: {finding}")]
pub struct TextFault {
    /// Line.
    pub line: usize,
    /// Column.
    pub column: usize,
    /// What is wrong.
    pub finding: String,
}

impl TextFault {
    pub(super) fn at(place: Place, finding: impl Into<String>) -> Self {
        Self { line: place.line, column: place.column, finding: finding.into() }
    }
}

impl From<SchemaError> for TextFault {
    fn from(error: SchemaError) -> Self {
        Self::at(error.place(), error.finding())
    }
}

/// A change between two versions.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SchemaChange {
    /// Where, as a path of names.
    pub path: String,
    /// What happened there.
    pub words: String,
}

/// Why data written with one schema cannot be read with another.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Misfit {
    /// Where in the reader's schema, as a path of names.
    pub path: String,
    /// The rule that is not met, as the specification of the schema's language has it.
    pub rule: &'static str,
    /// What was found.
    pub finding: String,
    /// A change that would make it pass.
    pub remedy: String,
    /// Whether it is not known to be one: the schemas cannot be compared there, and nothing is promised.
    pub unknown: bool,
}

/// A schema another one names types of.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Reference {
    /// Its registered name; for Protocol Buffers the path it is imported by.
    pub name: String,
    /// Its text, which stands by itself.
    pub text: String,
}
