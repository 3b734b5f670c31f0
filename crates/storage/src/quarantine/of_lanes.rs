//! What lanes do with quarantine, as long as they hold their leases.

use std::time::Duration;

use async_trait::async_trait;
use bytes::Bytes;
use diesel::pg::Pg;
use diesel::prelude::*;
use diesel::query_builder::{BoxedSqlQuery, SqlQuery};
use diesel::sql_types::{Array, Binary, Double, Int4, Int8, Jsonb, Nullable, Text, Uuid as SqlUuid};
use diesel_async::{AsyncConnection, AsyncPgConnection, RunQueryDsl};
use gonvel_core::naming::{ConnectorId, Offset, PartitionId, TopicId, TopicPartition};
use gonvel_core::ports::{AskedRecord, BadRecord, HeldLane, PortError, QuarantineStore, Settled, WaitingKey};

use super::{KEPT, Kept, headers_to_json};
use crate::Database;
use crate::failing::{Stop, failed, stopped};
use crate::schema::lanes;

#[derive(QueryableByName)]
struct KeyRow {
    #[diesel(sql_type = Int8)]
    id: i64,
    #[diesel(sql_type = Int8)]
    topic_id: i64,
    #[diesel(sql_type = Int4)]
    partition: i32,
    #[diesel(sql_type = Int8)]
    record_offset: i64,
    #[diesel(sql_type = Nullable<Binary>)]
    key: Option<Vec<u8>>,
}

impl Kept {
    fn asked(self) -> AskedRecord {
        let mut record = self.record();
        record.value = self.mended.map(Bytes::from).or(record.value);
        AskedRecord {
            id: self.id,
            at: place(self.topic_id, self.partition),
            offset: Offset(self.record_offset),
            record,
            pace: self.pace.and_then(|p| u32::try_from(p).ok()),
        }
    }
}

fn place(topic: i64, partition: i32) -> TopicPartition {
    TopicPartition { topic: TopicId(topic), partition: PartitionId(partition) }
}

#[async_trait]
impl QuarantineStore for Database {
    async fn put(&self, held: HeldLane, version: i32, bad: &[BadRecord], kept: Duration) -> Result<(), PortError> {
        // a record that waits anew has a new number: what a target noted of the former one says nothing of it
        let put = diesel::sql_query(
            "INSERT INTO quarantine (connector_id, topic_id, topic, partition, record_offset, timestamp_us, key, value, headers, \
               value_schema, key_schema, step, finding, cause, version, state, expires_at) \
             SELECT $1, a.topic_id, a.topic, a.partition, a.record_offset, a.timestamp_us, a.key, a.value, a.headers, \
               a.value_schema, a.key_schema, a.step, a.finding, a.cause, $2, 'waiting', \
               clock_timestamp() + make_interval(secs => $3) \
             FROM unnest($4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14, $15, $16) AS a(topic_id, topic, partition, \
               record_offset, timestamp_us, key, value, headers, value_schema, key_schema, step, finding, cause) \
             ON CONFLICT (connector_id, topic_id, partition, record_offset) DO UPDATE SET id = EXCLUDED.id, step = EXCLUDED.step, \
               finding = EXCLUDED.finding, cause = EXCLUDED.cause, version = EXCLUDED.version, \
               state = 'waiting', settled_at = NULL, settled_by = NULL, reason = NULL, expires_at = EXCLUDED.expires_at",
        )
        .into_boxed()
        .bind::<SqlUuid, _>(held.connector.0)
        .bind::<Int4, _>(version)
        .bind::<Double, _>(kept.as_secs_f64())
        .bind::<Array<Int8>, _>(bad.iter().map(|b| b.at.topic.0).collect::<Vec<_>>())
        .bind::<Array<Text>, _>(bad.iter().map(|b| b.topic.as_str()).collect::<Vec<_>>())
        .bind::<Array<Int4>, _>(bad.iter().map(|b| b.at.partition.0).collect::<Vec<_>>())
        .bind::<Array<Int8>, _>(bad.iter().map(|b| b.offset.0).collect::<Vec<_>>())
        .bind::<Array<Int8>, _>(bad.iter().map(|b| b.record.timestamp_us).collect::<Vec<_>>())
        .bind::<Array<Nullable<Binary>>, _>(bad.iter().map(|b| b.record.key.as_deref()).collect::<Vec<_>>())
        .bind::<Array<Nullable<Binary>>, _>(bad.iter().map(|b| b.record.value.as_deref()).collect::<Vec<_>>())
        .bind::<Array<Jsonb>, _>(bad.iter().map(|b| headers_to_json(&b.record.headers)).collect::<Vec<_>>())
        .bind::<Array<Nullable<Int8>>, _>(bad.iter().map(|b| b.record.schema.map(|s| s.0)).collect::<Vec<_>>())
        .bind::<Array<Nullable<Int8>>, _>(bad.iter().map(|b| b.record.key_schema.map(|s| s.0)).collect::<Vec<_>>())
        .bind::<Array<Text>, _>(bad.iter().map(|b| b.step.word()).collect::<Vec<_>>())
        .bind::<Array<Text>, _>(bad.iter().map(|b| b.finding.as_str()).collect::<Vec<_>>())
        .bind::<Array<Int8>, _>(bad.iter().map(|b| b.cause).collect::<Vec<_>>());
        self.as_holder(held, "putting records in quarantine", put).await
    }

