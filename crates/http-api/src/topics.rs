//! Topics and their records.

use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

/// A topic in a list.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct TopicSummary {
    /// Its name.
    pub name: String,
    /// Partitions.
    pub partitions: i32,
    /// Records kept.
    pub records: i64,
    /// Bytes kept, compressed.
    pub bytes: i64,
    /// When it was made.
    pub created_at: String,
    /// Names of the connectors that write it.
    pub written_by: Vec<String>,
    /// Names of the connectors that read it.
    pub read_by: Vec<String>,
}

/// What a partition holds.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Partition {
    /// Its number.
    pub partition: i32,
    /// Offset of the oldest kept record.
    pub first_offset: i64,
    /// The offset the next record gets.
    pub next_offset: i64,
    /// Bytes kept, compressed.
    pub bytes: i64,
}

/// A topic with its partitions.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Topic {
    /// The summary.
    #[serde(flatten)]
    pub summary: TopicSummary,
    /// Its partitions.
    pub partition_list: Vec<Partition>,
}

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
    pub time: Option<String>,
    /// Records at most, 1 to 500; 50 without it.
    #[serde(default)]
    pub limit: Option<usize>,
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
    pub key: serde_json::Value,
    /// The value, decoded where its schema is known.
    #[schema(value_type = Option<Object>)]
    pub value: serde_json::Value,
    /// Headers.
    pub headers: Vec<RecordHeader>,
    /// Number of the schema version that wrote the value.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub schema: Option<i64>,
    /// Size of key and value in bytes.
    pub bytes: usize,
}

/// A page of records.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Records {
    /// The records, in the order asked for.
    pub records: Vec<Record>,
    /// Where the next page in the same order begins; none at the end. Give it with the same partition.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub next_offset: Option<i64>,
}
