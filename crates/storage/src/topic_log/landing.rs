//! Where appends land.

use gonvel_core::block::EncodedBlock;
use gonvel_core::merging::is_small;
use gonvel_core::ports::{Landed, PortError};

/// What who appends is told.
pub(super) type Answer = Result<Vec<Landed>, PortError>;

/// A partition under the lock, and what this transaction adds to it.
#[derive(Clone, Copy)]
pub(super) struct End {
    pub(super) next: i64,
    pub(super) reach_us: i64,
    pub(super) bytes: i64,
    pub(super) small: i32,
}

impl End {
    /// Moves past a block.
    pub(super) fn take(&mut self, block: &EncodedBlock) {
        self.reach_us = self.reach_us.max(block.latest_us);
        self.next += i64::from(block.records);
        self.bytes += i64::try_from(block.body.len()).unwrap_or(i64::MAX);
        self.small += i32::from(is_small(block.records, block.unpacked));
    }
}
