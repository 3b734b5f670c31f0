//! A sink's position moves with the rows, and by nothing else.

use std::sync::Arc;
use std::time::Duration;

use bytes::Bytes;
use gonvel_connectors::postgres::address::DatabaseAddress;
use gonvel_connectors::postgres::client;
use gonvel_connectors::postgres::sink::PgSink;
use gonvel_core::change::{ChangeBatchBuilder, ChangeKind, Origin};
use gonvel_core::column::{ColumnType, Value};
use gonvel_core::connector::{DeliveredTopic, Writes};
use gonvel_core::naming::{ConnectorId, Epoch, PartitionId, TopicId, TopicPartition};
use gonvel_core::ports::systems::{Delivered, Round, RowBefore, SinkSettings, TopicChanges};
use gonvel_core::table::{Column, TableSchema};
use gonvel_stand_ins::postgres_cluster::OWNER;
use gonvel_stand_ins::test_cluster::TestCluster;
use tokio_postgres::Client;
use uuid::Uuid;

const PARTITIONS: i32 = 8;

fn partition(number: i32) -> TopicPartition {
    TopicPartition { topic: TopicId(1), partition: PartitionId(number) }
}

/// Inserts of these ids, after which all partitions stand at a place; they are told in the order given.
fn round(ids: std::ops::Range<i64>, partitions: impl Iterator<Item = i32>, next: i64) -> Round {
    let table = TableSchema {
        system: "packhouse".into(),
        schema: "public".into(),
        table: "bins".into(),
        columns: vec![Column { name: "id".into(), ty: ColumnType::Int64, source_type: "bigint".into(), key: true }],
    };
    let mut builder = ChangeBatchBuilder::new(Arc::new(table));
    for id in ids.clone() {
        builder.begin(ChangeKind::Insert, Origin { commit_time_us: 1, position: 1, transaction: 1, sequence: 0 });
        builder.new_value(0, Value::Long(id)).unwrap();
        builder.no_old();
    }
    let changes = ids.enumerate().map(|(row, id)| ((0, row), Bytes::from(id.to_string()))).collect();
    let (from, record_keys, row_before) = (vec![], None, RowBefore::Known);
    let topics = vec![TopicChanges { topic: 0, batches: vec![builder.finish()], changes, from, record_keys, row_before }];
    let delivered = partitions.map(|p| (partition(p), Delivered { next, ..Delivered::default() })).collect();
    Round { topics, delivered, more: false }
}

async fn sink(cluster: &TestCluster) -> (PgSink, Client) {
    let address = DatabaseAddress::new("127.0.0.1", cluster.port, "settlement", OWNER, &cluster.password);
    let client = client::connect(&address).await.unwrap();
    let topic = DeliveredTopic { topic: "packhouse.bins".into(), schema: "public".into(), table: "bins".into(), rows: None };
    let connector = ConnectorId(Uuid::now_v7());
    let settings = SinkSettings { connector, lane: 0, topics: vec![(TopicId(1), topic)], writes: Writes::default() };
    let begin: Vec<_> = (0..PARTITIONS).map(|p| (partition(p), Delivered::default())).collect();
    (PgSink::start(address, settings, Epoch(1), &begin).await.unwrap().0, client)
}

async fn positions(client: &Client) -> Vec<i64> {
    let rows = client.query("SELECT next_offset FROM gonvel.sink_positions ORDER BY partition", &[]).await.unwrap();
    rows.iter().map(|row| row.get(0)).collect()
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn it_moves_also_where_rows_were_there_already() {
    let cluster = TestCluster::start(&["settlement"]).await;
    let (mut sink, client) = sink(&cluster).await;
    for next in 1..=3 {
        // enough to be copied; from the second time on some are refused as copies, and written in another way
        sink.apply(&round(next..next + 500, 0..PARTITIONS, next)).await.unwrap();
        assert_eq!(positions(&client).await, [next; PARTITIONS as usize]);
    }
    let held: i64 = client.query_one("SELECT count(*) FROM bins", &[]).await.unwrap().get(0);
    assert_eq!(held, 502);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn lanes_that_come_to_the_same_positions_never_wait_in_a_circle() {
    let cluster = TestCluster::start(&["settlement"]).await;
    let (mut sink, mut other) = sink(&cluster).await;
    sink.apply(&round(0..1, 0..PARTITIONS, 1)).await.unwrap();
    // the server now takes the rows in the order in which they are asked for, if it is not told another
    other.batch_execute("ANALYZE gonvel.sink_positions").await.unwrap();
    let held = other.transaction().await.unwrap();
    let lock = |partition: i32| format!("SELECT 1 FROM gonvel.sink_positions WHERE partition = {partition} FOR UPDATE");
    held.batch_execute(&lock(0)).await.unwrap();
    let applying = tokio::spawn(async move { sink.apply(&round(1..2, (0..PARTITIONS).rev(), 2)).await });
    while !waits(&cluster).await {
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
    for partition in 1..PARTITIONS {
        held.batch_execute(&lock(partition)).await.unwrap();
    }
    held.commit().await.unwrap();
    applying.await.unwrap().unwrap();
    assert_eq!(positions(&other).await, [2; PARTITIONS as usize]);
}

/// Whether a session waits for a row that another one holds.
async fn waits(cluster: &TestCluster) -> bool {
    let client = cluster.connect("settlement").await.unwrap();
    client.query_one("SELECT EXISTS (SELECT 1 FROM pg_locks WHERE NOT granted)", &[]).await.unwrap().get(0)
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_kept_it_from_moving_is_what_is_said() {
    let cluster = TestCluster::start(&["settlement"]).await;
    let (mut sink, client) = sink(&cluster).await;
    sink.apply(&round(0..200, 0..PARTITIONS, 1)).await.unwrap();
    client
        .batch_execute("ALTER TABLE gonvel.sink_positions ADD CONSTRAINT kept_back CHECK (next_offset < 2)")
        .await
        .unwrap();
    // the statements after it fail too, of the transaction it ended
    for (ids, columns) in [(200..400, "copied"), (0..400, "written in another way")] {
        let refused = sink.apply(&round(ids, 0..PARTITIONS, 2)).await.unwrap_err().to_string();
        assert!(refused.contains("kept_back"), "{columns}: {refused}");
        sink.roll_back().await.unwrap();
    }
    assert_eq!(positions(&client).await, [1; PARTITIONS as usize]);
}
