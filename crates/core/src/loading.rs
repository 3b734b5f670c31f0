//! Which rows of a load come: tables are read in chunks while their changes are followed, and each row is to come once, by whichever
//! of the two has its newest version last.
//!
//! Each chunk is read by a snapshot of its own, and a mark is written to the source's log after it. When the mark comes back, every
//! transaction that the snapshot sees has come before it; the rows come then, except (1) those whose version was written by a
//! transaction that the log's first position does not see: their change is in the log, unless the table itself was written anew
//! since, which makes that its rows' writer; (2) those whose key was changed by a transaction that the chunk's snapshot does not see
//! and the log has brought already: the log's is newer. So no row is lost, doubled or overtaken by an older read. The reasons are in
//! docs/decisions/initial-load.md.

use std::collections::{BTreeMap, HashMap};
use std::sync::{Arc, Mutex, PoisonError};

use serde::{Deserialize, Serialize};

/// Which transactions a snapshot sees, by PostgreSQL's 64-bit transaction numbers.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Snapshot {
    /// Every transaction before this one is visible if it committed.
    pub xmin: u64,
    /// No transaction from this one on is visible.
    pub xmax: u64,
    /// Those between that were under way, in order.
    pub under_way: Vec<u64>,
}

impl Snapshot {
    /// Reads the text of `pg_current_snapshot()`: `xmin:xmax:xip,xip`.
    #[must_use]
    pub fn parse(text: &str) -> Option<Self> {
        let mut parts = text.split(':');
        let xmin = parts.next()?.parse().ok()?;
        let xmax = parts.next()?.parse().ok()?;
        let list = parts.next()?;
        let mut under_way =
            list.split(',').filter(|t| !t.is_empty()).map(str::parse).collect::<Result<Vec<u64>, _>>().ok()?;
        under_way.sort_unstable();
        Some(Self { xmin, xmax, under_way })
    }

    /// Whether a committed transaction is visible.
    #[must_use]
    pub fn sees(&self, transaction: u64) -> bool {
        transaction < self.xmin || (transaction < self.xmax && self.under_way.binary_search(&transaction).is_err())
    }

    /// What the first position of a load sees that begins now. Where one of the table did not come to its end, what that one was to bring
    /// is still to come, also where it is not seen yet: a commit that waits for a standby.
    #[must_use]
    pub fn of_load(self, unfinished: Option<&Self>) -> Self {
        match unfinished {
            Some(former) => self.or(former),
            None => self,
        }
    }

    /// What sees whatever one of two sees. Its `xmin` is the lesser of both: by that it is told what was written anew since.
    fn or(&self, other: &Self) -> Self {
        let xmax = self.xmax.max(other.xmax);
        // of what is from the lesser `xmax` on, the other does not see what was under way for it, and no more
        let mut under_way: Vec<u64> = self.under_way.iter().chain(&other.under_way).copied().collect();
        under_way.retain(|t| !self.sees(*t) && !other.sees(*t));
        under_way.sort_unstable();
        under_way.dedup();
        Self { xmin: self.xmin.min(other.xmin), xmax, under_way }
    }

    /// The 64-bit number of a transaction of which only the lower 32 bits were sent, taken as the one nearest to this snapshot.
    #[must_use]
    pub fn widen(&self, transaction: u32) -> u64 {
        const ERA: u64 = 1 << 32;
        let here = (self.xmax & !(ERA - 1)) | u64::from(transaction);
        if here > self.xmax + ERA / 2 {
            here.saturating_sub(ERA)
        } else if here + ERA / 2 < self.xmax {
            here + ERA
        } else {
            here
        }
    }

    /// Whether the numbers of rows' transactions are unambiguous: the server has not used up 32 bits of them yet.
    #[must_use]
    pub fn first_era(&self) -> bool {
        self.xmax >> 32 == 0
    }
}

