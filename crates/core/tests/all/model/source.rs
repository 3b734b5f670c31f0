//! The model's source: transactions side by side, the log that their commits make, and a load that is read in chunks beside them. What
//! follows the log brings records, and of the chunks the rows that the product's own rules let through.

use std::collections::{BTreeMap, BTreeSet};

use gonvel_core::loading::{ChangedKeys, Reading, Readings, Rewritten, Snapshot};
use gonvel_core::truncate::Mark;

use super::{Record, Row, Rows, What};

const OPEN: usize = 2;
const READERS: usize = 2;
const PAGES: u8 = 6;

/// What can happen in the source, and to what follows it.
#[derive(Debug, Clone, Copy)]
pub enum Step {
    /// A transaction of one write: which row, and what.
    Write(u8, u8, i32),
    /// One of the transactions under way writes, perhaps behind a savepoint.
    WriteIn(usize, bool, u8, u8, i32),
    /// One of them ends: it commits, or not.
    End(usize, bool),
    /// A commit that stands in the log is seen by others now.
    Seen,
    Truncate,
    /// All rows are written anew: into other pages as they are, or by who alters the table, or it is only altered.
    Rewrite(u8),
    /// The next of the log comes.
    Follow,
    /// A reader of the load takes its next step.
    Read(usize),
    /// What follows the log breaks off and begins anew.
    Break,
    /// So it does, and is to load the table again.
    LoadAgain(bool),
}

/// A version of a row.
#[derive(Debug, Clone, Copy)]
struct Version {
    id: u32,
    key: u8,
    row: Row,
    page: u8,
    writer: u32,
    ended: Option<u32>,
}

#[derive(Debug, Clone)]
struct Open {
    /// Its own number, then those of its savepoints.
    numbers: Vec<u32>,
    /// Keys, what became of them, and the versions that were made.
    changes: Vec<(u8, What, u32)>,
}

#[derive(Debug, Clone)]
enum Logged {
    Commit(u32, Vec<(u8, What, u32)>),
    Truncate(u32),
    Mark(String),
}

/// How far the load is; stored with the position.
#[derive(Debug, Clone)]
struct Load {
    first: Snapshot,
    file: u32,
    turn: u32,
    /// The pages that the file had when it was first looked at; what lies after was written later.
    pages: BTreeSet<u8>,
    left: BTreeSet<u8>,
}

#[derive(Debug, Clone)]
struct Chunk {
    rows: Vec<(Version, i64)>,
    saw: Snapshot,
    rewritten: Rewritten,
    /// The load as it was when the page was given out.
    of: Load,
    page: u8,
}

#[derive(Debug, Clone, Default)]
enum Reader {
    #[default]
    Rests,
    Begun(String, u8, u32),
    /// It has handed its chunk over and is to write its mark.
    Read(String),
}

/// What is forgotten when what follows the log breaks off.
#[derive(Debug, Default)]
struct Session {
    number: u32,
    settled: bool,
    changed: Option<ChangedKeys>,
    readings: Readings,
    chunks: BTreeMap<String, Chunk>,
    readers: [Reader; READERS],
    /// The load with the pages that were not given out yet.
    plan: Option<Load>,
    marks: u32,
}

#[derive(Debug)]
pub struct Source {
    versions: Vec<Version>,
    open: Vec<Open>,
    /// The numbers of what is in the log and not seen by others yet.
    unseen: Vec<Vec<u32>>,
    log: Vec<Logged>,
    /// The next number of a transaction, and the greatest of those that ended.
    next: u32,
    ended: u32,
    ids: u32,
    file: u32,
    rewritten: Rewritten,
    /// How much of the log was taken.
    at: usize,
    load: Option<Load>,
    session: Session,
    /// The versions that came, as long as none may come twice.
    came: Option<BTreeSet<u32>>,
    /// A version that came twice although it must not.
    pub doubled: Option<u32>,
}

impl Source {
    pub fn new() -> Self {
        Self {
            versions: Vec::new(),
            open: Vec::new(),
            unseen: Vec::new(),
            log: Vec::new(),
            next: 3,
            ended: 2,
            ids: 0,
            file: 0,
            rewritten: Rewritten { altered: 1, oldest: 1 },
            at: 0,
            load: None,
            session: Session::default(),
            came: Some(BTreeSet::new()),
            doubled: None,
        }
    }

