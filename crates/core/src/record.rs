//! A record of a topic.

use bytes::Bytes;

use crate::naming::{Offset, SchemaId};

/// A named value beside a record.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Header {
    /// The header's name; may stand more than once.
    pub name: String,
    /// The header's bytes.
    pub value: Bytes,
}

/// What a producer appends: a record before it has its offset. Immutable once appended.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Record {
    /// The key, which decides the partition.
    pub key: Option<Bytes>,
    /// The value; none stands for "this key is gone".
    pub value: Option<Bytes>,
    /// The headers, in order.
    pub headers: Vec<Header>,
    /// Microseconds since 1970-01-01 UTC.
    pub timestamp_us: i64,
    /// The version that wrote the value.
    pub schema: Option<SchemaId>,
    /// The version that wrote the key.
    pub key_schema: Option<SchemaId>,
}

/// A record with its place.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct StoredRecord {
    /// Its position in its partition.
    pub offset: Offset,
    /// The record.
    pub record: Record,
}
