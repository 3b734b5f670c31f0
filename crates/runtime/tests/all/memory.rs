//! What a lane holds in memory has an end: where there is more, it goes through it in parts, or halts and says so.

use std::collections::BTreeMap;
use std::time::{Duration, Instant};

use crate::support::{PATIENCE, World, topic_changes};
use gonvel_core::connector::{CarriedTopic, State, TopicsDefinition, Wish};
use gonvel_core::naming::{ConnectorId, PartitionId, TopicName, TopicPartition};
use gonvel_core::ports::{QuarantineStore, TopicLog};
use gonvel_core::shape::{ShapeStep, Shapes};
use gonvel_storage::catalog::history::LineFilter;
use gonvel_storage::quarantine::Which;
use serde_json::{Value, json};
use tokio_postgres::Client;

const BINS: i64 = 4_000;

/// Rooms with long labels, and bins that stand in them; the source carries both.
async fn rooms_and_bins(world: &World, rooms: i64) -> Client {
    let source = world.cluster.connect("packhouse").await.unwrap();
    source
        .batch_execute(&format!(
            "CREATE TABLE rooms (id int PRIMARY KEY, label text); INSERT INTO rooms SELECT n, repeat('cold ', 40) || n FROM generate_series(1, {rooms}) n;
             CREATE TABLE bins (id bigint PRIMARY KEY, room int, note text); ALTER TABLE bins REPLICA IDENTITY FULL;
             INSERT INTO bins SELECT n, 1 + n % 3, repeat('n', 150) FROM generate_series(1, {BINS}) n"
        ))
        .await
        .unwrap();
    source
}

async fn looks_up(world: &World, lookup: Value) -> ConnectorId {
    let mut step = json!({"step": "lookup", "by": [{"column": "room", "key": "id"}], "columns": [{"from": "label", "column": "label"}]});
    step.as_object_mut().unwrap().extend(lookup.as_object().unwrap().clone());
    let steps: Vec<ShapeStep> = serde_json::from_value(json!([step])).unwrap();
    let shape = Shapes { rules: vec![], steps: [("packhouse.bins".to_owned(), steps)].into() };
    let carried = CarriedTopic { topic: "packhouse.bins".into(), to: "rich.bins".into(), rows: None, fit: None };
    world.connector("rich", TopicsDefinition { shape, ..TopicsDefinition::of(vec![carried], 2) }).await
}

