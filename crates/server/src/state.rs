//! What requests share.

use std::collections::HashMap;
use std::sync::atomic::AtomicI32;
use std::sync::{Arc, Mutex};
use std::time::Instant;

use async_trait::async_trait;
use gonvel_core::naming::{Offset, SchemaId, TopicName, TopicPartition};
use gonvel_core::ports::{Errands, PortError};
use gonvel_core::schemas::values::ValueSchema;
use gonvel_http_api::SoonForgotten;
use gonvel_runtime::trying::Held;
use gonvel_shape::tools::MaskKey;
use gonvel_storage::Database;
use metrics_exporter_prometheus::{PrometheusBuilder, PrometheusHandle};
use tokio::sync::Notify;

use crate::events::watched::Events;
use crate::heard::Heard;
use crate::limits::Limits;
use crate::reached::Reached;
use crate::schemas::bound::Fitting;

/// The demo's workload, which another server has not.
#[async_trait]
pub trait DemoWorkload: Send + Sync {
    /// Switches it to a rate in transactions per second, or off.
    ///
    /// # Errors
    /// What the system it works on said.
    async fn switch(&self, rate: Option<u32>) -> Result<(), String>;

    /// The rate if it runs, and transactions done since it was switched on.
    async fn now(&self) -> (Option<u32>, u64);
}

/// What requests share.
pub struct ServerState {
    pub(crate) database: Database,
    pub(crate) nudge: Arc<Notify>,
    pub(crate) demo: Option<Arc<dyn DemoWorkload>>,
    /// What whoever watches is told.
    pub(crate) events: Events,
    pub(crate) metrics: PrometheusHandle,
    /// The secret of keyed hashes in trials, thrown away with the process.
    pub(crate) trial_key: MaskKey,
    pub(crate) limits: Limits,
    /// Counts requests whose records have no key: each goes to the next partition.
    pub(crate) turn: AtomicI32,
    /// What applications appended since that was last noted.
    pub(crate) heard: Heard,
    /// What the shape that was tried last looks into.
    pub(crate) references: Held,
    /// What was found of what is soon forgotten.
    pub(crate) soon_forgotten: Mutex<Arc<Vec<SoonForgotten>>>,
    schemas: Mutex<HashMap<SchemaId, Arc<ValueSchema>>>,
    /// What topics' keys and values are bound to, and since when that is known.
    pub(crate) fittings: Mutex<HashMap<TopicName, (Instant, Arc<Fitting>)>>,
    /// Times of records that readers stand at, one for each partition and offset.
    times: Mutex<HashMap<(TopicPartition, Offset), i64>>,
}

/// Times remembered before all are forgotten.
const MOST_TIMES: usize = 50_000;

impl ServerState {
    /// Systems, wherever they are reached from.
    pub(crate) fn reached(&self) -> Box<dyn Errands> {
        Box::new(Reached(self.database.clone()))
    }

    /// The state alone, without what looks after it: see [`Self::new`].
    pub(crate) fn alone(
        database: Database,
        nudge: Arc<Notify>,
        demo: Option<Arc<dyn DemoWorkload>>,
        largest_import: u64,
    ) -> Arc<Self> {
        let recorder = PrometheusBuilder::new().build_recorder();
        let metrics = recorder.handle();
        // a second server in one process (tests) keeps the first one's recorder
        let _ = metrics::set_global_recorder(recorder);
        Arc::new(Self {
            database,
            nudge,
            demo,
            events: Events::default(),
            metrics,
            trial_key: MaskKey::of(&[*uuid::Uuid::new_v4().as_bytes(), *uuid::Uuid::new_v4().as_bytes()].concat()),
            limits: Limits::new(largest_import),
            turn: AtomicI32::new(0),
            heard: Heard::default(),
            references: Held::default(),
            soon_forgotten: Mutex::default(),
            schemas: Mutex::default(),
            fittings: Mutex::default(),
            times: Mutex::default(),
        })
    }

    /// The time of the record at an offset, in microseconds, if it was noted.
    pub(crate) fn time_at(&self, at: TopicPartition, offset: Offset) -> Option<i64> {
        self.times.lock().ok()?.get(&(at, offset)).copied()
    }

    pub(crate) fn note_time_at(&self, at: TopicPartition, offset: Offset, time_us: i64) {
        if let Ok(mut times) = self.times.lock() {
            if times.len() >= MOST_TIMES {
                times.clear();
            }
            times.insert((at, offset), time_us);
        }
    }

    /// A parsed schema, read once.
    pub(crate) async fn schema(&self, id: SchemaId) -> Result<Option<Arc<ValueSchema>>, PortError> {
        if let Some(schema) = self.schemas.lock().ok().and_then(|s| s.get(&id).cloned()) {
            return Ok(Some(schema));
        }
        let (language, text) = match self.database.schema_version(id).await {
            Ok(found) => found,
            Err(PortError::NotFound { .. }) => return Ok(None),
            Err(error) => return Err(error),
        };
        let Ok(schema) = ValueSchema::new(language, &text) else { return Ok(None) };
        let schema = Arc::new(schema);
        if let Ok(mut schemas) = self.schemas.lock() {
            schemas.insert(id, schema.clone());
        }
        Ok(Some(schema))
    }
}
