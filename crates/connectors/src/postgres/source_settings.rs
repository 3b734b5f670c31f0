//! What a source connector on PostgreSQL is asked for.

use std::time::Duration;

use gonvel_core::connector::{CapturedTable, InitialLoad};
use gonvel_core::naming::{ConnectorId, Epoch};
use gonvel_core::ports::DatabaseAddress;
use gonvel_core::table_patterns::TablePatterns;

use super::names;

/// What a source connector captures, and from where.
#[derive(Debug, Clone)]
pub struct SourceSettings {
    /// The connector, which names slot and publication.
    pub connector: ConnectorId,
    /// The lease by which the connector is run.
    pub epoch: Epoch,
    /// A later one, noted in the server, that is void: the log that gave it out was rolled back since.
    pub void: Option<Epoch>,
    /// The server.
    pub address: DatabaseAddress,
    /// The tables.
    pub tables: Vec<CapturedTable>,
    /// Tables that are captured because of their names: also those that the log still brings though they are gone.
    pub patterns: Option<TablePatterns>,
    /// The topic that tells changes of their columns, which no table's can be.
    pub schema_changes: Option<String>,
    /// How the rows that exist are copied.
    pub load: InitialLoad,
    /// Whether a change always brings the whole row, also values that the server did not send because they did not change;
    /// truncates are then not sent.
    pub whole_rows: bool,
    /// Whether values that the server left out because they did not change are fetched, since something is worked out from them.
    pub fetches_unsent: bool,
    /// Where it begins when it starts for the first time; none for now.
    pub start: Option<Beginning>,
    /// How long nothing may come, usually [`super::source::SILENCE`].
    pub silence: Duration,
}

/// Where a source connector begins.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Beginning {
    /// With the oldest change that a slot of this database still keeps.
    Earliest,
    /// With the first change committed at a time or later, in microseconds since 1970-01-01 UTC.
    Time(i64),
    /// After a position of the server's log.
    Position(u64),
    /// Where another connector stands.
    Connector(ConnectorId),
}

impl SourceSettings {
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
