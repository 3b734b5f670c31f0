//! Merging small blocks.

use diesel::prelude::*;
use diesel::result::Error;
use diesel::sql_types::{Binary, Int4, Int8, Nullable};
use diesel_async::{AsyncConnection, AsyncPgConnection, RunQueryDsl};
use gonvel_core::block::{EncodedBlock, UnpackedBlock, join};
use gonvel_core::merging::{FEWEST, Small, is_small, runs};
use gonvel_core::naming::TopicPartition;
use gonvel_core::places::Places;
use gonvel_core::ports::PortError;

use super::{BlockRow, Failures, Keeper, Partition};
use crate::failing::failed;

/// Blocks of a partition looked at in one go, from its end back.
const LOOKED_AT: i32 = 5_000;
/// Goes over one partition in one round, so that no partition keeps the others waiting.
const MOST_GOES: usize = 20;

#[derive(QueryableByName)]
struct Seen {
    #[diesel(sql_type = Int8)]
    first_offset: i64,
    #[diesel(sql_type = Int4)]
    span: i32,
    #[diesel(sql_type = Int4)]
    records: i32,
    #[diesel(sql_type = Int4)]
    unpacked: i32,
    #[diesel(sql_type = Int8)]
    earliest_us: i64,
    #[diesel(sql_type = Int8)]
    latest_us: i64,
    #[diesel(sql_type = Int8)]
    appended_us: i64,
}

impl Seen {
    fn small(&self) -> Small {
        Small {
            first: self.first_offset,
            span: self.span.into(),
            records: self.records.unsigned_abs(),
            unpacked: usize::try_from(self.unpacked).unwrap_or(0),
            earliest_us: self.earliest_us,
            latest_us: self.latest_us,
            appended_us: self.appended_us,
        }
    }
}

/// Several blocks as one.
struct Merged {
    first: i64,
    places: Places,
    reach_us: i64,
    appended_us: i64,
    block: EncodedBlock,
    bytes_before: i64,
}

#[derive(QueryableByName)]
struct Waiting {
    #[diesel(embed)]
    partition: Partition,
    #[diesel(sql_type = Nullable<Int8>)]
    due_ms: Option<i64>,
}

impl Keeper {
    pub(super) async fn merge(&mut self) -> Result<(), PortError> {
        let query = format!(
            "SELECT p.topic_id, p.partition, least(t.forget_after_ms, t.hot_span_ms) AS due_ms \
             FROM topic_partitions p JOIN topics t ON t.id = p.topic_id WHERE p.small_blocks >= {FEWEST} LIMIT 1000"
        );
        let waiting: Vec<Waiting> = {
            let mut connection = self.database.connection().await?;
            diesel::sql_query(query).load(&mut connection).await.map_err(failed("looking for small blocks"))?
        };
        let mut failures = Failures::default();
        for Waiting { partition, due_ms } in waiting {
            let at = partition.at();
            // in microseconds, a tenth of the shorter of the spans after which blocks are forgotten or moved
            let most_span_us = due_ms.map_or(i64::MAX, |ms| ms.saturating_mul(100));
            for _ in 0..MOST_GOES {
                let (merged, outcome) = self.merge_partition(at, most_span_us).await;
                self.said.merged_blocks += merged;
                failures.take(outcome);
                if merged < i64::from(LOOKED_AT) / 2 {
                    break;
                }
            }
        }
        self.said.small_blocks_waiting = self
            .count("SELECT coalesce(sum(small_blocks), 0)::bigint AS count FROM topic_partitions WHERE small_blocks >= 10")
            .await?;
        failures.into_result()
    }

    /// How many blocks became parts of larger ones, and what failed of the others.
    async fn merge_partition(&self, at: TopicPartition, most_span_us: i64) -> (i64, Result<(), PortError>) {
        let mut merged = 0;
        let outcome = self.merge_runs(at, most_span_us, &mut merged).await;
        (merged, outcome)
    }

