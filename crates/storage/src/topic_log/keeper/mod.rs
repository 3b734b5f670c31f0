//! The keeper: merges small blocks, forgets, keeps the latest of each key, moves blocks to object storage and removes what
//! was deleted. One server at a time does it, in small transactions; what it does can be stopped at any point.

mod cold;
mod dropping;
mod latest;
mod merging;
mod retention;

use std::panic::AssertUnwindSafe;
use std::time::{Duration, Instant};

use chrono::{DateTime, Utc};
use diesel::prelude::*;
use diesel::sql_types::{Binary, Bool, Int4, Int8, Jsonb, Nullable, Timestamptz};
use diesel_async::RunQueryDsl;
use futures::FutureExt;
use gonvel_core::naming::{PartitionId, TopicId, TopicPartition};
use gonvel_core::ports::PortError;
use serde::{Deserialize, Serialize};
use tokio::sync::watch;

use crate::Database;
use crate::catalog::history;
use crate::failing::failed;
use crate::quarantine;
use crate::reaching::reach;

pub use retention::WouldForget;

/// How often it looks for small blocks; other work is looked for less often, unless a topic's settings changed.
const LOOK: Duration = Duration::from_secs(5);
const LOOK_RARELY: Duration = Duration::from_secs(60);
/// How long it waits after a panic.
const AFTER_PANIC: Duration = Duration::from_secs(30);
/// The lock that makes one keeper the only one.
const LEADER: i64 = 0x676f_6e76_656c_0001;

/// What was done since the keeper started, and what waits. All counts.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Said {
    /// Small blocks that became parts of larger ones.
    pub merged_blocks: i64,
    /// Records that were forgotten by age or size, counted in offsets.
    pub forgotten_records: i64,
    /// Older records of a key that were removed.
    pub superseded_records: i64,
    /// Blocks that moved to object storage.
    pub moved_blocks: i64,
    /// Blocks of deleted topics and files that were removed.
    pub dropped: i64,
    /// Small blocks that wait to be merged.
    pub small_blocks_waiting: i64,
    /// Partitions whose older records of a key wait to be removed.
    pub latest_waiting: i64,
    /// Deleted topics and files that wait to be removed.
    pub drops_waiting: i64,
    /// Time it worked, in microseconds.
    pub worked_us: i64,
    /// What failed last, if the last round failed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub failure: Option<String>,
}

#[derive(QueryableByName)]
struct Partition {
    #[diesel(sql_type = Int8)]
    topic_id: i64,
    #[diesel(sql_type = Int4)]
    partition: i32,
}

impl Partition {
    fn at(&self) -> TopicPartition {
        TopicPartition { topic: TopicId(self.topic_id), partition: PartitionId(self.partition) }
    }
}

/// A block as it is stored.
#[derive(QueryableByName)]
struct BlockRow {
    #[diesel(sql_type = Int8)]
    first_offset: i64,
    #[diesel(sql_type = Int4)]
    span: i32,
    #[diesel(sql_type = Int4)]
    records: i32,
    #[diesel(sql_type = Int8)]
    earliest_us: i64,
    #[diesel(sql_type = Int8)]
    latest_us: i64,
    #[diesel(sql_type = Int8)]
    reach_us: i64,
    #[diesel(sql_type = Int4)]
    unpacked: i32,
    #[diesel(sql_type = Nullable<Binary>)]
    places: Option<Vec<u8>>,
    #[diesel(sql_type = Binary)]
    body: Vec<u8>,
    #[diesel(sql_type = Int8)]
    appended_us: i64,
}

#[derive(QueryableByName)]
struct Count {
    #[diesel(sql_type = Int8)]
    count: i64,
}

/// What failed of several things that do not depend on each other: the first is told, all others are done all the same.
#[derive(Default)]
struct Failures(Option<PortError>);

impl Failures {
    fn take<T>(&mut self, outcome: Result<T, PortError>) -> Option<T> {
        match outcome {
            Ok(done) => Some(done),
            Err(error) => {
                self.0.get_or_insert(error);
                None
            }
        }
    }

