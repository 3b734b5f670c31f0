//! The durable, ordered log of records.

use std::time::Duration;

use async_trait::async_trait;
use bytes::Bytes;
use uuid::Uuid;

use super::PortError;
use crate::block::{EncodedBlock, RecordRef, UnpackedBlock};
use crate::naming::{ConnectorId, Epoch, Offset, PartitionId, TopicId, TopicName, TopicPartition};
use crate::places::Places;
use crate::topic_settings::TopicSettings;

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
    /// What it keeps.
    pub settings: TopicSettings,
    /// Counts the changes of its settings and partitions.
    pub revision: i32,
    /// Whether records of a key may be in other partitions than the one that the key belongs to.
    pub scattered: bool,
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
    /// Records kept: fewer than the offsets between where only the latest of each key is kept.
    pub records: i64,
    /// Compressed bytes, hot and cold.
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

/// What is said to a lane that began on another ground than the present one; see [`TopicLog::ground`].
pub const OTHER_GROUND: &str = "Gonvel's own database was started anew, or is another: the lane looks again where it stands";

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
    /// The ground that the lane began on; on another one nothing is appended for it.
    pub ground: u64,
}

/// How a retried append is recognised: it is then answered as the first one was, and nothing is appended again.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Identity {
    /// A producer's session, and the batch's place in it, from 0 without gaps.
    Sequence {
        /// The session, as [`TopicLog::begin_session`] gave it.
        session: Uuid,
        /// The batch's place.
        sequence: i64,
        /// A digest of the request, to tell a retry from another one with its number.
        digest: Vec<u8>,
    },
    /// A key chosen by the producer for this one request.
    Key {
        /// The key.
        key: String,
        /// A digest of the request, to tell a retry from a key used twice.
        digest: Vec<u8>,
    },
}

/// What is appended at once.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct AppendBatch {
    /// Blocks by partition; may be empty when only progress is made.
    pub parts: Vec<PartitionBlocks>,
    /// Progress to commit with them.
    pub progress: Option<LaneProgress>,
    /// How a retry of it is recognised.
    pub identity: Option<Identity>,
    /// What is kept for a retry beside where the records landed, in the form of who appends.
    pub told: Option<Bytes>,
}

/// What an append with an identity was answered.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Answered {
    /// Where its records landed.
    pub landed: Vec<Landed>,
    /// What was kept beside it.
    pub told: Option<Bytes>,
}

/// Where a partition's records landed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
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
    /// Offset where it begins.
    pub first: Offset,
    /// Records in it, and which offsets they have.
    pub places: Places,
    /// Latest timestamp in microseconds.
    pub latest_us: i64,
    /// Compressed body.
    pub body: Bytes,
}

impl StoredBlock {
    /// The offset after the last one it covers.
    #[must_use]
    pub fn end(&self) -> Offset {
        Offset(self.first.0 + self.places.span())
    }

    /// Unpacks it.
    ///
    /// # Errors
    /// [`PortError::Damaged`] names the block by its place.
    pub fn open(&self, at: TopicPartition) -> Result<OpenBlock<'_>, PortError> {
        let damaged = |finding: String| PortError::Damaged { at, first_offset: self.first.0, finding };
        let unpacked = UnpackedBlock::open(&self.body).map_err(|e| damaged(e.to_string()))?;
        Ok(OpenBlock { block: self, at, unpacked })
    }
}

/// A stored block, unpacked.
#[derive(Debug)]
pub struct OpenBlock<'a> {
    block: &'a StoredBlock,
    at: TopicPartition,
    unpacked: UnpackedBlock,
}

impl OpenBlock<'_> {
    /// The records with their offsets, in order.
    pub fn records(&self) -> impl Iterator<Item = Result<(Offset, RecordRef<'_>), PortError>> {
        let first = self.block.first.0;
        let damaged = move |finding: String| PortError::Damaged { at: self.at, first_offset: first, finding };
        let mut offsets = self.block.places.iter();
        let mut records = self.unpacked.records();
        let mut over = false;
        std::iter::from_fn(move || {
            if over {
                return None;
            }
            let found = match (offsets.next(), records.next()) {
                (Some(place), Some(Ok(record))) => return Some(Ok((Offset(first + place), record))),
                (None, None) => None,
                (_, Some(Err(error))) => Some(Err(damaged(error.to_string()))),
                _ => Some(Err(damaged("it holds another number of records than was noted with it".into()))),
            };
            over = true;
            found
        })
    }

    /// Size in memory, in bytes.
    #[must_use]
    pub fn size(&self) -> usize {
        self.unpacked.size()
    }
}

/// Held by who follows partitions; see [`TopicLog::watch`].
pub type Watch = Box<dyn std::any::Any + Send + Sync>;

/// The durable, ordered log of records.
#[async_trait]
pub trait TopicLog: Send + Sync {
    /// Makes a topic.
    ///
    /// # Errors
    /// [`PortError::Exists`] if the name is taken; [`PortError::Refused`] if `partitions` is not from 1 to 1000 or the
    /// settings do not fit together.
    async fn create_topic(&self, name: &TopicName, partitions: i32, settings: &TopicSettings) -> Result<Topic, PortError>;

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

