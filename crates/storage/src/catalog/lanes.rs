//! Lanes: leases with epochs, positions and what lanes say of themselves.

use std::time::Duration;

use diesel::prelude::*;
use diesel::sql_types::{BigInt, Double, Integer, Jsonb, Text, Uuid as SqlUuid};
use diesel_async::RunQueryDsl;
use gonvel_core::naming::{ConnectorId, Epoch};
use gonvel_core::ports::{LaneStatus, Lease, PortError};

use crate::Database;
use crate::failing::failed;
use crate::schema::lanes;

#[derive(QueryableByName)]
struct Taken {
    #[diesel(sql_type = BigInt)]
    epoch: i64,
    #[diesel(sql_type = Jsonb)]
    position: serde_json::Value,
}

pub(super) async fn acquire(
    database: &Database,
    connector: ConnectorId,
    lane: i32,
    runner: &str,
    ttl: Duration,
) -> Result<Option<Lease>, PortError> {
    let ground = database.ground.now();
    let mut connection = database.connection().await?;
    let taken: Option<Taken> = diesel::sql_query(
        "UPDATE lanes SET epoch = nextval('lane_epochs'), holder = $3, expires_at = clock_timestamp() + make_interval(secs => $4) \
         WHERE connector_id = $1 AND lane = $2 AND (holder IS NULL OR holder = $3 OR expires_at < clock_timestamp()) \
         RETURNING epoch, position",
    )
    .bind::<SqlUuid, _>(connector.0)
    .bind::<Integer, _>(lane)
    .bind::<Text, _>(runner)
    .bind::<Double, _>(ttl.as_secs_f64())
    .get_result(&mut connection)
    .await
    .optional()
    .map_err(failed("taking a lease"))?;
    if let Some(taken) = taken {
        return Ok(Some(Lease { epoch: Epoch(taken.epoch), position: taken.position, ground }));
    }
    let there: i64 = lanes::table
        .find((connector.0, lane))
        .count()
        .get_result(&mut connection)
        .await
        .map_err(failed("looking for a lane"))?;
    if there == 0 {
        return Err(PortError::NotFound { what: format!("lane {lane} of connector {connector}") });
    }
    Ok(None)
}

#[derive(QueryableByName)]
struct Given {
    #[diesel(sql_type = BigInt)]
    last_value: i64,
}

pub(super) async fn latest_term(database: &Database) -> Result<Epoch, PortError> {
    let mut connection = database.connection().await?;
    let given: Given = diesel::sql_query("SELECT last_value FROM lane_epochs")
        .get_result(&mut connection)
        .await
        .map_err(failed("looking for the latest lease"))?;
    Ok(Epoch(given.last_value))
}

pub(super) async fn position(
    database: &Database,
    connector: ConnectorId,
    lane: i32,
) -> Result<Option<serde_json::Value>, PortError> {
    let mut connection = database.connection().await?;
    lanes::table
        .find((connector.0, lane))
        .select(lanes::position)
        .first(&mut connection)
        .await
        .optional()
        .map_err(failed("reading a lane's position"))
}

pub(super) async fn release(database: &Database, connector: ConnectorId, lane: i32, epoch: Epoch) -> Result<(), PortError> {
    let mut connection = database.connection().await?;
    // a later epoch: what this holder may still have under way is refused
    diesel::sql_query(
        "UPDATE lanes SET holder = NULL, epoch = nextval('lane_epochs') WHERE connector_id = $1 AND lane = $2 AND epoch = $3",
    )
    .bind::<SqlUuid, _>(connector.0)
    .bind::<Integer, _>(lane)
    .bind::<BigInt, _>(epoch.0)
    .execute(&mut connection)
    .await
        .map_err(failed("giving back a lease"))?;
    Ok(())
}

pub(super) async fn save_status(
    database: &Database,
    connector: ConnectorId,
    lane: i32,
    epoch: Epoch,
    status: &LaneStatus,
) -> Result<(), PortError> {
    let status = serde_json::to_value(status).map_err(|e| PortError::Refused(e.to_string()))?;
    let mut connection = database.connection().await?;
    diesel::update(lanes::table.find((connector.0, lane)).filter(lanes::epoch.eq(epoch.0)))
        .set(lanes::status.eq(status))
        .execute(&mut connection)
        .await
        .map_err(failed("noting a lane's state"))?;
    Ok(())
}
