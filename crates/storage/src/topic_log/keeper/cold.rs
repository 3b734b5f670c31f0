//! Moving blocks to object storage.

use diesel::prelude::*;
use diesel::result::Error;
use diesel::sql_types::{Int4, Int8, Jsonb, Text};
use diesel_async::{AsyncConnection, RunQueryDsl};
use gonvel_core::avro::container::{self, Codec};
use gonvel_core::block::RECORD_SCHEMA;
use gonvel_core::naming::TopicPartition;
use gonvel_core::ports::PortError;
use uuid::Uuid;

use super::super::cold::ColdBlock;
use super::{BlockRow, Failures, Keeper, Partition};
use crate::database::failed;

/// Bytes from which a file is worth its while.
const WORTHWHILE: usize = 4 << 20;
/// Bytes in a file, about, and blocks at most.
const FILE_BYTES: i64 = 32 << 20;
const FILE_BLOCKS: i32 = 512;

impl Keeper {
    pub(super) async fn move_cold(&mut self, now_us: i64) -> Result<(), PortError> {
        if !self.database.cold.is_there() {
            return Ok(());
        }
        #[derive(QueryableByName)]
        struct Due {
            #[diesel(embed)]
            partition: Partition,
            #[diesel(sql_type = Int8)]
            hot_span_ms: i64,
        }
        let due: Vec<Due> = {
            let mut connection = self.database.connection().await?;
            diesel::sql_query(
                "SELECT p.topic_id, p.partition, t.hot_span_ms FROM topics t JOIN topic_partitions p ON p.topic_id = t.id \
                 WHERE t.keep = 'all' AND t.hot_span_ms IS NOT NULL AND p.next_offset > p.first_offset \
                 AND (SELECT latest_us FROM blocks b WHERE b.topic_id = p.topic_id AND b.partition = p.partition \
                   ORDER BY first_offset LIMIT 1) < $1 - t.hot_span_ms * 1000",
            )
            .bind::<Int8, _>(now_us)
            .load(&mut connection)
            .await
            .map_err(failed("looking for blocks to move"))?
        };
        let mut failures = Failures::default();
        for Due { partition, hot_span_ms } in due {
            let span_us = hot_span_ms.saturating_mul(1000);
            let (limit_us, last_us) = (now_us.saturating_sub(span_us), now_us.saturating_sub(span_us.saturating_mul(2)));
            while failures.take(self.move_some(partition.at(), limit_us, last_us).await) == Some(true) {}
        }
        failures.into_result()
    }

    /// Moves a partition's oldest blocks whose times are all before `limit_us`, unless they are few and not yet before
    /// `last_us`; false if none moved.
    async fn move_some(&mut self, at: TopicPartition, limit_us: i64, last_us: i64) -> Result<bool, PortError> {
        let mut old: Vec<BlockRow> = {
            let mut connection = self.database.connection().await?;
            diesel::sql_query(
                "SELECT b.first_offset, span, records, earliest_us, latest_us, reach_us, unpacked, places, body FROM ( \
                   SELECT first_offset, sum(length(body)) OVER (ORDER BY first_offset) AS sum FROM blocks \
                   WHERE topic_id = $1 AND partition = $2 AND first_offset < coalesce((SELECT min(first_offset) FROM blocks \
                     WHERE topic_id = $1 AND partition = $2 AND latest_us >= $3), 9223372036854775807) \
                   ORDER BY first_offset LIMIT $4) f JOIN blocks b \
                 ON b.topic_id = $1 AND b.partition = $2 AND b.first_offset = f.first_offset WHERE f.sum <= $5 ORDER BY 1",
            )
            .bind::<Int8, _>(at.topic.0)
            .bind::<Int4, _>(at.partition.0)
            .bind::<Int8, _>(limit_us)
            .bind::<Int4, _>(FILE_BLOCKS)
            .bind::<Int8, _>(FILE_BYTES)
            .load(&mut connection)
            .await
            .map_err(failed("reading blocks to move"))?
        };
        let bytes: usize = old.iter().map(|b| b.body.len()).sum();
        if bytes < WORTHWHILE && old.as_slice().first().is_none_or(|b| b.latest_us >= last_us) {
            return Ok(false);
        }
        let mut sync = container::Sync::default();
        let name = Uuid::now_v7();
        sync.copy_from_slice(Uuid::new_v4().as_bytes());
        let mut file = container::header(RECORD_SCHEMA, Codec::Zstandard, &sync);
        let mut index = Vec::with_capacity(old.len());
        for block in &mut old {
            let records = block.records.unsigned_abs();
            let place = container::write_block(records, &block.body, &sync, &mut file);
            index.push(ColdBlock {
                first: block.first_offset,
                span: block.span.into(),
                records,
                latest_us: block.latest_us,
                reach_us: block.reach_us,
                unpacked: block.unpacked.into(),
                at: u64::try_from(place).unwrap_or(0),
                length: u64::try_from(block.body.len()).unwrap_or(0),
                places: block.places.take(),
            });
        }
        let path = format!("topics/{}/{}/{:020}-{}.avro", at.topic.0, at.partition.0, index[0].first, name.simple());
        self.begin_file(at, &path, &old, &index, bytes).await?;
        self.database.cold.put(&path, file).await?;
        let moved = self.finish_file(at, &path, &index).await?;
        self.said.moved_blocks += if moved { i64::try_from(index.len()).unwrap_or(0) } else { 0 };
        Ok(moved)
    }

