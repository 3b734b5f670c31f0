//! Captured row events, as column batches.

use std::collections::HashMap;
use std::sync::Arc;

use serde::{Deserialize, Serialize};

use crate::column::{ColumnArray, ColumnBuilder, Value, WrongColumn};
use crate::table::TableSchema;

/// What happened to a row.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum ChangeKind {
    /// A row was inserted.
    Insert,
    /// A row was updated and kept its key.
    Update,
    /// A row was deleted.
    Delete,
    /// All rows of the table went at once.
    Truncate,
    /// The row was read by an initial load.
    Load,
}

impl ChangeKind {
    /// All kinds, in the order of the change schema's enumeration.
    pub const ALL: [Self; 5] = [Self::Insert, Self::Update, Self::Delete, Self::Truncate, Self::Load];

    /// The word for it.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Insert => "insert",
            Self::Update => "update",
            Self::Delete => "delete",
            Self::Truncate => "truncate",
            Self::Load => "load",
        }
    }
}

/// How much of the row as it was before is known.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum OldImage {
    /// Nothing.
    None,
    /// The key's columns.
    Key,
    /// Every column.
    Row,
}

/// Where a change came from; the system, schema and table are the batch's.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
pub struct Origin {
    /// Position of the transaction's commit in the source's log (for PostgreSQL an LSN).
    pub position: u64,
    /// The source's transaction number.
    pub transaction: u64,
    /// The change's number within its transaction, from 0.
    pub sequence: u64,
    /// Commit time in microseconds since 1970-01-01 UTC; for a load, the time of reading.
    pub commit_time_us: i64,
}

/// Changes of one table in order, as columns.
///
/// Invariants: all vectors and arrays have one entry per change; `old` is empty or has one array per column of the table;
/// a column named in `unchanged` for a row is null in `new` but *not* null in the source: the source did not send it.
#[derive(Debug, Clone)]
pub struct ChangeBatch {
    /// The table's shape for all these changes.
    pub table: Arc<TableSchema>,
    /// What happened, per change.
    pub kinds: Vec<ChangeKind>,
    /// The rows after the change, by column.
    pub new: Vec<ColumnArray>,
    /// The rows before the change, by column; empty if no change of the batch has any.
    pub old: Vec<ColumnArray>,
    /// How much of the old row is known, per change.
    pub old_images: Vec<OldImage>,
    /// Columns the source did not send because they did not change, by change.
    pub unchanged: HashMap<usize, Vec<usize>>,
    /// Origins, per change.
    pub origins: Vec<Origin>,
}

impl ChangeBatch {
    /// How many changes.
    #[must_use]
    pub fn len(&self) -> usize {
        self.kinds.len()
    }

    /// Whether there is no change.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.kinds.is_empty()
    }

    /// Bytes that it takes in memory, about.
    #[must_use]
    pub fn size(&self) -> usize {
        let each = size_of::<ChangeKind>() + size_of::<OldImage>() + size_of::<Origin>();
        self.new.iter().chain(&self.old).map(ColumnArray::size).sum::<usize>() + self.len() * each
    }

    /// Whether the source did not send this column of this change.
    #[must_use]
    pub fn is_unchanged(&self, row: usize, column: usize) -> bool {
        !self.unchanged.is_empty() && self.unchanged.get(&row).is_some_and(|columns| columns.contains(&column))
    }

    /// The image that identifies the row of a change: the new one, or for a delete the old one.
    #[must_use]
    pub fn identifying(&self, row: usize) -> &[ColumnArray] {
        if self.kinds[row] == ChangeKind::Delete { &self.old } else { &self.new }
    }
}

/// Collects the changes of one table.
#[derive(Debug)]
pub struct ChangeBatchBuilder {
    table: Arc<TableSchema>,
    kinds: Vec<ChangeKind>,
    new: Vec<ColumnBuilder>,
    old: Vec<ColumnBuilder>,
    old_images: Vec<OldImage>,
    unchanged: HashMap<usize, Vec<usize>>,
    origins: Vec<Origin>,
}

/// One change being written: every column of both images is pushed in order, then the next change begins.
impl ChangeBatchBuilder {
    /// An empty batch for a table.
    #[must_use]
    pub fn new(table: Arc<TableSchema>) -> Self {
        let new = table.columns.iter().map(|c| ColumnBuilder::new(c.ty)).collect();
        Self {
            table,
            kinds: Vec::new(),
            new,
            old: Vec::new(),
            old_images: Vec::new(),
            unchanged: HashMap::new(),
            origins: Vec::new(),
        }
    }

    /// The table's shape.
    #[must_use]
    pub fn table(&self) -> &Arc<TableSchema> {
        &self.table
    }

    /// Changes so far.
    #[must_use]
    pub fn len(&self) -> usize {
        self.kinds.len()
    }

