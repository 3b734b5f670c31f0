//! Facts of a change's origin, as columns or headers.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::change::{ChangeKind, Origin};
use crate::change_form::position_text;
use crate::civil::rfc3339;
use crate::table::TableSchema;

/// Something about a change's origin.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Fact {
    /// What happened to the row.
    Kind,
    /// When it was committed in the source.
    CommittedAt,
    /// The position in the source's log.
    Position,
    /// The source's transaction.
    Transaction,
    /// The number within its transaction.
    Sequence,
    /// The system.
    System,
    /// The schema.
    Schema,
    /// The table.
    Table,
}

impl Fact {
    /// All of them.
    pub const ALL: [Self; 8] = [
        Self::Kind,
        Self::CommittedAt,
        Self::Position,
        Self::Transaction,
        Self::Sequence,
        Self::System,
        Self::Schema,
        Self::Table,
    ];

    /// What it is of a change, as a header says it.
    #[must_use]
    pub fn text(self, kind: ChangeKind, origin: &Origin, table: &TableSchema) -> String {
        match self {
            Self::Kind => kind.word().to_owned(),
            Self::CommittedAt => rfc3339(origin.commit_time_us),
            Self::Position => position_text(origin.position),
            Self::Transaction => origin.transaction.to_string(),
            Self::Sequence => origin.sequence.to_string(),
            Self::System => table.system.clone(),
            Self::Schema => table.schema.clone(),
            Self::Table => table.table.clone(),
        }
    }

    /// Its name in `origin.…`.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Kind => "kind",
            Self::CommittedAt => "committed_at",
            Self::Position => "position",
            Self::Transaction => "transaction",
            Self::Sequence => "sequence",
            Self::System => "system",
            Self::Schema => "schema",
            Self::Table => "table",
        }
    }
}

/// A fact of the origin that becomes a column, or a header of the record.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct FactColumn {
    /// The fact.
    pub fact: Fact,
    /// The column's name; empty where it becomes a header.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub column: String,
    /// The header's name; empty where it becomes a column.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub header: String,
}
