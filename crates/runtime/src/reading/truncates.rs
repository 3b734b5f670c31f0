//! Truncates, each of which stands in every partition of its topic: when it is the turn of one, and what waits for it.

use std::collections::HashSet;
use std::sync::{Arc, Mutex, PoisonError};

use bytes::Bytes;
use gonvel_connectors::postgres::sink::TopicChanges;
use gonvel_core::change::{ChangeBatchBuilder, ChangeKind};
use gonvel_core::naming::TopicPartition;
use gonvel_core::trail::Seen;
use tokio::sync::Notify;

use super::{Gathering, NO_SCHEMA, Reader, not_a_change};
use crate::fetching::records_at;
use crate::lane::Failure;

/// Partitions at a truncate that other lanes are to come to: nothing that is behind it is read before it is carried out, while all else goes on.
#[derive(Default)]
pub(crate) struct Together {
    waiting: Mutex<HashSet<TopicPartition>>,
    carried_out: Notify,
}

impl Together {
    pub(super) fn wait(&self, at: impl Iterator<Item = TopicPartition>) {
        self.waiting.lock().unwrap_or_else(PoisonError::into_inner).extend(at);
    }

    fn has(&self, at: TopicPartition) -> bool {
        self.waiting.lock().unwrap_or_else(PoisonError::into_inner).contains(&at)
    }

    /// A truncate was carried out: its partitions go on.
    pub(crate) fn go_on(&self, at: &[(TopicPartition, i64)]) {
        let mut waiting = self.waiting.lock().unwrap_or_else(PoisonError::into_inner);
        waiting.retain(|held| !at.iter().any(|(at, _)| at == held));
        drop(waiting);
        self.carried_out.notify_one();
    }

    /// Resolves when one was carried out since.
    pub(crate) async fn carried_out(&self) {
        self.carried_out.notified().await;
    }
}

impl Reader {
    /// The same for a lane that carries truncates out together with others: it says when one was.
    pub(crate) fn together(mut self, together: Option<Arc<Together>>) -> Self {
        self.together = together;
        self
    }

    /// Whether a partition is at a truncate that other lanes are to come to.
    pub(super) fn waits_for_others(&self, at: TopicPartition) -> bool {
        self.together.as_ref().is_some_and(|together| together.has(at))
    }

    /// When all partitions of a topic wait before a truncate, it is that truncate's turn.
    pub(super) async fn truncate(&mut self, gathering: &mut Gathering) -> Result<Vec<usize>, Failure> {
        let wait = |topic: usize| self.cursors.iter().filter(|c| c.topic == topic).all(|c| c.at_truncate);
        let Some(first) = self.cursors.iter().position(|c| c.at_truncate && wait(c.topic)) else { return Ok(Vec::new()) };
        let topic = self.cursors[first].topic;
        let places: Vec<usize> = (0..self.cursors.len()).filter(|&p| self.cursors[p].topic == topic).collect();
        let (at, from) = (self.cursors[first].at, self.cursors[first].delivered.next);
        let record = records_at(&*self.log, &[(at, from)]).await?.remove(0);
        let Some(schema) = record.schema else { return Err(not_a_change(at, from, NO_SCHEMA)) };
        let form = self.form(schema).await?;
        let mut builder = ChangeBatchBuilder::new(form.table().clone());
        let read = form.read(&[], record.value.as_deref(), record.timestamp_us, &mut builder);
        read.map_err(|e| not_a_change(at, from, &e.to_string()))?;
        gathering.topics.push(TopicChanges {
            topic,
            batches: vec![builder.finish()],
            changes: vec![((0, 0), Bytes::new())],
            from: vec![(at, from)],
            record_keys: None,
            row_may_be_missing: false,
        });
        gathering.latest_us = Some(record.timestamp_us);
        for &place in &places {
            let cursor = &mut self.cursors[place];
            cursor.at_truncate = false;
            // each partition has the truncate's record, of the same time
            cursor.delivered.last = Some(Seen { offset: cursor.delivered.next, time_us: record.timestamp_us });
            cursor.delivered.next += 1;
        }
        // one truncate of the source stands in every partition but happened once
        if self.cursors[first].at.partition.0 == 0 {
            self.cursors[first].delivered.counts.add(ChangeKind::Truncate);
        }
        Ok(places)
    }
}