    /// Whether there is none yet.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.kinds.is_empty()
    }

    /// Begins a change. Then [`Self::new_value`] or [`Self::no_new`] fills the new image, [`Self::old_value`] or
    /// [`Self::no_old`] the old one.
    pub fn begin(&mut self, kind: ChangeKind, origin: Origin) {
        self.kinds.push(kind);
        self.origins.push(origin);
        self.old_images.push(OldImage::None);
    }

    /// Sets one column of the new image.
    ///
    /// # Errors
    /// [`WrongColumn`] if the value is of another type.
    #[inline]
    pub fn new_value(&mut self, column: usize, value: Value<'_>) -> Result<(), WrongColumn> {
        self.new[column].push(value)
    }

    /// Notes that the source did not send this column of the new image, which then holds a null.
    pub fn new_unchanged(&mut self, column: usize) {
        self.mark_unchanged(column);
        self.new[column].push_null();
    }

    /// Notes that a column whose null was already set was not sent.
    pub fn mark_unchanged(&mut self, column: usize) {
        self.unchanged.entry(self.kinds.len() - 1).or_default().push(column);
    }

    /// Sets the origin of the change begun last.
    pub fn set_origin(&mut self, origin: Origin) {
        if let Some(last) = self.origins.last_mut() {
            *last = origin;
        }
    }

    /// Says that the change has no new image.
    pub fn no_new(&mut self) {
        self.new.iter_mut().for_each(ColumnBuilder::push_null);
    }

    /// Begins the old image.
    pub fn begin_old(&mut self, image: OldImage) {
        if self.old.is_empty() {
            self.old = self.table.columns.iter().map(|c| ColumnBuilder::new(c.ty)).collect();
            for _ in 1..self.kinds.len() {
                self.old.iter_mut().for_each(ColumnBuilder::push_null);
            }
        }
        if let Some(last) = self.old_images.last_mut() {
            *last = image;
        }
    }

    /// Sets one column of the old image, after [`Self::begin_old`].
    ///
    /// # Errors
    /// [`WrongColumn`] if the value is of another type.
    pub fn old_value(&mut self, column: usize, value: Value<'_>) -> Result<(), WrongColumn> {
        self.old[column].push(value)
    }

    /// Says that the change has no old image.
    pub fn no_old(&mut self) {
        self.old.iter_mut().for_each(ColumnBuilder::push_null);
    }

    /// The batch, leaving the builder empty and ready for the next.
    pub fn finish(&mut self) -> ChangeBatch {
        let new = self.new.iter_mut().map(ColumnBuilder::finish).collect();
        let old = std::mem::take(&mut self.old).iter_mut().map(ColumnBuilder::finish).collect();
        ChangeBatch {
            table: self.table.clone(),
            kinds: std::mem::take(&mut self.kinds),
            new,
            old,
            old_images: std::mem::take(&mut self.old_images),
            unchanged: std::mem::take(&mut self.unchanged),
            origins: std::mem::take(&mut self.origins),
        }
    }
}

/// Counts of changes by kind.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
pub struct KindCounts {
    /// Rows read by initial loads.
    #[serde(default)]
    pub load: u64,
    /// Inserts.
    #[serde(default)]
    pub insert: u64,
    /// Updates.
    #[serde(default)]
    pub update: u64,
    /// Deletes.
    #[serde(default)]
    pub delete: u64,
    /// Truncates.
    #[serde(default)]
    pub truncate: u64,
}

impl KindCounts {
    /// Counts one change more.
    pub fn add(&mut self, kind: ChangeKind) {
        match kind {
            ChangeKind::Insert => self.insert += 1,
            ChangeKind::Update => self.update += 1,
            ChangeKind::Delete => self.delete += 1,
            ChangeKind::Truncate => self.truncate += 1,
            ChangeKind::Load => self.load += 1,
        }
    }

    /// More of them added.
    #[must_use]
    pub fn with(self, others: Self) -> Self {
        Self {
            load: self.load + others.load,
            insert: self.insert + others.insert,
            update: self.update + others.update,
            delete: self.delete + others.delete,
            truncate: self.truncate + others.truncate,
        }
    }

    /// Some of them taken away again.
    #[must_use]
    pub fn without(self, others: Self) -> Self {
        Self {
            load: self.load.saturating_sub(others.load),
            insert: self.insert.saturating_sub(others.insert),
            update: self.update.saturating_sub(others.update),
            delete: self.delete.saturating_sub(others.delete),
            truncate: self.truncate.saturating_sub(others.truncate),
        }
    }

    /// All changes together.
    #[must_use]
    pub fn total(&self) -> u64 {
        self.load + self.insert + self.update + self.delete + self.truncate
    }
}
