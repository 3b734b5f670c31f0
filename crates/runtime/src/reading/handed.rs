//! Changes that a lane of this process handed on, taken into a round as they are.

use std::sync::Arc;

use gonvel_core::trail::Seen;

use super::{Gathering, MOST_CHANGES, Open, PARTITION_BYTES, Reader};
use crate::handed_on::Changes;

impl Reader {
    /// Takes what was handed on from where a partition stands; false if nothing was. The runs are taken whole as far as they go:
    /// the partitions of a topic share its batches, and with all of one in a round its rows reach the target in the source's
    /// order, which is kind to the target's indexes.
    pub(super) fn handed_on(&mut self, place: usize, gathering: &mut Gathering) -> bool {
        let Some(following) = &self.following else { return false };
        let cursor = &mut self.cursors[place];
        let most_bytes = usize::try_from(PARTITION_BYTES).unwrap_or(usize::MAX);
        let runs = following.from(cursor.at, cursor.delivered.next, most_bytes);
        let before = gathering.changes;
        for run in &runs {
            let changes = &run.changes;
            let first = usize::try_from(cursor.delivered.next - run.first).unwrap_or(0);
            let left = usize::try_from(cursor.limit - cursor.delivered.next).unwrap_or(0);
            let most = left.min((2 * MOST_CHANGES).saturating_sub(gathering.changes));
            let with_it = gathering.changes - before + changes.rows.len() - first;
            if most == 0 || (gathering.changes > before && with_it > gathering.share) {
                break;
            }
            let open = gathering.open(cursor.topic, changes.schema, &changes.batch.table);
            let batch = open.number_of(changes);
            let (mut taken, mut latest_us, mut last_us) = (0, i64::MIN, None);
            for (number, &row) in changes.rows.iter().enumerate().skip(first).take(most) {
                open.changes.push(((batch, row), changes.key(number)));
                open.from.push((cursor.at, cursor.delivered.next));
                let time_us = changes.batch.origins[row].commit_time_us;
                latest_us = latest_us.max(time_us);
                last_us = Some(time_us);
                cursor.delivered.counts.add(changes.batch.kinds[row]);
                cursor.delivered.next += 1;
                taken += 1;
            }
            if let Some(time_us) = last_us {
                cursor.delivered.last = Some(Seen { offset: cursor.delivered.next - 1, time_us });
                gathering.changes += taken;
                gathering.latest_us = gathering.latest_us.max(Some(latest_us));
            }
        }
        !runs.is_empty()
    }
}

