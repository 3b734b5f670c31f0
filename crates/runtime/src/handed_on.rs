//! Changes that this process has just appended, as they were before they were written: whoever follows their partitions in it
//! need not unpack and read them again. The log stays what counts; nothing is handed on before it is durable there.

use std::collections::{HashMap, VecDeque};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use bytes::Bytes;
use gonvel_core::change::ChangeBatch;
use gonvel_core::naming::{SchemaId, TopicPartition};
use gonvel_core::ports::Landed;
use tokio::sync::watch;

/// Bytes before compression kept at most, of all partitions together.
const MOST_BYTES: usize = 12 << 20;
/// Bytes kept from which on it is crowded: who follows is behind.
const CROWDED: usize = 4 << 20;
/// How long changes stay that nobody asks for, where there is no room for others.
const STAY: Duration = Duration::from_secs(5);

/// Changes of one table whose records stand one after the other in a partition.
#[derive(Debug)]
pub(crate) struct Changes {
    /// The schema of the records' values.
    pub(crate) schema: SchemaId,
    pub(crate) batch: Arc<ChangeBatch>,
    /// Which of the batch they are; none is a truncate.
    pub(crate) rows: Vec<usize>,
    /// The data of their keys, one after the other.
    keys: Bytes,
    /// Where each key ends.
    ends: Vec<usize>,
    /// Bytes of their records before compression.
    bytes: usize,
}

impl Changes {
    /// The data of a change's key, by its number.
    pub(crate) fn key(&self, number: usize) -> Bytes {
        let start = if number == 0 { 0 } else { self.ends[number - 1] };
        self.keys.slice(start..self.ends[number])
    }
}

/// Changes that are being written.
#[derive(Default)]
pub(crate) struct Gathering {
    rows: Vec<usize>,
    keys: Vec<u8>,
    ends: Vec<usize>,
}

impl Gathering {
    pub(crate) fn push(&mut self, row: usize, key: &[u8]) {
        self.rows.push(row);
        self.keys.extend_from_slice(key);
        self.ends.push(self.keys.len());
    }

    pub(crate) fn finish(self, schema: SchemaId, batch: Arc<ChangeBatch>, bytes: usize) -> Changes {
        Changes { schema, batch, rows: self.rows, keys: self.keys.into(), ends: self.ends, bytes }
    }
}

/// Changes with the offset of their first record.
#[derive(Debug, Clone)]
pub(crate) struct Run {
    pub(crate) first: i64,
    pub(crate) changes: Arc<Changes>,
}

impl Run {
    /// The offset after the last of them.
    pub(crate) fn end(&self) -> i64 {
        self.first + i64::try_from(self.changes.rows.len()).unwrap_or(i64::MAX)
    }
}

#[derive(Debug, Default)]
struct Kept {
    /// The log's ground that they were appended on.
    ground: u64,
    /// Where each follower of a partition stands, by its number.
    followers: HashMap<TopicPartition, HashMap<u64, i64>>,
    runs: HashMap<TopicPartition, VecDeque<(Run, Instant)>>,
    bytes: usize,
    number: u64,
}

impl Kept {
    /// Forgets the first runs of a partition as long as a rule says so.
    fn forget(&mut self, at: TopicPartition, rule: impl Fn(&Run, Instant) -> bool) {
        let Some(runs) = self.runs.get_mut(&at) else { return };
        while let Some((run, _)) = runs.pop_front_if(|(run, since)| rule(run, *since)) {
            self.bytes -= run.changes.bytes;
        }
        if runs.is_empty() {
            self.runs.remove(&at);
        }
    }

    /// Notes where a follower stands, and forgets what all of a partition's are past.
    fn stands(&mut self, follower: u64, at: TopicPartition, next: i64) {
        let Some(followers) = self.followers.get_mut(&at) else { return };
        followers.insert(follower, next);
        let past = self.past(at);
        self.forget(at, |run, _| run.end() <= past);
    }

    /// The offset before which no follower of a partition needs anything.
    fn past(&self, at: TopicPartition) -> i64 {
        self.followers.get(&at).and_then(|followers| followers.values().min()).map_or(i64::MAX, |next| *next)
    }

