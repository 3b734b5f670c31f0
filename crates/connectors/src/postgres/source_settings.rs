//! What a source connector on PostgreSQL is asked for.

use std::ops::{Deref, DerefMut};
use std::time::Duration;

use gonvel_core::ports::systems::SourceSettings;

use super::address::DatabaseAddress;
use super::names;

/// How long nothing may come before the server is looked after. It hears from us four times in that, and is to answer.
pub const SILENCE: Duration = Duration::from_secs(10);

/// What a source connector captures, and from which server.
#[derive(Debug, Clone)]
pub struct PgSourceSettings {
    /// The server.
    pub address: DatabaseAddress,
    /// How long nothing may come, usually [`SILENCE`].
    pub silence: Duration,
    /// What it captures.
    pub settings: SourceSettings,
}

impl Deref for PgSourceSettings {
    type Target = SourceSettings;

    fn deref(&self) -> &SourceSettings {
        &self.settings
    }
}

impl DerefMut for PgSourceSettings {
    fn deref_mut(&mut self) -> &mut SourceSettings {
        &mut self.settings
    }
}

impl PgSourceSettings {
    /// Whether a table is captured because of its name.
    pub(super) fn by_name(&self, schema: &str, table: &str) -> bool {
        self.patterns.as_ref().is_some_and(|patterns| patterns.covers(schema, table))
    }

    pub(super) fn slot(&self) -> String {
        names::slot(self.connector)
    }

    pub(super) fn publication(&self) -> String {
        names::publication(self.connector)
    }
}
