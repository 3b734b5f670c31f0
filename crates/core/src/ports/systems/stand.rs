//! Where a partition stands in what a sink writes.

use serde::{Deserialize, Serialize};

use crate::change::KindCounts;
use crate::naming::Epoch;
use crate::trail::{Seen, Trail};

/// How far a partition is delivered.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
pub struct Delivered {
    /// The next offset to deliver.
    pub next: i64,
    /// What was delivered, by kind.
    pub counts: KindCounts,
    /// The newest record before it that was looked at, as far as is known.
    pub last: Option<Seen>,
}

/// Where a partition stands in a target, and the records by which the log is known that it came from.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Stand {
    /// How far it is delivered.
    pub delivered: Delivered,
    /// Records that were delivered.
    pub trail: Trail,
    /// The greatest term under which it was written.
    pub epoch: Epoch,
}
