//! Rows that stand where a connector writes before it begins, and what becomes of them.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::preflight::Check;

/// What becomes of rows that are there already when a table is loaded, or a topic delivered for the first time. A load says what
/// there is, not what there is not: rows that went away while nobody looked stay, unless they are looked for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum ExistingRows {
    /// They stay, and those that come are written over them by key.
    #[default]
    Keep,
    /// They all go first.
    Empty,
    /// They stay, and then those go whose key did not come.
    Compare,
}

impl ExistingRows {
    /// The word for it.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Keep => "keep",
            Self::Empty => "empty",
            Self::Compare => "compare",
        }
    }

    /// What it does, for a history.
    #[must_use]
    pub fn told(self) -> &'static str {
        match self {
            Self::Keep => "rows are loaded over those that are there",
            Self::Empty => "rows that are there are removed first",
            Self::Compare => "rows that are there and not in the source are removed",
        }
    }

    /// Reads the word for it; an unknown one, of a later version, is the one that removes nothing.
    #[must_use]
    pub fn of_word(word: &str) -> Self {
        [Self::Empty, Self::Compare].into_iter().find(|e| e.word() == word).unwrap_or_default()
    }
}

/// What a preflight says of rows that are there: `label` names the check, `there` says how many of what and where, and `goes` what
/// happens first where they are emptied.
#[must_use]
pub fn check_rows_there(label: String, there: &str, said: Option<ExistingRows>, goes: &str) -> Check {
    let check = match said {
        None => Check::warning(label, format!("{there} already"))
            .means("rows that are gone in the source would stay for ever: what comes is written over the others by key")
            .remedy("say what becomes of them: begin empty, remove what did not come, or keep all"),
        Some(ExistingRows::Keep) => {
            Check::passed(label, format!("{there} already: all stay, and what comes is written over them by key"))
        }
        Some(ExistingRows::Empty) => Check::warning(label, format!("{there} already: all are removed first"))
            .means(goes.to_owned())
            .remedy("keep all, or remove only what did not come, if anyone needs them meanwhile"),
        Some(ExistingRows::Compare) => Check::passed(label, format!("{there} already: those that did not come are removed")),
    };
    Check { field: Some("existing_rows".into()), ..check }
}
