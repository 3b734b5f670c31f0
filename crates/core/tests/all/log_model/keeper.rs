//! The keeper's work, transaction by transaction. There may be two keepers at once: one that was thought dead goes on where it was.

use std::collections::BTreeSet;

use gonvel_core::latest_per_key::{LatestKeys, Says};
use gonvel_core::merging::{Small, runs};
use gonvel_core::naming::{Offset, PartitionId};
use gonvel_core::retention::{KeptBlock, OldestBlocks, forget};
use gonvel_core::topic_settings::{Keep, TopicSettings};

use super::lists::Fault;
use super::reads::Read;
use super::store::{At, Block, File, Rec, State, Store};

/// What a keeper does.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Work {
    Merge,
    Pass,
    Move,
    Forget,
    Drop,
}

#[derive(Debug)]
pub(super) enum Job {
    Merge(At, Vec<(i64, i64, usize)>),
    Pass(Box<Pass>),
    /// The blocks that move, their file, and whether it is written.
    Move(At, Vec<Block>, Option<(u32, bool)>),
    Forget(Vec<(At, i64)>),
    /// Files to remove: first the bytes, then the row.
    Drop(BTreeSet<u32>, Option<u32>),
}

#[derive(Debug)]
pub(super) struct Pass {
    at: At,
    to: i64,
    end: i64,
    until_us: i64,
    keys: LatestKeys,
    next: i64,
    read: Option<Read>,
    rewriting: Vec<Block>,
    stage: Stage,
}

#[derive(Debug)]
enum Stage {
    See,
    List,
    Files(Vec<(u32, File)>),
    /// A file, what is left of it, and where that is written, if anything is left.
    Swap(u32, Vec<Block>, Option<(u32, bool)>, Vec<(u32, File)>),
    Hot,
    Note,
}

fn ms(us: Option<i64>) -> i64 {
    us.map_or(i64::MAX, |ms| ms.saturating_mul(1000))
}

/// Begins some work on a partition, where there is any.
pub(super) fn begin(work: Work, store: &mut Store, at: At) -> Option<Job> {
    if work == Work::Drop {
        let deleted: Vec<u32> = store.topics.iter().filter(|(_, t)| t.deleted).map(|(id, _)| *id).collect();
        deleted.into_iter().for_each(|id| store.drop_topic(id));
        return Some(Job::Drop(store.dropping(), None));
    }
    let partition = store.live(at)?;
    let settings = &store.topics[&at.0].settings;
    match work {
        Work::Merge => {
            let due_ms = settings.forget_after_ms.into_iter().chain(settings.hot_span_ms).min();
            let seen: Vec<&Block> = partition.hot.values().collect();
            let small = |b: &&Block| Small {
                first: b.first,
                span: b.end - b.first,
                records: b.size(),
                unpacked: 0,
                earliest_us: b.earliest_us(),
                latest_us: b.latest_us(),
                appended_us: b.appended_us,
            };
            let sizes: Vec<Small> = seen.iter().map(small).collect();
            let runs = runs(&sizes, ms(due_ms) / 10);
            Some(Job::Merge(at, runs.iter().map(|r| (seen[r.start].first, seen[r.end - 1].first, r.len())).collect()))
        }
        Work::Pass if settings.keep == Keep::Latest => {
            let from = partition.latest_to.max(partition.first);
            let until_us = store.now_us - settings.deletes_kept_ms * 1000;
            Some(Job::Pass(Box::new(Pass {
                at,
                to: from,
                end: partition.next,
                until_us,
                keys: LatestKeys::new(from, 1 << 20),
                next: partition.first,
                read: None,
                rewriting: Vec::new(),
                stage: Stage::See,
            })))
        }
        Work::Move if settings.keep == Keep::All && settings.hot_span_ms.is_some() => {
            let limit = store.now_us - ms(settings.hot_span_ms);
            let old = partition.hot.values().take_while(|b| b.latest_us() < limit).take(4).cloned().collect();
            Some(Job::Move(at, old, None))
        }
        Work::Forget => {
            let partitions = store.topics[&at.0].partitions.len();
            let oldest = |p: usize| OldestBlocks {
                partition: PartitionId(i32::try_from(p).unwrap()),
                blocks: store.oldest((at.0, p)).into_iter().map(kept).collect(),
                more: false,
            };
            let oldest: Vec<OldestBlocks> = (0..partitions).map(oldest).collect();
            let total = oldest.iter().flat_map(|p| &p.blocks).map(|b| b.bytes).sum();
            let ends = forget(&oldest, total, settings, store.now_us);
            Some(Job::Forget(ends.iter().map(|(p, end)| ((at.0, usize::try_from(p.0).unwrap()), end.0)).collect()))
        }
        _ => None,
    }
}

