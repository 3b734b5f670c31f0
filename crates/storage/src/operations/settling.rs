//! How far operations are, as lanes and records say it; what ends those that nobody does any more.

use diesel::prelude::*;
use diesel::sql_types::{BigInt, Bool, Jsonb, Nullable, Text, Uuid as SqlUuid};
use diesel_async::RunQueryDsl;
use gonvel_core::connector::State;
use gonvel_core::ports::{LaneStatus, PortError};
use serde_json::{Value, json};
use uuid::Uuid;

use super::{Ended, Operation};
use crate::Database;
use crate::failing::failed;

/// A server that has not said for so long that it does an operation does it no more.
const DESERTED: &str = "10 seconds";

/// Where an operation stands that lanes do.
#[derive(Debug, Default)]
struct Stands {
    done: i64,
    total: Option<i64>,
    waits: Option<String>,
    result: Value,
    ended: Option<Ended>,
}

#[derive(QueryableByName)]
struct ByState {
    #[diesel(sql_type = Text)]
    state: String,
    #[diesel(sql_type = BigInt)]
    count: i64,
}

#[derive(QueryableByName)]
struct Asked {
    #[diesel(sql_type = Text)]
    wish: String,
    #[diesel(sql_type = Bool)]
    leaves_remains: bool,
    #[diesel(sql_type = Nullable<Jsonb>)]
    status: Option<Value>,
}

/// What a connector is asked, and what its lanes say together.
struct Connector {
    wish: String,
    leaves_remains: bool,
    says: Option<LaneStatus>,
}

impl Connector {
    /// Why nothing moves.
    fn waits(&self) -> Option<String> {
        let says = self.says.as_ref();
        match (self.wish.as_str(), says.map(|says| says.state)) {
            ("pause", _) => Some("the connector is paused: start it".into()),
            ("stop" | "draft", _) => Some("the connector is stopped: start it".into()),
            (_, Some(State::Halted | State::Retrying)) => says.and_then(|says| says.reason.clone()),
            _ => None,
        }
    }
}

fn gone() -> Ended {
    Ended::Failed(json!({"code": "gone"}))
}

impl Database {
    /// Looks how far operations are; whether any is being done.
    ///
    /// # Errors
    /// [`PortError::TryAgain`].
    pub async fn settle_operations(&self) -> Result<bool, PortError> {
        let running: Vec<Operation> = {
            let mut connection = self.connection().await?;
            // the results of those that a server does may be large, and are not looked at
            let running = diesel::sql_query(
                "SELECT id, kind, says, who, subject, connector_id, asked, state, cancelling, done, total, waits, result - 'steps' AS result, \
                   problem, began_at, ended_at FROM operations WHERE state = 'running'",
            );
            running.load(&mut connection).await.map_err(failed("looking for operations"))?
        };
        for operation in &running {
            let stands = match operation.kind.as_str() {
                "delete" => self.deleting(operation).await?,
                "load_again" => self.loading_again(operation).await?,
                "retry" => self.retrying(operation).await?,
                _ => continue,
            };
            self.note(operation, &stands).await?;
            if let Some(how) = &stands.ended {
                self.end_operation(operation.id, how).await?;
            }
        }
        if !running.is_empty() {
            self.end_deserted().await?;
        }
        Ok(!running.is_empty())
    }

    /// Forgets operations that ended more than a week ago.
    pub(crate) async fn forget_operations(&self) -> Result<usize, PortError> {
        let mut connection = self.connection().await?;
        let forget = diesel::sql_query("DELETE FROM operations WHERE ended_at < now() - interval '7 days'");
        forget.execute(&mut connection).await.map_err(failed("forgetting operations"))
    }

    async fn end_deserted(&self) -> Result<(), PortError> {
        let mut connection = self.connection().await?;
        let deserted = json!({"code": "deserted"});
        diesel::sql_query(format!(
            "UPDATE operations SET state = 'failed', problem = $1, ended_at = clock_timestamp() \
             WHERE state = 'running' AND kind IN ('apply', 'import') AND moved_at < now() - interval '{DESERTED}'"
        ))
        .bind::<Jsonb, _>(deserted)
        .execute(&mut connection)
        .await
        .map(|_| ())
        .map_err(failed("ending operations that nobody does"))
    }

    async fn note(&self, operation: &Operation, stands: &Stands) -> Result<(), PortError> {
        let mut connection = self.connection().await?;
        diesel::sql_query(
            "UPDATE operations SET done = $2, total = $3, waits = $4, result = result || $5 WHERE id = $1 AND state = 'running' \
             AND (done, total, waits, result) IS DISTINCT FROM ($2, $3, $4, result || $5)",
        )
        .bind::<SqlUuid, _>(operation.id)
        .bind::<BigInt, _>(stands.done)
        .bind::<Nullable<BigInt>, _>(stands.total)
        .bind::<Nullable<Text>, _>(&stands.waits)
        .bind::<Jsonb, _>(if stands.result.is_null() { json!({}) } else { stands.result.clone() })
        .execute(&mut connection)
        .await
        .map(|_| ())
        .map_err(failed("telling how far an operation is"))
    }

