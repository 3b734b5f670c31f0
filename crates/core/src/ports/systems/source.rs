//! A kind of system that sources read.

use std::collections::{BTreeMap, HashSet};

use async_trait::async_trait;
use serde::{Deserialize, Serialize};

use super::{Address, Captured, ConnectorError, SourcePosition};
use crate::change::ChangeBatch;
use crate::connector::{CapturedTable, InitialLoad, SourceDefinition};
use crate::loading::Snapshot;
use crate::naming::{ConnectorId, Epoch};
use crate::preflight::Report;
use crate::table::TableSchema;
use crate::table_patterns::TablePatterns;

/// What a source connector captures.
#[derive(Debug, Clone)]
pub struct SourceSettings {
    /// The connector, after which is named what it makes in its system.
    pub connector: ConnectorId,
    /// The lease by which the connector is run.
    pub epoch: Epoch,
    /// A later one, noted in the system, that is void: the log that gave it out was rolled back since.
    pub void: Option<Epoch>,
    /// The tables.
    pub tables: Vec<CapturedTable>,
    /// Tables that are captured because of their names: also those that the log still brings though they are gone.
    pub patterns: Option<TablePatterns>,
    /// The topic that tells changes of their columns, which no table's can be.
    pub schema_changes: Option<String>,
    /// How the rows that exist are copied.
    pub load: InitialLoad,
    /// Whether a change always brings the whole row, also values that the system did not send because they did not change;
    /// truncates are then not sent.
    pub whole_rows: bool,
    /// Whether values that the system left out because they did not change are fetched, since something is worked out from them.
    pub fetches_unsent: bool,
    /// Where it begins when it starts for the first time; none for now.
    pub start: Option<Beginning>,
}

/// Where a source connector begins.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Beginning {
    /// With the oldest change that the system still keeps.
    Earliest,
    /// With the first change committed at a time or later, in microseconds since 1970-01-01 UTC.
    Time(i64),
    /// After a position of the system's log, as the system writes it.
    Position(String),
    /// Where another connector stands.
    Connector(ConnectorId),
}

/// Which tables are captured right now, and what is to be said of those that a pattern covers and that are not captured.
#[derive(Debug, Clone, Default)]
pub struct Choice {
    /// The tables.
    pub tables: Vec<CapturedTable>,
    /// What is to be said.
    pub notes: Vec<String>,
    /// Of what was looked through, as it was then: the kind's own.
    pub mark: String,
}

/// How what a system sends differs from what the settings want.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Differences {
    /// Tables that are not sent and are there, and those that are others now under the names of captured ones, as `schema.table`.
    pub new: Vec<String>,
    /// Tables that are sent and not wanted any more, as `schema.table`.
    pub gone: Vec<String>,
    /// Tables that are wanted and are not there, as `schema.table`.
    pub missing: Vec<String>,
    /// Whether other kinds of changes are wanted.
    pub kinds: bool,
    /// The system's numbers of the tables that are sent and wanted, without those that are `new`; none where it has no such.
    pub numbers: BTreeMap<String, u32>,
}

/// What is to be taken in, and let go of.
#[derive(Debug, Clone, Copy)]
pub struct TakenIn<'t> {
    /// Tables whose changes are to come, as `schema.table`.
    pub new: &'t [String],
    /// Tables that are let go of.
    pub gone: &'t [String],
    /// Those of the new ones of which what was carried is void.
    pub void: &'t [String],
}

/// What a table's catalog says of columns that came and went: what comes later stands behind all that there ever were.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct ColumnsEver {
    /// How many columns it ever had.
    pub had: i16,
    /// How many of those are gone.
    pub gone: i64,
    /// How many of the first ones, as many as were asked for, are gone.
    pub gone_before: i64,
    /// Captured columns behind those, and whether the source may have filled each in its rows.
    pub came: Vec<(String, bool)>,
}

/// Where a source's place in its system's log is, as the system knows it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct SourcePlace {
    /// What the system keeps the place by, as people call it there.
    pub held_as: String,
    /// Whether the system still keeps the log for it; not if the place is gone, or lost its part of the log.
    pub kept: bool,
    /// Whether a session reads it.
    pub active: bool,
    /// Up to where the changes are in the topics for sure.
    pub confirmed: Option<String>,
    /// Bytes of log that the system keeps for it on its disk.
    pub kept_bytes: i64,
    /// The end of the log.
    pub end: String,
}

/// What a kind of system does for sources.
///
/// # Errors
/// [`ConnectorError`] of every method that may fail: if the system does not answer, or does not do as asked.
#[async_trait]
pub trait SourceKind: Send + Sync {
    /// Looks whether a definition can be used, beyond what is common to all kinds and what the kind declares. Nothing is asked of the system.
    ///
    /// # Errors
    /// [`ConnectorError::Settings`] with the field.
    fn check(&self, _source: &SourceDefinition) -> Result<(), ConnectorError> {
        Ok(())
    }

    /// Checks what a source connector needs.
    async fn preflight(&self, address: &Address, source: &SourceDefinition, connector: Option<ConnectorId>) -> Report;

    /// A stored position.
    fn position(&self, stored: &serde_json::Value) -> Result<Box<dyn SourcePosition>, ConnectorError>;

