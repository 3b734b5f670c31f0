//! What a sink connector applies in one transaction.

use bytes::Bytes;

use super::Delivered;
use crate::change::{ChangeBatch, ChangeKind};
use crate::fold::Place;
use crate::naming::TopicPartition;

/// What is known of the row before an update that brings a part of it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Default)]
pub enum RowBefore {
    /// It is in the target as it was.
    #[default]
    Known,
    /// It may not be there.
    MayBeMissing,
    /// It may not be there, or not as it was: it was not in the target for a while.
    MayBeOld,
}

/// Changes of one topic within a round, in order per key.
#[derive(Debug)]
pub struct TopicChanges {
    /// The topic's place in [`super::SinkSettings::topics`].
    pub topic: usize,
    /// Batches of one shape.
    pub batches: Vec<ChangeBatch>,
    /// Every change with its key, in order.
    pub changes: Vec<(Place, Bytes)>,
    /// Where each change's record stands.
    pub from: Vec<(TopicPartition, i64)>,
    /// The keys that the records themselves have, where a shape made others.
    pub record_keys: Option<Vec<Bytes>>,
    /// What is known of the rows of which updates among them bring a part.
    pub row_before: RowBefore,
}

impl TopicChanges {
    /// Whether it is a truncate, which stands alone.
    #[must_use]
    pub fn is_truncate(&self) -> bool {
        self.batches.first().is_some_and(|batch| batch.kinds.first() == Some(&ChangeKind::Truncate))
    }

    /// The key of a change's record, by its number.
    #[must_use]
    pub fn record_key(&self, change: usize) -> &Bytes {
        self.record_keys.as_ref().map_or(&self.changes[change].1, |keys| &keys[change])
    }

    /// Whether a change, by its number, brings only a part of its row.
    #[must_use]
    pub fn is_part(&self, change: usize) -> bool {
        let (batch, row) = self.changes[change].0;
        self.kind(change) == ChangeKind::Update && self.batches[batch].unchanged.contains_key(&row)
    }

    /// Takes out the changes that are not to be kept, by their numbers.
    pub fn keep(&mut self, which: &[bool]) {
        fn kept<T>(list: &mut Vec<T>, which: &[bool]) {
            let mut which = which.iter();
            list.retain(|_| *which.next().unwrap_or(&true));
        }
        kept(&mut self.changes, which);
        kept(&mut self.from, which);
        if let Some(keys) = &mut self.record_keys {
            kept(keys, which);
        }
    }

    /// The kind of a change, by its number.
    #[must_use]
    pub fn kind(&self, change: usize) -> ChangeKind {
        let (batch, row) = self.changes[change].0;
        self.batches[batch].kinds[row]
    }
}

/// What is applied in one transaction.
#[derive(Debug, Default)]
pub struct Round {
    /// Changes, in the order to apply; a topic may stand more than once when its shape changes in between.
    pub topics: Vec<TopicChanges>,
    /// Where each partition then stands.
    pub delivered: Vec<(TopicPartition, Delivered)>,
    /// Whether the rounds that follow belong to the same transaction.
    pub more: bool,
}

impl Round {
    /// Whether it is a truncate, which stands alone.
    #[must_use]
    pub fn is_truncate(&self) -> bool {
        self.topics.iter().any(TopicChanges::is_truncate)
    }
}