    fn into_result(self) -> Result<(), PortError> {
        self.0.map_or(Ok(()), Err)
    }
}

/// Does the keeper's work while it is the one that does.
pub struct Keeper {
    database: Database,
    said: Said,
}

impl Database {
    /// Does the keeper's work until the future is dropped, whenever no other server does.
    ///
    /// Cancel safety: every step is a transaction of its own, and what a half-done move leaves is cleaned up later.
    pub async fn keep(self) {
        loop {
            match AssertUnwindSafe(self.lead()).catch_unwind().await {
                Ok(Ok(())) => {}
                Ok(Err(error)) => tracing::warn!(%error, "the keeper could not do its work; it tries again"),
                Err(_) => {
                    tracing::error!("the keeper panicked; it begins again");
                    gonvel_tending::note("keeper");
                    tokio::time::sleep(AFTER_PANIC).await;
                }
            }
            tokio::time::sleep(LOOK).await;
        }
    }

    async fn lead(&self) -> Result<(), PortError> {
        #[derive(QueryableByName)]
        struct Got {
            #[diesel(sql_type = Bool)]
            got: bool,
        }
        let connect = |cause| PortError::TryAgain { during: "connecting the keeper", cause: Box::new(cause) };
        let mut own = reach(&self.address).await.map_err(connect)?;
        let mut keeper = Keeper::new(self.clone());
        let (mut rarely, mut asked) = (None::<Instant>, false);
        let mut changes = self.settings_changes();
        loop {
            // a session's lock may be taken again and again: this also finds out whether the session is still there
            let got: Got = diesel::sql_query("SELECT pg_try_advisory_lock($1) AS got")
                .bind::<Int8, _>(LEADER)
                .get_result(&mut own)
                .await
                .map_err(failed("asking for the keeper's lock"))?;
            if !got.got {
                tokio::time::sleep(LOOK).await;
                continue;
            }
            let all = rarely.is_none_or(|at| at.elapsed() >= if asked { LOOK } else { LOOK_RARELY });
            if all {
                (rarely, asked) = (Some(Instant::now()), false);
            }
            keeper.round(all, now_us()).await;
            keeper.tell().await?;
            tokio::select! {
                () = tokio::time::sleep(LOOK) => {}
                _ = changes.changed() => asked = true,
            }
        }
    }

    /// Counts the changes of topics' settings in this process.
    #[must_use]
    pub fn settings_changes(&self) -> watch::Receiver<u64> {
        self.settings_changed.subscribe()
    }

    /// What the keeper last said, and when.
    ///
    /// # Errors
    /// [`PortError::TryAgain`].
    pub async fn keeper_said(&self) -> Result<Option<(Said, DateTime<Utc>)>, PortError> {
        #[derive(QueryableByName)]
        struct Row {
            #[diesel(sql_type = Jsonb)]
            said: serde_json::Value,
            #[diesel(sql_type = Timestamptz)]
            at: DateTime<Utc>,
        }
        let mut connection = self.connection().await?;
        let row: Option<Row> = diesel::sql_query("SELECT said, at FROM keeper")
            .get_result(&mut connection)
            .await
            .optional()
            .map_err(failed("reading what the keeper said"))?;
        Ok(row.and_then(|row| Some((serde_json::from_value(row.said).ok()?, row.at))))
    }
}

/// Microseconds since 1970-01-01 UTC.
fn now_us() -> i64 {
    Utc::now().timestamp_micros()
}

impl Keeper {
    /// A keeper that works when asked to, whether or not another does: its steps keep out of each other's way.
    #[must_use]
    pub fn new(database: Database) -> Self {
        Self { database, said: Said::default() }
    }

    /// What it did and what waits.
    #[must_use]
    pub fn said(&self) -> &Said {
        &self.said
    }

