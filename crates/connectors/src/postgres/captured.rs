//! What a source brings.

use gonvel_core::change::ChangeBatch;
use gonvel_core::connector::CapturedTable;

use super::position::PgPosition;

/// Changes of one table within a captured batch.
#[derive(Debug)]
pub struct TableChanges {
    /// The table's place in [`super::source_settings::SourceSettings::tables`].
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
    pub position: PgPosition,
    /// Tables that the log brought by their names: they follow those of [`super::source_settings::SourceSettings::tables`].
    pub found: Vec<CapturedTable>,
    /// Whether the source ends here and is to be started anew, by another publication or with values in another form.
    pub last: bool,
}
