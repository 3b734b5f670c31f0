//! What lookups look into, what they compare, what they add.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::Step;

/// A table of a database that is looked into. All of it is read, now and then anew.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct LookedUpTable {
    /// The connection that it is read through: its id, in a manifest its name.
    pub connection: String,
    /// Its schema.
    pub schema: String,
    /// Its name.
    pub table: String,
    /// Seconds after which it is read anew.
    #[serde(default = "a_minute", skip_serializing_if = "is_a_minute")]
    pub every_seconds: u32,
}

fn a_minute() -> u32 {
    60
}

#[allow(clippy::trivially_copy_pass_by_ref, reason = "serde calls it with a reference")]
fn is_a_minute(seconds: &u32) -> bool {
    *seconds == a_minute()
}

/// What a lookup looks into, by the name that its rows are kept by.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LookedInto {
    /// The name.
    pub name: String,
    /// The table; none where the name is a topic's.
    pub table: Option<LookedUpTable>,
    /// The columns that are compared.
    pub keys: Vec<String>,
    /// The columns that are taken.
    pub columns: Vec<String>,
}

/// What a lookup does where the reference has no row.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Miss {
    /// Its columns are null.
    #[default]
    Empty,
    /// The row goes no further.
    Leave,
    /// The row is put aside as one that cannot be handled.
    Refuse,
}

/// A column that a lookup adds.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Added {
    /// The reference's column.
    pub from: String,
    /// What it is called here.
    pub column: String,
}

/// A column and the reference's key column that it is compared with.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Match {
    /// The column here.
    pub column: String,
    /// The key column there.
    pub key: String,
}

impl Step {
    /// The name that rows are kept by which a lookup looks into: the topic, or the table with its columns that are compared.
    #[must_use]
    pub fn looks_into(&self) -> Option<String> {
        let Self::Lookup { topic, table, by, .. } = self else { return None };
        let Some(table) = table else { return Some(topic.clone()) };
        let keys: Vec<&str> = by.iter().map(|pair| pair.key.as_str()).collect();
        Some(format!("{}.{}({}) of {}", table.schema, table.table, keys.join(", "), table.connection))
    }
}
