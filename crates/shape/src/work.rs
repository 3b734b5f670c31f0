//! A batch on its way through a plan.

use std::collections::{BTreeMap, BTreeSet, HashMap};

use gonvel_core::change::{ChangeBatch, Origin};
use gonvel_core::column::ColumnArray;

use crate::plan::Plan;

/// A row that could not be handled.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Failed {
    /// Its place in the batch.
    pub row: usize,
    /// The step, by its place; none for a table rule.
    pub step: Option<usize>,
    /// What the step is called.
    pub word: &'static str,
    /// What was found, with the values that may be shown.
    pub finding: String,
}

/// One image of every row, on its way.
#[derive(Debug, Clone)]
pub struct Image {
    /// The columns.
    pub columns: Vec<ColumnArray>,
    /// Which rows are still there.
    pub present: Vec<bool>,
    /// Columns that the source did not send, by row.
    pub(crate) unchanged: HashMap<usize, Vec<usize>>,
    pub(crate) routes: Option<Vec<Option<String>>>,
    pub(crate) which: Which,
}

/// Which image of a row.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Which {
    New,
    Old,
    /// The old one, of which only the key is known.
    Key,
}

/// What the latest row of each key says, by stage.
pub(crate) type Seen = HashMap<(usize, Vec<u8>), u64>;

/// A row, the stage and the key, and what it says there.
pub(crate) type Said = (usize, (usize, Vec<u8>), Option<u64>);

/// What is done with a batch.
pub(crate) struct Work<'w> {
    pub(crate) plan: &'w Plan,
    pub(crate) batch: &'w ChangeBatch,
    /// By row, what failed first.
    pub(crate) failed: HashMap<usize, Failed>,
    pub(crate) repeats: BTreeSet<usize>,
    /// Rows whose old image is given and yet says nothing: a step fails for it.
    pub(crate) unusable: BTreeSet<usize>,
    /// Rows that look up what changed, with what changed it.
    pub(crate) touched: BTreeMap<usize, Origin>,
    /// What each row says at each stage that drops repeats; none where it went no further.
    pub(crate) said: Vec<Said>,
}
