//! Delivery as a machine of few states: a source, a load of it beside its transactions, its topic in partitions, lanes that deliver rounds of
//! it, a target that refuses some rows, quarantine, retries, truncates, leases that are lost. Random schedules of it run what the product
//! runs (which rows of a load come, folding, what goes behind what waits, which truncate is due, partitions by keys) and take the steps in
//! the order in which the product takes them, with crashes between any two. However they fall: once nothing is refused any more and all is
//! tried again, the target is the source, and nothing waits.

mod source;

use std::collections::{BTreeMap, BTreeSet};
use std::sync::{Arc, LazyLock};

use gonvel_core::change::{ChangeBatch, ChangeBatchBuilder, ChangeKind, OldImage, Origin};
use gonvel_core::column::{ColumnType, Value};
use gonvel_core::fold::{Place, fold};
use gonvel_core::partitioning::partition_of;
use gonvel_core::table::{Column, TableSchema};
use gonvel_core::truncate::{Come, Here, Mark};
use gonvel_core::waiting::{Comes, Waiting};
use proptest::prelude::*;

use source::Source;

const PARTITIONS: usize = 3;
const LANES: usize = 2;

/// A row: a small value, and a large one that is not sent where it did not change.
type Row = (i32, i32);
type Rows = BTreeMap<u8, Row>;

#[derive(Debug, Clone, Copy, PartialEq)]
enum What {
    Load(Row),
    Insert(Row),
    Update(Row),
    Part(i32),
    Delete,
    Truncate(Mark),
}

#[derive(Debug, Clone, Copy)]
struct Record {
    key: u8,
    what: What,
    time_us: i64,
}

/// A record in quarantine.
#[derive(Debug, Clone, Copy)]
struct Kept {
    id: u64,
    partition: usize,
    offset: i64,
}

/// What can happen.
#[derive(Debug, Clone, Copy)]
enum Step {
    /// The source does something.
    Source(source::Step),
    /// It does, and all that its log has comes.
    Comes(source::Step),
    /// A lane delivers a round of so many records, and may crash after so many of its steps.
    Round(usize, usize, Option<u8>),
    /// A record of those that wait is tried again, or all are.
    Retry(usize, bool, Option<u8>),
    /// The target takes other rows from now on.
    Refuse(Option<i32>),
    /// A lane's holder loses its lease and does not know it.
    Lose(usize),
    /// Partitions whose turn it is come to a truncate.
    Together,
}

struct World {
    source: Source,
    log: Vec<Vec<Record>>,
    /// The target: its rows, and what commits with them.
    target: Rows,
    next: Vec<i64>,
    newest: Vec<Option<i64>>,
    retried: BTreeSet<u64>,
    refuses: Option<i32>,
    quarantine: Vec<Kept>,
    ids: u64,
    /// Whether a lane's holder is the latest.
    holds: Vec<bool>,
}

/// A crash between two steps.
struct Crash;

static TABLE: LazyLock<Arc<TableSchema>> = LazyLock::new(|| {
    let column = |name: &str, key| Column { name: name.into(), ty: ColumnType::Int32, source_type: "".into(), key };
    let columns = vec![column("id", true), column("small", false), column("large", false)];
    Arc::new(TableSchema { system: "packhouse".into(), schema: "public".into(), table: "bins".into(), columns })
});

fn batch(records: &[Record]) -> ChangeBatch {
    let mut builder = ChangeBatchBuilder::new(TABLE.clone());
    for record in records {
        let (kind, row) = match record.what {
            What::Load(row) => (ChangeKind::Load, Some((row.0, Some(row.1)))),
            What::Insert(row) => (ChangeKind::Insert, Some((row.0, Some(row.1)))),
            What::Update(row) => (ChangeKind::Update, Some((row.0, Some(row.1)))),
            What::Part(small) => (ChangeKind::Update, Some((small, None))),
            What::Delete => (ChangeKind::Delete, None),
            What::Truncate(_) => (ChangeKind::Truncate, None),
        };
        builder.begin(kind, Origin::default());
        match row {
            None => builder.no_new(),
            Some((small, large)) => {
                builder.new_value(0, Value::Int(record.key.into())).unwrap();
                builder.new_value(1, Value::Int(small)).unwrap();
                match large {
                    Some(large) => builder.new_value(2, Value::Int(large)).unwrap(),
                    None => builder.new_unchanged(2),
                }
            }
        }
        if kind == ChangeKind::Delete {
            builder.begin_old(OldImage::Key);
            builder.old_value(0, Value::Int(record.key.into())).unwrap();
            builder.old_value(1, Value::Null).unwrap();
            builder.old_value(2, Value::Null).unwrap();
        } else {
            builder.no_old();
        }
    }
    builder.finish()
}

