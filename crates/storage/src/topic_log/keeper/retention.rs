//! Forgetting by age and by size.

use diesel::prelude::*;
use diesel::result::Error;
use diesel::sql_types::{Array, Bool, Int4, Int8, Nullable};
use diesel_async::{AsyncConnection, AsyncPgConnection, RunQueryDsl};
use gonvel_core::naming::{Offset, PartitionId, TopicId, TopicPartition};
use gonvel_core::ports::{PortError, Topic, TopicLog};
use gonvel_core::retention::{KeptBlock, OldestBlocks, Outlook, forget};

use gonvel_core::topic_settings::TopicSettings;

use super::{Failures, Keeper};
use crate::Database;
use crate::failing::failed;

/// Blocks of a partition that go in one transaction at most.
const AT_ONCE: i32 = 200;
/// Blocks of a partition that are looked at for what it will forget.
const LOOKED_AT: i32 = 5_000;
const HOUR_US: i64 = 3_600_000_000;
const DAY_US: i64 = 24 * HOUR_US;

#[derive(QueryableByName)]
struct Due {
    #[diesel(sql_type = Int8)]
    topic_id: i64,
}

#[derive(QueryableByName)]
struct Oldest {
    #[diesel(sql_type = Int4)]
    partition: i32,
    #[diesel(sql_type = Int8)]
    end: i64,
    #[diesel(sql_type = Int8)]
    ages_from_us: i64,
    #[diesel(sql_type = Int8)]
    bytes: i64,
    #[diesel(sql_type = Bool)]
    more: bool,
}

/// What a partition would forget.
#[derive(Debug, Clone, QueryableByName)]
pub struct WouldForget {
    /// The partition.
    #[diesel(sql_type = Int4)]
    pub partition: i32,
    /// The offset before which all would go.
    #[diesel(sql_type = Int8)]
    pub before: i64,
    /// Records that would go.
    #[diesel(sql_type = Int8)]
    pub records: i64,
    /// Their size as stored.
    #[diesel(sql_type = Int8)]
    pub bytes: i64,
}

impl Keeper {
    pub(super) async fn forget(&mut self, now_us: i64) -> Result<(), PortError> {
        let due = self.due(now_us).await?;
        if due.is_empty() {
            return Ok(());
        }
        let topics = self.database.topics().await?;
        let mut failures = Failures::default();
        for topic in topics.iter().filter(|t| due.contains(&t.id.0)) {
            failures.take(self.forget_of(topic, now_us).await);
        }
        failures.into_result()
    }

    async fn forget_of(&mut self, topic: &Topic, now_us: i64) -> Result<(), PortError> {
        loop {
            let ends = self.database.forgettable(topic, now_us).await?;
            if ends.is_empty() {
                return Ok(());
            }
            for (partition, end) in ends {
                let at = TopicPartition { topic: topic.id, partition };
                self.said.forgotten_records += self.database.forget_before(at, end).await?;
            }
        }
    }

    /// Topics that have something to forget.
    async fn due(&self, now_us: i64) -> Result<Vec<i64>, PortError> {
        let mut connection = self.database.connection().await?;
        let due: Vec<Due> = diesel::sql_query(
            "SELECT t.id AS topic_id FROM topics t WHERE t.forget_after_ms IS NOT NULL AND EXISTS ( \
               SELECT FROM topic_partitions p WHERE p.topic_id = t.id AND p.next_offset > p.first_offset AND ( \
                 (SELECT greatest(latest_us, appended_us) FROM blocks b WHERE b.topic_id = p.topic_id AND b.partition = p.partition \
                  ORDER BY first_offset LIMIT 1) < $1::numeric - t.forget_after_ms::numeric * 1000 \
                 OR EXISTS (SELECT FROM cold_files f WHERE f.topic_id = p.topic_id AND f.partition = p.partition \
                  AND f.state = 'there' AND greatest(f.latest_us, f.appended_us) < $1::numeric - t.forget_after_ms::numeric * 1000))) \
             UNION SELECT t.id FROM topics t JOIN topic_partitions p ON p.topic_id = t.id WHERE t.most_bytes IS NOT NULL \
             GROUP BY t.id HAVING sum(p.bytes) > t.most_bytes",
        )
        .bind::<Int8, _>(now_us)
        .load(&mut connection)
        .await
        .map_err(failed("looking for what is to be forgotten"))?;
        Ok(due.into_iter().map(|d| d.topic_id).collect())
    }
}

impl Database {
    /// For each partition of a topic that has something to forget at a time, the offset before which all goes next.
    ///
    /// # Errors
    /// [`PortError::TryAgain`].
    pub async fn forgettable(&self, topic: &Topic, now_us: i64) -> Result<Vec<(PartitionId, Offset)>, PortError> {
        self.forgettable_of(topic.id, &topic.settings, now_us, AT_ONCE).await
    }

