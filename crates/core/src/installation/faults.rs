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

/// The known name that was perhaps meant, as the end of a sentence; nothing if none is like it.
pub(super) fn perhaps<'n>(name: &str, known: impl IntoIterator<Item = &'n str>) -> String {
    let lower = name.to_lowercase();
    let like = |other: &&str| strsim::jaro_winkler(&lower, &other.to_lowercase());
    let nearest = known.into_iter().filter(|other| like(other) > 0.8).max_by(|a, b| like(a).total_cmp(&like(b)));
    nearest.map(|other| format!(", perhaps {other} is meant")).unwrap_or_default()
}
