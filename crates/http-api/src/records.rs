//! Records: reading, appending, searching, files.

use serde::{Deserialize, Serialize};
use serde_json::value::RawValue;
use utoipa::{IntoParams, ToSchema};
use uuid::Uuid;

/// Where to read.
#[derive(Debug, Clone, Default, Deserialize, IntoParams, ToSchema)]
#[into_params(parameter_in = Query)]
pub struct RecordsQuery {
    /// One partition; all without it.
    #[serde(default)]
    pub partition: Option<i32>,
    /// `newest` or `oldest` first. Without `offset` and `time` reading begins at that end.
    #[serde(default)]
    pub order: Order,
    /// Begin at this offset of the partition.
    #[serde(default)]
    pub offset: Option<i64>,
    /// Begin at this time (RFC 3339).
    #[serde(default)]
    #[param(format = DateTime)]
    pub time: Option<String>,
    /// Only records whose key is this text.
    #[serde(default)]
    pub key: Option<String>,
    /// Wait so long for a record if there is none yet, in milliseconds, 30000 at most; for `oldest` first. There is always a `next`
    /// then, from which to wait on.
    #[serde(default)]
    pub wait_ms: Option<u64>,
    /// Give the bytes of key, value and headers as well.
    #[serde(default)]
    pub raw: bool,
}

/// Which end comes first.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum Order {
    /// The newest.
    #[default]
    Newest,
    /// The oldest.
    Oldest,
}

/// A header of a record, its value as text.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct RecordHeader {
    /// Name.
    pub name: String,
    /// Value as text.
    pub value: String,
    /// Its bytes in base64, where asked for.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub value_base64: Option<String>,
}

/// A record as people read it.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Record {
    /// Its partition.
    pub partition: i32,
    /// Its offset.
    pub offset: i64,
    /// Its time.
    pub timestamp: String,
    /// The key, decoded where its schema is known.
    #[schema(value_type = Option<Object>)]
    pub key: Box<RawValue>,
    /// The value, decoded where its schema is known.
    #[schema(value_type = Option<Object>)]
    pub value: Box<RawValue>,
    /// Headers.
    pub headers: Vec<RecordHeader>,
    /// Number of the schema version that wrote the value.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub schema: Option<i64>,
    /// Number of the schema version that wrote the key.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub key_schema: Option<i64>,
    /// Size of key and value in bytes.
    pub bytes: usize,
    /// The bytes of the key in base64, where asked for.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub key_base64: Option<String>,
    /// The bytes of the value in base64, where asked for.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub value_base64: Option<String>,
}

/// How records are appended.
#[derive(Debug, Clone, Default, Deserialize, IntoParams, ToSchema)]
#[into_params(parameter_in = Query)]
pub struct ProduceQuery {
    /// For JSON: `none` keeps values as the text they are, `latest` writes them by the topic's latest schema, the name of a schema
    /// by that one's latest version.
    #[serde(default)]
    pub schema: Option<String>,
    /// For a body that is one value: the record's key.
    #[serde(default)]
    pub key: Option<String>,
    /// For a body that is one value or an Avro file: the partition.
    #[serde(default)]
    pub partition: Option<i32>,
    /// Appends the records that can be, and says of each of the others why not. Without it all of a request is appended or nothing.
    #[serde(default)]
    pub partial: bool,
    /// The name of who appends, as the header `Producer-Name` gives it too: up to 100 characters.
    #[serde(default)]
    pub producer: Option<String>,
}

/// Where a record was appended.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Appended {
    /// The partition.
    pub partition: i32,
    /// The offset.
    pub offset: i64,
}

/// Where the records of a request were appended, in its order. They are durable.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Produced {
    /// One for each record that was appended.
    pub records: Vec<Appended>,
    /// The others, with `partial`.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub refused: Vec<RefusedRecord>,
}

/// A record of a request that was not appended.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct RefusedRecord {
    /// Its number in the request, from 0.
    pub record: usize,
    /// What was found, and what would be right.
    pub finding: String,
}

/// An application that appends to a topic.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Producer {
    /// The topic.
    pub topic: String,
    /// The name that it gives; empty for all that give none.
    pub name: String,
    /// When it was first heard of.
    #[schema(format = DateTime)]
    pub first_at: String,
    /// When it last appended.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub last_append: Option<String>,
    /// Records appended so far.
    pub records: i64,
    /// Records per second over the last minute.
    pub rate_per_s: f64,
    /// Records refused so far; a request that was refused as a whole counts as one.
    pub refused: i64,
    /// When one was last refused.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub last_refused: Option<String>,
    /// Why that was.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub why: Option<String>,
}

/// Which producers are listed.
#[derive(Debug, Clone, Default, Deserialize, IntoParams, ToSchema)]
#[into_params(parameter_in = Query)]
pub struct ProducersQuery {
    /// Only those of this topic.
    #[serde(default)]
    pub topic: Option<String>,
    /// Only those with this text in their names, in capitals or not.
    #[serde(default)]
    pub search: Option<String>,
    /// From the last topic and name to the first.
    #[serde(default)]
    pub descending: bool,
}

/// A producer's session: its requests are numbered from 0 by the header `Producer-Sequence`.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ProducerSession {
    /// To be given in the header `Producer-Session`.
    pub session: Uuid,
}

