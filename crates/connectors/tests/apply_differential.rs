//! Folded, set-wise application of changes against the plainest one: every change by itself, in order, on a map.
#![allow(clippy::unwrap_used, reason = "what fails here fails the test")]

use std::collections::BTreeMap;
use std::sync::Arc;

use bytes::Bytes;
use gonvel_connectors::postgres::sink::{Delivered, PgSink, Round, SinkSettings, TopicChanges};
use gonvel_connectors::postgres::{client, sink};
use gonvel_core::change::{ChangeBatch, ChangeBatchBuilder, ChangeKind, OldImage, Origin};
use gonvel_core::column::{ColumnType, Value};
use gonvel_core::connector::DeliveredTopic;
use gonvel_core::naming::{ConnectorId, Epoch, PartitionId, TopicId, TopicPartition};
use gonvel_core::ports::DatabaseAddress;
use gonvel_core::table::{Column, TableSchema};
use gonvel_stand_ins::postgres_cluster::OWNER;
use gonvel_stand_ins::test_cluster::TestCluster;
use proptest::prelude::*;
use proptest::strategy::ValueTree;
use proptest::test_runner::{Config, TestRunner};
use uuid::Uuid;

type Key = (i64, String);
type Rows = BTreeMap<Key, (Option<i128>, Option<String>)>;
type Changes = (Vec<ChangeBatch>, Vec<((usize, usize), Bytes)>);

fn table() -> Arc<TableSchema> {
    let column =
        |name: &str, ty, source_type: &str, key| Column { name: name.into(), ty, source_type: source_type.into(), key };
    Arc::new(TableSchema {
        system: "packhouse".into(),
        schema: "public".into(),
        table: "bins".into(),
        columns: vec![
            column("id", ColumnType::Int64, "bigint", true),
            column("weight_kg", ColumnType::Decimal { precision: 7, scale: 1 }, "numeric(7,1)", false),
            column("part \"x\"", ColumnType::Text, "text", true),
            column("remark", ColumnType::Text, "text", false),
        ],
    })
}

/// What a step does to the source; steps that do not fit its state are left out, as a real source would not send them.
#[derive(Debug, Clone)]
enum Step {
    Write(i64, bool, Option<i32>, Option<String>),
    Keep(i64, bool, Option<i32>),
    Delete(i64, bool),
    Truncate,
    NewBatch,
}

fn steps() -> impl Strategy<Value = Vec<Step>> {
    let remark = prop::option::of(prop::sample::select(vec!["", "windfall", "tab\there", "back\\slash\n\\.", "\\N", "é ✓"]));
    let key = || (0_i64..9, any::<bool>());
    let step = prop_oneof![
        8 => (key(), prop::option::of(-9999_i32..9999), remark)
            .prop_map(|((id, part), weight, remark)| Step::Write(id, part, weight, remark.map(str::to_owned))),
        3 => (key(), prop::option::of(-9999_i32..9999)).prop_map(|((id, part), weight)| Step::Keep(id, part, weight)),
        3 => key().prop_map(|(id, part)| Step::Delete(id, part)),
        1 => Just(Step::NewBatch),
    ];
    let rare = prop_oneof![60 => step, 1 => Just(Step::Truncate)];
    prop::collection::vec(rare, 1..160)
}

fn key(id: i64, part: bool) -> Key {
    (id, if part { "it's".to_owned() } else { String::new() })
}

