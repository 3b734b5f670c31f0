//! A row for each element of an array: exactly once through kills, and a record whose one row is refused waits as a whole.

use std::time::{Duration, Instant};

use crate::support::{PATIENCE, World};
use bytes::Bytes;
use gonvel_core::block::BlockBuilder;
use gonvel_core::connector::{Deletes, DeliveredTopic, SinkDefinition, TargetRows};
use gonvel_core::event_rows::{EventColumn, EventRows, Part};
use gonvel_core::naming::{ConnectorId, PartitionId, TopicName, TopicPartition};
use gonvel_core::ports::{AppendBatch, PartitionBlocks, TopicLog};
use gonvel_core::record::Record;
use gonvel_core::shape::{ShapeStep, Step};
use gonvel_core::topic_settings::TopicSettings;
use gonvel_storage::quarantine::Which;
use serde_json::json;
use tokio_postgres::Client;

const DELIVERIES: i64 = 900;
/// Deliveries with a lot that no column takes, that the shape cannot work out, that the target refuses.
const WRONG: [i64; 3] = [101, 203, 307];

/// From none to four lots for each delivery.
fn lots(delivery: i64) -> Vec<i64> {
    (0..(delivery % 5)).map(|lot| delivery * 10 + lot).collect()
}

fn value(delivery: i64) -> String {
    let mut lots: Vec<_> = lots(delivery).into_iter().map(|lot| json!({"lot": lot, "kg": 12.5})).collect();
    match WRONG.iter().position(|wrong| *wrong == delivery) {
        Some(0) => lots.push(json!({"lot": "none", "kg": 1})),
        Some(1) => lots.push(json!({"lot": 1, "kg": 0})),
        Some(_) => lots.push(json!({"lot": -7, "kg": 1})),
        None => {}
    }
    json!({"delivery": delivery, "lots": lots}).to_string()
}

fn rows() -> EventRows {
    let element = |name: &str, ty: &str| EventColumn { part: Part::Element, ..EventColumn::field(&[name], name, ty) };
    let columns = vec![
        EventColumn::field(&["delivery"], "delivery", "bigint"),
        element("lot", "bigint"),
        element("kg", "numeric(7,1)"),
        EventColumn::of(Part::Place, "line", "integer").as_key(),
        EventColumn::of(Part::Partition, "p", "integer").as_key(),
        EventColumn::of(Part::Offset, "o", "bigint").as_key(),
    ];
    EventRows { columns, expand: Some(vec!["lots".into()]), ..EventRows::default() }
}

async fn append(world: &World, from: i64, to: i64) {
    let topic = world.database.topic(&TopicName::parse("deliveries").unwrap()).await.unwrap();
    let mut parts = Vec::new();
    for partition in 0..2 {
        let mut builder = BlockBuilder::default();
        for delivery in (from..to).filter(|d| d % 2 == i64::from(partition)) {
            builder.push_record(&Record { value: Some(Bytes::from(value(delivery))), ..Record::default() });
        }
        let at = TopicPartition { topic: topic.id, partition: PartitionId(partition) };
        parts.extend(builder.finish().map(|block| PartitionBlocks { to: at, blocks: vec![block] }));
    }
    world.database.append(AppendBatch { parts, ..AppendBatch::default() }).await.unwrap();
}

async fn found(target: &Client, table: &str) -> Vec<(i64, i64, i32)> {
    let Ok(rows) = target.query(&format!("SELECT delivery, lot, line FROM {table}"), &[]).await else { return Vec::new() };
    let mut rows: Vec<_> = rows.iter().map(|row| (row.get(0), row.get(1), row.get(2))).collect();
    rows.sort_unstable();
    rows
}

