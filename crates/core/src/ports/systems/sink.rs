//! A kind of system that sinks write.

use std::collections::{HashMap, HashSet};

use async_trait::async_trait;
use serde::{Deserialize, Serialize};

use super::{Address, Comes, ConnectorError, Delivered, Held, Refused, Round, Stand, TopicChanges};
use crate::connector::{DeliveredTopic, ExistingRows, Writes};
use crate::delivered::Nulls;
use crate::naming::{ConnectorId, Epoch, TopicId, TopicPartition};
use crate::preflight::Report;
use crate::table::TableSchema;

/// What a sink connector delivers.
#[derive(Debug, Clone)]
pub struct SinkSettings {
    /// The connector.
    pub connector: ConnectorId,
    /// The lane of it.
    pub lane: i32,
    /// The topics with their ids, in the definition's order.
    pub topics: Vec<(TopicId, DeliveredTopic)>,
    /// How it writes.
    pub writes: Writes,
}

/// A topic to deliver, as a preflight knows it.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Expected {
    /// Which, and into which table.
    pub topic: DeliveredTopic,
    /// The shape of its latest records; none while it has none.
    pub shape: Option<TableSchema>,
    /// What is null in its newest records; none if that is not known.
    pub nulls: Option<Nulls>,
    /// Whether it is delivered already, so that the rows in its table are its own.
    pub begun: bool,
    /// What becomes of them if it is not, as far as that was said.
    pub existing: Option<ExistingRows>,
}

/// A sink that has started.
pub struct Started {
    /// The sink.
    pub sink: Box<dyn Sink>,
    /// Where its partitions stand.
    pub stands: HashMap<TopicPartition, Stand>,
    /// Topics that it has not delivered yet, of those asked about. Where there are any, the transaction in which the positions were
    /// taken over is open: what becomes of the rows in their tables belongs to it, and [`Sink::begun`] ends it.
    pub unbegun: HashSet<TopicId>,
}

/// What a kind of system does for sinks.
#[async_trait]
pub trait SinkKind: Send + Sync {
    /// Checks what a sink connector needs.
    async fn preflight(&self, address: &Address, topics: &[Expected], writes: Writes) -> Report;

    /// Takes a target over for a lease, and tells where its partitions stand, where it holds the positions: from then on no holder of an
    /// earlier lease can commit. A partition that has no position yet begins at the place given with it. Where the positions are kept
    /// elsewhere none is told, and only the sessions of earlier holders end. `asked` are the topics of which something is to become of
    /// rows that are in their tables, should they not be delivered yet.
    ///
    /// # Errors
    /// [`ConnectorError`]; [`ConnectorError::Later`] if a later lease was here before.
    async fn open(
        &self,
        address: &Address,
        settings: SinkSettings,
        epoch: Epoch,
        partitions: &[(TopicPartition, Delivered)],
        asked: &HashSet<TopicId>,
    ) -> Result<Started, ConnectorError>;

    /// How it holds positions; none if it cannot.
    fn holds(&self) -> Option<&dyn Holds> {
        None
    }

    /// Removes what a sink left in the system besides the rows that it delivered.
    ///
    /// # Errors
    /// [`ConnectorError`]; it says what could not be removed.
    async fn clean_up(&self, address: &Address, connector: ConnectorId) -> Result<(), ConnectorError>;

    /// What stays in the system where that is not removed, each in a few words; nothing is asked of the system.
    fn remains(&self, connector: ConnectorId) -> Vec<String>;
}

/// A system that holds the positions of sinks beside the rows that they wrote: this is what exactly once comes of.
#[async_trait]
pub trait Holds: Send + Sync {
    /// Where a sink connector stands; empty if it never stood anywhere.
    ///
    /// # Errors
    /// [`ConnectorError`] if the system does not answer.
    async fn stands(
        &self,
        address: &Address,
        connector: ConnectorId,
    ) -> Result<HashMap<TopicPartition, Stand>, ConnectorError>;

