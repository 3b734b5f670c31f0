//! What a lane is to carry, and until when.

use gonvel_core::connector::{ValidConnector, Wish};
use gonvel_core::naming::ConnectorId;
use gonvel_core::ports::{HeldLane, Lease};
use tokio::sync::watch;

use crate::services::Services;
use crate::status::Board;

/// The lane whose position is a source's.
pub(crate) const ONLY: i32 = 0;

/// Why a lane is to end.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Ending {
    /// It is not.
    None,
    /// A person holds the connector.
    Pause,
    /// It starts again under another configuration, or is removed.
    Restart,
    /// The lane is stopped, or goes to another runner.
    Away,
    /// The runner ends.
    Shutdown,
}

/// What a lane is to carry.
#[derive(Debug, Clone)]
pub(crate) struct Assignment {
    /// The checked connector.
    pub(crate) connector: ValidConnector,
    /// The lane's number.
    pub(crate) lane: i32,
    /// What is asked of it.
    pub(crate) wish: Wish,
    /// The version of its configuration.
    pub(crate) version: i32,
}

/// What the work of a lane gets.
pub(crate) struct Work<'a> {
    pub(crate) services: &'a Services,
    pub(crate) assignment: &'a Assignment,
    pub(crate) lease: Lease,
    pub(crate) board: &'a Board,
    pub(crate) stopped: watch::Receiver<Ending>,
    /// Changes when something is asked of the records that wait in quarantine.
    pub(crate) mending: watch::Receiver<i64>,
}

impl Work<'_> {
    pub(crate) fn connector(&self) -> ConnectorId {
        self.assignment.connector.id()
    }

    pub(crate) fn lane(&self) -> i32 {
        self.assignment.lane
    }

    pub(crate) fn held(&self) -> HeldLane {
        HeldLane { connector: self.connector(), lane: self.lane(), epoch: self.lease.epoch }
    }
}

/// Resolves when the lane is asked to end.
pub(crate) async fn asked_to_end(stopped: &mut watch::Receiver<Ending>) -> Ending {
    match stopped.wait_for(|e| *e != Ending::None).await {
        Ok(ending) => *ending,
        Err(_) => Ending::Shutdown,
    }
}
