//! Changes from one real database through the topic log into another, against the whole truth: the tables themselves.
#![allow(clippy::cast_precision_loss, reason = "counts far below 2^52")]

use std::collections::BTreeMap;
use std::time::{Duration, Instant};

use crate::support::{TABLES, World, loads, topic_changes, write};
use gonvel_core::connector::{State, Wish};
use gonvel_core::naming::TopicName;
use gonvel_core::ports::TopicLog;

/// Waits until a topic has records.
async fn until_begun(world: &World, topic: &str) {
    let (name, start) = (TopicName::parse(topic).unwrap(), Instant::now());
    loop {
        if let Ok(topic) = world.database.topic(&name).await
            && world.database.bounds(topic.id).await.unwrap().iter().any(|bounds| bounds.next.0 > 0)
        {
            return;
        }
        assert!(start.elapsed() < Duration::from_secs(30), "{topic} has no record");
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_load_under_changes_and_restarts_makes_one_copy() {
    let _ = tracing_subscriber::fmt().with_env_filter("gonvel=debug").with_test_writer().try_init();
    let mut world = World::new().await;
    let source = world.cluster.connect("packhouse").await.unwrap();
    let target = world.cluster.connect("settlement").await.unwrap();
    source
        .batch_execute(&format!(
            "{TABLES} CREATE SEQUENCE numbers;
             INSERT INTO bins SELECT n, n % 500 / 10.0, 'second', repeat('r', 2500), '2026-10-01', n % 60 FROM generate_series(1, 12000) n;
             INSERT INTO lines SELECT n, 1, n % 9 / 10.0 FROM generate_series(1, 5000) n"
        ))
        .await
        .unwrap();
    let mut writers = Vec::new();
    for seed in 1..=3 {
        let client = world.cluster.connect("packhouse").await.unwrap();
        writers.push(tokio::spawn(write(client, 250, seed)));
    }
    world.load.chunks = 3;
    world.told = Some("packhouse.columns".into());
    let (source_id, sink_id) = world.flow(&["bins", "lines"], 3).await;
    // runners come and go, some without giving their leases back
    for round in 0..5_u64 {
        let fleet = world.fleet();
        tokio::time::sleep(Duration::from_millis(300 + 250 * round)).await;
        if round == 1 {
            // in the middle of the load, which has rows of both shapes then; on a slow machine it has not begun yet
            until_begun(&world, "packhouse.bins").await;
            source.batch_execute("ALTER TABLE bins ADD COLUMN ripeness_index numeric(4,2)").await.unwrap();
        }
        if round % 2 == 0 { fleet.stop().await } else { drop(fleet) }
    }
    let fleet = world.fleet();
    for writer in writers {
        writer.await.unwrap();
    }
    source.batch_execute("UPDATE bins SET ripeness_index = 0.25 WHERE id % 3 = 0").await.unwrap();
    world.until_equal(&source, &target, &["bins", "lines"]).await;

    // rows were read in both shapes and in any order; the change of the columns happened once
    let told = topic_changes(&world.database, "packhouse.columns").await;
    let statements: Vec<&str> = told.iter().map(|t| t["statement"].as_str().unwrap()).collect();
    assert_eq!(statements, [r#"ALTER TABLE "public"."bins" ADD COLUMN "ripeness_index" numeric(4,2);"#]);

    // the topic folds to the same rows, and no row came twice
    let mut folded: BTreeMap<i64, serde_json::Value> = BTreeMap::new();
    let mut came = BTreeMap::<i64, u32>::new();
    let changes = topic_changes(&world.database, "packhouse.bins").await;
    for change in &changes {
        let id = |image: &str| change[image]["id"].as_i64();
        match change["change"].as_str().unwrap() {
            "delete" => {
                folded.remove(&id("old").unwrap());
                came.remove(&id("old").unwrap());
            }
            kind => {
                let id = id("new").unwrap();
                if kind != "update" {
                    *came.entry(id).or_default() += 1;
                }
                let mut new = change["new"].clone();
                for column in change["unchanged"].as_array().unwrap() {
                    let column = column.as_str().unwrap();
                    if let Some(before) = folded.get(&id) {
                        new[column] = before[column].clone();
                    }
                }
                folded.insert(id, new);
            }
        }
    }
    let expected = source.query("SELECT id, length(remark), grade FROM bins ORDER BY id", &[]).await.unwrap();
    assert_eq!(folded.len(), expected.len());
    for row in expected {
        let new = &folded[&row.get::<_, i64>(0)];
        assert_eq!(new["remark"].as_str().map(str::len), row.get::<_, Option<i32>>(1).and_then(|n| usize::try_from(n).ok()));
        assert_eq!(new["grade"].as_str(), row.get::<_, Option<&str>>(2));
    }
    let twice: Vec<_> = came.iter().filter(|(_, n)| **n > 1).collect();
    let incomplete = loads(&changes);
    let (rows, some) = (twice.len(), &twice[..twice.len().min(10)]);
    assert!(twice.is_empty() && incomplete > 0, "{rows} rows came more than once, such as {some:?}");

    source.batch_execute("TRUNCATE lines; INSERT INTO lines VALUES (1, 1, 1.5)").await.unwrap();
    world.until_equal(&source, &target, &["bins", "lines"]).await;
    let found = world.database.find_connector(source_id).await.unwrap();
    assert_eq!(found.said().next().unwrap().state, State::Following);

    // nothing outside is left behind
    for id in [sink_id, source_id] {
        world.database.ask(id, Wish::Delete, "").await.unwrap();
    }
    let start = Instant::now();
    while !world.database.connectors().await.unwrap().is_empty() {
        assert!(start.elapsed() < Duration::from_secs(20), "the connectors are still there");
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
    let left: i64 = source
        .query_one("SELECT (SELECT count(*) FROM pg_replication_slots) + (SELECT count(*) FROM pg_publication)", &[])
        .await
        .unwrap()
        .get(0);
    assert_eq!(left, 0);
    let own: bool = target.query_one("SELECT to_regnamespace('gonvel') IS NULL", &[]).await.unwrap().get(0);
    assert!(own, "Gonvel's schema is still in the target");
    fleet.stop().await;
}
