//! Topics.

use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};
use uuid::Uuid;

use crate::TopicSettings;

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
    /// What it keeps.
    pub settings: TopicSettings,
    /// When it was made.
    #[schema(format = DateTime)]
    pub created_at: String,
    /// Names of the connectors that write it.
    pub written_by: Vec<String>,
    /// Names of the applications that appended to it in the last 90 days; an empty one for those that give none.
    pub producers: Vec<String>,
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
    /// Records kept: fewer than the offsets between where only the latest of each key is kept.
    pub records: i64,
    /// Bytes kept, compressed.
    pub bytes: i64,
}

/// A topic with its partitions.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Topic {
    /// The summary.
    #[serde(flatten)]
    pub summary: TopicSummary,
    /// Counts the changes of its settings and partitions.
    pub revision: i32,
    /// Names of the readers of it.
    pub readers: Vec<String>,
    /// Its partitions.
    pub partition_list: Vec<Partition>,
}

/// Records that a topic will have forgotten before they are read.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct SoonForgotten {
    /// Who has not read them: a reader or a connector.
    pub name: String,
    /// The connector's id; none for a reader.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub connector: Option<Uuid>,
    /// The topic.
    pub topic: String,
    /// The partition whose records go first.
    pub partition: i32,
    /// How many will have gone within a day, in all partitions, counted in offsets.
    pub records: i64,
    /// When the first of them go, if nothing changes (RFC 3339).
    #[schema(format = DateTime)]
    pub at: String,
}

/// A topic to make.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewTopic {
    /// Its name: letters, digits, `.`, `-` and `_`.
    pub name: String,
    /// Partitions, 1 to 1000.
    pub partitions: i32,
    /// What it keeps.
    #[serde(default)]
    pub settings: TopicSettings,
}

/// What a partition would lose.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct PartitionLoss {
    /// The partition.
    pub partition: i32,
    /// All records before this offset would go.
    pub before_offset: i64,
    /// How many.
    pub records: i64,
    /// Their size as stored.
    pub bytes: i64,
}

/// More partitions for a topic.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct MorePartitions {
    /// How many it is to have.
    pub partitions: i32,
}

/// A topic's size at a time.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct TopicSample {
    /// When.
    #[schema(format = DateTime)]
    pub at: String,
    /// Records appended so far, over all partitions.
    pub appended: i64,
    /// Bytes kept.
    pub bytes: i64,
}

/// A registered version of a topic's schema.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct TopicSchema {
    /// The version's number among all: what records say.
    pub id: i64,
    /// The schema's name.
    pub name: String,
    /// The language it is written in.
    pub language: crate::Language,
    /// `key` or `value`.
    pub role: String,
    /// Whether records that do not fit are refused.
    pub required: bool,
    /// Counts a schema's versions, from 1.
    pub version: i32,
    /// The text by which values are read.
    pub text: String,
}

/// What the keeper did since it started and what waits for it.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Keeper {
    /// When it last said so; none if no keeper ever ran.
    #[schema(format = DateTime)]
    pub at: Option<String>,
    /// Small blocks that became parts of larger ones.
    pub merged_blocks: i64,
    /// Records that were forgotten by age or size.
    pub forgotten_records: i64,
    /// Older records of a key that were removed.
    pub superseded_records: i64,
    /// Blocks that moved to object storage.
    pub moved_blocks: i64,
    /// Blocks and files of deleted topics that were removed.
    pub dropped: i64,
    /// Small blocks that wait to be merged.
    pub small_blocks_waiting: i64,
    /// Partitions whose older records of a key wait to be removed.
    pub latest_waiting: i64,
    /// Deleted topics and files that wait to be removed.
    pub drops_waiting: i64,
    /// Time it worked, in milliseconds.
    pub worked_ms: i64,
    /// What failed in its last round, if something did.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub failure: Option<String>,
}

/// Which topics.
#[derive(Debug, Clone, Default, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(default)]
pub struct TopicsQuery {
    /// Only those with this text in their names, in capitals or not.
    pub search: Option<String>,
    /// What they are in order of.
    #[param(inline)]
    pub order: TopicOrder,
    /// The other way round.
    pub descending: bool,
}

/// What topics are in order of.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum TopicOrder {
    /// Their names.
    #[default]
    Name,
    /// When they were made.
    CreatedAt,
    /// How many records they keep.
    Records,
    /// How many bytes they keep.
    Bytes,
}