    async fn waiting_keys(
        &self,
        connector: ConnectorId,
        places: &[TopicPartition],
        after: i64,
        most: i64,
    ) -> Result<Vec<WaitingKey>, PortError> {
        let mut connection = self.connection().await?;
        let rows: Vec<KeyRow> = diesel::sql_query(
            "SELECT q.id, q.topic_id, q.partition, q.record_offset, q.key FROM quarantine q \
             JOIN unnest($2, $3) AS p(topic_id, partition) ON p.topic_id = q.topic_id AND p.partition = q.partition \
             WHERE q.connector_id = $1 AND q.state IN ('waiting', 'asked') AND q.id > $4 ORDER BY q.id LIMIT $5",
        )
        .bind::<SqlUuid, _>(connector.0)
        .bind::<Array<Int8>, _>(places.iter().map(|p| p.topic.0).collect::<Vec<_>>())
        .bind::<Array<Int4>, _>(places.iter().map(|p| p.partition.0).collect::<Vec<_>>())
        .bind::<Int8, _>(after)
        .bind::<Int8, _>(most)
        .load(&mut connection)
        .await
        .map_err(failed("reading what waits in quarantine"))?;
        let waiting = |row: KeyRow| WaitingKey {
            id: row.id,
            at: place(row.topic_id, row.partition),
            offset: Offset(row.record_offset),
            key: row.key.map(Bytes::from),
        };
        Ok(rows.into_iter().map(waiting).collect())
    }

    async fn waiting_records(
        &self,
        connector: ConnectorId,
        places: &[TopicPartition],
        after: i64,
        most: i64,
    ) -> Result<Vec<AskedRecord>, PortError> {
        let mut connection = self.connection().await?;
        let rows: Vec<Kept> = diesel::sql_query(format!(
            "{KEPT} WHERE connector_id = $1 AND state IN ('waiting', 'asked') \
               AND (topic_id, partition) IN (SELECT * FROM unnest($2, $3)) AND id > $4 ORDER BY id LIMIT $5"
        ))
        .bind::<SqlUuid, _>(connector.0)
        .bind::<Array<Int8>, _>(places.iter().map(|p| p.topic.0).collect::<Vec<_>>())
        .bind::<Array<Int4>, _>(places.iter().map(|p| p.partition.0).collect::<Vec<_>>())
        .bind::<Int8, _>(after)
        .bind::<Int8, _>(most)
        .load(&mut connection)
        .await
        .map_err(failed("reading what waits in quarantine"))?;
        Ok(rows.into_iter().map(Kept::asked).collect())
    }

