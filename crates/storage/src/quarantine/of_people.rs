//! What people see of quarantine, by cause, and ask of it.

use std::collections::HashMap;

use chrono::{DateTime, Utc};
use diesel::prelude::*;
use diesel::sql_types::{Array, Binary, Int4, Int8, Nullable, Text, Timestamptz, Uuid as SqlUuid};
use diesel_async::{AsyncConnection, AsyncPgConnection, RunQueryDsl};
use gonvel_core::naming::ConnectorId;
use gonvel_core::ports::PortError;
use uuid::Uuid;

use super::{KEPT, Kept};
use crate::Database;
use crate::failing::failed;
use crate::operations::{NewOperation, begin_on, has_total};

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

/// Those that are meant and wait: of these numbers, of a connector, of a cause of it.
const THESE: &str = "state = 'waiting' AND ($1 IS NULL OR id = ANY ($1)) AND ($2 IS NULL OR connector_id = $2) \
     AND ($3 IS NULL OR cause = $3)";

impl Which {
    fn columns(&self) -> (Option<Vec<i64>>, Option<Uuid>, Option<i64>) {
        match self {
            Self::Ids(ids) => (Some(ids.clone()), None, None),
            Self::Cause(connector, cause) => (None, Some(connector.0), Some(*cause)),
            Self::All(connector) => (None, Some(connector.0), None),
        }
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

impl Database {
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
        let found = diesel::sql_query(format!(
            "SELECT count(*) AS count, coalesce(max(id), 0) AS newest FROM quarantine WHERE {THESE}"
        ))
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
        Ok(usize::try_from(self.retry_as(which, pace, None).await?.0).unwrap_or(0))
    }

    /// The same as an operation; gives its id too.
    ///
    /// # Errors
    /// [`PortError::TryAgain`].
    pub async fn retry_as(
        &self,
        which: &Which,
        pace: Option<i32>,
        new: Option<&NewOperation<'_>>,
    ) -> Result<(i64, Option<Uuid>), PortError> {
        let (ids, connector, cause) = which.columns();
        let mut connection = self.connection().await?;
        let asked = connection.transaction::<_, diesel::result::Error, _>(async |c| {
            lanes_first(c, which).await?;
            let id = match new {
                Some(new) => Some(begin_on(self, c, new, &serde_json::Value::Null).await?),
                None => None,
            };
            let asked = diesel::sql_query(format!(
                "WITH asked AS (UPDATE quarantine SET state = 'asked', pace = $4, operation_id = $5 WHERE {THESE} RETURNING connector_id), \
                 told AS (UPDATE lanes SET mending = mending + 1 WHERE connector_id IN (SELECT connector_id FROM asked)) \
                 SELECT count(*) AS count FROM asked"
            ))
            .bind::<Nullable<Array<Int8>>, _>(ids)
            .bind::<Nullable<SqlUuid>, _>(connector)
            .bind::<Nullable<Int8>, _>(cause)
            .bind::<Nullable<Int4>, _>(pace)
            .bind::<Nullable<SqlUuid>, _>(id)
            .get_result::<Count>(c)
            .await?;
            if let Some(id) = id {
                has_total(c, id, asked.count).await?;
            }
            Ok((asked.count, id))
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
            diesel::sql_query(format!(
                "UPDATE quarantine SET state = 'discarded', settled_at = clock_timestamp(), settled_by = $4, reason = $5 \
                 WHERE {THESE} AND id <= $6"
            ))
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
