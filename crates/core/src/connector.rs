//! Connectors: what one is asked to do, when that is valid, and the states of its life.

use serde::{Deserialize, Serialize};
use uuid::Uuid;

use crate::naming::{ConnectorId, ConnectorName, NameError, TopicName};

/// A state of a connector or lane, in the order of a normal life and then those when something is wrong.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum State {
    /// Saved, not valid or not yet asked to run.
    Draft,
    /// Getting ready.
    Starting,
    /// Reading the rows that exist.
    Loading,
    /// Carrying changes as they commit.
    Following,
    /// Held by a person; keeps its place in the source.
    Paused,
    /// Not running.
    Stopped,
    /// Failed and will try again by itself.
    Retrying,
    /// Needs a person.
    Halted,
}

/// What a person asked of a connector.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Wish {
    /// Run.
    Run,
    /// Hold where it is.
    Pause,
    /// Do not run yet.
    Draft,
    /// Remove what it left outside, then the connector.
    Delete,
}

impl Wish {
    /// The word for it.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Run => "run",
            Self::Pause => "pause",
            Self::Draft => "draft",
            Self::Delete => "delete",
        }
    }
}

/// A table that a source captures, and the topic it writes.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub struct CapturedTable {
    /// Schema in the source.
    pub schema: String,
    /// Table in the source.
    pub table: String,
    /// The topic for its changes.
    pub topic: String,
}

/// A topic that a sink reads, and the table it writes.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub struct DeliveredTopic {
    /// The topic.
    pub topic: String,
    /// Schema in the target.
    pub schema: String,
    /// Table in the target.
    pub table: String,
}

/// How the rows that exist when a source connector starts are copied.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct InitialLoad {
    /// Whether they are; otherwise only what changes from then on is captured.
    pub rows: bool,
    /// Rows read a second at most; none for as fast as the source gives them.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rows_per_second: Option<u32>,
}

impl Default for InitialLoad {
    fn default() -> Self {
        Self { rows: true, rows_per_second: None }
    }
}

/// What a connector is to do, as given by a person.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "kind", rename_all = "lowercase")]
pub enum Definition {
    /// Carries changes of tables into topics.
    Source {
        /// The connection it reads through.
        connection: Uuid,
        /// What it captures.
        tables: Vec<CapturedTable>,
        /// Partitions for the topics it makes.
        partitions: i32,
        /// How the rows that exist are copied.
        #[serde(default)]
        load: InitialLoad,
    },
    /// Carries topics into tables.
    Sink {
        /// The connection it writes through.
        connection: Uuid,
        /// What it delivers.
        topics: Vec<DeliveredTopic>,
    },
}

impl Definition {
    /// The connection it uses.
    #[must_use]
    pub fn connection(&self) -> Uuid {
        match self {
            Self::Source { connection, .. } | Self::Sink { connection, .. } => *connection,
        }
    }

    /// `source` or `sink`.
    #[must_use]
    pub fn kind(&self) -> &'static str {
        match self {
            Self::Source { .. } => "source",
            Self::Sink { .. } => "sink",
        }
    }
}

/// What is wrong with a definition.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum DefinitionError {
    /// Nothing to do.
    #[error("no table is chosen: choose at least one to capture")]
    NoTables,
    /// Nothing to do.
    #[error("no topic is chosen: choose at least one to deliver")]
    NoTopics,
    /// Partitions out of range.
    #[error("{0} partitions: give a number from 1 to 1000")]
    Partitions(i32),
    /// A load that never ends.
    #[error("0 rows a second: give at least 1, or none for as fast as the source gives them")]
    Pace,
    /// A topic name does not follow the rules.
    #[error("the topic {topic:?} for {table} cannot be named so: {cause}")]
    Topic {
        /// The table it is for.
        table: String,
        /// The name given.
        topic: String,
        /// Why not.
        #[source]
        cause: NameError,
    },
    /// Two entries share a place.
    #[error("{0} is named twice: name each table and each topic once")]
    Twice(String),
}

/// A connector whose definition was checked; the runtime takes no other.
///
/// Invariant: made only by [`ValidConnector::check`], so every topic name parses and no table or topic stands twice.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ValidConnector {
    id: ConnectorId,
    name: ConnectorName,
    definition: Definition,
}

impl ValidConnector {
    /// Checks a definition.
    ///
    /// # Errors
    /// [`DefinitionError`] with the finding and the remedy.
    pub fn check(id: ConnectorId, name: ConnectorName, definition: Definition) -> Result<Self, DefinitionError> {
        let pairs: Vec<(String, &str)> = match &definition {
            Definition::Source { tables, partitions, load, .. } => {
                if load.rows_per_second == Some(0) {
                    return Err(DefinitionError::Pace);
                }
                if tables.is_empty() {
                    return Err(DefinitionError::NoTables);
                }
                if !(1..=1000).contains(partitions) {
                    return Err(DefinitionError::Partitions(*partitions));
                }
                tables.iter().map(|t| (format!("{}.{}", t.schema, t.table), t.topic.as_str())).collect()
            }
            Definition::Sink { topics, .. } => {
                if topics.is_empty() {
                    return Err(DefinitionError::NoTopics);
                }
                topics.iter().map(|t| (format!("{}.{}", t.schema, t.table), t.topic.as_str())).collect()
            }
        };
        let mut seen = std::collections::HashSet::new();
        for (table, topic) in &pairs {
            TopicName::parse(*topic).map_err(|cause| DefinitionError::Topic {
                table: table.clone(),
                topic: (*topic).to_owned(),
                cause,
            })?;
            for place in [format!("the table {table}"), format!("the topic {topic}")] {
                if !seen.insert(place.clone()) {
                    return Err(DefinitionError::Twice(place));
                }
            }
        }
        Ok(Self { id, name, definition })
    }

    /// Its id.
    #[must_use]
    pub fn id(&self) -> ConnectorId {
        self.id
    }

    /// Its name.
    #[must_use]
    pub fn name(&self) -> &ConnectorName {
        &self.name
    }

    /// What it does.
    #[must_use]
    pub fn definition(&self) -> &Definition {
        &self.definition
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn check(tables: &[(&str, &str)], partitions: i32) -> Result<ValidConnector, DefinitionError> {
        let tables = tables
            .iter()
            .map(|(table, topic)| CapturedTable { schema: "public".into(), table: (*table).into(), topic: (*topic).into() })
            .collect();
        let definition = Definition::Source { connection: Uuid::nil(), tables, partitions, load: InitialLoad::default() };
        ValidConnector::check(ConnectorId(Uuid::nil()), ConnectorName::parse("orchard").unwrap(), definition)
    }

    #[test]
    fn definitions_are_refused_with_a_remedy() {
        assert!(check(&[("bins", "packhouse.bins"), ("blocks", "packhouse.blocks")], 4).is_ok());
        type Case<'a> = (&'a [(&'a str, &'a str)], i32, &'a str);
        let cases: [Case<'_>; 5] = [
            (&[], 1, "choose at least one"),
            (&[("bins", "a")], 0, "from 1 to 1000"),
            (&[("bins", "a b")], 1, "use letters"),
            (&[("bins", "a"), ("blocks", "a")], 1, "the topic a is named twice"),
            (&[("bins", "a"), ("bins", "b")], 1, "the table public.bins is named twice"),
        ];
        for (tables, partitions, part) in cases {
            let error = check(tables, partitions).unwrap_err().to_string();
            let cause = std::error::Error::source(&check(tables, partitions).unwrap_err()).map(ToString::to_string);
            assert!(error.contains(part) || cause.is_some_and(|c| c.contains(part)), "{error}");
        }
    }
}
