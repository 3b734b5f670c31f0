//! Reading blocks by offset and finding them by time, wherever they are kept.

use diesel::prelude::*;
use diesel::sql_types::{Binary, Int4, Int8, Jsonb, Nullable, Text};
use diesel_async::RunQueryDsl;
use gonvel_core::naming::{Offset, TopicPartition};
use gonvel_core::places::Places;
use gonvel_core::ports::{PortError, StoredBlock};
use gonvel_core::standing::{Standing, Takes};

use super::cold::index;
use crate::Database;
use crate::failing::failed;

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

/// Where blocks are at one moment: no block is in both places then, or in neither while it moves.
#[derive(QueryableByName)]
struct Stands {
    #[diesel(sql_type = Nullable<Int8>)]
    hot: Option<i64>,
    #[diesel(sql_type = Nullable<Text>)]
    path: Option<String>,
    #[diesel(sql_type = Nullable<Jsonb>)]
    blocks: Option<serde_json::Value>,
}

/// How often it is looked again where a block is that moved in between.
const MOST_LOOKS: usize = 20;

impl Row {
    fn stored(self) -> StoredBlock {
        StoredBlock {
            first: Offset(self.first_offset),
            places: Places::from_stored(self.span.into(), self.places.map(Into::into)),
            latest_us: self.latest_us,
            body: self.body.into(),
        }
    }
}

pub(super) async fn read(
    database: &Database,
    at: TopicPartition,
    from: Offset,
    max_bytes: i64,
) -> Result<Vec<StoredBlock>, PortError> {
    let mut lost = None;
    for _ in 0..MOST_LOOKS {
        let hot = read_hot(database, at, from, max_bytes).await?;
        // what is there has not moved, so most reads ask once
        if hot.as_slice().first().is_some_and(|block| block.first <= from) {
            return Ok(hot);
        }
        let stands = stands(database, at, from).await?;
        let index = stands.blocks.map_or_else(|| Ok(Vec::new()), index)?;
        let mut wanted = index.into_iter().filter(|block| block.end() > from.0).peekable();
        let standing = Standing { hot: stands.hot, file: wanted.peek().map(|block| block.first) };
        match standing.takes(hot.as_slice().first().map(|block| block.first.0)) {
            Takes::Hot => return Ok(hot),
            Takes::Again => continue,
            Takes::File => {}
        }
        let (Some(first_offset), Some(path)) = (standing.file, stands.path) else { continue };
        let mut bytes = 0;
        let wanted = wanted.take_while(|block| {
            let fits = bytes < max_bytes || bytes == 0;
            bytes += block.unpacked;
            fits
        });
        match database.cold.read(&path, wanted.collect()).await? {
            Some(blocks) => return Ok(blocks),
            None if lost.as_ref() == Some(&path) => {
                return Err(lost_file(at, first_offset, &path));
            }
            // forgotten between the two looks, or lost
            None => lost = Some(path),
        }
    }
    Err(PortError::TryAgain { during: "reading blocks", cause: "they move again and again".into() })
}

fn lost_file(at: TopicPartition, first_offset: i64, path: &str) -> PortError {
    PortError::Damaged { at, first_offset, finding: format!("its file {path} is not in the object storage") }
}

/// At one moment: where the first of the hot blocks is that ends behind an offset, and the first file that does.
async fn stands(database: &Database, at: TopicPartition, from: Offset) -> Result<Stands, PortError> {
    let mut connection = database.connection().await?;
    diesel::sql_query(
        "SELECT coalesce( \
           (SELECT first_offset FROM (SELECT first_offset, span FROM blocks WHERE topic_id = $1 AND partition = $2 \
              AND first_offset <= $3 ORDER BY first_offset DESC LIMIT 1) l WHERE l.first_offset + l.span > $3), \
           (SELECT min(first_offset) FROM blocks WHERE topic_id = $1 AND partition = $2 AND first_offset > $3)) AS hot, \
           f.path, f.blocks \
         FROM (SELECT 1) one LEFT JOIN LATERAL (SELECT path, blocks FROM cold_files \
           WHERE topic_id = $1 AND partition = $2 AND state = 'there' AND end_offset > $3 ORDER BY first_offset LIMIT 1) f ON true",
    )
    .bind::<Int8, _>(at.topic.0)
    .bind::<Int4, _>(at.partition.0)
    .bind::<Int8, _>(from.0)
    .get_result(&mut connection)
    .await
    .map_err(failed("looking where blocks are"))
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
    Ok(rows.into_iter().map(Row::stored).collect())
}

