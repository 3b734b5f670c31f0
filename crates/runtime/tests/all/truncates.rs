//! Truncates that several lanes carry out together: none of them keeps the lane's other topics waiting.

use std::time::{Duration, Instant};

use crate::support::{PATIENCE, World, rows, sink_stands};
use gonvel_core::block::pack;
use gonvel_core::connector::{
    CarriedTopic, DeliveredTopic, ExistingRows, SinkDefinition, SourceDefinition, State, TopicsDefinition, Wish,
};
use gonvel_core::naming::{Offset, PartitionId, TopicName, TopicPartition};
use gonvel_core::ports::{AppendBatch, FleetStore, PartitionBlocks, Topic, TopicLog};
use gonvel_core::record::Record;
use gonvel_core::topic_settings::TopicSettings;
use gonvel_runtime::history::parted;
use serde_json::json;
use tokio_postgres::Client;

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

    // the same records in topics of which each lane reads one partition: it comes to one truncate at once, and has much to read before the
    // other, which the other lane waits at
    let mut copies = Vec::new();
    for name in ["copy.bins", "copy.lines"] {
        copies.push(
            world.database.create_topic(&TopicName::parse(name).unwrap(), 2, &TopicSettings::default()).await.unwrap(),
        );
    }
    let much = |records: &[Record]| {
        let truncate = records.iter().position(|record| record.key.is_none()).unwrap();
        let (before, after) = records.split_at(truncate);
        let often = before.iter().cycle().take(60_000);
        pack(&often.chain(after).cloned().collect::<Vec<_>>())
    };
    let part = |copy: usize, partition: i32, blocks| PartitionBlocks {
        to: TopicPartition { topic: copies[copy].id, partition: PartitionId(partition) },
        blocks,
    };
    let parts = vec![
        part(0, 0, pack(&held[0][0])),
        part(0, 1, much(&held[0][1])),
        part(1, 0, much(&held[1][0])),
        part(1, 1, pack(&held[1][1])),
    ];
    world.database.append(AppendBatch { parts, ..AppendBatch::default() }).await.unwrap();
    let delivered = |table: &str| DeliveredTopic {
        topic: format!("copy.{table}"),
        schema: "public".into(),
        table: table.into(),
        rows: None,
    };
    let mut sink = SinkDefinition::of(world.connection("settlement").await, vec![delivered("bins"), delivered("lines")]);
    sink.placing.lanes = 2;
    let to = world.connector("to-settlement", sink).await;
    let both_wait = "SELECT 1 FROM gonvel.sink_positions WHERE at_truncate IS NOT NULL HAVING count(*) = 2";
    until_one(&target, both_wait).await;
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

