//! Problem documents (RFC 9457).

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// An error with its finding and remedy, as RFC 9457 has it, with members of our own.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Problem {
    /// A short stable word for the kind of problem, as a relative reference.
    #[serde(rename = "type")]
    pub kind: String,
    /// What kind of problem it is.
    pub title: String,
    /// The HTTP status.
    pub status: u16,
    /// What was found in this case.
    pub detail: String,
    /// What to do.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub remedy: Option<String>,
    /// A statement or setting to copy.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub statement: Option<String>,
    /// The field of the request it belongs to.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub field: Option<String>,
    /// Where in a text that was sent, and what is wrong there.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub fault: Option<crate::SchemaFault>,
    /// The checks of a failed preflight.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub checks: Vec<crate::Check>,
}

/// Whether the server and its database answer.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Health {
    /// `ok`, or `no database`.
    pub status: String,
    /// The product's version.
    pub version: String,
    /// Whether this is the demo, which has a workload to switch on.
    pub demo: bool,
    /// Defects that the server's process met since it started; none if there was none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub panics: Option<Panics>,
    /// Tasks of the server's process that began again after a panic.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub restarts: Vec<TaskRestarts>,
}

/// How often a task had to begin again.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct TaskRestarts {
    /// What it does, in a few words.
    pub task: String,
    /// How often.
    pub count: u64,
    /// When last (RFC 3339).
    pub last_at: String,
}

/// Panics of a process.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Panics {
    /// How many.
    pub count: u64,
    /// When the last one was (RFC 3339).
    pub last_at: String,
    /// Where in the code it was.
    pub place: String,
}