    async fn asked_for(
        &self,
        connector: ConnectorId,
        version: i32,
        places: &[TopicPartition],
        most: i64,
    ) -> Result<Vec<AskedRecord>, PortError> {
        let mut connection = self.connection().await?;
        let rows: Vec<Kept> = diesel::sql_query(format!(
            "{KEPT} WHERE connector_id = $1 AND state = 'asked' \
               AND (topic_id, partition) IN (SELECT * FROM unnest($2, $3)) \
               AND NOT EXISTS (SELECT 1 FROM connectors c WHERE c.id = $1 AND c.version > $5) \
             ORDER BY topic_id, partition, record_offset LIMIT $4"
        ))
        .bind::<SqlUuid, _>(connector.0)
        .bind::<Array<Int8>, _>(places.iter().map(|p| p.topic.0).collect::<Vec<_>>())
        .bind::<Array<Int4>, _>(places.iter().map(|p| p.partition.0).collect::<Vec<_>>())
        .bind::<Int8, _>(most)
        .bind::<Int4, _>(version)
        .load(&mut connection)
        .await
        .map_err(failed("reading what is to be tried again"))?;
        Ok(rows.into_iter().map(Kept::asked).collect())
    }

    async fn settle(&self, held: HeldLane, ids: &[i64], settled: &Settled) -> Result<(), PortError> {
        if ids.is_empty() {
            return Ok(());
        }
        let note = match settled {
            Settled::Delivered | Settled::Superseded => {
                let state = if *settled == Settled::Delivered { "delivered" } else { "superseded" };
                diesel::sql_query(
                    "UPDATE quarantine SET state = $2, settled_at = clock_timestamp(), \
                       tries = tries + CASE WHEN $2 = 'delivered' THEN 1 ELSE 0 END \
                     WHERE id = ANY ($1) AND state IN ('waiting', 'asked')",
                )
                .into_boxed()
                .bind::<Array<Int8>, _>(ids)
                .bind::<Text, _>(state)
            }
            Settled::Failed { step, finding, cause } => diesel::sql_query(
                "UPDATE quarantine SET state = 'waiting', tries = tries + 1, step = $2, finding = $3, cause = $4 \
                 WHERE id = ANY ($1) AND state IN ('waiting', 'asked')",
            )
            .into_boxed()
            .bind::<Array<Int8>, _>(ids)
            .bind::<Text, _>(step.word())
            .bind::<Text, _>(finding)
            .bind::<Int8, _>(*cause),
        };
        self.as_holder(held, "noting what became of a record in quarantine", note).await
    }

    async fn take_back(&self, held: HeldLane, from: &[(TopicPartition, Offset)]) -> Result<(), PortError> {
        let take = diesel::sql_query(
            "DELETE FROM quarantine q USING unnest($2, $3, $4) AS p(topic_id, partition, from_offset) \
             WHERE q.connector_id = $1 AND q.topic_id = p.topic_id AND q.partition = p.partition \
               AND q.record_offset >= p.from_offset AND q.state IN ('waiting', 'asked')",
        )
        .into_boxed()
        .bind::<SqlUuid, _>(held.connector.0)
        .bind::<Array<Int8>, _>(from.iter().map(|(at, _)| at.topic.0).collect::<Vec<_>>())
        .bind::<Array<Int4>, _>(from.iter().map(|(at, _)| at.partition.0).collect::<Vec<_>>())
        .bind::<Array<Int8>, _>(from.iter().map(|(_, offset)| offset.0).collect::<Vec<_>>());
        self.as_holder(held, "taking records out of quarantine that are still to be delivered", take).await
    }
}

/// Refuses what the holder of a lease does once another holds the lane; until the transaction ends no other gets it.
async fn still_held(connection: &mut AsyncPgConnection, held: HeldLane) -> Result<(), Stop> {
    let holds: Option<i32> = lanes::table
        .find((held.connector.0, held.lane))
        .filter(lanes::epoch.eq(held.epoch.0))
        .select(lanes::lane)
        .for_share()
        .first(connection)
        .await
        .optional()?;
    holds.map(|_| ()).ok_or(Stop::Refused(PortError::Fenced { connector: held.connector, lane: held.lane }))
}

impl Database {
    /// Carries out what the holder of a lease says; refused once another holds the lane, and until it is done no other gets it.
    async fn as_holder(
        &self,
        held: HeldLane,
        during: &'static str,
        says: BoxedSqlQuery<'_, Pg, SqlQuery>,
    ) -> Result<(), PortError> {
        let mut connection = self.connection().await?;
        let done: Result<(), Stop> = connection
            .transaction(async |c| {
                still_held(c, held).await?;
                says.execute(c).await?;
                Ok(())
            })
            .await;
        done.map_err(stopped(during))
    }
}