/// A partition that has fewer truncates than the others, because it came later, was moved or lost its oldest records, stays no truncate
/// behind; and none takes away what came after it.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_partition_that_lacks_a_truncate_keeps_none_of_the_others_waiting() {
    let world = World::new().await;
    let source = world.cluster.connect("packhouse").await.unwrap();
    let target = world.cluster.connect("settlement").await.unwrap();
    let insert = |from: i32| format!("INSERT INTO bins SELECT n, 'bin' FROM generate_series({from}, {}) n", from + 39);
    source.batch_execute("CREATE TABLE bins (id bigint PRIMARY KEY, grade text)").await.unwrap();
    let from = world.connector("from-packhouse", world.source(&["bins"], 2).await).await;
    let fleet = world.fleet();
    world.until_state(from, State::Following).await;
    for (step, first) in [0, 100, 200].into_iter().enumerate() {
        source.batch_execute(&format!("{}; {}", if step > 0 { "TRUNCATE bins" } else { "" }, insert(first))).await.unwrap();
    }
    let start = Instant::now();
    let of = topic(&world, "packhouse.bins").await;
    let held = loop {
        let both = [records(&world, &of, 0).await, records(&world, &of, 1).await];
        if both.iter().map(Vec::len).sum::<usize>() == 120 + 4 {
            break both;
        }
        assert!(start.elapsed() < PATIENCE);
        tokio::time::sleep(Duration::from_millis(50)).await;
    };
    // each partition: rows, truncate, rows, truncate, rows
    let parts = held.map(|records| {
        let cut: Vec<usize> = (0..records.len()).filter(|n| records[*n].key.is_none()).collect();
        assert_eq!(cut.len(), 2);
        [
            &records[..cut[0]],
            &records[cut[0]..=cut[0]],
            &records[cut[0] + 1..cut[1]],
            &records[cut[1]..=cut[1]],
            &records[cut[1] + 1..],
        ]
        .map(<[Record]>::to_vec)
    });
    let rows_of = |which: &[usize]| -> usize { which.iter().map(|n| parts[1][*n].len()).sum() };
    for lanes in [1, 2] {
        // the second partition lacks the first truncate and all before it, both truncates, or all but what came between
        let lacking: [(&[usize], bool); 4] =
            [(&[2, 3, 4], false), (&[4], false), (&[0, 1, 2, 3, 4], true), (&[3, 4], false)];
        for (number, (has, same)) in lacking.into_iter().enumerate() {
            let name = format!("copy.bins-{lanes}-{number}");
            let copy =
                world.database.create_topic(&TopicName::parse(&name).unwrap(), 2, &TopicSettings::default()).await.unwrap();
            append(&world, &copy, 0, &parts[0].concat()).await;
            let table = format!("bins_{lanes}_{number}");
            let topics = vec![DeliveredTopic { topic: name, schema: "public".into(), table: table.clone(), rows: None }];
            let mut sink = SinkDefinition::of(world.connection("settlement").await, topics);
            sink.placing.lanes = lanes;
            let to = world.connector(&format!("to-settlement-{lanes}-{number}"), sink).await;
            if same {
                append(&world, &copy, 1, &parts[1].concat()).await;
            } else {
                // nothing of it yet: it keeps nobody waiting, also not when it stays so
                until_one(&target, &format!("SELECT 1 FROM {table} HAVING count(*) = {}", parts[0][4].len())).await;
                let records: Vec<Record> = has.iter().flat_map(|n| parts[1][*n].clone()).collect();
                let late = has.iter().any(|n| n % 2 == 1);
                append(&world, &copy, 1, &records).await;
                if late {
                    // it brings truncates that the other came to long ago, and rows from after them
                    let reason = world.until_state(to, State::Halted).await;
                    assert!(reason.contains("would take away those rows"), "{reason}");
                    continue;
                }
            }
            let expected = parts[0][4].len() + rows_of(&[4]);
            until_one(&target, &format!("SELECT 1 FROM {table} HAVING count(*) = {expected}")).await;
        }
    }
    fleet.stop().await;
}

/// A partition whose newest records are not those of the log any more is delivered again from a place that both agree on: from after the
/// last truncate that was carried out, however long ago that was.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn where_a_log_was_rolled_back_nothing_comes_again_from_before_a_truncate() {
    let world = World::new().await;
    let source = world.cluster.connect("packhouse").await.unwrap();
    let target = world.cluster.connect("settlement").await.unwrap();
    source
        .batch_execute("CREATE TABLE bins (id bigint PRIMARY KEY, grade text); INSERT INTO bins SELECT n, 'a' FROM generate_series(1, 900) n")
        .await
        .unwrap();
    world.connector("from-packhouse", world.source(&["bins"], 3).await).await;
    let mut sink = world.sink(&["bins"]).await;
    sink.placing.lanes = 2;
    let to = world.connector("to-settlement", sink).await;
    let fleet = world.fleet();
    world.until_equal(&source, &target, &["bins"]).await;
    source.batch_execute("TRUNCATE bins; INSERT INTO bins SELECT n, 'b' FROM generate_series(1, 30) n").await.unwrap();
    world.until_equal(&source, &target, &["bins"]).await;
    // many rounds later
    for round in 0..40 {
        source.batch_execute(&format!("UPDATE bins SET grade = 'round {round}'")).await.unwrap();
    }
    world.until_equal(&source, &target, &["bins"]).await;
    world.database.ask(to, Wish::Pause, "").await.unwrap();
    world.until_state(to, State::Paused).await;
    let of = topic(&world, "packhouse.bins").await;
    // as if what it delivered of one partition after the truncate were not in the log
    let far = "UPDATE gonvel.sink_positions SET next_offset = next_offset + 100000, trail = regexp_replace(trail,
         '(\\d+)@(\\d+)( |$)', '\\1@7\\3', 'g') WHERE partition = 1";
    target.batch_execute(far).await.unwrap();
    let stands = sink_stands(&world.database.address(world.connection("settlement").await).await.unwrap(), to).await;
    let found = parted(&world.database, stands).await.unwrap();
    assert_eq!(found.iter().map(|parted| parted.at.partition.0).collect::<Vec<_>>(), [1]);
    let all = records(&world, &of, 1).await;
    let last = all.iter().rposition(|record| record.key.is_none()).unwrap();
    assert_eq!(found[0].agree_to, i64::try_from(last).unwrap() + 1);
    fleet.stop().await;
}

