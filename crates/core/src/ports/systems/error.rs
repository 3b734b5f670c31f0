//! What can go wrong between Gonvel and an outside system, grouped by who acts.

use std::borrow::Cow;

use serde::{Deserialize, Serialize};

use crate::failure::Kind;
use crate::kinds::About;
use crate::preflight::Check;

/// A finding with its remedy. Messages never hold a secret.
#[derive(Debug, thiserror::Error)]
pub enum ConnectorError {
    /// The system or the way to it failed; trying again may help.
    #[error("{finding}: {remedy}")]
    TryAgain {
        /// What helps: the system back, others out of the way, room.
        kind: Kind,
        /// Which field it belongs to, if one.
        field: Option<&'static str>,
        /// What was found.
        finding: String,
        /// What to do if it stays so.
        remedy: String,
    },
    /// A person must change a setting, here or in the system.
    #[error("{finding}: {remedy}")]
    Settings {
        /// Which field of the connection or the builder it belongs to, if one.
        field: Option<&'static str>,
        /// What was found.
        finding: String,
        /// What to do.
        remedy: String,
        /// A statement or setting to copy.
        statement: Option<String>,
    },
    /// A record cannot be handled.
    #[error("a record cannot be handled: {finding}")]
    BadRecord {
        /// What was found, with the record's place.
        finding: String,
        /// Which of the rows that were copied together it was, from 1, if that is known.
        copied_line: Option<usize>,
    },
    /// Another runner holds the lane.
    #[error("another runner carries this lane now: this one has stopped writing")]
    Fenced,
    /// A holder of a later lease was here before.
    #[error("another runner took this lane over under a later lease ({epoch})")]
    Later {
        /// Its term.
        epoch: i64,
    },
    /// Our own mistake.
    #[error("{0}: this is a defect in Gonvel, please report it")]
    Defect(String),
}

/// An error as it goes from one process to another.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum ToldError {
    /// [`ConnectorError::TryAgain`].
    TryAgain {
        /// What helps.
        kind: Kind,
        /// The field.
        field: Option<String>,
        /// The finding.
        finding: String,
        /// The remedy.
        remedy: String,
    },
    /// [`ConnectorError::Settings`].
    Settings {
        /// The field.
        field: Option<String>,
        /// The finding.
        finding: String,
        /// The remedy.
        remedy: String,
        /// The statement.
        statement: Option<String>,
    },
    /// Any other, which are of lanes alone, by what it says.
    Other(String),
}

impl From<&ConnectorError> for ToldError {
    fn from(error: &ConnectorError) -> Self {
        let owned = |field: &Option<&'static str>| field.map(str::to_owned);
        match error {
            ConnectorError::TryAgain { kind, field, finding, remedy } => {
                Self::TryAgain { kind: *kind, field: owned(field), finding: finding.clone(), remedy: remedy.clone() }
            }
            ConnectorError::Settings { field, finding, remedy, statement } => Self::Settings {
                field: owned(field),
                finding: finding.clone(),
                remedy: remedy.clone(),
                statement: statement.clone(),
            },
            other => Self::Other(other.to_string()),
        }
    }
}

/// Fields of connectors that a system's errors belong to, beside the settings of its connection.
const OF_CONNECTORS: [&str; 5] = ["connection", "tables", "topics", "start", "load"];

impl ToldError {
    /// The error that was told; a field that is neither one of a system of this kind nor of connectors is left out.
    #[must_use]
    pub fn taken(self, about: &About) -> ConnectorError {
        let known = |field: Option<String>| {
            let field = field?;
            let own = about.settings.iter().find_map(|setting| match &setting.name {
                Cow::Borrowed(name) if *name == field => Some(*name),
                _ => None,
            });
            own.or_else(|| OF_CONNECTORS.into_iter().find(|name| *name == field))
        };
        match self {
            Self::TryAgain { kind, field, finding, remedy } => {
                ConnectorError::TryAgain { kind, field: known(field), finding, remedy }
            }
            Self::Settings { field, finding, remedy, statement } => {
                ConnectorError::Settings { field: known(field), finding, remedy, statement }
            }
            Self::Other(finding) => ConnectorError::try_again(finding, "see the log of the runner that was asked"),
        }
    }
}

/// Fields of a connection by which one logs in, to the system or on the way there.
const LOGINS: [&str; 6] = ["password", "log_password", "certificate", "certificate_key", "through_password", "through_key"];

impl ConnectorError {
    /// Something a person must change.
    pub fn settings(field: Option<&'static str>, finding: impl Into<String>, remedy: impl Into<String>) -> Self {
        Self::Settings { field, finding: finding.into(), remedy: remedy.into(), statement: None }
    }

    /// The same with a statement to copy.
    #[must_use]
    pub fn with_statement(mut self, text: impl Into<String>) -> Self {
        if let Self::Settings { statement, .. } = &mut self {
            *statement = Some(text.into());
        }
        self
    }

    /// The same as what belongs to a field.
    #[must_use]
    pub fn at(mut self, at: &'static str) -> Self {
        if let Self::Settings { field, .. } | Self::TryAgain { field, .. } = &mut self {
            *field = Some(at);
        }
        self
    }

    /// A record that cannot be handled.
    pub fn bad_record(finding: impl Into<String>) -> Self {
        Self::BadRecord { finding: finding.into(), copied_line: None }
    }

    /// Something that may pass.
    pub fn try_again(finding: impl Into<String>, remedy: impl Into<String>) -> Self {
        Self::TryAgain { kind: Kind::Connection, field: None, finding: finding.into(), remedy: remedy.into() }
    }

    /// Something that may pass when others are out of the way.
    pub fn busy(finding: impl Into<String>, remedy: impl Into<String>) -> Self {
        Self::TryAgain { kind: Kind::Busy, field: None, finding: finding.into(), remedy: remedy.into() }
    }

    /// Something that may pass when the system has room again.
    pub fn full(finding: impl Into<String>, remedy: impl Into<String>) -> Self {
        Self::TryAgain { kind: Kind::Full, field: None, finding: finding.into(), remedy: remedy.into() }
    }

    /// The same as a check of a report that failed; `unreached` is the field at which it is told that the system is not reached.
    #[must_use]
    pub fn as_check(&self, name: &str, unreached: &str) -> Check {
        match self {
            Self::Settings { field, finding, remedy, statement } => {
                let check = Check::failed(name, field.unwrap_or("connection"), finding).remedy(remedy);
                match statement {
                    Some(statement) => check.statement(statement),
                    None => check,
                }
            }
            Self::TryAgain { field, finding, remedy, .. } => {
                Check::failed(name, field.unwrap_or(unreached), finding).remedy(remedy)
            }
            other => Check::failed(name, "connection", other.to_string()).remedy("see the log"),
        }
    }

    /// Which field it belongs to, if one.
    #[must_use]
    pub fn field(&self) -> Option<&'static str> {
        if let Self::Settings { field, .. } | Self::TryAgain { field, .. } = self { *field } else { None }
    }

    /// What helps against it.
    #[must_use]
    pub fn kind(&self) -> Kind {
        match self {
            Self::TryAgain { kind, .. } => *kind,
            Self::Settings { field: Some(field), .. } if LOGINS.contains(field) => Kind::Login,
            Self::Settings { .. } => Kind::Settings,
            Self::BadRecord { .. } => Kind::Record,
            Self::Fenced | Self::Later { .. } => Kind::Fenced,
            Self::Defect(_) => Kind::Defect,
        }
    }
}
