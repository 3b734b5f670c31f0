//! Moving blocks to object storage.

use diesel::prelude::*;
use diesel::result::Error;
use diesel::sql_types::{Int4, Int8, Jsonb, Text};
use diesel_async::{AsyncConnection, AsyncPgConnection, RunQueryDsl};
use gonvel_core::avro::container::{self, Codec};
use gonvel_core::block::RECORD_SCHEMA;
use gonvel_core::naming::TopicPartition;
use gonvel_core::ports::PortError;
use uuid::Uuid;

use super::super::cold::ColdBlock;
use super::{BlockRow, Failures, Keeper, Partition};
use crate::failing::failed;

/// Bytes from which a file is worth its while.
const WORTHWHILE: usize = 4 << 20;
/// Bytes in a file, about, and blocks at most.
const FILE_BYTES: i64 = 32 << 20;
const FILE_BLOCKS: i32 = 512;

/// A file as it is written.
#[derive(Default)]
pub(super) struct Draft {
    file: Vec<u8>,
    sync: container::Sync,
    index: Vec<ColdBlock>,
    /// Of its blocks, without what stands between them.
    bytes: usize,
    earliest_us: i64,
    /// When the last of its blocks was appended.
    appended_us: i64,
}

impl Draft {
    /// Adds a block; its place in the file is found here.
    pub(super) fn push(&mut self, block: ColdBlock, body: &[u8], earliest_us: i64) {
        if self.file.is_empty() {
            self.sync.copy_from_slice(Uuid::new_v4().as_bytes());
            self.file = container::header(RECORD_SCHEMA, Codec::Zstandard, &self.sync);
            (self.earliest_us, self.appended_us) = (i64::MAX, i64::MIN);
        }
        let place = container::write_block(block.records, body, &self.sync, &mut self.file);
        let (at, length) = (u64::try_from(place).unwrap_or(0), u64::try_from(body.len()).unwrap_or(0));
        self.index.push(ColdBlock { at, length, ..block });
        self.bytes += body.len();
        self.earliest_us = self.earliest_us.min(earliest_us);
        self.appended_us = self.appended_us.max(self.index.last().and_then(|b| b.appended_us).unwrap_or(i64::MIN));
    }
}

/// A file that is there.
#[derive(QueryableByName)]
pub(super) struct OldFile {
    #[diesel(sql_type = Text)]
    pub(super) path: String,
    #[diesel(sql_type = Int8)]
    bytes: i64,
    #[diesel(sql_type = Int8)]
    pub(super) earliest_us: i64,
    #[diesel(sql_type = Int8)]
    appended_us: i64,
    #[diesel(sql_type = Jsonb)]
    pub(super) blocks: serde_json::Value,
}

