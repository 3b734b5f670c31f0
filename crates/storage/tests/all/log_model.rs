//! The log beside plain lists of records: whatever is done to it in whatever order, every read gives what the lists have.

use std::collections::BTreeMap;
use std::time::{Duration, Instant};

use gonvel_core::naming::{Offset, TopicName, TopicPartition};
use gonvel_core::ports::{Topic, TopicLog};
use gonvel_core::record::Record;
use gonvel_core::topic_settings::{Keep, TopicSettings};
use gonvel_stand_ins::dice::Dice;
use gonvel_stand_ins::test_cluster::TestCluster;
use gonvel_storage::Database;
use gonvel_storage::topic_log::keeper::Keeper;

use crate::support::{SECOND, append, open, record};

/// A partition as a list.
#[derive(Debug, Default, Clone)]
struct List {
    /// What was appended and not forgotten or superseded, by offset.
    kept: BTreeMap<i64, Record>,
    /// When it was appended, or earlier, by offset.
    appended_us: Vec<i64>,
    next: i64,
}

struct World {
    database: Database,
    topic: Topic,
    lists: Vec<List>,
    /// The time of the next record; it goes back now and then.
    clock_us: i64,
    steps: Vec<String>,
}

impl World {
    async fn new(database: Database) -> Self {
        let topic = database.create_topic(&name(), 1, &TopicSettings::default()).await.unwrap();
        Self { database, topic, lists: vec![List::default()], clock_us: now_us(), steps: Vec::new() }
    }

    fn at(&self, partition: usize) -> TopicPartition {
        TopicPartition {
            topic: self.topic.id,
            partition: gonvel_core::naming::PartitionId(i32::try_from(partition).unwrap()),
        }
    }

    async fn append(&mut self, dice: &mut Dice) {
        let partition = below(dice, self.lists.len());
        let records: Vec<Record> = (0..=below(dice, 6))
            .map(|n| {
                self.clock_us += i64::try_from(below(dice, 3)).unwrap() * SECOND - SECOND / 2;
                let key = format!("{}", below(dice, 7));
                // some of it comes late
                let late = below(dice, 4) / 3 * 5_000;
                let value = (below(dice, 5) > 0).then(|| format!("{} {n}", self.steps.len()));
                record(&key, value.as_deref(), self.clock_us - i64::try_from(late).unwrap() * SECOND)
            })
            .collect();
        let before = now_us();
        append(&self.database, self.at(partition), &records).await;
        let list = &mut self.lists[partition];
        for record in records {
            list.kept.insert(list.next, record);
            list.appended_us.push(before);
            list.next += 1;
        }
    }

    async fn change(&mut self, settings: &TopicSettings) {
        self.topic = self.database.change_topic(self.topic.id, self.topic.revision, settings).await.unwrap();
    }

    /// What a round of the keeper leaves: where the latest of each key is kept no more than one of each is needed, and whatever is
    /// gone is gone for good; else all but what is forgotten by age, from the start on.
    async fn keep(&mut self, now_us: i64) {
        let mut keeper = Keeper::new(self.database.clone());
        keeper.round(true, now_us).await;
        assert_eq!(keeper.said().failure, None, "{:?}", self.steps);
        let settings = self.topic.settings.clone();
        for partition in 0..self.lists.len() {
            let there = self.all(partition).await;
            let at = self.at(partition);
            let list = &mut self.lists[partition];
            let newest: BTreeMap<_, _> = list.kept.iter().map(|(offset, r)| (r.key.clone(), *offset)).collect();
            let first = self.database.bounds(at.topic).await.unwrap()[partition].first.0;
            for (offset, record) in &list.kept {
                if there.contains_key(offset) {
                    continue;
                }
                let ages_from = record.timestamp_us.max(list.appended_us[usize::try_from(*offset).unwrap()]);
                let forgotten = settings.forget_after_ms.is_some_and(|ms| ages_from < now_us - ms * 1000) && *offset < first;
                let superseded = settings.keep == Keep::Latest && newest[&record.key] > *offset;
                let deleted = settings.keep == Keep::Latest && record.value.is_none();
                assert!(forgotten || superseded || deleted, "record {offset} of {partition} is gone: {:?}", self.steps);
                // a delete goes only once nothing of its key is left before it
                let older = there.range(..offset).any(|(_, r)| r.key == record.key);
                assert!(!deleted || forgotten || !older, "a deleted row comes back: {:?}", self.steps);
            }
            list.kept.retain(|offset, _| there.contains_key(offset));
        }
    }

    /// A partition from its start on, in steps of few bytes.
    async fn all(&self, partition: usize) -> BTreeMap<i64, Record> {
        self.from(partition, 0, 1).await
    }

    async fn from(&self, partition: usize, from: i64, max_bytes: i64) -> BTreeMap<i64, Record> {
        let (at, mut next, mut out) = (self.at(partition), Offset(from), BTreeMap::new());
        loop {
            let blocks = self.database.read(at, next, max_bytes).await.unwrap();
            if blocks.is_empty() {
                return out;
            }
            for block in &blocks {
                let open = block.open(at).unwrap();
                let records = open.records().map(|r| r.map(|(offset, record)| (offset.0, record.to_record())).unwrap());
                out.extend(records.filter(|(offset, _)| *offset >= from));
                next = block.end();
            }
        }
    }

