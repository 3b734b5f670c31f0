//! Where a source connector stands in a PostgreSQL server's log, and how far its initial load is.

use std::collections::BTreeMap;

use gonvel_core::loading::Snapshot;
use serde::{Deserialize, Serialize};

/// A table's own pages, or those of one of its partitions.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Part {
    /// Its schema.
    pub schema: String,
    /// Its name.
    pub table: String,
    /// The file it stood in when its load began; a rewritten table has another.
    pub file: u32,
    /// Pages when its load began; what lies after was written later and is in the log.
    pub pages: u32,
    /// How often its load began anew because it was rewritten.
    #[serde(default)]
    pub turn: u32,
    /// Pages left to load: the first, and the one after the last.
    pub left: Vec<(u32, u32)>,
}

impl Part {
    /// One of which nothing is loaded.
    #[must_use]
    pub fn new(schema: String, table: String, file: u32, pages: u32) -> Self {
        let left = if pages > 0 { vec![(0, pages)] } else { Vec::new() };
        Self { schema, table, file, pages, turn: 0, left }
    }
}

/// How far the load of one table is.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct TableLoad {
    /// Rows loaded.
    pub rows: u64,
    /// Rows expected, estimated when the load began.
    pub expected: u64,
    /// The table itself, or its partitions.
    pub parts: Vec<Part>,
}

impl TableLoad {
    /// Notes that pages of a part, as it was when they were given out, are loaded. Chunks may come back in any order, also
    /// those of a part's file before it was rewritten: their rows count, their pages do not.
    pub fn note(&mut self, read: &Part, from: u32, to: u32, rows: u64) {
        self.rows += rows;
        let Some(part) = self.parts.iter_mut().find(|p| (&p.schema, &p.table) == (&read.schema, &read.table)) else {
            return;
        };
        if read.turn > part.turn {
            *part = Part { turn: read.turn, ..Part::new(read.schema.clone(), read.table.clone(), read.file, read.pages) };
        }
        if read.turn == part.turn {
            let without = |&(first, end): &(u32, u32)| [(first, end.min(from)), (first.max(to), end)];
            part.left = part.left.iter().flat_map(without).filter(|(first, end)| first < end).collect();
        }
    }

    /// Whether every page is loaded.
    #[must_use]
    pub fn is_done(&self) -> bool {
        self.parts.iter().all(|part| part.left.is_empty())
    }
}

/// A part of a transaction that was appended before its end.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct Partial {
    /// Position of the transaction's commit.
    pub commit_lsn: u64,
    /// Changes of it that are appended.
    pub done: u64,
}

/// A transaction under way in the stream.
#[derive(Debug)]
pub(super) struct Transaction {
    pub(super) commit_lsn: u64,
    pub(super) commit_time_us: i64,
    pub(super) number: u32,
    /// Row messages seen.
    pub(super) seen: u64,
    /// Row messages appended by an earlier session.
    skip: u64,
}

impl Transaction {
    /// Whether the next row message is one that no earlier session appended. Until it is counted, it is none of those handed on.
    pub(super) fn has_new_next(&self) -> bool {
        self.seen >= self.skip
    }

    /// Counts a row message; gives whether no earlier session appended it.
    pub(super) fn counts_new(&mut self) -> bool {
        self.seen += 1;
        self.seen > self.skip
    }
}

/// Another connector's publication, which the log before our own was made knows.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Lent {
    /// Its name.
    pub publication: String,
    /// From this position on there is our own.
    pub until: u64,
}

/// The position of a source connector.
///
/// Invariant: every change committed before `lsn`, the first `partial.done` changes of the transaction that commits at
/// `partial.commit_lsn`, and the loaded pages are in the topics; nothing else is.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct PgPosition {
    /// Position after the last whole transaction.
    pub lsn: u64,
    /// What of the next transaction is appended already.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub partial: Option<Partial>,
    /// What the slot's first position sees; kept until the load is done.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub snapshot: Option<Snapshot>,
    /// Tables still to load or being loaded, by `schema.table`; none stands for not begun.
    #[serde(default)]
    pub loads: BTreeMap<String, Option<TableLoad>>,
    /// Transactions that committed before this time are passed over, in microseconds since 1970-01-01 UTC; none once one came
    /// that did not.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub not_before_us: Option<i64>,
    /// Whether values come as text, because there were some that have no binary form here.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub text: bool,
    /// What is streamed by until our own publication is there.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub lent: Option<Lent>,
    /// For tables that are being taken in the first transaction that surely found them published, by `schema.table`: they are
    /// read when all before it have ended, for what those wrote may not be in the stream.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub after: BTreeMap<String, u64>,
    /// What the log before this position shows of tables that are loaded again, by `schema.table`.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub again: BTreeMap<String, Snapshot>,
    /// The server's numbers of the tables that are captured, by `schema.table`: a table is the same under another name, and another one
    /// under its name is not.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub numbers: BTreeMap<String, u32>,
}

