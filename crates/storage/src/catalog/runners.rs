//! Runners, and the plan that shares lanes out among them.

use std::collections::HashMap;
use std::time::Duration;

use async_trait::async_trait;
use chrono::{DateTime, Utc};
use diesel::prelude::*;
use diesel::sql_types::{Array, BigInt, Bool, Double, Int4, Int8, Jsonb, Nullable, Text, Timestamptz, Uuid as SqlUuid};
use diesel_async::{AsyncConnection, RunQueryDsl};
use gonvel_core::connector::Placing;
use gonvel_core::naming::{ConnectorId, Epoch, RunnerName};
use gonvel_core::planning::{self, Labels, PlannedLane, PlannedRunner, Waiting};
use gonvel_core::ports::{Assigned, Beaten, Heartbeat, HeldLane, PortError, Runner, RunnerStore};
use uuid::Uuid;

use super::connectors::wish_of;
use crate::Database;
use crate::failing::failed;

/// The lock that makes one process the planner.
const PLANNER: i64 = 0x676f_6e76_656c_0002;

#[derive(QueryableByName)]
struct RunnerRow {
    #[diesel(sql_type = Text)]
    name: String,
    #[diesel(sql_type = SqlUuid)]
    instance: Uuid,
    #[diesel(sql_type = Jsonb)]
    labels: serde_json::Value,
    #[diesel(sql_type = Int4)]
    room: i32,
    #[diesel(sql_type = Text)]
    host: String,
    #[diesel(sql_type = Text)]
    release: String,
    #[diesel(sql_type = Bool)]
    draining: bool,
    #[diesel(sql_type = Timestamptz)]
    started_at: DateTime<Utc>,
    #[diesel(sql_type = Timestamptz)]
    beat_at: DateTime<Utc>,
    #[diesel(sql_type = Bool)]
    alive: bool,
}

const RUNNERS: &str = "SELECT name, instance, labels, room, host, release, draining, started_at, beat_at, \
     alive_until > clock_timestamp() AS alive FROM runners ORDER BY name";

#[derive(QueryableByName)]
struct LaneRow {
    #[diesel(sql_type = SqlUuid)]
    connector_id: Uuid,
    #[diesel(sql_type = Int4)]
    lane: i32,
    #[diesel(sql_type = Nullable<Text>)]
    runner: Option<String>,
    #[diesel(sql_type = Nullable<Text>)]
    waits: Option<String>,
    #[diesel(sql_type = Nullable<Jsonb>)]
    placing: Option<serde_json::Value>,
    /// Labels of the runners that reach its system.
    #[diesel(sql_type = Nullable<Jsonb>)]
    reached_from: Option<serde_json::Value>,
}

impl LaneRow {
    /// Where it is to be carried: what is said of the connector goes before what is said of its connection.
    fn placing(&self) -> Placing {
        let mut placing: Placing = self.placing.clone().and_then(|p| serde_json::from_value(p).ok()).unwrap_or_default();
        let reached_from: Option<Labels> = self.reached_from.clone().and_then(|labels| serde_json::from_value(labels).ok());
        for (name, value) in reached_from.unwrap_or_default() {
            placing.only_where.entry(name).or_insert(value);
        }
        placing
    }
}

/// The lanes that are to be carried. One that is stopped has no place.
const LANES: &str = "SELECT l.connector_id, l.lane, l.runner, l.waits, c.definition -> 'placing' AS placing, \
     k.given -> 'only_where' AS reached_from \
     FROM lanes l JOIN connectors c ON c.id = l.connector_id LEFT JOIN connections k ON k.id = c.connection_id WHERE c.wish IN ('run', 'pause', 'delete') ORDER BY 1, 2";

#[derive(QueryableByName)]
struct AssignedRow {
    #[diesel(sql_type = SqlUuid)]
    connector_id: Uuid,
    #[diesel(sql_type = Int4)]
    lane: i32,
    #[diesel(sql_type = Text)]
    wish: String,
    #[diesel(sql_type = Int8)]
    asked: i64,
    #[diesel(sql_type = Int4)]
    version: i32,
    #[diesel(sql_type = Int8)]
    mending: i64,
    #[diesel(sql_type = Bool)]
    others_held: bool,
}

#[derive(QueryableByName)]
struct Lost {
    #[diesel(sql_type = SqlUuid)]
    connector_id: Uuid,
    #[diesel(sql_type = Int4)]
    lane: i32,
    #[diesel(sql_type = Int8)]
    epoch: i64,
}