    /// Takes in a run, unless nobody needs it any more or what is there comes after it: another lane may have appended in between.
    fn push(&mut self, at: TopicPartition, run: Run, now: Instant) {
        let last = self.runs.get(&at).and_then(VecDeque::back).map_or(i64::MIN, |(last, _)| last.end());
        if run.end() > self.past(at) && run.first >= last {
            self.bytes += run.changes.bytes;
            self.runs.entry(at).or_default().push_back((run, now));
        }
    }

    fn make_room(&mut self, bytes: usize) -> bool {
        if self.bytes + bytes > MOST_BYTES {
            let partitions: Vec<_> = self.runs.keys().copied().collect();
            for at in partitions {
                self.forget(at, |_, since| since.elapsed() > STAY);
            }
        }
        self.bytes + bytes <= MOST_BYTES
    }
}

/// What is handed on within a process.
#[derive(Debug, Clone, Default)]
pub(crate) struct HandedOn {
    kept: Arc<Mutex<Kept>>,
    crowded: watch::Sender<bool>,
}

impl HandedOn {
    fn with<R>(&self, use_it: impl FnOnce(&mut Kept) -> R) -> R {
        let mut kept = self.kept.lock().unwrap_or_else(PoisonError::into_inner);
        let result = use_it(&mut kept);
        let crowded = kept.bytes >= CROWDED;
        self.crowded.send_if_modified(|before| std::mem::replace(before, crowded) != crowded);
        result
    }

    /// Whether someone follows a partition.
    pub(crate) fn is_followed(&self, at: TopicPartition) -> bool {
        self.with(|kept| kept.followers.contains_key(&at))
    }

    /// Forgets what was appended on an earlier ground: the log may not have it any more.
    pub(crate) fn begin(&self, ground: u64) {
        self.with(|kept| {
            if ground > kept.ground {
                (kept.ground, kept.bytes) = (ground, 0);
                kept.runs.clear();
            }
        });
    }

    /// Takes in changes that have landed on a ground. Where there is no room they are not kept: they are in the log.
    pub(crate) fn note(&self, ground: u64, landed: &[Landed], parts: Vec<Option<Changes>>) {
        self.begin(ground);
        let now = Instant::now();
        // all or none: partitions share batches, and a part of one holds the whole in memory
        let bytes = parts.iter().flatten().map(|changes| changes.bytes).sum();
        self.with(|kept| {
            if bytes == 0 || ground < kept.ground || !kept.make_room(bytes) {
                return;
            }
            for (landed, changes) in landed.iter().zip(parts) {
                let Some(changes) = changes else { continue };
                if i64::try_from(changes.rows.len()) == Ok(landed.records) {
                    kept.push(landed.to, Run { first: landed.first.0, changes: Arc::new(changes) }, now);
                }
            }
        });
    }

    /// Begins to follow partitions, until what is returned is dropped.
    pub(crate) fn follow(&self, partitions: impl IntoIterator<Item = (TopicPartition, i64)>) -> Following {
        let partitions: Vec<_> = partitions.into_iter().collect();
        let number = self.with(|kept| {
            kept.number += 1;
            for (at, from) in &partitions {
                kept.followers.entry(*at).or_default().insert(kept.number, *from);
            }
            kept.number
        });
        let partitions = partitions.into_iter().map(|(at, _)| at).collect();
        Following { handed: self.clone(), number, partitions }
    }
}

/// A follower of partitions.
#[derive(Debug)]
pub(crate) struct Following {
    handed: HandedOn,
    number: u64,
    partitions: Vec<TopicPartition>,
}

