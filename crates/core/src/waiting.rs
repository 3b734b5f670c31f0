//! Changes of rows that wait because they were refused, and what that means for the changes that come after them.
//!
//! A change that brings its whole row makes void what waits from before it. One that brings only a part of it needs what waits: it goes
//! behind it, or the row would be lost, or be made of two times.

use std::collections::HashMap;
use std::hash::Hash;

/// Offsets of changes that wait, by the keys of their rows. A key belongs to one partition, where offsets are in order.
#[derive(Debug, Clone)]
pub struct Waiting<K>(HashMap<K, Vec<i64>>);

impl<K> Default for Waiting<K> {
    fn default() -> Self {
        Self(HashMap::new())
    }
}

/// A change that comes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Comes<K> {
    /// The key of its row.
    pub key: K,
    /// Its offset.
    pub offset: i64,
    /// Whether it brings only a part of the row.
    pub part: bool,
}

impl<K: Eq + Hash + Clone> Waiting<K> {
    /// Whether nothing was noted.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// Notes one that waits.
    pub fn note(&mut self, key: K, offset: i64) {
        self.0.entry(key).or_default().push(offset);
    }

    /// Whether one that was noted still waits.
    #[must_use]
    pub fn has(&self, key: &K, offset: i64) -> bool {
        self.0.get(key).is_some_and(|waits| waits.contains(&offset))
    }

    /// The changes, by their numbers, that go behind one that waits if the others are delivered in their order.
    pub fn behind(&self, changes: impl Iterator<Item = Comes<K>>) -> impl Iterator<Item = usize> {
        let mut whole: HashMap<K, i64> = HashMap::new();
        changes.enumerate().filter_map(move |(number, change)| {
            if !change.part {
                whole.insert(change.key, change.offset);
                return None;
            }
            let since = whole.get(&change.key).copied().unwrap_or(i64::MIN);
            let behind =
                self.0.get(&change.key).is_some_and(|waits| waits.iter().any(|w| (since..change.offset).contains(w)));
            behind.then_some(number)
        })
    }

    /// Notes that one waits no more.
    pub fn settled(&mut self, key: &K, offset: i64) {
        if let Some(waits) = self.0.get_mut(key) {
            waits.retain(|w| *w != offset);
        }
    }

    /// Notes that a change was delivered.
    pub fn delivered(&mut self, change: &Comes<K>) {
        if let Some(waits) = self.0.get_mut(&change.key).filter(|_| !change.part) {
            waits.retain(|w| *w > change.offset);
        }
    }
}
