//! What is gone in a source. A load says what there is, not what there is not: gone is what the topics held before it, and neither the
//! load nor a change has brought since.

use std::collections::{BTreeMap, HashMap, HashSet};

use gonvel_connectors::postgres::sink::Delivered;
use gonvel_core::change::{ChangeBatch, ChangeBatchBuilder, ChangeKind, OldImage, Origin};
use gonvel_core::column::Value;
use gonvel_core::connector::CapturedTable;
use gonvel_core::digest::sha256;
use gonvel_core::naming::{TopicName, TopicPartition};
use gonvel_core::ports::{PortError, Topic};
use gonvel_core::shape::Shapes;
use serde::{Deserialize, Serialize};

use crate::carrying_again::Latest;
use crate::fleet::Services;
use crate::lane::Failure;
use crate::reading::Reader;

/// Keys that are held at a time, of 16 bytes each; more of them are compared a share at a time, each with a reading of its own.
const HELD: u64 = 4_000_000;

/// Where a partition of a table's topics ended when the table was about to be loaded.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct End {
    topic: i64,
    partition: i32,
    next: i64,
}

/// The topics that a table's rows are written to, as far as they are there.
async fn topics_of(services: &Services, table: &CapturedTable, shape: &Shapes) -> Result<Vec<Topic>, Failure> {
    let mut topics = Vec::new();
    for name in std::iter::once(table.topic.as_str()).chain(shape.ways(&table.qualified())) {
        let name = TopicName::parse(name).map_err(|e| PortError::Refused(e.to_string()))?;
        match services.log.topic(&name).await {
            Ok(topic) => topics.push(topic),
            Err(PortError::NotFound { .. }) => {}
            Err(error) => return Err(error.into()),
        }
    }
    Ok(topics)
}

/// Where the topics of a table end, with the records that they hold.
pub(crate) async fn ends(services: &Services, table: &CapturedTable, shape: &Shapes) -> Result<(Vec<End>, i64), Failure> {
    let (mut ends, mut records) = (Vec::new(), 0);
    for topic in topics_of(services, table, shape).await? {
        for bounds in services.log.bounds(topic.id).await? {
            records += bounds.records;
            ends.push(End { topic: topic.id.0, partition: bounds.partition.0, next: bounds.next.0 });
        }
    }
    Ok((ends, records))
}

/// Rows of a topic that are gone in the source, as deletes.
pub(crate) struct Gone {
    pub(crate) topic: Topic,
    pub(crate) deletes: Vec<ChangeBatch>,
}

/// A partition, with its first offset, where it ended before the load, and where it ends now.
#[derive(Debug, Clone, Copy)]
struct Span {
    at: TopicPartition,
    first: i64,
    end: i64,
    next: i64,
}

/// Goes through a table's topics, a share of the keys at a time.
pub(crate) struct Comparing<'c> {
    services: &'c Services,
    table: &'c CapturedTable,
    topics: Vec<(Topic, Vec<Span>)>,
    shares: u64,
    next: u64,
}

impl<'c> Comparing<'c> {
    /// A comparison of what the topics held at these ends with what came since.
    pub(crate) async fn new(
        services: &'c Services,
        table: &'c CapturedTable,
        shape: &Shapes,
        ends: &[End],
    ) -> Result<Self, Failure> {
        let ends: HashMap<(i64, i32), i64> = ends.iter().map(|end| ((end.topic, end.partition), end.next)).collect();
        let (mut topics, mut records) = (Vec::new(), 0_u64);
        for topic in topics_of(services, table, shape).await? {
            let mut partitions = Vec::new();
            for bounds in services.log.bounds(topic.id).await? {
                // a topic that came since held nothing
                let Some(&end) = ends.get(&(topic.id.0, bounds.partition.0)) else { continue };
                let at = TopicPartition { topic: topic.id, partition: bounds.partition };
                records += u64::try_from(bounds.records).unwrap_or(0);
                let first = bounds.first.0;
                partitions.push(Span { at, first, end: end.max(first), next: bounds.next.0 });
            }
            topics.push((topic, partitions));
        }
        Ok(Self { services, table, topics, shares: records.div_ceil(HELD).max(1), next: 0 })
    }

