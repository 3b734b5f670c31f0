//! A day at the packhouse: picks, regrades, moves and voids bins at a chosen rate.

use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;

use rand::rngs::StdRng;
use rand::seq::IndexedRandom;
use rand::{Rng, SeedableRng};
use tokio::sync::watch;
use tokio::time::{Instant, MissedTickBehavior};
use tokio_postgres::{Client, Error, NoTls, Statement};

use super::{BLOCKS, GRADES, ROOMS};

/// Work one connection can do in a second without falling behind.
const PER_WORKER: u32 = 250;
const MOST_WORKERS: u32 = 16;

/// A running day. Dropping it ends it after the transactions under way.
#[derive(Debug)]
pub struct Day {
    stop: watch::Sender<bool>,
    done: Arc<AtomicU64>,
    /// Transactions per second asked for.
    pub rate: u32,
}

impl Day {
    /// Transactions done so far.
    #[must_use]
    pub fn done(&self) -> u64 {
        self.done.load(Ordering::Relaxed)
    }

    /// Begins a day at `rate` transactions per second against the packhouse at `url`.
    ///
    /// # Errors
    /// If the database does not take a connection or lacks the tables.
    pub async fn begin(url: &str, rate: u32) -> Result<Self, Error> {
        let rate = rate.clamp(1, 20_000);
        let workers = rate.div_ceil(PER_WORKER).min(MOST_WORKERS);
        let (stop, stopped) = watch::channel(false);
        let done = Arc::new(AtomicU64::new(0));
        for number in 0..workers {
            let worker = Worker::connect(url, number).await?;
            let pace = Duration::from_secs(1) * workers / rate;
            tokio::spawn(worker.run(pace, stopped.clone(), done.clone()));
        }
        Ok(Self { stop, done, rate })
    }

    /// Ends the day.
    pub fn end(&self) {
        let _ = self.stop.send(true);
    }
}

impl Drop for Day {
    fn drop(&mut self) {
        self.end();
    }
}

struct Worker {
    client: Client,
    random: StdRng,
    pick: Statement,
    regrade: Statement,
    weigh: Statement,
    relocate: Statement,
    void: Statement,
    newest: i64,
}

impl Worker {
    async fn connect(url: &str, number: u32) -> Result<Self, Error> {
        let (client, connection) = tokio_postgres::connect(url, NoTls).await?;
        tokio::spawn(connection);
        let pick = client
            .prepare(
                "INSERT INTO bins (id, block_id, picked_at, weight_kg, grade, room_id, status)
                 VALUES (nextval('bin_numbers'), $1, clock_timestamp(), $2::int / 10.0, $3, $4, 'stored') RETURNING id",
            )
            .await?;
        let regrade = client.prepare("UPDATE bins SET grade = $2, status = 'graded' WHERE id = $1").await?;
        let weigh =
            client.prepare("UPDATE bins SET weight_kg = $2::int / 10.0, remark = 'weighed again' WHERE id = $1").await?;
        let relocate = client.prepare("UPDATE bins SET room_id = $2 WHERE id = $1").await?;
        let void = client.prepare("DELETE FROM bins WHERE id = $1").await?;
        let newest: i64 = client.query_one("SELECT coalesce(max(id), 1) FROM bins", &[]).await?.get(0);
        let seed = u64::from(number) ^ newest.unsigned_abs();
        Ok(Self { client, random: StdRng::seed_from_u64(seed), pick, regrade, weigh, relocate, void, newest })
    }

    async fn run(mut self, pace: Duration, mut stopped: watch::Receiver<bool>, done: Arc<AtomicU64>) {
        let mut ticks = tokio::time::interval_at(Instant::now() + pace, pace);
        ticks.set_missed_tick_behavior(MissedTickBehavior::Burst);
        while !*stopped.borrow() {
            tokio::select! {
                _ = ticks.tick() => {}
                changed = stopped.changed() => { if changed.is_err() { return } else { continue } }
            }
            match self.one().await {
                Ok(()) => {
                    done.fetch_add(1, Ordering::Relaxed);
                }
                Err(error) => {
                    tracing::warn!(%error, "the packhouse did not take a change; the day goes on when it answers");
                    if self.client.is_closed() {
                        return;
                    }
                    tokio::time::sleep(Duration::from_secs(1)).await;
                }
            }
        }
    }

    async fn one(&mut self) -> Result<(), Error> {
        let random = &mut self.random;
        let bin = random.random_range(1..=self.newest);
        let grade = GRADES.choose(random).copied().unwrap_or_default();
        match random.random_range(0..100) {
            0..45 => {
                let (block, weight, room) =
                    (random.random_range(1..=BLOCKS), random.random_range(2_400_i32..4_200), random.random_range(1..=ROOMS));
                let row = self.client.query_one(&self.pick, &[&block, &weight, &grade, &room]).await?;
                self.newest = self.newest.max(row.get(0));
            }
            45..65 => {
                self.client.execute(&self.regrade, &[&bin, &grade]).await?;
            }
            65..75 => {
                let weight = random.random_range(2_400_i32..4_200);
                self.client.execute(&self.weigh, &[&bin, &weight]).await?;
            }
            75..95 => {
                let room = random.random_range(1..=ROOMS);
                self.client.execute(&self.relocate, &[&bin, &room]).await?;
            }
            _ => {
                self.client.execute(&self.void, &[&bin]).await?;
            }
        }
        Ok(())
    }
}
