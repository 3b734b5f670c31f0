//! Appends that need no look at what was appended before: one statement, of few and large rows.

use std::collections::BTreeMap;

use diesel::result::Error;
use diesel_async::{AsyncPgConnection, RunQueryDsl};
use gonvel_core::block::{EncodedBlock, join};
use gonvel_core::naming::{Offset, TopicPartition};
use gonvel_core::ports::{AppendBatch, Landed, LaneProgress};

use super::landing::{Answer, End};

/// Small blocks of one append that become one: together so many bytes at most before compression, of so much time. What is due
/// to be forgotten may not stand together with what is not for long.
const JOINED_BYTES: usize = 64 * 1024;
const JOINED_SPAN_US: i64 = 60_000_000;
/// Whether the database says that a part of the whole cannot go in: a lane's progress is not its holder's, or a partition is not
/// there. Nothing of it is written then.
pub(super) fn is_of_a_part(error: &Error) -> bool {
    let Error::DatabaseError(_, told) = error else { return false };
    matches!(told.message(), "a lane is held by another" | "a partition is not there")
}

/// The database's functions. Called through the query builder their statements stay prepared; as texts they would be prepared anew
/// each time.
mod functions {
    #![allow(clippy::too_many_arguments, reason = "what goes into one statement goes in column by column")]

    use diesel::sql_types::{Array, Binary, Int4, Int8, Jsonb, Uuid as SqlUuid};

    #[diesel::declare_sql_function]
    extern "SQL" {
        fn append_block(
            topic: Int8,
            partition: Int4,
            count: Int4,
            grown: Int8,
            small: Int4,
            earliest: Int8,
            latest: Int8,
            size: Int4,
            body: Binary,
        ) -> Int8;

        fn append_blocks(
            topics: Array<Int8>,
            partitions: Array<Int4>,
            counts: Array<Int8>,
            grown: Array<Int8>,
            smalls: Array<Int4>,
            latests: Array<Int8>,
            places: Array<Int4>,
            befores: Array<Int8>,
            records: Array<Int4>,
            earliest: Array<Int8>,
            latest: Array<Int8>,
            uptos: Array<Int8>,
            sizes: Array<Int4>,
            bodies: Array<Binary>,
        ) -> Array<Int8>;

        fn append_for_lanes(
            topics: Array<Int8>,
            partitions: Array<Int4>,
            counts: Array<Int8>,
            grown: Array<Int8>,
            smalls: Array<Int4>,
            latests: Array<Int8>,
            places: Array<Int4>,
            befores: Array<Int8>,
            records: Array<Int4>,
            earliest: Array<Int8>,
            latest: Array<Int8>,
            uptos: Array<Int8>,
            sizes: Array<Int4>,
            bodies: Array<Binary>,
            connectors: Array<SqlUuid>,
            numbers: Array<Int4>,
            epochs: Array<Int8>,
            positions: Array<Jsonb>,
        ) -> Array<Int8>;
    }
}

/// Batches that need no look at what was appended before go in by one statement, with the progress of lanes; all or none.
pub(super) async fn write(connection: &mut AsyncPgConnection, batches: &[AppendBatch]) -> Result<Vec<Answer>, Error> {
    let blocks = together(batches);
    let lanes: Vec<&LaneProgress> = batches.iter().filter_map(|b| b.progress.as_ref()).collect();
    let nexts = match one_block(&blocks).filter(|_| lanes.is_empty()) {
        Some((to, block)) => vec![write_one(connection, to, block).await?],
        None => write_all(connection, &blocks, &lanes).await?,
    };
    let mut next: BTreeMap<TopicPartition, i64> = blocks.keys().copied().zip(nexts).collect();
    let answers = batches.iter().map(|batch| {
        let landed = batch.parts.iter().map(|part| {
            let count: i64 = part.blocks.iter().map(|b| i64::from(b.records)).sum();
            let end = next.entry(part.to).or_default();
            *end += count;
            Landed { to: part.to, first: Offset(*end - count), records: count }
        });
        Ok(landed.collect())
    });
    Ok(answers.collect())
}

/// The block, where there is only one.
fn one_block(blocks: &BTreeMap<TopicPartition, Vec<EncodedBlock>>) -> Option<(TopicPartition, &EncodedBlock)> {
    let (to, of_it) = blocks.first_key_value().filter(|_| blocks.len() == 1)?;
    let [block] = of_it.as_slice() else { return None };
    Some((*to, block))
}

