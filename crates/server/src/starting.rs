//! A server's state, with what looks after it for as long as it is there.

use std::sync::Arc;

use gonvel_storage::Database;
use gonvel_tending::tend;
use tokio::sync::Notify;

use crate::limits::LARGEST_IMPORT;
use crate::state::{DemoWorkload, ServerState};

impl ServerState {
    /// The state of a server on this database. `nudge` wakes the runner after a wish changed.
    #[must_use]
    pub fn new(database: Database, nudge: Arc<Notify>, demo: Option<Arc<dyn DemoWorkload>>) -> Arc<Self> {
        Self::importing(database, nudge, demo, LARGEST_IMPORT)
    }

    /// The same, with files of so many bytes at most that may be imported.
    #[must_use]
    pub fn importing(
        database: Database,
        nudge: Arc<Notify>,
        demo: Option<Arc<dyn DemoWorkload>>,
        largest_import: u64,
    ) -> Arc<Self> {
        let state = Self::alone(database, nudge, demo, largest_import);
        let of = Arc::downgrade(&state);
        let [watched, heard, rechecked, foreseen, settled] = [of.clone(), of.clone(), of.clone(), of.clone(), of];
        tokio::spawn(tend("events", move || crate::events::look(watched.clone())));
        tokio::spawn(tend("operations", move || crate::operations::settling::look(settled.clone())));
        tokio::spawn(tend("producers", move || crate::producers::note(heard.clone())));
        tokio::spawn(tend("preflights", move || crate::rechecking::look(rechecked.clone())));
        tokio::spawn(tend("what is soon forgotten", move || crate::foreseeing::look(foreseen.clone())));
        state
    }
}
