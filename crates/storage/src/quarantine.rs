//! Quarantine: records that could not be handled, grouped by cause, and what people ask of them.

use std::collections::HashMap;
use std::time::Duration;

use async_trait::async_trait;
use bytes::Bytes;
use chrono::{DateTime, Utc};
use diesel::pg::Pg;
use diesel::prelude::*;
use diesel::query_builder::{BoxedSqlQuery, SqlQuery};
use diesel::sql_types::{Array, Binary, Double, Int4, Int8, Jsonb, Nullable, Text, Timestamptz, Uuid as SqlUuid};
use diesel_async::{AsyncConnection, AsyncPgConnection, RunQueryDsl};
use gonvel_core::naming::{ConnectorId, Offset, PartitionId, SchemaId, TopicId, TopicPartition};
use gonvel_core::ports::{AskedRecord, BadRecord, HeldLane, PortError, QuarantineStore, Settled, WaitingKey};
use gonvel_core::record::{Header, Record};
use uuid::Uuid;

use crate::Database;
use crate::failing::{Stop, failed, stopped};
use crate::schema::lanes;

/// A group of records that failed for one cause.
#[derive(Debug, Clone, QueryableByName)]
pub struct Cause {
    /// The connector.
    #[diesel(sql_type = SqlUuid)]
    pub connector_id: Uuid,
    /// The fingerprint.
    #[diesel(sql_type = Int8)]
    pub cause: i64,
    /// What was being done.
    #[diesel(sql_type = Text)]
    pub step: String,
    /// What was found with the newest of them.
    #[diesel(sql_type = Text)]
    pub finding: String,
    /// The topics they are of.
    #[diesel(sql_type = Array<Text>)]
    pub topics: Vec<String>,
    /// Records that wait.
    #[diesel(sql_type = Int8)]
    pub waiting: i64,
    /// Records that are asked to be tried again.
    #[diesel(sql_type = Int8)]
    pub asked: i64,
    /// When the first of those that wait came.
    #[diesel(sql_type = Timestamptz)]
    pub first_at: DateTime<Utc>,
    /// When the last of them came.
    #[diesel(sql_type = Timestamptz)]
    pub last_at: DateTime<Utc>,
    /// When the first of them will be forgotten.
    #[diesel(sql_type = Timestamptz)]
    pub expires_at: DateTime<Utc>,
    /// How many of them came in each of the last 24 hours, the oldest first.
    #[diesel(sql_type = Array<Int8>)]
    pub by_hour: Vec<i64>,
    /// The newest of them.
    #[diesel(sql_type = Int8)]
    pub newest: i64,
}

/// A record in quarantine, as it is listed.
#[derive(Debug, Clone, QueryableByName)]
pub struct Kept {
    /// Its number.
    #[diesel(sql_type = Int8)]
    pub id: i64,
    /// The connector.
    #[diesel(sql_type = SqlUuid)]
    pub connector_id: Uuid,
    /// Its topic.
    #[diesel(sql_type = Int8)]
    pub topic_id: i64,
    /// Its topic's name.
    #[diesel(sql_type = Text)]
    pub topic: String,
    /// Its partition.
    #[diesel(sql_type = Int4)]
    pub partition: i32,
    /// Its offset.
    #[diesel(sql_type = Int8)]
    pub record_offset: i64,
    /// Its time, in microseconds since 1970-01-01 UTC.
    #[diesel(sql_type = Int8)]
    pub timestamp_us: i64,
    /// Its key.
    #[diesel(sql_type = Nullable<Binary>)]
    pub key: Option<Vec<u8>>,
    /// Its value.
    #[diesel(sql_type = Nullable<Binary>)]
    pub value: Option<Vec<u8>>,
    /// Its headers: names and values in base64.
    #[diesel(sql_type = Jsonb)]
    pub headers: serde_json::Value,
    /// The version that wrote its value.
    #[diesel(sql_type = Nullable<Int8>)]
    pub value_schema: Option<i64>,
    /// The version that wrote its key.
    #[diesel(sql_type = Nullable<Int8>)]
    pub key_schema: Option<i64>,
    /// Its value as it was mended.
    #[diesel(sql_type = Nullable<Binary>)]
    pub mended: Option<Vec<u8>>,
    /// What was being done.
    #[diesel(sql_type = Text)]
    pub step: String,
    /// What was found.
    #[diesel(sql_type = Text)]
    pub finding: String,
    /// The fingerprint of what went wrong.
    #[diesel(sql_type = Int8)]
    pub cause: i64,
    /// The version of the connector's configuration.
    #[diesel(sql_type = Int4)]
    pub version: i32,
    /// `waiting`, `asked`, `delivered`, `discarded` or `superseded`.
    #[diesel(sql_type = Text)]
    pub state: String,
    /// How often it was tried again.
    #[diesel(sql_type = Int4)]
    pub tries: i32,
    /// How many a second are to be tried at most, if it is asked for.
    #[diesel(sql_type = Nullable<Int4>)]
    pub pace: Option<i32>,
    /// When it came.
    #[diesel(sql_type = Timestamptz)]
    pub put_at: DateTime<Utc>,
    /// When it was settled.
    #[diesel(sql_type = Nullable<Timestamptz>)]
    pub settled_at: Option<DateTime<Utc>>,
    /// Who settled it.
    #[diesel(sql_type = Nullable<Text>)]
    pub settled_by: Option<String>,
    /// Why it was discarded.
    #[diesel(sql_type = Nullable<Text>)]
    pub reason: Option<String>,
    /// When it will be forgotten.
    #[diesel(sql_type = Timestamptz)]
    pub expires_at: DateTime<Utc>,
}

