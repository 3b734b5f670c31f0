//! Which pages of which tables are read next, and by whom.

use std::collections::{HashMap, VecDeque};
use std::sync::{Arc, Mutex, PoisonError};

use gonvel_core::connector::CapturedTable;
use tokio::sync::Notify;

use crate::postgres::position::{Part, TableLoad};

/// Pages of one part of a table.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Range {
    /// The part, as it was when the range was given out.
    pub part: Part,
    /// First page.
    pub from: u32,
    /// The page after the last.
    pub to: u32,
    /// How the table's load began.
    pub began: Arc<TableLoad>,
}

/// What is to be done next for a table.
#[derive(Debug)]
pub(super) enum Work {
    /// Look at its parts.
    Begin,
    /// Read these pages.
    Read(Range),
}

#[derive(Debug)]
enum Step {
    Begin(Arc<CapturedTable>),
    Read(Arc<CapturedTable>, Range),
}

#[derive(Debug, Default)]
struct State {
    steps: VecDeque<Step>,
    /// Tables that someone is looking at right now.
    beginning: usize,
    /// The latest turn of each part that was rewritten, by table and part.
    turns: HashMap<(String, String, String), u32>,
}

/// What is left to read, shared by those who read.
#[derive(Debug)]
pub(super) struct Plan {
    state: Mutex<State>,
    changed: Notify,
}

fn steps(table: &Arc<CapturedTable>, load: TableLoad) -> Vec<Step> {
    let began = Arc::new(load);
    let read = |part: &Part, from: u32, to: u32| {
        Step::Read(table.clone(), Range { part: part.clone(), from, to, began: began.clone() })
    };
    let ranges = began.parts.iter().flat_map(|part| part.left.iter().map(move |(from, to)| (part, *from, *to)));
    let left: Vec<Step> = ranges.map(|(part, from, to)| read(part, from, to)).collect();
    if left.is_empty() {
        // nothing to read, but its end is to be told
        return began.parts.first().map(|part| read(part, 0, 0)).into_iter().collect();
    }
    left
}

impl Plan {
    pub(super) fn new(tables: Vec<(CapturedTable, Option<TableLoad>)>) -> Self {
        let mut state = State::default();
        for (table, load) in tables {
            let table = Arc::new(table);
            match load {
                None => state.steps.push_back(Step::Begin(table)),
                Some(load) => state.steps.extend(steps(&table, load)),
            }
        }
        Self { state: Mutex::new(state), changed: Notify::new() }
    }

    fn locked<T>(&self, change: impl FnOnce(&mut State) -> T) -> T {
        change(&mut self.state.lock().unwrap_or_else(PoisonError::into_inner))
    }

    /// What to do next, at most so many pages of it; none when all is given out.
    ///
    /// Cancel safety: dropped while waiting, nothing was given out.
    pub(super) async fn next(&self, pages: u32) -> Option<(Arc<CapturedTable>, Work)> {
        loop {
            let changed = self.changed.notified();
            tokio::pin!(changed);
            changed.as_mut().enable();
            let next = self.locked(|state| match state.steps.pop_front() {
                None if state.beginning > 0 => None,
                None => Some(None),
                Some(Step::Begin(table)) => {
                    state.beginning += 1;
                    Some(Some((table, Work::Begin)))
                }
                Some(Step::Read(table, mut range)) => {
                    let to = range.from.saturating_add(pages.max(1)).min(range.to);
                    if to < range.to {
                        state.steps.push_front(Step::Read(table.clone(), Range { from: to, ..range.clone() }));
                    }
                    range.to = to;
                    Some(Some((table, Work::Read(range))))
                }
            });
            match next {
                Some(given) => return given,
                None => changed.await,
            }
        }
    }

    /// A table cannot be looked at yet: others come first.
    pub(super) fn later(&self, table: Arc<CapturedTable>) {
        self.locked(|state| {
            state.beginning = state.beginning.saturating_sub(1);
            state.steps.push_back(Step::Begin(table));
        });
        self.changed.notify_waiters();
    }

    /// A table was looked at: these are its parts.
    pub(super) fn begun(&self, table: &Arc<CapturedTable>, load: TableLoad) {
        self.locked(|state| {
            state.beginning = state.beginning.saturating_sub(1);
            for step in steps(table, load).into_iter().rev() {
                state.steps.push_front(step);
            }
        });
        self.changed.notify_waiters();
    }