    /// What of the next share of the keys is gone; none when all were compared.
    pub(crate) async fn next(&mut self, origin: Origin) -> Result<Option<Vec<Gone>>, Failure> {
        if self.next == self.shares {
            return Ok(None);
        }
        let share = self.next;
        self.next += 1;
        let mut found = Vec::new();
        for (topic, partitions) in &self.topics {
            let of = partitions.iter().map(|span| (span.at, span.end, span.next));
            let Some(came) = self.keys(topic, of, share).await? else { continue };
            let latest = self.missing(topic, partitions, share, &came, origin).await?;
            let deletes: Vec<ChangeBatch> = latest.rows().map(|rows| deletes(rows, origin)).collect();
            if !deletes.is_empty() {
                found.push(Gone { topic: topic.clone(), deletes });
            }
        }
        Ok(Some(found))
    }

    fn reader(&self, topic: &Topic, partitions: impl Iterator<Item = (TopicPartition, i64, i64)>) -> Reader {
        let (starts, limits): (Vec<_>, HashMap<_, _>) =
            partitions.map(|(at, from, to)| ((at, 0, Delivered { next: from, ..Delivered::default() }), (at, to))).unzip();
        let reader = Reader::new(self.services.log.clone(), self.services.schemas.clone(), starts);
        // what is no row of a table is none that could be gone
        reader.aside(vec![topic.name.as_str().to_owned()]).up_to(&limits)
    }

    fn is_of(&self, share: u64, key: u128) -> bool {
        key % u128::from(self.shares) == u128::from(share)
    }

    /// The keys that came since the load was begun; none if the topic was emptied since.
    async fn keys(
        &self,
        topic: &Topic,
        partitions: impl Iterator<Item = (TopicPartition, i64, i64)>,
        share: u64,
    ) -> Result<Option<HashSet<u128>>, Failure> {
        let mut reader = self.reader(topic, partitions);
        let mut came = HashSet::new();
        while let Some(round) = reader.next().await? {
            for changes in &round.round.topics {
                if changes.is_truncate() {
                    return Ok(None);
                }
                came.extend(changes.changes.iter().map(|(_, key)| hash(key)).filter(|key| self.is_of(share, *key)));
            }
        }
        Ok(Some(came))
    }

    /// The rows that were there before that and did not come.
    async fn missing(
        &self,
        topic: &Topic,
        partitions: &[Span],
        share: u64,
        came: &HashSet<u128>,
        origin: Origin,
    ) -> Result<Latest, Failure> {
        let mut reader = self.reader(topic, partitions.iter().map(|span| (span.at, span.first, span.end)));
        let mut latest = Latest::default();
        while let Some(round) = reader.next().await? {
            for changes in &round.round.topics {
                let batch = &changes.batches[0];
                let is_missing = |row: &usize| {
                    let key = hash(&changes.changes[*row].1);
                    batch.kinds[*row] != ChangeKind::Delete && self.is_of(share, key) && !came.contains(&key)
                };
                // rows of another table in the same topic are not this one's to tell of
                let ours = batch.table.qualified() == self.table.qualified();
                let rows = 0..if ours { changes.changes.len() } else { 0 };
                let missing: BTreeMap<usize, Origin> = rows.filter(is_missing).map(|row| (row, origin)).collect();
                latest.take(changes, &missing);
            }
        }
        latest.let_go();
        Ok(latest)
    }
}

fn hash(key: &[u8]) -> u128 {
    let digest = sha256(&[key]);
    digest[..16].iter().fold(0, |all, byte| (all << 8) | u128::from(*byte))
}

/// Rows as deletes of them.
fn deletes(rows: &ChangeBatch, origin: Origin) -> ChangeBatch {
    let mut builder = ChangeBatchBuilder::new(rows.table.clone());
    for row in 0..rows.len() {
        builder.begin(ChangeKind::Delete, origin);
        builder.no_new();
        builder.begin_old(OldImage::Key);
        for (number, column) in rows.table.columns.iter().enumerate() {
            let value = if column.key { rows.new[number].value(row) } else { Value::Null };
            // of the column's own type
            let _ = builder.old_value(number, value);
        }
    }
    builder.finish()
}
