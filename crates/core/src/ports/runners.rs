//! Runners: who carries lanes, and which.

use std::time::Duration;

use async_trait::async_trait;
use uuid::Uuid;

use super::PortError;
use crate::connector::Wish;
use crate::naming::{ConnectorId, Epoch, RunnerName};
use crate::planning::Labels;

/// What a runner says of itself with every heartbeat.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Heartbeat {
    /// Its name.
    pub name: RunnerName,
    /// Tells this process from another one of the same name.
    pub instance: Uuid,
    /// What it has.
    pub labels: Labels,
    /// The weight it can carry.
    pub room: u32,
    /// The machine it runs on.
    pub host: String,
    /// The release of Gonvel it is.
    pub release: String,
}

/// What a runner learns by its heartbeat.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Beaten {
    /// It goes on.
    Alive,
    /// Another process has its name since: this one is to end.
    Replaced,
}

/// A runner as the fleet knows it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Runner {
    /// What it last said of itself.
    pub said: Heartbeat,
    /// When it started, in microseconds since 1970-01-01 UTC.
    pub started_us: i64,
    /// Its last heartbeat, in microseconds since 1970-01-01 UTC.
    pub beat_us: i64,
    /// Whether it is taken to be alive.
    pub alive: bool,
    /// Whether it is being emptied.
    pub draining: bool,
    /// The lanes that the plan has with it: their connectors, numbers and weights.
    pub lanes: Vec<(ConnectorId, i32, u32)>,
}

/// A lane that the plan has with a runner.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Assigned {
    /// Its connector.
    pub connector: ConnectorId,
    /// Its number.
    pub lane: i32,
    /// What is asked of the connector.
    pub wish: Wish,
    /// Changes when the lane is to start again.
    pub asked: i64,
    /// The version of the connector's configuration.
    pub version: i32,
    /// Changes when something is asked of the records that wait in quarantine.
    pub mending: i64,
    /// Whether other lanes of the connector are still held by someone.
    pub others_held: bool,
}

/// A lane that is held.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct HeldLane {
    /// Its connector.
    pub connector: ConnectorId,
    /// Its number.
    pub lane: i32,
    /// The lease.
    pub epoch: Epoch,
}

/// Where runners are known, and where lanes are shared out among them.
#[async_trait]
pub trait RunnerStore: Send + Sync {
    /// Registers a process as the runner of its name, alive for `ttl` from now; one that had the name before is replaced.
    ///
    /// # Errors
    /// [`PortError::TryAgain`].
    async fn join(&self, heartbeat: &Heartbeat, ttl: Duration) -> Result<(), PortError>;

    /// Says that a runner is alive for `ttl` from now.
    ///
    /// # Errors
    /// [`PortError::TryAgain`].
    async fn beat(&self, heartbeat: &Heartbeat, ttl: Duration) -> Result<Beaten, PortError>;

    /// The runner ends in good order: its lanes are free for others at once.
    ///
    /// # Errors
    /// [`PortError::TryAgain`].
    async fn leave(&self, name: &RunnerName, instance: Uuid) -> Result<(), PortError>;

    /// All runners by name, also those that are gone for less than a day.
    ///
    /// # Errors
    /// [`PortError::TryAgain`].
    async fn runners(&self) -> Result<Vec<Runner>, PortError>;

    /// Empties a runner, or lets it have lanes again.
    ///
    /// # Errors
    /// [`PortError::NotFound`].
    async fn drain(&self, name: &RunnerName, draining: bool) -> Result<(), PortError>;

    /// Forgets a runner that is not alive.
    ///
    /// # Errors
    /// [`PortError::NotFound`]; [`PortError::Refused`] while it is alive.
    async fn forget_runner(&self, name: &RunnerName) -> Result<(), PortError>;

    /// Shares all lanes out anew, by [`crate::planning::plan`], unless another process does so at this moment.
    ///
    /// # Errors
    /// [`PortError::TryAgain`].
    async fn share_out(&self) -> Result<(), PortError>;

    /// The lanes that the plan has with a runner.
    ///
    /// # Errors
    /// [`PortError::TryAgain`].
    async fn assigned(&self, name: &RunnerName) -> Result<Vec<Assigned>, PortError>;

    /// Holds leases longer; gives those that are no longer held.
    ///
    /// # Errors
    /// [`PortError::TryAgain`].
    async fn renew(&self, held: &[HeldLane], ttl: Duration) -> Result<Vec<HeldLane>, PortError>;
}
