//! The served program's memory through one transaction of millions of changes, captured and delivered.

use std::time::{Duration, Instant};

use gonvel_stand_ins::postgres_cluster::OWNER;
use serde_json::json;

use crate::report::Measured;
use crate::served::Served;
use crate::world::{Outcome, World};

const CHANGES: i64 = 5_000_000;
const LIMIT_MIB: f64 = 300.0;

pub async fn run() -> Outcome<Measured> {
    let world = World::start(&["packhouse", "settlement"]).await?;
    world
        .sql("packhouse", "CREATE TABLE readings (id bigint PRIMARY KEY, room int, celsius numeric(4,1), label text)")
        .await?;
    let served = Served::start(&world).await?;
    let mut connections = Vec::new();
    for name in ["packhouse", "settlement"] {
        let body = json!({"name": name, "host": "127.0.0.1", "port": world.cluster_of(name).port, "database": name, "user": OWNER,
            "password": world.cluster_of(name).password});
        connections.push(served.post("/connections", body).await?["id"].clone());
    }
    let table = json!({"schema": "public", "table": "readings", "topic": "packhouse.readings"});
    let source = json!({"kind": "source", "connection": connections[0], "tables": [table], "partitions": 3});
    let sink = json!({"kind": "sink", "connection": connections[1], "topics": [table]});
    for (name, definition) in [("source", source), ("sink", sink)] {
        served.post("/connectors", json!({"name": name, "definition": definition, "start": true})).await?;
    }
    tokio::time::sleep(Duration::from_secs(2)).await;
    let before = served.memory()?;
    let client = world.connect("packhouse").await?;
    let fill = format!(
        "INSERT INTO readings SELECT n, n % 60, (n % 300) / 10.0, 'probe ' || n % 1000 FROM generate_series(1, {CHANGES}) n"
    );
    let filling = tokio::spawn(async move { client.batch_execute(&fill).await });
    let settlement = world.connect("settlement").await?;
    let (start, mut peak) = (Instant::now(), before);
    loop {
        peak = peak.max(served.memory()?);
        let sum = "SELECT coalesce(sum(next_offset), 0)::bigint FROM gonvel.sink_positions";
        if settlement.query_one(sum, &[]).await.is_ok_and(|row| row.get::<_, i64>(0) >= CHANGES) {
            break;
        }
        if start.elapsed() > Duration::from_secs(900) {
            return Err("the transaction does not arrive".into());
        }
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    filling.await??;
    world.until_true("settlement", &format!("SELECT count(*) = {CHANGES} FROM readings")).await?;
    Ok(Measured {
        name: "huge-transaction",
        what: "memory of the server through one transaction of 5,000,000 changes, captured and delivered, against a limit of 300 MiB",
        ratio: LIMIT_MIB / peak,
        goal: 1.0,
        detail: format!("{before:.0} MiB before, {peak:.0} MiB at most, {:.0} s", start.elapsed().as_secs_f64()),
    })
}
