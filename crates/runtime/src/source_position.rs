//! Where a source's lane stands, as it is stored and as it is shown.

use std::collections::BTreeMap;

use gonvel_connectors::kinds;
use gonvel_core::change::KindCounts;
use gonvel_core::connector::{CapturedTable, Definition, ExistingRows, State};
use gonvel_core::naming::ConnectorId;
use gonvel_core::ports::systems::{ConnectorError, SourceKind, SourcePosition};
use gonvel_core::ports::{Address, LaneProgress, TableProgress};
use serde::{Deserialize, Serialize};

use crate::before::{Before, End};
use crate::columns_known::Marks;
use crate::failing::Failure;
use crate::services::Services;
use crate::status::Board;
use crate::work::{Assignment, ONLY, Work};

/// What is stored as the lane's position.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub(crate) struct Position<S = Box<dyn SourcePosition>> {
    /// Where it stands in its system.
    pub(crate) source: S,
    #[serde(default)]
    pub(crate) counts: BTreeMap<String, KindCounts>,
    /// The last request to load tables again that was taken up.
    #[serde(default)]
    pub(crate) reloaded: i64,
    /// Which columns tables had when a row of theirs was last carried.
    #[serde(default, skip_serializing_if = "Marks::is_empty")]
    pub(crate) columns: Marks,
    /// Tables whose rows from before a change of their columns are to be loaded again by the next session.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub(crate) load_again: Vec<String>,
    /// Tables that are being taken in: published perhaps, not loaded yet.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub(crate) coming: Vec<String>,
    /// Tables whose rows that are gone are looked for once they are loaded, with where their topics ended before.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub(crate) comparing: BTreeMap<String, Vec<End>>,
    /// What was before those loads; beside the ends, which versions before this know in that form.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub(crate) before: BTreeMap<String, Before>,
    /// Numbers of rows of the quarantine that were appended, and are perhaps not noted there yet.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub(crate) retried: Vec<i64>,
}

impl Position {
    /// Where a source begins, or begins anew.
    pub(crate) fn first(source: Box<dyn SourcePosition>, counts: BTreeMap<String, KindCounts>, reloaded: i64) -> Self {
        Self {
            source,
            counts,
            reloaded,
            columns: Marks::new(),
            load_again: Vec::new(),
            coming: Vec::new(),
            comparing: BTreeMap::new(),
            before: BTreeMap::new(),
            retried: Vec::new(),
        }
    }

    /// A table that is loaded, and whose rows that are gone are to be looked for.
    pub(crate) fn to_compare(&self) -> Option<&String> {
        self.comparing.keys().find(|name| self.source.load_of(name).is_none())
    }
}

/// What is stored instead of a position when a source is to begin anew.
#[derive(Debug, Default, Deserialize)]
pub(crate) struct Anew {
    #[serde(default)]
    pub(crate) anew: bool,
    #[serde(default)]
    existing_rows: ExistingRows,
    /// As versions before wrote it.
    #[serde(default)]
    empty_first: bool,
    #[serde(default)]
    pub(crate) counts: BTreeMap<String, KindCounts>,
    #[serde(default)]
    pub(crate) reloaded: i64,
}

impl Anew {
    /// What becomes of the rows that are in its topics.
    pub(crate) fn existing_rows(&self) -> ExistingRows {
        if self.empty_first { ExistingRows::Empty } else { self.existing_rows }
    }
}

fn stored(position: &Position) -> Result<serde_json::Value, Failure> {
    serde_json::to_value(position).map_err(|e| ConnectorError::Defect(e.to_string()).into())
}

pub(crate) fn show(board: &Board, tables: &[CapturedTable], position: &Position) {
    let progress = tables.iter().map(|table| {
        let name = table.qualified();
        let counts = position.counts.get(&name).copied().unwrap_or_default();
        let (load_done, load_total) = position.source.load_of(&name).unzip();
        (name, TableProgress { counts, load_total, load_done, other_end: table.topic.clone() })
    });
    let progress = progress.collect();
    board.write(|status| {
        status.tables = progress;
        status.reloaded = position.reloaded;
        status.position = Some(position.source.shown());
    });
}

/// Shows a stored position while the lane does not run.
pub(crate) async fn show_position(
    services: &Services,
    assignment: &Assignment,
    position: &serde_json::Value,
    board: &Board,
) {
    let Definition::Source(source) = assignment.connector.definition() else { return };
    // a kind that is not known any more has nothing to show
    let Ok(address) = services.fleet.address(source.connection).await else { return };
    if let Ok(position) = kinds::source(&address).and_then(|kind| read_stored(kind, position)) {
        show(board, &source.tables, &position);
    }
}

/// Up to which position of its log a source's stored position says that every transaction is in the topics.
pub(crate) fn complete_to(kind: &dyn SourceKind, position: &serde_json::Value) -> Result<u64, Failure> {
    if position.is_null() {
        return Ok(0);
    }
    Ok(read_stored(kind, position)?.source.complete_to())
}

/// Whether a source's slot goes on from its stored position.
pub(crate) async fn check_stored(
    address: &Address,
    connector: ConnectorId,
    position: &serde_json::Value,
) -> Result<(), ConnectorError> {
    let begun = position.is_object() && position.get("anew").is_none();
    if begun {
        let kind = kinds::source(address)?;
        kind.check_place(address, connector, &*read_stored(kind, position)?.source).await?;
    }
    Ok(())
}

pub(crate) fn read_stored(kind: &dyn SourceKind, position: &serde_json::Value) -> Result<Position, ConnectorError> {
    let unreadable = |e| ConnectorError::Defect(format!("the stored position cannot be read: {e}"));
    let stored: Position<serde_json::Value> = serde_json::from_value(position.clone()).map_err(unreadable)?;
    Ok(Position {
        source: kind.position(&stored.source)?,
        counts: stored.counts,
        reloaded: stored.reloaded,
        columns: stored.columns,
        load_again: stored.load_again,
        coming: stored.coming,
        comparing: stored.comparing,
        before: stored.before,
        retried: stored.retried,
    })
}

pub(crate) fn enter(board: &Board, position: &Position) {
    let compares =
        position.to_compare().map(|name| format!("rows that are gone are looked for in what was carried of {name}"));
    let loads = compares.is_some() || !position.source.loading().is_empty();
    board.enter(if loads { State::Loading } else { State::Following }, compares, None);
}

pub(crate) fn progress(work: &Work<'_>, position: &Position) -> Result<LaneProgress, Failure> {
    let (connector, epoch, ground) = (work.connector(), work.lease.epoch, work.lease.ground);
    Ok(LaneProgress { connector, lane: ONLY, epoch, position: stored(position)?, ground })
}
