//! What the database and the object storage hold of topics, and the statements over them: each method is one that the product runs as
//! one statement or transaction, by the same conditions.

use std::collections::{BTreeMap, BTreeSet};

use gonvel_core::latest_per_key::Says;
use gonvel_core::standing::Standing;
use gonvel_core::topic_settings::TopicSettings;

/// A record: all that the log's rules ask of one.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Rec {
    pub(super) key: u8,
    pub(super) says: Says,
    pub(super) time_us: i64,
}

#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Block {
    pub(super) first: i64,
    pub(super) end: i64,
    pub(super) records: Vec<(i64, Rec)>,
    pub(super) reach_us: i64,
    pub(super) appended_us: i64,
}

impl Block {
    pub(super) fn latest_us(&self) -> i64 {
        self.records.iter().map(|(_, r)| r.time_us).max().unwrap_or(i64::MIN)
    }

    pub(super) fn earliest_us(&self) -> i64 {
        self.records.iter().map(|(_, r)| r.time_us).min().unwrap_or(i64::MAX)
    }

    /// A size that goes with its records: three of them are no small block any more.
    pub(super) fn size(&self) -> u32 {
        u32::try_from(self.records.len()).unwrap() * 1_000
    }
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum State {
    Writing,
    There,
    Dropping,
}

/// A row of the table of files: the index that it has is of the blocks as they were written.
#[derive(Debug, Clone)]
pub(super) struct File {
    pub(super) state: State,
    pub(super) at: (u32, usize),
    pub(super) index: Vec<Block>,
    pub(super) appended_us: i64,
}

impl File {
    fn first(&self) -> i64 {
        self.index.first().map_or(0, |b| b.first)
    }

    pub(super) fn end(&self) -> i64 {
        self.index.last().map_or(0, |b| b.end)
    }
}

#[derive(Debug, Clone, Default)]
pub(super) struct Partition {
    pub(super) first: i64,
    pub(super) next: i64,
    pub(super) hot: BTreeMap<i64, Block>,
    pub(super) latest_to: i64,
    reach_us: Option<i64>,
}

#[derive(Debug, Clone)]
pub(super) struct Topic {
    pub(super) partitions: Vec<Partition>,
    pub(super) scattered: bool,
    pub(super) settings: TopicSettings,
    /// Its name is free again, and its blocks wait to be dropped.
    pub(super) deleted: bool,
}

#[derive(Debug, Default)]
pub(super) struct Store {
    pub(super) topics: BTreeMap<u32, Topic>,
    pub(super) files: BTreeMap<u32, File>,
    /// The object storage.
    pub(super) objects: BTreeMap<u32, Vec<Block>>,
    pub(super) paths: u32,
    pub(super) now_us: i64,
}

/// A partition of a topic, both by number.
pub(super) type At = (u32, usize);

impl Store {
    pub(super) fn create(&mut self, partitions: usize) -> u32 {
        let id = self.topics.keys().next_back().map_or(1, |id| id + 1);
        let settings = TopicSettings::default();
        let topic = Topic { partitions: vec![Partition::default(); partitions], scattered: false, settings, deleted: false };
        self.topics.insert(id, topic);
        id
    }

    fn partition(&self, at: At) -> Option<&Partition> {
        self.topics.get(&at.0).and_then(|t| t.partitions.get(at.1))
    }

    fn partition_mut(&mut self, at: At) -> Option<&mut Partition> {
        self.topics.get_mut(&at.0).and_then(|t| t.partitions.get_mut(at.1))
    }

    /// The rows of partitions go with the topic's; its blocks do not.
    pub(super) fn live(&self, at: At) -> Option<&Partition> {
        self.topics.get(&at.0).filter(|t| !t.deleted)?;
        self.partition(at)
    }

    /// Appends records as one block; the first offset, or none where the topic is gone.
    pub(super) fn append(&mut self, at: At, records: &[Rec]) -> Option<i64> {
        self.live(at)?;
        let appended_us = self.now_us;
        let partition = self.partition_mut(at)?;
        let first = partition.next;
        let records: Vec<(i64, Rec)> = (first..).zip(records.iter().copied()).collect();
        partition.next += i64::try_from(records.len()).unwrap();
        let latest = records.iter().map(|(_, r)| r.time_us).max();
        partition.reach_us = partition.reach_us.max(latest);
        let reach_us = partition.reach_us.unwrap_or(i64::MIN);
        partition.hot.insert(first, Block { first, end: partition.next, records, reach_us, appended_us });
        Some(first)
    }

