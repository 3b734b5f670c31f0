//! Reads as the product makes them, statement by statement; whatever else happens falls between two of them.

use std::collections::BTreeSet;

use gonvel_core::partitioning::partitions_of;
use gonvel_core::standing::Takes;

use super::lists::{Began, Fault, Lists};
use super::store::{At, Block, Store};

/// A read of a partition from an offset.
#[derive(Debug)]
pub(super) struct Read {
    at: At,
    from: i64,
    most: usize,
    stands: Next,
    lost: Option<u32>,
}

#[derive(Debug)]
enum Next {
    Hot,
    Look(Vec<Block>),
    Fetch(u32, Vec<Block>),
}

impl Read {
    pub(super) fn new(at: At, from: i64, most: usize) -> Self {
        Self { at, from, most, stands: Next::Hot, lost: None }
    }

    /// One statement more; what it gives, once it ends.
    pub(super) fn step(&mut self, store: &Store) -> Result<Option<Vec<Block>>, Fault> {
        self.stands = match std::mem::replace(&mut self.stands, Next::Hot) {
            Next::Hot => {
                let hot = store.read_hot(self.at, self.from, self.most);
                if hot.first().is_some_and(|b| b.first <= self.from) {
                    return Ok(Some(hot));
                }
                Next::Look(hot)
            }
            Next::Look(hot) => {
                let (standing, file) = store.stands(self.at, self.from);
                match (standing.takes(hot.first().map(|b| b.first)), file) {
                    (Takes::Hot, _) => return Ok(Some(hot)),
                    (Takes::File, Some((path, wanted))) => Next::Fetch(path, wanted),
                    _ => Next::Hot,
                }
            }
            Next::Fetch(path, wanted) => {
                let Some(object) = store.objects.get(&path) else {
                    if self.lost == Some(path) {
                        return Err(format!("file {path} of {:?} is lost", self.at));
                    }
                    self.lost = Some(path);
                    return Ok(None);
                };
                let firsts: Vec<i64> = wanted.iter().take(self.most).map(|b| b.first).collect();
                return Ok(Some(object.iter().filter(|b| firsts.contains(&b.first)).cloned().collect()));
            }
        };
        Ok(None)
    }
}

/// Who reads all partitions of a topic, also those that come while it does.
#[derive(Debug)]
pub(super) struct Reader {
    topic: u32,
    positions: Vec<i64>,
    turn: usize,
    under_way: Option<(Read, usize, Began)>,
    most: usize,
    /// What was there when it began, if it wants only what comes from then on.
    began: Began,
    got: BTreeSet<(usize, i64)>,
}

impl Reader {
    pub(super) fn new(store: &Store, lists: &Lists, topic: u32, from_end: bool, most: usize) -> Self {
        let start = |p: &super::store::Partition| if from_end { p.next } else { 0 };
        let positions = store.topics[&topic].partitions.iter().map(start).collect();
        let began = if from_end { lists.began() } else { Began::default() };
        Self { topic, positions, turn: 0, under_way: None, most, began, got: BTreeSet::new() }
    }

    pub(super) fn step(&mut self, store: &Store, lists: &mut Lists) -> Result<(), Fault> {
        let Some(topic) = store.topics.get(&self.topic).filter(|t| !t.deleted) else { return Ok(()) };
        // what was added is read from its start
        self.positions.resize(topic.partitions.len(), 0);
        let (mut read, partition, began) = self.under_way.take().unwrap_or_else(|| {
            self.turn += 1;
            let partition = self.turn % self.positions.len();
            (Read::new((self.topic, partition), self.positions[partition], self.most), partition, lists.began())
        });
        let (at, from) = ((self.topic, partition), self.positions[partition]);
        match read.step(store)? {
            None => self.under_way = Some((read, partition, began)),
            Some(blocks) => {
                lists.read(at, from, &began, &blocks)?;
                let records = blocks.iter().flat_map(|b| &b.records).filter(|(offset, _)| *offset >= from);
                self.got.extend(records.map(|(offset, _)| (partition, *offset)));
                self.positions[partition] = match (blocks.last(), store.nothing_from(at, from)) {
                    (Some(last), _) => last.end,
                    (None, Some(end)) => {
                        lists.read(at, from, &lists.began(), &[])?;
                        end
                    }
                    (None, None) => from,
                };
            }
        }
        Ok(())
    }