/// What tells whether a table was written anew: whoever does that is the writer of all its rows, and brings none of them into the
/// stream. It changes the table's entry in the catalog, as whoever alters it in another way does, and no row of the new file is
/// older than it.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Rewritten {
    /// The transaction that last changed the table's entry, lower 32 bits.
    pub altered: u32,
    /// No writer of a row is before this transaction (`relfrozenxid`), lower 32 bits.
    pub oldest: u32,
}

impl Rewritten {
    /// Whether it may have been since a snapshot, of the first era. Freezing every row looks the same: rows then come twice.
    fn since(self, slot: &Snapshot) -> bool {
        let (altered, oldest) = (u64::from(self.altered), u64::from(self.oldest));
        // one that was under way then may have written them before
        !slot.sees(altered) && (altered < slot.xmax || oldest >= slot.xmin)
    }
}

/// What a chunk's rows are judged by.
#[derive(Debug, Clone, Copy)]
pub struct Reading<'a> {
    /// What the reading saw.
    pub saw: &'a Snapshot,
    /// Who may have written all rows anew.
    pub rewritten: Rewritten,
    /// What the log's first position sees.
    pub first: &'a Snapshot,
    /// What the log has changed since.
    pub changed: Option<&'a ChangedKeys>,
}

impl Reading<'_> {
    /// The rows that come, by the rules above: `writers` has the transaction that wrote each row's version, lower 32 bits.
    pub fn kept(&self, writers: &[u32], key: impl Fn(usize) -> Vec<u8>) -> Vec<usize> {
        let told_apart = self.saw.first_era() && !self.rewritten.since(self.first);
        let keep = |row: &usize| {
            let in_log = told_apart && !self.first.sees(u64::from(writers[*row]));
            !in_log && !self.changed.is_some_and(|c| c.overtakes(|| key(*row), self.saw))
        };
        (0..writers.len()).filter(keep).collect()
    }
}

/// Keys of one table that the log has changed, with the last transaction that did.
#[derive(Debug, Default)]
pub struct ChangedKeys {
    by_key: HashMap<Vec<u8>, u32>,
    emptied: Option<u32>,
}

impl ChangedKeys {
    /// Notes a change.
    pub fn note(&mut self, key: Vec<u8>, transaction: u32) {
        self.by_key.insert(key, transaction);
    }

    /// Notes that the table was emptied.
    pub fn note_emptied(&mut self, transaction: u32) {
        self.emptied = Some(transaction);
    }

    /// Whether a change of a key came that a reading did not see. The key is only asked for where any came.
    fn overtakes(&self, key: impl FnOnce() -> Vec<u8>, read: &Snapshot) -> bool {
        let unseen = |t: &u32| !read.sees(read.widen(*t));
        self.emptied.as_ref().is_some_and(unseen) || (!self.by_key.is_empty() && self.by_key.get(&key()).is_some_and(unseen))
    }

    /// Forgets transactions before one that every reading still to come sees; `now` tells their whole numbers.
    pub fn forget_before(&mut self, floor: u64, now: &Snapshot) {
        let needed = |t: &u32| now.widen(*t) >= floor;
        self.by_key.retain(|_, t| needed(t));
        self.emptied = self.emptied.filter(needed);
    }
}

/// The readings under way, by their marks, each with the first transaction it may not see. A changed key is remembered until
/// all of them see its change: an older reading may come back after a newer one.
#[derive(Debug, Clone, Default)]
pub struct Readings(Arc<Mutex<BTreeMap<String, u64>>>);

