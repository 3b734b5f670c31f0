//! Records that are not there any more.

use std::sync::{Arc, Mutex};

use gonvel_core::naming::TopicPartition;

/// Records that were forgotten before they were delivered, and passed over because that was said.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Missed {
    pub(crate) at: TopicPartition,
    /// The first, and the one after the last.
    pub(crate) from: i64,
    pub(crate) to: i64,
}

/// What a reader passed over, for the lane to tell.
pub(crate) type PassedOver = Arc<Mutex<Vec<Missed>>>;
