//! Work that takes longer than a request: what is done, how far it is, how it ended.
//!
//! A server does it (`apply`, `import`) and says all the while that it does; or a connector's lanes do (`delete`, `load_again`, `retry`),
//! and what they say tells how far they are: see [`Database::settle_operations`].

mod settling;

use chrono::{DateTime, Utc};
use diesel::prelude::*;
use diesel::sql_types::{BigInt, Bool, Jsonb, Nullable, Text, Timestamptz, Uuid as SqlUuid};
use diesel_async::{AsyncConnection, AsyncPgConnection, RunQueryDsl};
use gonvel_core::naming::ConnectorId;
use gonvel_core::ports::PortError;
use serde_json::Value;
use uuid::Uuid;

use crate::Database;
use crate::failing::failed;

/// How many that have ended are shown.
const MOST_SHOWN: i64 = 1_000;

/// What is to be done.
#[derive(Debug, Clone)]
pub struct NewOperation<'a> {
    /// Of which kind it is.
    pub kind: &'a str,
    /// What it does, as a sentence.
    pub says: &'a str,
    /// Who asks for it.
    pub who: &'a str,
    /// What it is done with.
    pub subject: Option<Value>,
    /// The connector whose lanes do it; none if a server does.
    pub connector: Option<ConnectorId>,
    /// How much there is to do, where that is known.
    pub total: Option<i64>,
    /// What of its result is known before.
    pub result: Value,
}

/// Work that takes longer than a request.
#[derive(Debug, Clone, QueryableByName)]
pub struct Operation {
    /// Its id.
    #[diesel(sql_type = SqlUuid)]
    pub id: Uuid,
    /// Of which kind it is.
    #[diesel(sql_type = Text)]
    pub kind: String,
    /// What it does, as a sentence.
    #[diesel(sql_type = Text)]
    pub says: String,
    /// Who asked for it; empty if that is not known.
    #[diesel(sql_type = Text)]
    pub who: String,
    /// What it is done with.
    #[diesel(sql_type = Nullable<Jsonb>)]
    pub subject: Option<Value>,
    /// The connector whose lanes do it.
    #[diesel(sql_type = Nullable<SqlUuid>)]
    pub connector_id: Option<Uuid>,
    /// What they were asked for.
    #[diesel(sql_type = Jsonb)]
    asked: Value,
    /// `running`, `done`, `failed` or `cancelled`.
    #[diesel(sql_type = Text)]
    pub state: String,
    /// Whether it is to end early.
    #[diesel(sql_type = Bool)]
    pub cancelling: bool,
    /// How much is done.
    #[diesel(sql_type = BigInt)]
    pub done: i64,
    /// Of how much.
    #[diesel(sql_type = Nullable<BigInt>)]
    pub total: Option<i64>,
    /// What it waits for.
    #[diesel(sql_type = Nullable<Text>)]
    pub waits: Option<String>,
    /// What came of it so far.
    #[diesel(sql_type = Jsonb)]
    pub result: Value,
    /// Why it failed.
    #[diesel(sql_type = Nullable<Jsonb>)]
    pub problem: Option<Value>,
    /// When it began.
    #[diesel(sql_type = Timestamptz)]
    pub began_at: DateTime<Utc>,
    /// When it ended.
    #[diesel(sql_type = Nullable<Timestamptz>)]
    pub ended_at: Option<DateTime<Utc>>,
}

/// How an operation ended.
#[derive(Debug, Clone, PartialEq)]
pub enum Ended {
    /// All is done.
    Done,
    /// It failed, as a problem document tells.
    Failed(Value),
    /// Someone cancelled it.
    Cancelled,
}

#[derive(QueryableByName)]
struct Cancelling {
    #[diesel(sql_type = Bool)]
    cancelling: bool,
}

