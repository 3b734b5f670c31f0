//! The log as a machine of few states: appends, merges, passes over keys, moves to files, forgetting, partitions that are added, topics
//! that are deleted and made again; readers, tails, searches by key and by time and pages back beside them, by two keepers at once, of
//! which one may have slept. Random schedules take the statements in any order that the product allows; what the product works out
//! (what is merged, superseded, forgotten, where a read goes on, which partitions hold a key) is worked out by the product's own code.
//! Each read is compared with plain lists.

mod keeper;
mod lists;
mod reads;
mod store;

use gonvel_core::partitioning::partition_of;
use proptest::prelude::*;

use keeper::{Job, Work};
use lists::{Fault, Lists};
use reads::{Back, Reader, Search};
use store::{At, Rec, Store};

const MOST_PARTITIONS: usize = 3;

#[derive(Debug, Clone, Copy)]
enum Step {
    /// Records of a key and the one after it, by what they say, so much late; into a partition that is named, or that of the key.
    Append {
        key: u8,
        says: u8,
        late_ms: i64,
        named: Option<u8>,
        many: bool,
    },
    /// One who knew the topic before it was changed appends as it did then.
    AppendLate {
        key: u8,
    },
    Wait(i64),
    Settings(u8),
    AddPartition,
    DeleteAndMake,
    /// A keeper begins some work, in a partition, or goes on with what it does.
    Keep(usize, Work, u8),
    GoOn(usize),
    /// What is there by now moves to files, with nothing beside it.
    MoveAll,
    Read(usize),
    Search(u8),
    Back(u8),
    Time(i64),
}

struct World {
    store: Store,
    lists: Lists,
    topic: u32,
    /// What a producer knew of it when it looked last: its number and how many partitions it had.
    known: (u32, usize),
    keepers: [Option<Job>; 2],
    /// From the start, and what came since.
    readers: Vec<Reader>,
    searches: Vec<Search>,
    backs: Vec<Back>,
}

impl World {
    fn new() -> Self {
        let mut store = Store { now_us: 1_000_000, ..Store::default() };
        let topic = store.create(1);
        let (lists, known) = (Lists::default(), (topic, 1));
        let readers = vec![Reader::new(&store, &lists, topic, false, 1), Reader::new(&store, &lists, topic, true, 9)];
        Self { store, lists, topic, known, keepers: [None, None], readers, searches: Vec::new(), backs: Vec::new() }
    }

    fn partitions(&self) -> usize {
        self.store.topics[&self.topic].partitions.len()
    }

    fn at(&self, which: u8) -> At {
        (self.topic, usize::from(which) % self.partitions())
    }

    fn append(&mut self, at: At, records: &[Rec]) {
        if let Some(first) = self.store.append(at, records) {
            self.lists.append(at, first, records, self.store.now_us);
        }
    }

    /// By the number of partitions that its producer knows.
    fn append_keyed(&mut self, (topic, partitions): (u32, usize), named: Option<u8>, records: &[Rec]) {
        let own = |r: &Rec| partition_of(Some(&[r.key]), i32::try_from(partitions).unwrap()).0;
        let named = named.map(|n| usize::from(n) % partitions);
        for record in records {
            let own = usize::try_from(own(record)).unwrap();
            let to = named.unwrap_or(own);
            // said before anything is appended elsewhere
            if to != own
                && let Some(topic) = self.store.topics.get_mut(&topic)
            {
                topic.scattered = true;
            }
            self.append((topic, to), std::slice::from_ref(record));
        }
    }

    fn go_on(&mut self, which: usize) -> Result<(), Fault> {
        if let Some(job) = self.keepers[which].take() {
            self.keepers[which] = keeper::step(job, &mut self.store)?;
        }
        Ok(())
    }

    fn move_all(&mut self) -> Result<(), Fault> {
        self.store.topics.get_mut(&self.topic).unwrap().settings = keeper::settings(0);
        self.store.now_us += 5_000;
        for at in (0..self.partitions()).map(|p| (self.topic, p)) {
            let mut job = keeper::begin(Work::Move, &mut self.store, at);
            while let Some(moving) = job {
                job = keeper::step(moving, &mut self.store)?;
            }
        }
        Ok(())
    }

