//! What of a round a target refuses, and what goes behind records that wait.

use std::ops::Range;

use bytes::Bytes;

use super::TopicChanges;
use crate::naming::TopicPartition;
use crate::waiting::{Comes, Waiting};

/// A change that the target refuses.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Refused {
    /// Which of the round's topics it is of.
    pub part: usize,
    /// Which of its changes it is.
    pub change: usize,
    /// What was found, and what to do.
    pub finding: String,
}

/// Records that wait, by the keys of their rows with their offsets. What brings only a part of such a row goes behind them: without them
/// there is no row that it belongs to.
#[derive(Debug, Clone, Default)]
pub struct Held(Waiting<(TopicPartition, Bytes)>);

fn comes(changes: &TopicChanges, change: usize) -> Comes<(TopicPartition, Bytes)> {
    let ((at, offset), key) = (changes.from[change], changes.record_key(change).clone());
    Comes { key: (at, key), offset, part: changes.is_part(change) }
}

impl Held {
    /// Notes one that waits.
    pub fn note(&mut self, at: TopicPartition, key: &Bytes, offset: i64) {
        self.0.note((at, key.clone()), offset);
    }

    /// The first change of a range that goes behind one that waits.
    #[must_use]
    pub fn first_behind(&self, changes: &TopicChanges, range: Range<usize>) -> Option<usize> {
        if self.0.is_empty() {
            return None;
        }
        self.0.behind(range.clone().map(|change| comes(changes, change))).next().map(|number| range.start + number)
    }

    /// All of a topic's changes that go behind one that waits, if the others are written.
    #[must_use]
    pub fn all_behind(&self, changes: &TopicChanges) -> Vec<usize> {
        if self.0.is_empty() {
            return Vec::new();
        }
        self.0.behind((0..changes.changes.len()).map(|change| comes(changes, change))).collect()
    }

    /// Whether one that was noted still waits.
    #[must_use]
    pub fn has(&self, changes: &TopicChanges, change: usize) -> bool {
        let Comes { key, offset, .. } = comes(changes, change);
        self.0.has(&key, offset)
    }

    /// Notes that changes wait no more.
    pub fn settled(&mut self, changes: &TopicChanges, range: Range<usize>) {
        for Comes { key, offset, .. } in range.map(|change| comes(changes, change)) {
            self.0.settled(&key, offset);
        }
    }

    /// Notes that a range was written.
    pub fn written(&mut self, changes: &TopicChanges, range: Range<usize>) {
        if !self.0.is_empty() {
            range.for_each(|change| self.0.delivered(&comes(changes, change)));
        }
    }
}

/// What is found of a change that goes behind what waits.
pub const BEHIND: &str = "an earlier change of this row waits in quarantine, and this one brings only a part of the row: try the earlier \
     one again, then this one";