    /// `read_hot`: blocks from the one that holds an offset on, or from the first behind it.
    pub(super) fn read_hot(&self, at: At, from: i64, most: usize) -> Vec<Block> {
        let Some(partition) = self.partition(at) else { return Vec::new() };
        let holds = partition.hot.range(..=from).next_back().filter(|(_, b)| b.end > from).map(|(first, _)| *first);
        partition.hot.range(holds.unwrap_or(from)..).take(most).map(|(_, b)| b.clone()).collect()
    }

    fn there(&self, at: At) -> impl DoubleEndedIterator<Item = (u32, &File)> {
        let mut all: Vec<(u32, &File)> =
            self.files.iter().filter(|(_, f)| f.at == at && f.state == State::There).map(|(p, f)| (*p, f)).collect();
        all.sort_by_key(|(_, f)| f.first());
        all.into_iter()
    }

    /// `stands`: where the first blocks behind an offset are, and which those of the file are.
    pub(super) fn stands(&self, at: At, from: i64) -> (Standing, Option<(u32, Vec<Block>)>) {
        let hot = self.read_hot(at, from, 1).first().map(|b| b.first);
        let file = self.there(at).find(|(_, f)| f.end() > from);
        let wanted = file.map(|(path, f)| (path, f.index.iter().filter(|b| b.end > from).cloned().collect::<Vec<_>>()));
        let standing = Standing { hot, file: wanted.as_ref().and_then(|(_, b)| b.first()).map(|b| b.first) };
        (standing, wanted)
    }

    pub(super) fn hot_up_to(&self, at: At, last: i64) -> Option<Block> {
        self.partition(at)?.hot.range(..=last).next_back().map(|(_, b)| b.clone())
    }

    pub(super) fn file_up_to(&self, at: At, last: i64) -> Option<(u32, Block)> {
        let (path, file) = self.there(at).rfind(|(_, f)| f.first() <= last)?;
        Some((path, file.index.iter().rfind(|b| b.first <= last)?.clone()))
    }

    /// `nothing_from`: the end of a partition that keeps nothing at an offset or behind it.
    pub(super) fn nothing_from(&self, at: At, from: i64) -> Option<i64> {
        let end = self.live(at)?.next;
        let nothing = self.read_hot(at, from, 1).is_empty() && !self.there(at).any(|(_, f)| f.end() > from);
        (end > from && nothing).then_some(end)
    }

    pub(super) fn block_at_time(&self, at: At, time_us: i64) -> Option<i64> {
        let reaches = |b: &&Block| b.reach_us >= time_us;
        let partition = self.live(at)?;
        let file = self.there(at).find(|(_, f)| f.index.last().is_some_and(|b| b.reach_us >= time_us));
        let in_file = file.and_then(|(_, f)| f.index.iter().find(reaches));
        let hot = partition.hot.values().find(reaches);
        Some(in_file.or(hot).map_or(partition.next, |b| b.first))
    }

    /// Several hot blocks become one, if they are as many as were seen.
    pub(super) fn merge(&mut self, at: At, from: i64, to: i64, expected: usize) {
        if self.live(at).is_none() {
            return;
        }
        let Some(partition) = self.partition_mut(at) else { return };
        let taken: Vec<Block> = partition.hot.range(from..=to).map(|(_, b)| b.clone()).collect();
        let (Some(first), Some(last)) = (taken.first(), taken.last()) else { return };
        if taken.len() != expected {
            return;
        }
        let block = Block {
            first: first.first,
            end: last.end,
            records: taken.iter().flat_map(|b| b.records.iter().copied()).collect(),
            reach_us: last.reach_us,
            appended_us: taken.iter().map(|b| b.appended_us).max().unwrap(),
        };
        partition.hot.retain(|first, _| !(from..=to).contains(first));
        partition.hot.insert(block.first, block);
    }

    /// What stays of a hot block takes its place, if it is as it was read.
    pub(super) fn rewrite(&mut self, at: At, was: &Block, left: Vec<(i64, Rec)>) -> bool {
        let Some(partition) = self.partition_mut(at) else { return false };
        let same = partition.hot.get(&was.first).is_some_and(|b| b.records == was.records);
        if same && left.is_empty() {
            partition.hot.remove(&was.first);
        } else if same && let Some(block) = partition.hot.get_mut(&was.first) {
            block.records = left;
        }
        same
    }

    pub(super) fn files_before(&self, at: At, to: i64) -> Vec<(u32, File)> {
        self.there(at).filter(|(_, f)| f.first() < to).map(|(p, f)| (p, f.clone())).collect()
    }

