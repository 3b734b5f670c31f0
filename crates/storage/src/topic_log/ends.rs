//! What this process knows of where partitions end, so that readers in it wake the moment an append has committed.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, MutexGuard, Weak};
use std::time::Duration;

use diesel::prelude::*;
use diesel::sql_types::{Array, Int4, Int8};
use diesel_async::pooled_connection::bb8::Pool;
use diesel_async::{AsyncPgConnection, RunQueryDsl};
use gonvel_core::naming::{Offset, PartitionId, TopicId, TopicPartition};
use gonvel_core::ports::{AppendBatch, Landed};
use gonvel_tending::tend;
use tokio::sync::watch;

use super::recent::Recent;
use crate::ground::Ground;

/// How often it is looked whether another process appended, once for all who wait.
const LOOK: Duration = Duration::from_millis(500);

#[derive(Debug)]
pub(crate) struct Ends {
    ends: Mutex<Known>,
    ground: Ground,
    /// How many follow each partition.
    watched: Mutex<HashMap<TopicPartition, usize>>,
    appends: watch::Sender<u64>,
    pub(super) recent: Recent,
}

/// Where partitions end, as it was learnt on one ground.
#[derive(Debug, Default)]
struct Known {
    ground: u64,
    ends: HashMap<TopicPartition, Offset>,
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

/// Counts one who follows partitions, for as long as it does.
pub(super) struct Watched {
    ends: Arc<Ends>,
    places: Vec<TopicPartition>,
}

impl Drop for Watched {
    fn drop(&mut self) {
        let Ok(mut watched) = self.ends.watched.lock() else { return };
        for at in &self.places {
            if let Some(count) = watched.get_mut(at) {
                *count -= 1;
                if *count == 0 {
                    watched.remove(at);
                }
            }
        }
    }
}

impl Ends {
    /// Begins to look for what other processes append; it ends with the last user of what it returns.
    pub(crate) fn start(pool: Pool<AsyncPgConnection>, ground: Ground) -> Arc<Self> {
        let ends = Arc::new(Self {
            ends: Mutex::default(),
            ground,
            watched: Mutex::default(),
            appends: watch::channel(0).0,
            recent: Recent::default(),
        });
        let of = Arc::downgrade(&ends);
        tokio::spawn(tend("ends of partitions", move || look(pool.clone(), of.clone())));
        ends
    }

    /// What was committed of batches on a ground, each with what landed.
    pub(crate) fn announce<'b>(
        &self,
        ground: u64,
        committed: impl Iterator<Item = (&'b AppendBatch, &'b [Landed])> + Clone,
    ) {
        for (batch, landed) in committed.clone() {
            for (part, landed) in batch.parts.iter().zip(landed) {
                // a batch with an identity may be a retry: what landed then is what its first try brought
                if part.to == landed.to && batch.identity.is_none() {
                    self.recent.note(ground, landed.to, landed.first, &part.blocks);
                }
            }
        }
        let landed = committed.flat_map(|(_, landed)| landed);
        self.raise(ground, landed.map(|part| (part.to, Offset(part.first.0 + part.records))));
    }

    /// What was learnt on an earlier ground says nothing any more.
    fn raise(&self, ground: u64, found: impl IntoIterator<Item = (TopicPartition, Offset)>) {
        let mut grew = false;
        if let Ok(mut known) = self.ends.lock() {
            if ground > known.ground {
                *known = Known { ground, ..Known::default() };
                self.recent.begin(ground);
            } else if ground < known.ground {
                return;
            }
            for (at, end) in found {
                let known = known.ends.entry(at).or_insert(Offset(0));
                grew |= end > *known;
                *known = (*known).max(end);
            }
        }
        if grew {
            self.appends.send_modify(|n| *n += 1);
        }
    }

    /// What is known of the present ground; none if nothing is.
    fn known(&self) -> Option<MutexGuard<'_, Known>> {
        self.ends.lock().ok().filter(|known| known.ground == self.ground.now())
    }

    pub(crate) fn may_have(&self, after: &[(TopicPartition, Offset)]) -> Vec<bool> {
        let Some(known) = self.known() else { return vec![true; after.len()] };
        after.iter().map(|(at, offset)| known.ends.get(at).is_none_or(|end| end > offset)).collect()
    }

    fn any_past(&self, after: &[(TopicPartition, Offset)]) -> bool {
        let Some(known) = self.known() else { return true };
        after.iter().any(|(at, offset)| known.ends.get(at).is_some_and(|end| end > offset))
    }

    /// As long as what is returned lives, these partitions are looked at for what other processes append.
    pub(super) fn watch(self: &Arc<Self>, places: Vec<TopicPartition>) -> Watched {
        if let Ok(mut watched) = self.watched.lock() {
            for at in &places {
                *watched.entry(*at).or_default() += 1;
            }
        }
        Watched { ends: self.clone(), places }
    }

    pub(crate) async fn wait_for(self: &Arc<Self>, after: &[(TopicPartition, Offset)], timeout: Duration) {
        let mut appends = self.appends.subscribe();
        let _watched = self.watch(after.iter().map(|(at, _)| *at).collect());
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
        let places: Vec<TopicPartition> = match ends.watched.lock() {
            Ok(watched) => watched.keys().copied().collect(),
            Err(_) => return,
        };
        if places.is_empty() {
            continue;
        }
        // a database that is away is looked at again
        let Ok(mut connection) = pool.get().await else { continue };
        let ground = ends.ground.now();
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
            ends.raise(ground, rows.into_iter().map(end));
        }
    }
}