    fn take(&mut self, step: Step) -> Result<(), Fault> {
        self.lists.tick += 1;
        match step {
            Step::Append { key, says, late_ms, named, many } => {
                let time_us = self.store.now_us - late_ms * 1000;
                let rec =
                    |n: u8| Rec { key: key + n, says: keeper::says(says.wrapping_add(n)), time_us: time_us + i64::from(n) };
                self.known = (self.topic, self.partitions());
                let records: Vec<Rec> = (0..=u8::from(many)).map(rec).collect();
                match named {
                    // as one block
                    Some(_) if many => {
                        self.store.topics.get_mut(&self.topic).unwrap().scattered = true;
                        self.append(self.at(named.unwrap()), &records);
                    }
                    _ => self.append_keyed(self.known, named, &records),
                }
            }
            Step::AppendLate { key } => {
                let record = Rec { key, says: keeper::says(0), time_us: self.store.now_us };
                self.append_keyed(self.known, None, &[record]);
            }
            Step::Wait(ms) => self.store.now_us += ms * 1000,
            Step::Settings(which) => self.store.topics.get_mut(&self.topic).unwrap().settings = keeper::settings(which),
            Step::AddPartition if self.partitions() < MOST_PARTITIONS => {
                let topic = self.store.topics.get_mut(&self.topic).unwrap();
                topic.partitions.push(store::Partition::default());
                topic.scattered = true;
            }
            Step::AddPartition => {}
            Step::DeleteAndMake => {
                self.store.topics.get_mut(&self.topic).unwrap().deleted = true;
                self.topic = self.store.create(2);
                self.readers = vec![
                    Reader::new(&self.store, &self.lists, self.topic, false, 1),
                    Reader::new(&self.store, &self.lists, self.topic, true, 9),
                ];
            }
            Step::Keep(which, work, partition) => match self.keepers[which] {
                None => {
                    let at = self.at(partition);
                    self.keepers[which] = keeper::begin(work, &mut self.store, at);
                }
                Some(_) => self.go_on(which)?,
            },
            Step::GoOn(which) => self.go_on(which)?,
            Step::MoveAll => self.move_all()?,
            Step::Read(which) => self.readers[which].step(&self.store, &mut self.lists)?,
            Step::Search(key) => self.searches.push(Search::new(&self.store, &self.lists, self.topic, key)),
            Step::Back(from) => {
                let at = self.at(from);
                self.backs.push(Back::new(
                    &self.lists,
                    at,
                    i64::from(from) % (self.store.topics[&at.0].partitions[at.1].next + 1),
                ));
            }
            Step::Time(ms) => self.time(ms)?,
        }
        self.allow();
        // those who search and go back take one step each
        for mut search in std::mem::take(&mut self.searches) {
            if !search.step(&self.store, &mut self.lists)? {
                self.searches.push(search);
            }
        }
        for mut back in std::mem::take(&mut self.backs) {
            if !back.step(&self.store, &self.lists)? {
                self.backs.push(back);
            }
        }
        Ok(())
    }

    /// What the topic's rules let go from now on; a pass that is under way goes by those from before.
    fn allow(&mut self) {
        let passes = self.keepers.iter().any(|job| matches!(job, Some(Job::Pass(_))));
        let topic = &self.store.topics[&self.topic];
        self.lists.allow(self.topic, &topic.settings, passes, self.store.now_us);
    }

    fn time(&self, ms: i64) -> Result<(), Fault> {
        let time_us = self.store.now_us - ms * 1000;
        for at in (0..self.partitions()).map(|p| (self.topic, p)) {
            let (found, first) = (self.store.block_at_time(at, time_us), self.lists.first_at(at, time_us));
            if let (Some(found), Some(first)) = (found, first)
                && found > first
            {
                return Err(format!("time {time_us} of {at:?} is at {found}, and {first} is kept"));
            }
        }
        Ok(())
    }

    /// All that is under way ends, with nothing else beside it.
    fn settle(&mut self) -> Result<(), Fault> {
        for which in 0..2 {
            while self.keepers[which].is_some() {
                self.take(Step::GoOn(which))?;
            }
        }
        for which in 0..self.readers.len() {
            let mut steps = 0;
            while !self.readers[which].is_done(&self.store, &self.lists)? {
                self.take(Step::Read(which))?;
                steps += 1;
                if steps > 1_000 {
                    return Err(format!("a reader stands: {:?}", self.readers[which]));
                }
            }
        }
        while !self.searches.is_empty() || !self.backs.is_empty() {
            self.take(Step::Wait(0))?;
        }
        self.keepers[0] = keeper::begin(Work::Drop, &mut self.store, (self.topic, 0));
        while self.keepers[0].is_some() {
            self.take(Step::GoOn(0))?;
        }
        let files: Vec<u32> = self.store.files.keys().copied().collect();
        let objects: Vec<u32> = self.store.objects.keys().copied().collect();
        if files != objects {
            return Err(format!("files {files:?}, and there are {objects:?}"));
        }
        (0..self.partitions()).try_for_each(|p| self.ends_as_appended((self.topic, p)))
    }

