//! The traits the other crates implement. Each method is one atomic unit.

mod errands;
mod fleet;
mod quarantine;
mod readers;
mod runners;
pub mod systems;
mod topic_log;

use async_trait::async_trait;

use crate::naming::{ConnectorId, SchemaId, SchemaName, TopicName, TopicPartition};
use crate::schemas::Language;

pub use errands::*;
pub use fleet::*;
pub use quarantine::*;
pub use readers::*;
pub use runners::*;
pub use systems::Address;
pub use topic_log::*;

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
    /// Change the value: the database cannot hold it.
    #[error("the topic log's database cannot hold a value ({during}): {finding}; change the value")]
    Unfit {
        /// What was being done.
        during: &'static str,
        /// What it says.
        finding: String,
    },
    /// Nothing helps but a person: the database refuses what was asked, and would again.
    #[error(
        "the topic log's database refused ({during}), and would again: look at its tables and at the rights of Gonvel's login"
    )]
    Failed {
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
    /// Read it again: it was changed by another since it was read.
    #[error("{what} was changed since you read it: read it again and decide anew")]
    Changed {
        /// What.
        what: String,
    },
    /// Append what is missing first: a session's batches go in by their sequence.
    #[error("the session expects sequence {expected} next, not {found}: append {expected} first, or begin a new session")]
    OutOfTurn {
        /// The sequence that is next.
        expected: i64,
        /// The sequence given.
        found: i64,
    },
    /// Take a new key.
    #[error("the idempotency key {key:?} was used for another request: take a new key for a new request")]
    KeyReused {
        /// The key.
        key: String,
    },
    /// Count on from the next sequence.
    #[error("sequence {sequence} was used for another request of this session: a new request takes the next number")]
    SequenceReused {
        /// The sequence.
        sequence: i64,
    },
    /// Read on from the share that is held now.
    #[error("partition {partition} of topic {topic} is not held by this member: it was given to another or the member was away too long; ask for the share again", topic = .at.topic.0, partition = .at.partition.0)]
    NotHeld {
        /// The partition.
        at: TopicPartition,
    },
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

/// Registered schemas.
#[async_trait]
pub trait SchemaStore: Send + Sync {
    /// Registers an Avro schema's text for a topic's keys or values; the same text for the same topic gives the same id.
    ///
    /// # Errors
    /// [`PortError::Refused`] if it does not parse or does not keep the rule of the schema that the topic is bound to.
    async fn register(&self, topic: &TopicName, role: &str, text: &str, author: &str) -> Result<SchemaId, PortError>;

    /// The text of a registered schema.
    ///
    /// # Errors
    /// [`PortError::NotFound`].
    async fn schema_text(&self, id: SchemaId) -> Result<String, PortError>;

    /// The same with the language it is written in, as it stands by itself.
    ///
    /// # Errors
    /// [`PortError::NotFound`].
    async fn schema_in(&self, id: SchemaId) -> Result<(Language, String), PortError>;

    /// The latest version of a schema: its id, its number among the schema's versions, its language and its text as it stands by
    /// itself.
    ///
    /// # Errors
    /// [`PortError::NotFound`].
    async fn latest(&self, name: &SchemaName) -> Result<(SchemaId, i32, Language, String), PortError>;

    /// Binds a topic's values to a schema, unless they are bound to one; gives the name of the one that they are bound to.
    ///
    /// # Errors
    /// [`PortError::NotFound`].
    async fn bind_values(&self, topic: &TopicName, name: &SchemaName) -> Result<String, PortError>;
}
