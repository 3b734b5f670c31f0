//! What a source brings.

use super::SourcePosition;
use crate::change::ChangeBatch;
use crate::connector::CapturedTable;

/// Changes of one table within a captured batch.
#[derive(Debug)]
pub struct TableChanges {
    /// The table's place in [`super::SourceSettings::tables`].
    pub table: usize,
    /// The changes.
    pub batch: ChangeBatch,
    /// The rows that count, where not all do.
    pub rows: Option<Vec<usize>>,
}

/// What is to be appended in one transaction with the position.
#[derive(Debug)]
pub struct Captured {
    /// Changes by table; none when only the position moves.
    pub changes: Vec<TableChanges>,
    /// The position once they are appended.
    pub position: Box<dyn SourcePosition>,
    /// Tables that the log brought by their names: they follow those of [`super::SourceSettings::tables`].
    pub found: Vec<CapturedTable>,
    /// Whether the source ends here and is to be started anew, with other settings of its session.
    pub last: bool,
}
