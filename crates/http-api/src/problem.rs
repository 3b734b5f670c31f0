//! Problem documents (RFC 9457).

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::ProblemType;

/// A refusal with what was found and what to do about it, as RFC 9457 has it, with members of our own.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Problem {
    /// What kind of problem it is: the address of its entry in the catalogue, such as `/api/v1/problems/not-found`.
    #[serde(rename = "type")]
    #[schema(format = "uri-reference")]
    pub kind: String,
    /// What kind of problem it is, in words. The same for all of a type.
    pub title: String,
    /// The HTTP status.
    #[schema(minimum = 400, maximum = 599)]
    pub status: u16,
    /// What was found in this case.
    pub detail: String,
    /// What to do.
    pub remedy: String,
    /// What was found where in the request.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub errors: Vec<ProblemError>,
    /// A statement or setting to copy.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub statement: Option<String>,
    /// The checks of a failed preflight.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub checks: Vec<crate::Check>,
}

/// What was found at a place of the request: in its body, or in a parameter.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ProblemError {
    /// Where in the body, as a JSON Pointer (RFC 6901).
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(format = "json-pointer")]
    pub pointer: Option<String>,
    /// Which parameter of the path, of the query or of the header.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub parameter: Option<String>,
    /// What was found there.
    pub finding: String,
    /// The line within a text that was sent, from 1.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub line: Option<usize>,
    /// The column in it, from 1.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub column: Option<usize>,
}

impl Problem {
    /// One of a type, with what was found. What to do is what always helps with that type.
    #[must_use]
    pub fn new(kind: ProblemType, detail: impl Into<String>) -> Self {
        let entry = kind.entry();
        Self {
            kind: entry.kind,
            title: entry.title,
            status: entry.status,
            detail: detail.into(),
            remedy: entry.remedy,
            errors: Vec::new(),
            statement: None,
            checks: Vec::new(),
        }
    }

    /// What it says, in a sentence: what was found, and what to do where that is more than always helps with its type.
    #[must_use]
    pub fn told(&self) -> String {
        match self.of_type() {
            Some(kind) if kind.entry().remedy == self.remedy => self.detail.clone(),
            _ => format!("{}: {}", self.detail, self.remedy),
        }
    }

    /// Its type; none if this version knows no such.
    #[must_use]
    pub fn of_type(&self) -> Option<ProblemType> {
        ProblemType::ALL.into_iter().find(|kind| kind.address() == self.kind)
    }
}
