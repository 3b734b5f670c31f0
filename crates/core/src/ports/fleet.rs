//! Where the runtime finds its work and keeps its leases.

use std::collections::BTreeMap;
use std::time::Duration;

use async_trait::async_trait;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::{Address, HeldLane, PortError};
use crate::change::KindCounts;
use crate::connector::{ExistingRows, State, ValidConnector};
use crate::naming::{ConnectorId, Epoch};
use crate::secret::Secret;

/// A lease on a lane.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Lease {
    /// Its term.
    pub epoch: Epoch,
    /// The position where the lane stands; null at the first start.
    pub position: serde_json::Value,
    /// The ground it was taken on; see [`super::TopicLog::ground`].
    pub ground: u64,
}

/// How a lane is doing, for people.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct LaneStatus {
    /// Its state.
    pub state: State,
    /// Since when, in microseconds since 1970-01-01 UTC.
    pub since_us: i64,
    /// Why, if something is wrong: finding, meaning and remedy.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub reason: Option<String>,
    /// When it tries again, in microseconds since 1970-01-01 UTC.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub retry_at_us: Option<i64>,
    /// Changes per second over the last seconds.
    #[serde(default)]
    pub rate_per_s: f64,
    /// Time from the commit in the source to done here of the latest change, in milliseconds.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub latency_ms: Option<f64>,
    /// Records not yet handled, where known.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub lag_records: Option<i64>,
    /// Age of the oldest change not yet handled, in milliseconds; 0 when there is none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub lag_ms: Option<f64>,
    /// Counts by table and kind.
    #[serde(default)]
    pub tables: BTreeMap<String, TableProgress>,
    /// The number of the newest request to load tables again that it has taken up; 0 if there is none.
    #[serde(default)]
    pub reloaded: i64,
    /// The position as people read it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub position: Option<String>,
    /// What people should know of it though it runs: tables it does not capture, columns a target lacks.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub notes: Vec<String>,
}

/// A table's progress within a lane.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
pub struct TableProgress {
    /// Counts by kind.
    pub counts: KindCounts,
    /// Rows the load expects; none when it is done or there is none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub load_total: Option<u64>,
    /// Rows the load has read; none when it is done or there is none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub load_done: Option<u64>,
    /// The other end: a topic for a source, a table for a sink.
    #[serde(default)]
    pub other_end: String,
}

impl LaneStatus {
    /// A lane that has just entered a state.
    #[must_use]
    pub fn entering(state: State, now_us: i64) -> Self {
        Self {
            state,
            since_us: now_us,
            reason: None,
            retry_at_us: None,
            rate_per_s: 0.0,
            latency_ms: None,
            lag_records: None,
            lag_ms: None,
            tables: BTreeMap::new(),
            reloaded: 0,
            position: None,
            notes: Vec::new(),
        }
    }
}

/// How much a state calls for attention: the greatest of a connector's lanes is the connector's.
fn gravity(state: State) -> u8 {
    match state {
        State::Draft => 0,
        State::Stopped => 1,
        State::Paused => 2,
        State::Following => 3,
        State::Loading => 4,
        State::Starting => 5,
        State::Retrying => 6,
        State::Halted => 7,
    }
}

impl LaneStatus {
    /// What several lanes of one connector say as one; none if there is none.
    #[must_use]
    pub fn together<'a>(lanes: impl IntoIterator<Item = &'a Self>) -> Option<Self> {
        lanes.into_iter().cloned().reduce(Self::beside)
    }

    fn beside(self, other: Self) -> Self {
        let (mut whole, other) = if gravity(other.state) > gravity(self.state) { (other, self) } else { (self, other) };
        if whole.state == other.state {
            whole.since_us = whole.since_us.min(other.since_us);
            whole.retry_at_us = whole.retry_at_us.into_iter().chain(other.retry_at_us).min();
            whole.reason = whole.reason.or(other.reason);
        }
        whole.rate_per_s += other.rate_per_s;
        let most = |a: Option<f64>, b: Option<f64>| a.into_iter().chain(b).reduce(f64::max);
        whole.latency_ms = most(whole.latency_ms, other.latency_ms);
        whole.lag_ms = most(whole.lag_ms, other.lag_ms);
        whole.lag_records = whole.lag_records.into_iter().chain(other.lag_records).reduce(|a, b| a + b);
        whole.position = whole.position.or(other.position);
        whole.reloaded = whole.reloaded.max(other.reloaded);
        for (name, progress) in other.tables {
            let table = whole.tables.entry(name).or_default();
            table.counts = table.counts.with(progress.counts);
            table.load_total = table.load_total.into_iter().chain(progress.load_total).reduce(|a, b| a + b);
            table.load_done = table.load_done.into_iter().chain(progress.load_done).reduce(|a, b| a + b);
            if table.other_end.is_empty() {
                table.other_end = progress.other_end;
            }
        }
        let more: Vec<String> = other.notes.into_iter().filter(|note| !whole.notes.contains(note)).collect();
        whole.notes.extend(more);
        whole
    }
}