/// Writes one block; gives its first offset.
async fn write_one(connection: &mut AsyncPgConnection, to: TopicPartition, block: &EncodedBlock) -> Result<i64, Error> {
    let mut end = End { next: 0, reach_us: i64::MIN, bytes: 0, small: 0 };
    end.take(block);
    diesel::select(functions::append_block(
        to.topic.0,
        to.partition.0,
        i32::try_from(block.records).unwrap_or(i32::MAX),
        end.bytes,
        end.small,
        block.earliest_us,
        block.latest_us,
        i32::try_from(block.unpacked).unwrap_or(i32::MAX),
        &block.body[..],
    ))
    .get_result(connection)
    .await
}

/// Writes blocks with the progress of lanes; gives the first offset of each partition's.
async fn write_all(
    connection: &mut AsyncPgConnection,
    blocks: &BTreeMap<TopicPartition, Vec<EncodedBlock>>,
    lanes: &[&LaneProgress],
) -> Result<Vec<i64>, Error> {
    let columns = Columns::of(blocks);
    let Columns { topics, partitions, counts, grown, smalls, latests, .. } = columns;
    let Columns { places, befores, records, earliest, latest, uptos, sizes, bodies, .. } = columns;
    if lanes.is_empty() {
        diesel::select(functions::append_blocks(
            topics, partitions, counts, grown, smalls, latests, places, befores, records, earliest, latest, uptos, sizes,
            bodies,
        ))
        .get_result(connection)
        .await
    } else {
        let connectors: Vec<uuid::Uuid> = lanes.iter().map(|l| l.connector.0).collect();
        let numbers: Vec<i32> = lanes.iter().map(|l| l.lane).collect();
        let epochs: Vec<i64> = lanes.iter().map(|l| l.epoch.0).collect();
        let positions: Vec<&serde_json::Value> = lanes.iter().map(|l| &l.position).collect();
        diesel::select(functions::append_for_lanes(
            topics, partitions, counts, grown, smalls, latests, places, befores, records, earliest, latest, uptos, sizes,
            bodies, connectors, numbers, epochs, positions,
        ))
        .get_result(connection)
        .await
    }
}

/// The blocks of each partition, in order. Small ones that came together become one: fewer rows to write now, and to merge
/// later.
fn together(batches: &[AppendBatch]) -> BTreeMap<TopicPartition, Vec<EncodedBlock>> {
    let mut all: BTreeMap<TopicPartition, Vec<&EncodedBlock>> = BTreeMap::new();
    for part in batches.iter().flat_map(|b| &b.parts) {
        all.entry(part.to).or_default().extend(&part.blocks);
    }
    let put = |(to, blocks): (TopicPartition, Vec<&EncodedBlock>)| {
        let mut out = Vec::with_capacity(blocks.len());
        let mut rest = blocks.as_slice();
        while !rest.is_empty() {
            let (some, others) = rest.split_at(run(rest));
            match some {
                [one] => out.push((*one).clone()),
                // one that cannot be joined is stored as it is, and named by who reads it
                _ => match join(some.iter().copied()) {
                    Ok(joined) => out.extend(joined),
                    Err(_) => out.extend(some.iter().copied().cloned()),
                },
            }
            rest = others;
        }
        (to, out)
    };
    all.into_iter().map(put).collect()
}

/// How many blocks from the first on are put into one, at least one: together they are small, and of nearly one time.
fn run(blocks: &[&EncodedBlock]) -> usize {
    let (mut unpacked, mut earliest, mut latest) = (0, i64::MAX, i64::MIN);
    let fits = |block: &&&EncodedBlock| {
        unpacked += block.unpacked;
        (earliest, latest) = (earliest.min(block.earliest_us), latest.max(block.latest_us));
        unpacked <= JOINED_BYTES && latest.saturating_sub(earliest) <= JOINED_SPAN_US
    };
    blocks.iter().take_while(fits).count().max(1)
}

