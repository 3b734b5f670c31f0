//! Reading blocks by offset and finding them by time, wherever they are kept.

use diesel::prelude::*;
use diesel::sql_types::{Binary, Int4, Int8, Nullable};
use diesel_async::RunQueryDsl;
use gonvel_core::naming::{Offset, TopicPartition};
use gonvel_core::places::Places;
use gonvel_core::ports::{PortError, StoredBlock};

use crate::Database;
use crate::database::failed;

/// Blocks looked at for one read.
const MOST_BLOCKS: i32 = 256;

#[derive(QueryableByName)]
struct Row {
    #[diesel(sql_type = Int8)]
    first_offset: i64,
    #[diesel(sql_type = Int4)]
    span: i32,
    #[diesel(sql_type = Nullable<Binary>)]
    places: Option<Vec<u8>>,
    #[diesel(sql_type = Int8)]
    latest_us: i64,
    #[diesel(sql_type = Binary)]
    body: Vec<u8>,
}

pub(super) async fn read(
    database: &Database,
    at: TopicPartition,
    from: Offset,
    max_bytes: i64,
) -> Result<Vec<StoredBlock>, PortError> {
    let hot = read_hot(database, at, from, max_bytes).await?;
    // what is not in the hot part may have moved; what is there has not, so most reads ask once
    if hot.as_slice().first().is_some_and(|block| block.first <= from) {
        return Ok(hot);
    }
    let cold = database.cold.read(database, at, from, max_bytes).await?;
    Ok(if cold.is_empty() { hot } else { cold })
}

async fn read_hot(
    database: &Database,
    at: TopicPartition,
    from: Offset,
    max_bytes: i64,
) -> Result<Vec<StoredBlock>, PortError> {
    let mut connection = database.connection().await?;
    // each block is fetched by its key (what stands behind OFFSET 0 is not made a join of): a merge of both lists would walk the
    // partition from its start
    let rows: Vec<Row> = diesel::sql_query(
        "SELECT s.first_offset, b.span, b.places, b.latest_us, b.body FROM ( \
           SELECT first_offset, coalesce(sum(unpacked) OVER (ORDER BY first_offset ROWS UNBOUNDED PRECEDING EXCLUDE CURRENT ROW), 0) AS before \
           FROM (SELECT first_offset, unpacked FROM blocks WHERE topic_id = $1 AND partition = $2 AND first_offset >= coalesce( \
               (SELECT first_offset FROM (SELECT first_offset, span FROM blocks \
                  WHERE topic_id = $1 AND partition = $2 AND first_offset <= $3 ORDER BY first_offset DESC LIMIT 1) l \
                WHERE l.first_offset + l.span > $3), $3) \
             ORDER BY first_offset LIMIT $5) f \
         ) s CROSS JOIN LATERAL (SELECT span, places, latest_us, body FROM blocks \
           WHERE topic_id = $1 AND partition = $2 AND first_offset = s.first_offset OFFSET 0) b \
         WHERE s.before < $4 ORDER BY s.first_offset",
    )
    .bind::<Int8, _>(at.topic.0)
    .bind::<Int4, _>(at.partition.0)
    .bind::<Int8, _>(from.0)
    .bind::<Int8, _>(max_bytes)
    .bind::<Int4, _>(MOST_BLOCKS)
    .load(&mut connection)
    .await
    .map_err(failed("reading blocks"))?;
    let block = |row: Row| StoredBlock {
        first: Offset(row.first_offset),
        places: Places::from_stored(row.span.into(), row.places.map(Into::into)),
        latest_us: row.latest_us,
        body: row.body.into(),
    };
    Ok(rows.into_iter().map(block).collect())
}

#[derive(QueryableByName)]
struct Found {
    #[diesel(sql_type = Nullable<Int8>)]
    first_offset: Option<i64>,
}

pub(super) async fn block_at_time(database: &Database, at: TopicPartition, time_us: i64) -> Result<Offset, PortError> {
    if let Some(found) = database.cold.block_at_time(database, at, time_us).await? {
        return Ok(found);
    }
    let mut connection = database.connection().await?;
    let found: Found = diesel::sql_query(
        "SELECT coalesce( \
           (SELECT first_offset FROM blocks WHERE topic_id = $1 AND partition = $2 AND reach_us >= $3 \
            ORDER BY reach_us, first_offset LIMIT 1), \
           (SELECT next_offset FROM topic_partitions WHERE topic_id = $1 AND partition = $2)) AS first_offset",
    )
    .bind::<Int8, _>(at.topic.0)
    .bind::<Int4, _>(at.partition.0)
    .bind::<Int8, _>(time_us)
    .get_result(&mut connection)
    .await
    .map_err(failed("finding a time"))?;
    let what = || format!("partition {} of topic {}", at.partition.0, at.topic.0);
    found.first_offset.map(Offset).ok_or_else(|| PortError::NotFound { what: what() })
}