fn lane_of(partition: usize) -> usize {
    partition % LANES
}

fn partition(key: u8) -> usize {
    partition_of(Some(&[key]), i32::try_from(PARTITIONS).unwrap()).0.unsigned_abs() as usize
}

impl World {
    fn new(source: Source) -> Self {
        Self {
            source,
            log: vec![Vec::new(); PARTITIONS],
            target: Rows::new(),
            next: vec![0; PARTITIONS],
            newest: vec![None; PARTITIONS],
            retried: BTreeSet::new(),
            refuses: None,
            quarantine: Vec::new(),
            ids: 0,
            holds: vec![true; LANES],
        }
    }

    /// Records are appended, truncates to all partitions.
    fn append(&mut self, records: Vec<Record>) {
        for record in records {
            match record.what {
                What::Truncate(_) => self.log.iter_mut().for_each(|partition| partition.push(record)),
                _ => self.log[partition(record.key)].push(record),
            }
        }
    }

    /// Whether the target takes a row.
    fn takes(&self, row: Row) -> bool {
        self.refuses.is_none_or(|rest| row.0.rem_euclid(3) != rest)
    }

    /// Writes changes as one, by what they come to; none if the target refuses any.
    fn write_all(&self, rows: &Rows, changes: &[(usize, i64, Record)]) -> Option<Rows> {
        let records: Vec<Record> = changes.iter().map(|(.., record)| *record).collect();
        let batches = [batch(&records)];
        let keys: Vec<[u8; 1]> = records.iter().map(|record| [record.key]).collect();
        let places = keys.iter().enumerate().map(|(row, key)| ((0, row), &key[..]));
        let mut rows = rows.clone();
        for segment in fold(&batches, places) {
            let of = |&(_, row): &Place| records[row];
            for place in &segment.deletes {
                rows.remove(&of(place).key);
            }
            for place in segment.upserts.iter().chain(&segment.updates).chain(&segment.inserts) {
                let (What::Load(row) | What::Insert(row) | What::Update(row)) = of(place).what else {
                    panic!("{:?}", of(place))
                };
                rows.insert(of(place).key, row);
                self.takes(row).then_some(())?;
            }
            for place in &segment.partials {
                let What::Part(small) = of(place).what else { panic!("{:?}", of(place)) };
                // one that finds no row is refused
                let row = rows.get_mut(&of(place).key)?;
                row.0 = small;
                let row = *row;
                self.takes(row).then_some(())?;
            }
        }
        Some(rows)
    }

    /// Writes what the target takes of changes; gives the numbers of the others.
    fn sift(&self, rows: &mut Rows, changes: &[(usize, i64, Record)], held: &Waiting<(usize, u8)>) -> Vec<usize> {
        let mut held = held.clone();
        let mut refused = Vec::new();
        for (number, change) in changes.iter().enumerate() {
            let comes = comes(change);
            let behind = held.behind(std::iter::once(comes)).next().is_some();
            match (!behind).then(|| self.write_all(rows, std::slice::from_ref(change))).flatten() {
                Some(written) => {
                    *rows = written;
                    held.delivered(&comes);
                }
                None => {
                    held.note(comes.key, comes.offset);
                    refused.push(number);
                }
            }
        }
        refused
    }

    fn waiting(&self, but: &[u64]) -> Waiting<(usize, u8)> {
        let mut waiting = Waiting::default();
        for kept in self.quarantine.iter().filter(|kept| !but.contains(&kept.id)) {
            waiting.note((kept.partition, self.at(kept).key), kept.offset);
        }
        waiting
    }