    /// A reader from the start ends with what one ends with to whom nothing was superseded.
    fn ends_as_appended(&mut self, at: At) -> Result<(), Fault> {
        let twice = self.store.twice(at);
        if !twice.is_empty() {
            return Err(format!("{at:?} has blocks twice: {twice:?}"));
        }
        let (mut from, mut there) = (0, Vec::new());
        loop {
            let began = self.lists.began();
            let mut read = reads::Read::new(at, from, 9);
            let blocks = loop {
                if let Some(blocks) = read.step(&self.store)? {
                    break blocks;
                }
            };
            self.lists.read(at, from, &began, &blocks)?;
            let Some(last) = blocks.last() else { break };
            there.extend(blocks.iter().flat_map(|b| b.records.iter().copied()));
            from = last.end;
        }
        let entries = self.lists.entries(at);
        let all = lists::state((0..).zip(entries).map(|(n, e)| (n, e.rec)));
        let kept = lists::state(there.into_iter());
        let forgotten = |offset: &i64| entries[usize::try_from(*offset).unwrap()].may_be_forgotten;
        for (key, offsets) in &all {
            if !offsets.iter().any(forgotten) && kept.get(key) != Some(offsets) {
                return Err(format!("key {key} of {at:?} ends as {:?}, not as {offsets:?}", kept.get(key)));
            }
        }
        let deleted = |key: &u8| entries.iter().rfind(|e| e.rec.key == *key).is_some_and(|e| e.may_be_forgotten);
        match kept.keys().find(|key| !all.contains_key(key) && !deleted(key)) {
            Some(key) => Err(format!("key {key} of {at:?} comes back")),
            None => Ok(()),
        }
    }
}

fn append() -> impl Strategy<Value = Step> {
    let late = prop_oneof![4 => Just(0_i64), 1 => 0_i64..40];
    (0_u8..4, any::<u8>(), late, prop::option::weighted(0.1, 0_u8..3), any::<bool>())
        .prop_map(|(key, says, late_ms, named, many)| Step::Append { key, says, late_ms, named, many })
}

/// Some records that are there already, in files or not, as old as it may be, in a topic that keeps what it may be; and then anything.
fn schedule() -> impl Strategy<Value = Vec<Step>> {
    let before = (prop::collection::vec(append(), 0..8), any::<bool>(), 0_u8..10, 0_i64..12);
    (before, prop::collection::vec(step(), 0..60)).prop_map(|((mut steps, moved, settings, wait), then)| {
        steps.extend(moved.then_some(Step::MoveAll));
        steps.extend([Step::Wait(wait), Step::Settings(settings)]);
        steps.extend(then);
        steps
    })
}

fn step() -> impl Strategy<Value = Step> {
    let work = prop_oneof![
        3 => Just(Work::Merge),
        5 => Just(Work::Pass),
        4 => Just(Work::Move),
        2 => Just(Work::Forget),
        2 => Just(Work::Drop),
    ];
    prop_oneof![
        10 => append(),
        1 => (0_u8..4).prop_map(|key| Step::AppendLate { key }),
        4 => (0_i64..8).prop_map(Step::Wait),
        2 => (0_u8..10).prop_map(Step::Settings),
        1 => Just(Step::AddPartition),
        1 => prop::bool::weighted(0.3).prop_map(|now| if now { Step::DeleteAndMake } else { Step::Wait(1) }),
        8 => (0_usize..2, work, 0_u8..3).prop_map(|(which, work, at)| Step::Keep(which, work, at)),
        20 => (0_usize..2).prop_map(Step::GoOn),
        8 => (0_usize..2).prop_map(Step::Read),
        2 => (0_u8..5).prop_map(Step::Search),
        2 => any::<u8>().prop_map(Step::Back),
        2 => (-2_i64..30).prop_map(Step::Time),
    ]
}

/// `GONVEL_SCHEDULES` says how many.
fn config() -> ProptestConfig {
    let cases = std::env::var("GONVEL_SCHEDULES").ok().and_then(|n| n.parse().ok()).unwrap_or(100_000);
    ProptestConfig { cases, failure_persistence: None, max_shrink_iters: 100_000, ..ProptestConfig::default() }
}

proptest! {
    #![proptest_config(config())]

    #[test]
    fn whatever_is_done_to_the_log_beside_them_all_reads_give_what_the_lists_have(steps in schedule()) {
        let mut world = World::new();
        let run = steps.iter().try_for_each(|step| world.take(*step)).and_then(|()| world.settle());
        prop_assert!(run.is_ok(), "{}", run.unwrap_err());
    }
}
