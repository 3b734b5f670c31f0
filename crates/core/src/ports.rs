//! The traits the other crates implement. Each method is one atomic unit.

use std::collections::BTreeMap;
use std::time::Duration;

use async_trait::async_trait;
use bytes::Bytes;
use serde::{Deserialize, Serialize};

use crate::block::EncodedBlock;
use crate::change::KindCounts;
use crate::connector::{State, ValidConnector, Wish};
use crate::naming::{ConnectorId, Epoch, Offset, PartitionId, SchemaId, TopicId, TopicName, TopicPartition};
use crate::secret::Secret;

/// Why a port refused. Grouped by who acts.
#[derive(Debug, thiserror::Error)]
pub enum PortError {
    /// Try again: the database did not answer or gave way.
    #[error("the topic log's database did not do its work ({during}): Gonvel tries again; check that PostgreSQL is up")]
    TryAgain {
        /// What was being done.
        during: &'static str,
        /// The cause.
        #[source]
        cause: Box<dyn std::error::Error + Send + Sync>,
    },
    /// Another holds the lane now; whoever gets this must stop.
    #[error("lane {lane} of connector {connector} is held by another runner since: this one has stopped writing")]
    Fenced {
        /// The connector.
        connector: ConnectorId,
        /// Its lane.
        lane: i32,
    },
    /// Change the request: something is not there.
    #[error("there is no {what}: it was deleted or never made")]
    NotFound {
        /// What.
        what: String,
    },
    /// Change the request: something is there already.
    #[error("{what} is there already: choose another name")]
    Exists {
        /// What.
        what: String,
    },
    /// Change the request.
    #[error("{0}")]
    Refused(String),
    /// Stored data is damaged.
    #[error("block {first_offset} of partition {partition} of topic {topic} is damaged: {finding}", topic = .at.topic.0, partition = .at.partition.0)]
    Damaged {
        /// The partition.
        at: TopicPartition,
        /// The block's first offset.
        first_offset: i64,
        /// What was found.
        finding: String,
    },
}

/// A topic.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Topic {
    /// Its id.
    pub id: TopicId,
    /// Its name.
    pub name: TopicName,
    /// How many partitions.
    pub partitions: i32,
    /// When it was made, in microseconds since 1970-01-01 UTC.
    pub created_us: i64,
}

/// What a partition holds.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct PartitionBounds {
    /// The partition.
    pub partition: PartitionId,
    /// Oldest kept record's offset, or `next` if there is none.
    pub first: Offset,
    /// The offset the next record will get.
    pub next: Offset,
    /// Compressed bytes.
    pub bytes: i64,
}

/// Blocks for one partition.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PartitionBlocks {
    /// Where they go.
    pub to: TopicPartition,
    /// The blocks, in order.
    pub blocks: Vec<EncodedBlock>,
}

/// A lane's progress, which commits with the records it produced.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LaneProgress {
    /// The connector.
    pub connector: ConnectorId,
    /// Its lane.
    pub lane: i32,
    /// The lease under which it writes.
    pub epoch: Epoch,
    /// The new position, in the form of the connector's kind.
    pub position: serde_json::Value,
}

/// What is appended at once.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct AppendBatch {
    /// Blocks by partition; may be empty when only progress is made.
    pub parts: Vec<PartitionBlocks>,
    /// Progress to commit with them.
    pub progress: Option<LaneProgress>,
}

/// Where a partition's records landed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Landed {
    /// The partition.
    pub to: TopicPartition,
    /// Offset of the first record.
    pub first: Offset,
    /// Records.
    pub records: i64,
}

/// A block with its place.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct StoredBlock {
    /// Offset of its first record.
    pub first: Offset,
    /// Records in it.
    pub records: i32,
    /// Latest timestamp in microseconds.
    pub latest_us: i64,
    /// Compressed body.
    pub body: Bytes,
}

