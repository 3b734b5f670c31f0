//! Text in YAML that people write: what is wrong with it is told at its place, with what was perhaps meant.

use serde::de::DeserializeOwned;

use crate::connector::DefinitionError;
use crate::nearest::perhaps;

/// What is wrong with a manifest, and where.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("line {line}, column {column}: {finding}")]
pub struct ManifestError {
    /// Line, from 1.
    pub line: usize,
    /// Column, from 1.
    pub column: usize,
    /// What was found, and what fits.
    pub finding: String,
}

impl ManifestError {
    /// An error about something that stands in the text: at its first place there, or at the start.
    #[must_use]
    pub fn about(text: &str, what: &str, finding: impl Into<String>) -> Self {
        let place = text.lines().enumerate().find_map(|(line, content)| Some((line, content.find(what)?)));
        let (line, byte) = place.unwrap_or((0, 0));
        let before = text.lines().nth(line).map_or(0, |content| content[..byte].chars().count());
        Self { line: line + 1, column: before + 1, finding: finding.into() }
    }

    /// What is wrong with the definition that stands in a text, at the nearest place of it.
    #[must_use]
    pub fn of(text: &str, error: &DefinitionError) -> Self {
        let cause = std::error::Error::source(error).map(|c| format!(" ({c})")).unwrap_or_default();
        let places = error.places();
        let nearest = places.iter().find(|place| text.contains(place.as_str())).map_or("", String::as_str);
        Self::about(text, nearest, format!("{error}{cause}"))
    }
}

/// Reads YAML; a field or a value that is not known is told with the one that was perhaps meant.
///
/// # Errors
/// [`ManifestError`] at the place.
pub fn from_yaml<T: DeserializeOwned>(text: &str) -> Result<T, ManifestError> {
    serde_yaml_ng::from_str(text).map_err(|error| {
        let (line, column) = error.location().map_or((1, 1), |at| (at.line(), at.column()));
        let said = error.to_string();
        let said = said.split(" at line ").next().unwrap_or(&said);
        let unknown = said.split_once("unknown field `").or_else(|| said.split_once("unknown variant `"));
        let meant = unknown.map_or_else(String::new, |(_, rest)| {
            let mut named = rest.split('`').step_by(2);
            let found = named.next().unwrap_or_default();
            perhaps(found, named)
        });
        ManifestError { line, column, finding: format!("{said}{meant}") }
    })
}
