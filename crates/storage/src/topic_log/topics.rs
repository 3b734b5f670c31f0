//! Topics and their partitions.

use chrono::{DateTime, Utc};
use diesel::prelude::*;
use diesel::result::{DatabaseErrorKind, Error};
use diesel_async::{AsyncConnection, RunQueryDsl};
use gonvel_core::naming::{Offset, PartitionId, TopicId, TopicName};
use gonvel_core::ports::{PartitionBounds, PortError, Topic};

use crate::Database;
use crate::database::failed;
use crate::schema::{topic_partitions, topics};

type Row = (i64, String, i32, DateTime<Utc>);

fn topic((id, name, partitions, created_at): Row) -> Result<Topic, PortError> {
    let name = TopicName::parse(name).map_err(|e| PortError::Refused(e.to_string()))?;
    Ok(Topic { id: TopicId(id), name, partitions, created_us: created_at.timestamp_micros() })
}

pub(super) async fn create(database: &Database, name: &TopicName, partitions: i32) -> Result<Topic, PortError> {
    if !(1..=1000).contains(&partitions) {
        return Err(PortError::Refused(format!("{partitions} partitions: a topic has from 1 to 1000")));
    }
    let mut connection = database.connection().await?;
    let made = connection
        .transaction::<Row, Error, _>(async |c| {
            let row: Row = diesel::insert_into(topics::table)
                .values((topics::name.eq(name.as_str()), topics::partitions.eq(partitions)))
                .returning(topics::all_columns)
                .get_result(c)
                .await?;
            let rows: Vec<_> =
                (0..partitions).map(|p| (topic_partitions::topic_id.eq(row.0), topic_partitions::partition.eq(p))).collect();
            diesel::insert_into(topic_partitions::table).values(rows).execute(c).await?;
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

pub(super) async fn bounds(database: &Database, topic: TopicId) -> Result<Vec<PartitionBounds>, PortError> {
    let mut connection = database.connection().await?;
    let rows: Vec<(i32, i64, i64, i64)> = topic_partitions::table
        .filter(topic_partitions::topic_id.eq(topic.0))
        .order(topic_partitions::partition)
        .select((
            topic_partitions::partition,
            topic_partitions::first_offset,
            topic_partitions::next_offset,
            topic_partitions::bytes,
        ))
        .load(&mut connection)
        .await
        .map_err(failed("reading a topic's bounds"))?;
    if rows.is_empty() {
        return Err(PortError::NotFound { what: format!("topic number {}", topic.0) });
    }
    let bounds = rows.into_iter().map(|(partition, first, next, bytes)| PartitionBounds {
        partition: PartitionId(partition),
        first: Offset(first),
        next: Offset(next),
        bytes,
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
            "SELECT topic_id, sum(next_offset - first_offset)::bigint AS records, sum(bytes)::bigint AS bytes \
             FROM topic_partitions GROUP BY topic_id",
        )
        .load(&mut connection)
        .await
        .map_err(failed("sizing topics"))
    }
}