/// Puts a file into another state, if it is in this one; how many that were.
pub(super) async fn put_state(c: &mut AsyncPgConnection, path: &str, from: &str, to: &str) -> Result<usize, Error> {
    diesel::sql_query("UPDATE cold_files SET state = $3 WHERE path = $1 AND state = $2")
        .bind::<Text, _>(path)
        .bind::<Text, _>(from)
        .bind::<Text, _>(to)
        .execute(c)
        .await
}

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
                   ORDER BY first_offset LIMIT 1) < $1::numeric - t.hot_span_ms::numeric * 1000",
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
        let old: Vec<BlockRow> = {
            let mut connection = self.database.connection().await?;
            diesel::sql_query(
                "SELECT b.first_offset, span, records, earliest_us, latest_us, reach_us, unpacked, places, body, appended_us FROM ( \
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
        let records: Vec<(i64, i32, usize)> = old.iter().map(|b| (b.first_offset, b.records, b.body.len())).collect();
        let mut draft = Draft::default();
        for BlockRow {
            first_offset,
            span,
            records,
            earliest_us,
            latest_us,
            reach_us,
            unpacked,
            places,
            body,
            appended_us,
        } in old
        {
            let block = ColdBlock {
                first: first_offset,
                span: span.into(),
                records: records.unsigned_abs(),
                latest_us,
                reach_us,
                unpacked: unpacked.into(),
                at: 0,
                length: 0,
                places,
                appended_us: Some(appended_us),
            };
            draft.push(block, &body, earliest_us);
        }
        let path = self.store(at, &mut draft).await?;
        let moved = self.finish_file(at, &path, &records).await?;
        self.said.moved_blocks += if moved { i64::try_from(records.len()).unwrap_or(0) } else { 0 };
        Ok(moved)
    }

    /// Writes a file and notes it as one that is being written; its path.
    async fn store(&self, at: TopicPartition, draft: &mut Draft) -> Result<String, PortError> {
        let first = draft.index.as_slice().first().map_or(0, |block| block.first);
        let path = format!("topics/{}/{}/{first:020}-{}.avro", at.topic.0, at.partition.0, Uuid::now_v7().simple());
        self.begin_file(at, &path, draft).await?;
        self.database.cold.put(&path, std::mem::take(&mut draft.file)).await?;
        Ok(path)
    }

    /// The files of a partition that begin before an offset, the oldest first.
    pub(super) async fn files(&self, at: TopicPartition, before: i64) -> Result<Vec<OldFile>, PortError> {
        let mut connection = self.database.connection().await?;
        diesel::sql_query(
            "SELECT path, bytes, earliest_us, appended_us, blocks FROM cold_files WHERE topic_id = $1 AND partition = $2 AND state = 'there' \
             AND first_offset < $3 ORDER BY first_offset",
        )
        .bind::<Int8, _>(at.topic.0)
        .bind::<Int4, _>(at.partition.0)
        .bind::<Int8, _>(before)
        .load(&mut connection)
        .await
        .map_err(failed("looking for cold files"))
    }

    /// What is left of a file takes its place, if it is still there; with nothing left it goes. False if it is not there any more.
    pub(super) async fn replace_file(
        &self,
        at: TopicPartition,
        old: &OldFile,
        mut left: Draft,
        gone: i64,
    ) -> Result<bool, PortError> {
        // its own time where one of the blocks' is not known
        left.appended_us = old.appended_us;
        let bytes = left.bytes;
        let path = if left.index.is_empty() { None } else { Some(self.store(at, &mut left).await?) };
        let mut connection = self.database.connection().await?;
        let done: Result<(), Error> = connection
            .transaction(async |c| {
                let mut states = vec![(old.path.as_str(), "there", "dropping")];
                states.extend(path.as_deref().map(|path| (path, "writing", "there")));
                for (path, from, to) in states {
                    if put_state(c, path, from, to).await? != 1 {
                        return Err(Error::RollbackTransaction);
                    }
                }
                diesel::sql_query(
                    "UPDATE topic_partitions SET bytes = bytes + $3, passed_over = passed_over + $4 WHERE topic_id = $1 AND partition = $2",
                )
                .bind::<Int8, _>(at.topic.0)
                .bind::<Int4, _>(at.partition.0)
                .bind::<Int8, _>(i64::try_from(bytes).unwrap_or(0) - old.bytes)
                .bind::<Int8, _>(gone)
                .execute(c)
                .await?;
                Ok(())
            })
            .await;
        match (done, path) {
            (Ok(()), _) => Ok(true),
            (Err(Error::RollbackTransaction), path) => {
                drop(connection);
                if let Some(path) = path {
                    self.give_up(&path).await?;
                }
                Ok(false)
            }
            (Err(error), _) => Err(failed("putting a file in another's place")(error)),
        }
    }

    /// A file that takes nobody's place is dropped with the others; here, where another keeper gave it up before it was written and
    /// its row is gone.
    async fn give_up(&self, path: &str) -> Result<(), PortError> {
        let known = {
            let mut connection = self.database.connection().await?;
            put_state(&mut connection, path, "writing", "dropping").await.map_err(failed("giving up a file"))?
        };
        if known == 0 {
            self.database.cold.remove(path).await?;
        }
        Ok(())
    }

    async fn begin_file(&self, at: TopicPartition, path: &str, draft: &Draft) -> Result<(), PortError> {
        let (Some(first), Some(last)) = (draft.index.as_slice().first(), draft.index.as_slice().last()) else {
            return Ok(());
        };
        let mut connection = self.database.connection().await?;
        diesel::sql_query(
            "INSERT INTO cold_files (topic_id, partition, first_offset, end_offset, state, path, bytes, earliest_us, latest_us, reach_us, blocks, \
               appended_us) VALUES ($1, $2, $3, $4, 'writing', $5, $6, $7, $8, $9, $10, $11)",
        )
        .bind::<Int8, _>(at.topic.0)
        .bind::<Int4, _>(at.partition.0)
        .bind::<Int8, _>(first.first)
        .bind::<Int8, _>(last.end())
        .bind::<Text, _>(path)
        .bind::<Int8, _>(i64::try_from(draft.bytes).unwrap_or(0))
        .bind::<Int8, _>(draft.earliest_us)
        .bind::<Int8, _>(draft.index.iter().map(|b| b.latest_us).max().unwrap_or(0))
        .bind::<Int8, _>(last.reach_us)
        .bind::<Jsonb, _>(serde_json::to_value(&draft.index).unwrap_or_default())
        .bind::<Int8, _>(draft.appended_us)
        .execute(&mut connection)
        .await
        .map_err(failed("noting a file"))?;
        Ok(())
    }

    /// The file takes the place of its blocks, if they are still as they were read.
    async fn finish_file(&self, at: TopicPartition, path: &str, read: &[(i64, i32, usize)]) -> Result<bool, PortError> {
        #[derive(QueryableByName)]
        struct Gone {
            #[diesel(sql_type = Int8)]
            first_offset: i64,
            #[diesel(sql_type = Int4)]
            records: i32,
            #[diesel(sql_type = Int4)]
            length: i32,
            #[diesel(sql_type = Int4)]
            small: i32,
        }
        let (Some(first), Some(last)) = (read.first(), read.last()) else { return Ok(false) };
        let mut connection = self.database.connection().await?;
        let done: Result<(), Error> = connection
            .transaction(async |c| {
                let mut gone: Vec<Gone> = diesel::sql_query(
                    "DELETE FROM blocks WHERE topic_id = $1 AND partition = $2 AND first_offset BETWEEN $3 AND $4 \
                     RETURNING first_offset, records, length(body) AS length, (records < 2500 AND unpacked < 524288)::int AS small",
                )
                .bind::<Int8, _>(at.topic.0)
                .bind::<Int4, _>(at.partition.0)
                .bind::<Int8, _>(first.0)
                .bind::<Int8, _>(last.0)
                .load(c)
                .await?;
                gone.sort_by_key(|block| block.first_offset);
                // merged or thinned out by another keeper since: the file has what is not there any more
                let same = gone.iter().map(|g| (g.first_offset, g.records, usize::try_from(g.length).unwrap_or(0)));
                if !same.eq(read.iter().copied()) || put_state(c, path, "writing", "there").await? != 1 {
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
                drop(connection);
                self.give_up(path).await?;
                Ok(false)
            }
            Err(error) => Err(failed("moving blocks")(error)),
        }
    }
}
