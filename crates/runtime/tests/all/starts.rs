//! Where connectors begin: with what is kept longest, now, at a time, at a position, where another stands.

use std::time::{Duration, Instant};

use crate::support::{World, rows, topic_changes};
use gonvel_core::civil::rfc3339;
use gonvel_core::connector::{SourceDefinition, Start, StartOffset, State};
use tokio_postgres::Client;

/// Ids of the rows that the changes of a topic brought, in order of their partition.
async fn ids(world: &World, topic: &str) -> Vec<i64> {
    let changes = topic_changes(&world.database, topic).await;
    changes.iter().map(|c| c["new"]["id"].as_i64().unwrap()).collect()
}

async fn until_ids(world: &World, topic: &str, expected: &[i64]) {
    let start = Instant::now();
    while ids(world, topic).await != expected {
        assert!(start.elapsed() < Duration::from_secs(20), "{topic}: {:?}, not {expected:?}", ids(world, topic).await);
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
}

async fn insert(source: &Client, id: i64) {
    source.execute("INSERT INTO bins VALUES ($1, 'first')", &[&id]).await.unwrap();
}

fn now() -> String {
    rfc3339(chrono::Utc::now().timestamp_micros())
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_source_begins_where_it_is_told_as_far_as_a_slot_keeps_the_log() {
    let world = World::new().await;
    let source = world.cluster.connect("packhouse").await.unwrap();
    source
        .batch_execute("CREATE TABLE bins (id bigint PRIMARY KEY, grade text); CREATE TABLE rooms (id int PRIMARY KEY)")
        .await
        .unwrap();
    let fleet = world.fleet();
    let definition = |topic: &str, start: Option<Start>, base: &SourceDefinition| {
        let mut definition = SourceDefinition { start, ..base.clone() };
        definition.load.rows = false;
        definition.tables[0].topic = topic.into();
        definition
    };
    let base = world.source(&["bins"], 1).await;
    let first = world.connector("first", definition("first", None, &base)).await;
    world.until_state(first, State::Following).await;
    insert(&source, 1).await;
    until_ids(&world, "first", &[1]).await;
    // from here on the first one keeps the log: it is paused
    world.database.ask(first, gonvel_core::connector::Wish::Pause, "").await.unwrap();
    world.until_state(first, State::Paused).await;
    insert(&source, 2).await;
    tokio::time::sleep(Duration::from_millis(20)).await;
    let time = now();
    tokio::time::sleep(Duration::from_millis(20)).await;
    let position: String = source.query_one("SELECT pg_current_wal_insert_lsn()::text", &[]).await.unwrap().get(0);
    insert(&source, 3).await;

    let starts = [
        ("earliest", Some(Start::Earliest {}), vec![2, 3, 4, 5]),
        ("time", Some(Start::Time { time }), vec![3, 4, 5]),
        ("position", Some(Start::Position { position }), vec![3, 4, 5]),
        ("other", Some(Start::Connector { connector: first.0 }), vec![2, 3, 4, 5]),
        ("latest", Some(Start::Latest {}), vec![4, 5]),
    ];
    let mut made = Vec::new();
    for (name, start, _) in &starts {
        let id = world.connector(name, definition(name, start.clone(), &base)).await;
        world.until_state(id, State::Following).await;
        made.push(id);
    }
    insert(&source, 4).await;
    for (name, _, expected) in &starts {
        until_ids(&world, name, &expected[..expected.len() - 1]).await;
    }
    // started anew, by their own publications, they go on where they stand; also after the lender is gone
    world.database.ask(first, gonvel_core::connector::Wish::Delete, "").await.unwrap();
    world.database.start_anew(&made).await.unwrap();
    insert(&source, 5).await;
    for (name, _, expected) in &starts {
        until_ids(&world, name, expected).await;
    }

    // a table that the lender did not capture, and a position that no slot keeps
    let mut more = definition("more", Some(Start::Earliest {}), &base);
    more.tables = world.source(&["rooms"], 1).await.tables;
    let id = world.connector("more", more).await;
    let reason = world.until_state(id, State::Halted).await;
    assert!(reason.contains("does not capture public.rooms"), "{reason}");
    let gone = definition("gone", Some(Start::Position { position: "0/1".into() }), &base);
    let id = world.connector("gone", gone).await;
    let reason = world.until_state(id, State::Halted).await;
    assert!(reason.contains("no longer reaches back"), "{reason}");
    fleet.stop().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_load_beside_a_start_in_the_past_makes_one_copy() {
    let world = World::new().await;
    let source = world.cluster.connect("packhouse").await.unwrap();
    let target = world.cluster.connect("settlement").await.unwrap();
    source
        .batch_execute(&format!(
            "{} CREATE SEQUENCE numbers; INSERT INTO bins SELECT n, 1, 'second', 'r', now(), 1 FROM generate_series(1, 2000) n",
            crate::support::TABLES
        ))
        .await
        .unwrap();
    let fleet = world.fleet();
    let first = world.connector("first", world.source(&["bins", "lines"], 1).await).await;
    world.until_state(first, State::Following).await;
    world.database.ask(first, gonvel_core::connector::Wish::Pause, "").await.unwrap();
    world.until_state(first, State::Paused).await;
    crate::support::write(world.cluster.connect("packhouse").await.unwrap(), 120, 3).await;
    let mut second = world.source(&["bins", "lines"], 2).await;
    second.start = Some(Start::Connector { connector: first.0 });
    let mut sink = world.sink(&["bins", "lines"]).await;
    for (table, delivered) in second.tables.iter_mut().zip(&mut sink.topics) {
        table.topic = format!("second.{}", table.table);
        delivered.topic.clone_from(&table.topic);
    }
    let writing = tokio::spawn(crate::support::write(world.cluster.connect("packhouse").await.unwrap(), 200, 4));
    let second = world.connector("second", second).await;
    world.until_state(second, State::Following).await;
    world.connector("to-settlement", sink).await;
    writing.await.unwrap();
    world.until_equal(&source, &target, &["bins", "lines"]).await;
    fleet.stop().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_sink_begins_where_it_is_told() {
    let world = World::new().await;
    let source = world.cluster.connect("packhouse").await.unwrap();
    let target = world.cluster.connect("settlement").await.unwrap();
    source.batch_execute("CREATE TABLE bins (id bigint PRIMARY KEY, grade text)").await.unwrap();
    let fleet = world.fleet();
    let from = world.connector("from-packhouse", world.source(&["bins"], 1).await).await;
    world.until_state(from, State::Following).await;
    for id in 1..=3 {
        insert(&source, id).await;
    }
    until_ids(&world, "packhouse.bins", &[1, 2, 3]).await;
    tokio::time::sleep(Duration::from_millis(20)).await;
    let time = now();
    for id in 4..=5 {
        insert(&source, id).await;
    }
    until_ids(&world, "packhouse.bins", &[1, 2, 3, 4, 5]).await;
    let offsets = vec![StartOffset { topic: "packhouse.bins".into(), partition: 0, offset: 1 }];
    let mut made = Vec::new();
    let starts = [
        ("earliest", Some(Start::Earliest {}), vec![1, 2, 3, 4, 5, 6, 7]),
        ("latest", Some(Start::Latest {}), vec![6, 7]),
        ("time", Some(Start::Time { time }), vec![4, 5, 6, 7]),
        ("offsets", Some(Start::Offsets { offsets }), vec![2, 3, 4, 5, 6, 7]),
    ];
    for (name, start, _) in &starts {
        let mut sink = world.sink(&["bins"]).await;
        (sink.start, sink.topics[0].table) = (start.clone(), format!("bins_{name}"));
        let id = world.connector(name, sink).await;
        world.until_state(id, State::Following).await;
        made.push(id);
    }
    insert(&source, 6).await;
    let expected = |ids: &[i64]| ids.iter().map(|id| format!("({id},first)")).collect::<Vec<_>>();
    let until = async |table: String, ids: &[i64]| {
        let start = Instant::now();
        while rows(&target, &table).await != expected(ids) {
            assert!(start.elapsed() < Duration::from_secs(20), "{table}: {:?}", rows(&target, &table).await);
            tokio::time::sleep(Duration::from_millis(100)).await;
        }
    };
    for (name, _, ids) in &starts {
        until(format!("bins_{name}"), &ids[..ids.len() - 1]).await;
    }
    // started anew they stay where they are, whatever the start said; another may begin where one of them stands
    world.database.start_anew(&made).await.unwrap();
    let mut sink = world.sink(&["bins"]).await;
    (sink.start, sink.topics[0].table) = (Some(Start::Connector { connector: made[1].0 }), "bins_other".into());
    let other = world.connector("other", sink).await;
    world.until_state(other, State::Following).await;
    insert(&source, 7).await;
    for (name, _, ids) in &starts {
        until(format!("bins_{name}"), ids).await;
    }
    until("bins_other".into(), &[7]).await;
    fleet.stop().await;
}