    fn at(&self, kept: &Kept) -> Record {
        self.log[kept.partition][usize::try_from(kept.offset).unwrap()]
    }

    /// What waits from before whole rows that are delivered is void.
    fn supersede(&mut self, delivered: &[(usize, i64, Record)]) {
        let log = &self.log;
        self.quarantine.retain(|kept| {
            let key = log[kept.partition][usize::try_from(kept.offset).unwrap()].key;
            let overtakes = |(partition, offset, record): &(usize, i64, Record)| {
                *partition == kept.partition
                    && record.key == key
                    && *offset > kept.offset
                    && !matches!(record.what, What::Part(_))
            };
            !delivered.iter().any(overtakes)
        });
    }

    /// A lane that begins anew takes back what it is to deliver yet.
    fn begin(&mut self, lane: usize) {
        let next = self.next.clone();
        self.quarantine.retain(|kept| lane_of(kept.partition) != lane || kept.offset < next[kept.partition]);
        self.holds[lane] = true;
    }

    /// Nothing is noted or committed by who lost the lane; `step` counts down to a crash.
    fn next_step(&self, lane: usize, step: &mut Option<u8>) -> Result<(), Crash> {
        if !self.holds[lane] || *step == Some(0) {
            return Err(Crash);
        }
        *step = step.map(|left| left - 1);
        Ok(())
    }

    fn round(&mut self, lane: usize, most: usize, mut crash: Option<u8>) -> Result<(), Crash> {
        let mut next = self.next.clone();
        let mut changes = Vec::new();
        for partition in (0..PARTITIONS).filter(|p| lane_of(*p) == lane) {
            for record in self.log[partition].iter().skip(usize::try_from(next[partition]).unwrap()).take(most) {
                if matches!(record.what, What::Truncate(_)) {
                    break;
                }
                changes.push((partition, next[partition], *record));
                next[partition] += 1;
            }
        }
        let held = self.waiting(&[]);
        let goes_behind = held.behind(changes.iter().map(comes)).next().is_some();
        let (target, refused) = match (!goes_behind).then(|| self.write_all(&self.target, &changes)).flatten() {
            Some(target) => (target, Vec::new()),
            None => {
                let mut target = self.target.clone();
                let refused = self.sift(&mut target, &changes, &held);
                (target, refused)
            }
        };
        self.next_step(lane, &mut crash)?;
        for number in &refused {
            let (partition, offset, _) = changes[*number];
            self.quarantine.retain(|kept| (kept.partition, kept.offset) != (partition, offset));
            self.ids += 1;
            self.quarantine.push(Kept { id: self.ids, partition, offset });
        }
        self.next_step(lane, &mut crash)?;
        let delivered: Vec<_> = (0..changes.len()).filter(|n| !refused.contains(n)).map(|n| changes[n]).collect();
        self.supersede(&delivered);
        self.next_step(lane, &mut crash)?;
        for partition in (0..PARTITIONS).filter(|p| lane_of(*p) == lane) {
            let newest = changes.iter().rev().find(|(of, ..)| *of == partition);
            self.newest[partition] = newest.map(|(.., record)| record.time_us).or(self.newest[partition]);
        }
        (self.target, self.next) = (target, next);
        Ok(())
    }

