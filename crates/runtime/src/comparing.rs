//! What is gone in a source. A load says what there is, not what there is not: gone is what the topics held before it, and neither the
//! load nor a change has brought since.

use std::collections::{BTreeMap, HashMap, HashSet};
use std::sync::Arc;

use gonvel_connectors::postgres::sink_positions::Delivered;
use gonvel_core::change::{ChangeBatch, ChangeBatchBuilder, ChangeKind, OldImage, Origin};
use gonvel_core::column::Value;
use gonvel_core::connector::CapturedTable;
use gonvel_core::digest::sha256;
use gonvel_core::naming::{TopicName, TopicPartition};
use gonvel_core::ports::{PortError, SchemaStore, Topic, TopicLog};
use gonvel_core::shape::Shapes;
use serde::{Deserialize, Serialize};

use crate::carrying_again::Latest;
use crate::lane::Failure;
use crate::reading::Reader;

/// Records whose keys are held at a time; of more, a share of the keys is compared at a time, each with a reading of its own. Held are 16
/// bytes of each key that came, and the whole key of each row that did not.
pub(crate) const HELD: u64 = 2_000_000;

/// Where a partition of a table's topics ended when the table was about to be loaded.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct End {
    topic: i64,
    partition: i32,
    next: i64,
}

/// The topics that a table's rows are written to, as far as they are there.
async fn topics_of(log: &dyn TopicLog, table: &CapturedTable, shape: &Shapes) -> Result<Vec<Topic>, Failure> {
    let mut topics = Vec::new();
    for name in std::iter::once(table.topic.as_str()).chain(shape.ways(&table.qualified())) {
        let name = TopicName::parse(name).map_err(|e| PortError::Refused(e.to_string()))?;
        match log.topic(&name).await {
            Ok(topic) => topics.push(topic),
            Err(PortError::NotFound { .. }) => {}
            Err(error) => return Err(error.into()),
        }
    }
    Ok(topics)
}

