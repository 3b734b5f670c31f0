//! Readers: named consumers of topics with a stored position for each partition.

use std::time::Duration;

use async_trait::async_trait;
use uuid::Uuid;

use super::PortError;
use crate::naming::{Offset, ReaderName, TopicId, TopicPartition};

/// A reader.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Reader {
    /// Its id.
    pub id: i64,
    /// Its name.
    pub name: ReaderName,
    /// When it was made, in microseconds since 1970-01-01 UTC.
    pub created_us: i64,
    /// The topics it reads.
    pub topics: Vec<TopicId>,
    /// Where it stands, by partition.
    pub positions: Vec<ReaderPosition>,
    /// Who reads at present.
    pub members: Vec<Member>,
}

/// Where a reader stands in a partition.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ReaderPosition {
    /// The partition.
    pub at: TopicPartition,
    /// The offset to read next.
    pub next: Offset,
    /// When it was last committed, in microseconds since 1970-01-01 UTC; none before the first time.
    pub committed_us: Option<i64>,
    /// The member that reads it.
    pub holder: Option<Uuid>,
}

/// One that reads as part of a reader.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Member {
    /// Its id.
    pub id: Uuid,
    /// What it calls itself.
    pub label: String,
    /// When it came, in microseconds since 1970-01-01 UTC.
    pub joined_us: i64,
    /// Until when it counts as active, in microseconds since 1970-01-01 UTC.
    pub until_us: i64,
}

/// What a member may read.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Share {
    /// The member.
    pub member: Uuid,
    /// Its partitions, each with the offset to read next.
    pub partitions: Vec<(TopicPartition, Offset)>,
}

/// How long a member that commits stays active at the least.
pub const COMMIT_STAYS: Duration = Duration::from_secs(30);

/// Where readers and their positions are kept.
///
/// Members share a reader's partitions: each partition has one holder at a time, and only the holder commits for it.
#[async_trait]
pub trait ReaderStore: Send + Sync {
    /// Makes a reader with its first positions.
    ///
    /// # Errors
    /// [`PortError::Exists`]; [`PortError::NotFound`] if a topic is gone.
    async fn create_reader(&self, name: &ReaderName, start: &[(TopicPartition, Offset)]) -> Result<Reader, PortError>;

    /// All readers by name.
    ///
    /// # Errors
    /// [`PortError::TryAgain`].
    async fn readers(&self) -> Result<Vec<Reader>, PortError>;

    /// One reader.
    ///
    /// # Errors
    /// [`PortError::NotFound`].
    async fn reader(&self, name: &ReaderName) -> Result<Reader, PortError>;

    /// Lets it read these topics and no others. In a topic that it read before it goes on where it stands, in a new one it begins at `start`, and its
    /// positions in others go. Members stay, and share the partitions out anew.
    ///
    /// # Errors
    /// [`PortError::NotFound`] if the reader or a topic is gone.
    async fn change_topics(
        &self,
        name: &ReaderName,
        topics: &[TopicId],
        start: &[(TopicPartition, Offset)],
    ) -> Result<(), PortError>;

    /// Deletes a reader and its positions.
    ///
    /// # Errors
    /// [`PortError::NotFound`]; [`PortError::Refused`] while members are active.
    async fn delete_reader(&self, name: &ReaderName) -> Result<(), PortError>;

    /// Joins as a new member, active for `ttl` from now; the partitions are shared out anew.
    ///
    /// # Errors
    /// [`PortError::NotFound`].
    async fn join(&self, name: &ReaderName, label: &str, ttl: Duration) -> Result<Share, PortError>;

    /// Stays active for `ttl` from now; returns the share as it is at present.
    ///
    /// # Errors
    /// [`PortError::NotFound`] if the reader or the member is gone; a member that was away too long joins again.
    async fn stay(&self, name: &ReaderName, member: Uuid, ttl: Duration) -> Result<Share, PortError>;

    /// The share of a member as it is at present; nothing is changed by it.
    ///
    /// # Errors
    /// [`PortError::NotFound`] as for [`Self::stay`].
    async fn share(&self, name: &ReaderName, member: Uuid) -> Result<Share, PortError>;

    /// Leaves; the partitions are shared out anew.
    ///
    /// # Errors
    /// [`PortError::NotFound`].
    async fn leave(&self, name: &ReaderName, member: Uuid) -> Result<(), PortError>;

    /// Stores positions, all or none, for a member that holds their partitions. It stays active for [`COMMIT_STAYS`] from now at the least.
    ///
    /// # Errors
    /// [`PortError::NotHeld`] if a partition is not the member's; [`PortError::NotFound`].
    async fn commit(&self, name: &ReaderName, member: Uuid, positions: &[(TopicPartition, Offset)])
    -> Result<(), PortError>;

    /// Sets positions, all or none, where each still stands at the offset it is moved from.
    ///
    /// # Errors
    /// [`PortError::Refused`] while members are active; [`PortError::Changed`] if one stands elsewhere by now.
    async fn reposition(&self, name: &ReaderName, moves: &[(TopicPartition, Offset, Offset)]) -> Result<(), PortError>;
}