    /// What follows the log begins at its end, and loads what its first position sees.
    pub fn begin(&mut self) {
        self.at = self.log.len();
        let under_way = self.open.iter().flat_map(|open| open.numbers.clone());
        let first = snapshot(under_way.collect(), self.next);
        self.load = Some(self.load_of(first));
        self.session = self.anew();
    }

    fn load_of(&self, first: Snapshot) -> Load {
        Load { first, file: self.file, turn: 0, pages: self.pages(), left: self.pages() }
    }

    fn pages(&self) -> BTreeSet<u8> {
        (0..=self.versions.iter().map(|v| v.page).max().unwrap_or(0)).collect()
    }

    fn anew(&self) -> Session {
        Session {
            number: self.session.number + 1,
            changed: self.load.as_ref().map(|_| ChangedKeys::default()),
            plan: self.load.clone(),
            ..Session::default()
        }
    }

    /// What a statement sees that begins now.
    fn now(&self) -> Snapshot {
        let all = self.open.iter().map(|open| &open.numbers).chain(&self.unseen);
        snapshot(all.flatten().copied().collect(), self.next)
    }

    /// What the server says that it sees: without savepoints, and up to the last transaction that ended.
    fn told(&self) -> Snapshot {
        let all = self.open.iter().map(|open| open.numbers[0]).chain(self.unseen.iter().map(|numbers| numbers[0]));
        snapshot(all.filter(|number| *number <= self.ended).collect(), self.ended + 1)
    }

    fn visible(&self) -> impl Iterator<Item = &Version> {
        let now = self.now();
        let there = move |v: &&Version| now.sees(v.writer.into()) && v.ended.is_none_or(|t| !now.sees(t.into()));
        self.versions.iter().filter(there)
    }

    /// The rows, once no transaction is under way.
    pub fn rows(&self) -> Rows {
        self.visible().map(|v| (v.key, v.row)).collect()
    }

    fn number(&mut self) -> u32 {
        self.next += 1;
        self.next - 1
    }

    fn write(&mut self, which: usize, savepoint: bool, (key, choice, value): (u8, u8, i32)) {
        let live = self.versions.iter().position(|v| v.key == key && v.ended.is_none());
        // a row that another has changed is waited for
        let others = self.open.iter().enumerate().filter(|(n, _)| *n != which).map(|(_, open)| &open.numbers);
        let held: Vec<u32> = others.chain(&self.unseen).flatten().copied().collect();
        let by_other = |v: &Version| held.contains(&v.writer) || v.ended.is_some_and(|t| held.contains(&t));
        if self.versions.iter().any(|v| v.key == key && by_other(v)) {
            return;
        }
        let what = match (live.map(|n| self.versions[n].row), choice % 8) {
            (None, _) => What::Insert((value, value + 1)),
            (Some(_), 0) => What::Delete,
            (Some(_), 1..=3) => What::Update((value, value + 1)),
            (Some(_), _) => What::Part(value),
        };
        if savepoint {
            let number = self.number();
            self.open[which].numbers.push(number);
        }
        let writer = *self.open[which].numbers.last().unwrap();
        let before = live.map(|n| {
            self.versions[n].ended = Some(writer);
            self.versions[n].row
        });
        let row = match what {
            What::Insert(row) | What::Update(row) => Some(row),
            What::Part(small) => before.map(|(_, large)| (small, large)),
            _ => None,
        };
        if let Some(row) = row {
            self.ids += 1;
            self.versions.push(Version { id: self.ids, key, row, page: choice / 8 % PAGES, writer, ended: None });
        }
        self.open[which].changes.push((key, what, self.ids));
    }

    fn end(&mut self, which: usize, commits: bool) {
        let Some(open) = (which < self.open.len()).then(|| self.open.remove(which)) else { return };
        if commits {
            self.log.push(Logged::Commit(open.numbers[0], open.changes));
            self.unseen.push(open.numbers);
            return;
        }
        self.versions.retain(|v| !open.numbers.contains(&v.writer));
        for version in &mut self.versions {
            version.ended = version.ended.filter(|t| !open.numbers.contains(t));
        }
        self.ended = self.ended.max(*open.numbers.last().unwrap());
    }