impl Open {
    /// The number of a batch that was handed on among those gathered. Partitions of one topic get parts of the same batch: with
    /// one number their changes stand in the source's order again.
    fn number_of(&mut self, changes: &Changes) -> usize {
        if let Some((_, number)) = self.handed.iter().find(|(batch, _)| Arc::ptr_eq(batch, &changes.batch)) {
            return *number;
        }
        self.end_batch();
        let number = self.batches.len();
        self.batches.push((*changes.batch).clone());
        self.handed.push((changes.batch.clone(), number));
        number
    }
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used, reason = "what fails here fails the test")]

    use std::collections::{BTreeMap, HashMap};

    use gonvel_core::change::{ChangeBatch, ChangeBatchBuilder, ChangeKind, KindCounts, OldImage, Origin};
    use gonvel_core::column::{ColumnType, Value};
    use gonvel_core::connector::Values;
    use gonvel_core::naming::{PartitionId, RunnerName, TopicName, TopicPartition};
    use gonvel_core::planning::Labels;
    use gonvel_core::ports::systems::{Delivered, TableChanges};
    use gonvel_core::ports::{AppendBatch, PartitionBounds, TopicLog};
    use gonvel_core::table::{Column, TableSchema};
    use gonvel_core::topic_settings::TopicSettings;
    use gonvel_stand_ins::test_cluster::TestCluster;
    use gonvel_storage::Database;
    use gonvel_storage::sealing::Sealer;
    use rand::rngs::StdRng;
    use rand::{Rng, SeedableRng};

    use super::*;
    use crate::services::{LANE_BYTES, RunnerSettings, Services};
    use crate::writing::Writer;

    fn table(columns: usize) -> Arc<TableSchema> {
        let column = |number: usize| Column {
            name: if number == 0 { "id".into() } else { format!("weight_{number}") },
            ty: ColumnType::Int64,
            source_type: "bigint".into(),
            key: number == 0,
        };
        let name = |name: &str| name.to_owned();
        let columns = (0..columns).map(column).collect();
        Arc::new(TableSchema { system: name("packhouse"), schema: name("public"), table: name("bins"), columns })
    }

    fn changes(random: &mut StdRng, table: &Arc<TableSchema>, position: u64) -> ChangeBatch {
        let mut builder = ChangeBatchBuilder::new(table.clone());
        let count = if random.random_range(0..4) == 0 { 400 } else { random.random_range(1..12) };
        for sequence in 0..count {
            let kind = match random.random_range(0..200) {
                0..80 => ChangeKind::Insert,
                80..150 => ChangeKind::Update,
                150..190 => ChangeKind::Delete,
                195..200 if count < 400 => ChangeKind::Truncate,
                _ => ChangeKind::Load,
            };
            builder.begin(
                kind,
                Origin { position, transaction: position, sequence, commit_time_us: random.random_range(1..99) },
            );
            let id = Value::Long(random.random_range(0..40));
            match kind {
                ChangeKind::Truncate | ChangeKind::Delete => builder.no_new(),
                _ => {
                    builder.new_value(0, id).unwrap();
                    for column in 1..table.columns.len() {
                        if kind == ChangeKind::Update && random.random_range(0..3) == 0 {
                            builder.new_unchanged(column);
                        } else {
                            builder.new_value(column, Value::Long(random.random())).unwrap();
                        }
                    }
                }
            }
            if kind == ChangeKind::Delete {
                builder.begin_old(OldImage::Key);
                builder.old_value(0, id).unwrap();
                (1..table.columns.len()).for_each(|column| builder.old_value(column, Value::Null).unwrap());
            } else {
                builder.no_old();
            }
        }
        builder.finish()
    }

    /// What a reader gives of each partition, change by change, and what it counts.
    #[derive(Default, Debug, PartialEq)]
    struct Given {
        changes: BTreeMap<TopicPartition, Vec<String>>,
        delivered: BTreeMap<TopicPartition, (i64, KindCounts)>,
    }

    /// Reads until there is nothing more; gives how often a batch came of which not every change is meant, as only those do that were
    /// handed on.
    async fn read(reader: &mut Reader, given: &mut Given) -> usize {
        let mut in_part = 0;
        while let Some(read) = reader.next().await.unwrap() {
            for topic in &read.round.topics {
                in_part += usize::from(topic.batches.iter().map(ChangeBatch::len).sum::<usize>() > topic.changes.len());
                for (((number, row), key), (at, offset)) in topic.changes.iter().zip(&topic.from) {
                    let (batch, row) = (&topic.batches[*number], *row);
                    let all = |columns: &[gonvel_core::column::ColumnArray]| {
                        columns.iter().map(|c| format!("{:?}", c.value(row))).collect::<Vec<_>>()
                    };
                    let old = if batch.old_images[row] == OldImage::None { Vec::new() } else { all(&batch.old) };
                    let told = format!(
                        "{offset} {key:?} {:?} {:?} {:?} {old:?} {:?} {:?}",
                        batch.kinds[row],
                        batch.origins[row],
                        all(&batch.new),
                        batch.old_images[row],
                        batch.unchanged.get(&row)
                    );
                    given.changes.entry(*at).or_default().push(told);
                }
            }
            given.delivered.extend(read.round.delivered.iter().map(|(at, d)| (*at, (d.next, d.counts))));
        }
        in_part
    }

    #[tokio::test(flavor = "multi_thread", worker_threads = 2)]
    async fn what_is_handed_on_is_what_reading_the_log_gives() {
        let cluster = TestCluster::start(&["gonvel"]).await;
        let database = Database::open(&cluster.url("gonvel"), Sealer::new(&[7; 32])).await.unwrap();
        let runner = RunnerSettings {
            name: RunnerName::parse("test").unwrap(),
            labels: Labels::new(),
            room: 1,
            lane_bytes: LANE_BYTES,
        };
        let services = Services::of(&Arc::new(database.clone()), runner);
        for seed in 0..4 {
            let random = &mut StdRng::seed_from_u64(seed);
            let name = TopicName::parse(format!("bins.{seed}")).unwrap();
            let topic = database.create_topic(&name, 3, &TopicSettings::default()).await.unwrap();
            let mut writer = Writer::new(&services, "test", vec![topic.clone()], Values::default(), None).await.unwrap();
            let starts = |next| {
                let at = move |p| TopicPartition { topic: topic.id, partition: PartitionId(p) };
                (0..3).map(move |p| (at(p), 0, Delivered { next, ..Delivered::default() }))
            };
            let reader = || Reader::new(services.log.clone(), services.schemas.clone(), starts(0));
            let (mut follows, mut reads) = (reader().following(&services.handed), reader());
            let (mut followed, mut plain) = (Given::default(), Given::default());
            let mut taken = 0;
            for position in 1..120 {
                let batch = changes(random, &table(2 + usize::from(position > 60)), position);
                let (some, count) = (random.random_range(0..3) == 0, batch.len());
                let rows = some.then(|| (0..count).filter(|_| random.random_range(0..5) > 0).collect());
                let changes = TableChanges { table: 0, batch, rows };
                let written = writer.write(0, &changes, &[], &mut KindCounts::default()).await.unwrap();
                let (parts, handed): (_, Vec<_>) = written.into_iter().map(|w| (w.blocks, w.changes)).unzip();
                let landed = database.append(AppendBatch { parts, ..AppendBatch::default() }).await.unwrap();
                // at times there is no room
                if random.random_range(0..5) > 0 {
                    services.handed.note(0, &landed, handed);
                }
                if random.random_range(0..4) == 0 {
                    // not to the end, so that it goes on in the middle of what comes
                    let ends = database.bounds(topic.id).await.unwrap();
                    let limit = |b: &PartitionBounds| {
                        (TopicPartition { topic: topic.id, partition: b.partition }, b.next.0 - random.random_range(0..30))
                    };
                    follows = follows.up_to(&ends.iter().map(limit).collect());
                    taken += read(&mut follows, &mut followed).await;
                }
            }
            follows = follows.up_to(&HashMap::new());
            taken += read(&mut follows, &mut followed).await;
            assert_eq!(read(&mut reads, &mut plain).await, 0);
            assert_eq!(followed.delivered, plain.delivered, "seed {seed}");
            for (at, changes) in &plain.changes {
                assert_eq!(&followed.changes[at], changes, "seed {seed}");
            }
            assert!(taken > 10, "seed {seed}: handed on {taken} times");
        }
    }
}