async fn until(target: &Client, table: &str, expected: &[(i64, i64, i32)]) {
    let start = Instant::now();
    loop {
        let rows = found(target, table).await;
        if rows == expected {
            return;
        }
        let odd: Vec<_> = rows.iter().filter(|row| !expected.contains(row)).take(3).collect();
        assert!(start.elapsed() < PATIENCE, "{table}: {} rows, not {}; {odd:?}", rows.len(), expected.len());
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
}

fn expected(good: impl Fn(i64) -> bool) -> Vec<(i64, i64, i32)> {
    let of = |delivery: i64| {
        lots(delivery).into_iter().zip(1..).map(move |(lot, line)| (delivery, lot, line)).collect::<Vec<_>>()
    };
    let mut all: Vec<_> = (0..DELIVERIES).filter(|d| good(*d)).flat_map(of).collect();
    all.sort_unstable();
    all
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn each_element_is_a_row_once_and_a_record_waits_as_a_whole() {
    let world = World::new().await;
    let target = world.cluster.connect("settlement").await.unwrap();
    let topic = TopicName::parse("deliveries").unwrap();
    world.database.create_topic(&topic, 2, &TopicSettings::default()).await.unwrap();
    let mut sinks: Vec<(&str, ConnectorId)> = Vec::new();
    for (table, written) in [("current", TargetRows::Current), ("appended", TargetRows::Appended)] {
        target
            .batch_execute(&format!(
                "CREATE TABLE {table} (delivery bigint, lot bigint CONSTRAINT is_a_lot CHECK (lot >= 0), kg numeric(7,1),
                   per_lot numeric(12,4), line int, p int, o bigint {})",
                if written == TargetRows::Current { ", PRIMARY KEY (line, p, o)" } else { "" }
            ))
            .await
            .unwrap();
        let delivered =
            DeliveredTopic { topic: "deliveries".into(), schema: "public".into(), table: table.into(), rows: Some(rows()) };
        let mut sink: SinkDefinition = world.sink(&["deliveries"]).await;
        sink.topics = vec![delivered];
        (sink.writes.rows, sink.writes.deletes) = (written, Deletes::Ignored);
        let step = json!({"step": "compute", "column": "per_lot", "value": "(100 / kg)::numeric(12,4)"});
        let step: ShapeStep = serde_json::from_value::<Step>(step).unwrap().into();
        sink.shape.steps.insert("deliveries".into(), vec![step]);
        sinks.push((table, world.connector(&format!("to-{table}"), sink).await));
    }
    append(&world, 0, DELIVERIES / 2).await;
    for round in 1..4_u64 {
        let fleet = world.fleet();
        tokio::time::sleep(Duration::from_millis(150 * round)).await;
        drop(fleet);
    }
    append(&world, DELIVERIES / 2, DELIVERIES).await;
    let fleet = world.fleet();
    let good = expected(|delivery| !WRONG.contains(&delivery));
    let own = world.cluster.connect("gonvel").await.unwrap();
    for (table, sink) in &sinks {
        until(&target, table, &good).await;
        // each is there once, with the step that it failed at
        let waits = own
            .query("SELECT record_offset, step FROM quarantine WHERE connector_id = $1 AND state = 'waiting' ORDER BY record_offset", &[&sink.0])
            .await
            .unwrap();
        let waits: Vec<(i64, String)> = waits.iter().map(|row| (row.get(0), row.get(1))).collect();
        assert_eq!(waits.iter().map(|(offset, _)| *offset).collect::<Vec<_>>(), WRONG.map(|d| d / 2), "{table}: {waits:?}");
    }
    // what the target refused is taken as a whole, with all of its rows, once the target takes it
    for (table, sink) in &sinks {
        target.batch_execute(&format!("ALTER TABLE {table} DROP CONSTRAINT is_a_lot")).await.unwrap();
        assert_eq!(world.database.retry(&Which::All(*sink), None).await.unwrap(), 3);
    }
    let mut mended = expected(|delivery| !WRONG[..2].contains(&delivery));
    mended.push((WRONG[2], -7, i32::try_from(WRONG[2] % 5).unwrap() + 1));
    mended.sort_unstable();
    for (table, _) in &sinks {
        until(&target, table, &mended).await;
    }
    fleet.stop().await;
}
