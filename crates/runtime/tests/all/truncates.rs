//! Truncates that several lanes carry out together: none of them keeps the lane's other topics waiting.

use std::time::{Duration, Instant};

use crate::support::{World, rows};
use gonvel_core::block::pack;
use gonvel_core::connector::{DeliveredTopic, SinkDefinition, State};
use gonvel_core::naming::{Offset, PartitionId, TopicName, TopicPartition};
use gonvel_core::ports::{AppendBatch, PartitionBlocks, Topic, TopicLog};
use gonvel_core::record::Record;
use gonvel_core::topic_settings::TopicSettings;
use tokio_postgres::Client;

const PATIENCE: Duration = Duration::from_secs(20);

async fn topic(world: &World, name: &str) -> Topic {
    world.database.topic(&TopicName::parse(name).unwrap()).await.unwrap()
}

/// All records of a partition.
async fn records(world: &World, topic: &Topic, partition: i32) -> Vec<Record> {
    let at = TopicPartition { topic: topic.id, partition: PartitionId(partition) };
    let mut records = Vec::new();
    while let Some(block) =
        world.database.read(at, Offset(records.len().try_into().unwrap()), 1).await.unwrap().into_iter().next()
    {
        let open = block.open(at).unwrap();
        records.extend(open.records().map(|record| record.unwrap().1.to_record()));
    }
    records
}

async fn append(world: &World, topic: &Topic, partition: i32, records: &[Record]) {
    let to = TopicPartition { topic: topic.id, partition: PartitionId(partition) };
    let parts = vec![PartitionBlocks { to, blocks: pack(records) }];
    world.database.append(AppendBatch { parts, ..AppendBatch::default() }).await.unwrap();
}

async fn until_one(client: &Client, statement: &str) {
    let start = Instant::now();
    while client.query_opt(statement, &[]).await.ok().flatten().is_none() {
        assert!(start.elapsed() < PATIENCE, "{statement}");
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn lanes_that_come_to_truncates_of_two_topics_the_other_way_round_do_not_wait_for_ever() {
    let world = World::new().await;
    let source = world.cluster.connect("packhouse").await.unwrap();
    let target = world.cluster.connect("settlement").await.unwrap();
    for table in ["bins", "lines"] {
        source
            .batch_execute(&format!("CREATE TABLE {table} (id bigint PRIMARY KEY, grade text); INSERT INTO {table} SELECT n, 'first' FROM generate_series(1, 40) n"))
            .await
            .unwrap();
    }
    let from = world.connector("from-packhouse", world.source(&["bins", "lines"], 2).await).await;
    let fleet = world.fleet();
    world.until_state(from, State::Following).await;
    source
        .batch_execute("TRUNCATE bins, lines; INSERT INTO bins SELECT n, 'second' FROM generate_series(30, 60) n; INSERT INTO lines SELECT n, 'second' FROM generate_series(30, 60) n")
        .await
        .unwrap();
    let start = Instant::now();
    let mut held = Vec::new();
    for name in ["packhouse.bins", "packhouse.lines"] {
        let topic = topic(&world, name).await;
        loop {
            let both = [records(&world, &topic, 0).await, records(&world, &topic, 1).await];
            if both.iter().map(Vec::len).sum::<usize>() == 40 + 2 + 31 {
                held.push(both);
                break;
            }
            assert!(start.elapsed() < PATIENCE);
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
    }

    // the same records in topics of which each lane reads one partition, and comes to one truncate first
    let mut copies = Vec::new();
    for name in ["copy.bins", "copy.lines"] {
        copies.push(
            world.database.create_topic(&TopicName::parse(name).unwrap(), 2, &TopicSettings::default()).await.unwrap(),
        );
    }
    let delivered = |table: &str| DeliveredTopic {
        topic: format!("copy.{table}"),
        schema: "public".into(),
        table: table.into(),
        rows: None,
    };
    let mut sink = SinkDefinition::of(world.connection("settlement").await, vec![delivered("bins"), delivered("lines")]);
    sink.placing.lanes = 2;
    let to = world.connector("to-settlement", sink).await;
    let truncate = |records: &[Record]| 1 + records.iter().position(|record| record.key.is_none()).unwrap();
    let cut: Vec<[usize; 2]> = held.iter().map(|both| [truncate(&both[0]), truncate(&both[1])]).collect();
    append(&world, &copies[0], 0, &held[0][0][..cut[0][0]]).await;
    append(&world, &copies[1], 1, &held[1][1][..cut[1][1]]).await;
    let both_wait = "SELECT 1 FROM gonvel.sink_positions WHERE at_truncate IS NOT NULL HAVING count(*) = 2";
    until_one(&target, both_wait).await;
    // what has nothing to do with the truncates goes on
    append(&world, &copies[0], 1, &held[0][1][..cut[0][1] - 1]).await;
    let loaded = held[0][0].iter().chain(&held[0][1]).filter(|r| r.key.is_some()).count() - 31;
    until_one(&target, &format!("SELECT 1 FROM bins HAVING count(*) = {loaded}")).await;
    // and the other partitions come to theirs
    append(&world, &copies[0], 1, &held[0][1][cut[0][1] - 1..]).await;
    append(&world, &copies[1], 0, &held[1][0]).await;
    append(&world, &copies[0], 0, &held[0][0][cut[0][0]..]).await;
    append(&world, &copies[1], 1, &held[1][1][cut[1][1]..]).await;
    let start = Instant::now();
    for table in ["bins", "lines"] {
        while rows(&source, table).await != rows(&target, table).await {
            let said = world.database.find_connector(to).await.unwrap();
            assert!(start.elapsed() < PATIENCE, "{table}: {:?}", said.lanes);
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
    }
    fleet.stop().await;
}
