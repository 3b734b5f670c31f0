//! Where records wait that could not be handled.

use std::time::Duration;

use async_trait::async_trait;
use bytes::Bytes;

use super::{HeldLane, PortError};
use crate::naming::{ConnectorId, Offset, TopicPartition};
use crate::record::Record;

/// What was done with a record when it failed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Step {
    /// It was read as a change.
    Read,
    /// It was shaped.
    Shape,
    /// It was written into the target.
    Write,
}

impl Step {
    /// The word for it.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Read => "read",
            Self::Shape => "shape",
            Self::Write => "write",
        }
    }
}

/// A record that could not be handled.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct BadRecord {
    /// Where it stands.
    pub at: TopicPartition,
    /// Its topic's name.
    pub topic: String,
    /// Its offset.
    pub offset: Offset,
    /// All of it.
    pub record: Record,
    /// What was being done with it.
    pub step: Step,
    /// What was found, and what to do.
    pub finding: String,
    /// The fingerprint of what went wrong; see [`crate::failure::cause`].
    pub cause: i64,
}

/// A record that waits, and is asked to be tried again.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct AskedRecord {
    /// Its number in quarantine.
    pub id: i64,
    /// Where it stands.
    pub at: TopicPartition,
    /// Its offset.
    pub offset: Offset,
    /// The record, with its value as it was mended, if it was.
    pub record: Record,
    /// How many a second are to be tried at most.
    pub pace: Option<u32>,
}

/// A record that waits, by its key.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct WaitingKey {
    /// Its number in quarantine.
    pub id: i64,
    /// Where it stands.
    pub at: TopicPartition,
    /// Its offset.
    pub offset: Offset,
    /// Its key.
    pub key: Option<Bytes>,
}

/// What became of records that waited.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Settled {
    /// They are in the target.
    Delivered,
    /// A newer record of the same key was delivered.
    Superseded,
    /// They failed again, and go on waiting.
    Failed {
        /// What was being done.
        step: Step,
        /// What was found this time.
        finding: String,
        /// Its fingerprint.
        cause: i64,
    },
}

/// Where records wait that could not be handled. Each stands in it once for its connector and place in the topic. What a lane notes
/// of them it notes by its lease: once another holds the lane, that one knows better what became of them.
#[async_trait]
pub trait QuarantineStore: Send + Sync {
    /// Puts records in; one that is there already is described anew and waits again.
    ///
    /// # Errors
    /// [`PortError::Fenced`] if another holds the lane by now; [`PortError::TryAgain`].
    async fn put(&self, held: HeldLane, version: i32, bad: &[BadRecord], kept: Duration) -> Result<(), PortError>;

    /// The keys of records of these partitions that wait, by their numbers: the next after a number, so many at most; 0 is before all.
    ///
    /// # Errors
    /// [`PortError::TryAgain`].
    async fn waiting_keys(
        &self,
        connector: ConnectorId,
        places: &[TopicPartition],
        after: i64,
        most: i64,
    ) -> Result<Vec<WaitingKey>, PortError>;

    /// The same records whole, where their keys are in their values.
    ///
    /// # Errors
    /// [`PortError::TryAgain`].
    async fn waiting_records(
        &self,
        connector: ConnectorId,
        places: &[TopicPartition],
        after: i64,
        most: i64,
    ) -> Result<Vec<AskedRecord>, PortError>;

    /// Records of these partitions that are asked to be tried again, in order of their offsets. None for a version of the connector
    /// that is not its latest: they were asked for after the change, and would fail as before.
    ///
    /// # Errors
    /// [`PortError::TryAgain`].
    async fn asked_for(
        &self,
        connector: ConnectorId,
        version: i32,
        places: &[TopicPartition],
        most: i64,
    ) -> Result<Vec<AskedRecord>, PortError>;

    /// Notes what became of records that waited.
    ///
    /// # Errors
    /// [`PortError::Fenced`] if another holds the lane by now; [`PortError::TryAgain`].
    async fn settle(&self, held: HeldLane, ids: &[i64], settled: &Settled) -> Result<(), PortError>;

    /// Takes out what waits at or after an offset of each partition: that is to be delivered yet.
    ///
    /// # Errors
    /// [`PortError::Fenced`] if another holds the lane by now; [`PortError::TryAgain`].
    async fn take_back(&self, held: HeldLane, from: &[(TopicPartition, Offset)]) -> Result<(), PortError>;
}