    async fn merge_runs(&self, at: TopicPartition, most_span_us: i64, merged: &mut i64) -> Result<(), PortError> {
        let mut connection = self.database.connection().await?;
        let mut seen: Vec<Seen> = diesel::sql_query(
            "SELECT first_offset, span, records, unpacked, earliest_us, latest_us, appended_us FROM blocks WHERE topic_id = $1 AND partition = $2 \
             ORDER BY first_offset DESC LIMIT $3",
        )
        .bind::<Int8, _>(at.topic.0)
        .bind::<Int4, _>(at.partition.0)
        .bind::<Int4, _>(LOOKED_AT)
        .load(&mut connection)
        .await
        .map_err(failed("looking at blocks"))?;
        seen.reverse();
        let sizes: Vec<Small> = seen.iter().map(Seen::small).collect();
        let runs = runs(&sizes, most_span_us);
        let small = sizes.iter().filter(|s| is_small(s.records, s.unpacked)).count();
        let in_runs: usize = runs.iter().map(std::ops::Range::len).sum();
        let mut failures = Failures::default();
        let mut ranges = runs;
        while let Some(run) = ranges.pop() {
            let (from, to) = (seen[run.start].first_offset, seen[run.end - 1].first_offset);
            let done: Result<Outcome, Error> =
                connection.transaction(async |c| replace(c, at, from, to, run.len()).await).await;
            match failures.take(done.map_err(failed("merging blocks"))) {
                Some(Outcome::Merged(count)) => *merged += count,
                Some(Outcome::Damaged { first_offset, finding }) => {
                    // it stays as it is, to be found by whoever reads it; its neighbours are merged on either side
                    failures.take(Err::<(), _>(PortError::Damaged { at, first_offset, finding }));
                    let place = run.start + seen[run.clone()].partition_point(|b| b.first_offset < first_offset);
                    ranges.extend([run.start..place, place + 1..run.end].into_iter().filter(|r| r.len() >= 2));
                }
                None => {}
            }
        }
        // what cannot be merged is counted out: it is looked at again when as many new ones are there
        let left = i32::try_from(small - in_runs.min(small)).unwrap_or(0);
        if left > 0 {
            diesel::sql_query(
                "UPDATE topic_partitions SET small_blocks = greatest(0, small_blocks - $3) WHERE topic_id = $1 AND partition = $2",
            )
            .bind::<Int8, _>(at.topic.0)
            .bind::<Int4, _>(at.partition.0)
            .bind::<Int4, _>(left)
            .execute(&mut connection)
            .await
            .map_err(failed("counting small blocks"))?;
        }
        failures.into_result()
    }
}

/// What came of a run.
enum Outcome {
    /// So many blocks became one; 0 if they are not as they were seen.
    Merged(i64),
    /// One of them is damaged, and all are as they were.
    Damaged { first_offset: i64, finding: String },
}

