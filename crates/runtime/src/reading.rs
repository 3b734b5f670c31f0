//! From blocks to rounds of changes: what a sink applies in one transaction.

use std::collections::{HashMap, VecDeque};
use std::sync::Arc;

use bytes::Bytes;
use gonvel_connectors::error::ConnectorError;
use gonvel_connectors::postgres::sink::{Delivered, Round, TopicChanges};
use gonvel_core::avro::single_object;
use gonvel_core::block::RecordRef;
use gonvel_core::change::{ChangeBatchBuilder, ChangeKind};
use gonvel_core::change_form::ChangeForm;
use gonvel_core::naming::{Offset, SchemaId, TopicPartition};
use gonvel_core::ports::{PortError, SchemaStore, TopicLog};

use crate::lane::Failure;

/// Bytes (before compression) read of a partition for one round.
const PARTITION_BYTES: i64 = 1 << 20;
/// Changes in a round.
const MOST_CHANGES: usize = 20_000;

/// One partition being read.
struct Cursor {
    at: TopicPartition,
    topic: usize,
    delivered: Delivered,
    /// The next record empties the table: it waits until all the topic's partitions are there.
    at_truncate: bool,
}

/// Reads a sink's topics in rounds.
pub(crate) struct Reader {
    log: Arc<dyn TopicLog>,
    schemas: Arc<dyn SchemaStore>,
    cursors: Vec<Cursor>,
    forms: HashMap<SchemaId, Arc<ChangeForm>>,
    /// Which partition is read first in the next round, so that none is left behind.
    turn: usize,
}

/// A round with what is worth knowing of it.
pub(crate) struct ReadRound {
    pub(crate) round: Round,
    /// Latest commit time in it.
    pub(crate) latest_us: Option<i64>,
}

struct Gathering {
    topics: Vec<TopicChanges>,
    open: Option<(usize, SchemaId, ChangeBatchBuilder, Vec<Bytes>)>,
    changes: usize,
    latest_us: Option<i64>,
}

impl Gathering {
    fn close(&mut self) {
        if let Some((topic, _, mut builder, keys)) = self.open.take()
            && !builder.is_empty()
        {
            let changes = keys.into_iter().enumerate().map(|(row, key)| ((0, row), key)).collect();
            self.topics.push(TopicChanges { topic, batches: vec![builder.finish()], changes });
        }
    }
}

impl Reader {
    /// A reader of these partitions (with the place of their topic), from where each is delivered to.
    pub(crate) fn new(
        log: Arc<dyn TopicLog>,
        schemas: Arc<dyn SchemaStore>,
        partitions: impl IntoIterator<Item = (TopicPartition, usize, Delivered)>,
    ) -> Self {
        let cursor = |(at, topic, delivered)| Cursor { at, topic, delivered, at_truncate: false };
        Self { log, schemas, cursors: partitions.into_iter().map(cursor).collect(), forms: HashMap::new(), turn: 0 }
    }

    /// Where each partition is read to.
    pub(crate) fn ends(&self) -> Vec<(TopicPartition, Offset)> {
        self.cursors.iter().map(|c| (c.at, Offset(c.delivered.next))).collect()
    }

    /// The next round; none if there is nothing to read right now.
    ///
    /// Cancel safety: none; the reader is to be made anew after a cancelled call.
    pub(crate) async fn next(&mut self) -> Result<Option<ReadRound>, Failure> {
        let mut gathering = Gathering { topics: Vec::new(), open: None, changes: 0, latest_us: None };
        let mut moved = Vec::new();
        let count = self.cursors.len();
        for step in 0..count {
            if gathering.changes >= MOST_CHANGES {
                break;
            }
            let place = (self.turn + step) % count;
            let before = self.cursors[place].delivered.next;
            if !self.cursors[place].at_truncate {
                self.partition(place, &mut gathering).await?;
            }
            if self.cursors[place].delivered.next > before {
                moved.push(place);
            }
        }
        self.turn = (self.turn + 1) % count.max(1);
        gathering.close();
        if moved.is_empty() {
            moved = self.truncate(&mut gathering).await?;
        }
        if moved.is_empty() {
            return Ok(None);
        }
        let delivered = moved.iter().map(|&place| (self.cursors[place].at, self.cursors[place].delivered)).collect();
        Ok(Some(ReadRound { round: Round { topics: gathering.topics, delivered }, latest_us: gathering.latest_us }))
    }

    async fn partition(&mut self, place: usize, gathering: &mut Gathering) -> Result<(), Failure> {
        let (at, from) = (self.cursors[place].at, self.cursors[place].delivered.next);
        let blocks: VecDeque<_> = self.log.read(at, Offset(from), PARTITION_BYTES).await?.into();
        for block in blocks {
            let first = block.first.0;
            let next = self.cursors[place].delivered.next;
            if first > next {
                // what was between is no longer kept: nothing of it can be delivered any more
                tracing::warn!(?at, from = next, to = first, "records that were not delivered yet are no longer kept");
                self.cursors[place].delivered.next = first;
            }
            let open = block.open(at)?;
            for record in open.records() {
                let (Offset(offset), record) = record?;
                if offset < self.cursors[place].delivered.next {
                    continue;
                }
                self.cursors[place].delivered.next = offset;
                if !self.record(place, offset, &record, gathering).await? {
                    return Ok(());
                }
            }
            // the block may end with offsets whose records are no longer kept
            let delivered = &mut self.cursors[place].delivered;
            delivered.next = delivered.next.max(block.end().0);
            if gathering.changes >= MOST_CHANGES {
                return Ok(());
            }
        }
        Ok(())
    }

