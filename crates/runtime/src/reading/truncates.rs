//! Truncates, each of which stands in every partition of its topic: when it is the turn of one, and what waits for it.

use std::collections::BTreeMap;
use std::sync::Arc;
use std::time::Duration;

use bytes::Bytes;
use gonvel_core::block::RecordRef;
use gonvel_core::change::{ChangeBatch, ChangeBatchBuilder, ChangeKind};
use gonvel_core::naming::TopicPartition;
use gonvel_core::ports::Topic;
use gonvel_core::ports::systems::{ConnectorError, Delivered, RowBefore, TopicChanges, ahead};
use gonvel_core::trail::Seen;
use gonvel_core::truncate::{Come, Here, Mark};
use tokio::time::Instant;

use super::together::Together;
use super::{Cursor, Gathering, NO_SCHEMA, Place, Reader, not_a_change};
use crate::failing::Failure;
use crate::fetching::records_at;

/// How often it is looked whether a partition that has not come to a truncate has nothing more.
pub(crate) const LOOK_FOR_ENDS: Duration = Duration::from_millis(500);

impl Reader {
    /// The same for a lane that carries truncates out together with others: it says when one was.
    pub(crate) fn together(mut self, together: Option<Arc<Together>>) -> Self {
        self.together = together;
        self
    }

    /// The same for a lane that knows of so many partitions of its topics.
    pub(crate) fn knowing(mut self, topics: &[Topic]) -> Self {
        self.known = topics.to_vec();
        self
    }

    /// A truncate that stands in a partition of which the lane does not know yet is not carried out without it: there it would be found
    /// by who knows of it, when the others are past it.
    async fn knows_all(&self, topic: usize) -> Result<(), Failure> {
        let Some(known) = self.known.get(topic) else { return Ok(()) };
        if self.log.bounds(known.id).await?.len() == usize::try_from(known.partitions).unwrap_or(0) {
            return Ok(());
        }
        Err(ConnectorError::try_again(format!("partitions were added to {}", known.name), "it starts again by itself")
            .into())
    }

    /// Whether a partition is at a truncate that other lanes are to come to.
    pub(super) fn waits_for_others(&self, at: TopicPartition) -> bool {
        self.together.as_ref().is_some_and(|together| together.has(at))
    }

    /// Which truncate a record tells.
    pub(super) async fn mark(&mut self, (at, offset): Place, record: &RecordRef<'_>) -> Result<Mark, Failure> {
        let batch = self.truncate_of((at, offset), record).await?;
        Ok(batch.origins[0].into())
    }

    async fn truncate_of(&mut self, (at, offset): Place, record: &RecordRef<'_>) -> Result<ChangeBatch, Failure> {
        let Some(schema) = record.schema else { return Err(not_a_change(at, offset, NO_SCHEMA)) };
        let form = self.form(schema).await?;
        let mut builder = ChangeBatchBuilder::new(form.table().clone());
        let read = form.read(&[], record.value, record.timestamp_us, &mut builder);
        read.map_err(|e| not_a_change(at, offset, &e.to_string()))?;
        Ok(builder.finish())
    }

    /// The partitions at the truncate that is due, if one is: all partitions of its topic have come to it, or have none such.
    async fn due(&mut self) -> Result<Option<(Mark, Vec<usize>)>, Failure> {
        let mut first: BTreeMap<usize, Mark> = BTreeMap::new();
        for cursor in &self.cursors {
            if let Some(mark) = cursor.at_truncate {
                first.entry(cursor.topic).and_modify(|first| *first = mark.min(*first)).or_insert(mark);
            }
        }
        // most have it in all partitions; whether one has nothing more is asked now and then
        let looks = self.looked_for_ends.elapsed() > LOOK_FOR_ENDS;
        for (topic, mark) in first {
            let places: Vec<usize> = (0..self.cursors.len()).filter(|&p| self.cursors[p].topic == topic).collect();
            if places.iter().any(|&p| self.waits_for_others(self.cursors[p].at)) {
                continue;
            }
            let mut ends = Vec::new();
            if places.iter().any(|&p| self.cursors[p].at_truncate.is_none()) {
                if !looks {
                    continue;
                }
                self.looked_for_ends = Instant::now();
                ends = self.log.bounds(self.cursors[places[0]].at.topic).await?;
                // a log that was rolled back meanwhile has other ends
                self.same_ground()?;
            }
            let mut here = Vec::new();
            let mut come = true;
            for place in places {
                let Cursor { at, at_truncate, delivered, .. } = self.cursors[place];
                let at_end = ends.iter().any(|bounds| bounds.partition == at.partition && bounds.next.0 <= delivered.next);
                let stands = Here { truncate: at_truncate, at_end, newest_us: delivered.last.map(|seen| seen.time_us) };
                match mark.reached(stands) {
                    Come::Here => here.push(place),
                    Come::Without => {}
                    Come::NotYet => come = false,
                    Come::Ahead => return Err(ahead(at.partition.0, mark).into()),
                }
            }
            if come {
                return Ok(Some((mark, here)));
            }
        }
        Ok(None)
    }

    /// When all partitions of a topic have come to a truncate, it is that truncate's turn.
    pub(super) async fn truncate(&mut self, gathering: &mut Gathering) -> Result<Vec<usize>, Failure> {
        let Some((mark, places)) = self.due().await? else { return Ok(Vec::new()) };
        let Cursor { at, topic, delivered: Delivered { next: from, .. }, .. } = self.cursors[places[0]];
        self.knows_all(topic).await?;
        let record = records_at(&*self.log, &[(at, from)]).await?.remove(0);
        let headers = record.encoded_headers();
        let batch = self.truncate_of((at, from), &record.as_ref_with(&headers)).await?;
        gathering.topics.push(TopicChanges {
            topic,
            batches: vec![batch],
            changes: vec![((0, 0), Bytes::new())],
            from: vec![(at, from)],
            record_keys: None,
            row_before: RowBefore::Known,
        });
        gathering.latest_us = Some(mark.time_us);
        for &place in &places {
            let cursor = &mut self.cursors[place];
            cursor.at_truncate = None;
            // each partition has the truncate's record, of the same time
            cursor.delivered.last = Some(Seen { offset: cursor.delivered.next, time_us: record.timestamp_us });
            cursor.delivered.next += 1;
        }
        // one truncate of the source stands in every partition but happened once
        if let Some(first) = places.iter().find(|&&place| self.cursors[place].at.partition.0 == 0) {
            self.cursors[*first].delivered.counts.add(ChangeKind::Truncate);
        }
        Ok(places)
    }
}