fn kept((end, ages_from_us, records): (i64, i64, usize)) -> KeptBlock {
    KeptBlock { end: Offset(end), ages_from_us, bytes: i64::try_from(records).unwrap() * 10 }
}

/// Takes a step; the job that is left.
pub(super) fn step(job: Job, store: &mut Store) -> Result<Option<Job>, Fault> {
    Ok(match job {
        Job::Merge(at, mut runs) => {
            let run = runs.pop();
            run.map(|(from, to, expected)| {
                store.merge(at, from, to, expected);
                Job::Merge(at, runs)
            })
        }
        Job::Forget(mut ends) => ends.pop().map(|(at, end)| {
            store.forget(at, end);
            Job::Forget(ends)
        }),
        Job::Move(_, old, None) if old.is_empty() => None,
        Job::Move(at, old, None) => {
            let appended_us = old.iter().map(|b| b.appended_us).max().unwrap();
            let path = store.begin_file(at, old.clone(), appended_us);
            Some(Job::Move(at, old, Some((path, false))))
        }
        Job::Move(at, old, Some((path, false))) => {
            store.objects.insert(path, old.clone());
            Some(Job::Move(at, old, Some((path, true))))
        }
        Job::Move(at, old, Some((path, true))) => {
            store.finish_file(at, path, &old);
            None
        }
        Job::Drop(paths, Some(path)) => {
            if store.files.get(&path).is_some_and(|f| f.state == State::Dropping) {
                store.files.remove(&path);
            }
            Some(Job::Drop(paths, None))
        }
        Job::Drop(mut paths, None) => paths.pop_first().map(|path| {
            store.objects.remove(&path);
            Job::Drop(paths, Some(path))
        }),
        Job::Pass(mut pass) => pass.step(store)?.then_some(Job::Pass(pass)),
    })
}

impl Pass {
    fn stays(&self, (offset, rec): &(i64, Rec), appended_us: i64) -> bool {
        let time_us = rec.time_us.max(appended_us);
        *offset >= self.to || self.keys.stays(*offset, Some(&[rec.key]), rec.says, time_us, self.until_us)
    }

    fn left(&self, block: &Block) -> Vec<(i64, Rec)> {
        block.records.iter().filter(|r| self.stays(r, block.appended_us)).copied().collect()
    }

    /// False once it has ended, or given up.
    fn step(&mut self, store: &mut Store) -> Result<bool, Fault> {
        match std::mem::replace(&mut self.stage, Stage::Note) {
            Stage::See => self.see(store)?,
            Stage::List => self.stage = Stage::Files(store.files_before(self.at, self.to)),
            Stage::Files(files) => return Ok(self.file(store, files)),
            Stage::Swap(old, left, None, files) => return Ok(self.write(store, old, left, files)),
            Stage::Swap(old, left, Some((path, false)), files) => {
                store.objects.insert(path, left.clone());
                self.stage = Stage::Swap(old, left, Some((path, true)), files);
            }
            Stage::Swap(old, _, Some((path, true)), files) => {
                self.stage = Stage::Files(files);
                return Ok(store.swap_file(old, Some(path)));
            }
            Stage::Hot => return self.hot(store),
            Stage::Note => {
                let partition = store.topics.get_mut(&self.at.0).and_then(|t| t.partitions.get_mut(self.at.1));
                if let Some(partition) = partition {
                    partition.latest_to = self.to;
                }
                return Ok(false);
            }
        }
        Ok(true)
    }

