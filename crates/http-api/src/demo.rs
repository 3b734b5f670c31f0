//! The demo's workload.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// The day at the packhouse.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Workload {
    /// Whether it runs.
    pub running: bool,
    /// Transactions per second asked for.
    pub rate: u32,
    /// Transactions done since it was switched on.
    pub done: u64,
}

/// Switches the day on or off.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct WorkloadRequest {
    /// Whether it should run.
    pub running: bool,
    /// Transactions per second, 1 to 20000.
    pub rate: u32,
}