/// Replaces the blocks from one to another by one that holds their records.
async fn replace(
    c: &mut AsyncPgConnection,
    at: TopicPartition,
    from: i64,
    to: i64,
    expected: usize,
) -> Result<Outcome, Error> {
    // a crash may undo a merge without harm: its commit need not wait for the disk
    diesel::sql_query("SET LOCAL synchronous_commit = off").execute(c).await?;
    let taken: Vec<BlockRow> = diesel::sql_query(
        "SELECT first_offset, span, records, earliest_us, latest_us, reach_us, unpacked, places, body, appended_us FROM blocks \
         WHERE topic_id = $1 AND partition = $2 AND first_offset BETWEEN $3 AND $4 ORDER BY first_offset FOR UPDATE SKIP LOCKED",
    )
    .bind::<Int8, _>(at.topic.0)
    .bind::<Int4, _>(at.partition.0)
    .bind::<Int8, _>(from)
    .bind::<Int8, _>(to)
    .load(c)
    .await?;
    if taken.len() != expected {
        return Ok(Outcome::Merged(0));
    }
    let damaged = taken.iter().find_map(|b| Some((b.first_offset, UnpackedBlock::open(&b.body).err()?)));
    if let Some((first_offset, error)) = damaged {
        return Ok(Outcome::Damaged { first_offset, finding: error.to_string() });
    }
    let Some(merged) = merge(taken)? else { return Ok(Outcome::Merged(0)) };
    diesel::sql_query("DELETE FROM blocks WHERE topic_id = $1 AND partition = $2 AND first_offset BETWEEN $3 AND $4")
        .bind::<Int8, _>(at.topic.0)
        .bind::<Int4, _>(at.partition.0)
        .bind::<Int8, _>(from)
        .bind::<Int8, _>(to)
        .execute(c)
        .await?;
    let block = &merged.block;
    diesel::sql_query(
        "INSERT INTO blocks (topic_id, partition, first_offset, span, records, earliest_us, latest_us, reach_us, unpacked, places, body, \
           appended_us) VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12)",
    )
    .bind::<Int8, _>(at.topic.0)
    .bind::<Int4, _>(at.partition.0)
    .bind::<Int8, _>(merged.first)
    .bind::<Int4, _>(i32::try_from(merged.places.span()).unwrap_or(i32::MAX))
    .bind::<Int4, _>(i32::try_from(block.records).unwrap_or(i32::MAX))
    .bind::<Int8, _>(block.earliest_us)
    .bind::<Int8, _>(block.latest_us)
    .bind::<Int8, _>(merged.reach_us)
    .bind::<Int4, _>(i32::try_from(block.unpacked).unwrap_or(i32::MAX))
    .bind::<Nullable<Binary>, _>(merged.places.stored().map(|b| b.to_vec()))
    .bind::<Binary, _>(block.body.as_ref())
    .bind::<Int8, _>(merged.appended_us)
    .execute(c)
    .await?;
    let count = i64::try_from(expected).unwrap_or(0);
    let still_small = i64::from(is_small(block.records, block.unpacked));
    // the row that appends wait for is taken last
    diesel::sql_query(
        "UPDATE topic_partitions SET bytes = bytes + $3, small_blocks = greatest(0, small_blocks - $4) \
         WHERE topic_id = $1 AND partition = $2",
    )
    .bind::<Int8, _>(at.topic.0)
    .bind::<Int4, _>(at.partition.0)
    .bind::<Int8, _>(i64::try_from(block.body.len()).unwrap_or(0) - merged.bytes_before)
    .bind::<Int4, _>(i32::try_from(count - still_small).unwrap_or(0))
    .execute(c)
    .await?;
    Ok(Outcome::Merged(count))
}

fn merge(taken: Vec<BlockRow>) -> Result<Option<Merged>, Error> {
    let (Some(first), Some(last)) = (taken.as_slice().first(), taken.as_slice().last()) else { return Ok(None) };
    let (first, reach_us) = (first.first_offset, last.reach_us);
    let span = last.first_offset + i64::from(last.span) - first;
    let appended_us = taken.iter().map(|t| t.appended_us).max().unwrap_or(i64::MIN);
    let bytes_before = taken.iter().map(|t| i64::try_from(t.body.len()).unwrap_or(0)).sum();
    let mut offsets = Vec::new();
    let mut blocks = Vec::with_capacity(taken.len());
    for block in taken {
        let places = Places::from_stored(block.span.into(), block.places.map(Into::into));
        offsets.extend(places.iter().map(|place| block.first_offset - first + place));
        blocks.push(EncodedBlock {
            records: block.records.unsigned_abs(),
            body: block.body.into(),
            unpacked: usize::try_from(block.unpacked).unwrap_or(0),
            earliest_us: block.earliest_us,
            latest_us: block.latest_us,
        });
    }
    let block = join(&blocks).map_err(|e| Error::DeserializationError(Box::new(e)))?;
    Ok(block.map(|block| Merged { first, places: Places::some(span, &offsets), reach_us, appended_us, block, bytes_before }))
}
