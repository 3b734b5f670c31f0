//! A preflight's report: everything a connector needs, each check with its finding, its meaning and its remedy.

use serde::{Deserialize, Serialize};

/// How a check came out.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Outcome {
    /// As it should be.
    Passed,
    /// Works, with a cost.
    Warning,
    /// Must be mended before the connector can start.
    Failed,
}

/// One check. Its name is the only one of its kind within a report.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Check {
    /// What was checked.
    pub name: String,
    /// How it came out.
    pub outcome: Outcome,
    /// What was found.
    pub finding: String,
    /// What that means.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub meaning: Option<String>,
    /// What to do.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub remedy: Option<String>,
    /// The statement or setting to copy.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub statement: Option<String>,
    /// The field of the form it belongs to.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub field: Option<String>,
    /// Whether the connection's own login may run the statement, so that it can be done from here.
    #[serde(default)]
    pub can_be_done: bool,
}

impl Check {
    fn new(outcome: Outcome, name: impl Into<String>, finding: impl Into<String>) -> Self {
        let (name, finding) = (name.into(), finding.into());
        Self { name, outcome, finding, meaning: None, remedy: None, statement: None, field: None, can_be_done: false }
    }

    /// One that is as it should be.
    pub fn passed(name: impl Into<String>, finding: impl Into<String>) -> Self {
        Self::new(Outcome::Passed, name, finding)
    }

    /// One that works with a cost.
    pub fn warning(name: impl Into<String>, finding: impl Into<String>) -> Self {
        Self::new(Outcome::Warning, name, finding)
    }

    /// One that keeps the connector from starting; `field` is the part of the form it belongs to.
    pub fn failed(name: impl Into<String>, field: &str, finding: impl Into<String>) -> Self {
        Self { field: Some(field.into()), ..Self::new(Outcome::Failed, name, finding) }
    }

    /// Says what the finding means.
    #[must_use]
    pub fn means(mut self, meaning: impl Into<String>) -> Self {
        self.meaning = Some(meaning.into());
        self
    }

    /// Says what to do.
    #[must_use]
    pub fn remedy(mut self, remedy: impl Into<String>) -> Self {
        self.remedy = Some(remedy.into());
        self
    }

    /// Gives the statement or setting to copy.
    #[must_use]
    pub fn statement(mut self, statement: impl Into<String>) -> Self {
        self.statement = Some(statement.into());
        self
    }

    /// Says whether the connection's own login may run the statement.
    #[must_use]
    pub fn can_be_done(mut self, may: bool) -> Self {
        self.can_be_done = may && self.statement.is_some();
        self
    }
}

/// The finding of a topic whose records' columns are not known yet: it is looked at again when the first come.
pub const NO_ROWS_YET: &str = "the topic has no captured rows yet";

/// The name of the check that looks at a topic's records.
#[must_use]
pub fn records_of(topic: &str) -> String {
    format!("records of {topic}")
}

/// Checks in the order they were made.
pub type Report = Vec<Check>;

/// A report as it stays with its connector.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct KeptReport {
    /// When it was made, in microseconds since 1970-01-01 UTC.
    pub at_us: i64,
    /// How long it took, in milliseconds.
    pub took_ms: u64,
    /// The checks.
    pub checks: Report,
}

impl KeptReport {
    /// Whether the connector could start then.
    #[must_use]
    pub fn ready(&self) -> bool {
        may_start(&self.checks)
    }
}

/// Whether a connector with this report may start.
#[must_use]
pub fn may_start(report: &Report) -> bool {
    report.iter().all(|check| check.outcome != Outcome::Failed)
}