    /// The part of a range stands in another file now, of so many pages: what is left of it is given up, and its pages are read
    /// from the first on. Gives the range to read in place of the one given out; none if someone else has noticed already.
    pub(super) fn rewritten(&self, table: &Arc<CapturedTable>, given: &Range, file: u32, pages: u32) -> Option<Range> {
        self.locked(|state| {
            let key = (table.qualified(), given.part.schema.clone(), given.part.table.clone());
            let known = state.turns.get(&key).copied().unwrap_or(0);
            if known > given.part.turn {
                return None;
            }
            let turn = given.part.turn + 1;
            state.turns.insert(key, turn);
            state.steps.retain(|step| {
                let of_part =
                    |range: &Range| (&range.part.schema, &range.part.table) == (&given.part.schema, &given.part.table);
                !matches!(step, Step::Read(of, range) if of.qualified() == table.qualified() && of_part(range))
            });
            let part = Part { file, pages, turn, left: vec![(0, pages)], ..given.part.clone() };
            let to = (given.to - given.from).max(1).min(pages);
            let first = Range { part: part.clone(), from: 0, to, began: given.began.clone() };
            if to < pages {
                let rest = Range { from: to, to: pages, ..first.clone() };
                state.steps.push_front(Step::Read(table.clone(), rest));
            }
            Some(first)
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn load(pages: &[u32]) -> TableLoad {
        let part = |(n, pages): (usize, &u32)| Part::new("public".into(), format!("bins_{n}"), 7, *pages);
        TableLoad { rows: 0, expected: 0, parts: pages.iter().enumerate().map(part).collect() }
    }

    async fn all(plan: &Plan, pages: u32) -> Vec<(String, u32, u32)> {
        let mut out = Vec::new();
        while let Some((table, work)) = plan.next(pages).await {
            match work {
                Work::Begin => plan.begun(&table, load(&[3, 0, 5])),
                Work::Read(range) => out.push((range.part.table, range.from, range.to)),
            }
        }
        out
    }

    #[tokio::test]
    async fn every_page_is_given_out_once() {
        let table = CapturedTable::whole("public", "bins", "bins");
        let name = |n: usize| format!("bins_{n}");
        let plan = Plan::new(vec![(table.clone(), None)]);
        assert_eq!(
            all(&plan, 2).await,
            [(name(0), 0, 2), (name(0), 2, 3), (name(2), 0, 2), (name(2), 2, 4), (name(2), 4, 5)]
        );
        // an empty table still has its end to be told
        let plan = Plan::new(vec![(table.clone(), Some(load(&[0])))]);
        assert_eq!(all(&plan, 8).await, [(name(0), 0, 0)]);
    }

    #[tokio::test]
    async fn a_rewritten_part_is_given_out_again_from_its_start_and_only_once() {
        let plan = Plan::new(vec![(CapturedTable::whole("public", "bins", "bins"), Some(load(&[4, 2])))]);
        let (table, Work::Read(first)) = plan.next(1).await.unwrap() else { panic!("not a range") };
        let (_, Work::Read(second)) = plan.next(1).await.unwrap() else { panic!("not a range") };
        let again = plan.rewritten(&table, &first, 9, 3).unwrap();
        assert_eq!((again.part.file, again.part.turn, again.from, again.to), (9, 1, 0, 1));
        assert_eq!(plan.rewritten(&table, &second, 9, 3), None);
        assert_eq!(all(&plan, 8).await, [("bins_0".into(), 1, 3), ("bins_1".into(), 0, 2)]);
        // and what came of it, in whatever order, ends the load
        let mut progress = load(&[4, 2]);
        let part = |range: &Range, from, to| Range { from, to, ..range.clone() };
        let other = Range { part: progress.parts[1].clone(), from: 0, to: 2, began: first.began.clone() };
        for (range, rows) in [(part(&again, 1, 3), 20), (second, 10), (other, 5), (first, 10), (again, 10)] {
            assert!(!progress.is_done());
            progress.note(&range.part, range.from, range.to, rows);
        }
        assert!(progress.is_done());
    }
}
