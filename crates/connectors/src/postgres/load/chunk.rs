//! Rows that were read at a time.

use gonvel_core::change::ChangeBatch;
use gonvel_core::column::{ColumnType, Value};
use gonvel_core::loading::{ChangedKeys, Reading, Rewritten, Snapshot};
use gonvel_core::sql_text;

use super::plan::Range;

/// Rows of a range of pages.
#[derive(Debug)]
pub struct Chunk {
    /// The content of the mark that ends it.
    pub mark: String,
    /// `schema.table`.
    pub name: String,
    /// The rows, as loads.
    pub batch: ChangeBatch,
    /// The transaction that wrote each row's version, lower 32 bits.
    pub writers: Vec<u32>,
    /// Who may have written all rows anew.
    pub rewritten: Rewritten,
    /// What the reading saw.
    pub snapshot: Snapshot,
    /// The pages.
    pub range: Range,
}

impl Chunk {
    /// The rows that are appended.
    #[must_use]
    pub fn kept(&self, first: &Snapshot, changed: Option<&ChangedKeys>) -> Vec<usize> {
        Reading { saw: &self.snapshot, rewritten: self.rewritten, first, changed }.kept(&self.writers, |row| self.key(row))
    }

    /// A row's key, as changes are noted by it.
    fn key(&self, row: usize) -> Vec<u8> {
        let mut key = Vec::new();
        for (column, values) in self.batch.table.columns.iter().zip(&self.batch.new).filter(|(column, _)| column.key) {
            push_key(column.ty, values.value(row), &mut key);
        }
        key
    }
}

/// Appends a key column's value so that no two keys look alike, however it was sent.
pub fn push_key(ty: ColumnType, value: Value<'_>, key: &mut Vec<u8>) {
    let at = key.len();
    key.extend_from_slice(&[0; 9]);
    if sql_text::write(ty, value, key) {
        let length = u64::try_from(key.len() - at - 9).unwrap_or(0);
        key[at] = 1;
        key[at + 1..at + 9].copy_from_slice(&length.to_le_bytes());
    }
}