    fn see(&mut self, store: &Store) -> Result<(), Fault> {
        self.stage = if self.to >= self.end { Stage::List } else { Stage::See };
        if self.to >= self.end {
            return Ok(());
        }
        let mut read = self.read.take().unwrap_or_else(|| Read::new(self.at, self.to, 3));
        match read.step(store)? {
            None => self.read = Some(read),
            Some(blocks) => {
                if blocks.is_empty() {
                    self.to = self.end;
                }
                for block in blocks {
                    block.records.iter().for_each(|(offset, r)| self.keys.see(*offset, Some(&[r.key]), r.says));
                    self.to = block.end;
                }
            }
        }
        Ok(())
    }

    /// Goes over the next file, by its bytes and by its row's index.
    fn file(&mut self, store: &mut Store, mut files: Vec<(u32, File)>) -> bool {
        if files.is_empty() {
            self.stage = Stage::Hot;
            return true;
        }
        let (path, file) = files.remove(0);
        self.next = file.end();
        let Some(object) = store.objects.get(&path) else { return false };
        let left: Vec<Block> = object.iter().map(|b| Block { records: self.left(b), ..b.clone() }).collect();
        self.stage = if left == *object {
            Stage::Files(files)
        } else {
            Stage::Swap(path, left.into_iter().filter(|b| !b.records.is_empty()).collect(), None, files)
        };
        true
    }

    fn write(&mut self, store: &mut Store, old: u32, left: Vec<Block>, files: Vec<(u32, File)>) -> bool {
        if left.is_empty() {
            self.stage = Stage::Files(files);
            return store.swap_file(old, None);
        }
        let appended_us = store.files.get(&old).map_or(i64::MAX, |f| f.appended_us);
        let path = store.begin_file(self.at, left.clone(), appended_us);
        self.stage = Stage::Swap(old, left, Some((path, false)), files);
        true
    }

    fn hot(&mut self, store: &mut Store) -> Result<bool, Fault> {
        self.stage = Stage::Hot;
        if !self.rewriting.is_empty() {
            let block = self.rewriting.remove(0);
            let left = self.left(&block);
            self.next = block.end;
            return Ok(left == block.records || store.rewrite(self.at, &block, left));
        }
        if self.next >= self.to {
            self.stage = Stage::Note;
            return Ok(true);
        }
        let mut read = self.read.take().unwrap_or_else(|| Read::new(self.at, self.next, 3));
        match read.step(store)? {
            None => self.read = Some(read),
            Some(blocks) => {
                self.rewriting = blocks.into_iter().filter(|b| b.first < self.to).collect();
                if self.rewriting.is_empty() {
                    self.stage = Stage::Note;
                }
            }
        }
        Ok(true)
    }
}

/// What a topic keeps in the schedules.
pub(super) fn settings(which: u8) -> TopicSettings {
    let all = TopicSettings::default();
    match which {
        0 => TopicSettings { hot_span_ms: Some(3), ..all },
        1 => TopicSettings { hot_span_ms: Some(2), forget_after_ms: Some(12), ..all },
        2 => TopicSettings { most_bytes: Some(60), ..all },
        3 => TopicSettings { forget_after_ms: Some(15), ..all },
        4..=7 => TopicSettings { keep: Keep::Latest, deletes_kept_ms: 4, ..all },
        _ => all,
    }
}

/// What a record says by number.
pub(super) fn says(which: u8) -> Says {
    [Says::Whole, Says::Whole, Says::Gone, Says::Part][usize::from(which % 4)]
}
