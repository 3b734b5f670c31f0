//! A source of made-up records at work: rows when they are due, or as fast as they are taken.

use std::sync::Arc;
use std::time::Duration;

use async_trait::async_trait;
use chrono::Utc;
use gonvel_core::change::ChangeKind;
use gonvel_core::ports::systems::{Captured, Captures, ConnectorError, SourcePosition, TableChanges};
use tokio::sync::mpsc;
use tokio::time::Instant;

use super::position::Made;
use super::recipe::Recipe;
use super::tables::{self, made};

/// Most rows of a table in a batch.
const MOST: u64 = 10_000;
/// Batches that are made ahead.
const AHEAD: usize = 2;
/// Rows that are due sooner than this wait for each other.
const TICK: Duration = Duration::from_millis(5);

/// When rows of a recipe are due, from the session's beginning on.
#[derive(Debug, Clone, Copy)]
struct Pace {
    /// Rows a second; none for as fast as they are taken.
    rate: Option<f64>,
    /// Seconds between bursts, and rows of each.
    burst: Option<(f64, u64)>,
}

impl Pace {
    fn of(recipe: &Recipe) -> Self {
        Self { rate: recipe.rate, burst: recipe.burst.map(|burst| (burst.every_s, burst.rows)) }
    }

    /// How many rows of bursts are due after so many seconds.
    #[allow(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "counts of bursts, at least none")]
    fn of_bursts(self, seconds: f64) -> u64 {
        self.burst.map_or(0, |(every, rows)| ((seconds / every) as u64).saturating_mul(rows))
    }

    /// How many rows are due after so many seconds.
    #[allow(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "counts of rows, at least none")]
    fn due(self, seconds: f64) -> u64 {
        let steady = self.rate.map_or(u64::MAX, |rate| (rate * seconds) as u64);
        steady.saturating_add(self.of_bursts(seconds))
    }

    /// After how many seconds more than so many rows are due, `seconds` being over.
    #[allow(clippy::cast_precision_loss, reason = "counts of rows")]
    fn next(self, made: u64, seconds: f64) -> f64 {
        let Some(rate) = self.rate else { return seconds };
        let steady = (made.saturating_sub(self.of_bursts(seconds)) + 1) as f64 / rate;
        let burst = self.burst.map_or(f64::INFINITY, |(every, _)| ((seconds / every).floor() + 1.0) * every);
        steady.min(burst).max(seconds)
    }
}

/// A table of the source.
struct Table {
    place: usize,
    name: String,
    captured: Arc<tables::Captured>,
    pace: Pace,
    /// Rows of this session.
    made: u64,
}

impl Table {
    /// How many rows are due, and not there yet.
    fn due(&self, position: &Made, seconds: f64) -> u64 {
        let next = position.next.get(&self.name).copied().unwrap_or(1);
        let left = self.captured.0.recipe.rows.map_or(u64::MAX, |rows| (rows + 1).saturating_sub(next));
        self.pace.due(seconds).saturating_sub(self.made).min(left).min(MOST)
    }

    fn is_done(&self, position: &Made) -> bool {
        let next = position.next.get(&self.name).copied().unwrap_or(1);
        self.captured.0.recipe.rows.is_some_and(|rows| next > rows)
    }
}

/// A source that makes rows. Dropping it ends that.
pub(super) struct Making {
    captured: mpsc::Receiver<Result<Captured, ConnectorError>>,
    task: tokio::task::JoinHandle<()>,
}

impl Making {
    /// Begins to make rows of tables, each with its place among the source's.
    pub(super) fn begin(tables: Vec<(usize, String, tables::Captured)>, position: Made) -> Self {
        let table = |(place, name, captured): (usize, String, tables::Captured)| {
            let pace = Pace::of(&captured.0.recipe);
            Table { place, name, captured: Arc::new(captured), pace, made: 0 }
        };
        let tables = tables.into_iter().map(table).collect();
        let (send, captured) = mpsc::channel(AHEAD);
        Self { captured, task: tokio::spawn(make(tables, position, send)) }
    }
}

impl Drop for Making {
    fn drop(&mut self) {
        self.task.abort();
    }
}

async fn make(mut tables: Vec<Table>, mut position: Made, send: mpsc::Sender<Result<Captured, ConnectorError>>) {
    let began = Instant::now();
    loop {
        // room first: what is made is of the time when it goes on
        let Ok(permit) = send.reserve().await else { return };
        let seconds = began.elapsed().as_secs_f64();
        let mut changes = Vec::new();
        for table in &mut tables {
            let rows = table.due(&position, seconds);
            if rows == 0 {
                continue;
            }
            let from = position.next.get(&table.name).copied().unwrap_or(1);
            let numbers = table.captured.0.numbers(from, rows);
            let many = numbers.len() as u64;
            let (captured, before) = (table.captured.clone(), position.rows);
            // thousands of rows are work for the processor: the threads that answer must not wait for it
            let work = move || {
                let now_us = Utc::now().timestamp_micros();
                made(&captured.0, &captured.1, &numbers, (ChangeKind::Insert, before, now_us))
            };
            let batch = if rows > 100 {
                match tokio::task::spawn_blocking(work).await {
                    Ok(batch) => batch,
                    Err(error) => {
                        permit.send(Err(ConnectorError::Defect(error.to_string())));
                        return;
                    }
                }
            } else {
                work()
            };
            changes.push(TableChanges { table: table.place, batch, rows: None });
            table.made += rows;
            position.rows += many;
            position.next.insert(table.name.clone(), from + rows);
        }
        if changes.is_empty() {
            drop(permit);
            let next =
                tables.iter().filter(|table| !table.is_done(&position)).map(|table| table.pace.next(table.made, seconds));
            match next.reduce(f64::min) {
                Some(next) => {
                    let wait = Duration::try_from_secs_f64(next - seconds).unwrap_or(Duration::MAX);
                    tokio::time::sleep(wait.max(TICK).min(Duration::from_secs(3_600))).await;
                }
                // all rows are made: the source stays, should it be changed
                None => std::future::pending().await,
            }
            continue;
        }
        permit.send(Ok(Captured { changes, position: Box::new(position.clone()), found: Vec::new(), last: false }));
    }
}

#[async_trait]
impl Captures for Making {
    async fn next(&mut self) -> Option<Result<Captured, ConnectorError>> {
        self.captured.recv().await
    }

    fn confirm(&self, _: &dyn SourcePosition) {}
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        /// Whoever waits until the next row is due and makes what is due then neither waits for ever nor makes rows early, and loses none.
        #[test]
        fn rows_come_at_their_rate(rate in 0.1_f64..5_000.0, burst in prop::option::of((0.5_f64..5.0, 1_u64..500))) {
            let pace = Pace { rate: Some(rate), burst };
            let (mut seconds, mut made, mut steps) = (0.0, 0, 0);
            while seconds < 20.0 && steps < 200 {
                let next = pace.next(made, seconds);
                prop_assert!(next >= seconds && next - seconds <= 1.0 / rate + 1e-6, "{next} after {seconds}");
                // a clock comes a little late
                seconds = next + 1e-9;
                let due = pace.due(seconds);
                prop_assert!(due > made, "{due} are due at {seconds}, and {made} are made");
                made = due;
                steps += 1;
            }
            let bursts = burst.map_or(0.0, |(every, rows)| (seconds / every).floor() * rows as f64);
            prop_assert!((made as f64 - seconds * rate - bursts).abs() <= 1.0);
        }
    }
}
