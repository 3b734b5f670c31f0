//! A rate over the last seconds, from counts at moments.

use std::collections::VecDeque;

/// Events per second over a sliding window.
#[derive(Debug, Clone)]
pub struct RateWindow {
    window_ms: u64,
    marks: VecDeque<(u64, u64)>,
}

impl RateWindow {
    /// A window of this length in milliseconds.
    #[must_use]
    pub fn new(window_ms: u64) -> Self {
        Self { window_ms, marks: VecDeque::new() }
    }

    /// Notes that `total` events had happened at `now_ms` (milliseconds on any steady clock) and gives events per second.
    pub fn observe(&mut self, now_ms: u64, total: u64) -> f64 {
        if self.marks.back().is_some_and(|&(_, last)| last > total) {
            self.marks.clear();
        }
        self.marks.push_back((now_ms, total));
        while self.marks.len() > 2 && self.marks[1].0 + self.window_ms <= now_ms {
            self.marks.pop_front();
        }
        let (first_ms, first) = self.marks[0];
        if now_ms <= first_ms {
            return 0.0;
        }
        #[allow(clippy::cast_precision_loss, reason = "a rate is shown with a few digits")]
        let rate = (total - first) as f64 * 1000.0 / (now_ms - first_ms) as f64;
        rate
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_rate_forgets_what_is_older_than_the_window() {
        let mut rate = RateWindow::new(2_000);
        assert_eq!(rate.observe(0, 100), 0.0);
        assert_eq!(rate.observe(1_000, 300), 200.0);
        assert_eq!(rate.observe(10_000, 300), 0.0);
        assert_eq!(rate.observe(11_000, 350), 5.0);
        assert_eq!(rate.observe(12_000, 0), 0.0, "a count that starts anew is not a negative rate");
    }
}