/// Begins an operation in the transaction of what it asks for.
pub(crate) async fn begin_on(
    database: &Database,
    c: &mut AsyncPgConnection,
    new: &NewOperation<'_>,
    asked: &Value,
) -> QueryResult<Uuid> {
    let id = Uuid::now_v7();
    diesel::sql_query(
        "INSERT INTO operations (id, kind, says, who, subject, connector_id, total, result, asked) \
         VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9)",
    )
    .bind::<SqlUuid, _>(id)
    .bind::<Text, _>(new.kind)
    .bind::<Text, _>(new.says)
    .bind::<Text, _>(new.who)
    .bind::<Nullable<Jsonb>, _>(&new.subject)
    .bind::<Nullable<SqlUuid>, _>(new.connector.map(|c| c.0))
    .bind::<Nullable<BigInt>, _>(new.total)
    .bind::<Jsonb, _>(&new.result)
    .bind::<Jsonb, _>(asked)
    .execute(c)
    .await?;
    database.note_made(c, &id.to_string()).await?;
    Ok(id)
}

/// Notes how much there is to do, in the transaction that found it.
pub(crate) async fn has_total(c: &mut AsyncPgConnection, id: Uuid, total: i64) -> QueryResult<()> {
    diesel::sql_query("UPDATE operations SET total = $2 WHERE id = $1")
        .bind::<SqlUuid, _>(id)
        .bind::<BigInt, _>(total)
        .execute(c)
        .await
        .map(|_| ())
}

fn missing(id: Uuid) -> PortError {
    PortError::NotFound { what: format!("operation {id}: those that ended are forgotten after a week") }
}

impl Database {
    /// Begins an operation that a server does.
    ///
    /// # Errors
    /// [`PortError::TryAgain`].
    pub async fn begin_operation(&self, new: &NewOperation<'_>) -> Result<Uuid, PortError> {
        let mut connection = self.connection().await?;
        let begun = connection.transaction(async |c| begin_on(self, c, new, &Value::Null).await);
        begun.await.map_err(failed("beginning an operation"))
    }

    /// Operations, the newest first: all that are being done, and the newest of those that ended. Without the steps in their results,
    /// which may be thousands.
    ///
    /// # Errors
    /// [`PortError::TryAgain`].
    pub async fn operations(&self) -> Result<Vec<Operation>, PortError> {
        let mut connection = self.connection().await?;
        diesel::sql_query(
            "SELECT id, kind, says, who, subject, connector_id, asked, state, cancelling, done, total, waits, result - 'steps' AS result, \
               problem, began_at, ended_at FROM operations \
             WHERE state = 'running' OR id IN (SELECT id FROM operations WHERE state <> 'running' ORDER BY id DESC LIMIT $1) \
             ORDER BY id DESC",
        )
        .bind::<BigInt, _>(MOST_SHOWN)
        .load(&mut connection)
        .await
        .map_err(failed("listing operations"))
    }

    /// One operation.
    ///
    /// # Errors
    /// [`PortError::NotFound`].
    pub async fn operation(&self, id: Uuid) -> Result<Operation, PortError> {
        let mut connection = self.connection().await?;
        let found = diesel::sql_query("SELECT * FROM operations WHERE id = $1").bind::<SqlUuid, _>(id);
        let found: Option<Operation> =
            found.get_result(&mut connection).await.optional().map_err(failed("reading an operation"))?;
        found.ok_or_else(|| missing(id))
    }

    /// Says how far an operation is that this process does; whether it is to end early.
    ///
    /// # Errors
    /// [`PortError::NotFound`] if it ended meanwhile: another process took this one for dead.
    pub async fn move_operation(&self, id: Uuid, done: i64, total: Option<i64>, result: &Value) -> Result<bool, PortError> {
        let mut connection = self.connection().await?;
        let moved: Option<Cancelling> = diesel::sql_query(
            "UPDATE operations SET done = $2, total = $3, result = $4, moved_at = now() WHERE id = $1 AND state = 'running' \
             RETURNING cancelling",
        )
        .bind::<SqlUuid, _>(id)
        .bind::<BigInt, _>(done)
        .bind::<Nullable<BigInt>, _>(total)
        .bind::<Jsonb, _>(result)
        .get_result(&mut connection)
        .await
        .optional()
        .map_err(failed("telling how far an operation is"))?;
        moved.map(|moved| moved.cancelling).ok_or_else(|| missing(id))
    }