    /// Replaces a topic's settings, if its revision is the one given.
    ///
    /// # Errors
    /// [`PortError::Changed`] if the revision is another; [`PortError::Refused`] if the settings do not fit together.
    async fn change_topic(&self, topic: TopicId, revision: i32, settings: &TopicSettings) -> Result<Topic, PortError>;

    /// Adds partitions up to a number. Keys then belong to other partitions than before: the order of a key's records
    /// holds before and after, not across this. `writers` are the connectors that write to the topic: none of their lanes appends by
    /// the number of before any more, so that a truncate stands in all partitions or in none of the new ones.
    ///
    /// # Errors
    /// [`PortError::Refused`] if there are as many already or more than 1000 are asked for.
    async fn add_partitions(&self, topic: TopicId, partitions: i32, writers: &[ConnectorId]) -> Result<Topic, PortError>;

    /// Deletes a topic. Its name is free at once; its blocks are removed in the background.
    ///
    /// # Errors
    /// [`PortError::NotFound`].
    async fn delete_topic(&self, topic: TopicId) -> Result<(), PortError>;

    /// Begins a producer's session. Its batches are numbered from 0; a session without an append for a week is forgotten.
    ///
    /// # Errors
    /// [`PortError::TryAgain`].
    async fn begin_session(&self) -> Result<Uuid, PortError>;

    /// Appends all or nothing and advances the lane's progress in the same transaction.
    ///
    /// When it returns, the records are durable. Offsets of a partition have no gaps and become visible in order.
    ///
    /// # Errors
    /// [`PortError::Fenced`] if the progress's epoch is not the lane's current one; [`PortError::NotFound`] if a
    /// partition or session is not there; [`PortError::OutOfTurn`], [`PortError::KeyReused`] and [`PortError::SequenceReused`] by the batch's identity.
    /// Nothing is then written.
    ///
    /// Cancel safety: dropped at any point, either all of the batch is appended or nothing.
    async fn append(&self, batch: AppendBatch) -> Result<Vec<Landed>, PortError>;

    /// What an earlier append with this identity was answered; none if there was none, or it is not kept any more.
    ///
    /// # Errors
    /// [`PortError::KeyReused`] or [`PortError::SequenceReused`] if it was another request.
    async fn answered(&self, identity: &Identity) -> Result<Option<Answered>, PortError>;

    /// Notes that records of a key are put elsewhere than where the key belongs: before they are.
    ///
    /// # Errors
    /// [`PortError::TryAgain`].
    async fn scatter(&self, topic: TopicId) -> Result<(), PortError>;

    /// Blocks from the one that holds `from` on, about `max_bytes` of them, at least one if there is one. Offsets whose
    /// records are no longer kept are passed over: the first block may begin after `from`.
    ///
    /// # Errors
    /// [`PortError::TryAgain`].
    async fn read(&self, at: TopicPartition, from: Offset, max_bytes: i64) -> Result<Vec<StoredBlock>, PortError>;

    /// The block that holds `last`, or else the nearest one before it; none if nothing is kept up to there.
    ///
    /// # Errors
    /// [`PortError::TryAgain`].
    async fn read_back(&self, at: TopicPartition, last: Offset) -> Result<Option<StoredBlock>, PortError>;

    /// The partition's end, if it is behind `from` and nothing is kept between: whoever stands there has read all there is.
    ///
    /// # Errors
    /// [`PortError::TryAgain`].
    async fn nothing_from(&self, at: TopicPartition, from: Offset) -> Result<Option<Offset>, PortError>;

    /// Blocks from the one that holds `from` on, as [`Self::read`] gives them, if this process has them at hand since it appended
    /// them; none says nothing of what is stored. What was compacted or forgotten a moment ago may still be among them.
    fn recent(&self, at: TopicPartition, from: Offset, max_bytes: i64) -> Option<Vec<StoredBlock>>;

    /// Counts the databases, and the starts of them, that this process reached behind the log's address. When it grows, the log may
    /// be older than what this process remembers of it: a replica that took over may lack the last records, a copy that was put
    /// back many. What was read once it has grown comes from the new one.
    fn ground(&self) -> u64;

    /// As long as what is returned lives, this process learns within a second what other processes append to these partitions.
    fn watch(&self, places: &[TopicPartition]) -> Watch;

    /// Whether partitions may have records at or after the offset given with each, as far as this process knows: one that it
    /// knows nothing of may, and what other processes appended to one that is not watched it need not know.
    fn may_have(&self, after: &[(TopicPartition, Offset)]) -> Vec<bool>;

    /// What each partition of a topic holds.
    ///
    /// # Errors
    /// [`PortError::NotFound`].
    async fn bounds(&self, topic: TopicId) -> Result<Vec<PartitionBounds>, PortError>;

    /// Where to begin reading for the first record at or after a time: no such record is before the offset given. The next
    /// offset if there is none.
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