    fn retry(&mut self, which: usize, all: bool, mut crash: Option<u8>) -> Result<(), Crash> {
        let Some(chosen) = self.quarantine.get(which % self.quarantine.len().max(1)).copied() else { return Ok(()) };
        let lane = lane_of(chosen.partition);
        let mut asked: Vec<Kept> = self
            .quarantine
            .iter()
            .filter(|kept| kept.id == chosen.id || all && lane_of(kept.partition) == lane)
            .copied()
            .collect();
        asked.sort_by_key(|kept| (kept.partition, kept.offset));
        let before: Vec<u64> = asked.iter().map(|kept| kept.id).filter(|id| self.retried.contains(id)).collect();
        asked.retain(|kept| !before.contains(&kept.id));
        let changes: Vec<_> = asked.iter().map(|kept| (kept.partition, kept.offset, self.at(kept))).collect();
        let ids: Vec<u64> = asked.iter().map(|kept| kept.id).chain(before.iter().copied()).collect();
        let mut target = self.target.clone();
        let refused = self.sift(&mut target, &changes, &self.waiting(&ids));
        let done: Vec<usize> = (0..changes.len()).filter(|n| !refused.contains(n)).collect();
        self.next_step(lane, &mut crash)?;
        self.supersede(&done.iter().map(|n| changes[*n]).collect::<Vec<_>>());
        self.next_step(lane, &mut crash)?;
        let done: Vec<u64> = done.iter().map(|n| asked[*n].id).collect();
        self.target = target;
        self.retried.extend(&done);
        self.next_step(lane, &mut crash)?;
        self.quarantine.retain(|kept| !done.contains(&kept.id) && !before.contains(&kept.id));
        Ok(())
    }

    fn here(&self, partition: usize) -> Here {
        let next = self.log[partition].get(usize::try_from(self.next[partition]).unwrap());
        Here {
            truncate: next.and_then(|record| if let What::Truncate(mark) = record.what { Some(mark) } else { None }),
            at_end: next.is_none(),
            newest_us: self.newest[partition],
        }
    }

    /// Carries out the truncate that is due, if one is.
    fn together(&mut self) {
        let Some(due) = (0..PARTITIONS).filter_map(|p| self.here(p).truncate).min() else { return };
        if (0..PARTITIONS).any(|p| due.reached(self.here(p)) != Come::Here) || self.holds.contains(&false) {
            return;
        }
        // all that waits was read before it
        self.quarantine.clear();
        self.target.clear();
        for partition in 0..PARTITIONS {
            self.next[partition] += 1;
            self.newest[partition] = Some(due.time_us);
        }
    }

    fn take(&mut self, step: Step) {
        let lane = match step {
            Step::Source(step) => {
                let records = self.source.take(step);
                return self.append(records);
            }
            Step::Comes(step) => {
                self.source.take(step);
                let records = self.source.settle();
                return self.append(records);
            }
            Step::Refuse(rest) => {
                self.refuses = rest;
                return;
            }
            Step::Together => return self.together(),
            Step::Lose(lane) => {
                self.holds[lane] = false;
                return;
            }
            Step::Round(lane, most, crash) => self.round(lane, most, crash).err().map(|_| lane),
            Step::Retry(which, all, crash) => {
                let lane =
                    self.quarantine.get(which % self.quarantine.len().max(1)).map_or(0, |kept| lane_of(kept.partition));
                self.retry(which, all, crash).err().map(|_| lane)
            }
        };
        // whoever crashed, or found that another holds the lane, begins anew
        if let Some(lane) = lane {
            self.begin(lane);
        }
    }

    /// Goes on without anything in the way until nothing is left to do.
    fn settle(&mut self) {
        self.refuses = None;
        let records = self.source.settle();
        self.append(records);
        for _ in 0..400 {
            for lane in 0..LANES {
                self.take(Step::Round(lane, 5, None));
            }
            self.together();
            for which in 0..LANES {
                self.take(Step::Retry(which, true, None));
            }
            let read = (0..PARTITIONS).all(|p| usize::try_from(self.next[p]).unwrap() == self.log[p].len());
            if read && self.quarantine.is_empty() {
                return;
            }
        }
    }
}

fn comes((partition, offset, record): &(usize, i64, Record)) -> Comes<(usize, u8)> {
    Comes { key: (*partition, record.key), offset: *offset, part: matches!(record.what, What::Part(_)) }
}

/// Steps of delivery, of which lanes crash in some and lose their leases in others, or not.
fn delivery(fails: bool) -> impl Strategy<Value = Step> {
    let crash = move || prop::option::weighted(0.4, 0_u8..4).prop_map(move |crash| crash.filter(|_| fails));
    prop_oneof![
        10 => (0..LANES, 1_usize..6, crash()).prop_map(|(lane, most, crash)| Step::Round(lane, most, crash)),
        6 => (any::<usize>(), any::<bool>(), crash()).prop_map(|(which, all, crash)| Step::Retry(which, all, crash)),
        4 => prop::option::of(0_i32..3).prop_map(Step::Refuse),
        if fails { 3 } else { 1 } => (0..LANES).prop_map(move |lane| if fails { Step::Lose(lane) } else { Step::Together }),
        4 => Just(Step::Together),
    ]
}

