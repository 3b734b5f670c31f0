//! Topics of captured changes that keep only the latest of each key: who reads from the start, and who reads along, ends with
//! the source's rows.

use std::time::{Duration, Instant};

use crate::support::{TABLES, World, rows, write};
use chrono::Utc;
use gonvel_core::connector::{DeliveredTopic, SinkDefinition};
use gonvel_core::naming::{Offset, TopicName, TopicPartition};
use gonvel_core::ports::TopicLog;
use gonvel_core::topic_settings::{Keep, TopicSettings};
use gonvel_storage::topic_log::keeper::Keeper;

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_sink_that_comes_late_and_one_that_reads_along_end_with_the_source_s_rows() {
    let world = World::new().await;
    let source = world.cluster.connect("packhouse").await.unwrap();
    let target = world.cluster.connect("settlement").await.unwrap();
    source
        .batch_execute(&format!(
            "{TABLES} CREATE SEQUENCE numbers;
             INSERT INTO bins SELECT n, n % 500 / 10.0, 'second', repeat('r', 2500), '2026-10-01', n % 60 FROM generate_series(1, 150) n;
             INSERT INTO lines SELECT n, 1, n % 9 / 10.0 FROM generate_series(1, 100) n"
        ))
        .await
        .unwrap();
    let settings = TopicSettings { keep: Keep::Latest, deletes_kept_ms: 1, ..TopicSettings::default() };
    for table in ["bins", "lines"] {
        let name = TopicName::parse(format!("packhouse.{table}")).unwrap();
        world.database.create_topic(&name, 3, &settings).await.unwrap();
    }
    let fleet = world.fleet();
    world.flow(&["bins", "lines"], 3).await;
    // the load is through: what comes now comes as changes
    world.until_equal(&source, &target, &["bins", "lines"]).await;
    let mut writers = Vec::new();
    for seed in 1..=3 {
        let client = world.cluster.connect("packhouse").await.unwrap();
        writers.push(tokio::spawn(write(client, 400, seed)));
    }
    // rounds of keeping go on while changes come and are delivered
    let mut keeper = Keeper::new(world.database.clone());
    while writers.iter().any(|w| !w.is_finished()) {
        keeper.round(true, Utc::now().timestamp_micros()).await;
        assert_eq!(keeper.said().failure, None);
        tokio::time::sleep(Duration::from_millis(30)).await;
    }
    for writer in writers {
        writer.await.unwrap();
    }
    source.batch_execute("TRUNCATE lines; INSERT INTO lines VALUES (7, 1, 1.5), (8, 1, 2.5)").await.unwrap();
    world.until_equal(&source, &target, &["bins", "lines"]).await;
    keeper.round(true, Utc::now().timestamp_micros()).await;
    assert!(keeper.said().superseded_records > 300, "{:?}", keeper.said());

    // of every key with no large value left out one record stays; far fewer than there were changes
    let topic = world.database.topic(&TopicName::parse("packhouse.bins").unwrap()).await.unwrap();
    let bounds = world.database.bounds(topic.id).await.unwrap();
    let (kept, appended): (i64, i64) = (bounds.iter().map(|b| b.records).sum(), bounds.iter().map(|b| b.next.0).sum());
    assert!(kept < appended / 2, "{kept} of {appended}");

    let topics = ["bins", "lines"].map(|table| DeliveredTopic {
        topic: format!("packhouse.{table}"),
        schema: "public".into(),
        table: format!("late_{table}"),
        rows: None,
    });
    // the last record of the partitions is a delete, and it goes: nothing is kept where they end
    source.batch_execute("DELETE FROM bins WHERE id > 100; DELETE FROM lines").await.unwrap();
    world.until_equal(&source, &target, &["bins", "lines"]).await;
    let start = Instant::now();
    // a keeper that could not do all of its work does the rest in its next round; where it made the deletes one block with rows that
    // stay, the next ones stand alone
    for again in 2_000_000_i64.. {
        keeper.round(true, Utc::now().timestamp_micros() + 3_600_000_000).await;
        let mut ends = 0;
        for bounds in world.database.bounds(topic.id).await.unwrap() {
            let at = TopicPartition { topic: topic.id, partition: bounds.partition };
            let nothing = world.database.nothing_from(at, Offset(bounds.next.0 - 1)).await.unwrap();
            ends += usize::from(nothing == Some(bounds.next));
        }
        if ends > 0 {
            break;
        }
        assert!(start.elapsed() < Duration::from_secs(60), "no partition ends with nothing: {:?}", keeper.said());
        let rows = format!("{again}000 AND {again}029");
        let made = format!(
            "INSERT INTO bins SELECT n, 1, 'third', NULL, '2026-10-02', 1 FROM generate_series({again}000, {again}029) n"
        );
        source.batch_execute(&made).await.unwrap();
        world.until_equal(&source, &target, &["bins"]).await;
        source.batch_execute(&format!("DELETE FROM bins WHERE id BETWEEN {rows}")).await.unwrap();
        world.until_equal(&source, &target, &["bins"]).await;
    }
    let connection = world.database.connections().await.unwrap().into_iter().find(|c| c.name == "settlement").unwrap().id;
    let late = world.connector("late", SinkDefinition::of(connection, topics.to_vec())).await;
    let start = Instant::now();
    for table in ["bins", "lines"] {
        let expected = rows(&source, table).await;
        while rows(&target, &format!("late_{table}")).await != expected {
            assert!(start.elapsed() < Duration::from_secs(60), "late_{table} does not become equal");
            tokio::time::sleep(Duration::from_millis(200)).await;
        }
    }
    // it read all there is
    loop {
        let found = world.database.find_connector(late).await.unwrap();
        if found.said().all(|lane| lane.lag_records == Some(0)) {
            break;
        }
        assert!(start.elapsed() < Duration::from_secs(90), "it stays behind: {:?}", found.lanes);
        tokio::time::sleep(Duration::from_millis(200)).await;
    }
    fleet.stop().await;
}
