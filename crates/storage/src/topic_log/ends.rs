//! What this process knows of where partitions end, so that readers in it wake the moment an append has committed.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, Weak};
use std::time::Duration;

use diesel::prelude::*;
use diesel::sql_types::{Array, Int4, Int8};
use diesel_async::pooled_connection::bb8::Pool;
use diesel_async::{AsyncPgConnection, RunQueryDsl};
use gonvel_core::naming::{Offset, PartitionId, TopicId, TopicPartition};
use gonvel_core::ports::Landed;
use tokio::sync::watch;

/// How often it is looked whether another process appended, once for all who wait.
const LOOK: Duration = Duration::from_millis(500);

#[derive(Debug)]
pub(crate) struct Ends {
    ends: Mutex<HashMap<TopicPartition, Offset>>,
    /// How many wait for each partition.
    waiting: Mutex<HashMap<TopicPartition, usize>>,
    appends: watch::Sender<u64>,
}

#[derive(QueryableByName)]
struct Row {
    #[diesel(sql_type = Int8)]
    topic_id: i64,
    #[diesel(sql_type = Int4)]
    partition: i32,
    #[diesel(sql_type = Int8)]
    next_offset: i64,
}

/// Counts one who waits, for as long as it does.
struct Waiting<'a> {
    ends: &'a Ends,
    places: Vec<TopicPartition>,
}

impl Drop for Waiting<'_> {
    fn drop(&mut self) {
        let Ok(mut waiting) = self.ends.waiting.lock() else { return };
        for at in &self.places {
            if let Some(count) = waiting.get_mut(at) {
                *count -= 1;
                if *count == 0 {
                    waiting.remove(at);
                }
            }
        }
    }
}

impl Ends {
    /// Begins to look for what other processes append; it ends with the last user of what it returns.
    pub(crate) fn start(pool: Pool<AsyncPgConnection>) -> Arc<Self> {
        let ends = Arc::new(Self { ends: Mutex::default(), waiting: Mutex::default(), appends: watch::channel(0).0 });
        tokio::spawn(look(pool, Arc::downgrade(&ends)));
        ends
    }

    pub(crate) fn announce(&self, landed: &[Landed]) {
        self.raise(landed.iter().map(|part| (part.to, Offset(part.first.0 + part.records))));
    }

    fn raise(&self, found: impl IntoIterator<Item = (TopicPartition, Offset)>) {
        let mut grew = false;
        if let Ok(mut ends) = self.ends.lock() {
            for (at, end) in found {
                let known = ends.entry(at).or_insert(Offset(0));
                grew |= end > *known;
                *known = (*known).max(end);
            }
        }
        if grew {
            self.appends.send_modify(|n| *n += 1);
        }
    }

    pub(crate) fn may_have(&self, after: &[(TopicPartition, Offset)]) -> Vec<bool> {
        let Ok(ends) = self.ends.lock() else { return vec![true; after.len()] };
        after.iter().map(|(at, offset)| ends.get(at).is_none_or(|end| end > offset)).collect()
    }

    fn any_past(&self, after: &[(TopicPartition, Offset)]) -> bool {
        let Ok(ends) = self.ends.lock() else { return true };
        after.iter().any(|(at, offset)| ends.get(at).is_some_and(|end| end > offset))
    }

    pub(crate) async fn wait_for(&self, after: &[(TopicPartition, Offset)], timeout: Duration) {
        let mut appends = self.appends.subscribe();
        let places: Vec<TopicPartition> = after.iter().map(|(at, _)| *at).collect();
        if let Ok(mut waiting) = self.waiting.lock() {
            for at in &places {
                *waiting.entry(*at).or_default() += 1;
            }
        }
        let _counted = Waiting { ends: self, places };
        let waiting = async {
            while !self.any_past(after) {
                if appends.changed().await.is_err() {
                    return;
                }
            }
        };
        let _ = tokio::time::timeout(timeout, waiting).await;
    }
}

async fn look(pool: Pool<AsyncPgConnection>, ends: Weak<Ends>) {
    loop {
        tokio::time::sleep(LOOK).await;
        let Some(ends) = ends.upgrade() else { return };
        let places: Vec<TopicPartition> = match ends.waiting.lock() {
            Ok(waiting) => waiting.keys().copied().collect(),
            Err(_) => return,
        };
        if places.is_empty() {
            continue;
        }
        // a database that is away is looked at again
        let Ok(mut connection) = pool.get().await else { continue };
        let rows: Result<Vec<Row>, _> = diesel::sql_query(
            "SELECT topic_id, partition, next_offset FROM topic_partitions \
             JOIN unnest($1, $2) AS a(topic_id, partition) USING (topic_id, partition)",
        )
        .bind::<Array<Int8>, _>(places.iter().map(|p| p.topic.0).collect::<Vec<_>>())
        .bind::<Array<Int4>, _>(places.iter().map(|p| p.partition.0).collect::<Vec<_>>())
        .load(&mut connection)
        .await;
        if let Ok(rows) = rows {
            let end = |r: Row| {
                (TopicPartition { topic: TopicId(r.topic_id), partition: PartitionId(r.partition) }, Offset(r.next_offset))
            };
            ends.raise(rows.into_iter().map(end));
        }
    }
}