/// A sink that does not know yet of partitions that were added comes to a truncate that stands in them, too.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_truncate_that_stands_in_a_partition_that_came_is_not_carried_out_without_it() {
    let world = World::new().await;
    let source = world.cluster.connect("packhouse").await.unwrap();
    let target = world.cluster.connect("settlement").await.unwrap();
    source
        .batch_execute("CREATE TABLE bins (id bigint PRIMARY KEY, grade text); INSERT INTO bins SELECT n, 'first' FROM generate_series(1, 40) n")
        .await
        .unwrap();
    let (from, to) = world.flow(&["bins"], 2).await;
    let fleet = world.fleet();
    world.until_equal(&source, &target, &["bins"]).await;
    let there = topic(&world, "packhouse.bins").await;
    // the source is fenced, and begins anew with all of them
    world.database.add_partitions(there.id, 4, &[from]).await.unwrap();
    let fill = "INSERT INTO bins SELECT n, 'second' FROM generate_series(30, 90) n";
    source.batch_execute(&format!("TRUNCATE bins; {fill}")).await.unwrap();
    // the sink has the truncate behind it
    until_one(&target, "SELECT 1 FROM bins HAVING count(*) > 0 AND min(id) >= 30").await;
    world.database.start_anew(&[to]).await.unwrap();
    world.until_equal(&source, &target, &["bins"]).await;
    fleet.stop().await;
}

/// A partition that was added later lacks a truncate that the others have. What is looked through again because a reference changed is read
/// from before that.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn rows_are_carried_again_and_compared_though_partitions_came_after_a_truncate() {
    let world = World::new().await;
    let source = world.cluster.connect("packhouse").await.unwrap();
    let target = world.cluster.connect("settlement").await.unwrap();
    source
        .batch_execute(
            "CREATE TABLE rooms (id int PRIMARY KEY, label text); INSERT INTO rooms VALUES (0, 'cold'), (1, 'cold');
             CREATE TABLE bins (id bigint PRIMARY KEY, room int); INSERT INTO bins SELECT n, 1 FROM generate_series(100, 200) n",
        )
        .await
        .unwrap();
    let from = world.connector("from-packhouse", world.source(&["rooms", "bins"], 2).await).await;
    let steps = json!({"steps": {"packhouse.bins": [
        {"step": "lookup", "topic": "packhouse.rooms", "by": [{"column": "room", "key": "id"}], "columns": [{"from": "label", "column": "label"}], "again": true},
    ]}});
    let carried = CarriedTopic { topic: "packhouse.bins".into(), to: "rich.bins".into(), rows: None, fit: None };
    let rich = TopicsDefinition { shape: serde_json::from_value(steps).unwrap(), ..TopicsDefinition::of(vec![carried], 2) };
    let between = world.connector("rich", rich).await;
    let delivered = DeliveredTopic { topic: "rich.bins".into(), schema: "public".into(), table: "bins".into(), rows: None };
    let sink = SinkDefinition::of(world.connection("settlement").await, vec![delivered]);
    world.connector("to-settlement", sink).await;
    let fleet = world.fleet();
    let rich = "SELECT b.id, b.room, r.label FROM bins b JOIN rooms r ON r.id = b.room";
    let equal = async || world.until_same((&source, rich), (&target, "SELECT id, room, label FROM bins")).await;
    equal().await;
    source.batch_execute("TRUNCATE bins; INSERT INTO bins SELECT n, n % 2 FROM generate_series(1, 90) n").await.unwrap();
    equal().await;
    let there = topic(&world, "packhouse.bins").await;
    world.database.add_partitions(there.id, 5, &[from]).await.unwrap();
    world.database.start_anew(&[between]).await.unwrap();
    source.batch_execute("INSERT INTO bins SELECT n, n % 2 FROM generate_series(300, 390) n").await.unwrap();
    equal().await;
    source.batch_execute("UPDATE rooms SET label = 'warm' WHERE id = 1").await.unwrap();
    equal().await;
    // so is what it held before a source is made again
    world.database.ask(from, Wish::Delete, "").await.unwrap();
    let begun = Instant::now();
    while world.database.find_connector(from).await.is_ok() {
        assert!(begun.elapsed() < PATIENCE, "not deleted");
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    source.batch_execute("DELETE FROM bins WHERE id % 3 = 0").await.unwrap();
    let compares =
        SourceDefinition { existing_rows: Some(ExistingRows::Compare), ..world.source(&["rooms", "bins"], 5).await };
    world.connector("from-packhouse-again", compares).await;
    equal().await;
    fleet.stop().await;
}
