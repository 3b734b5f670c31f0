//! Records of any form as rows: columns found in a topic's records, and how its newest ones would become rows.

use gonvel_core::event_rows::{EventRows, Only, Part};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// How a topic's records would become rows.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct TryEventRows {
    /// How; without it, columns are proposed by what the newest records hold.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rows: Option<EventRows>,
    /// Without `rows`, the records for which columns are proposed, where a topic holds several types.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub only: Option<Only>,
    /// About how many of the newest records are looked at, 1 to 10,000; 10,000 without it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub records: Option<i64>,
}

/// What stood at a place, and how often.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SeenType {
    /// In words: `whole number`, `text`, `time`.
    pub what: String,
    /// In how many records.
    pub records: u64,
}

/// A field that was seen, or that the schema has.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SeenField {
    /// The names down to it.
    pub path: Vec<String>,
    /// Records that had it.
    pub present: u64,
    /// Of those, how many had null there.
    pub null: u64,
    /// What else stood there.
    pub types: Vec<SeenType>,
    /// The type of a column for it, in SQL; none where its fields are columns of their own.
    #[serde(rename = "type", default, skip_serializing_if = "Option::is_none")]
    pub ty: Option<String>,
    /// Whether the schema says the type.
    pub declared: bool,
}

/// A header that was seen.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SeenHeader {
    /// Its name.
    pub name: String,
    /// Records that had it.
    pub records: u64,
}

/// What may say the type of a topic's records: a header or a field with few texts.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SeenTypes {
    /// A header, or a field.
    pub part: Part,
    /// The header's name, or the names of the fields down to it.
    pub path: Vec<String>,
    /// The texts, and in how many records each stands.
    pub types: Vec<SeenType>,
}

/// A record as a row.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct EventRow {
    /// The partition it stands in.
    pub partition: i32,
    /// Its offset there.
    pub offset: i64,
    /// Whether it deletes its row.
    pub deletes: bool,
    /// Its columns as text; none for null.
    pub cells: Vec<Option<String>>,
}

/// Records that cannot become rows, for one cause.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct RefusedEvents {
    /// Where in the first of them what was found, what was expected and what to choose.
    pub finding: String,
    /// How many.
    pub records: u64,
    /// The partition of the first of them.
    pub partition: i32,
    /// Its offset.
    pub offset: i64,
}

/// What a topic's newest records would become.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct TriedEventRows {
    /// Records looked at: those of the types that are taken.
    pub records: u64,
    /// Records of other types, which were passed over.
    pub of_other_types: u64,
    /// What may say the records' type, of all that were looked at.
    pub types: Vec<SeenTypes>,
    /// Of the records of these types, how many have a key.
    pub keyed: u64,
    /// Whether they are changes or rows of a table already, by the schema of the newest of them.
    pub changes: bool,
    /// The fields of their values.
    pub fields: Vec<SeenField>,
    /// Their headers.
    pub headers: Vec<SeenHeader>,
    /// How they were made rows of: as asked, or as proposed.
    pub rows: EventRows,
    /// A few of the newest as rows.
    pub sample: Vec<EventRow>,
    /// How many become rows.
    pub fit: u64,
    /// Those that do not, the most frequent cause first.
    pub refused: Vec<RefusedEvents>,
}