    /// Moves a sink that does not run: each partition from where it stands to another offset, all or none. Where both agree up to there,
    /// what is known of the records before it stays known.
    ///
    /// # Errors
    /// [`ConnectorError::Settings`] if one stands elsewhere by now; others if the system does not answer.
    async fn move_to(
        &self,
        address: &Address,
        connector: ConnectorId,
        moves: &[(TopicPartition, i64, i64)],
        agreed: bool,
    ) -> Result<(), ConnectorError>;
}

/// Tells for whom a sink's session waits, while the session itself is busy.
#[async_trait]
pub trait Blocked: Send + Sync {
    /// Who keeps it waiting, as a person is told; none if nobody does.
    ///
    /// # Errors
    /// [`ConnectorError`] if the system does not answer.
    async fn by(&self) -> Result<Option<String>, ConnectorError>;
}

/// A sink at work. What it writes is there once it is committed, with the positions where its system holds them; until then no one sees
/// it.
///
/// # Errors
/// [`ConnectorError`] of every method; unless it is said otherwise, the sink must be started again.
#[async_trait]
pub trait Sink: Send + Sync {
    /// What it delivers.
    fn topics(&self) -> &[(TopicId, DeliveredTopic)];

    /// Who is asked for whom it waits.
    fn blocked(&self) -> Box<dyn Blocked>;

    /// What people should know of its targets.
    fn notes(&self) -> Vec<String>;

    /// Writes a round, with the positions that it brings unless more belongs to it.
    ///
    /// # Errors
    /// After [`ConnectorError::BadRecord`] the round can be sifted.
    ///
    /// Cancel safety: dropped, nothing of the round remains once the session ends; the sink must then be started again.
    async fn write(&mut self, round: &Round) -> Result<(), ConnectorError>;

    /// Makes what was written last.
    ///
    /// # Errors
    /// Nothing of it is then in the target. After [`ConnectorError::BadRecord`], of what is checked only now, the round can be sifted.
    async fn commit(&mut self) -> Result<(), ConnectorError>;

    /// Takes back what was written and not committed.
    async fn roll_back(&mut self) -> Result<(), ConnectorError>;

    /// Writes a round but for what the target refuses, which is given, in order. Nothing is committed. `held` are records that wait: what
    /// goes behind them is refused.
    async fn sift(&mut self, round: &Round, held: Held) -> Result<Vec<Refused>, ConnectorError>;

    /// Moves the positions after a round was sifted, and commits it.
    async fn finish(&mut self, round: &Round) -> Result<(), ConnectorError>;

    /// Which of these numbers of quarantine were delivered already.
    async fn retried(&self, ids: &[i64]) -> Result<Vec<i64>, ConnectorError>;

    /// Notes, with what is written, that records of these numbers of quarantine are delivered.
    async fn note_retried(&self, ids: &[i64]) -> Result<(), ConnectorError>;

    /// Forgets numbers of quarantine that are settled.
    async fn forget_retried(&self, ids: &[i64]) -> Result<(), ConnectorError>;

    /// Opens what becomes of rows that are there, where the positions are kept elsewhere; [`Self::begun`] ends it.
    async fn about_to_begin(&mut self) -> Result<(), ConnectorError>;

    /// Makes last what became of the rows that were there, with the positions where the target holds them.
    ///
    /// # Errors
    /// Nothing of it has then happened.
    async fn begun(&mut self) -> Result<(), ConnectorError>;

    /// Removes all rows of the tables of some topics; gives how many.
    async fn remove_all(&mut self, topics: &HashSet<TopicId>) -> Result<u64, ConnectorError>;

    /// Notes the keys of changes, whatever became of their rows.
    async fn note_keys(&mut self, changes: &TopicChanges) -> Result<(), ConnectorError>;

    /// Removes the rows of some topics' tables whose keys were not noted; gives how many.
    async fn remove_unknown(&mut self, topics: &HashSet<TopicId>) -> Result<u64, ConnectorError>;

    /// Says that partitions have come to a truncate, and carries it out if all the topic's partitions have. Whether it is carried out,
    /// by this lane or another; if not, it is to be called again.
    async fn truncate_together(&mut self, round: &Round, comes: &Comes<'_>) -> Result<bool, ConnectorError>;
}