    /// Whether it is at the end of all partitions; it must have got all that was not gone meanwhile.
    pub(super) fn is_done(&self, store: &Store, lists: &Lists) -> Result<bool, Fault> {
        let topic = &store.topics[&self.topic];
        if topic.deleted {
            return Ok(true);
        }
        for at in (0..topic.partitions.len()).map(|p| (self.topic, p)) {
            let (entries, from) = (lists.entries(at), lists.length(at, &self.began));
            let position = self.positions.get(at.1).copied().unwrap_or(0);
            if position < i64::try_from(entries.len()).unwrap() {
                return Ok(false);
            }
            let mut wanted = (0..).zip(entries).filter(|(n, e)| *n >= from && !e.may_go);
            if let Some((offset, entry)) = wanted.find(|(n, _)| !self.got.contains(&(at.1, *n))) {
                return Err(format!("a reader of {at:?} never got {offset}: {entry:?}"));
            }
        }
        Ok(true)
    }
}

/// Who looks for the records of a key: wherever they may be, as it was known at the start.
#[derive(Debug)]
pub(super) struct Search {
    key: u8,
    topic: u32,
    partitions: Vec<usize>,
    from: i64,
    under_way: Option<Read>,
    began: Began,
    found: Vec<(At, i64)>,
}

impl Search {
    pub(super) fn new(store: &Store, lists: &Lists, topic: u32, key: u8) -> Self {
        let t = &store.topics[&topic];
        let partitions = partitions_of(&[[key]], i32::try_from(t.partitions.len()).unwrap(), t.scattered);
        let partitions = partitions.into_iter().map(|p| usize::try_from(p).unwrap()).collect();
        Self { key, topic, partitions, from: 0, under_way: None, began: lists.began(), found: Vec::new() }
    }

    /// True once it has ended and found all.
    pub(super) fn step(&mut self, store: &Store, lists: &mut Lists) -> Result<bool, Fault> {
        if store.topics[&self.topic].deleted {
            return Ok(true);
        }
        let Some(partition) = self.partitions.last().copied() else {
            for at in (0..store.topics[&self.topic].partitions.len()).map(|p| (self.topic, p)) {
                let length = usize::try_from(lists.length(at, &self.began)).unwrap();
                let wanted = (0..).zip(&lists.entries(at)[..length]).filter(|(_, e)| e.rec.key == self.key && !e.may_go);
                if let Some((offset, entry)) = wanted.into_iter().find(|(n, _)| !self.found.contains(&(at, *n))) {
                    return Err(format!("a search of key {} does not find {offset} of {at:?}: {entry:?}", self.key));
                }
            }
            return Ok(true);
        };
        let at = (self.topic, partition);
        let mut read = self.under_way.take().unwrap_or_else(|| Read::new(at, self.from, 2));
        match read.step(store)? {
            None => self.under_way = Some(read),
            Some(blocks) => {
                let records = blocks.iter().flat_map(|b| &b.records).filter(|(_, r)| r.key == self.key);
                self.found.extend(records.map(|(offset, _)| (at, *offset)));
                match blocks.last() {
                    Some(last) => self.from = last.end,
                    None => {
                        self.partitions.pop();
                        self.from = 0;
                    }
                }
            }
        }
        Ok(false)
    }
}

/// Who looks for the block at an offset or the nearest before it, as pages that go back do.
#[derive(Debug)]
pub(super) struct Back {
    at: At,
    last: i64,
    began: Began,
    asked_hot: bool,
    file: Option<(u32, Block)>,
    lost: Option<u32>,
}

impl Back {
    pub(super) fn new(lists: &Lists, at: At, last: i64) -> Self {
        Self { at, last, began: lists.began(), asked_hot: false, file: None, lost: None }
    }

    pub(super) fn step(&mut self, store: &Store, lists: &Lists) -> Result<bool, Fault> {
        let found = match (self.asked_hot, self.file.take()) {
            (false, _) => {
                self.asked_hot = true;
                let Some(hot) = store.hot_up_to(self.at, self.last) else { return Ok(false) };
                Some(hot)
            }
            (true, Some((path, block))) => match store.objects.get(&path) {
                Some(object) => object.iter().find(|b| b.first == block.first).cloned(),
                None if self.lost == Some(path) => return Err(format!("file {path} is lost")),
                None => {
                    (self.lost, self.asked_hot) = (Some(path), false);
                    return Ok(false);
                }
            },
            (true, None) => {
                self.file = store.file_up_to(self.at, self.last);
                if self.file.is_some() {
                    return Ok(false);
                }
                None
            }
        };
        let wanted = lists.last_up_to(self.at, self.last, &self.began);
        let has = |offset| found.as_ref().is_some_and(|b| b.first <= self.last && b.end > offset);
        match wanted {
            Some(offset) if !store.topics[&self.at.0].deleted && !has(offset) => {
                Err(format!("going back from {} of {:?}: {found:?} and not {offset}", self.last, self.at))
            }
            _ => Ok(true),
        }
    }
}