    /// Takes one record; false if it is a truncate, before which the partition waits.
    async fn record(
        &mut self,
        place: usize,
        offset: i64,
        record: &RecordRef<'_>,
        gathering: &mut Gathering,
    ) -> Result<bool, Failure> {
        let topic = self.cursors[place].topic;
        let (Some(schema), Some(value)) = (record.schema, record.value) else {
            return Err(not_a_change(self.cursors[place].at, offset, "it has no schema or no value"));
        };
        if record.key.is_none() {
            self.cursors[place].at_truncate = true;
            return Ok(false);
        }
        if gathering.open.as_ref().is_none_or(|(t, s, ..)| (*t, *s) != (topic, schema)) {
            gathering.close();
            let form = self.form(schema).await?;
            gathering.open = Some((topic, schema, ChangeBatchBuilder::new(form.table.clone()), Vec::new()));
        }
        let form = self.forms[&schema].clone();
        let Some((_, _, builder, keys)) = &mut gathering.open else { return Ok(true) };
        let data = single_object::split(value).map_or(value, |(_, data)| data);
        let kind =
            form.read_change(data, builder).map_err(|e| not_a_change(self.cursors[place].at, offset, &e.to_string()))?;
        let key = record.key.unwrap_or_default();
        keys.push(Bytes::copy_from_slice(single_object::split(key).map_or(key, |(_, data)| data)));
        gathering.changes += 1;
        gathering.latest_us = gathering.latest_us.max(Some(record.timestamp_us));
        let delivered = &mut self.cursors[place].delivered;
        delivered.next = offset + 1;
        delivered.counts.add(kind);
        Ok(true)
    }

    async fn form(&mut self, schema: SchemaId) -> Result<Arc<ChangeForm>, Failure> {
        if let Some(form) = self.forms.get(&schema) {
            return Ok(form.clone());
        }
        let text = self.schemas.schema_text(schema).await?;
        let form = ChangeForm::from_value_text(&text).map_err(|e| ConnectorError::BadRecord { finding: e.to_string() })?;
        let form = Arc::new(form);
        self.forms.insert(schema, form.clone());
        Ok(form)
    }

    /// When all partitions of a topic wait before a truncate, it is that truncate's turn.
    async fn truncate(&mut self, gathering: &mut Gathering) -> Result<Vec<usize>, Failure> {
        let Some(first) = self.cursors.iter().position(|c| c.at_truncate) else { return Ok(Vec::new()) };
        let topic = self.cursors[first].topic;
        let places: Vec<usize> = (0..self.cursors.len()).filter(|&p| self.cursors[p].topic == topic).collect();
        if !places.iter().all(|&p| self.cursors[p].at_truncate) {
            return Ok(Vec::new());
        }
        let (at, from) = (self.cursors[first].at, self.cursors[first].delivered.next);
        let block = self.log.read(at, Offset(from), 1).await?.into_iter().next();
        let damaged = |finding: String| PortError::Damaged { at, first_offset: from, finding };
        let block = block.ok_or_else(|| damaged("the record that was here is gone".into()))?;
        let open = block.open(at)?;
        let record = open.records().find(|r| r.as_ref().map_or(true, |(offset, _)| offset.0 >= from));
        let (Offset(from), record) = record.ok_or_else(|| damaged("the record is not in its block".into()))??;
        let (Some(schema), Some(value)) = (record.schema, record.value) else {
            return Err(not_a_change(at, from, "it has no schema or no value"));
        };
        let form = self.form(schema).await?;
        let mut builder = ChangeBatchBuilder::new(form.table.clone());
        let data = single_object::split(value).map_or(value, |(_, data)| data);
        let kind = form.read_change(data, &mut builder).map_err(|e| not_a_change(at, from, &e.to_string()))?;
        if kind != ChangeKind::Truncate {
            return Err(not_a_change(at, from, "a change without a key is not a truncate"));
        }
        gathering.topics.push(TopicChanges {
            topic,
            batches: vec![builder.finish()],
            changes: vec![((0, 0), Bytes::new())],
        });
        gathering.latest_us = Some(record.timestamp_us);
        for &place in &places {
            let cursor = &mut self.cursors[place];
            cursor.at_truncate = false;
            cursor.delivered.next += 1;
        }
        // one truncate of the source stands in every partition but happened once
        self.cursors[first].delivered.counts.add(ChangeKind::Truncate);
        Ok(places)
    }
}

fn not_a_change(at: TopicPartition, offset: i64, finding: &str) -> Failure {
    let place = format!("offset {offset} of partition {}", at.partition.0);
    ConnectorError::BadRecord { finding: format!("{place} is not a change ({finding})") }.into()
}