/// An append column by column, as the database's function takes it.
#[derive(Default)]
struct Columns<'b> {
    topics: Vec<i64>,
    partitions: Vec<i32>,
    counts: Vec<i64>,
    grown: Vec<i64>,
    smalls: Vec<i32>,
    latests: Vec<i64>,
    places: Vec<i32>,
    befores: Vec<i64>,
    records: Vec<i32>,
    earliest: Vec<i64>,
    latest: Vec<i64>,
    uptos: Vec<i64>,
    sizes: Vec<i32>,
    bodies: Vec<&'b [u8]>,
}

impl<'b> Columns<'b> {
    fn of(all: &'b BTreeMap<TopicPartition, Vec<EncodedBlock>>) -> Self {
        let mut columns = Self::default();
        for ((to, blocks), place) in all.iter().zip(1..) {
            let mut end = End { next: 0, reach_us: i64::MIN, bytes: 0, small: 0 };
            for block in blocks {
                columns.befores.push(end.next);
                end.take(block);
                columns.places.push(place);
                columns.records.push(i32::try_from(block.records).unwrap_or(i32::MAX));
                columns.earliest.push(block.earliest_us);
                columns.latest.push(block.latest_us);
                columns.uptos.push(end.reach_us);
                columns.sizes.push(i32::try_from(block.unpacked).unwrap_or(i32::MAX));
                columns.bodies.push(&block.body);
            }
            columns.topics.push(to.topic.0);
            columns.partitions.push(to.partition.0);
            columns.counts.push(end.next);
            columns.grown.push(end.bytes);
            columns.smalls.push(end.small);
            columns.latests.push(end.reach_us);
        }
        columns
    }
}

#[cfg(test)]
mod tests {
    use bytes::Bytes;
    use gonvel_core::block::{UnpackedBlock, pack};
    use gonvel_core::naming::{PartitionId, TopicId};
    use gonvel_core::ports::PartitionBlocks;
    use gonvel_core::record::Record;
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn what_comes_together_keeps_its_order_and_is_counted_as_it_is_stored(
            appends in prop::collection::vec((0..3, prop::collection::vec((0_i64..200, 0_usize..6_000), 1..12)), 1..20),
        ) {
            let to = |partition: i32| TopicPartition { topic: TopicId(1), partition: PartitionId(partition) };
            let record = |(seconds, size): &(i64, usize)| Record {
                value: Some(Bytes::from(vec![u8::try_from(size % 251).unwrap(); *size])),
                timestamp_us: seconds * 1_000_000,
                ..Record::default()
            };
            let mut expected: BTreeMap<TopicPartition, Vec<Record>> = BTreeMap::new();
            let batches: Vec<AppendBatch> = appends.iter().map(|(partition, records)| {
                let records: Vec<Record> = records.iter().map(record).collect();
                let parts = vec![PartitionBlocks { to: to(*partition), blocks: pack(&records) }];
                expected.entry(to(*partition)).or_default().extend(records);
                AppendBatch { parts, ..AppendBatch::default() }
            }).collect();
            let single: Vec<&EncodedBlock> = batches.iter().flat_map(|b| &b.parts).flat_map(|p| &p.blocks).collect();
            let blocks = together(&batches);
            let columns = Columns::of(&blocks);
            let mut row = 0;
            for (place, (to, blocks)) in blocks.iter().enumerate() {
                let (mut found, mut reach) = (Vec::new(), i64::MIN);
                for block in blocks {
                    prop_assert_eq!(columns.befores[row], i64::try_from(found.len()).unwrap());
                    let records: Vec<Record> =
                        UnpackedBlock::open(&block.body).unwrap().records().map(|r| r.unwrap().to_record()).collect();
                    let times = || records.iter().map(|r| r.timestamp_us);
                    reach = reach.max(times().max().unwrap());
                    prop_assert_eq!((columns.uptos[row], columns.places[row]), (reach, i32::try_from(place + 1).unwrap()));
                    let joined = !single.contains(&block);
                    let span = times().max().unwrap() - times().min().unwrap();
                    prop_assert!(!joined || (block.unpacked <= JOINED_BYTES && span <= JOINED_SPAN_US));
                    found.extend(records);
                    row += 1;
                }
                prop_assert_eq!((columns.counts[place], columns.latests[place]), (i64::try_from(found.len()).unwrap(), reach));
                prop_assert_eq!(&found, &expected[to]);
            }
            prop_assert_eq!(blocks.len(), expected.len());
        }
    }
}
