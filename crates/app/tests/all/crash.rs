//! The whole program, killed without warning again and again while a day at the packhouse goes on, and its own database
//! with it, from the initial load on, in which columns come, one of them with a value in every row, and another becomes wider: in the
//! end the target holds the source's rows, folding each topic gives the same, and no change stands twice in a topic.
#![allow(clippy::cast_precision_loss, reason = "counts far below 2^52")]

use std::collections::HashMap;
use std::time::{Duration, Instant};

use crate::support::Gonvel;
use crate::support::checks::{no_change_stands_twice, rows};
use gonvel_stand_ins::packhouse::seed::seed;
use gonvel_stand_ins::packhouse::workload::Day;
use gonvel_stand_ins::postgres_cluster::{OWNER, free_port};
use gonvel_stand_ins::test_cluster::TestCluster;
use serde_json::{Value, json};

const TABLES: [&str; 3] = ["growers", "blocks", "bins"];

async fn build_flow(gonvel: &Gonvel, cluster: &TestCluster) {
    let mut ids = HashMap::new();
    for name in ["packhouse", "settlement"] {
        let body = json!({"name": name, "host": "127.0.0.1", "port": cluster.port, "database": name, "user": OWNER,
            "password": cluster.password});
        ids.insert(name, gonvel.post("/connections", body).await["id"].clone());
    }
    let tables: Vec<Value> =
        TABLES.iter().map(|t| json!({"schema": "public", "table": t, "topic": format!("packhouse.{t}")})).collect();
    let source = json!({"kind": "source", "connection": ids["packhouse"], "tables": tables, "partitions": 3});
    let sink = json!({"kind": "sink", "connection": ids["settlement"], "topics": tables});
    gonvel.post("/connectors", json!({"name": "packhouse-changes", "definition": source, "start": true})).await;
    gonvel.post("/connectors", json!({"name": "settlement-tables", "definition": sink, "start": true})).await;
}

async fn until_equal(cluster: &TestCluster, gonvel: &Gonvel) {
    let start = Instant::now();
    for table in TABLES {
        while rows(cluster, "packhouse", table).await != rows(cluster, "settlement", table).await {
            if start.elapsed() > Duration::from_secs(90) {
                panic!("{table} is not equal: {:#}", gonvel.list("/connectors").await.unwrap_or_default());
            }
            tokio::time::sleep(Duration::from_millis(200)).await;
        }
    }
}

/// Everything that is easily lost: key changes, deletes, rollbacks, several changes of a row in a transaction.
async fn trouble(client: tokio_postgres::Client, steps: i64) {
    for step in 0..steps {
        let id = 1 + step * 37 % 900;
        let statement = match step % 5 {
            0 => format!("UPDATE growers SET id = id + 10000 WHERE id = {id}"),
            1 => format!(
                "BEGIN; UPDATE growers SET name = 'never' WHERE id % 7 = 0; DELETE FROM growers WHERE id = {id}; ROLLBACK"
            ),
            2 => format!(
                "BEGIN; UPDATE growers SET district = 'a' WHERE id = {id}; UPDATE growers SET district = 'b' WHERE id = {id}; COMMIT"
            ),
            3 => format!(
                "DELETE FROM growers WHERE id = {} + 10000 AND NOT EXISTS (SELECT 1 FROM blocks WHERE grower_id = growers.id)",
                id - 74
            ),
            _ => format!("INSERT INTO growers (id, name) VALUES ({}, 'new')", 30_000 + step),
        };
        if client.batch_execute(&statement).await.is_err() {
            let _ = client.batch_execute("ROLLBACK").await;
        }
        tokio::time::sleep(Duration::from_millis(5)).await;
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn killed_at_any_moment_it_neither_loses_nor_repeats() {
    let mut cluster = TestCluster::start(&["gonvel", "packhouse", "settlement"]).await;
    let folder = tempfile::tempdir().unwrap();
    let port = free_port().unwrap();
    let mut packhouse = cluster.connect("packhouse").await.unwrap();
    seed(&mut packhouse).await.unwrap();
    // fewer rows than the demo: what matters are the moments, not the amount
    packhouse.batch_execute("DELETE FROM bins WHERE id > 20000").await.unwrap();
    let mut gonvel = Gonvel::serve(&cluster, folder.path(), port).await;
    let day = Day::begin(&cluster.url("packhouse"), 150).await.unwrap();
    let troubling = tokio::spawn(trouble(cluster.connect("packhouse").await.unwrap(), 400));
    build_flow(&gonvel, &cluster).await;
    for (number, pause_ms) in [40, 350, 90, 600, 180, 1100, 20, 800].into_iter().enumerate() {
        tokio::time::sleep(Duration::from_millis(pause_ms)).await;
        // while the tables load, and are killed with it
        if number == 1 {
            packhouse.batch_execute("ALTER TABLE bins ADD COLUMN ripeness numeric(4,2)").await.unwrap();
            packhouse.batch_execute("UPDATE bins SET ripeness = 0.5 WHERE id % 9 = 0").await.unwrap();
        }
        if number == 2 {
            // all rows have another value than was carried of them
            packhouse.batch_execute("ALTER TABLE blocks ADD COLUMN region text NOT NULL DEFAULT 'north'").await.unwrap();
            packhouse.batch_execute("UPDATE blocks SET region = 'south' WHERE id % 50 = 0").await.unwrap();
        }
        if number == 3 {
            packhouse.batch_execute("ALTER TABLE bins ALTER weight_kg TYPE numeric(9,1)").await.unwrap();
        }
        gonvel.kill();
        gonvel = Gonvel::serve(&cluster, folder.path(), port).await;
    }
    troubling.await.unwrap();
    day.end();
    tokio::time::sleep(Duration::from_millis(300)).await;
    cluster.crash_and_restart().await;
    let day = Day::begin(&cluster.url("packhouse"), 150).await.unwrap();
    tokio::time::sleep(Duration::from_secs(2)).await;
    day.end();
    tokio::time::sleep(Duration::from_millis(300)).await;
    until_equal(&cluster, &gonvel).await;
    let mut changes = 0;
    for table in TABLES {
        let (there, _) = rows(&cluster, "packhouse", table).await.unwrap();
        // blocks are loaded again for their column, and bins where they were written anew before their load was over
        let again = table != "growers";
        changes += no_change_stands_twice(&gonvel, &format!("packhouse.{table}"), there, again).await;
    }
    assert!(changes > 24_000, "{changes}");
}