    fn seen(&mut self) {
        if !self.unseen.is_empty() {
            let numbers = self.unseen.remove(0);
            self.ended = self.ended.max(*numbers.last().unwrap());
        }
    }

    /// Whether someone may have the whole table to themselves.
    fn is_free(&self) -> bool {
        self.unseen.is_empty() && self.open.iter().all(|open| open.changes.is_empty())
    }

    /// Who has it writes it anew.
    fn new_file(&mut self, altered: u32) {
        self.file += 1;
        self.rewritten = Rewritten { altered, oldest: u32::try_from(self.told().xmin).unwrap() };
        self.ended = altered;
        // what the log brings as well may be loaded again
        self.came = None;
    }

    fn rewrite(&mut self, how: u8) {
        if !self.is_free() {
            return;
        }
        let number = self.number();
        if how == 2 {
            self.rewritten.altered = number;
            self.ended = number;
            return;
        }
        self.versions.retain(|v| v.ended.is_none());
        for (place, version) in self.versions.iter_mut().enumerate() {
            version.page = u8::try_from(place).unwrap() / 2;
            if how == 1 {
                version.writer = number;
            }
        }
        self.new_file(number);
    }

    fn truncate(&mut self) {
        if self.is_free() {
            let number = self.number();
            self.versions.clear();
            self.log.push(Logged::Truncate(number));
            self.new_file(number);
        }
    }

    /// The next of the log, as records.
    fn follow(&mut self) -> Vec<Record> {
        let Some(next) = self.log.get(self.at).cloned() else { return Vec::new() };
        self.at += 1;
        let time_us = i64::try_from(self.at).unwrap();
        match next {
            Logged::Commit(number, changes) => {
                let records = changes.into_iter().filter_map(|(key, what, version)| {
                    if let Some(changed) = &mut self.session.changed {
                        changed.note(vec![key], number);
                    }
                    let what = match what {
                        What::Part(small) if self.session.changed.is_some() => {
                            // what was not sent is looked for in the table, as soon as this is seen there
                            while self.unseen.iter().any(|numbers| numbers[0] == number) {
                                self.seen();
                            }
                            What::Update((small, self.visible().find(|v| v.key == key)?.row.1))
                        }
                        what => what,
                    };
                    if !matches!(what, What::Delete) {
                        self.comes(version);
                    }
                    Some(Record { key, what, time_us })
                });
                records.collect()
            }
            Logged::Truncate(number) => {
                if let Some(changed) = &mut self.session.changed {
                    changed.note_emptied(number);
                }
                let mark = Mark { position: time_us.unsigned_abs(), sequence: 0, time_us };
                vec![Record { key: 0, what: What::Truncate(mark), time_us }]
            }
            Logged::Mark(mark) => self.chunk(&mark),
        }
    }

    fn comes(&mut self, version: u32) {
        if self.came.as_mut().is_some_and(|came| !came.insert(version)) {
            self.doubled = Some(version);
        }
    }

    fn chunk(&mut self, mark: &str) -> Vec<Record> {
        // of an earlier session
        let Some(chunk) = self.session.chunks.remove(mark) else { return Vec::new() };
        let floor = self.session.readings.end(mark, &chunk.saw);
        let Some(load) = &mut self.load else { return Vec::new() };
        let reading = Reading {
            saw: &chunk.saw,
            rewritten: chunk.rewritten,
            first: &load.first,
            changed: self.session.changed.as_ref(),
        };
        let writers: Vec<u32> = chunk.rows.iter().map(|(v, _)| v.writer).collect();
        let kept = reading.kept(&writers, |n| vec![chunk.rows[n].0.key]);
        if let Some(changed) = &mut self.session.changed {
            changed.forget_before(floor, &chunk.saw);
        }
        if chunk.of.turn > load.turn {
            *load = chunk.of.clone();
        }
        if chunk.of.turn == load.turn {
            load.left.remove(&chunk.page);
        }
        if load.left.is_empty() {
            self.load = None;
            self.session.changed = None;
        }
        let rows: Vec<_> = kept.into_iter().map(|n| chunk.rows[n]).collect();
        rows.iter().for_each(|(version, _)| self.comes(version.id));
        rows.into_iter().map(|(v, time_us)| Record { key: v.key, what: What::Load(v.row), time_us }).collect()
    }