impl Following {
    /// The runs of a partition from the one that holds an offset on, without a gap, up to so many bytes before compression (at
    /// least one run); empty if that one is not there.
    pub(crate) fn from(&self, at: TopicPartition, from: i64, max_bytes: usize) -> Vec<Run> {
        self.handed.with(|kept| {
            kept.stands(self.number, at, from);
            let Some(runs) = kept.runs.get(&at) else { return Vec::new() };
            let start = runs.partition_point(|(run, _)| run.end() <= from);
            let (mut next, mut bytes) = (from, 0);
            let taken = runs.range(start..).map_while(|(run, _)| {
                let fits = run.first <= next && bytes < max_bytes;
                (next, bytes) = (run.end(), bytes + run.changes.bytes);
                fits.then(|| run.clone())
            });
            taken.collect()
        })
    }

    /// Says up to where partitions were read. What all who follow them are past is forgotten.
    pub(crate) fn stands(&self, partitions: impl IntoIterator<Item = (TopicPartition, i64)>) {
        self.handed.with(|kept| partitions.into_iter().for_each(|(at, next)| kept.stands(self.number, at, next)));
    }
}

impl Drop for Following {
    fn drop(&mut self) {
        self.handed.with(|kept| {
            for at in &self.partitions {
                let Some(followers) = kept.followers.get_mut(at) else { continue };
                followers.remove(&self.number);
                if followers.is_empty() {
                    kept.followers.remove(at);
                    kept.forget(*at, |_, _| true);
                }
            }
        });
    }
}

/// Bytes a second before compression at which a lane goes on at the least, however far those are behind who follow it.
const GOES_ON: usize = 16 << 20;

/// The turns that a lane takes with those who follow it in this process. Where processors are few, what comes in would else take
/// them from who delivers, and then have nothing to do while that goes on alone.
pub(crate) struct Turns {
    crowded: watch::Receiver<bool>,
    until: Option<Instant>,
}

impl Turns {
    pub(crate) fn new(handed: &HandedOn) -> Self {
        Self { crowded: handed.crowded.subscribe(), until: None }
    }

    /// An append was begun of so many bytes before compression that others follow.
    pub(crate) fn appended(&mut self, bytes: usize) {
        let time = || Duration::from_secs(1).mul_f64(bytes as f64 / GOES_ON as f64);
        self.until = self.crowded.borrow().then(|| Instant::now() + time());
    }

    /// What a lane takes in next, once it is its turn again.
    ///
    /// Cancel safety: dropped while it waits, the turn of the others goes on; then that of what is taken in.
    pub(crate) async fn after_others<T>(&mut self, next: impl Future<Output = T>) -> T {
        if let Some(until) = self.until {
            let _ = tokio::time::timeout_at(until.into(), self.crowded.wait_for(|crowded| !crowded)).await;
            self.until = None;
        }
        next.await
    }
}

#[cfg(test)]
mod tests {
    use futures::FutureExt;
    use gonvel_core::change::{ChangeBatchBuilder, ChangeKind, Origin};
    use gonvel_core::naming::{Offset, PartitionId, TopicId};
    use gonvel_core::table::TableSchema;

    use super::*;

    fn at(partition: i32) -> TopicPartition {
        TopicPartition { topic: TopicId(1), partition: PartitionId(partition) }
    }

    fn note(handed: &HandedOn, partition: i32, first: i64, rows: usize, bytes: usize) {
        let table = TableSchema { system: String::new(), schema: String::new(), table: String::new(), columns: Vec::new() };
        let mut builder = ChangeBatchBuilder::new(Arc::new(table));
        let mut gathering = Gathering::default();
        for row in 0..rows {
            builder.begin(ChangeKind::Insert, Origin::default());
            gathering.push(row, format!("key {}", first + i64::try_from(row).unwrap()).as_bytes());
        }
        let landed = Landed { to: at(partition), first: Offset(first), records: i64::try_from(rows).unwrap() };
        handed.note(0, &[landed], vec![Some(gathering.finish(SchemaId(1), Arc::new(builder.finish()), bytes))]);
    }

    fn starts(following: &Following, partition: i32, from: i64, most: usize) -> Vec<i64> {
        following.from(at(partition), from, most).iter().map(|run| run.first).collect()
    }

    fn bytes(handed: &HandedOn) -> usize {
        handed.with(|kept| kept.bytes)
    }

