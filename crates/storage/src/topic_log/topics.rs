//! Topics and their partitions.

use chrono::{DateTime, Utc};
use diesel::prelude::*;
use diesel::result::{DatabaseErrorKind, Error};
use diesel::sql_types::{Array, Int4, Int8};
use diesel_async::{AsyncConnection, AsyncPgConnection, RunQueryDsl};
use gonvel_core::naming::{ConnectorId, Offset, PartitionId, TopicId, TopicName};
use gonvel_core::ports::{PartitionBounds, PortError, Topic};
use gonvel_core::topic_settings::{Keep, TopicSettings};

use crate::Database;
use crate::failing::failed;
use crate::readers::{lock_readers_of, share_out_anew};
use crate::schema::{topic_partitions, topics};

/// Partitions of a topic at most.
pub const MOST_PARTITIONS: i32 = 1000;

#[derive(Queryable)]
struct Row {
    id: i64,
    name: String,
    partitions: i32,
    created_at: DateTime<Utc>,
    keep: String,
    forget_after_ms: Option<i64>,
    most_bytes: Option<i64>,
    deletes_kept_ms: i64,
    hot_span_ms: Option<i64>,
    revision: i32,
    scattered: bool,
}

fn topic(row: Row) -> Result<Topic, PortError> {
    let name = TopicName::parse(row.name).map_err(|e| PortError::Refused(e.to_string()))?;
    let settings = TopicSettings {
        keep: if row.keep == Keep::Latest.word() { Keep::Latest } else { Keep::All },
        forget_after_ms: row.forget_after_ms,
        most_bytes: row.most_bytes,
        deletes_kept_ms: row.deletes_kept_ms,
        hot_span_ms: row.hot_span_ms,
    };
    let created_us = row.created_at.timestamp_micros();
    let Row { id, partitions, revision, scattered, .. } = row;
    Ok(Topic { id: TopicId(id), name, partitions, created_us, settings, revision, scattered })
}

#[derive(Insertable, AsChangeset)]
#[diesel(table_name = topics, treat_none_as_null = true)]
struct Columns {
    keep: &'static str,
    forget_after_ms: Option<i64>,
    most_bytes: Option<i64>,
    deletes_kept_ms: i64,
    hot_span_ms: Option<i64>,
}

fn columns(settings: &TopicSettings) -> Columns {
    Columns {
        keep: settings.keep.word(),
        forget_after_ms: settings.forget_after_ms,
        most_bytes: settings.most_bytes,
        deletes_kept_ms: settings.deletes_kept_ms,
        hot_span_ms: settings.hot_span_ms,
    }
}

fn check(settings: &TopicSettings) -> Result<(), PortError> {
    settings.check().map_err(|e| PortError::Refused(e.to_string()))
}

async fn add_rows(connection: &mut AsyncPgConnection, topic: i64, from: i32, to: i32) -> Result<(), Error> {
    let rows: Vec<_> =
        (from..to).map(|p| (topic_partitions::topic_id.eq(topic), topic_partitions::partition.eq(p))).collect();
    diesel::insert_into(topic_partitions::table).values(rows).execute(connection).await?;
    Ok(())
}

pub(super) async fn create(
    database: &Database,
    name: &TopicName,
    partitions: i32,
    settings: &TopicSettings,
) -> Result<Topic, PortError> {
    if !(1..=MOST_PARTITIONS).contains(&partitions) {
        return Err(PortError::Refused(format!("{partitions} partitions: a topic has from 1 to {MOST_PARTITIONS}")));
    }
    check(settings)?;
    let mut connection = database.connection().await?;
    let made = connection
        .transaction::<Row, Error, _>(async |c| {
            let row: Row = diesel::insert_into(topics::table)
                .values((topics::name.eq(name.as_str()), topics::partitions.eq(partitions), columns(settings)))
                .returning(topics::all_columns)
                .get_result(c)
                .await?;
            add_rows(c, row.id, 0, partitions).await?;
            database.note_made(c, &row.name).await?;
            Ok(row)
        })
        .await;
    match made {
        Ok(row) => topic(row),
        Err(Error::DatabaseError(DatabaseErrorKind::UniqueViolation, _)) => {
            Err(PortError::Exists { what: format!("the topic {name}") })
        }
        Err(error) => Err(failed("making a topic")(error)),
    }
}