#[derive(QueryableByName)]
struct Yes {
    #[diesel(sql_type = Bool)]
    yes: bool,
}

#[async_trait]
impl RunnerStore for Database {
    async fn beat(&self, heartbeat: &Heartbeat, ttl: Duration) -> Result<Beaten, PortError> {
        let labels = serde_json::to_value(&heartbeat.labels).map_err(|e| PortError::Refused(e.to_string()))?;
        let mut connection = self.connection().await?;
        // a process that beats for the first time takes the name; one whose name was taken since finds another instance
        let beaten = diesel::sql_query(
            "UPDATE runners SET beat_at = clock_timestamp(), alive_until = clock_timestamp() + make_interval(secs => $3), \
             labels = $4, room = $5 WHERE name = $1 AND instance = $2",
        )
        .bind::<Text, _>(heartbeat.name.as_str())
        .bind::<SqlUuid, _>(heartbeat.instance)
        .bind::<Double, _>(ttl.as_secs_f64())
        .bind::<Jsonb, _>(&labels)
        .bind::<Int4, _>(i32::try_from(heartbeat.room).unwrap_or(i32::MAX))
        .execute(&mut connection)
        .await
        .map_err(failed("a runner's heartbeat"))?;
        if beaten == 1 {
            return Ok(Beaten::Alive);
        }
        // forgotten while it was away, or the database came back older than it was: nobody else has the name
        let other: Option<Yes> =
            diesel::sql_query("SELECT alive_until > clock_timestamp() AS yes FROM runners WHERE name = $1")
                .bind::<Text, _>(heartbeat.name.as_str())
                .get_result(&mut connection)
                .await
                .optional()
                .map_err(failed("a runner's heartbeat"))?;
        drop(connection);
        if other.is_some_and(|other| other.yes) {
            return Ok(Beaten::Replaced);
        }
        self.join(heartbeat, ttl).await?;
        Ok(Beaten::Alive)
    }

    async fn join(&self, heartbeat: &Heartbeat, ttl: Duration) -> Result<(), PortError> {
        let labels = serde_json::to_value(&heartbeat.labels).map_err(|e| PortError::Refused(e.to_string()))?;
        let mut connection = self.connection().await?;
        diesel::sql_query(
            "INSERT INTO runners (name, instance, labels, room, host, release, alive_until) \
             VALUES ($1, $2, $3, $4, $5, $6, clock_timestamp() + make_interval(secs => $7)) \
             ON CONFLICT (name) DO UPDATE SET instance = EXCLUDED.instance, labels = EXCLUDED.labels, room = EXCLUDED.room, \
               host = EXCLUDED.host, release = EXCLUDED.release, draining = false, started_at = now(), beat_at = now(), \
               alive_until = EXCLUDED.alive_until",
        )
        .bind::<Text, _>(heartbeat.name.as_str())
        .bind::<SqlUuid, _>(heartbeat.instance)
        .bind::<Jsonb, _>(&labels)
        .bind::<Int4, _>(i32::try_from(heartbeat.room).unwrap_or(i32::MAX))
        .bind::<Text, _>(&heartbeat.host)
        .bind::<Text, _>(&heartbeat.release)
        .bind::<Double, _>(ttl.as_secs_f64())
        .execute(&mut connection)
        .await
        .map_err(failed("registering a runner"))?;
        Ok(())
    }

    async fn leave(&self, name: &RunnerName, instance: Uuid) -> Result<(), PortError> {
        let mut connection = self.connection().await?;
        diesel::sql_query("UPDATE runners SET alive_until = clock_timestamp() WHERE name = $1 AND instance = $2")
            .bind::<Text, _>(name.as_str())
            .bind::<SqlUuid, _>(instance)
            .execute(&mut connection)
            .await
            .map_err(failed("a runner's end"))?;
        Ok(())
    }

