//! What is gone in a source. A load says what there is, not what there is not: gone is what the topics held before it, and neither the
//! load nor a change has brought since. A change that the source's log brings late, of a transaction from before the load, says no more than
//! what was held before: its row may have gone since without a word, with a part of its table.

use std::collections::{BTreeMap, HashMap, HashSet};
use std::sync::Arc;

use gonvel_core::change::{ChangeBatch, ChangeBatchBuilder, ChangeKind, OldImage, Origin};
use gonvel_core::column::Value;
use gonvel_core::connector::CapturedTable;
use gonvel_core::digest::sha256;
use gonvel_core::naming::{TopicName, TopicPartition};
use gonvel_core::ports::systems::TopicChanges;
use gonvel_core::ports::{PortError, SchemaStore, Topic, TopicLog};
use gonvel_core::shape::Shapes;

use crate::before::{Before, End};
use crate::carrying_again::Latest;
use crate::failing::Failure;
use crate::reading::Reader;

/// Records whose keys are held at a time; of more, a share of the keys is compared at a time, each with a reading of its own. Held are 16
/// bytes of each key that came, and the whole key of each row that did not.
pub(crate) const HELD: u64 = 2_000_000;

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

/// A partition, with the first offset of what may be gone, where it ended before the load, and where it ends now.
#[derive(Debug, Clone, Copy)]
struct Span {
    at: TopicPartition,
    first: i64,
    end: i64,
    next: i64,
}

/// What came since the load was begun.
#[derive(Default)]
struct Came {
    keys: HashSet<u128>,
    emptied: bool,
}