impl StoredBlock {
    /// The offset after its last record.
    #[must_use]
    pub fn end(&self) -> Offset {
        Offset(self.first.0 + i64::from(self.records))
    }
}

/// The durable, ordered log of records.
#[async_trait]
pub trait TopicLog: Send + Sync {
    /// Makes a topic.
    ///
    /// # Errors
    /// [`PortError::Exists`] if the name is taken; [`PortError::Refused`] if `partitions` is not from 1 to 1000.
    async fn create_topic(&self, name: &TopicName, partitions: i32) -> Result<Topic, PortError>;

    /// Finds a topic.
    ///
    /// # Errors
    /// [`PortError::NotFound`].
    async fn topic(&self, name: &TopicName) -> Result<Topic, PortError>;

    /// All topics by name.
    ///
    /// # Errors
    /// [`PortError::TryAgain`].
    async fn topics(&self) -> Result<Vec<Topic>, PortError>;

    /// Appends all or nothing and advances the lane's progress in the same transaction.
    ///
    /// When it returns, the records are durable. Offsets of a partition have no gaps and become visible in order.
    ///
    /// # Errors
    /// [`PortError::Fenced`] if the progress's epoch is not the lane's current one; [`PortError::NotFound`] if a
    /// partition is not there. Nothing is then written.
    ///
    /// Cancel safety: dropped at any point, either all of the batch is appended or nothing.
    async fn append(&self, batch: AppendBatch) -> Result<Vec<Landed>, PortError>;

    /// Blocks from the one that holds `from` on, about `max_bytes` of them, at least one if there is one.
    ///
    /// # Errors
    /// [`PortError::TryAgain`].
    async fn read(&self, at: TopicPartition, from: Offset, max_bytes: i64) -> Result<Vec<StoredBlock>, PortError>;

    /// What each partition of a topic holds.
    ///
    /// # Errors
    /// [`PortError::NotFound`].
    async fn bounds(&self, topic: TopicId) -> Result<Vec<PartitionBounds>, PortError>;

    /// The first offset of the first block whose latest record is not before a time; the next offset if there is none.
    ///
    /// # Errors
    /// [`PortError::TryAgain`].
    async fn block_at_time(&self, at: TopicPartition, time_us: i64) -> Result<Offset, PortError>;

    /// Returns as soon as one of these partitions has records at or after the offset given with it, or after the timeout.
    ///
    /// Cancel safety: holds no progress.
    ///
    /// # Errors
    /// [`PortError::TryAgain`].
    async fn wait_for(&self, after: &[(TopicPartition, Offset)], timeout: Duration) -> Result<(), PortError>;
}

/// A lease on a lane.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Lease {
    /// Its term.
    pub epoch: Epoch,
    /// The position where the lane stands; null at the first start.
    pub position: serde_json::Value,
}

/// How a lane is doing, for people.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct LaneStatus {
    /// Its state.
    pub state: State,
    /// Since when, in microseconds since 1970-01-01 UTC.
    pub since_us: i64,
    /// Why, if something is wrong: finding, meaning and remedy.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub reason: Option<String>,
    /// When it tries again, in microseconds since 1970-01-01 UTC.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub retry_at_us: Option<i64>,
    /// Changes per second over the last seconds.
    #[serde(default)]
    pub rate_per_s: f64,
    /// Time from the commit in the source to done here of the latest change, in milliseconds.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub latency_ms: Option<f64>,
    /// Records not yet handled, where known.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub lag_records: Option<i64>,
    /// Age of the oldest change not yet handled, in milliseconds; 0 when there is none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub lag_ms: Option<f64>,
    /// Counts by table and kind.
    #[serde(default)]
    pub tables: BTreeMap<String, TableProgress>,
    /// The position as people read it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub position: Option<String>,
}

