//! Keeping the latest of each key: which records of a partition may go.
//!
//! A pass first looks at the partition's records from where the last pass ended ([`LatestKeys::see`]), then goes over all
//! records from the oldest on and asks for each whether it stays ([`LatestKeys::stays`]).

use std::collections::HashMap;

use crate::avro::single_object;

/// What a record says of its key.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Says {
    /// The whole of it: older records of the key are not needed any more.
    Whole,
    /// A part: a source left out large unchanged columns, which stand in an older record.
    Part,
    /// That it is gone.
    Gone,
}

/// Bytes that an entry takes beside its key, about.
const ENTRY: usize = 64;

/// The newest whole record of each key in a span of a partition.
///
/// Invariants: a key's newest record is never told to go, unless it says that the key is gone and its time is over;
/// a record that says a part of its key makes no older one go; a record without a key stays.
#[derive(Debug)]
pub struct LatestKeys {
    newest: HashMap<Box<[u8]>, i64>,
    bytes: usize,
    most_bytes: usize,
    seen_from: i64,
}

/// The part of a key that makes it that key: without the ten leading bytes of Avro's single-object encoding, as for
/// [`crate::partitioning::partition_of`].
#[must_use]
pub fn identity(key: &[u8]) -> &[u8] {
    single_object::split(key).map_or(key, |(_, data)| data)
}

impl LatestKeys {
    /// Nothing seen yet; `seen_from` is where the last pass ended.
    #[must_use]
    pub fn new(seen_from: i64, most_bytes: usize) -> Self {
        Self { newest: HashMap::new(), bytes: 0, most_bytes, seen_from }
    }

    /// Looks at a record, in order of offsets.
    pub fn see(&mut self, offset: i64, key: Option<&[u8]>, says: Says) {
        let Some(key) = key.map(identity) else { return };
        if says == Says::Part {
            return;
        }
        if let Some(newest) = self.newest.get_mut(key) {
            *newest = offset;
        } else {
            self.bytes += key.len() + ENTRY;
            self.newest.insert(key.into(), offset);
        }
    }

    /// Whether the keys seen take as much memory as they may: the pass then ends after the present block.
    #[must_use]
    pub fn is_full(&self) -> bool {
        self.bytes >= self.most_bytes
    }

    /// Whether a record stays. One that says its key is gone stays until `deletes_until_us` is past its time.
    #[must_use]
    pub fn stays(&self, offset: i64, key: Option<&[u8]>, says: Says, timestamp_us: i64, deletes_until_us: i64) -> bool {
        let Some(key) = key.map(identity) else { return true };
        let newest = self.newest.get(key).copied();
        if newest.is_some_and(|n| n > offset) {
            return false;
        }
        // before the span seen, an earlier pass left no more than one whole record of each key
        let is_newest_whole = offset < self.seen_from || newest == Some(offset);
        !(says == Says::Gone && is_newest_whole && timestamp_us < deletes_until_us)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use std::collections::BTreeMap;

    #[derive(Debug, Clone, Copy, PartialEq)]
    struct Entry {
        offset: i64,
        key: Option<u8>,
        says: Says,
        time: i64,
    }

    fn entries() -> impl Strategy<Value = Vec<Entry>> {
        let says = prop_oneof![5 => Just(Says::Whole), 2 => Just(Says::Part), 2 => Just(Says::Gone)];
        let entry = (prop::option::weighted(0.9, 0_u8..6), says, 0_i64..100);
        prop::collection::vec(entry, 0..80).prop_map(|entries| {
            let place = |(offset, (key, says, time))| Entry { offset, key, says, time };
            (0..).zip(entries).map(place).collect()
        })
    }

    /// The parts of each live key that a reader from the start ends with: the newest whole record and all parts after it.
    fn state(entries: &[Entry]) -> BTreeMap<u8, Vec<i64>> {
        let mut state: BTreeMap<u8, Vec<i64>> = BTreeMap::new();
        for entry in entries {
            let Some(key) = entry.key else { continue };
            match entry.says {
                Says::Whole => drop(state.insert(key, vec![entry.offset])),
                Says::Part => {
                    if let Some(parts) = state.get_mut(&key) {
                        parts.push(entry.offset);
                    }
                }
                Says::Gone => drop(state.remove(&key)),
            }
        }
        state
    }

    fn pass(kept: &[Entry], from: i64, to: i64, deletes_until: i64) -> Vec<Entry> {
        let mut latest = LatestKeys::new(from, 1 << 20);
        for e in kept.iter().filter(|e| (from..to).contains(&e.offset)) {
            latest.see(e.offset, e.key.as_ref().map(std::slice::from_ref), e.says);
        }
        let stays = |e: &&Entry| {
            e.offset >= to || latest.stays(e.offset, e.key.as_ref().map(std::slice::from_ref), e.says, e.time, deletes_until)
        };
        kept.iter().filter(stays).copied().collect()
    }

    proptest! {
        #[test]
        fn whatever_the_passes_a_reader_from_the_start_ends_with_the_same(
            all in entries(),
            cuts in prop::collection::vec((any::<prop::sample::Index>(), 0_i64..100), 1..5),
        ) {
            let mut kept = all.clone();
            let mut ends: Vec<(i64, i64)> = cuts.iter().map(|(at, until)| {
                (i64::try_from(at.index(all.len() + 1)).unwrap(), *until)
            }).collect();
            ends.sort_unstable();
            let mut from = 0;
            for (to, until) in ends {
                let before = kept.clone();
                kept = pass(&before, from, to, until);
                // nothing is put in another order or made up
                prop_assert!(kept.windows(2).all(|w| w[0].offset < w[1].offset));
                prop_assert!(kept.iter().all(|e| before.contains(e)));
                prop_assert_eq!(state(&kept), state(&all));
                // records without a key stay
                let keyless = |entries: &[Entry]| entries.iter().filter(|e| e.key.is_none()).count();
                prop_assert_eq!(keyless(&kept), keyless(&all));
                // the newest record of a key stays, unless it says the key is gone and its time is over
                for key in 0..6 {
                    let newest = all.iter().rfind(|e| e.key == Some(key));
                    if let Some(newest) = newest {
                        let may_go = newest.says == Says::Gone && newest.time < 100;
                        prop_assert!(may_go || kept.contains(newest), "{:?}", newest);
                    }
                }
                // what was passed over holds one whole record of a key at most
                for key in 0..6 {
                    let whole = kept.iter().filter(|e| e.offset < to && e.key == Some(key) && e.says != Says::Part).count();
                    prop_assert!(whole <= 1, "key {} has {}", key, whole);
                }
                from = to;
            }
        }
    }

    #[test]
    fn a_new_version_of_the_key_s_schema_does_not_make_it_another_key() {
        let with = |fingerprint| {
            let mut key = Vec::new();
            single_object::header(fingerprint, &mut key);
            key.push(14);
            key
        };
        let mut latest = LatestKeys::new(0, 1 << 20);
        latest.see(0, Some(&with(1)), Says::Whole);
        latest.see(1, Some(&with(2)), Says::Whole);
        assert!(!latest.stays(0, Some(&with(1)), Says::Whole, 0, 0));
        assert!(latest.stays(1, Some(&with(2)), Says::Whole, 0, 0));
    }
}
