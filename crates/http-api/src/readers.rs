//! Readers.

use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};
use uuid::Uuid;

use crate::Record;

/// A reader.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Reader {
    /// Its name.
    pub name: String,
    /// When it was made.
    #[schema(format = DateTime)]
    pub created_at: String,
    /// The topics it reads.
    pub topics: Vec<String>,
    /// Where it stands.
    pub positions: Vec<Position>,
    /// Who reads at present.
    pub members: Vec<Member>,
    /// Records it has not read yet.
    pub lag_records: i64,
    /// Age of the oldest record it has not read yet, in milliseconds; none if it has read all.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub lag_ms: Option<i64>,
    /// When a position was last committed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(format = DateTime)]
    pub committed_at: Option<String>,
}

/// Where a reader stands in a partition.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Position {
    /// The topic.
    pub topic: String,
    /// The partition.
    pub partition: i32,
    /// The offset it reads next.
    pub next_offset: i64,
    /// Records from there to the end.
    pub lag_records: i64,
    /// Age of the oldest record it has not read yet, in milliseconds; none if it has read all.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub lag_ms: Option<i64>,
    /// When it was last committed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(format = DateTime)]
    pub committed_at: Option<String>,
    /// The member that reads it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub member: Option<Uuid>,
}

/// One that reads as part of a reader.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Member {
    /// Its id.
    pub id: Uuid,
    /// What it calls itself.
    pub label: String,
    /// When it came.
    #[schema(format = DateTime)]
    pub joined_at: String,
    /// Until when it counts as active.
    #[schema(format = DateTime)]
    pub until: String,
}

/// A reader to make.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewReader {
    /// Its name.
    pub name: String,
    /// The topics it reads.
    pub topics: Vec<String>,
    /// Where it begins; at the oldest records without it.
    #[serde(default)]
    pub start: Option<Target>,
}

/// Topics that a reader is to read, and no others.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ReaderTopics {
    /// The topics. In those that it reads already it goes on where it stands; its positions in others are lost.
    pub topics: Vec<String>,
    /// Where it begins in those that it did not read; at the oldest records without it.
    #[serde(default)]
    pub start: Option<Target>,
}

/// Where a reader is to stand.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(tag = "to", rename_all = "lowercase", deny_unknown_fields)]
pub enum Target {
    /// At the oldest kept record.
    Earliest,
    /// After the newest record.
    Latest,
    /// At the first record at or after a time (RFC 3339).
    Time {
        /// The time.
        #[schema(format = DateTime)]
        time: String,
    },
    /// At an offset.
    Offset {
        /// The offset.
        offset: i64,
    },
    /// So many records further on, or back if negative.
    By {
        /// How many.
        records: i64,
    },
    /// Where a sink's target and the log agree up to, after the log was rolled back by a restore or a failover: from there on nothing is skipped. Of
    /// a partition in which they do not part, where it stands. Only for sinks that hold their position in the target.
    Agreed,
    /// Where a sink connector stands; at the oldest kept record of a partition that it does not deliver.
    Connector {
        /// The connector.
        connector: Uuid,
    },
}

/// A move of a reader.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Reposition {
    /// Where to.
    pub target: Target,
    /// Only in this topic.
    #[serde(default)]
    pub topic: Option<String>,
    /// Only in this partition.
    #[serde(default)]
    pub partition: Option<i32>,
}

/// What a move does in a partition.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Move {
    /// The topic.
    pub topic: String,
    /// The partition.
    pub partition: i32,
    /// Where the reader stands.
    pub from: i64,
    /// Where it would stand.
    pub to: i64,
    /// Records that it would never read.
    pub skipped: i64,
    /// Records that it would read once more.
    pub repeated: i64,
}

/// What was moved.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Moves {
    /// By partition.
    pub moves: Vec<Move>,
    /// Records that will never be read.
    pub skipped: i64,
    /// Records that are read once more.
    pub repeated: i64,
}

/// A member that joins.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewMember {
    /// What it calls itself.
    #[serde(default)]
    pub label: Option<String>,
    /// How long it counts as active without a sign, in milliseconds, 1000 to 600000; 30000 without it.
    #[serde(default)]
    pub ttl_ms: Option<u64>,
}

/// What a member reads.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Share {
    /// The member.
    pub member: Uuid,
    /// Its partitions with the offsets to read next.
    pub partitions: Vec<SharePart>,
}

/// A partition of a member's share, also as it is committed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SharePart {
    /// The topic.
    pub topic: String,
    /// The partition.
    pub partition: i32,
    /// The offset to read next.
    pub next_offset: i64,
}

/// Positions to commit, all or none.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Commit {
    /// The positions.
    pub positions: Vec<SharePart>,
}

/// How a member reads on.
#[derive(Debug, Clone, Default, Deserialize, IntoParams, ToSchema)]
#[into_params(parameter_in = Query)]
pub struct MemberQuery {
    /// Records at most, 1 to 500; 50 without it.
    #[serde(default)]
    pub limit: Option<usize>,
    /// Wait so long for a record if there is none yet, in milliseconds, 30000 at most.
    #[serde(default)]
    pub wait_ms: Option<u64>,
    /// Give the bytes of key, value and headers as well.
    #[serde(default)]
    pub raw: bool,
}

/// How a stream of a reader is read.
#[derive(Debug, Clone, Default, Deserialize, IntoParams, ToSchema)]
#[into_params(parameter_in = Query)]
pub struct ReaderStreamQuery {
    /// Give the bytes of key, value and headers as well.
    #[serde(default)]
    pub raw: bool,
}

/// A record of one of a reader's topics.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct TopicRecord {
    /// The topic.
    pub topic: String,
    /// The record.
    #[serde(flatten)]
    pub record: Record,
}

/// What a member read, and what to commit once it is done with it.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct MemberRecords {
    /// The records, by partition in order.
    pub records: Vec<TopicRecord>,
    /// The positions after them.
    pub positions: Vec<SharePart>,
}

/// Which readers.
#[derive(Debug, Clone, Default, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(default)]
pub struct ReadersQuery {
    /// Only those with this text in their names, in capitals or not.
    pub search: Option<String>,
    /// Only those of this topic.
    pub topic: Option<String>,
    /// What they are in order of.
    #[param(inline)]
    pub order: ReaderOrder,
    /// The other way round.
    pub descending: bool,
}

/// What readers are in order of.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum ReaderOrder {
    /// Their names.
    #[default]
    Name,
    /// How many records they have not read yet.
    LagRecords,
    /// The age of the oldest record that they have not read yet.
    LagMs,
}