/// The changes that the steps make on the source, in batches, and the source's rows after them.
fn changes(steps: &[Step], rows: &mut Rows) -> Changes {
    let mut builder = ChangeBatchBuilder::new(table());
    let (mut batches, mut places) = (Vec::new(), Vec::new());
    let mut row_of_batch = 0;
    for step in steps {
        let mut place = |key: &Key, batches: &Vec<ChangeBatch>| {
            places.push(((batches.len(), row_of_batch), Bytes::from(format!("{}\0{}", key.0, key.1))));
            row_of_batch += 1;
        };
        match step {
            Step::Write(id, part, weight, remark) => {
                let key = key(*id, *part);
                let kind = if rows.contains_key(&key) { ChangeKind::Update } else { ChangeKind::Insert };
                builder.begin(kind, Origin::default());
                builder.new_value(0, Value::Long(key.0)).unwrap();
                builder.new_value(1, weight.map_or(Value::Null, |w| Value::Decimal(w.into()))).unwrap();
                builder.new_value(2, Value::Text(&key.1)).unwrap();
                builder.new_value(3, remark.as_deref().map_or(Value::Null, Value::Text)).unwrap();
                builder.no_old();
                place(&key, &batches);
                rows.insert(key, (weight.map(i128::from), remark.clone()));
            }
            Step::Keep(id, part, weight) => {
                let key = key(*id, *part);
                let Some(before) = rows.get(&key).cloned() else { continue };
                builder.begin(ChangeKind::Update, Origin::default());
                builder.new_value(0, Value::Long(key.0)).unwrap();
                builder.new_value(1, weight.map_or(Value::Null, |w| Value::Decimal(w.into()))).unwrap();
                builder.new_value(2, Value::Text(&key.1)).unwrap();
                builder.new_unchanged(3);
                builder.no_old();
                place(&key, &batches);
                rows.insert(key, (weight.map(i128::from), before.1));
            }
            Step::Delete(id, part) => {
                let key = key(*id, *part);
                if rows.remove(&key).is_none() {
                    continue;
                }
                builder.begin(ChangeKind::Delete, Origin::default());
                builder.no_new();
                builder.begin_old(OldImage::Key);
                builder.old_value(0, Value::Long(key.0)).unwrap();
                builder.old_value(1, Value::Null).unwrap();
                builder.old_value(2, Value::Text(&key.1)).unwrap();
                builder.old_value(3, Value::Null).unwrap();
                place(&key, &batches);
            }
            Step::Truncate => {
                rows.clear();
                builder.begin(ChangeKind::Truncate, Origin::default());
                builder.no_new();
                builder.no_old();
                place(&(0, String::new()), &batches);
            }
            Step::NewBatch => {
                if !builder.is_empty() {
                    batches.push(builder.finish());
                    row_of_batch = 0;
                }
            }
        }
    }
    batches.push(builder.finish());
    (batches, places)
}

async fn held(client: &tokio_postgres::Client) -> Rows {
    let rows = client.query("SELECT id, \"part \"\"x\"\"\", (weight_kg * 10)::bigint, remark FROM bins", &[]).await.unwrap();
    rows.iter().map(|r| ((r.get(0), r.get(1)), (r.get::<_, Option<i64>>(2).map(i128::from), r.get(3)))).collect()
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn any_history_leaves_the_target_as_the_source_is() {
    let cluster = TestCluster::start(&["settlement"]).await;
    let address = DatabaseAddress::new("127.0.0.1", cluster.port, "settlement", OWNER, &cluster.password);
    let topic = DeliveredTopic { topic: "packhouse.bins".into(), schema: "public".into(), table: "bins".into() };
    let connector = ConnectorId(Uuid::now_v7());
    let at = TopicPartition { topic: TopicId(1), partition: PartitionId(0) };
    let settings = SinkSettings { connector, address: address.clone(), topics: vec![(TopicId(1), topic)] };
    let mut runner = TestRunner::new(Config::default());
    let mut rows = Rows::new();
    let mut next = 0;
    let client = client::connect(&address).await.unwrap();
    for epoch in 1..=6 {
        // a new holder goes on where the former stood, and the former can commit nothing more
        let (mut sink, delivered) = PgSink::start(settings.clone(), Epoch(epoch), &[at]).await.unwrap();
        assert_eq!(delivered[&at].next, next);
        for _ in 0..8 {
            let steps = steps().new_tree(&mut runner).unwrap().current();
            let (batches, places) = changes(&steps, &mut rows);
            next += 1;
            let moved = vec![(at, Delivered { next, ..Delivered::default() })];
            let topics = vec![TopicChanges { topic: 0, batches, changes: places }];
            sink.apply(Round { topics, delivered: moved }).await.unwrap_or_else(|e| panic!("{e}: {steps:?}"));
            assert_eq!(held(&client).await, rows, "{steps:?}");
        }
        let (_later, _) = PgSink::start(settings.clone(), Epoch(epoch + 1), &[at]).await.unwrap();
        let (batches, places) = changes(&[Step::Write(1, true, Some(1), None)], &mut rows.clone());
        let topics = vec![TopicChanges { topic: 0, batches, changes: places }];
        let late =
            sink.apply(Round { topics, delivered: vec![(at, Delivered { next: 999, ..Delivered::default() })] }).await;
        assert!(late.is_err(), "a former holder committed");
        assert_eq!(held(&client).await, rows, "a former holder wrote");
    }
    let older = PgSink::start(settings, Epoch(2), &[at]).await;
    assert!(older.is_err(), "an older holder took over");
    sink::clean_up(&address, connector).await.unwrap();
    let gone: bool = client.query_one("SELECT to_regnamespace('gonvel') IS NULL", &[]).await.unwrap().get(0);
    assert!(gone);
}
