//! Why a port refused, and what to do about it.

use std::error::Error;
use std::fmt;

use crate::naming::{ConnectorId, TopicPartition};

/// Why a port refused. Grouped by who acts.
#[derive(Debug)]
pub enum PortError {
    /// Try again: the database did not answer or gave way.
    TryAgain {
        /// What was being done.
        during: &'static str,
        /// The cause.
        cause: Box<dyn std::error::Error + Send + Sync>,
    },
    /// Change the value: the database cannot hold it.
    Unfit {
        /// What was being done.
        during: &'static str,
        /// What it says.
        finding: String,
    },
    /// Nothing helps but a person: the database refuses what was asked, and would again.
    Failed {
        /// What was being done.
        during: &'static str,
        /// The cause.
        cause: Box<dyn std::error::Error + Send + Sync>,
    },
    /// Another holds the lane now; whoever gets this must stop.
    Fenced {
        /// The connector.
        connector: ConnectorId,
        /// Its lane.
        lane: i32,
    },
    /// Change the request: something is not there.
    NotFound {
        /// What.
        what: String,
    },
    /// Change the request: something is there already.
    Exists {
        /// What.
        what: String,
    },
    /// Change the request.
    Refused(String),
    /// Read it again: it was changed by another since it was read.
    Changed {
        /// What.
        what: String,
    },
    /// Append what is missing first: a session's batches go in by their sequence.
    OutOfTurn {
        /// The sequence that is next.
        expected: i64,
        /// The sequence given.
        found: i64,
    },
    /// Take a new key.
    KeyReused {
        /// The key.
        key: String,
    },
    /// Count on from the next sequence.
    SequenceReused {
        /// The sequence.
        sequence: i64,
    },
    /// Read on from the share that is held now.
    NotHeld {
        /// The partition.
        at: TopicPartition,
    },
    /// Stored data is damaged.
    Damaged {
        /// The partition.
        at: TopicPartition,
        /// The block's first offset.
        first_offset: i64,
        /// What was found.
        finding: String,
    },
}

impl PortError {
    /// What was found.
    #[must_use]
    pub fn finding(&self) -> String {
        match self {
            Self::TryAgain { during, .. } => format!("the topic log's database did not do its work ({during})"),
            Self::Unfit { during, finding } => {
                format!("the topic log's database cannot hold a value ({during}): {finding}")
            }
            Self::Failed { during, .. } => format!("the topic log's database refused ({during}), and would again"),
            Self::Fenced { connector, lane } => {
                format!("lane {lane} of connector {connector} is held by another runner since")
            }
            Self::NotFound { what } => format!("there is no {what}"),
            Self::Exists { what } => format!("{what} is there already"),
            Self::Refused(finding) => finding.clone(),
            Self::Changed { what } => format!("{what} was changed since you read it"),
            Self::OutOfTurn { expected, found } => format!("the session expects sequence {expected} next, not {found}"),
            Self::KeyReused { key } => format!("the idempotency key {key:?} was used for another request"),
            Self::SequenceReused { sequence } => {
                format!("sequence {sequence} was used for another request of this session")
            }
            Self::NotHeld { at } => format!(
                "partition {} of topic {} is not held by this member: it was given to another or the member was away too long",
                at.partition.0, at.topic.0
            ),
            Self::Damaged { at, first_offset, finding } => {
                format!("block {first_offset} of partition {} of topic {} is damaged: {finding}", at.partition.0, at.topic.0)
            }
        }
    }

    /// What it means or what to do, where that is more than the finding.
    #[must_use]
    pub fn remedy(&self) -> Option<String> {
        let remedy = match self {
            Self::TryAgain { .. } => "Gonvel tries again; check that PostgreSQL is up",
            Self::Unfit { .. } => "change the value",
            Self::Failed { .. } => "look at its tables and at the rights of Gonvel's login",
            Self::Fenced { .. } => "this one has stopped writing",
            Self::NotFound { .. } => "it was deleted, renamed or never made; look at what is there",
            Self::Exists { .. } => "choose another name",
            Self::Changed { .. } => "read it again and decide anew",
            Self::OutOfTurn { expected, .. } => return Some(format!("append {expected} first, or begin a new session")),
            Self::KeyReused { .. } => "take a new key for a new request",
            Self::SequenceReused { .. } => "a new request takes the next number",
            Self::NotHeld { .. } => "ask for the share again",
            Self::Refused(_) | Self::Damaged { .. } => return None,
        };
        Some(remedy.to_owned())
    }
}

impl fmt::Display for PortError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.finding())?;
        self.remedy().map_or(Ok(()), |remedy| write!(f, ": {remedy}"))
    }
}

impl Error for PortError {
    fn source(&self) -> Option<&(dyn Error + 'static)> {
        match self {
            Self::TryAgain { cause, .. } | Self::Failed { cause, .. } => Some(cause.as_ref()),
            _ => None,
        }
    }
}
