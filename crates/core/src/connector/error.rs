//! What can be wrong with a definition.

use crate::naming::NameError;

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
    /// A pattern or template that means nothing.
    #[error("{0}")]
    Patterns(&'static str),
    /// More sessions than a source should have to give.
    #[error("{0} chunks at a time: give a number from 1 to 16")]
    Chunks(u32),
    /// A column that is needed is left out.
    #[error("the column {column} of {table} is part of its key and cannot be left out")]
    KeyLeftOut {
        /// The table.
        table: String,
        /// The column.
        column: String,
    },
    /// Where to begin does not belong to this kind of connector.
    #[error("a {kind} cannot begin so: {remedy}")]
    Start {
        /// `source` or `sink`.
        kind: &'static str,
        /// What it can.
        remedy: &'static str,
    },
    /// Steps for what the connector does not carry.
    #[error("steps are given for {name}, which this connector does not carry: take them out, or choose it")]
    Shape {
        /// What they are given for.
        name: String,
    },
    /// Rows that cannot be routed so.
    #[error("rows of {name} cannot be routed to {to}: {reason}")]
    Way {
        /// The table or topic.
        name: String,
        /// Where to.
        to: String,
        /// Why not, and what to do.
        reason: String,
    },
    /// A reference that the connector itself changes while it looks into it.
    #[error("the topic {0} cannot be looked up in by the connector that writes it: look up in another topic")]
    OwnReference(String),
    /// A lookup that cannot be.
    #[error("a lookup cannot be so: {0}")]
    Lookup(&'static str),
    /// A header that cannot be.
    #[error("the header {0} cannot be made: {1}")]
    Header(String, &'static str),
    /// Rows that would have to be carried again by a connector that cannot.
    #[error("only a connector between topics can carry rows again when {0} changes: switch that off in its lookup")]
    Again(String),
    /// A topic that would be read and written.
    #[error("the topic {0} would be read and written by the same connector: give its rows another topic")]
    Circle(String),
    /// Records that cannot become rows so.
    #[error("{topic}: {finding}")]
    Rows {
        /// The topic.
        topic: String,
        /// What is wrong, and what to choose.
        finding: String,
    },
    /// Two settings of a sink that exclude each other.
    #[error("{0}")]
    Writes(&'static str),
    /// More lanes than can share its work.
    #[error("{0}")]
    Lanes(&'static str),
    /// A number out of its range.
    #[error("{field} is {number}: give a number from {least} to {most}")]
    Range {
        /// The field.
        field: &'static str,
        /// What was given.
        number: u32,
        /// The least.
        least: u32,
        /// The most.
        most: u32,
    },
    /// A label that cannot be.
    #[error("{0}")]
    Label(String),
    /// Something that cannot become of rows that are there already.
    #[error("rows that are there already: {0}")]
    Existing(String),
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
    #[error("the {what} {name} is named twice: name each table and each topic once")]
    Twice {
        /// `table` or `topic`.
        what: &'static str,
        /// Its name.
        name: String,
    },
}

impl DefinitionError {
    /// The field of the definition that it belongs to.
    #[must_use]
    pub fn field(&self) -> &'static str {
        match self {
            Self::NoTopics => "topics",
            Self::Partitions(_) => "partitions",
            Self::Patterns(_) => "patterns",
            Self::Chunks(_) | Self::Pace => "load",
            Self::Start { .. } => "start",
            Self::Shape { .. }
            | Self::Way { .. }
            | Self::OwnReference(_)
            | Self::Lookup(_)
            | Self::Header(..)
            | Self::Again(_) => "shape",
            Self::Circle(_) => "carries",
            Self::Rows { .. } => "rows",
            Self::Writes(_) => "writes",
            Self::Lanes(_) => "lanes",
            Self::Range { field, .. } => field,
            Self::Label(_) => "only_where",
            Self::Existing(_) => "existing_rows",
            Self::NoTables | Self::KeyLeftOut { .. } | Self::Topic { .. } | Self::Twice { .. } => "tables",
        }
    }

    /// What it is about as it may stand in a manifest: names and then fields, the nearest first.
    #[must_use]
    pub fn places(&self) -> Vec<String> {
        let last = |name: &str| name.rsplit('.').next().unwrap_or(name).to_owned();
        let mut out = match self {
            Self::KeyLeftOut { table, column } => vec![format!("leave_out: [{column}"), column.clone(), last(table)],
            Self::Way { name, to, .. } => vec![to.clone(), name.clone()],
            Self::Shape { name } => vec![format!("{name}:"), name.clone()],
            Self::OwnReference(name)
            | Self::Header(name, _)
            | Self::Again(name)
            | Self::Circle(name)
            | Self::Rows { topic: name, .. }
            | Self::Topic { topic: name, .. } => vec![name.clone()],
            Self::Twice { name, .. } => vec![name.clone(), last(name)],
            Self::Chunks(_) => vec!["chunks:".into()],
            Self::Pace => vec!["rows_per_second:".into()],
            _ => vec![],
        };
        out.push(format!("{}:", self.field()));
        out
    }
}
