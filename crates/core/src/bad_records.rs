//! When there are so many bad records that quarantine helps nobody.

use std::collections::VecDeque;
use std::time::Duration;

use crate::connector::Failing;

const MINUTE: Duration = Duration::from_secs(60);

/// Bad records of one lane, counted.
#[derive(Debug, Clone, Default)]
pub struct BadRecords {
    in_a_row: u32,
    /// How many came together, and when, in the last minute.
    lately: VecDeque<(Duration, u32)>,
}

/// More bad records than may go into quarantine.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum TooMany {
    /// One after the other.
    #[error("{0} records in a row cannot be handled, more than the {1} that may go into quarantine")]
    InARow(u32, u32),
    /// Within a minute.
    #[error("{0} records of the last minute cannot be handled, more than the {1} that may go into quarantine")]
    AMinute(u32, u32),
}

impl BadRecords {
    /// Counts a round's records in their order, each with whether it is bad. Times are told from any fixed moment.
    ///
    /// # Errors
    /// [`TooMany`], by the connector's limits.
    pub fn count(
        &mut self,
        records: impl IntoIterator<Item = bool>,
        now: Duration,
        limits: &Failing,
    ) -> Result<(), TooMany> {
        let (mut longest, mut all) = (self.in_a_row, 0_u32);
        for bad in records {
            self.in_a_row = if bad { self.in_a_row.saturating_add(1) } else { 0 };
            longest = longest.max(self.in_a_row);
            all = all.saturating_add(u32::from(bad));
        }
        if all > 0 {
            self.lately.push_back((now, all));
        }
        while self.lately.front().is_some_and(|(at, _)| now.saturating_sub(*at) > MINUTE) {
            self.lately.pop_front();
        }
        let a_minute = self.lately.iter().map(|(_, count)| count).sum();
        if longest > limits.most_in_a_row {
            return Err(TooMany::InARow(longest, limits.most_in_a_row));
        }
        if a_minute > limits.most_a_minute {
            return Err(TooMany::AMinute(a_minute, limits.most_a_minute));
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn rows_go_on_across_rounds_and_minutes_pass() {
        let limits = Failing { most_in_a_row: 3, most_a_minute: 5, ..Failing::default() };
        let at = Duration::from_secs;
        let mut bad = BadRecords::default();
        assert_eq!(bad.count([false, true, true], at(0), &limits), Ok(()));
        // one more makes three in a row, and a good one ends the row
        assert_eq!(bad.count([true, false, true], at(1), &limits), Ok(()));
        assert_eq!(bad.count([true, true, true, false], at(2), &limits), Err(TooMany::InARow(4, 3)));
        // of seven within a minute, those of the first two rounds have passed by
        let mut slow = BadRecords::default();
        let spread = [true, false, true];
        assert_eq!(slow.count(spread, at(0), &limits), Ok(()));
        assert_eq!(slow.count(spread, at(30), &limits), Ok(()));
        assert_eq!(slow.count(spread, at(59), &limits), Err(TooMany::AMinute(6, 5)));
        let mut later = BadRecords::default();
        for round in 0..9 {
            assert_eq!(later.count(spread, at(round * 31), &limits), Ok(()), "round {round}");
        }
        // nothing bad is nothing to count, however long it goes on
        assert_eq!(later.count(std::iter::repeat_n(false, 1_000), at(1_000), &limits), Ok(()));
        assert!(later.lately.is_empty());
    }
}