pub(super) async fn find(database: &Database, name: &TopicName) -> Result<Topic, PortError> {
    let mut connection = database.connection().await?;
    let row: Option<Row> = topics::table
        .filter(topics::name.eq(name.as_str()))
        .first(&mut connection)
        .await
        .optional()
        .map_err(failed("finding a topic"))?;
    topic(row.ok_or_else(|| PortError::NotFound { what: format!("topic {name}") })?)
}

pub(super) async fn all(database: &Database) -> Result<Vec<Topic>, PortError> {
    let mut connection = database.connection().await?;
    let rows: Vec<Row> = topics::table.order(topics::name).load(&mut connection).await.map_err(failed("listing topics"))?;
    rows.into_iter().map(topic).collect()
}

fn gone(id: TopicId) -> PortError {
    PortError::NotFound { what: format!("topic number {}", id.0) }
}

/// Locks a topic's row to the end of the transaction.
async fn lock(connection: &mut AsyncPgConnection, id: TopicId) -> Result<Option<Row>, Error> {
    topics::table.find(id.0).for_update().first(connection).await.optional()
}

pub(super) async fn change(
    database: &Database,
    id: TopicId,
    revision: i32,
    settings: &TopicSettings,
) -> Result<Topic, PortError> {
    check(settings)?;
    let mut connection = database.connection().await?;
    let changed: Result<Option<Result<Row, String>>, Error> = connection
        .transaction(async |c| {
            let Some(row) = lock(c, id).await? else { return Ok(None) };
            if row.revision != revision {
                return Ok(Some(Err(row.name)));
            }
            if settings.keep == Keep::Latest && row.keep != Keep::Latest.word() {
                // the next pass looks at all of it
                diesel::sql_query("UPDATE topic_partitions SET latest_to = 0, deletes_until_us = NULL WHERE topic_id = $1")
                    .bind::<Int8, _>(id.0)
                    .execute(c)
                    .await?;
            }
            let changed = diesel::update(topics::table.find(id.0))
                .set((columns(settings), topics::revision.eq(topics::revision + 1)))
                .returning(topics::all_columns)
                .get_result(c)
                .await?;
            Ok(Some(Ok(changed)))
        })
        .await;
    match changed.map_err(failed("changing a topic"))?.ok_or_else(|| gone(id))? {
        Ok(row) => topic(row),
        Err(name) => Err(PortError::Changed { what: format!("the topic {name}") }),
    }
}

pub(super) async fn add_partitions(
    database: &Database,
    id: TopicId,
    partitions: i32,
    writers: &[ConnectorId],
) -> Result<Topic, PortError> {
    let mut connection = database.connection().await?;
    let mut refused = None;
    let added: Result<Option<Row>, Error> = connection
        .transaction(async |c| {
            // before the topic, as who appends does
            diesel::sql_query(
                "UPDATE lanes l SET epoch = nextval('lane_epochs'), holder = NULL FROM \
                 (SELECT connector_id, lane FROM lanes WHERE connector_id = ANY($1) ORDER BY 1, 2 FOR NO KEY UPDATE) own \
                 WHERE (l.connector_id, l.lane) = (own.connector_id, own.lane)",
            )
            .bind::<Array<diesel::sql_types::Uuid>, _>(writers.iter().map(|id| id.0).collect::<Vec<_>>())
            .execute(c)
            .await?;
            let Some(row) = lock(c, id).await? else { return Ok(None) };
            let before = row.partitions;
            if partitions <= before || partitions > MOST_PARTITIONS {
                refused = Some(before);
                return Err(Error::RollbackTransaction);
            }
            add_rows(c, id.0, before, partitions).await?;
            let readers = lock_readers_of(c, id.0).await?;
            diesel::sql_query(
                "INSERT INTO reader_positions (reader_id, topic_id, partition, next_offset) \
                 SELECT r, $1, p, 0 FROM unnest($4) r, generate_series($2, $3 - 1) p",
            )
            .bind::<Int8, _>(id.0)
            .bind::<Int4, _>(before)
            .bind::<Int4, _>(partitions)
            .bind::<Array<Int8>, _>(&readers)
            .execute(c)
            .await?;
            for reader in readers {
                share_out_anew(c, reader).await?;
            }
            let row = diesel::update(topics::table.find(id.0))
                .set((
                    topics::partitions.eq(partitions),
                    topics::revision.eq(topics::revision + 1),
                    topics::scattered.eq(true),
                ))
                .returning(topics::all_columns)
                .get_result(c)
                .await?;
            Ok(Some(row))
        })
        .await;
    if let Some(before) = refused {
        return Err(PortError::Refused(format!(
            "the topic has {before} partitions and can only get more, {MOST_PARTITIONS} at most: {partitions} is not possible"
        )));
    }
    topic(added.map_err(failed("adding partitions"))?.ok_or_else(|| gone(id))?)
}

