//! Rows that say the same as the one before of their key.

use std::collections::HashMap;
use std::hash::{DefaultHasher, Hash, Hasher};

use gonvel_core::change::{ChangeKind, OldImage};
use gonvel_core::row_bytes;

use crate::work::{Image, Seen, Work};

/// Keys whose latest row is remembered to notice repeats.
const REMEMBERED: usize = 1_000_000;

impl Work<'_> {
    /// Updates that say the same as the row before of their key: by their old image where that is whole, else by what is
    /// remembered. A key whose row is deleted, goes no further or fails is forgotten: what comes next of it is no repeat.
    pub(crate) fn repeat(&mut self, number: usize, by: &[usize], [new, old, keys]: &[Image; 3], seen: &Seen) {
        let fields = &self.plan.stages[number].input.fields;
        let key_columns: Vec<usize> = (0..fields.len()).filter(|&c| fields[c].key).collect();
        let bytes = |image: &Image, columns: &[usize], row: usize| {
            let mut out = Vec::new();
            columns.iter().for_each(|&c| row_bytes::write(image.columns[c].value(row), &mut out));
            out
        };
        let hash = |bytes: &[u8]| {
            let mut hasher = DefaultHasher::new();
            bytes.hash(&mut hasher);
            hasher.finish()
        };
        let recalled = self.plan.recalls();
        let mut now: HashMap<Vec<u8>, Option<u64>> = HashMap::new();
        let mut emptied = false;
        for row in 0..self.batch.len() {
            if self.batch.kinds[row] == ChangeKind::Truncate {
                (now, emptied) = (HashMap::new(), true);
                self.said.push((row, (number, Vec::new()), None));
            }
            if !keys.present[row] {
                continue;
            }
            let key = bytes(keys, &key_columns, row);
            if !new.present[row] {
                now.insert(key.clone(), None);
                self.said.push((row, (number, key), None));
                continue;
            }
            // what was not sent did not change: it says nothing new
            let sent: Vec<usize> = match new.unchanged.get(&row) {
                Some(missing) => by.iter().copied().filter(|c| !missing.contains(c)).collect(),
                None => by.to_vec(),
            };
            let says = bytes(new, &sent, row);
            let whole = (sent.len() == by.len()).then(|| hash(&says));
            let same = if self.batch.old_images[row] == OldImage::Row && recalled && !self.unusable.contains(&row) {
                old.present[row] && says == bytes(old, &sent, row)
            } else {
                let before = match now.get(&key) {
                    Some(before) => *before,
                    None if emptied => None,
                    None => seen.get(&(number, key.clone())).copied(),
                };
                whole.is_some() && before == whole
            };
            if same && self.batch.kinds[row] == ChangeKind::Update {
                self.repeats.insert(row);
            }
            now.insert(key.clone(), whole);
            self.said.push((row, (number, key), whole));
        }
    }

    /// Notes what rows said; one that failed afterwards said nothing.
    pub(crate) fn remember(&self, seen: &mut Seen) {
        for (row, at, says) in &self.said {
            match says.filter(|_| !self.failed.contains_key(row)) {
                _ if self.batch.kinds[*row] == ChangeKind::Truncate => seen.retain(|(stage, _), _| *stage != at.0),
                Some(says) => {
                    if seen.len() >= REMEMBERED {
                        seen.clear();
                    }
                    seen.insert(at.clone(), says);
                }
                None => drop(seen.remove(at)),
            }
        }
    }
}