impl PgPosition {
    /// A position from which nothing is loaded.
    #[must_use]
    pub fn at(lsn: u64) -> Self {
        Self {
            lsn,
            partial: None,
            snapshot: None,
            loads: BTreeMap::new(),
            not_before_us: None,
            text: false,
            lent: None,
            after: BTreeMap::new(),
            again: BTreeMap::new(),
            numbers: BTreeMap::new(),
        }
    }

    /// A transaction begins in the stream.
    pub(super) fn begins(&mut self, commit_lsn: u64, commit_time_us: i64, number: u32) -> Transaction {
        let mut skip = self.partial.filter(|p| p.commit_lsn == commit_lsn).map_or(0, |p| p.done);
        if self.not_before_us.is_some_and(|time| commit_time_us < time) {
            skip = u64::MAX;
        } else {
            self.not_before_us = None;
        }
        Transaction { commit_lsn, commit_time_us, number, seen: 0, skip }
    }

    /// Notes how much of the transaction under way is handed on. What was of one that has not come again yet stays so: only its commit
    /// ends that.
    pub(super) fn note_part(&mut self, transaction: Option<&Transaction>) {
        if let Some(t) = transaction.filter(|t| t.seen > 0 && t.skip < u64::MAX) {
            self.partial = Some(Partial { commit_lsn: t.commit_lsn, done: t.seen.max(t.skip) });
        }
    }

    /// A transaction ends in the stream.
    pub(super) fn ends(&mut self, transaction: &Transaction, end_lsn: u64) {
        self.partial = self.partial.filter(|partial| partial.commit_lsn > transaction.commit_lsn);
        self.lsn = end_lsn;
    }

    /// The name, `schema.table`, that a table is captured under, by its number.
    pub(super) fn name_of(&self, number: u32) -> Option<&str> {
        self.numbers.iter().find(|(_, known)| **known == number).map(|(name, _)| name.as_str())
    }

    /// What the first position of a table's load sees.
    #[must_use]
    pub fn seen_by(&self, table: &str) -> Option<&Snapshot> {
        self.again.get(table).or(self.snapshot.as_ref())
    }

    /// A table is to be loaded again from its start. `now` must be taken after everything before `lsn` was sent.
    pub fn load_again(&mut self, table: &str, now: Snapshot) {
        let first = now.of_load(self.seen_by(table).filter(|_| self.loads.contains_key(table)));
        self.loads.insert(table.to_owned(), None);
        self.again.insert(table.to_owned(), first);
    }

    /// A table is to be loaded that was published just before `now`. What was written before that is not in the stream, so
    /// every row that a transaction under way then wrote is taken from the table; what of it is in the stream as well comes
    /// twice, in order.
    pub fn take_in(&mut self, table: &str, now: &Snapshot) {
        // it sees all that began before; from when on a file is a new one hangs on the oldest that was under way
        let all_before = Snapshot { under_way: Vec::new(), ..now.clone() };
        self.load_again(table, all_before);
        self.after.insert(table.to_owned(), now.xmax);
    }

    /// Pages of a part of a table were read, whose load began so; gives what the load's first position sees. None where the load is over
    /// by now: the pages are of a file that was written anew, and all of the other came meanwhile.
    pub(super) fn read(
        &mut self,
        table: &str,
        began: &TableLoad,
        part: &Part,
        (from, to): (u32, u32),
        rows: u64,
    ) -> Option<Snapshot> {
        let first = self.seen_by(table).cloned()?;
        let progress = self.loads.get_mut(table)?.get_or_insert_with(|| began.clone());
        progress.note(part, from, to, rows);
        if progress.is_done() {
            self.loaded(table);
        }
        Some(first)
    }

