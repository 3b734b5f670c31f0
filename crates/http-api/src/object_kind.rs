//! Kinds of objects.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Kinds of objects whose changes are told.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum ObjectKind {
    /// Connections.
    Connection,
    /// Connectors.
    Connector,
    /// Unfinished drafts.
    Draft,
    /// Functions of one's own.
    Function,
    /// Operations.
    Operation,
    /// Readers.
    Reader,
    /// Runners.
    Runner,
    /// Schemas.
    Schema,
    /// Topics.
    Topic,
}

impl ObjectKind {
    /// All of them, in order.
    pub const ALL: [Self; 9] = [
        Self::Connection,
        Self::Connector,
        Self::Draft,
        Self::Function,
        Self::Operation,
        Self::Reader,
        Self::Runner,
        Self::Schema,
        Self::Topic,
    ];
}