    /// The place that the system keeps for a source; none where it keeps none.
    async fn place(&self, address: &Address, connector: ConnectorId) -> Result<Option<SourcePlace>, ConnectorError>;

    /// Whether the system goes on from a position.
    ///
    /// # Errors
    /// [`ConnectorError::Settings`] that says what is gone, and what brings it back.
    async fn check_place(
        &self,
        address: &Address,
        connector: ConnectorId,
        from: &dyn SourcePosition,
    ) -> Result<(), ConnectorError>;

    /// Opens a session for a lane.
    async fn open(&self, address: &Address) -> Result<Box<dyn SourceSession>, ConnectorError>;

    /// Removes what a source left in the system.
    async fn clean_up(&self, address: &Address, connector: ConnectorId) -> Result<(), ConnectorError>;

    /// What stays in the system where that is not removed, each in a few words; nothing is asked of the system.
    fn remains(&self, connector: ConnectorId) -> Vec<String>;
}

/// What a lane of a source asks of its system beside what it captures.
///
/// # Errors
/// [`ConnectorError`] of every method: if the system does not answer, or does not do as asked.
#[async_trait]
pub trait SourceSession: Send + Sync {
    /// Which tables the source captures right now: those chosen one by one, and those found by their names.
    async fn choose(&self, source: &SourceDefinition) -> Result<Choice, ConnectorError>;

    /// Whether other tables would be chosen now, or others named. Where nothing is to be looked at, a mark tells it.
    async fn is_other(&self, choice: &mut Choice, source: &SourceDefinition) -> Result<bool, ConnectorError>;

    /// A table with the condition on the rows of its load as the system is to take it.
    async fn understood(&self, table: &CapturedTable) -> Result<CapturedTable, ConnectorError>;

    /// Makes in the system what the source needs, and gives the position to begin from. What an earlier, unfinished attempt made is
    /// made anew.
    ///
    /// # Errors
    /// [`ConnectorError::Later`] if a later holder of the connector's lease made it: it stays.
    async fn prepare(&self, settings: &SourceSettings) -> Result<Box<dyn SourcePosition>, ConnectorError>;

    /// How what the system sends differs from what is wanted.
    ///
    /// # Errors
    /// [`ConnectorError::Settings`] where a table may have been given another name: nothing of it must be lost.
    async fn differences(
        &self,
        settings: &SourceSettings,
        position: &dyn SourcePosition,
    ) -> Result<Differences, ConnectorError>;

    /// Refuses tables that cannot be captured.
    async fn refuse_hindered(&self, tables: &[&CapturedTable]) -> Result<(), ConnectorError>;

    /// Takes tables in and lets go of others. Rows of those that come in are loaded, if rows are. Gives what had ended by then, where
    /// rows are loaded. Carried out again, it comes to the same.
    ///
    /// # Errors
    /// As [`Self::prepare`].
    async fn take_in(
        &self,
        settings: &SourceSettings,
        position: &mut dyn SourcePosition,
        tables: TakenIn<'_>,
    ) -> Result<Option<Snapshot>, ConnectorError>;

    /// Notes in a position that tables are to be loaded again from their start. Nothing may be captured from the position yet. Where
    /// what was carried before is `void`, rows are loaded as well whose transaction was under way, or not yet visible; those may come
    /// twice, in order. Gives what had ended when it was asked for, where changes may come late.
    async fn load_again(
        &self,
        settings: &SourceSettings,
        position: &mut dyn SourcePosition,
        tables: &[String],
        void: bool,
    ) -> Result<Option<Snapshot>, ConnectorError>;

    /// The shape of a table's rows, as they are captured.
    async fn describe(&self, table: &CapturedTable) -> Result<TableSchema, ConnectorError>;

    /// Columns that the system may have filled in a table's rows when they were added.
    async fn filled(&self, table: &TableSchema) -> Result<HashSet<String>, ConnectorError>;

    /// The columns that tables ever had, for each after a number of columns that it had before; none of one that is not there.
    async fn columns_ever(&self, tables: &[(&CapturedTable, i16)]) -> Result<Vec<Option<ColumnsEver>>, ConnectorError>;

    /// Rows as they are now, by their key columns' values as the system writes them; those that are gone are left out.
    async fn rows_by_key(
        &self,
        table: &CapturedTable,
        keys: &[BTreeMap<String, String>],
    ) -> Result<ChangeBatch, ConnectorError>;

    /// Begins to capture from a position.
    ///
    /// # Errors
    /// [`ConnectorError::Settings`] if the system does not go on from there any more: what that means.
    async fn begin(
        &self,
        settings: &SourceSettings,
        position: &dyn SourcePosition,
    ) -> Result<Box<dyn Captures>, ConnectorError>;
}

/// A source that captures. Dropping it ends its session.
#[async_trait]
pub trait Captures: Send + Sync {
    /// The next batch; none when it has ended, after an error or the last one was given.
    ///
    /// Cancel safety: dropped while waiting, nothing is lost.
    async fn next(&mut self) -> Option<Result<Captured, ConnectorError>>;

    /// Says that everything up to a position is durable; only now may the system forget it.
    fn confirm(&self, position: &dyn SourcePosition);
}