/// How grave a line of a connector's log is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Level {
    /// What it does.
    Info,
    /// What should be looked at.
    Warning,
    /// What kept it from working.
    Error,
}

impl Level {
    /// The word for it.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Info => "info",
            Self::Warning => "warning",
            Self::Error => "error",
        }
    }
}

/// A line of a connector's log. It never holds a secret.
#[derive(Debug, Clone, PartialEq)]
pub struct Line {
    /// The lane that says it.
    pub lane: i32,
    /// When, in microseconds since 1970-01-01 UTC.
    pub at_us: i64,
    /// How grave it is.
    pub level: Level,
    /// What happened.
    pub says: String,
    /// What it is about, by name.
    pub facts: BTreeMap<String, serde_json::Value>,
}

/// Something that was done with a connector.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Deed<'a> {
    /// The connector.
    pub connector: ConnectorId,
    /// Who did it; empty if it is not known.
    pub who: &'a str,
    /// What was done, in a word or two.
    pub what: &'a str,
    /// What else is to be said.
    pub detail: Option<&'a str>,
}

/// Whether sessions are encrypted.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum TlsMode {
    /// Never.
    Off,
    /// If the server offers it.
    #[default]
    Prefer,
    /// Always, with whoever answers.
    Require,
    /// Always, and only with a server whose certificate is signed by a trusted one and has its name.
    Verify,
}

impl TlsMode {
    /// The word for it.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Off => "off",
            Self::Prefer => "prefer",
            Self::Require => "require",
            Self::Verify => "verify",
        }
    }
}

/// A request to load tables of a source again from their start.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Reload {
    /// Its number; later ones have greater numbers.
    pub number: i64,
    /// The tables, as `schema.table`.
    pub tables: Vec<String>,
    /// What becomes of the rows that are in their topics.
    pub existing_rows: ExistingRows,
}

/// Where the runtime finds its work and keeps its leases.
#[async_trait]
pub trait FleetStore: Send + Sync {
    /// The address behind a connection.
    ///
    /// # Errors
    /// [`PortError::NotFound`].
    async fn address(&self, connection: uuid::Uuid) -> Result<Address, PortError>;

    /// The secret that keyed hashes and tokens are made with: the same on every runner of an installation.
    fn mask_secret(&self) -> Secret<Vec<u8>>;

    /// The functions of one's own that expressions may call.
    ///
    /// # Errors
    /// [`PortError::TryAgain`].
    async fn own_functions(&self) -> Result<Vec<crate::own_function::OwnFunction>, PortError>;

    /// Tables of a source that were asked to be loaded again after a request, each request with its number, in order.
    ///
    /// # Errors
    /// [`PortError::TryAgain`].
    async fn reloads(&self, connector: ConnectorId, after: i64) -> Result<Vec<Reload>, PortError>;

    /// The source connector that writes a topic; none if there is none, or none any more.
    ///
    /// # Errors
    /// [`PortError::TryAgain`].
    async fn source_of(&self, topic: &str) -> Result<Option<ConnectorId>, PortError>;

    /// Where a connector's lane stands, in the form of the connector's kind; null if it never ran, none if it is gone.
    ///
    /// # Errors
    /// [`PortError::TryAgain`].
    async fn position(&self, connector: ConnectorId, lane: i32) -> Result<Option<serde_json::Value>, PortError>;

    /// A connector, if it is there.
    ///
    /// # Errors
    /// [`PortError::TryAgain`].
    async fn connector(&self, connector: ConnectorId) -> Result<Option<ValidConnector>, PortError>;