    async fn runners(&self) -> Result<Vec<Runner>, PortError> {
        let mut connection = self.connection().await?;
        let rows: Vec<RunnerRow> =
            diesel::sql_query(RUNNERS).load(&mut connection).await.map_err(failed("listing runners"))?;
        let lanes: Vec<LaneRow> =
            diesel::sql_query(LANES).load(&mut connection).await.map_err(failed("listing lanes by runner"))?;
        let mut by_runner: HashMap<String, Vec<(ConnectorId, i32, u32)>> = HashMap::new();
        for lane in &lanes {
            if let Some(runner) = &lane.runner {
                let carried = (ConnectorId(lane.connector_id), lane.lane, lane.placing().weight);
                by_runner.entry(runner.clone()).or_default().push(carried);
            }
        }
        rows.into_iter()
            .map(|row| {
                let lanes = by_runner.remove(&row.name).unwrap_or_default();
                Ok(Runner {
                    said: Heartbeat {
                        name: RunnerName::parse(row.name).map_err(|e| PortError::Refused(e.to_string()))?,
                        instance: row.instance,
                        labels: serde_json::from_value(row.labels).unwrap_or_default(),
                        room: u32::try_from(row.room).unwrap_or(1),
                        host: row.host,
                        release: row.release,
                    },
                    started_us: row.started_at.timestamp_micros(),
                    beat_us: row.beat_at.timestamp_micros(),
                    alive: row.alive,
                    draining: row.draining,
                    lanes,
                })
            })
            .collect()
    }

    async fn drain(&self, name: &RunnerName, draining: bool) -> Result<(), PortError> {
        let mut connection = self.connection().await?;
        let changed = diesel::sql_query("UPDATE runners SET draining = $2 WHERE name = $1")
            .bind::<Text, _>(name.as_str())
            .bind::<Bool, _>(draining)
            .execute(&mut connection)
            .await
            .map_err(failed("emptying a runner"))?;
        if changed == 0 { Err(PortError::NotFound { what: format!("runner {name}") }) } else { Ok(()) }
    }

    async fn forget_runner(&self, name: &RunnerName) -> Result<(), PortError> {
        let mut connection = self.connection().await?;
        let forgotten = diesel::sql_query("DELETE FROM runners WHERE name = $1 AND alive_until <= clock_timestamp()")
            .bind::<Text, _>(name.as_str())
            .execute(&mut connection)
            .await
            .map_err(failed("forgetting a runner"))?;
        if forgotten == 1 {
            return Ok(());
        }
        let there = diesel::sql_query("SELECT EXISTS (SELECT FROM runners WHERE name = $1) AS yes")
            .bind::<Text, _>(name.as_str())
            .get_result::<Yes>(&mut connection)
            .await
            .map_err(failed("looking for a runner"))?;
        Err(if there.yes {
            PortError::Refused(format!("the runner {name} is alive: stop its process first"))
        } else {
            PortError::NotFound { what: format!("runner {name}") }
        })
    }

    async fn share_out(&self) -> Result<(), PortError> {
        let mut connection = self.connection().await?;
        let shared = connection.transaction::<(), diesel::result::Error, _>(async |c| {
            let planner: Yes = diesel::sql_query("SELECT pg_try_advisory_xact_lock($1) AS yes")
                .bind::<BigInt, _>(PLANNER)
                .get_result(c)
                .await?;
            if !planner.yes {
                return Ok(());
            }
            diesel::sql_query("DELETE FROM runners WHERE alive_until < now() - interval '1 day'").execute(c).await?;
            let runners: Vec<RunnerRow> = diesel::sql_query(RUNNERS).load(c).await?;
            let lanes: Vec<LaneRow> = diesel::sql_query(LANES).load(c).await?;
            let runners: Vec<PlannedRunner> = runners
                .into_iter()
                .filter(|r| r.alive)
                .map(|r| PlannedRunner {
                    name: r.name,
                    labels: serde_json::from_value(r.labels).unwrap_or_default(),
                    room: u32::try_from(r.room).unwrap_or(1),
                    draining: r.draining,
                })
                .collect();
            let planned: Vec<PlannedLane> = lanes
                .iter()
                .map(|l| {
                    let placing = l.placing();
                    PlannedLane {
                        connector: ConnectorId(l.connector_id),
                        lane: l.lane,
                        weight: placing.weight,
                        only_where: placing.only_where,
                        with: l.runner.clone(),
                    }
                })
                .collect();
            let (mut ids, mut numbers, mut with, mut waits) = (vec![], vec![], vec![], vec![]);
            for (row, placed) in lanes.iter().zip(planning::plan(&planned, &runners)) {
                let (runner, waiting) = match placed {
                    Ok(place) => (Some(runners[place].name.clone()), None),
                    Err(waiting @ (Waiting::NoRunner | Waiting::Labels(_) | Waiting::Room)) => {
                        (None, Some(waiting.to_string()))
                    }
                };
                if runner != row.runner || waiting != row.waits {
                    ids.push(row.connector_id);
                    numbers.push(row.lane);
                    with.push(runner);
                    waits.push(waiting);
                }
            }
            if ids.is_empty() {
                return Ok(());
            }
            diesel::sql_query(
                "WITH a AS MATERIALIZED (SELECT l.connector_id, l.lane, a.runner, a.waits FROM lanes l \
                   JOIN unnest($1, $2, $3, $4) AS a(id, lane, runner, waits) ON l.connector_id = a.id AND l.lane = a.lane \
                   ORDER BY 1, 2 FOR NO KEY UPDATE OF l) \
                 UPDATE lanes l SET runner = a.runner, waits = a.waits FROM a WHERE l.connector_id = a.connector_id AND l.lane = a.lane",
            )
            .bind::<Array<SqlUuid>, _>(ids)
            .bind::<Array<Int4>, _>(numbers)
            .bind::<Array<Nullable<Text>>, _>(with)
            .bind::<Array<Nullable<Text>>, _>(waits)
            .execute(c)
            .await?;
            Ok(())
        });
        shared.await.map_err(failed("sharing out lanes"))
    }

