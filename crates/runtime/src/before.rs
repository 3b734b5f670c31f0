//! What was before a load.

use gonvel_core::change::{ChangeBatch, ChangeKind};
use gonvel_core::loading::Snapshot;
use serde::{Deserialize, Serialize};

/// Where a partition of a table's topics ended when the table was about to be loaded.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct End {
    pub(crate) topic: i64,
    pub(crate) partition: i32,
    pub(crate) next: i64,
}

/// What was before a load.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct Before {
    /// What had ended when it was asked for: whatever of that is left the load brings. None where nothing of it can come any more.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub(crate) seen: Option<Snapshot>,
    /// Whether the topics were emptied there: only what comes late can be gone.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub(crate) emptied: bool,
    /// How many changes came late.
    #[serde(default)]
    pub(crate) late: u64,
}

impl Before {
    pub(crate) fn new(seen: Option<Snapshot>, emptied: bool) -> Self {
        Self { seen, emptied, late: 0 }
    }

    /// Whether a change is from before the load. One that was under way then is not, nor is what does not tell its transaction.
    pub(crate) fn has(&self, kind: ChangeKind, transaction: u64) -> bool {
        let Some(seen) = self.seen.as_ref().filter(|_| kind != ChangeKind::Load) else { return false };
        // only its lower half is sent
        u32::try_from(transaction).is_ok_and(|transaction| transaction != 0 && seen.sees(seen.widen(transaction)))
    }

    /// Notes changes that came since.
    pub(crate) fn note(&mut self, batch: &ChangeBatch) {
        let is_late = |row: &usize| self.has(batch.kinds[*row], batch.origins[*row].transaction);
        self.late += (0..batch.len()).filter(is_late).count() as u64;
    }
}