    async fn look(&self, dice: &mut Dice) {
        let partition = below(dice, self.lists.len());
        let (at, list) = (self.at(partition), &self.lists[partition]);
        let bounds = self.database.bounds(at.topic).await.unwrap()[partition];
        assert_eq!(
            (bounds.next.0, bounds.records),
            (list.next, i64::try_from(list.kept.len()).unwrap()),
            "{:?}",
            self.steps
        );
        let from = i64::try_from(below(dice, usize::try_from(list.next).unwrap() + 2)).unwrap();
        let max_bytes = [1, 200, 1 << 20][below(dice, 3)];
        let wanted: BTreeMap<i64, Record> = list.kept.range(from..).map(|(o, r)| (*o, r.clone())).collect();
        assert_eq!(self.from(partition, from, max_bytes).await, wanted, "from {from} of {partition}: {:?}", self.steps);
        let nothing = self.database.nothing_from(at, Offset(from)).await.unwrap();
        if let Some(end) = nothing {
            assert!(wanted.is_empty() && end.0 == list.next && from < end.0, "{:?}", self.steps);
        }
        let back = self.database.read_back(at, Offset(from)).await.unwrap();
        let before = list.kept.range(..=from).next_back().map(|(offset, _)| *offset);
        if let Some(before) = before {
            let block = back.unwrap_or_else(|| panic!("nothing up to {from} of {partition}: {:?}", self.steps));
            assert!(block.first.0 <= from && block.end().0 > before, "{from} of {partition}: {:?}", self.steps);
        }
        let time = self.clock_us - i64::try_from(below(dice, 400)).unwrap() * SECOND;
        let found = self.database.block_at_time(at, time).await.unwrap();
        let first = list.kept.iter().find(|(_, r)| r.timestamp_us >= time).map(|(offset, _)| *offset);
        assert!(
            first.is_none_or(|first| found.0 <= first),
            "time {time} of {partition} at {found:?}, not {first:?}: {:?}",
            self.steps
        );
    }

    async fn step(&mut self, dice: &mut Dice) {
        let all = TopicSettings::default;
        let what = below(dice, 20);
        self.steps.push(what.to_string());
        match what {
            0..=8 => self.append(dice).await,
            9..=11 => {
                let later = [0, 20 * SECOND, 4_000 * SECOND][below(dice, 3)];
                self.keep(self.clock_us + later).await;
            }
            12 => self.keep(now_us() + 10_000 * SECOND).await,
            13 => self.change(&TopicSettings { hot_span_ms: Some(5_000), ..all() }).await,
            14 => self.change(&TopicSettings { hot_span_ms: Some(5_000), forget_after_ms: Some(3_000_000), ..all() }).await,
            15 | 16 => self.change(&TopicSettings { keep: Keep::Latest, deletes_kept_ms: 60_000, ..all() }).await,
            17 => self.change(&all()).await,
            18 if self.lists.len() < 4 => {
                let partitions = i32::try_from(self.lists.len() + 1).unwrap();
                self.topic = self.database.add_partitions(self.topic.id, partitions, &[]).await.unwrap();
                self.lists.push(List::default());
            }
            19 if below(dice, 6) == 0 => {
                self.database.delete_topic(self.topic.id).await.unwrap();
                self.topic = self.database.create_topic(&name(), 2, &all()).await.unwrap();
                self.lists = vec![List::default(); 2];
                self.steps.clear();
            }
            _ => {}
        }
        for _ in 0..2 {
            self.look(dice).await;
        }
    }
}

fn now_us() -> i64 {
    chrono::Utc::now().timestamp_micros()
}

fn below(dice: &mut Dice, sides: usize) -> usize {
    usize::try_from(dice.roll(sides as u64)).unwrap()
}

fn name() -> TopicName {
    TopicName::parse("packhouse.varieties").unwrap()
}

/// 300 steps, or more of them for as long as `GONVEL_LOG_SECONDS` says; by `GONVEL_LOG_SEED`.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn whatever_is_done_to_the_log_it_reads_as_a_list() {
    let asked = |name: &str| std::env::var(name).ok().and_then(|text| text.parse::<u64>().ok());
    let (seconds, seed) = (asked("GONVEL_LOG_SECONDS").unwrap_or(0), asked("GONVEL_LOG_SEED").unwrap_or(20));
    let cluster = TestCluster::start(&["gonvel"]).await;
    let folder = tempfile::tempdir().unwrap();
    let database = open(&cluster).await.with_cold_store(&format!("file://{}", folder.path().display()), []).unwrap();
    let (mut world, mut dice) = (World::new(database).await, Dice::new(seed));
    let (until, mut steps) = (Instant::now() + Duration::from_secs(seconds), 0);
    while steps < 300 || Instant::now() < until {
        world.step(&mut dice).await;
        steps += 1;
    }
    println!("seed {seed}: {steps} steps");
}
