//! What lanes work with.

use std::sync::Arc;

use gonvel_core::naming::RunnerName;
use gonvel_core::planning::Labels;
use gonvel_core::ports::{ErrandStore, FleetStore, QuarantineStore, RunnerStore, SchemaStore, TopicLog};

use crate::handed_on::HandedOn;

/// Who a runner is.
#[derive(Debug, Clone)]
pub struct RunnerSettings {
    /// Its name. A runner started again under the same name takes its lanes over at once.
    pub name: RunnerName,
    /// What it has: connectors may ask for it.
    pub labels: Labels,
    /// The weight of lanes it can carry.
    pub room: u32,
    /// Bytes that a lane may hold of what it looks into, and as many of rows that it carries again and of keys that wait in quarantine.
    pub lane_bytes: usize,
}

/// [`RunnerSettings::lane_bytes`] where nothing is said.
pub const LANE_BYTES: usize = 1 << 30;

/// What lanes work with.
#[derive(Clone)]
pub struct Services {
    /// The topic log.
    pub log: Arc<dyn TopicLog>,
    /// Connectors and the leases of their lanes.
    pub fleet: Arc<dyn FleetStore>,
    /// Runners, and the plan that shares lanes out among them.
    pub runners: Arc<dyn RunnerStore>,
    /// What servers ask of systems that are reached from where runners are.
    pub errands: Arc<dyn ErrandStore>,
    /// Registered schemas.
    pub schemas: Arc<dyn SchemaStore>,
    /// Where records wait that could not be handled.
    pub quarantine: Arc<dyn QuarantineStore>,
    /// This runner.
    pub runner: RunnerSettings,
    /// What lanes of this process append and others of them read.
    pub(crate) handed: HandedOn,
}

impl Services {
    /// All of them from one store that is everything.
    pub fn of<S>(store: &Arc<S>, runner: RunnerSettings) -> Self
    where
        S: TopicLog + FleetStore + RunnerStore + ErrandStore + SchemaStore + QuarantineStore + 'static,
    {
        Self {
            log: store.clone(),
            fleet: store.clone(),
            runners: store.clone(),
            errands: store.clone(),
            schemas: store.clone(),
            quarantine: store.clone(),
            runner,
            handed: HandedOn::default(),
        }
    }
}