    fn read(&mut self, which: usize) {
        let reader = std::mem::take(&mut self.session.readers[which]);
        self.session.readers[which] = match reader {
            Reader::Rests => {
                if !self.session.settled {
                    // before anything is read, what the log may have brought is waited for
                    while !self.unseen.is_empty() {
                        self.seen();
                    }
                    self.session.settled = true;
                }
                let Some(plan) = &mut self.session.plan else { return };
                let (Some(page), turn) = (plan.left.pop_first(), plan.turn) else { return };
                self.session.marks += 1;
                let mark = format!("{}:{}", self.session.number, self.session.marks);
                self.session.readings.begin(&mark, self.told().xmin);
                Reader::Begun(mark, page, turn)
            }
            Reader::Begun(mark, mut page, turn) => {
                let pages = self.pages();
                let plan = self.session.plan.as_mut().unwrap();
                if turn < plan.turn {
                    self.session.readings.give_up(&mark);
                    return;
                }
                if plan.file != self.file {
                    let (first, turn, left) = (plan.first.clone(), plan.turn + 1, pages.clone());
                    *plan = Load { first, file: self.file, turn, pages, left };
                    page = plan.left.pop_first().unwrap();
                }
                let of = Load { left: plan.pages.clone(), ..plan.clone() };
                let read_at = i64::try_from(self.log.len()).unwrap();
                let rows = self.visible().filter(|v| v.page == page).map(|v| (*v, read_at)).collect();
                let chunk = Chunk { rows, saw: self.told(), rewritten: self.rewritten, of, page };
                self.session.chunks.insert(mark.clone(), chunk);
                Reader::Read(mark)
            }
            Reader::Read(mark) => {
                self.ended = self.number();
                self.log.push(Logged::Mark(mark));
                Reader::Rests
            }
        }
    }

    /// Takes a step; gives what comes of it.
    pub fn take(&mut self, step: Step) -> Vec<Record> {
        match step {
            Step::Write(key, choice, value) => {
                let (which, number) = (self.open.len(), self.number());
                self.open.push(Open { numbers: vec![number], changes: Vec::new() });
                self.write(which, false, (key, choice, value));
                self.end(which, true);
            }
            Step::WriteIn(which, savepoint, key, choice, value) => {
                if which >= self.open.len() && self.open.len() < OPEN {
                    let number = self.number();
                    self.open.push(Open { numbers: vec![number], changes: Vec::new() });
                }
                self.write(which.min(self.open.len() - 1), savepoint, (key, choice, value));
            }
            Step::End(which, commits) => self.end(which, commits),
            Step::Seen => self.seen(),
            Step::Truncate => self.truncate(),
            Step::Rewrite(how) => self.rewrite(how),
            Step::Follow => return self.follow(),
            Step::Read(which) => self.read(which),
            Step::Break => self.session = self.anew(),
            Step::LoadAgain(void) => {
                let under_way = if void { Vec::new() } else { self.now().under_way };
                let now = Snapshot { under_way, ..self.told() };
                let first = now.of_load(self.load.as_ref().map(|load| &load.first));
                self.load = Some(self.load_of(first));
                self.session = self.anew();
                // what is in the log and did not come yet may come by both, as may what a load sees of transactions under way; all else once
                let once = !void && self.at == self.log.len() && self.came.is_some();
                self.came = once.then(BTreeSet::new);
            }
        }
        Vec::new()
    }

    /// Goes on until everything that is there has come.
    pub fn settle(&mut self) -> Vec<Record> {
        let mut out = Vec::new();
        while !self.open.is_empty() {
            self.end(0, true);
        }
        while !self.unseen.is_empty() {
            self.seen();
        }
        for round in 0.. {
            if self.load.is_none() && self.at == self.log.len() {
                break;
            }
            assert!(round < 1_000, "the load does not end: {:?} {:?}", self.load, self.session);
            (0..READERS).for_each(|which| self.read(which));
            out.extend(self.follow());
        }
        out
    }
}

fn snapshot(mut under_way: Vec<u32>, end: u32) -> Snapshot {
    under_way.sort_unstable();
    let under_way: Vec<u64> = under_way.into_iter().map(u64::from).collect();
    Snapshot { xmin: under_way.first().copied().unwrap_or(end.into()), xmax: end.into(), under_way }
}