/// A table's progress within a lane.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
pub struct TableProgress {
    /// Counts by kind.
    pub counts: KindCounts,
    /// Rows the initial load expects; none when it is done or there is none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub load_total: Option<u64>,
    /// The other end: a topic for a source, a table for a sink.
    #[serde(default)]
    pub other_end: String,
}

impl LaneStatus {
    /// A lane that has just entered a state.
    #[must_use]
    pub fn entering(state: State, now_us: i64) -> Self {
        Self {
            state,
            since_us: now_us,
            reason: None,
            retry_at_us: None,
            rate_per_s: 0.0,
            latency_ms: None,
            lag_records: None,
            lag_ms: None,
            tables: BTreeMap::new(),
            position: None,
        }
    }
}

/// A connector as the runtime sees it.
#[derive(Debug, Clone)]
pub struct Assignment {
    /// The checked connector.
    pub connector: ValidConnector,
    /// What is asked of it.
    pub wish: Wish,
    /// Counts what was asked; a lane that runs under an earlier count starts again.
    pub asked: i32,
    /// Its configuration's version.
    pub version: i32,
}

/// How a system is reached. The password never leaves this type but through [`Secret::expose`].
#[derive(Debug, Clone, Deserialize)]
pub struct DatabaseAddress {
    /// Host name or address.
    pub host: String,
    /// Port.
    pub port: u16,
    /// Database.
    pub database: String,
    /// User.
    pub user: String,
    /// Password.
    pub password: Secret<String>,
}

/// Where the runtime finds its work and keeps its leases.
#[async_trait]
pub trait FleetStore: Send + Sync {
    /// All connectors that are asked to do anything.
    ///
    /// # Errors
    /// [`PortError::TryAgain`].
    async fn assignments(&self) -> Result<Vec<Assignment>, PortError>;

    /// The address behind a connection.
    ///
    /// # Errors
    /// [`PortError::NotFound`].
    async fn address(&self, connection: uuid::Uuid) -> Result<DatabaseAddress, PortError>;

    /// Takes a lane's lease if it is free, expired or this runner's own; each success has a greater epoch.
    ///
    /// # Errors
    /// [`PortError::NotFound`] if the connector is gone.
    async fn acquire(
        &self,
        connector: ConnectorId,
        lane: i32,
        runner: &str,
        ttl: Duration,
    ) -> Result<Option<Lease>, PortError>;

    /// Holds a lease longer; false if it is no longer held.
    ///
    /// # Errors
    /// [`PortError::TryAgain`].
    async fn renew(&self, connector: ConnectorId, lane: i32, epoch: Epoch, ttl: Duration) -> Result<bool, PortError>;

    /// Gives a lease back; nothing happens if it is no longer held.
    ///
    /// # Errors
    /// [`PortError::TryAgain`].
    async fn release(&self, connector: ConnectorId, lane: i32, epoch: Epoch) -> Result<(), PortError>;

    /// Notes how a lane is doing; nothing happens if the lease is no longer held.
    ///
    /// # Errors
    /// [`PortError::TryAgain`].
    async fn save_status(
        &self,
        connector: ConnectorId,
        lane: i32,
        epoch: Epoch,
        status: &LaneStatus,
    ) -> Result<(), PortError>;

    /// Removes a connector whose traces outside are gone.
    ///
    /// # Errors
    /// [`PortError::TryAgain`].
    async fn remove_connector(&self, connector: ConnectorId) -> Result<(), PortError>;
}

/// Registered schemas.
#[async_trait]
pub trait SchemaStore: Send + Sync {
    /// Registers a schema's text for a topic; the same text for the same topic gives the same id.
    ///
    /// # Errors
    /// [`PortError::Refused`] if it does not parse.
    async fn register(&self, topic: &TopicName, role: &str, text: &str) -> Result<SchemaId, PortError>;

    /// The text of a registered schema.
    ///
    /// # Errors
    /// [`PortError::NotFound`].
    async fn schema_text(&self, id: SchemaId) -> Result<String, PortError>;
}
