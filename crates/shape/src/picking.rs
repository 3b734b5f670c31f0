//! Some rows of a batch, without the others.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use gonvel_core::change::ChangeBatch;
use gonvel_core::column::ColumnArray;

use crate::run::{Failed, Routed, Shaped};
use crate::taking::take;

/// Rows of a batch by their places, in this order.
#[must_use]
pub fn pick(batch: &ChangeBatch, rows: &[usize]) -> ChangeBatch {
    let taken = |columns: &[ColumnArray]| columns.iter().map(|c| take(c, rows)).collect();
    let unchanged = rows.iter().enumerate().filter_map(|(place, row)| Some((place, batch.unchanged.get(row)?.clone())));
    ChangeBatch {
        table: Arc::clone(&batch.table),
        kinds: rows.iter().map(|row| batch.kinds[*row]).collect(),
        new: taken(&batch.new),
        old: taken(&batch.old),
        old_images: rows.iter().map(|row| batch.old_images[*row]).collect(),
        unchanged: unchanged.collect(),
        origins: rows.iter().map(|row| batch.origins[*row]).collect(),
    }
}

impl Shaped {
    /// Takes rows of which only a part came as ones that failed, where they may not be there yet: for what is written to cannot
    /// say whether they are. Nothing else of such a row goes on.
    pub fn refuse_parts(&mut self, finding: &str) {
        let partly = self.parts.iter().flat_map(|part| part.partly.iter().map(|place| part.rows[*place]));
        let refused: BTreeSet<usize> = partly.collect();
        if refused.is_empty() {
            return;
        }
        for part in &mut self.parts {
            let stay: Vec<usize> = (0..part.rows.len()).filter(|place| !refused.contains(&part.rows[*place])).collect();
            *part = Routed {
                to: part.to.take(),
                batch: pick(&part.batch, &stay),
                rows: stay.iter().map(|place| part.rows[*place]).collect(),
                partly: Vec::new(),
            };
        }
        self.parts.retain(|part| !part.rows.is_empty());
        let mut failed: BTreeMap<usize, Failed> = self.failed.drain(..).map(|failed| (failed.row, failed)).collect();
        for row in refused {
            failed.entry(row).or_insert_with(|| Failed { row, step: None, word: "shape", finding: finding.to_owned() });
        }
        self.failed = failed.into_values().collect();
    }
}
