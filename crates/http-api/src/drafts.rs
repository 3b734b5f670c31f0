//! Unfinished drafts: connectors that lack too much to be saved as one.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use uuid::Uuid;

/// A kind of connector.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum ConnectorKind {
    /// It writes topics from a system.
    Source,
    /// It carries topics into a system.
    Sink,
    /// It carries topics into topics.
    Topics,
}

/// An unfinished draft to be saved.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct DraftRequest {
    /// The name that the connector is to have; empty while it has none. It takes no name from others.
    pub name: String,
    /// The kind of connector.
    pub kind: ConnectorKind,
    /// What it lacks, in a sentence.
    pub lacks: String,
    /// What the builder holds: an object that only the builder reads. Secrets do not belong here.
    #[schema(value_type = Object)]
    pub work: serde_json::Value,
}

/// An unfinished draft in a list.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct DraftEntry {
    /// Its id.
    pub id: Uuid,
    /// The name that the connector is to have; empty while it has none.
    pub name: String,
    /// The kind of connector.
    pub kind: ConnectorKind,
    /// What it lacks, in a sentence.
    pub lacks: String,
    /// Counts its changes, from 1.
    pub revision: i32,
    /// Who saved it; empty if that is not known.
    pub saved_by: String,
    /// When it was saved, as RFC 3339 in UTC.
    #[schema(format = DateTime)]
    pub saved_at: String,
}

/// An unfinished draft.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct UnfinishedDraft {
    /// What the list tells of it.
    #[serde(flatten)]
    pub entry: DraftEntry,
    /// What the builder holds.
    #[schema(value_type = Object)]
    pub work: serde_json::Value,
}