/// Starts a connector that halted once more.
async fn start(world: &World, id: ConnectorId) {
    world.database.ask(id, Wish::Run, "").await.unwrap();
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn references_that_do_not_fit_halt_their_lane_and_more_memory_lets_it_go_on() {
    let mut world = World::new().await;
    world.lane_bytes = 300 << 10;
    let _source = rooms_and_bins(&world, 2_000).await;
    let from = world.connector("from-packhouse", world.source(&["rooms", "bins"], 1).await).await;
    let fleet = world.fleet();
    world.until_state(from, State::Following).await;
    let of_topic = looks_up(&world, json!({"topic": "packhouse.rooms"})).await;
    let reason = world.until_state(of_topic, State::Halted).await;
    assert!(
        reason.contains("do not fit in the memory")
            && reason.contains("of packhouse.rooms, ")
            && reason.contains("--lane-memory"),
        "{reason}"
    );
    world.database.ask(of_topic, Wish::Delete, "").await.unwrap();
    let begun = Instant::now();
    while world.database.find_connector(of_topic).await.is_ok() {
        assert!(begun.elapsed() < PATIENCE);
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    // a table that is read through a connection as well
    let connection = world.connection("packhouse").await;
    let table = json!({"table": {"connection": connection, "schema": "public", "table": "rooms", "every_seconds": 60}});
    let of_table = looks_up(&world, table).await;
    let reason = world.until_state(of_table, State::Halted).await;
    assert!(reason.contains("do not fit in the memory") && reason.contains("0 MiB are free"), "{reason}");
    fleet.stop().await;
    world.lane_bytes = 4 << 20;
    let fleet = world.fleet();
    start(&world, of_table).await;
    world.until_state(of_table, State::Following).await;
    let begun = Instant::now();
    while topic_changes(&world.database, "rich.bins").await.len() < usize::try_from(BINS).unwrap() {
        assert!(begun.elapsed() < PATIENCE);
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
    fleet.stop().await;
}

/// Each bin's labels in the order in which they came.
async fn labels(world: &World) -> BTreeMap<i64, Vec<String>> {
    let mut labels = BTreeMap::<i64, Vec<String>>::new();
    for change in topic_changes(&world.database, "rich.bins").await {
        let row = &change["new"];
        let label = row["label"].as_str().unwrap().trim().to_owned();
        labels.entry(row["id"].as_i64().unwrap()).or_default().push(label);
    }
    labels
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn more_rows_than_fit_are_carried_again_in_parts_each_once() {
    let mut world = World::new().await;
    // a thirtieth of what a third of the bins takes
    world.lane_bytes = 24 << 10;
    let source = rooms_and_bins(&world, 3).await;
    let from = world.connector("from-packhouse", world.source(&["rooms", "bins"], 2).await).await;
    let fleet = world.fleet();
    world.until_state(from, State::Following).await;
    let rich = looks_up(&world, json!({"topic": "packhouse.rooms", "again": true})).await;
    let all = async |count: usize| {
        let begun = Instant::now();
        loop {
            let found = labels(&world).await;
            if found.values().map(Vec::len).sum::<usize>() == count {
                return found;
            }
            let said = world.database.find_connector(rich).await.unwrap();
            assert!(
                begun.elapsed() < PATIENCE,
                "{} of {count}: {:?}",
                found.values().map(Vec::len).sum::<usize>(),
                said.lanes
            );
            tokio::time::sleep(Duration::from_millis(100)).await;
        }
    };
    let bins = usize::try_from(BINS).unwrap();
    world.until_state(rich, State::Following).await;
    all(bins).await;
    // bins that move away or go before the room changes are not carried again because of it
    source
        .batch_execute("UPDATE bins SET room = 1 WHERE id IN (7, 10); DELETE FROM bins WHERE id = 13; UPDATE bins SET note = 'x' WHERE id = 16")
        .await
        .unwrap();
    let begun = Instant::now();
    while topic_changes(&world.database, "rich.bins").await.len() < bins + 4 {
        assert!(begun.elapsed() < PATIENCE);
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
    source.batch_execute("UPDATE rooms SET label = 'warm' WHERE id = 2").await.unwrap();
    // of every third bin but for the three that are not there any more
    let touched: Vec<i64> = (1..=BINS).filter(|id| 1 + id % 3 == 2 && ![7, 10, 13].contains(id)).collect();
    let begun = Instant::now();
    let warm = async || {
        let changes = topic_changes(&world.database, "rich.bins").await;
        changes.iter().filter(|c| c["new"]["label"] == "warm").map(|c| c["new"]["id"].as_i64().unwrap()).collect::<Vec<_>>()
    };
    while warm().await.len() < touched.len() {
        assert!(begun.elapsed() < PATIENCE, "{} of {}", warm().await.len(), touched.len());
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
    // nothing more comes of it
    tokio::time::sleep(Duration::from_millis(500)).await;
    let mut found = warm().await;
    found.sort_unstable();
    assert_eq!(found, touched);
    fleet.stop().await;
    let filter = LineFilter { text: Some("carried again".into()), ..LineFilter::default() };
    let lines = world.database.lines_of(rich, &filter, 10).await.unwrap();
    assert!(lines[0].facts["rows"] == touched.len() && lines[0].facts["parts"].as_u64() > Some(8), "{lines:?}");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn keys_that_wait_in_quarantine_have_an_end_too() {
    let mut world = World::new().await;
    world.lane_bytes = 40 << 10;
    let source = world.cluster.connect("packhouse").await.unwrap();
    let target = world.cluster.connect("settlement").await.unwrap();
    source
        .batch_execute("CREATE TABLE bins (id bigint PRIMARY KEY, grade text); INSERT INTO bins SELECT n, 'first' FROM generate_series(1, 300) n")
        .await
        .unwrap();
    target.batch_execute("CREATE TABLE bins (id bigint PRIMARY KEY, grade text, CHECK (id % 2 = 0))").await.unwrap();
    let from = world.connector("from-packhouse", world.source(&["bins"], 1).await).await;
    let mut sink = world.sink(&["bins"]).await;
    (sink.failing.most_in_a_row, sink.failing.most_a_minute) = (10_000, 10_000);
    let to = world.connector("to-settlement", sink).await;
    let fleet = world.fleet();
    world.until_state(from, State::Following).await;
    let delivered = async |wanted: i64| {
        let begun = Instant::now();
        while target.query_one("SELECT count(*) FROM bins", &[]).await.unwrap().get::<_, i64>(0) < wanted {
            assert!(begun.elapsed() < PATIENCE, "{:?}", world.database.find_connector(to).await.unwrap().lanes);
            tokio::time::sleep(Duration::from_millis(100)).await;
        }
    };
    delivered(150).await;
    let topic = world.database.topic(&TopicName::parse("packhouse.bins").unwrap()).await.unwrap();
    let places = [TopicPartition { topic: topic.id, partition: PartitionId(0) }];
    let waiting = async || world.database.waiting_keys(to, &places, 0, 10_000).await.unwrap();
    let first: Vec<i64> = waiting().await.iter().map(|w| w.id).collect();
    assert_eq!(first.len(), 150);
    source.batch_execute("INSERT INTO bins SELECT n, 'late' FROM generate_series(301, 600) n").await.unwrap();
    let reason = world.until_state(to, State::Halted).await;
    assert!(reason.contains("records wait in quarantine") && reason.contains("discard"), "{reason}");
    // what is not delivered waits there, or is to come
    assert!(waiting().await.len() > 150);
    // some go: then there is room
    world.database.discard(&Which::Ids(first), i64::MAX, "", "too many").await.unwrap();
    start(&world, to).await;
    delivered(300).await;
    assert_eq!(waiting().await.len(), 150);
    fleet.stop().await;
}
