//! Avro schemas as a tree with named types resolved.

use std::sync::Arc;

use serde_json::Value as Json;

use crate::json_place::Place;

/// Longest text of a schema, in bytes.
pub const LONGEST: usize = 1 << 20;

/// Why a schema's text is refused. Lines and columns count from 1.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum SchemaError {
    /// The text is not JSON.
    #[error("line {line}, column {column}: the schema is not JSON: {finding}")]
    Json {
        /// Line.
        line: usize,
        /// Column.
        column: usize,
        /// What the reader of JSON says.
        finding: String,
    },
    /// Something is missing or wrong at a place.
    #[error("line {line}, column {column}: at {path}: {finding}")]
    At {
        /// Line.
        line: usize,
        /// Column.
        column: usize,
        /// Where in the schema, as a path of names.
        path: String,
        /// What is wrong and what would be right.
        finding: String,
    },
}

impl SchemaError {
    /// Line and column.
    #[must_use]
    pub fn place(&self) -> Place {
        let (Self::Json { line, column, .. } | Self::At { line, column, .. }) = self;
        Place { line: *line, column: *column }
    }

    /// What is wrong, without its line.
    #[must_use]
    pub fn finding(&self) -> String {
        match self {
            Self::Json { finding, .. } => format!("the schema is not JSON: {finding}"),
            Self::At { path, finding, .. } => format!("at {path}: {finding}"),
        }
    }
}

/// What a value of an underlying type means ("Logical Types" in the specification).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Logical {
    /// Fixed-point number.
    Decimal {
        /// Digits in all.
        precision: u32,
        /// Digits after the point.
        scale: u32,
    },
    /// Days since 1970-01-01.
    Date,
    /// Milliseconds of the day.
    TimeMillis,
    /// Microseconds of the day.
    TimeMicros,
    /// Milliseconds since 1970-01-01 UTC.
    TimestampMillis,
    /// Microseconds since 1970-01-01 UTC.
    TimestampMicros,
    /// Nanoseconds since 1970-01-01 UTC.
    TimestampNanos,
    /// Milliseconds since 1970-01-01 in no zone.
    LocalTimestampMillis,
    /// Microseconds since 1970-01-01 in no zone.
    LocalTimestampMicros,
    /// Nanoseconds since 1970-01-01 in no zone.
    LocalTimestampNanos,
    /// Months, days and milliseconds, each as four bytes.
    Duration,
    /// RFC 4122: text, or sixteen bytes.
    Uuid,
}

/// A field of a record.
#[derive(Debug, Clone, PartialEq)]
pub struct Field {
    /// Its name.
    pub name: String,
    /// Its schema.
    pub schema: Schema,
    /// Names it had in earlier schemas.
    pub aliases: Vec<String>,
    /// What a reader takes where the writer had no such field.
    pub default: Option<Json>,
    /// What it means, for people.
    pub doc: Option<String>,
    /// Attributes beyond those of the specification.
    pub attributes: serde_json::Map<String, Json>,
}

/// A schema. Named types are shared, so a type used twice is one.
#[derive(Debug, Clone, PartialEq)]
pub enum Schema {
    /// `null`
    Null,
    /// `boolean`
    Boolean,
    /// `int`
    Int(Option<Logical>),
    /// `long`
    Long(Option<Logical>),
    /// `float`
    Float,
    /// `double`
    Double,
    /// `bytes`
    Bytes(Option<Logical>),
    /// `string`
    String(Option<Logical>),
    /// `fixed`
    Fixed {
        /// Its names.
        names: Arc<Names>,
        /// Bytes.
        size: usize,
        /// Its meaning.
        logical: Option<Logical>,
    },
    /// `enum`
    Enum {
        /// Its names.
        names: Arc<Names>,
        /// Its symbols in order.
        symbols: Arc<Vec<String>>,
        /// What a reader takes for a symbol it does not know.
        default: Option<String>,
    },
    /// `array`
    Array(Arc<Schema>),
    /// `map`
    Map(Arc<Schema>),
    /// A union's branches.
    Union(Arc<Vec<Schema>>),
    /// `record`
    Record {
        /// Its names.
        names: Arc<Names>,
        /// Its fields in order.
        fields: Arc<Vec<Field>>,
    },
    /// A named type within its own definition, by its full name.
    Recursive(String),
}

/// The names of a named type.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Names {
    /// Full name.
    pub full: String,
    /// Full names it had in earlier schemas.
    pub aliases: Vec<String>,
}

impl Names {
    /// The name without its namespace.
    #[must_use]
    pub fn short(&self) -> &str {
        short(&self.full)
    }
}

/// A full name without its namespace.
pub(super) fn short(full: &str) -> &str {
    full.rfind('.').map_or(full, |dot| &full[dot + 1..])
}

impl Schema {
    /// The type's name: a named type's full name, else the specification's word.
    #[must_use]
    pub fn type_name(&self) -> &str {
        match self {
            Self::Null => "null",
            Self::Boolean => "boolean",
            Self::Int(_) => "int",
            Self::Long(_) => "long",
            Self::Float => "float",
            Self::Double => "double",
            Self::Bytes(_) => "bytes",
            Self::String(_) => "string",
            Self::Array(_) => "array",
            Self::Map(_) => "map",
            Self::Union(_) => "union",
            Self::Fixed { names, .. } | Self::Enum { names, .. } | Self::Record { names, .. } => &names.full,
            Self::Recursive(name) => name,
        }
    }
}

/// The full name of a type: a dotted name is full already, another takes the namespace in force.
pub(super) fn full_name(name: &str, namespace: &str) -> String {
    if name.contains('.') || namespace.is_empty() { name.to_owned() } else { format!("{namespace}.{name}") }
}

/// The namespace a named type's inner names take.
pub(super) fn namespace_of(full: &str) -> &str {
    full.rfind('.').map_or("", |dot| &full[..dot])
}
