//! Where a source's lane stands, as it is stored and as it is shown.

use std::collections::BTreeMap;

use gonvel_connectors::error::ConnectorError;
use gonvel_connectors::postgres::position::PgPosition;
use gonvel_connectors::postgres::slot::check_place;
use gonvel_core::change::KindCounts;
use gonvel_core::change_form::position_text;
use gonvel_core::connector::{CapturedTable, Definition, ExistingRows, State};
use gonvel_core::naming::ConnectorId;
use gonvel_core::ports::{DatabaseAddress, LaneProgress, TableProgress};
use serde::{Deserialize, Serialize};

use crate::before::{Before, End};
use crate::columns_known::Marks;
use crate::failing::Failure;
use crate::status::Board;
use crate::work::{Assignment, ONLY, Work};

/// What is stored as the lane's position.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
pub(crate) struct Position {
    pub(crate) source: PgPosition,
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
    /// A table that is loaded, and whose rows that are gone are to be looked for.
    pub(crate) fn to_compare(&self) -> Option<&String> {
        self.comparing.keys().find(|name| !self.source.loads.contains_key(*name))
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
        let load = position.source.loads.get(&name);
        let load_total = load.map(|l| l.as_ref().map_or(0, |l| l.expected));
        let load_done = load.map(|l| l.as_ref().map_or(0, |l| l.rows));
        (name, TableProgress { counts, load_total, load_done, other_end: table.topic.clone() })
    });
    let progress = progress.collect();
    board.write(|status| {
        status.tables = progress;
        status.position = Some(position_text(position.source.lsn));
    });
}

/// Shows a stored position while the lane does not run.
pub(crate) fn show_position(assignment: &Assignment, position: &serde_json::Value, board: &Board) {
    if let (Definition::Source(source), Ok(position)) =
        (assignment.connector.definition(), serde_json::from_value::<Position>(position.clone()))
    {
        show(board, &source.tables, &position);
    }
}

/// Up to which position of its log a source's stored position says that every transaction is in the topics.
pub(crate) fn complete_to(position: &serde_json::Value) -> Result<u64, Failure> {
    if position.is_null() {
        return Ok(0);
    }
    Ok(read_stored(position)?.source.lsn)
}

/// Whether a source's slot goes on from its stored position.
pub(crate) async fn check_stored(
    address: &DatabaseAddress,
    connector: ConnectorId,
    position: &serde_json::Value,
) -> Result<(), Failure> {
    let begun = position.is_object() && position.get("anew").is_none();
    if begun {
        check_place(address, connector, read_stored(position)?.source.lsn).await?;
    }
    Ok(())
}

pub(crate) fn read_stored(position: &serde_json::Value) -> Result<Position, Failure> {
    let unreadable = |e| ConnectorError::Defect(format!("the stored position cannot be read: {e}")).into();
    serde_json::from_value(position.clone()).map_err(unreadable)
}

pub(crate) fn enter(board: &Board, position: &Position) {
    let compares =
        position.to_compare().map(|name| format!("rows that are gone are looked for in what was carried of {name}"));
    let loads = compares.is_some() || !position.source.loads.is_empty();
    board.enter(if loads { State::Loading } else { State::Following }, compares, None);
}

pub(crate) fn progress(work: &Work<'_>, position: &Position) -> Result<LaneProgress, Failure> {
    let (connector, epoch, ground) = (work.connector(), work.lease.epoch, work.lease.ground);
    Ok(LaneProgress { connector, lane: ONLY, epoch, position: stored(position)?, ground })
}