    /// Takes a lane's lease if it is free, expired or this runner's own; each success has a greater epoch.
    ///
    /// # Errors
    /// [`PortError::NotFound`] if the connector is gone.
    async fn acquire(
        &self,
        connector: ConnectorId,
        lane: i32,
        runner: &str,
        ttl: Duration,
    ) -> Result<Option<Lease>, PortError>;

    /// The greatest term of all leases that were ever given.
    ///
    /// # Errors
    /// [`PortError::TryAgain`].
    async fn latest_term(&self) -> Result<Epoch, PortError>;

    /// Gives a lease back; nothing happens if it is no longer held.
    ///
    /// # Errors
    /// [`PortError::TryAgain`].
    async fn release(&self, connector: ConnectorId, lane: i32, epoch: Epoch) -> Result<(), PortError>;

    /// Notes how a lane is doing; nothing happens if the lease is no longer held.
    ///
    /// # Errors
    /// [`PortError::TryAgain`].
    async fn save_status(
        &self,
        connector: ConnectorId,
        lane: i32,
        epoch: Epoch,
        status: &LaneStatus,
    ) -> Result<(), PortError>;

    /// Adds lines to a connector's log; nothing happens if the lease is no longer held.
    ///
    /// # Errors
    /// [`PortError::TryAgain`].
    async fn save_lines(&self, held: HeldLane, lines: &[Line]) -> Result<(), PortError>;

    /// Notes what was done with a connector, in its history.
    ///
    /// # Errors
    /// [`PortError::TryAgain`].
    async fn note(&self, deed: Deed<'_>) -> Result<(), PortError>;

    /// Notes in a connector's history that it passed over records which were forgotten before it delivered them, and counts them.
    ///
    /// # Errors
    /// [`PortError::TryAgain`].
    async fn note_passed_over(&self, deed: Deed<'_>, records: i64) -> Result<(), PortError>;

    /// Makes a checked definition a connector's next version, if it still has the version given; its lanes start anew with it. `detail`
    /// stands in its history.
    ///
    /// # Errors
    /// [`PortError::Changed`] if it has another version by now, or is being deleted.
    async fn change(&self, connector: &ValidConnector, version: i32, detail: &str) -> Result<(), PortError>;

    /// Removes a connector whose traces outside are gone.
    ///
    /// # Errors
    /// [`PortError::TryAgain`].
    async fn remove_connector(&self, connector: ConnectorId) -> Result<(), PortError>;

    /// Whether a connector that is deleted leaves in its system what it left there, since that system is gone for good.
    ///
    /// # Errors
    /// [`PortError::TryAgain`].
    async fn leaves_remains(&self, connector: ConnectorId) -> Result<bool, PortError>;
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lanes_together_are_as_grave_as_the_gravest_and_add_up() {
        let lane = |state: State, rate_per_s: f64, lag: Option<i64>, inserts: u64| {
            let mut status = LaneStatus { rate_per_s, lag_records: lag, ..LaneStatus::entering(state, 5) };
            let counts = KindCounts { insert: inserts, ..KindCounts::default() };
            let progress = TableProgress { counts, other_end: "public.bins".into(), ..TableProgress::default() };
            status.tables.insert("packhouse.bins".into(), progress);
            status.notes = vec!["a column is missing".into()];
            status
        };
        let mut halted = lane(State::Halted, 0.0, Some(90), 1);
        halted.reason = Some("a right is missing".into());
        let lanes = [lane(State::Following, 2.5, Some(4), 10), halted, lane(State::Following, 1.5, None, 100)];
        let together = LaneStatus::together(&lanes).unwrap();
        assert_eq!((together.state, together.reason.as_deref()), (State::Halted, Some("a right is missing")));
        assert_eq!((together.rate_per_s, together.lag_records), (4.0, Some(94)));
        assert_eq!(together.tables["packhouse.bins"].counts.insert, 111);
        assert_eq!(together.notes.len(), 1, "one note of all lanes is told once");
        // whichever comes first
        let other = LaneStatus::together(lanes.iter().rev()).unwrap();
        assert_eq!((other.state, other.tables, other.lag_records), (together.state, together.tables, together.lag_records));
        assert!(LaneStatus::together([]).is_none());
    }
}