    /// A table is loaded, or need not be any more.
    pub fn loaded(&mut self, table: &str) {
        self.loads.remove(table);
        self.after.remove(table);
        self.again.remove(table);
        if self.loads.is_empty() {
            self.snapshot = None;
        }
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn pages_of_a_former_file_do_not_begin_a_load_again_that_is_over() {
        let seen = Snapshot { xmin: 7, xmax: 7, under_way: Vec::new() };
        let mut position = PgPosition { snapshot: Some(seen.clone()), ..PgPosition::at(0) };
        position.loads = ["public.bins", "public.rooms"].map(|table| (table.to_owned(), None)).into();
        let part = Part::new("public".into(), "bins".into(), 1, 2);
        let began = TableLoad { rows: 0, expected: 0, parts: vec![part.clone()] };
        let anew = Part { turn: 1, ..Part::new("public".into(), "bins".into(), 2, 2) };
        let mut read = |part, pages| position.read("public.bins", &began, part, pages, 1);
        assert_eq!(read(&part, (0, 1)), Some(seen.clone()));
        // the rest of it is handed over after all of the other file
        assert_eq!(read(&anew, (0, 2)), Some(seen));
        assert_eq!(read(&part, (1, 2)), None);
        assert_eq!(position.loads.keys().collect::<Vec<_>>(), ["public.rooms"]);
    }

    #[test]
    fn a_load_that_begins_again_brings_what_the_first_was_to_bring() {
        let snapshot = |text: &str| Snapshot::parse(text).unwrap();
        let mut position = PgPosition { snapshot: Some(snapshot("10:20:12")), ..PgPosition::at(0) };
        position.loads.insert("public.bins".into(), None);
        // 15 was in the log before the first position, and waits for a standby yet
        position.load_again("public.bins", snapshot("12:15:12"));
        let sees = |position: &PgPosition| {
            let first = position.seen_by("public.bins").unwrap();
            [11, 12, 15, 20].map(|t| first.sees(t))
        };
        assert_eq!(sees(&position), [true, false, true, false]);
        position.loaded("public.bins");
        position.load_again("public.bins", snapshot("12:15:12"));
        assert_eq!(sees(&position), [true, false, false, false]);
    }

    proptest! {
        /// However sessions end, hand on and are told of the log's end: of each transaction every change is handed on once, in order.
        #[test]
        fn no_part_of_a_transaction_is_forgotten(
            sizes in prop::collection::vec(1_u64..6, 1..8),
            steps in prop::collection::vec(0_u8..5, 0..120),
        ) {
            // transaction n commits at n * 100 + 50, and ends at n * 100 + 60
            let commit_of = |n: usize| u64::try_from(n).unwrap() * 100 + 50;
            let mut stored = PgPosition::at(0);
            let mut appended: Vec<(usize, u64)> = Vec::new();
            let mut steps = steps.into_iter();
            'sessions: loop {
                let mut position = stored.clone();
                let mut pending = Vec::new();
                let mut hand_on = |position: &mut PgPosition, under_way: Option<&Transaction>, pending: &mut Vec<_>| {
                    position.note_part(under_way);
                    appended.append(pending);
                    stored = position.clone();
                };
                let first = (0..sizes.len()).find(|n| commit_of(*n) >= position.lsn).unwrap_or(sizes.len());
                for (n, size) in sizes.iter().enumerate().skip(first) {
                    // before it comes, the server may say how far it has looked, and the session may hand that on or end
                    match steps.next().unwrap_or(4) {
                        0 => continue 'sessions,
                        1 => {
                            position.lsn = position.lsn.max(commit_of(n) - 10);
                            hand_on(&mut position, None, &mut pending);
                        }
                        _ => {}
                    }
                    let mut transaction = position.begins(commit_of(n), 0, 7);
                    for change in 0..*size {
                        match steps.next().unwrap_or(4) {
                            0 => continue 'sessions,
                            // handed on, and perhaps the last of its session: another form of values
                            step @ 1..=2 => {
                                hand_on(&mut position, Some(&transaction), &mut pending);
                                if step == 2 {
                                    continue 'sessions;
                                }
                            }
                            _ => {}
                        }
                        if transaction.counts_new() {
                            pending.push((n, change));
                        }
                    }
                    position.ends(&transaction, commit_of(n) + 10);
                    if steps.next().unwrap_or(4) < 3 {
                        hand_on(&mut position, None, &mut pending);
                    }
                }
                hand_on(&mut position, None, &mut pending);
                break;
            }
            let all = sizes.iter().enumerate().flat_map(|(n, size)| (0..*size).map(move |change| (n, change)));
            prop_assert_eq!(appended, all.collect::<Vec<_>>());
        }

        #[test]
        fn pages_are_done_when_each_was_noted(pages in 0_u32..30, cuts in prop::collection::vec(0_u32..30, 0..6), order in any::<u64>()) {
            let part = Part::new("public".into(), "bins".into(), 1, pages);
            let mut load = TableLoad { rows: 0, expected: 0, parts: vec![part.clone()] };
            let mut ends: Vec<u32> = cuts.into_iter().map(|c| c.min(pages)).chain([0, pages]).collect();
            ends.sort_unstable();
            let mut ranges: Vec<(u32, u32)> = ends.windows(2).map(|w| (w[0], w[1])).collect();
            ranges.sort_by_key(|(from, _)| u64::from(*from).wrapping_mul(order | 1).rotate_left(17));
            let mut left = pages;
            for (from, to) in ranges {
                load.note(&part, from, to, 1);
                left -= to - from;
                prop_assert_eq!(load.parts[0].left.iter().map(|(a, b)| b - a).sum::<u32>(), left);
            }
            prop_assert!(load.is_done());
        }
    }
}