const KEPT: &str = "SELECT id, connector_id, topic_id, topic, partition, record_offset, timestamp_us, key, value, headers, \
     value_schema, key_schema, mended, step, finding, cause, version, state, tries, pace, put_at, settled_at, settled_by, \
     reason, expires_at FROM quarantine";

/// Which records are meant.
#[derive(Debug, Clone)]
pub enum Which {
    /// These.
    Ids(Vec<i64>),
    /// All of a cause that wait.
    Cause(ConnectorId, i64),
    /// All of a connector that wait.
    All(ConnectorId),
}

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
    /// The record as it stands in its topic.
    #[must_use]
    pub fn record(&self) -> Record {
        Record {
            key: self.key.clone().map(Bytes::from),
            value: self.value.clone().map(Bytes::from),
            headers: headers_from_json(&self.headers),
            timestamp_us: self.timestamp_us,
            schema: self.value_schema.map(SchemaId),
            key_schema: self.key_schema.map(SchemaId),
        }
    }

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

/// Headers as they are kept: their bytes in base64.
fn headers_to_json(headers: &[Header]) -> serde_json::Value {
    use base64::Engine as _;
    let encode = |h: &Header| serde_json::json!([h.name, base64::engine::general_purpose::STANDARD.encode(&h.value)]);
    headers.iter().map(encode).collect()
}