pub(super) async fn scatter(database: &Database, id: TopicId) -> Result<(), PortError> {
    let mut connection = database.connection().await?;
    diesel::update(topics::table.find(id.0))
        .set(topics::scattered.eq(true))
        .execute(&mut connection)
        .await
        .map_err(failed("noting that keys are put elsewhere"))?;
    Ok(())
}

pub(super) async fn delete(database: &Database, id: TopicId) -> Result<(), PortError> {
    let mut connection = database.connection().await?;
    let deleted: Result<usize, Error> = connection
        .transaction(async |c| {
            // appends under way hold rows of topic_partitions: this waits for them, and those after it find no partition
            let deleted = diesel::delete(topics::table.find(id.0)).execute(c).await?;
            if deleted > 0 {
                diesel::sql_query("INSERT INTO deleted_topics (topic_id) VALUES ($1)")
                    .bind::<Int8, _>(id.0)
                    .execute(c)
                    .await?;
            }
            Ok(deleted)
        })
        .await;
    match deleted.map_err(failed("deleting a topic"))? {
        0 => Err(gone(id)),
        _ => Ok(()),
    }
}

#[derive(QueryableByName)]
struct Bounds {
    #[diesel(sql_type = Int4)]
    partition: i32,
    #[diesel(sql_type = Int8)]
    first_offset: i64,
    #[diesel(sql_type = Int8)]
    next_offset: i64,
    #[diesel(sql_type = Int8)]
    records: i64,
    #[diesel(sql_type = Int8)]
    bytes: i64,
}

pub(super) async fn bounds(database: &Database, topic: TopicId) -> Result<Vec<PartitionBounds>, PortError> {
    let mut connection = database.connection().await?;
    let rows: Vec<Bounds> = diesel::sql_query(
        "SELECT partition, first_offset, next_offset, next_offset - first_offset - passed_over AS records, bytes \
         FROM topic_partitions WHERE topic_id = $1 ORDER BY partition",
    )
    .bind::<Int8, _>(topic.0)
    .load(&mut connection)
    .await
    .map_err(failed("reading a topic's bounds"))?;
    if rows.is_empty() {
        return Err(gone(topic));
    }
    let bounds = rows.into_iter().map(|row| PartitionBounds {
        partition: PartitionId(row.partition),
        first: Offset(row.first_offset),
        next: Offset(row.next_offset),
        records: row.records,
        bytes: row.bytes,
    });
    Ok(bounds.collect())
}

/// Records and bytes of every topic, for lists.
#[derive(Debug, Clone, QueryableByName)]
pub struct TopicSize {
    /// The topic.
    #[diesel(sql_type = diesel::sql_types::Int8)]
    pub topic_id: i64,
    /// Records kept.
    #[diesel(sql_type = diesel::sql_types::Int8)]
    pub records: i64,
    /// Compressed bytes.
    #[diesel(sql_type = diesel::sql_types::Int8)]
    pub bytes: i64,
}

impl Database {
    /// Records and bytes of every topic.
    ///
    /// # Errors
    /// [`PortError::TryAgain`].
    pub async fn topic_sizes(&self) -> Result<Vec<TopicSize>, PortError> {
        let mut connection = self.connection().await?;
        diesel::sql_query(
            "SELECT topic_id, sum(next_offset - first_offset - passed_over)::bigint AS records, sum(bytes)::bigint AS bytes \
             FROM topic_partitions GROUP BY topic_id",
        )
        .load(&mut connection)
        .await
        .map_err(failed("sizing topics"))
    }
}