/// Goes through a table's topics, a share of the keys at a time.
pub(crate) struct Comparing<'c> {
    log: Arc<dyn TopicLog>,
    schemas: Arc<dyn SchemaStore>,
    table: &'c CapturedTable,
    before: Before,
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
        (ends, before): (&[End], &Before),
        held: u64,
    ) -> Result<Self, Failure> {
        let ends: HashMap<(i64, i32), i64> = ends.iter().map(|end| ((end.topic, end.partition), end.next)).collect();
        let (mut topics, mut records) = (Vec::new(), 0_u64);
        for topic in topics_of(&*log, table, shape).await? {
            let mut partitions = Vec::new();
            for bounds in log.bounds(topic.id).await? {
                let at = TopicPartition { topic: topic.id, partition: bounds.partition };
                // one that came since held nothing, and keys may have gone to it
                let end = ends.get(&(topic.id.0, bounds.partition.0)).copied().unwrap_or(0).max(bounds.first.0);
                let first = if before.emptied { end } else { bounds.first.0 };
                records += u64::try_from(bounds.records).unwrap_or(0);
                partitions.push(Span { at, first, end, next: bounds.next.0 });
            }
            topics.push((topic, partitions));
        }
        let shares = match before {
            Before { emptied: true, late, .. } => late.div_ceil(held),
            _ => records.div_ceil(held).max(1),
        };
        Ok(Self { log, schemas, table, before: before.clone(), topics, shares, next: 0 })
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
            let came = self.came(topic, partitions, share).await?;
            if came.emptied && self.before.late == 0 {
                continue;
            }
            let mut gone = Vec::new();
            for span in partitions {
                let latest = self.missing(topic, span, share, &came, origin).await?;
                gone.extend(latest.rows().map(|rows| deletes(rows, origin)));
            }
            if !gone.is_empty() {
                found.push(Gone { topic: topic.clone(), deletes: gone });
            }
        }
        Ok(Some(found))
    }

    fn reader(&self, topic: &Topic, at: TopicPartition, span: (i64, i64)) -> Reader {
        let reader = Reader::of_one(self.log.clone(), self.schemas.clone(), (at, 0), span);
        // what is no row of a table is none that could be gone
        reader.aside(vec![topic.name.as_str().to_owned()])
    }

    fn is_of(&self, share: u64, key: u128) -> bool {
        key % u128::from(self.shares) == u128::from(share)
    }

    /// The keys that came since the load was begun.
    async fn came(&self, topic: &Topic, partitions: &[Span], share: u64) -> Result<Came, Failure> {
        let mut came = Came::default();
        for span in partitions {
            let mut reader = self.reader(topic, span.at, (span.end, span.next));
            while let Some(round) = reader.next().await? {
                for changes in &round.round.topics {
                    self.note_came(changes, share, &mut came);
                }
            }
        }
        Ok(came)
    }

    fn note_came(&self, changes: &TopicChanges, share: u64, came: &mut Came) {
        if changes.is_truncate() {
            came.emptied = true;
            return;
        }
        let batch = &changes.batches[0];
        for (row, (_, key)) in changes.changes.iter().enumerate() {
            if !self.before.has(batch.kinds[row], batch.origins[row].transaction) {
                came.keys.extend(Some(hash(key)).filter(|key| self.is_of(share, *key)));
            }
        }
    }

    /// The rows that were there before that, by what came late too, and did not come.
    async fn missing(&self, topic: &Topic, span: &Span, share: u64, came: &Came, origin: Origin) -> Result<Latest, Failure> {
        let mut reader = self.reader(topic, span.at, (span.first, if self.before.late > 0 { span.next } else { span.end }));
        let mut latest = Latest::keys_only();
        while let Some(round) = reader.next().await? {
            for changes in &round.round.topics {
                let batch = &changes.batches[0];
                let is_missing = |row: &usize| {
                    let kind = batch.kinds[*row];
                    let is_before =
                        changes.from[*row].1 < span.end || self.before.has(kind, batch.origins[*row].transaction);
                    if !is_before || kind == ChangeKind::Delete {
                        return false;
                    }
                    let key = hash(&changes.changes[*row].1);
                    self.is_of(share, key) && !came.keys.contains(&key)
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
    use gonvel_core::loading::Snapshot;
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
    /// What had ended when the load was asked for: 50 had, 60 was under way, 150 came later.
    fn seen() -> Snapshot {
        let era = 7 << 32;
        Snapshot { xmin: era + 60, xmax: era + 100, under_way: vec![era + 60] }
    }

    /// What is in a topic as a source writes it, and what a plain model says of it.
    struct Written {
        database: Arc<Database>,
        topic: Topic,
        form: RecordForm,
        value_schema: SchemaId,
        blocks: Vec<BlockBuilder>,
        /// What each partition comes to; and of each row whether it is from before the load.
        live: HashMap<(i32, i64), bool>,
        /// Keys since the ends were noted, but for what came late.
        came: HashSet<i64>,
        late: u64,
        ended: bool,
        position: u64,
    }

    impl Written {
        fn write(&mut self, table: &Arc<TableSchema>, kind: ChangeKind, id: i64, transaction: u64) {
            let mut builder = ChangeBatchBuilder::new(table.clone());
            // each truncate is known by its place
            self.position += 10;
            let position = self.position;
            builder
                .begin(kind, Origin { position, commit_time_us: position.cast_signed(), transaction, ..Origin::default() });
            match kind {
                ChangeKind::Truncate => {
                    builder.no_new();
                    builder.no_old();
                }
                ChangeKind::Delete => {
                    builder.no_new();
                    builder.begin_old(OldImage::Key);
                    builder.old_value(0, Value::Long(id)).unwrap();
                    builder.old_value(1, Value::Null).unwrap();
                }
                _ => {
                    builder.new_value(0, Value::Long(id)).unwrap();
                    builder.new_value(1, Value::Text("russet")).unwrap();
                }
            }
            let batch = builder.finish();
            let (mut key, mut value) = (Vec::new(), Vec::new());
            self.form.write_value(&batch, 0, &mut value);
            if kind != ChangeKind::Truncate {
                self.form.write_key(batch.identifying(0), 0, &mut key);
            }
            let key = (!key.is_empty()).then_some(&key[..]);
            let partition = partition_of(key, i32::try_from(self.blocks.len()).unwrap()).0;
            let of_key = usize::try_from(partition).unwrap();
            let of = if key.is_some() { of_key..of_key + 1 } else { 0..self.blocks.len() };
            self.blocks[of].iter_mut().for_each(|b| b.push(key, Some(&value), &[], 1, Some(self.value_schema), None));
            let is_late = kind != ChangeKind::Load && transaction == 50;
            self.late += u64::from(is_late);
            match kind {
                ChangeKind::Truncate => self.live.clear(),
                ChangeKind::Delete => drop(self.live.remove(&(partition, id))),
                _ => drop(self.live.insert((partition, id), !self.ended || is_late)),
            }
            if kind != ChangeKind::Truncate && self.ended && !is_late {
                self.came.insert(id);
            }
        }

        async fn append(&mut self) {
            let part = |(number, block): (i32, &mut BlockBuilder)| {
                let to = TopicPartition { topic: self.topic.id, partition: PartitionId(number) };
                PartitionBlocks { to, blocks: block.finish().into_iter().collect() }
            };
            let parts = (0..).zip(&mut self.blocks).map(part).collect();
            self.database.append(AppendBatch { parts, ..AppendBatch::default() }).await.unwrap();
        }

        /// What a comparison is to find.
        fn gone(&self) -> HashSet<i64> {
            let of_before = self.live.iter().filter(|((_, id), before)| **before && !self.came.contains(id));
            of_before.map(|((_, id), _)| *id).collect()
        }
    }

    /// Whatever the history, and in however many shares, what is gone is what a plain model says: also of what came late, where keys go
    /// to other partitions meanwhile, and where the topic was emptied before the load.
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
        let (mut most, mut none, mut most_late) = (0, 0, 0);
        for case in 0..30 {
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
                live: HashMap::new(),
                came: HashSet::new(),
                late: 0,
                ended: false,
                position: 0,
            };
            let change = |roll: &mut dyn FnMut(i64) -> i64, truncates: i64| match roll(truncates) {
                0 => (ChangeKind::Truncate, 0),
                n if n % 3 == 0 => (ChangeKind::Delete, roll(25)),
                n if n % 3 == 1 => (ChangeKind::Load, roll(25)),
                _ => (ChangeKind::Update, roll(25)),
            };
            for _ in 0..40 {
                let (kind, id) = change(&mut roll, 40);
                written.write(&table, kind, id, 40);
            }
            written.append().await;
            let (ends, records) = ends(&*database, &captured, &Shapes::default()).await.unwrap();
            assert!(records >= 40);
            written.ended = true;
            let (knows, empties, adds) = (case % 5 > 0, case % 3 == 0, case % 4 == 1);
            let mut before = Before::new(knows.then(seen), knows && empties);
            if before.emptied {
                written.write(&table, ChangeKind::Truncate, 0, 0);
            }
            for step in 0..20 {
                let (kind, id) = change(&mut roll, 60);
                // the log brings what is from before first, as a rule; a load tells no transaction
                let transaction = if step < 10 && knows { 50 } else { [0, 60, 150][usize::try_from(roll(3)).unwrap()] };
                written.write(&table, kind, id, if kind == ChangeKind::Load { 0 } else { transaction });
                if step == 8 && adds {
                    written.append().await;
                    database.add_partitions(written.topic.id, PARTITIONS + 2, &[]).await.unwrap();
                    written.blocks.extend([BlockBuilder::default(), BlockBuilder::default()]);
                }
            }
            written.append().await;
            before.late = written.late;
            let wanted = written.gone();
            for held in [HELD, 9] {
                let ports: (Arc<dyn TopicLog>, Arc<dyn SchemaStore>) = (database.clone(), database.clone());
                let what = (&ends[..], &before);
                let mut comparing = Comparing::new(ports, &captured, &Shapes::default(), what, held).await.unwrap();
                let mut found = HashSet::new();
                while let Some(gone) = comparing.next(Origin::default()).await.unwrap() {
                    for batch in gone.into_iter().flat_map(|gone| gone.deletes) {
                        assert!(batch.kinds.iter().all(|kind| *kind == ChangeKind::Delete));
                        for row in 0..batch.len() {
                            let Value::Long(id) = batch.old[0].value(row) else { panic!("no key") };
                            // where a key went to another partition each may hold a row of it
                            assert!(found.insert(id) || adds, "{id} is told twice");
                        }
                    }
                }
                assert_eq!(found, wanted, "case {case}, {held} at a time, {before:?}");
            }
            most = most.max(wanted.len());
            most_late = most_late.max(if before.emptied { wanted.len() } else { 0 });
            none += usize::from(wanted.is_empty());
        }
        assert!(most > 5 && most_late > 2 && none < 15, "the cases show too little: {most} {most_late} {none}");
    }
}