    /// Notes a file that is being written.
    pub(super) fn begin_file(&mut self, at: At, index: Vec<Block>, appended_us: i64) -> u32 {
        self.paths += 1;
        self.files.insert(self.paths, File { state: State::Writing, at, index, appended_us });
        self.paths
    }

    pub(super) fn put_state(&mut self, path: u32, from: State, to: State) -> bool {
        let file = self.files.get_mut(&path).filter(|f| f.state == from);
        file.map(|f| f.state = to).is_some()
    }

    fn give_up(&mut self, path: u32) {
        if !self.put_state(path, State::Writing, State::Dropping) {
            self.objects.remove(&path);
        }
    }

    /// A file takes the place of hot blocks, if they are as they were read.
    pub(super) fn finish_file(&mut self, at: At, path: u32, read: &[Block]) -> bool {
        let (Some(first), Some(last)) = (read.first(), read.last()) else { return false };
        let (from, to) = (first.first, last.first);
        let Some(partition) = self.partition(at) else { return false };
        let stand: Vec<(i64, usize)> = partition.hot.range(from..=to).map(|(f, b)| (*f, b.records.len())).collect();
        let same = stand.iter().copied().eq(read.iter().map(|b| (b.first, b.records.len())));
        if !same || !self.put_state(path, State::Writing, State::There) {
            self.give_up(path);
            return false;
        }
        if let Some(partition) = self.partition_mut(at) {
            partition.hot.retain(|first, _| !(from..=to).contains(first));
        }
        true
    }

    /// A file takes another's place, or goes without one.
    pub(super) fn swap_file(&mut self, old: u32, new: Option<u32>) -> bool {
        let is = |store: &Self, path: u32, state| store.files.get(&path).is_some_and(|f| f.state == state);
        if !is(self, old, State::There) || new.is_some_and(|new| !is(self, new, State::Writing)) {
            if let Some(new) = new {
                self.give_up(new);
            }
            return false;
        }
        self.put_state(old, State::There, State::Dropping);
        new.is_none_or(|new| self.put_state(new, State::Writing, State::There))
    }

    /// Forgets blocks and files that end at an offset or before.
    pub(super) fn forget(&mut self, at: At, end: i64) {
        let Some(partition) = self.partition_mut(at) else { return };
        partition.hot.retain(|_, b| b.end > end);
        partition.first = partition.first.max(end);
        for file in self.files.values_mut().filter(|f| f.at == at && f.state == State::There && f.end() <= end) {
            file.state = State::Dropping;
        }
    }

    /// What is dropped of a deleted topic in one go.
    pub(super) fn drop_topic(&mut self, id: u32) {
        let Some(topic) = self.topics.get_mut(&id).filter(|t| t.deleted) else { return };
        topic.partitions.iter_mut().for_each(|p| p.hot.clear());
        for file in self.files.values_mut().filter(|f| f.at.0 == id && f.state == State::There) {
            file.state = State::Dropping;
        }
    }

    /// Files that are given up although their writers may only be slow, and all that may be removed.
    pub(super) fn dropping(&mut self) -> BTreeSet<u32> {
        self.files.values_mut().filter(|f| f.state == State::Writing).for_each(|f| f.state = State::Dropping);
        self.files.iter().filter(|(_, f)| f.state == State::Dropping).map(|(path, _)| *path).collect()
    }

    /// The blocks of a partition, in files and out of them, that cover an offset which another one covers.
    pub(super) fn twice(&self, at: At) -> Vec<(i64, i64)> {
        let files = self.there(at).flat_map(|(_, f)| f.index.iter());
        let hot = self.partition(at).into_iter().flat_map(|p| p.hot.values());
        let mut all: Vec<(i64, i64)> = files.chain(hot).map(|b| (b.first, b.end)).collect();
        all.sort_unstable();
        all.windows(2).filter(|w| w[1].0 < w[0].1).map(|w| w[1]).collect()
    }

    /// Blocks of a partition, in files and out of them, in order.
    pub(super) fn oldest(&self, at: At) -> Vec<(i64, i64, usize)> {
        let files = self.there(at).map(|(_, f)| {
            let latest = f.index.iter().map(Block::latest_us).max().unwrap_or(i64::MIN);
            (f.end(), latest.max(f.appended_us), f.index.iter().map(|b| b.records.len()).sum())
        });
        let hot = self.partition(at).into_iter().flat_map(|p| p.hot.values());
        files.chain(hot.map(|b| (b.end, b.latest_us().max(b.appended_us), b.records.len()))).collect()
    }
}
