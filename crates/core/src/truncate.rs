//! Truncates, each of which stands in every partition of its topic: which of them is carried out, and when all partitions have come to it.
//!
//! They are told apart by where they happened in their source, not by how many came before: a partition that was added later, whose
//! older records were forgotten or passed over, or that was moved, has fewer of them than the others.

use std::fmt;

use crate::change::Origin;

/// Which truncate a record tells. It is the same in all partitions, and of two that a partition has the lesser comes first.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub struct Mark {
    /// Position of its transaction's commit in the source's log.
    pub position: u64,
    /// Its number within the transaction.
    pub sequence: u64,
    /// When it was committed, in microseconds since 1970-01-01 UTC.
    pub time_us: i64,
}

impl From<Origin> for Mark {
    fn from(origin: Origin) -> Self {
        Self { position: origin.position, sequence: origin.sequence, time_us: origin.commit_time_us }
    }
}

impl fmt::Display for Mark {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}:{}:{}", self.position, self.sequence, self.time_us)
    }
}

/// Where a partition stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Here {
    /// The truncate that is its next record.
    pub truncate: Option<Mark>,
    /// Whether it has no record after those that were delivered.
    pub at_end: bool,
    /// The time of the newest record of it that was delivered, in microseconds since 1970-01-01 UTC.
    pub newest_us: Option<i64>,
}

/// Whether a partition has come to a truncate.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Come {
    /// It is its next record.
    Here,
    /// It has none such, and nothing from after it was delivered.
    Without,
    /// It has records from before it, or may have.
    NotYet,
    /// It has none such, and records from after it were delivered, which it would take away.
    Ahead,
}

impl Mark {
    /// Reads what [`fmt::Display`] wrote.
    #[must_use]
    pub fn read(text: &str) -> Option<Self> {
        let mut parts = text.split(':');
        let (position, sequence, time_us) =
            (parts.next()?.parse().ok()?, parts.next()?.parse().ok()?, parts.next()?.parse().ok()?);
        parts.next().is_none().then_some(Self { position, sequence, time_us })
    }

    /// Whether a partition has come to it.
    #[must_use]
    pub fn reached(self, here: Here) -> Come {
        match here.truncate {
            Some(there) if there == self => Come::Here,
            Some(there) if there < self => Come::NotYet,
            None if !here.at_end => Come::NotYet,
            // what it has of the same transaction comes after it: what came before would have it behind
            _ if here.newest_us.is_some_and(|newest| newest >= self.time_us) => Come::Ahead,
            _ => Come::Without,
        }
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn mark(number: i64) -> Mark {
        Mark { position: number.unsigned_abs() * 10, sequence: 0, time_us: number * 10 }
    }

    /// What a partition holds: rows by their times, and truncates.
    #[derive(Debug, Clone, Copy)]
    enum Step {
        Row(i64),
        Truncate(i64),
    }

    proptest! {
        /// Whatever truncates are missing in which partitions, and however the partitions take turns: each truncate is carried out once,
        /// none takes away what came after it, and none is waited for without end.
        #[test]
        fn all_are_carried_out_in_order(
            lacks in prop::collection::vec(prop::collection::vec(any::<bool>(), 4), 5),
            rows in prop::collection::vec(prop::collection::vec(0_usize..3, 4), 6),
            turns in prop::collection::vec(0_usize..4, 0..200),
        ) {
            let mut partitions: Vec<Vec<Step>> = vec![Vec::new(); 4];
            for period in 0..6_i64 {
                let at = usize::try_from(period).unwrap();
                for (partition, held) in partitions.iter_mut().enumerate() {
                    held.extend((0..rows[at][partition]).map(|_| Step::Row(period * 10 + 5)));
                    // the first partition has them all: one that is nowhere did not happen
                    if period < 5 && (partition == 0 || !lacks[at][partition]) {
                        held.push(Step::Truncate(period + 1));
                    }
                }
            }
            let mut next = [0_usize; 4];
            let mut newest = [None::<i64>; 4];
            let (mut carried_out, mut table, mut halted) = (Vec::new(), Vec::<i64>::new(), false);
            for turn in turns.into_iter().chain((0..400).map(|n| n % 4)) {
                if let Some(Step::Row(time)) = partitions[turn].get(next[turn]) {
                    table.push(*time);
                    newest[turn] = Some(*time);
                    next[turn] += 1;
                }
                let here = |p: usize| Here {
                    truncate: match partitions[p].get(next[p]) { Some(Step::Truncate(t)) => Some(mark(*t)), _ => None },
                    at_end: next[p] == partitions[p].len(),
                    newest_us: newest[p],
                };
                let Some(due) = (0..4).filter_map(|p| here(p).truncate).min() else { continue };
                let come: Vec<Come> = (0..4).map(|p| due.reached(here(p))).collect();
                if come.contains(&Come::NotYet) {
                    continue;
                }
                if come.contains(&Come::Ahead) {
                    halted = true;
                    break;
                }
                prop_assert!(table.iter().all(|time| *time < due.time_us), "{due:?} takes {table:?}");
                table.clear();
                for (p, come) in come.into_iter().enumerate() {
                    next[p] += usize::from(come == Come::Here);
                }
                carried_out.push(due);
            }
            if !halted {
                prop_assert_eq!(carried_out, (1..=5).map(mark).collect::<Vec<_>>());
                prop_assert!((0..4).all(|p| next[p] == partitions[p].len()));
            } else {
                prop_assert!(lacks.iter().flatten().any(|lacks| *lacks), "nothing is missing, and yet one is ahead");
            }
        }

        #[test]
        fn a_mark_is_read_as_it_was_written(position in any::<u64>(), sequence in any::<u64>(), time_us in any::<i64>()) {
            let mark = Mark { position, sequence, time_us };
            prop_assert_eq!(Mark::read(&mark.to_string()), Some(mark));
            prop_assert_eq!(Mark::read(&format!("{mark}:1")), None);
        }
    }
}