/// The block that holds an offset, or else the nearest before it.
pub(super) async fn read_back(
    database: &Database,
    at: TopicPartition,
    last: Offset,
) -> Result<Option<StoredBlock>, PortError> {
    let mut lost = None;
    loop {
        let mut connection = database.connection().await?;
        let hot: Option<Row> = diesel::sql_query(
            "SELECT first_offset, span, places, latest_us, body FROM blocks \
             WHERE topic_id = $1 AND partition = $2 AND first_offset <= $3 ORDER BY first_offset DESC LIMIT 1",
        )
        .bind::<Int8, _>(at.topic.0)
        .bind::<Int4, _>(at.partition.0)
        .bind::<Int8, _>(last.0)
        .get_result(&mut connection)
        .await
        .optional()
        .map_err(failed("reading a block"))?;
        if let Some(hot) = hot {
            return Ok(Some(hot.stored()));
        }
        // blocks only move into files: what is not hot by now is in one, or gone
        let file: Option<Stands> = diesel::sql_query(
            "SELECT NULL::bigint AS hot, path, blocks FROM cold_files WHERE topic_id = $1 AND partition = $2 AND state = 'there' \
             AND first_offset <= $3 ORDER BY first_offset DESC LIMIT 1",
        )
        .bind::<Int8, _>(at.topic.0)
        .bind::<Int4, _>(at.partition.0)
        .bind::<Int8, _>(last.0)
        .get_result(&mut connection)
        .await
        .optional()
        .map_err(failed("looking for a cold file"))?;
        drop(connection);
        let Some(Stands { path: Some(path), blocks: Some(blocks), .. }) = file else { return Ok(None) };
        let Some(block) = index(blocks)?.into_iter().rfind(|block| block.first <= last.0) else { return Ok(None) };
        let first_offset = block.first;
        match database.cold.read(&path, vec![block]).await? {
            Some(mut blocks) => return Ok(blocks.pop()),
            None if lost.as_ref() == Some(&path) => {
                return Err(lost_file(at, first_offset, &path));
            }
            None => lost = Some(path),
        }
    }
}

/// The end of a partition, if it keeps nothing at or behind an offset that is before it.
pub(super) async fn nothing_from(
    database: &Database,
    at: TopicPartition,
    from: Offset,
) -> Result<Option<Offset>, PortError> {
    let mut connection = database.connection().await?;
    let end: Option<Found> = diesel::sql_query(
        "SELECT next_offset AS first_offset, NULL::jsonb AS file FROM topic_partitions p WHERE topic_id = $1 AND partition = $2 \
         AND next_offset > $3 \
         AND NOT EXISTS (SELECT FROM blocks b WHERE b.topic_id = $1 AND b.partition = $2 AND b.first_offset > $3) \
         AND NOT EXISTS (SELECT FROM (SELECT first_offset, span FROM blocks b WHERE b.topic_id = $1 AND b.partition = $2 \
           AND b.first_offset <= $3 ORDER BY first_offset DESC LIMIT 1) l WHERE l.first_offset + l.span > $3) \
         AND NOT EXISTS (SELECT FROM cold_files f WHERE f.topic_id = $1 AND f.partition = $2 AND f.state = 'there' \
           AND f.end_offset > $3)",
    )
    .bind::<Int8, _>(at.topic.0)
    .bind::<Int4, _>(at.partition.0)
    .bind::<Int8, _>(from.0)
    .get_result(&mut connection)
    .await
    .optional()
    .map_err(failed("looking whether anything is kept"))?;
    Ok(end.and_then(|end| end.first_offset).map(Offset))
}

#[derive(QueryableByName)]
struct Found {
    #[diesel(sql_type = Nullable<Int8>)]
    first_offset: Option<i64>,
    #[diesel(sql_type = Nullable<Jsonb>)]
    file: Option<serde_json::Value>,
}

pub(super) async fn block_at_time(database: &Database, at: TopicPartition, time_us: i64) -> Result<Offset, PortError> {
    let mut connection = database.connection().await?;
    // all at one moment: a block that moves is in one place or in the other
    let found: Found = diesel::sql_query(
        "SELECT (SELECT blocks FROM cold_files WHERE topic_id = $1 AND partition = $2 AND state = 'there' AND reach_us >= $3 \
            ORDER BY first_offset LIMIT 1) AS file, \
           coalesce((SELECT first_offset FROM blocks WHERE topic_id = $1 AND partition = $2 AND reach_us >= $3 \
            ORDER BY reach_us, first_offset LIMIT 1), \
           (SELECT next_offset FROM topic_partitions WHERE topic_id = $1 AND partition = $2)) AS first_offset",
    )
    .bind::<Int8, _>(at.topic.0)
    .bind::<Int4, _>(at.partition.0)
    .bind::<Int8, _>(time_us)
    .get_result(&mut connection)
    .await
    .map_err(failed("finding a time"))?;
    let in_file =
        found.file.map(index).transpose()?.and_then(|blocks| blocks.iter().find(|b| b.reach_us >= time_us).map(|b| b.first));
    let what = || format!("partition {} of topic {}", at.partition.0, at.topic.0);
    in_file.or(found.first_offset).map(Offset).ok_or_else(|| PortError::NotFound { what: what() })
}