    async fn assigned(&self, name: &RunnerName) -> Result<Vec<Assigned>, PortError> {
        let mut connection = self.connection().await?;
        let rows: Vec<AssignedRow> = diesel::sql_query(
            "SELECT l.connector_id, l.lane, c.wish, (c.asked::bigint << 20) + l.asked AS asked, c.version, l.mending, \
               c.wish = 'delete' AND EXISTS (SELECT FROM lanes o WHERE o.connector_id = l.connector_id AND o.lane <> l.lane \
                 AND o.holder IS NOT NULL AND o.expires_at > clock_timestamp()) AS others_held \
             FROM lanes l JOIN connectors c ON c.id = l.connector_id \
             WHERE l.runner = $1 AND c.wish IN ('run', 'pause', 'delete') ORDER BY c.created_at, l.lane",
        )
        .bind::<Text, _>(name.as_str())
        .load(&mut connection)
        .await
        .map_err(failed("reading a runner's lanes"))?;
        let assigned = |row: AssignedRow| Assigned {
            connector: ConnectorId(row.connector_id),
            lane: row.lane,
            wish: wish_of(&row.wish),
            asked: row.asked,
            version: row.version,
            mending: row.mending,
            others_held: row.others_held,
        };
        Ok(rows.into_iter().map(assigned).collect())
    }

    async fn renew(&self, held: &[HeldLane], ttl: Duration) -> Result<Vec<HeldLane>, PortError> {
        let mut connection = self.connection().await?;
        let lost: Vec<Lost> = diesel::sql_query(
            "WITH held AS (SELECT * FROM unnest($1, $2, $3) AS h(connector_id, lane, epoch)), \
             own AS MATERIALIZED (SELECT l.connector_id, l.lane FROM lanes l JOIN held h USING (connector_id, lane) \
               WHERE l.epoch = h.epoch AND l.holder IS NOT NULL ORDER BY 1, 2 FOR NO KEY UPDATE OF l), \
             renewed AS (UPDATE lanes l SET expires_at = clock_timestamp() + make_interval(secs => $4) FROM own o \
               WHERE l.connector_id = o.connector_id AND l.lane = o.lane RETURNING l.connector_id, l.lane) \
             SELECT connector_id, lane, epoch FROM held h WHERE NOT EXISTS \
               (SELECT FROM renewed r WHERE r.connector_id = h.connector_id AND r.lane = h.lane)",
        )
        .bind::<Array<SqlUuid>, _>(held.iter().map(|h| h.connector.0).collect::<Vec<_>>())
        .bind::<Array<Int4>, _>(held.iter().map(|h| h.lane).collect::<Vec<_>>())
        .bind::<Array<Int8>, _>(held.iter().map(|h| h.epoch.0).collect::<Vec<_>>())
        .bind::<Double, _>(ttl.as_secs_f64())
        .load(&mut connection)
        .await
        .map_err(failed("renewing leases"))?;
        let lost = lost.into_iter();
        Ok(lost.map(|l| HeldLane { connector: ConnectorId(l.connector_id), lane: l.lane, epoch: Epoch(l.epoch) }).collect())
    }
}