/// Where the topics of a table end, with the records that they hold.
pub(crate) async fn ends(log: &dyn TopicLog, table: &CapturedTable, shape: &Shapes) -> Result<(Vec<End>, i64), Failure> {
    let (mut ends, mut records) = (Vec::new(), 0);
    for topic in topics_of(log, table, shape).await? {
        for bounds in log.bounds(topic.id).await? {
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
    log: Arc<dyn TopicLog>,
    schemas: Arc<dyn SchemaStore>,
    table: &'c CapturedTable,
    topics: Vec<(Topic, Vec<Span>)>,
    shares: u64,
    next: u64,
}

impl<'c> Comparing<'c> {
    /// A comparison of what the topics held at these ends with what came since, usually with [`HELD`] keys at a time.
    pub(crate) async fn new(
        (log, schemas): (Arc<dyn TopicLog>, Arc<dyn SchemaStore>),
        table: &'c CapturedTable,
        shape: &Shapes,
        ends: &[End],
        held: u64,
    ) -> Result<Self, Failure> {
        let ends: HashMap<(i64, i32), i64> = ends.iter().map(|end| ((end.topic, end.partition), end.next)).collect();
        let (mut topics, mut records) = (Vec::new(), 0_u64);
        for topic in topics_of(&*log, table, shape).await? {
            let mut partitions = Vec::new();
            for bounds in log.bounds(topic.id).await? {
                // a topic that came since held nothing
                let Some(&end) = ends.get(&(topic.id.0, bounds.partition.0)) else { continue };
                let at = TopicPartition { topic: topic.id, partition: bounds.partition };
                records += u64::try_from(bounds.records).unwrap_or(0);
                let first = bounds.first.0;
                partitions.push(Span { at, first, end: end.max(first), next: bounds.next.0 });
            }
            topics.push((topic, partitions));
        }
        Ok(Self { log, schemas, table, topics, shares: records.div_ceil(held).max(1), next: 0 })
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
        let reader = Reader::new(self.log.clone(), self.schemas.clone(), starts);
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
        let mut latest = Latest::keys_only();
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

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used, reason = "what fails here fails the test")]

    use gonvel_core::block::BlockBuilder;
    use gonvel_core::column::ColumnType;
    use gonvel_core::connector::Values;
    use gonvel_core::naming::{PartitionId, SchemaId};
    use gonvel_core::partitioning::partition_of;
    use gonvel_core::ports::{AppendBatch, PartitionBlocks};
    use gonvel_core::record_form::RecordForm;
    use gonvel_core::table::{Column, TableSchema};
    use gonvel_core::topic_settings::TopicSettings;
    use gonvel_stand_ins::test_cluster::TestCluster;
    use gonvel_storage::Database;
    use gonvel_storage::sealing::Sealer;

    use super::*;

    const PARTITIONS: i32 = 3;

    /// What is in a topic as a source writes it, and what a plain model says of it.
    struct Written {
        database: Arc<Database>,
        topic: Topic,
        form: RecordForm,
        value_schema: SchemaId,
        blocks: Vec<BlockBuilder>,
        live: HashSet<i64>,
        /// Keys since the ends were noted, and whether the topic was emptied since.
        came: HashSet<i64>,
        emptied: bool,
    }

    impl Written {
        fn write(&mut self, table: &Arc<TableSchema>, kind: ChangeKind, id: i64) {
            let mut builder = ChangeBatchBuilder::new(table.clone());
            builder.begin(kind, Origin { position: 9, commit_time_us: 1, ..Origin::default() });
            match kind {
                ChangeKind::Truncate => {
                    builder.no_new();
                    builder.no_old();
                    self.live.clear();
                    self.emptied = true;
                }
                ChangeKind::Delete => {
                    builder.no_new();
                    builder.begin_old(OldImage::Key);
                    builder.old_value(0, Value::Long(id)).unwrap();
                    builder.old_value(1, Value::Null).unwrap();
                    self.live.remove(&id);
                    self.came.insert(id);
                }
                _ => {
                    builder.new_value(0, Value::Long(id)).unwrap();
                    builder.new_value(1, Value::Text("russet")).unwrap();
                    self.live.insert(id);
                    self.came.insert(id);
                }
            }
            let batch = builder.finish();
            let (mut key, mut value) = (Vec::new(), Vec::new());
            self.form.write_value(&batch, 0, &mut value);
            if kind != ChangeKind::Truncate {
                self.form.write_key(batch.identifying(0), 0, &mut key);
            }
            let key = (!key.is_empty()).then_some(&key[..]);
            let of_key = usize::try_from(partition_of(key, PARTITIONS).0).unwrap();
            let of = if key.is_some() { of_key..of_key + 1 } else { 0..self.blocks.len() };
            self.blocks[of].iter_mut().for_each(|b| b.push(key, Some(&value), &[], 1, Some(self.value_schema), None));
        }

        async fn append(&mut self) {
            let part = |(number, block): (i32, &mut BlockBuilder)| {
                let to = TopicPartition { topic: self.topic.id, partition: PartitionId(number) };
                PartitionBlocks { to, blocks: block.finish().into_iter().collect() }
            };
            let parts = (0..).zip(&mut self.blocks).map(part).collect();
            self.database.append(AppendBatch { parts, ..AppendBatch::default() }).await.unwrap();
        }
    }

    /// Whatever the history, and in however many shares, what is gone is what a plain model says.
    #[tokio::test]
    async fn what_is_gone_is_the_same_in_however_many_shares() {
        let cluster = TestCluster::start(&["gonvel"]).await;
        let database = Arc::new(Database::open(&cluster.url("gonvel"), Sealer::new(&[7; 32])).await.unwrap());
        let mut seed = 0x9e37_79b9_7f4a_7c15_u64;
        let mut roll = |sides: i64| {
            seed ^= seed << 13;
            seed ^= seed >> 7;
            seed ^= seed << 17;
            i64::try_from(seed % u64::try_from(sides).unwrap()).unwrap()
        };
        let (mut most, mut none) = (0, 0);
        for case in 0..12 {
            let name = TopicName::parse(format!("bins.{case}")).unwrap();
            let topic = database.create_topic(&name, PARTITIONS, &TopicSettings::default()).await.unwrap();
            let column = |name: &str, ty, source_type: &str, key| Column {
                name: name.into(),
                ty,
                source_type: source_type.into(),
                key,
            };
            let columns =
                vec![column("id", ColumnType::Int64, "bigint", true), column("grade", ColumnType::Text, "text", false)];
            let table = TableSchema { system: "packhouse".into(), schema: "public".into(), table: "bins".into(), columns };
            let captured = CapturedTable::whole("public", "bins", name.as_str());
            let table = Arc::new(table);
            let form = RecordForm::of(table.clone(), Values::default());
            let value_schema = database.register(&topic.name, "value", form.value_text(), "").await.unwrap();
            let mut written = Written {
                database: database.clone(),
                topic,
                form,
                value_schema,
                blocks: (0..PARTITIONS).map(|_| BlockBuilder::default()).collect(),
                live: HashSet::new(),
                came: HashSet::new(),
                emptied: false,
            };
            let change = |roll: &mut dyn FnMut(i64) -> i64, truncates: i64| match roll(truncates) {
                0 => (ChangeKind::Truncate, 0),
                n if n % 3 == 0 => (ChangeKind::Delete, roll(25)),
                _ => (ChangeKind::Update, roll(25)),
            };
            for _ in 0..40 {
                let (kind, id) = change(&mut roll, 40);
                written.write(&table, kind, id);
            }
            written.append().await;
            let (ends, records) = ends(&*database, &captured, &Shapes::default()).await.unwrap();
            assert!(records >= 40);
            let before = written.live.clone();
            (written.came, written.emptied) = (HashSet::new(), false);
            for _ in 0..15 {
                let (kind, id) = change(&mut roll, 60);
                written.write(&table, kind, id);
            }
            written.append().await;
            let wanted: HashSet<i64> =
                if written.emptied { HashSet::new() } else { before.difference(&written.came).copied().collect() };
            for held in [HELD, 9] {
                let ports: (Arc<dyn TopicLog>, Arc<dyn SchemaStore>) = (database.clone(), database.clone());
                let mut comparing = Comparing::new(ports, &captured, &Shapes::default(), &ends, held).await.unwrap();
                let mut found = HashSet::new();
                while let Some(gone) = comparing.next(Origin::default()).await.unwrap() {
                    for batch in gone.into_iter().flat_map(|gone| gone.deletes) {
                        assert!(batch.kinds.iter().all(|kind| *kind == ChangeKind::Delete));
                        for row in 0..batch.len() {
                            let Value::Long(id) = batch.old[0].value(row) else { panic!("no key") };
                            assert!(found.insert(id), "{id} is told twice");
                        }
                    }
                }
                assert_eq!(found, wanted, "case {case}, {held} at a time");
            }
            most = most.max(wanted.len());
            none += usize::from(wanted.is_empty());
        }
        assert!(most > 5 && none < 8, "the cases show too little: {most} {none}");
    }
}