    /// What a topic would forget by settings: for each partition the offset before which all would go, with the records and
    /// bytes that are there now.
    ///
    /// # Errors
    /// [`PortError::TryAgain`].
    pub async fn would_forget(
        &self,
        topic: TopicId,
        settings: &TopicSettings,
        now_us: i64,
    ) -> Result<Vec<WouldForget>, PortError> {
        let ends = self.forgettable_of(topic, settings, now_us, i32::MAX - 1).await?;
        let mut connection = self.connection().await?;
        diesel::sql_query(
            "SELECT a.partition, a.end AS before, coalesce(sum(u.records), 0)::bigint AS records, coalesce(sum(u.bytes), 0)::bigint AS bytes \
             FROM unnest($2, $3) AS a(partition, \"end\") LEFT JOIN LATERAL ( \
               SELECT records::bigint, length(body)::bigint AS bytes FROM blocks b WHERE b.topic_id = $1 AND b.partition = a.partition \
                 AND b.first_offset < a.end \
               UNION ALL SELECT (SELECT sum((i->>'records')::bigint)::bigint FROM jsonb_array_elements(f.blocks) i), bytes FROM cold_files f \
                 WHERE f.topic_id = $1 AND f.partition = a.partition AND f.state = 'there' AND f.end_offset <= a.end) u ON true \
             GROUP BY 1, 2 ORDER BY 1",
        )
        .bind::<Int8, _>(topic.0)
        .bind::<Array<Int4>, _>(ends.iter().map(|e| e.0.0).collect::<Vec<_>>())
        .bind::<Array<Int8>, _>(ends.iter().map(|e| e.1.0).collect::<Vec<_>>())
        .load(&mut connection)
        .await
        .map_err(failed("looking at what would be forgotten"))
    }

    async fn forgettable_of(
        &self,
        topic: TopicId,
        settings: &TopicSettings,
        now_us: i64,
        at_once: i32,
    ) -> Result<Vec<(PartitionId, Offset)>, PortError> {
        let (oldest, total) = self.oldest_of(topic, at_once).await?;
        Ok(forget(&oldest, total, settings, now_us))
    }

    /// What a topic will have forgotten, as it is and as it grew within the last day.
    ///
    /// # Errors
    /// [`PortError::TryAgain`]; [`PortError::NotFound`].
    pub async fn outlook(&self, topic: &Topic, now_us: i64) -> Result<Outlook, PortError> {
        let (mut partitions, total_bytes) = self.oldest_of(topic.id, LOOKED_AT).await?;
        let bytes_per_day = match topic.settings.most_bytes {
            Some(_) => self.bytes_per_day(topic.id, now_us).await?,
            None => 0,
        };
        // what grows has newer blocks than any that is there now
        partitions.iter_mut().for_each(|p| p.more |= bytes_per_day > 0);
        Ok(Outlook { partitions, total_bytes, settings: topic.settings.clone(), bytes_per_day, now_us })
    }

    /// Bytes that came within the last day; of a topic whose oldest blocks are younger, at the pace of their time.
    async fn bytes_per_day(&self, topic: TopicId, now_us: i64) -> Result<i64, PortError> {
        #[derive(QueryableByName)]
        struct Came {
            #[diesel(sql_type = Int8)]
            bytes: i64,
            #[diesel(sql_type = Nullable<Int8>)]
            oldest_us: Option<i64>,
        }
        let mut connection = self.connection().await?;
        let came: Came = diesel::sql_query(
            "SELECT coalesce(sum(bytes) FILTER (WHERE came_us > $2), 0)::bigint AS bytes, min(came_us) AS oldest_us FROM ( \
               SELECT length(body)::bigint AS bytes, appended_us AS came_us FROM blocks WHERE topic_id = $1 \
               UNION ALL SELECT bytes, appended_us FROM cold_files WHERE topic_id = $1 AND state = 'there') u",
        )
        .bind::<Int8, _>(topic.0)
        .bind::<Int8, _>(now_us - DAY_US)
        .get_result(&mut connection)
        .await
        .map_err(failed("looking at what came within a day"))?;
        let span_us = came.oldest_us.map_or(DAY_US, |oldest| now_us - oldest).clamp(HOUR_US, DAY_US);
        Ok(i64::try_from(i128::from(came.bytes) * i128::from(DAY_US) / i128::from(span_us)).unwrap_or(i64::MAX))
    }