impl Readings {
    /// Begins a reading that sees every transaction before `floor`.
    pub fn begin(&self, mark: &str, floor: u64) {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).insert(mark.to_owned(), floor);
    }

    /// Ends a reading that saw a snapshot; gives the first transaction that one of those left, or one to come, may not see.
    pub fn end(&self, mark: &str, saw: &Snapshot) -> u64 {
        let mut readings = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        readings.remove(mark);
        readings.values().copied().min().unwrap_or(saw.xmin).min(saw.xmin)
    }

    /// Ends a reading of which nothing comes.
    pub fn give_up(&self, mark: &str) {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).remove(mark);
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn snapshot() -> impl Strategy<Value = Snapshot> {
        (3_u64..20, 0_u64..10, prop::collection::btree_set(0_u64..10, 0..6)).prop_map(|(xmin, more, list)| {
            let under_way = list.into_iter().map(|t| xmin + t).filter(|t| *t < xmin + more).collect();
            Snapshot { xmin, xmax: xmin + more, under_way }
        })
    }

    proptest! {
        #[test]
        fn two_snapshots_together_see_what_either_sees(a in snapshot(), b in snapshot()) {
            let both = a.or(&b);
            for t in 0..40 {
                prop_assert_eq!(both.sees(t), a.sees(t) || b.sees(t), "{} of {:?}", t, &both);
            }
        }
    }

    #[test]
    fn snapshots_far_apart_take_no_more_room_together() {
        let [long_ago, now] = ["10:20:12", "4000000000:4000000009:4000000000"].map(|text| Snapshot::parse(text).unwrap());
        for both in [long_ago.or(&now), now.or(&long_ago)] {
            assert_eq!(both, Snapshot { xmin: 10, xmax: 4_000_000_009, under_way: vec![4_000_000_000] });
        }
    }

    #[test]
    fn a_table_that_was_only_altered_is_not_taken_for_one_written_anew() {
        let slot = Snapshot { xmin: 100, xmax: 110, under_way: vec![104] };
        // altered before, since without a new file, since with one, and by one that was under way
        for (altered, oldest, since) in
            [(90, 50, false), (120, 50, false), (120, 118, true), (120, 100, true), (104, 98, true)]
        {
            assert_eq!(Rewritten { altered, oldest }.since(&slot), since, "{altered} {oldest}");
        }
    }

    #[test]
    fn a_change_the_reading_did_not_see_overtakes_the_row() {
        let read = Snapshot { xmin: 10, xmax: 20, under_way: vec![12] };
        let mut changed = ChangedKeys::default();
        for (key, transaction) in [(b"a", 9), (b"b", 12), (b"c", 15), (b"d", 21)] {
            changed.note(key.to_vec(), transaction);
        }
        let overtaken = |c: &ChangedKeys| [b"a", b"b", b"c", b"d", b"e"].map(|k| c.overtakes(|| k.to_vec(), &read));
        assert_eq!(overtaken(&changed), [false, true, false, true, false]);
        changed.forget_before(10, &read);
        assert_eq!(changed.by_key.len(), 3);
        changed.note_emptied(25);
        assert_eq!(overtaken(&changed), [true; 5]);
        changed.forget_before(30, &Snapshot { xmin: 30, xmax: 30, under_way: vec![] });
        assert_eq!(overtaken(&changed), [false; 5]);
    }

    #[test]
    fn a_snapshot_sees_what_committed_before_it() {
        let snapshot = Snapshot::parse("100:105:101,103").unwrap();
        let seen: Vec<u64> = (98..107).filter(|t| snapshot.sees(*t)).collect();
        assert_eq!(seen, [98, 99, 100, 102, 104]);
        assert_eq!(Snapshot::parse("7:7:").unwrap().under_way, Vec::<u64>::new());
        assert_eq!(Snapshot::parse("7:x:"), None);
    }

    #[test]
    fn numbers_are_widened_across_an_era() {
        let at = |xmax: u64| Snapshot { xmin: 0, xmax, under_way: vec![] };
        let era = 1_u64 << 32;
        assert_eq!(at(1_000).widen(990), 990);
        assert_eq!(at(era + 5).widen(u32::MAX), era - 1);
        assert_eq!(at(era + 5).widen(9), era + 9);
        assert_eq!(at(era - 5).widen(3), era + 3);
        assert!(at(era - 1).first_era() && !at(era).first_era());
    }
}
