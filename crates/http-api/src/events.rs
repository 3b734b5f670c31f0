//! Changes of objects, as they are told to whoever watches.

use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

use crate::{
    Connection, Connector, DraftEntry, FunctionEntry, ObjectKind, Operation, Problem, Reader, Runner, SchemaSummary,
    TopicSummary,
};

/// Kinds, separated by commas.
#[derive(Debug, Clone, PartialEq, Eq, Deserialize)]
#[serde(try_from = "String")]
pub struct Kinds(pub Vec<ObjectKind>);

impl TryFrom<String> for Kinds {
    type Error = serde::de::value::Error;

    fn try_from(text: String) -> Result<Self, Self::Error> {
        let kind = |word: &str| ObjectKind::deserialize(serde::de::value::StrDeserializer::new(word.trim()));
        text.split(',').map(kind).collect::<Result<_, _>>().map(Self)
    }
}

/// Which changes are to be told, and from where on.
#[derive(Debug, Clone, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct EventsQuery {
    /// Of which kinds, separated by commas; of all without it.
    #[param(value_type = Option<String>, example = "connector,topic")]
    pub kinds: Option<Kinds>,
    /// The `cursor` of the last line, or the `id` of the last event that was received: what changed since is told first.
    pub cursor: Option<String>,
}

/// An object as its list shows it.
#[derive(Debug, Clone, Serialize, ToSchema)]
#[serde(untagged)]
pub enum Object {
    /// A connection.
    Connection(Connection),
    /// A connector.
    Connector(Box<Connector>),
    /// An unfinished draft.
    Draft(DraftEntry),
    /// A function.
    Function(Box<FunctionEntry>),
    /// An operation.
    Operation(Box<Operation>),
    /// A reader.
    Reader(Reader),
    /// A runner.
    Runner(Runner),
    /// A schema.
    Schema(SchemaSummary),
    /// A topic.
    Topic(TopicSummary),
}

/// An object that was made, changed or deleted.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct Change {
    /// Its kind.
    pub kind: ObjectKind,
    /// Its id; the name of what has none.
    pub id: String,
    /// What it is now; none if it is gone.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub object: Option<Object>,
}

/// The first event of a stream.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct Begin {
    /// Whether what changed before this is not told: no cursor was given, or it is of too long ago. Whoever keeps lists reads them
    /// again.
    pub anew: bool,
}

/// The data of an event.
#[derive(Debug, Clone, Serialize, ToSchema)]
#[serde(untagged)]
pub enum EventData {
    /// Of an event `change`.
    Change(Change),
    /// Of an event `begin`.
    Begin(Begin),
    /// Of an event `problem`, which is the last.
    Problem(Problem),
}

/// A line of a stream of changes.
#[derive(Debug, Clone, Serialize, ToSchema)]
#[serde(untagged)]
pub enum EventLine {
    /// A change, and where the stream is taken up after it.
    #[schema(title = "Change")]
    Change {
        /// What changed.
        #[serde(flatten)]
        change: Change,
        /// To be sent back as `cursor`.
        cursor: String,
    },
    /// The first line, and where the stream is taken up after it.
    #[schema(title = "Begin")]
    Begin {
        /// How it begins.
        #[serde(flatten)]
        begin: Begin,
        /// To be sent back as `cursor`.
        cursor: String,
    },
    /// A sign of life.
    #[schema(title = "Place")]
    Place {
        /// To be sent back as `cursor`.
        cursor: String,
    },
    /// Why it ends: the last line.
    #[schema(title = "Ended")]
    Ended {
        /// What was found.
        problem: Problem,
    },
}
