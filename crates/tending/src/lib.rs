//! Tasks that must not end: one that panics begins again, and each time is counted where people look.

use std::collections::BTreeMap;
use std::panic::AssertUnwindSafe;
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, SystemTime};

use futures::FutureExt;
use tokio::time::Instant;

/// How long a task waits after its first panic; twice as long after each that follows soon.
const FIRST_WAIT: Duration = Duration::from_secs(1);
const LONGEST_WAIT: Duration = Duration::from_secs(60);
/// After this long without a panic the next one is a first one.
const CALM: Duration = Duration::from_secs(300);

static SEEN: Mutex<BTreeMap<&'static str, Restarts>> = Mutex::new(BTreeMap::new());

/// How often a task of this process had to begin again.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Restarts {
    /// How often.
    pub count: u64,
    /// When last.
    pub last: SystemTime,
}

/// Counts that a task panicked and begins again.
pub fn note(task: &'static str) {
    let mut seen = SEEN.lock().unwrap_or_else(PoisonError::into_inner);
    let restarts = seen.entry(task).or_insert(Restarts { count: 0, last: SystemTime::UNIX_EPOCH });
    *restarts = Restarts { count: restarts.count + 1, last: SystemTime::now() };
}

/// The tasks of this process that began again after a panic, by name.
#[must_use]
pub fn restarts() -> Vec<(&'static str, Restarts)> {
    SEEN.lock().unwrap_or_else(PoisonError::into_inner).iter().map(|(task, restarts)| (*task, *restarts)).collect()
}

/// Runs what `begin` makes until it ends by itself. After a panic it is made anew, in a while.
///
/// Cancel safety: as of the task itself.
pub async fn tend<F: Future<Output = ()>>(task: &'static str, mut begin: impl FnMut() -> F) {
    let mut wait = FIRST_WAIT;
    loop {
        let began = Instant::now();
        if AssertUnwindSafe(async { begin().await }).catch_unwind().await.is_ok() {
            return;
        }
        if began.elapsed() >= CALM {
            wait = FIRST_WAIT;
        }
        note(task);
        tracing::error!(task, ?wait, "a task panicked; it begins again");
        tokio::time::sleep(wait).await;
        wait = (wait * 2).min(LONGEST_WAIT);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn count(task: &str) -> u64 {
        restarts().into_iter().find(|(name, _)| *name == task).map_or(0, |(_, restarts)| restarts.count)
    }

    #[tokio::test(start_paused = true)]
    async fn a_task_that_panics_begins_again_ever_later_and_is_counted() {
        let start = Instant::now();
        let began = Mutex::new(Vec::new());
        tend("ripening", || {
            began.lock().expect("one at a time").push(start.elapsed().as_secs());
            let turn = began.lock().expect("one at a time").len();
            async move {
                if turn == 8 {
                    // long enough for what was before to be forgotten
                    tokio::time::sleep(CALM).await;
                }
                assert!(turn >= 10, "not ripe yet");
            }
        })
        .await;
        let began = began.into_inner().expect("nobody holds it");
        assert_eq!(began, [0, 1, 3, 7, 15, 31, 63, 123, 424, 426]);
        assert_eq!(count("ripening"), 9);
    }

    #[tokio::test(start_paused = true)]
    async fn one_that_panics_before_it_awaits_anything_is_caught_too() {
        let mut turns = 0;
        tend("picking", || {
            turns += 1;
            assert!(turns > 1, "while it is made");
            std::future::ready(())
        })
        .await;
        assert_eq!((turns, count("picking")), (2, 1));
    }
}
