//! How fast a load goes.

use std::time::Duration;

/// Pages (of 8 kB) read at a time.
const PAGES: u32 = 256;

/// How much is read at a time, and how long nothing is read in between, so that a source is not asked for more rows a second
/// than it was said to give.
#[derive(Debug)]
pub(super) struct Pace {
    rows_per_second: Option<u32>,
    /// Pages to read next.
    pub(super) pages: u32,
}

impl Pace {
    pub(super) fn new(rows_per_second: Option<u32>) -> Self {
        // how many rows a page holds is seen with the first ones
        Self { rows_per_second, pages: if rows_per_second.is_some() { 1 } else { PAGES } }
    }

    /// Notes how many rows the last pages held and how long they took; gives how long to wait before the next.
    pub(super) fn note(&mut self, rows: usize, took: Duration) -> Duration {
        let Some(most) = self.rows_per_second else { return Duration::ZERO };
        let (rows, most) = (u64::try_from(rows).unwrap_or(u64::MAX), u64::from(most.max(1)));
        let due = Duration::from_micros(rows.saturating_mul(1_000_000) / most);
        // about a quarter of a second's rows at a time: neither in bursts nor with a transaction for every row
        let pages = u64::from(self.pages).saturating_mul(most) / rows.saturating_mul(4).max(1);
        self.pages = u32::try_from(pages).unwrap_or(PAGES).clamp(1, PAGES);
        due.saturating_sub(took)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_pace_is_held_over_pages_of_any_size() {
        for (most, per_page) in [(10, 100), (1_000, 60), (50_000, 100), (200_000, 7), (5, 1)] {
            let mut pace = Pace::new(Some(most));
            let (mut rows, mut time) = (0_usize, Duration::ZERO);
            while time < Duration::from_secs(60) {
                let chunk = usize::try_from(pace.pages).unwrap() * per_page;
                let took = Duration::from_millis(3);
                time += took + pace.note(chunk, took);
                rows += chunk;
                assert!(
                    pace.pages == 1 || chunk <= usize::try_from(most).unwrap() || rows == chunk,
                    "{most}: {chunk} at once"
                );
            }
            let rate = rows as f64 / time.as_secs_f64();
            assert!(rate <= f64::from(most) * 1.01, "{most}: {rate}");
            // held back by the pages' number, a fast source may give less; else it is used
            assert!(rate >= f64::from(most) * 0.9 || pace.pages == PAGES, "{most}: {rate}");
        }
        assert_eq!(Pace::new(None).note(1_000_000, Duration::ZERO), Duration::ZERO);
    }
}