    /// Whether an operation that is being done is to end early.
    ///
    /// # Errors
    /// [`PortError::NotFound`] if it ended meanwhile.
    pub async fn operation_is_cancelled(&self, id: Uuid) -> Result<bool, PortError> {
        let mut connection = self.connection().await?;
        let found: Option<Cancelling> =
            diesel::sql_query("SELECT cancelling FROM operations WHERE id = $1 AND state = 'running'")
                .bind::<SqlUuid, _>(id)
                .get_result(&mut connection)
                .await
                .optional()
                .map_err(failed("looking whether an operation is cancelled"))?;
        found.map(|found| found.cancelling).ok_or_else(|| missing(id))
    }

    /// Says that this process does an operation still.
    ///
    /// # Errors
    /// [`PortError::TryAgain`].
    pub async fn keep_operation(&self, id: Uuid) -> Result<(), PortError> {
        let mut connection = self.connection().await?;
        diesel::sql_query("UPDATE operations SET moved_at = now() WHERE id = $1 AND state = 'running'")
            .bind::<SqlUuid, _>(id)
            .execute(&mut connection)
            .await
            .map(|_| ())
            .map_err(failed("telling that an operation goes on"))
    }

    /// Ends an operation, if it has not ended yet.
    ///
    /// # Errors
    /// [`PortError::TryAgain`].
    pub async fn end_operation(&self, id: Uuid, how: &Ended) -> Result<(), PortError> {
        let (state, problem) = match how {
            Ended::Done => ("done", None),
            Ended::Failed(problem) => ("failed", Some(problem)),
            Ended::Cancelled => ("cancelled", None),
        };
        let mut connection = self.connection().await?;
        diesel::sql_query(
            "UPDATE operations SET state = $2, problem = $3, waits = NULL, ended_at = clock_timestamp() \
             WHERE id = $1 AND state = 'running'",
        )
        .bind::<SqlUuid, _>(id)
        .bind::<Text, _>(state)
        .bind::<Nullable<Jsonb>, _>(problem)
        .execute(&mut connection)
        .await
        .map(|_| ())
        .map_err(failed("ending an operation"))
    }

    /// Asks that an operation end early. One that lanes do ends at once if they have not begun.
    ///
    /// # Errors
    /// [`PortError::NotFound`]; [`PortError::Refused`] if it has ended, or cannot be cancelled any more.
    pub async fn cancel_operation(&self, id: Uuid) -> Result<(), PortError> {
        let operation = self.operation(id).await?;
        let refused = |why: &str| Err(PortError::Refused(why.into()));
        if operation.state != "running" {
            return refused("it has ended: there is nothing to cancel");
        }
        match operation.kind.as_str() {
            "delete" => {
                refused("what a connector left in its system is being removed: make the connector anew if it is needed")
            }
            "load_again" => {
                if self.take_back_reload(&operation).await? {
                    self.end_operation(id, &Ended::Cancelled).await
                } else {
                    refused("its rows are being loaded: pause the connector to hold it")
                }
            }
            "retry" => {
                self.take_back_retry(&operation).await?;
                self.end_operation(id, &Ended::Cancelled).await
            }
            _ => {
                let mut connection = self.connection().await?;
                let asked = diesel::sql_query("UPDATE operations SET cancelling = true WHERE id = $1 AND state = 'running'");
                let asked = asked.bind::<SqlUuid, _>(id).execute(&mut connection).await;
                asked.map(|_| ()).map_err(failed("cancelling an operation"))
            }
        }
    }
}
