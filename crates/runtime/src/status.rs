//! What a lane says of itself, gathered as it works and stored when it changed.

use std::sync::{Arc, Mutex, PoisonError};
use std::time::Instant;

use gonvel_core::connector::State;
use gonvel_core::ports::{LaneStatus, Level, Line};
use gonvel_core::rate::RateWindow;

/// Lines that wait to be saved.
const MOST_LINES: usize = 2_000;
/// Length of the window of rates, in milliseconds.
const WINDOW_MS: u64 = 5_000;

struct Inner {
    status: LaneStatus,
    saved: Option<LaneStatus>,
    rate: RateWindow,
    lines: Vec<Line>,
    /// Whether anything was done since this was last asked.
    moved: bool,
}

/// A lane's board. Cheap to clone.
#[derive(Clone)]
pub(crate) struct Board {
    lane: i32,
    inner: Arc<Mutex<Inner>>,
    began: Instant,
}

pub(crate) fn now_us() -> i64 {
    chrono::Utc::now().timestamp_micros()
}

impl Board {
    pub(crate) fn new(lane: i32) -> Self {
        let status = LaneStatus::entering(State::Starting, now_us());
        let inner = Inner { status, saved: None, rate: RateWindow::new(WINDOW_MS), lines: Vec::new(), moved: false };
        Self { lane, inner: Arc::new(Mutex::new(inner)), began: Instant::now() }
    }

    /// Says something in the connector's log. It must never hold a secret.
    pub(crate) fn say<const N: usize>(&self, level: Level, says: &str, facts: [(&str, serde_json::Value); N]) {
        let facts = facts.into_iter().map(|(name, value)| (name.to_owned(), value)).collect();
        let line = Line { lane: self.lane, at_us: now_us(), level, says: says.to_owned(), facts };
        let mut inner = self.inner.lock().unwrap_or_else(PoisonError::into_inner);
        // as long as they cannot be saved, the oldest are kept: they tell how it began
        if inner.lines.len() < MOST_LINES {
            inner.lines.push(line);
        }
    }

    /// Notes that something was done that lasts: the next failure is a first one.
    pub(crate) fn note_moved(&self) {
        self.inner.lock().unwrap_or_else(PoisonError::into_inner).moved = true;
    }

    /// Whether anything was done since this was last asked.
    pub(crate) fn take_moved(&self) -> bool {
        std::mem::take(&mut self.inner.lock().unwrap_or_else(PoisonError::into_inner).moved)
    }

    /// The lines that were not saved yet.
    pub(crate) fn take_lines(&self) -> Vec<Line> {
        std::mem::take(&mut self.inner.lock().unwrap_or_else(PoisonError::into_inner).lines)
    }

    pub(crate) fn give_back_lines(&self, mut lines: Vec<Line>) {
        let mut inner = self.inner.lock().unwrap_or_else(PoisonError::into_inner);
        lines.append(&mut inner.lines);
        lines.truncate(MOST_LINES);
        inner.lines = lines;
    }

    /// Changes what the board says.
    pub(crate) fn write(&self, change: impl FnOnce(&mut LaneStatus)) {
        // a writer that panicked left at worst a number of the last moment
        let mut inner = self.inner.lock().unwrap_or_else(PoisonError::into_inner);
        change(&mut inner.status);
    }

    /// Enters a state, if it is another one or for another reason.
    pub(crate) fn enter(&self, state: State, reason: Option<String>, retry_at_us: Option<i64>) {
        let moving = |state: State| matches!(state, State::Loading | State::Following);
        let mut inner = self.inner.lock().unwrap_or_else(PoisonError::into_inner);
        if moving(state) && !moving(inner.status.state) {
            // counts that were taken up from an earlier run are not changes of the last seconds
            inner.rate = RateWindow::new(WINDOW_MS);
        }
        let entered = inner.status.state != state;
        let status = &mut inner.status;
        if status.state != state || status.reason != reason {
            (status.state, status.since_us, status.reason) = (state, now_us(), reason);
        }
        status.retry_at_us = retry_at_us;
        if !moving(state) {
            status.rate_per_s = 0.0;
        }
        drop(inner);
        // what goes wrong is said where it does, with more
        let says = match state {
            State::Loading => "rows that exist are loaded",
            State::Following => "it follows what comes",
            State::Paused => "it is held where it is",
            State::Stopped => "the lane ends here",
            State::Draft | State::Starting | State::Retrying | State::Halted => return,
        };
        if entered {
            self.say(Level::Info, says, []);
        }
    }

    /// The status, if it differs from what was last saved.
    pub(crate) fn unsaved(&self) -> Option<LaneStatus> {
        let mut inner = self.inner.lock().unwrap_or_else(PoisonError::into_inner);
        let total = inner.status.tables.values().map(|t| t.counts.total()).sum();
        let now_ms = u64::try_from(self.began.elapsed().as_millis()).unwrap_or(u64::MAX);
        let rate = inner.rate.observe(now_ms, total);
        if matches!(inner.status.state, State::Loading | State::Following) {
            inner.status.rate_per_s = (rate * 10.0).round() / 10.0;
        }
        (inner.saved.as_ref() != Some(&inner.status)).then(|| inner.status.clone())
    }

    pub(crate) fn note_saved(&self, status: LaneStatus) {
        self.inner.lock().unwrap_or_else(PoisonError::into_inner).saved = Some(status);
    }
}

#[cfg(test)]
mod tests {
    use gonvel_core::change::KindCounts;
    use gonvel_core::ports::TableProgress;

    use super::*;

    #[test]
    fn counts_taken_up_from_an_earlier_run_are_no_rate() {
        let board = Board::new(0);
        let counts = KindCounts { load: 120_000, ..KindCounts::default() };
        assert_eq!(board.unsaved().unwrap().rate_per_s, 0.0);
        board.write(|status| {
            status.tables.insert("public.bins".into(), TableProgress { counts, ..TableProgress::default() });
        });
        board.enter(State::Following, None, None);
        std::thread::sleep(std::time::Duration::from_millis(5));
        assert_eq!(board.unsaved().unwrap().rate_per_s, 0.0);
        board.write(|status| {
            if let Some(table) = status.tables.get_mut("public.bins") {
                table.counts.insert += 50;
            }
        });
        std::thread::sleep(std::time::Duration::from_millis(5));
        assert!(board.unsaved().unwrap().rate_per_s > 0.0);
    }
}
