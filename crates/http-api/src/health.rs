//! Whether a server is well.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

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
    #[schema(format = DateTime)]
    pub last_at: String,
}

/// Panics of a process.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Panics {
    /// How many.
    pub count: u64,
    /// When the last one was (RFC 3339).
    #[schema(format = DateTime)]
    pub last_at: String,
    /// Where in the code it was.
    pub place: String,
}
