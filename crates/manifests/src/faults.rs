//! What is wrong in manifests, and where.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What is wrong in a manifest, and where.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, ToSchema, thiserror::Error)]
#[error("{file}:{line}:{column}: {finding}")]
pub struct Fault {
    /// The file's name.
    pub file: String,
    /// Line, from 1.
    pub line: usize,
    /// Column, from 1.
    pub column: usize,
    /// What was found, and what fits.
    pub finding: String,
}