/// Where a stream begins and whose it is.
#[derive(Debug, Clone, Default, Deserialize, IntoParams, ToSchema)]
#[into_params(parameter_in = Query)]
pub struct StreamQuery {
    /// `newest` (the usual) begins with what comes next, `oldest` with the oldest kept record.
    #[serde(default)]
    pub from: Order,
    /// One partition; all without it.
    #[serde(default)]
    pub partition: Option<i32>,
    /// Begin at this offset of the partition.
    #[serde(default)]
    pub offset: Option<i64>,
    /// Begin at this time (RFC 3339).
    #[serde(default)]
    #[param(format = DateTime)]
    pub time: Option<String>,
    /// Go on after the record that this cursor came with; the header `Last-Event-ID` goes before it.
    #[serde(default)]
    pub cursor: Option<String>,
    /// Give the bytes of key, value and headers as well.
    #[serde(default)]
    pub raw: bool,
}

/// A record to be appended, as JSON.
#[derive(Debug, Clone, Serialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewRecord {
    /// Its key: text without its quotes, other JSON as it is written; by the schema that keys are bound to, where they are.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub key: Option<serde_json::Value>,
    /// In the place of `key`, its bytes in base64.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub key_base64: Option<String>,
    /// Its value: the JSON as it is written, or by a schema; null says that the key is gone.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub value: Option<serde_json::Value>,
    /// In the place of `value`, its bytes in base64.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub value_base64: Option<String>,
    /// Its headers.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub headers: Option<NewHeaders>,
    /// Its time; without it that of its append.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[schema(format = DateTime)]
    pub timestamp: Option<String>,
    /// The partition that it goes to; without it the one of its key.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub partition: Option<i32>,
}

/// Headers of a record to be appended.
#[derive(Debug, Clone, Serialize, ToSchema)]
#[serde(untagged)]
pub enum NewHeaders {
    /// Texts by their names.
    Texts(std::collections::BTreeMap<String, String>),
    /// In an order, several of a name, or bytes.
    List(Vec<NewHeader>),
}

/// A header of a record to be appended.
#[derive(Debug, Clone, Serialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewHeader {
    /// Its name.
    pub name: String,
    /// Its text.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub value: Option<String>,
    /// In the place of `value`, its bytes in base64.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub value_base64: Option<String>,
}

/// One record to be appended, or several.
#[derive(Debug, Clone, Serialize, ToSchema)]
#[serde(untagged)]
pub enum NewRecords {
    /// One.
    One(Box<NewRecord>),
    /// Several, all of which are appended or none.
    Several(Vec<NewRecord>),
}

/// A line of a stream of records.
#[derive(Debug, Clone, Serialize, ToSchema)]
#[serde(untagged)]
pub enum StreamLine {
    /// A record, and where the stream is taken up after it.
    #[schema(title = "Record")]
    Record {
        /// The record.
        #[serde(flatten)]
        record: Record,
        /// To be sent back as `cursor`.
        cursor: String,
    },
    /// A sign of life: where the stream is.
    #[schema(title = "Place")]
    Place {
        /// To be sent back as `cursor`.
        cursor: String,
    },
    /// The last line, where it ends badly.
    #[schema(title = "Ended")]
    Ended {
        /// Why.
        problem: crate::Problem,
    },
}

/// How the tail is shown.
#[derive(Debug, Clone, Default, Deserialize, IntoParams, ToSchema)]
#[into_params(parameter_in = Query)]
pub struct TailQuery {
    /// Give the bytes of key, value and headers as well.
    #[serde(default)]
    pub raw: bool,
}

/// What to search for.
#[derive(Debug, Clone, Default, Deserialize, IntoParams, ToSchema)]
#[into_params(parameter_in = Query)]
pub struct SearchQuery {
    /// A condition over `key`, `value`, `headers`, `partition`, `offset` and `timestamp`, in SQL.
    pub filter: String,
    /// One partition; all without it.
    #[serde(default)]
    pub partition: Option<i32>,
    /// Search back from this time (RFC 3339); from the newest without it.
    #[serde(default)]
    #[param(format = DateTime)]
    pub time: Option<String>,
    /// Stop after so many, 1 to 1000; 200 without it.
    #[serde(default)]
    pub limit: Option<usize>,
    /// Give the bytes of key, value and headers as well.
    #[serde(default)]
    pub raw: bool,
}

/// How far a search is.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SearchProgress {
    /// Records looked at.
    pub searched: i64,
    /// Records to look at in all.
    pub total: i64,
    /// Records found.
    pub found: i64,
    /// How far back it has looked.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub back_to: Option<String>,
    /// Whether it is over.
    pub done: bool,
}

/// What is exported and in which form.
#[derive(Debug, Clone, Default, Deserialize, IntoParams, ToSchema)]
#[into_params(parameter_in = Query)]
pub struct ExportQuery {
    /// `avro`, `parquet`, `jsonl` or `csv`.
    pub form: String,
    /// One partition; all without it.
    #[serde(default)]
    pub partition: Option<i32>,
    /// From this offset on.
    #[serde(default)]
    pub from_offset: Option<i64>,
    /// Up to this offset, without it.
    #[serde(default)]
    pub to_offset: Option<i64>,
    /// From the first record at or after this time (RFC 3339).
    #[serde(default)]
    #[param(format = DateTime)]
    pub from_time: Option<String>,
    /// Up to the first record at or after this time (RFC 3339), without it.
    #[serde(default)]
    #[param(format = DateTime)]
    pub to_time: Option<String>,
}

/// How a file is imported.
#[derive(Debug, Clone, Default, Deserialize, IntoParams, ToSchema)]
#[into_params(parameter_in = Query)]
pub struct ImportQuery {
    /// `avro`, `parquet`, `jsonl` or `csv`.
    pub form: String,
    /// `keep` (the usual) puts records into the partitions they came from, `by-key` by their keys.
    #[serde(default)]
    pub partitions: Option<String>,
}