    /// One round of work: small blocks, and everything else if `all`. `now_us` is the time by which ages are counted, in
    /// microseconds since 1970-01-01 UTC. What fails is noted and left for the next round.
    pub async fn round(&mut self, all: bool, now_us: i64) {
        let start = Instant::now();
        self.said.failure = None;
        let done = self.work(all, now_us).await;
        if let Err(error) = done {
            let cause = std::error::Error::source(&error).map(|c| format!(": {c}")).unwrap_or_default();
            tracing::warn!(%error, cause, "the keeper leaves something for later");
            self.said.failure = Some(format!("{error}{cause}"));
        }
        self.said.worked_us += i64::try_from(start.elapsed().as_micros()).unwrap_or(0);
    }

    async fn work(&mut self, all: bool, now_us: i64) -> Result<(), PortError> {
        let merged = self.merge().await;
        if !all {
            return merged;
        }
        let mut failures = Failures::default();
        failures.take(merged);
        failures.take(self.drop_deleted().await);
        failures.take(self.forget(now_us).await);
        failures.take(self.keep_latest(now_us).await);
        failures.take(self.move_cold(now_us).await);
        failures.take(self.drop_old_identities().await);
        failures.take(self.sample().await);
        failures.take(history::trim_lines(&self.database).await);
        failures.take(quarantine::expire(&self.database).await);
        failures.take(self.database.forget_operations().await);
        failures.into_result()
    }

    async fn tell(&self) -> Result<(), PortError> {
        let mut connection = self.database.connection().await?;
        let said = serde_json::to_value(&self.said).unwrap_or_default();
        diesel::sql_query(
            "INSERT INTO keeper (said) VALUES ($1) ON CONFLICT (single) DO UPDATE SET said = excluded.said, at = now()",
        )
        .bind::<Jsonb, _>(said)
        .execute(&mut connection)
        .await
        .map_err(failed("telling what the keeper did"))?;
        Ok(())
    }

    async fn count(&self, query: &'static str) -> Result<i64, PortError> {
        let mut connection = self.database.connection().await?;
        let count: Count = diesel::sql_query(query)
            .get_result(&mut connection)
            .await
            .map_err(failed("counting what waits for the keeper"))?;
        Ok(count.count)
    }

    /// Notes the size of topics that changed, and forgets notes of more than a day ago.
    async fn sample(&self) -> Result<(), PortError> {
        let mut connection = self.database.connection().await?;
        for statement in [
            "INSERT INTO topic_history (topic_id, at, appended, bytes) \
             SELECT n.topic_id, now(), n.appended, n.bytes FROM ( \
               SELECT topic_id, sum(next_offset)::bigint AS appended, sum(bytes)::bigint AS bytes FROM topic_partitions GROUP BY 1) n \
             LEFT JOIN LATERAL (SELECT appended, bytes FROM topic_history h WHERE h.topic_id = n.topic_id \
               ORDER BY at DESC LIMIT 1) h ON true \
             WHERE n.appended > 0 AND (n.appended, n.bytes) IS DISTINCT FROM (h.appended, h.bytes)",
            "DELETE FROM topic_history WHERE at < now() - interval '1 day'",
        ] {
            diesel::sql_query(statement).execute(&mut connection).await.map_err(failed("noting the size of topics"))?;
        }
        Ok(())
    }
}

/// A size of a topic at a time.
#[derive(Debug, Clone, QueryableByName)]
pub struct Sample {
    /// When.
    #[diesel(sql_type = Timestamptz)]
    pub at: DateTime<Utc>,
    /// Records appended so far.
    #[diesel(sql_type = Int8)]
    pub appended: i64,
    /// Bytes kept.
    #[diesel(sql_type = Int8)]
    pub bytes: i64,
}

impl Database {
    /// Sizes of a topic over the last day, the oldest first.
    ///
    /// # Errors
    /// [`PortError::TryAgain`].
    pub async fn topic_history(&self, topic: TopicId) -> Result<Vec<Sample>, PortError> {
        let mut connection = self.connection().await?;
        diesel::sql_query("SELECT at, appended, bytes FROM topic_history WHERE topic_id = $1 ORDER BY at")
            .bind::<Int8, _>(topic.0)
            .load(&mut connection)
            .await
            .map_err(failed("reading a topic's history"))
    }
}