    /// The oldest blocks of each partition, and the topic's size.
    async fn oldest_of(&self, topic: TopicId, at_once: i32) -> Result<(Vec<OldestBlocks>, i64), PortError> {
        let bounds = self.bounds(topic).await?;
        let rows: Vec<Oldest> = {
            let mut connection = self.connection().await?;
            diesel::sql_query(
                "SELECT p.partition, o.end, o.ages_from_us, o.bytes, o.more FROM unnest($2) AS p(partition), LATERAL ( \
                   SELECT first_offset, \"end\", ages_from_us, bytes, count(*) OVER () > $3 AS more FROM ( \
                     (SELECT first_offset, end_offset AS \"end\", greatest(latest_us, appended_us) AS ages_from_us, bytes FROM cold_files f \
                      WHERE f.topic_id = $1 AND f.partition = p.partition AND f.state = 'there' ORDER BY 1 LIMIT $3 + 1) UNION ALL \
                     (SELECT first_offset, first_offset + span, greatest(latest_us, appended_us), length(body)::bigint FROM blocks b \
                      WHERE b.topic_id = $1 AND b.partition = p.partition ORDER BY 1 LIMIT $3 + 1) ORDER BY 1 LIMIT $3 + 1) u \
                   ORDER BY first_offset LIMIT $3) o ORDER BY p.partition, o.first_offset",
            )
            .bind::<Int8, _>(topic.0)
            .bind::<Array<Int4>, _>(bounds.iter().map(|b| b.partition.0).collect::<Vec<_>>())
            .bind::<Int4, _>(at_once)
            .load(&mut connection)
            .await
            .map_err(failed("looking at the oldest blocks"))?
        };
        let mut oldest: Vec<OldestBlocks> = Vec::new();
        for row in rows {
            let partition = PartitionId(row.partition);
            if oldest.last().is_none_or(|o| o.partition != partition) {
                oldest.push(OldestBlocks { partition, blocks: Vec::new(), more: row.more });
            }
            let block = KeptBlock { end: Offset(row.end), ages_from_us: row.ages_from_us, bytes: row.bytes };
            if let Some(last) = oldest.last_mut() {
                last.blocks.push(block);
            }
        }
        Ok((oldest, bounds.iter().map(|b| b.bytes).sum()))
    }

    /// Forgets the blocks and files of a partition that end at an offset or before; how many offsets they covered.
    pub(super) async fn forget_before(&self, at: TopicPartition, end: Offset) -> Result<i64, PortError> {
        let mut connection = self.connection().await?;
        let forgotten: Result<i64, Error> = connection.transaction(async |c| remove(c, at, end).await).await;
        forgotten.map_err(failed("forgetting"))
    }
}

#[derive(QueryableByName)]
struct Gone {
    #[diesel(sql_type = Int8)]
    forgotten: i64,
}

async fn remove(c: &mut AsyncPgConnection, at: TopicPartition, end: Offset) -> Result<i64, Error> {
    let TopicPartition { topic: TopicId(topic), partition: PartitionId(partition) } = at;
    let gone: Option<Gone> = diesel::sql_query(
        "WITH hot AS (DELETE FROM blocks WHERE topic_id = $1 AND partition = $2 AND first_offset + span <= $3 AND first_offset < $3 \
           RETURNING length(body)::bigint AS bytes, records::bigint AS records, \
             (records < 2500 AND unpacked < 524288)::int AS small), \
         cold AS (UPDATE cold_files SET state = 'dropping' WHERE topic_id = $1 AND partition = $2 AND state = 'there' \
           AND end_offset <= $3 RETURNING bytes, (SELECT sum((b->>'records')::bigint)::bigint FROM jsonb_array_elements(blocks) b) AS records, 0 AS small), \
         gone AS (SELECT coalesce(sum(bytes), 0)::bigint AS bytes, coalesce(sum(records), 0)::bigint AS records, \
           coalesce(sum(small), 0)::int AS small FROM (SELECT * FROM hot UNION ALL SELECT * FROM cold) u) \
         UPDATE topic_partitions p SET first_offset = greatest(p.first_offset, $3), bytes = p.bytes - g.bytes, \
           small_blocks = greatest(0, p.small_blocks - g.small), \
           passed_over = p.passed_over - (greatest(p.first_offset, $3) - p.first_offset - g.records) \
         FROM gone g, (SELECT first_offset FROM topic_partitions WHERE topic_id = $1 AND partition = $2 FOR UPDATE) before \
         WHERE p.topic_id = $1 AND p.partition = $2 \
         RETURNING p.first_offset - before.first_offset AS forgotten",
    )
    .bind::<Int8, _>(topic)
    .bind::<Int4, _>(partition)
    .bind::<Int8, _>(end.0)
    .get_result(c)
    .await
    .optional()?;
    Ok(gone.map_or(0, |g| g.forgotten))
}