    #[test]
    fn runs_without_a_gap_are_found_by_any_offset_in_them() {
        let handed = HandedOn::default();
        note(&handed, 0, 0, 10, 50);
        assert_eq!(bytes(&handed), 0, "nobody follows it");
        let following = handed.follow([(at(0), 100)]);
        for (first, rows) in [(100, 10), (110, 5), (120, 1)] {
            note(&handed, 0, first, rows, 50);
        }
        assert_eq!(starts(&following, 0, 104, 1000), [100, 110], "before the gap");
        assert_eq!(starts(&following, 0, 104, 1), [100], "at least one");
        assert_eq!(starts(&following, 0, 99, 1000), [0_i64; 0]);
        let run = &following.from(at(0), 112, 1)[0];
        assert_eq!((run.first, run.end(), run.changes.key(2)), (110, 115, Bytes::from("key 112")));
        assert_eq!(bytes(&handed), 100, "what it is past is forgotten");
        assert_eq!(starts(&following, 0, 117, 1000), [0_i64; 0], "between");
        assert_eq!(starts(&following, 0, 120, 1000), [120]);
        // another lane's run that comes late
        note(&handed, 0, 130, 10, 50);
        note(&handed, 0, 121, 9, 50);
        assert_eq!(starts(&following, 0, 125, 1000), [0_i64; 0]);
        assert_eq!(starts(&following, 0, 130, 1000), [130]);
        // and what was read from the log before it was noted
        following.stands([(at(0), 150)]);
        note(&handed, 0, 140, 10, 50);
        assert_eq!(bytes(&handed), 0, "nobody needs it");
        drop(following);
        assert_eq!(bytes(&handed), 0);
    }

    #[test]
    fn the_slowest_follower_decides_what_stays_and_what_has_no_room_is_left_to_the_log() {
        let handed = HandedOn::default();
        let (slow, fast) = (handed.follow([(at(0), 0)]), handed.follow([(at(0), 0), (at(1), 0)]));
        for n in 0..40 {
            note(&handed, 0, n, 1, 1 << 20);
        }
        assert_eq!(bytes(&handed), MOST_BYTES);
        assert!(*handed.crowded.borrow());
        assert_eq!(starts(&fast, 0, 11, 1), [11]);
        assert_eq!(starts(&fast, 0, 12, 1), [0_i64; 0], "there was no room");
        assert_eq!(starts(&slow, 0, 0, 1), [0]);
        assert_eq!(starts(&slow, 0, 10, 1), [10]);
        note(&handed, 0, 40, 1, 10 << 20);
        assert_eq!(starts(&fast, 0, 40, 1), [40], "there is room again");
        drop(slow);
        assert_eq!(starts(&fast, 0, 40, 1), [40]);
        assert_eq!(bytes(&handed), 10 << 20);
        assert!(*handed.crowded.borrow());
        drop(fast);
        assert!(!*handed.crowded.borrow());
    }

    #[tokio::test]
    async fn a_lane_far_ahead_waits_for_who_follows_but_not_for_ever() {
        let handed = HandedOn::default();
        let following = handed.follow([(at(0), 0)]);
        let mut turns = Turns::new(&handed);
        let there = || std::future::ready("what comes next");
        turns.appended(GOES_ON);
        assert!(turns.after_others(there()).now_or_never().is_some(), "nobody is behind");
        note(&handed, 0, 0, 1, CROWDED);
        turns.appended(GOES_ON / 20);
        let begun = Instant::now();
        assert!(turns.after_others(there()).now_or_never().is_none(), "what is there was taken in out of turn");
        turns.after_others(there()).await;
        assert!(begun.elapsed() >= Duration::from_millis(45), "{:?}", begun.elapsed());
        assert!(turns.after_others(there()).now_or_never().is_some());
        // and no longer than who follows needs
        turns.appended(GOES_ON * 3_600);
        assert_eq!(starts(&following, 0, 1, 1), [0_i64; 0]);
        turns.after_others(there()).await;
        assert!(begun.elapsed() < Duration::from_secs(60), "{:?}", begun.elapsed());
    }
}