    async fn begin_file(
        &self,
        at: TopicPartition,
        path: &str,
        old: &[BlockRow],
        index: &[ColdBlock],
        bytes: usize,
    ) -> Result<(), PortError> {
        let (Some(first), Some(last)) = (index.first(), index.last()) else { return Ok(()) };
        let mut connection = self.database.connection().await?;
        diesel::sql_query(
            "INSERT INTO cold_files (topic_id, partition, first_offset, end_offset, state, path, bytes, earliest_us, latest_us, reach_us, blocks) \
             VALUES ($1, $2, $3, $4, 'writing', $5, $6, $7, $8, $9, $10)",
        )
        .bind::<Int8, _>(at.topic.0)
        .bind::<Int4, _>(at.partition.0)
        .bind::<Int8, _>(first.first)
        .bind::<Int8, _>(last.first + last.span)
        .bind::<Text, _>(path)
        .bind::<Int8, _>(i64::try_from(bytes).unwrap_or(0))
        .bind::<Int8, _>(old.iter().map(|b| b.earliest_us).min().unwrap_or(0))
        .bind::<Int8, _>(old.iter().map(|b| b.latest_us).max().unwrap_or(0))
        .bind::<Int8, _>(last.reach_us)
        .bind::<Jsonb, _>(serde_json::to_value(index).unwrap_or_default())
        .execute(&mut connection)
        .await
        .map_err(failed("noting a file"))?;
        Ok(())
    }

    /// The file takes the place of its blocks, if they are still as they were read.
    async fn finish_file(&self, at: TopicPartition, path: &str, index: &[ColdBlock]) -> Result<bool, PortError> {
        #[derive(QueryableByName)]
        struct Gone {
            #[diesel(sql_type = Int4)]
            small: i32,
        }
        let (Some(first), Some(last)) = (index.first(), index.last()) else { return Ok(false) };
        let mut connection = self.database.connection().await?;
        let done: Result<(), Error> = connection
            .transaction(async |c| {
                let gone: Vec<Gone> = diesel::sql_query(
                    "DELETE FROM blocks WHERE topic_id = $1 AND partition = $2 AND first_offset BETWEEN $3 AND $4 \
                     RETURNING (records < 2500 AND unpacked < 524288)::int AS small",
                )
                .bind::<Int8, _>(at.topic.0)
                .bind::<Int4, _>(at.partition.0)
                .bind::<Int8, _>(first.first)
                .bind::<Int8, _>(last.first)
                .load(c)
                .await?;
                let there = diesel::sql_query("UPDATE cold_files SET state = 'there' WHERE path = $1 AND state = 'writing'")
                    .bind::<Text, _>(path)
                    .execute(c)
                    .await?;
                if gone.len() != index.len() || there != 1 {
                    return Err(Error::RollbackTransaction);
                }
                diesel::sql_query(
                    "UPDATE topic_partitions SET small_blocks = greatest(0, small_blocks - $3) WHERE topic_id = $1 AND partition = $2",
                )
                .bind::<Int8, _>(at.topic.0)
                .bind::<Int4, _>(at.partition.0)
                .bind::<Int4, _>(gone.iter().map(|g| g.small).sum::<i32>())
                .execute(c)
                .await?;
                Ok(())
            })
            .await;
        match done {
            Ok(()) => Ok(true),
            Err(Error::RollbackTransaction) => {
                diesel::sql_query("UPDATE cold_files SET state = 'dropping' WHERE path = $1")
                    .bind::<Text, _>(path)
                    .execute(&mut connection)
                    .await
                    .map_err(failed("giving up a file"))?;
                Ok(false)
            }
            Err(error) => Err(failed("moving blocks")(error)),
        }
    }
}