fn write() -> impl Strategy<Value = source::Step> {
    (0_u8..6, any::<u8>(), 0_i32..12).prop_map(|(key, choice, value)| source::Step::Write(key, choice, value))
}

/// Those beside a source whose changes come at once.
fn step(fails: bool) -> impl Strategy<Value = Step> {
    prop_oneof![
        16 => write().prop_map(Step::Comes),
        2 => Just(Step::Comes(source::Step::Truncate)),
        24 => delivery(fails),
    ]
}

/// What a source does by itself.
fn changes() -> impl Strategy<Value = source::Step> {
    use source::Step;
    prop_oneof![
        6 => write(),
        6 => (0_usize..3, any::<bool>(), 0_u8..6, any::<u8>(), 0_i32..12)
            .prop_map(|(which, savepoint, key, choice, value)| Step::WriteIn(which, savepoint, key, choice, value)),
        5 => (0_usize..2, 0_u8..4).prop_map(|(which, choice)| Step::End(which, choice > 0)),
        5 => Just(Step::Seen),
        1 => Just(Step::Truncate),
        1 => (0_u8..3).prop_map(Step::Rewrite),
    ]
}

/// Those beside a source that is loaded.
fn step_of_load() -> impl Strategy<Value = Step> {
    use source::Step as Of;
    let followed = prop_oneof![
        16 => changes(),
        8 => Just(Of::Follow),
        10 => (0_usize..2).prop_map(Of::Read),
        1 => Just(Of::Break),
        1 => any::<bool>().prop_map(Of::LoadAgain),
    ];
    prop_oneof![6 => followed.prop_map(Step::Source), 1 => delivery(true)]
}

/// How many schedules of each kind: `GONVEL_SCHEDULES` says how many in all.
fn config() -> ProptestConfig {
    let all: u32 = std::env::var("GONVEL_SCHEDULES").ok().and_then(|n| n.parse().ok()).unwrap_or(100_000);
    ProptestConfig { cases: all / 3 + 1, failure_persistence: None, max_shrink_iters: 100_000, ..ProptestConfig::default() }
}

fn run(before: &[source::Step], steps: &[Step]) -> Result<(), TestCaseError> {
    let mut source = Source::new();
    for step in before {
        source.take(*step);
    }
    source.begin();
    let mut world = World::new(source);
    for step in steps {
        world.take(*step);
    }
    world.settle();
    prop_assert!(world.quarantine.is_empty(), "waits: {:?} {:?}", world.quarantine, world.log);
    prop_assert_eq!(&world.target, &world.source.rows(), "{:?}", world.log);
    prop_assert_eq!(world.source.doubled, None, "came twice: {:?}", world.log);
    Ok(())
}

/// A transaction of one write that comes at once: an insert if the row is not there, else the whole row or only its small value.
fn comes_now(key: u8, whole: bool, small: i32) -> Step {
    Step::Comes(source::Step::Write(key, if whole { 1 } else { 4 }, small))
}

/// Both lanes deliver what there is.
const ROUNDS: [Step; 2] = [Step::Round(0, 9, None), Step::Round(1, 9, None)];

