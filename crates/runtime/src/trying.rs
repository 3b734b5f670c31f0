//! What a server may ask of references on a person's behalf: to try a shape before it runs.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use gonvel_core::ports::{FleetStore, PortError, SchemaStore, TopicLog};
use gonvel_core::shape::{LookedInto, Shapes};
use gonvel_core::table::TableSchema;
use gonvel_shape::reference::Reference;

use crate::failing::Failure;
use crate::references::{ReadFrom, References};
use crate::services::LANE_BYTES;

/// How long what was read is held: who changes a shape tries it again at once.
const HELD: Duration = Duration::from_secs(30);

/// The references of a shape that is tried.
pub struct Tried {
    /// Their rows, by topic, or by what a table's rows are kept by.
    pub rows: HashMap<String, Reference>,
    /// Tables that could not be read, and why.
    pub unread: Vec<(String, String)>,
    read: References,
    of: Vec<LookedInto>,
}

/// The references that were tried with last.
#[derive(Default)]
pub struct Held(Arc<Mutex<Option<(Instant, Tried)>>>);

fn port(failure: Failure) -> PortError {
    match failure {
        Failure::Port(error) => error,
        Failure::Connector(error) => PortError::Refused(error.to_string()),
        Failure::NewFields(_) => PortError::Refused(failure.message()),
    }
}

impl Tried {
    /// Reads the references that a shape looks into, as far as they are there.
    ///
    /// # Errors
    /// [`PortError`] if the topic log does not answer.
    pub async fn read(
        store: Arc<impl TopicLog + SchemaStore + FleetStore + 'static>,
        shapes: &Shapes,
    ) -> Result<Self, PortError> {
        let mut rows = HashMap::new();
        let from = ReadFrom { log: store.clone(), schemas: store.clone(), fleet: store, most_bytes: LANE_BYTES };
        let read = References::read_those_there(from, shapes, &mut rows).await.map_err(port)?;
        Ok(Self { rows, unread: read.unread(), read, of: shapes.references() })
    }
}

impl Held {
    /// Those that are held if they are the shape's, brought up to date; else they are read.
    ///
    /// # Errors
    /// [`PortError`] if the topic log does not answer.
    pub async fn take(
        &self,
        store: Arc<impl TopicLog + SchemaStore + FleetStore + 'static>,
        shapes: &Shapes,
    ) -> Result<Tried, PortError> {
        let of = shapes.references();
        // one that was not there when it was read may be there now
        let whole = |held: &mut (Instant, Tried)| held.1.of == of && held.1.rows.len() == of.len();
        let held = self.0.lock().unwrap_or_else(PoisonError::into_inner).take_if(whole);
        let Some((_, mut tried)) = held.filter(|(since, _)| since.elapsed() < HELD) else {
            return Tried::read(store, shapes).await;
        };
        tried.read.catch_up(shapes, &mut tried.rows).await.map_err(port)?;
        Ok(tried)
    }

    /// Holds them for the next time, and not longer than that is likely to come.
    pub fn give_back(&self, tried: Tried) {
        if tried.of.is_empty() {
            return;
        }
        let now = Instant::now();
        *self.0.lock().unwrap_or_else(PoisonError::into_inner) = Some((now, tried));
        let held = self.0.clone();
        tokio::spawn(async move {
            tokio::time::sleep(HELD).await;
            held.lock().unwrap_or_else(PoisonError::into_inner).take_if(|(since, _)| *since == now);
        });
    }
}

/// The tables of references as they are, for working shapes out.
#[must_use]
pub fn tables(references: &HashMap<String, Reference>) -> HashMap<String, Arc<TableSchema>> {
    crate::references::tables(references)
}