    async fn asked_of(&self, id: Option<Uuid>) -> Result<Option<Connector>, PortError> {
        let Some(id) = id else { return Ok(None) };
        let mut connection = self.connection().await?;
        let lanes: Vec<Asked> = diesel::sql_query(
            "SELECT c.wish, c.leaves_remains, l.status FROM connectors c LEFT JOIN lanes l ON l.connector_id = c.id WHERE c.id = $1",
        )
        .bind::<SqlUuid, _>(id)
        .load(&mut connection)
        .await
        .map_err(failed("looking what lanes say"))?;
        let Some(first) = lanes.as_slice().first() else { return Ok(None) };
        let (wish, leaves_remains) = (first.wish.clone(), first.leaves_remains);
        let says: Vec<LaneStatus> = lanes.into_iter().filter_map(|lane| serde_json::from_value(lane.status?).ok()).collect();
        Ok(Some(Connector { wish, leaves_remains, says: LaneStatus::together(&says) }))
    }

    async fn deleting(&self, operation: &Operation) -> Result<Stands, PortError> {
        let Some(connector) = self.asked_of(operation.connector_id).await? else {
            return Ok(Stands { done: 1, total: Some(1), ended: Some(Ended::Done), ..Stands::default() });
        };
        let waits = if connector.leaves_remains { None } else { connector.waits() };
        Ok(Stands { total: Some(1), waits, ..Stands::default() })
    }

    async fn loading_again(&self, operation: &Operation) -> Result<Stands, PortError> {
        let Some(connector) = self.asked_of(operation.connector_id).await? else {
            return Ok(Stands { done: operation.done, total: operation.total, ended: Some(gone()), ..Stands::default() });
        };
        let number = operation.asked["number"].as_i64().unwrap_or(0);
        let tables: Vec<&str> =
            operation.asked["tables"].as_array().into_iter().flatten().filter_map(Value::as_str).collect();
        let waits = connector.waits();
        let Some(says) = connector.says.filter(|says| says.reloaded >= number) else {
            return Ok(Stands { total: operation.total, waits, ..Stands::default() });
        };
        let of = says.tables.iter().filter(|(name, _)| tables.contains(&name.as_str())).map(|(_, table)| table);
        let (mut done, mut total, mut loading) = (0, 0, false);
        for table in of {
            loading |= table.load_done.is_some() || table.load_total.is_some();
            done += i64::try_from(table.load_done.unwrap_or(0)).unwrap_or(0);
            total += i64::try_from(table.load_total.unwrap_or(0)).unwrap_or(0);
        }
        // a lane that does not run says nothing of tables that it found by their names
        if !loading && matches!(says.state, State::Loading | State::Following) {
            // one that was over before it was looked at has no figure
            let (done, total) = (operation.total.unwrap_or(0), operation.total);
            return Ok(Stands { done, total, ended: Some(Ended::Done), ..Stands::default() });
        }
        // how many rows there are is an estimate; a table that is through counts no more
        let total = operation.total.unwrap_or(0).max(total).max(done);
        Ok(Stands { done: done.max(operation.done), total: (total > 0).then_some(total), waits, ..Stands::default() })
    }

    async fn retrying(&self, operation: &Operation) -> Result<Stands, PortError> {
        let counts: Vec<ByState> = {
            let mut connection = self.connection().await?;
            diesel::sql_query("SELECT state, count(*) AS count FROM quarantine WHERE operation_id = $1 GROUP BY state")
                .bind::<SqlUuid, _>(operation.id)
                .load(&mut connection)
                .await
                .map_err(failed("counting what was tried again"))?
        };
        let of = |state: &str| counts.iter().find(|by| by.state == state).map_or(0, |by| by.count);
        let total = operation.total.unwrap_or(0);
        let connector = self.asked_of(operation.connector_id).await?;
        let is_gone = operation.connector_id.is_some() && connector.is_none();
        let ended = match (of("asked"), is_gone) {
            (_, true) => Some(gone()),
            (0, _) => Some(Ended::Done),
            _ => None,
        };
        let result = json!({
            "delivered": of("delivered"), "superseded": of("superseded"), "discarded": of("discarded"), "waiting": of("waiting")
        });
        let waits = connector.and_then(|connector| connector.waits());
        Ok(Stands { done: total - of("asked"), total: Some(total), waits, result, ended })
    }

    /// Takes back that tables be loaded again, if their lane has not begun; whether it had not.
    pub(super) async fn take_back_reload(&self, operation: &Operation) -> Result<bool, PortError> {
        let number = operation.asked["number"].as_i64().unwrap_or(0);
        let mut connection = self.connection().await?;
        let taken = diesel::sql_query(
            "DELETE FROM reloads r USING lanes l WHERE r.number = $1 AND l.connector_id = r.connector_id AND l.lane = 0 \
             AND l.holder IS NULL AND coalesce((l.position->>'reloaded')::bigint, 0) < $1",
        );
        let taken = taken.bind::<BigInt, _>(number).execute(&mut connection).await;
        Ok(taken.map_err(failed("taking back a load"))? > 0)
    }

    /// Has records wait that were asked for by an operation and have not been tried yet.
    pub(super) async fn take_back_retry(&self, operation: &Operation) -> Result<(), PortError> {
        let stands = self.retrying(operation).await?;
        self.note(operation, &stands).await?;
        let mut connection = self.connection().await?;
        diesel::sql_query("UPDATE quarantine SET state = 'waiting', pace = NULL WHERE operation_id = $1 AND state = 'asked'")
            .bind::<SqlUuid, _>(operation.id)
            .execute(&mut connection)
            .await
            .map(|_| ())
            .map_err(failed("taking back that records be tried again"))
    }
}