/// What went wrong, what was in the source before, and the steps.
type Schedule = (&'static str, Vec<source::Step>, Vec<Vec<Step>>);

/// Schedules that once ended with a row that was wrong, lost or doubled.
#[test]
fn schedules_that_went_wrong_once() {
    use source::Step as Of;
    let in_source = |steps: &[Of]| steps.iter().copied().map(Step::Source).collect::<Vec<_>>();
    let cases: Vec<Schedule> = vec![
        (
            "a part of a row that touches none makes void the row that waits",
            vec![],
            vec![
                vec![Step::Refuse(Some(2)), comes_now(0, true, 2)],
                ROUNDS.to_vec(),
                vec![comes_now(0, false, 3)],
                ROUNDS.to_vec(),
            ],
        ),
        (
            "an older record is tried again after a newer one of its key",
            vec![],
            vec![
                vec![Step::Refuse(Some(1)), comes_now(0, true, 1)],
                ROUNDS.to_vec(),
                vec![Step::Refuse(Some(2)), comes_now(0, true, 2)],
                ROUNDS.to_vec(),
                vec![Step::Refuse(Some(1)), Step::Retry(1, false, None), Step::Refuse(None), Step::Retry(0, false, None)],
            ],
        ),
        (
            "a retry breaks off between the target's commit and the note of it",
            vec![],
            vec![
                vec![Step::Refuse(Some(2)), comes_now(0, true, 2)],
                ROUNDS.to_vec(),
                vec![Step::Refuse(None), Step::Retry(0, true, Some(2)), comes_now(0, true, 3)],
                ROUNDS.to_vec(),
                vec![Step::Retry(0, true, None)],
            ],
        ),
        (
            "who lost the lane notes what another has delivered",
            vec![],
            vec![
                vec![Step::Refuse(Some(2)), comes_now(0, true, 2), Step::Lose(0), Step::Lose(1)],
                ROUNDS.to_vec(),
                vec![Step::Refuse(None)],
                ROUNDS.to_vec(),
            ],
        ),
        (
            "rows from before a truncate are delivered after it",
            vec![],
            vec![
                (0..6).map(|key| comes_now(key, true, 3)).collect(),
                vec![Step::Comes(Of::Truncate), comes_now(0, true, 6), Step::Round(0, 9, None), Step::Together],
                vec![Step::Round(1, 9, None), Step::Together],
            ],
        ),
        (
            "a table that is taken in is written anew while an older transaction runs",
            vec![Of::Write(0, 0, 1), Of::WriteIn(0, false, 0, 1, 2), Of::Seen],
            vec![
                in_source(&[Of::LoadAgain(true), Of::Rewrite(1), Of::Read(0), Of::Read(0), Of::Read(0)]),
                in_source(&[Of::End(0, false), Of::Follow]),
            ],
        ),
        (
            "a savepoint is under way where a table is to be loaded again",
            vec![],
            vec![
                in_source(&[Of::Read(0), Of::Read(0), Of::Read(0), Of::Follow]),
                in_source(&[Of::WriteIn(0, false, 1, 0, 1), Of::WriteIn(0, true, 0, 0, 1), Of::Write(2, 0, 1), Of::Seen]),
                in_source(&[Of::Follow, Of::LoadAgain(false), Of::End(0, true), Of::Follow]),
            ],
        ),
        (
            "a commit waits for a standby when its table's load begins again",
            vec![Of::Write(0, 0, 1)],
            vec![in_source(&[Of::LoadAgain(false), Of::Read(0)])],
        ),
        (
            "a chunk is read before a change that comes before its mark",
            vec![Of::Write(0, 0, 1), Of::Seen],
            vec![in_source(&[Of::Read(0), Of::Read(0), Of::Write(0, 1, 2), Of::Follow, Of::Read(0), Of::Follow])],
        ),
    ];
    for (name, before, steps) in cases {
        run(&before, &steps.concat()).unwrap_or_else(|e| panic!("{name}: {e}"));
    }
}

proptest! {
    #![proptest_config(config())]

    #[test]
    fn however_the_steps_fall_the_target_becomes_the_source(steps in prop::collection::vec(step(false), 0..40)) {
        run(&[], &steps)?;
    }

    #[test]
    fn whatever_fails_between_them_the_target_becomes_the_source(steps in prop::collection::vec(step(true), 0..40)) {
        run(&[], &steps)?;
    }

    #[test]
    fn a_table_that_is_changed_while_it_is_loaded_comes_whole(
        before in prop::collection::vec(changes(), 0..16),
        steps in prop::collection::vec(step_of_load(), 0..50),
    ) {
        run(&before, &steps)?;
    }
}