/// Headers as they were kept.
fn headers_from_json(headers: &serde_json::Value) -> Vec<Header> {
    use base64::Engine as _;
    let decode = |pair: &serde_json::Value| {
        let value = base64::engine::general_purpose::STANDARD.decode(pair.get(1)?.as_str()?).ok()?;
        Some(Header { name: pair.get(0)?.as_str()?.to_owned(), value: value.into() })
    };
    headers.as_array().map(|list| list.iter().filter_map(decode).collect()).unwrap_or_default()
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

/// Takes the lanes whose records are meant, before the records: in the order in which their holders take both, so that neither waits for
/// the other in a circle.
async fn lanes_first(connection: &mut AsyncPgConnection, which: &Which) -> QueryResult<()> {
    let (ids, connector, _) = which.columns();
    diesel::sql_query(
        "SELECT FROM lanes WHERE connector_id = $2 OR connector_id IN (SELECT connector_id FROM quarantine WHERE id = ANY ($1)) \
         ORDER BY connector_id, lane FOR NO KEY UPDATE",
    )
    .bind::<Nullable<Array<Int8>>, _>(ids)
    .bind::<Nullable<SqlUuid>, _>(connector)
    .execute(connection)
    .await
    .map(|_| ())
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

    /// What waits in quarantine, by connector and cause, the most recent first.
    ///
    /// # Errors
    /// [`PortError::TryAgain`].
    pub async fn causes(&self, connector: Option<ConnectorId>) -> Result<Vec<Cause>, PortError> {
        let mut connection = self.connection().await?;
        diesel::sql_query(
            "SELECT g.*, n.step, n.finding, \
               ARRAY(SELECT coalesce(h.count, 0) FROM generate_series(23, 0, -1) AS hour LEFT JOIN \
                 (SELECT floor(extract(epoch FROM clock_timestamp() - put_at) / 3600)::int AS hour, count(*) FROM quarantine q \
                  WHERE q.connector_id = g.connector_id AND q.cause = g.cause AND q.state IN ('waiting', 'asked') GROUP BY 1) h \
                 USING (hour) ORDER BY hour DESC) AS by_hour \
             FROM (SELECT connector_id, cause, max(id) AS newest, array_agg(DISTINCT topic) AS topics, \
                     count(*) FILTER (WHERE state = 'waiting') AS waiting, count(*) FILTER (WHERE state = 'asked') AS asked, \
                     min(put_at) AS first_at, max(put_at) AS last_at, min(expires_at) AS expires_at \
                   FROM quarantine WHERE state IN ('waiting', 'asked') AND ($1 IS NULL OR connector_id = $1) \
                   GROUP BY connector_id, cause) g JOIN quarantine n ON n.id = g.newest ORDER BY g.last_at DESC",
        )
        .bind::<Nullable<SqlUuid>, _>(connector.map(|c| c.0))
        .load(&mut connection)
        .await
        .map_err(failed("grouping what waits in quarantine"))
    }

    /// How many records wait, by connector.
    ///
    /// # Errors
    /// [`PortError::TryAgain`].
    pub async fn quarantine_counts(&self) -> Result<HashMap<Uuid, i64>, PortError> {
        let mut connection = self.connection().await?;
        let counts: Vec<CountOf> = diesel::sql_query(
            "SELECT connector_id, count(*) AS count FROM quarantine WHERE state IN ('waiting', 'asked') GROUP BY 1",
        )
        .load(&mut connection)
        .await
        .map_err(failed("counting what waits in quarantine"))?;
        Ok(counts.into_iter().map(|c| (c.connector_id, c.count)).collect())
    }

    /// Records in quarantine in order of their numbers, after one, of a connector, a cause and a state where those are given.
    ///
    /// # Errors
    /// [`PortError::TryAgain`].
    pub async fn quarantined(
        &self,
        connector: Option<ConnectorId>,
        cause: Option<i64>,
        states: &[&str],
        after: i64,
        most: i64,
    ) -> Result<Vec<Kept>, PortError> {
        let mut connection = self.connection().await?;
        diesel::sql_query(format!(
            "{KEPT} WHERE ($1 IS NULL OR connector_id = $1) AND ($2 IS NULL OR cause = $2) AND state = ANY ($3) AND id > $4 \
             ORDER BY id LIMIT $5"
        ))
        .bind::<Nullable<SqlUuid>, _>(connector.map(|c| c.0))
        .bind::<Nullable<Int8>, _>(cause)
        .bind::<Array<Text>, _>(states)
        .bind::<Int8, _>(after)
        .bind::<Int8, _>(most)
        .load(&mut connection)
        .await
        .map_err(failed("listing records in quarantine"))
    }

    /// One record in quarantine.
    ///
    /// # Errors
    /// [`PortError::NotFound`].
    pub async fn quarantined_record(&self, id: i64) -> Result<Kept, PortError> {
        let mut connection = self.connection().await?;
        diesel::sql_query(format!("{KEPT} WHERE id = $1"))
            .bind::<Int8, _>(id)
            .get_result(&mut connection)
            .await
            .optional()
            .map_err(failed("reading a record in quarantine"))?
            .ok_or_else(|| PortError::NotFound { what: format!("record {id} in quarantine") })
    }

    /// Gives a record that waits another value, with which it is tried again; none takes that back.
    ///
    /// # Errors
    /// [`PortError::Refused`] if it does not wait any more.
    pub async fn mend(&self, id: i64, value: Option<&[u8]>) -> Result<(), PortError> {
        let mut connection = self.connection().await?;
        let mended = diesel::sql_query("UPDATE quarantine SET mended = $2 WHERE id = $1 AND state = 'waiting'")
            .bind::<Int8, _>(id)
            .bind::<Nullable<Binary>, _>(value)
            .execute(&mut connection)
            .await
            .map_err(failed("mending a record in quarantine"))?;
        if mended == 1 {
            return Ok(());
        }
        drop(connection);
        let state = self.quarantined_record(id).await?.state;
        Err(PortError::Refused(format!("the record does not wait any more: it is {state}")))
    }

    /// How many of these wait, and the number of the newest; 0 where none does.
    ///
    /// # Errors
    /// [`PortError::TryAgain`].
    pub async fn count_waiting(&self, which: &Which) -> Result<(i64, i64), PortError> {
        let (ids, connector, cause) = which.columns();
        let mut connection = self.connection().await?;
        let found = diesel::sql_query(
            "SELECT count(*) AS count, coalesce(max(id), 0) AS newest FROM quarantine WHERE state = 'waiting' AND ($1 IS NULL OR id = ANY ($1)) \
               AND ($2 IS NULL OR connector_id = $2) AND ($3 IS NULL OR cause = $3)",
        )
        .bind::<Nullable<Array<Int8>>, _>(ids)
        .bind::<Nullable<SqlUuid>, _>(connector)
        .bind::<Nullable<Int8>, _>(cause)
        .get_result::<Waiting>(&mut connection)
        .await;
        found.map(|found| (found.count, found.newest)).map_err(failed("counting records in quarantine"))
    }

    /// Asks for records that wait to be tried again, so many a second at most; gives how many are asked for.
    ///
    /// # Errors
    /// [`PortError::TryAgain`].
    pub async fn retry(&self, which: &Which, pace: Option<i32>) -> Result<usize, PortError> {
        let (ids, connector, cause) = which.columns();
        let mut connection = self.connection().await?;
        let asked = connection.transaction::<usize, diesel::result::Error, _>(async |c| {
            lanes_first(c, which).await?;
            let asked = diesel::sql_query(
                "WITH asked AS (UPDATE quarantine SET state = 'asked', pace = $4 WHERE state = 'waiting' AND ($1 IS NULL OR id = ANY ($1)) \
                   AND ($2 IS NULL OR connector_id = $2) AND ($3 IS NULL OR cause = $3) RETURNING connector_id), \
                 told AS (UPDATE lanes SET mending = mending + 1 WHERE connector_id IN (SELECT connector_id FROM asked)) \
                 SELECT count(*) AS count FROM asked",
            )
            .bind::<Nullable<Array<Int8>>, _>(ids)
            .bind::<Nullable<SqlUuid>, _>(connector)
            .bind::<Nullable<Int8>, _>(cause)
            .bind::<Nullable<Int4>, _>(pace)
            .get_result::<Count>(c)
            .await?;
            Ok(usize::try_from(asked.count).unwrap_or(0))
        });
        asked.await.map_err(failed("asking for records to be tried again"))
    }

    /// Gives records up that wait, up to the one of a number, for a reason; gives how many.
    ///
    /// # Errors
    /// [`PortError::TryAgain`].
    pub async fn discard(&self, which: &Which, newest: i64, who: &str, reason: &str) -> Result<usize, PortError> {
        let (ids, connector, cause) = which.columns();
        let mut connection = self.connection().await?;
        let discarded = connection.transaction::<usize, diesel::result::Error, _>(async |c| {
            lanes_first(c, which).await?;
            diesel::sql_query(
                "UPDATE quarantine SET state = 'discarded', settled_at = clock_timestamp(), settled_by = $4, reason = $5 \
                 WHERE state = 'waiting' AND ($1 IS NULL OR id = ANY ($1)) AND ($2 IS NULL OR connector_id = $2) \
                   AND ($3 IS NULL OR cause = $3) AND id <= $6",
            )
            .bind::<Nullable<Array<Int8>>, _>(ids)
            .bind::<Nullable<SqlUuid>, _>(connector)
            .bind::<Nullable<Int8>, _>(cause)
            .bind::<Text, _>(who)
            .bind::<Text, _>(reason)
            .bind::<Int8, _>(newest)
            .execute(c)
            .await
        });
        discarded.await.map_err(failed("discarding records in quarantine"))
    }
}

#[derive(QueryableByName)]
struct CountOf {
    #[diesel(sql_type = SqlUuid)]
    connector_id: Uuid,
    #[diesel(sql_type = Int8)]
    count: i64,
}

#[derive(QueryableByName)]
struct Waiting {
    #[diesel(sql_type = Int8)]
    count: i64,
    #[diesel(sql_type = Int8)]
    newest: i64,
}

#[derive(QueryableByName)]
struct Count {
    #[diesel(sql_type = Int8)]
    count: i64,
}

impl Which {
    fn columns(&self) -> (Option<Vec<i64>>, Option<Uuid>, Option<i64>) {
        match self {
            Self::Ids(ids) => (Some(ids.clone()), None, None),
            Self::Cause(connector, cause) => (None, Some(connector.0), Some(*cause)),
            Self::All(connector) => (None, Some(connector.0), None),
        }
    }
}

/// Forgets what was kept as long as it was to be.
pub(crate) async fn expire(database: &Database) -> Result<usize, PortError> {
    let mut connection = database.connection().await?;
    diesel::sql_query("DELETE FROM quarantine WHERE expires_at < clock_timestamp()")
        .execute(&mut connection)
        .await
        .map_err(failed("forgetting records in quarantine"))
}
