//! Rows written under registered schemas of all three languages: what fits is there once, what does not waits, through kills.

use std::collections::BTreeMap;
use std::time::{Duration, Instant};

use crate::support::{PATIENCE, World, topic_records};
use bytes::Bytes;
use gonvel_core::block::BlockBuilder;
use gonvel_core::connector::{CarriedTopic, State, TopicsDefinition};
use gonvel_core::event_rows::{EventColumn, EventRows, Part};
use gonvel_core::fitting::{Fit, Link};
use gonvel_core::naming::{ConnectorId, PartitionId, TopicName, TopicPartition};
use gonvel_core::ports::{AppendBatch, PartitionBlocks, TopicLog};
use gonvel_core::record::Record;
use gonvel_core::schemas::Language;
use gonvel_core::schemas::values::ValueSchema;
use gonvel_core::shape::{ShapeStep, Step};
use gonvel_core::topic_settings::TopicSettings;
use serde_json::json;

const WEIGHED: i64 = 3_000;

const AVRO: &str = r#"{"type":"record","name":"Weighed","fields":[{"name":"bin","type":"long"},
    {"name":"net_weight","type":{"type":"bytes","logicalType":"decimal","precision":5,"scale":1}},
    {"name":"grade","type":{"type":"enum","name":"Grade","symbols":["first","second"]}},
    {"name":"told","type":["null",{"type":"long","logicalType":"timestamp-micros"}],"default":null}]}"#;
const JSON: &str = r#"{"type":"object","required":["bin","netWeight","grade"],"additionalProperties":false,"properties":{
    "bin":{"type":"integer"},"netWeight":{"type":"number","maximum":9999.9},"grade":{"enum":["first","second"]},
    "told":{"type":"string","format":"date-time"}}}"#;
const PROTO: &str = r#"syntax = "proto3"; message Weighed { int64 bin = 1; double net_weight = 2; Grade grade = 3; }
    enum Grade { first = 0; second = 1; }"#;

fn rows() -> EventRows {
    let columns = vec![
        EventColumn::field(&["bin"], "bin", "bigint"),
        EventColumn::field(&["kg"], "kg", "numeric(9,1)"),
        EventColumn::field(&["quality"], "quality", "text"),
        EventColumn::of(Part::Time, "told", "timestamp with time zone"),
        EventColumn::of(Part::Partition, "p", "integer").as_key(),
        EventColumn::of(Part::Offset, "o", "bigint").as_key(),
    ];
    EventRows { columns, ..EventRows::default() }
}

/// The grade that is given, which is none of the schema's for some.
fn grade(bin: i64) -> &'static str {
    match bin % 50 {
        13 => "third",
        even if even % 2 == 0 => "first",
        _ => "second",
    }
}

async fn waiting(world: &World, connector: ConnectorId) -> i64 {
    let own = world.cluster.connect("gonvel").await.unwrap();
    own.query_one("SELECT count(*) FROM quarantine WHERE connector_id = $1 AND state = 'waiting'", &[&connector.0])
        .await
        .unwrap()
        .get(0)
}

async fn append(world: &World, topic: &TopicName, bins: std::ops::Range<i64>) {
    let topic = world.database.topic(topic).await.unwrap();
    let mut builders: BTreeMap<i32, BlockBuilder> = BTreeMap::new();
    for bin in bins {
        let value = json!({"bin": bin, "kg": format!("{}.5", 100 + bin % 300), "quality": grade(bin)}).to_string();
        let timestamp_us = 1_790_000_000_000_000 + bin * 1_000_000;
        let record = Record { value: Some(Bytes::from(value)), timestamp_us, ..Record::default() };
        builders.entry(i32::try_from(bin % 2).unwrap()).or_default().push_record(&record);
    }
    let parts = builders.into_iter().filter_map(|(partition, mut builder)| {
        let at = TopicPartition { topic: topic.id, partition: PartitionId(partition) };
        Some(PartitionBlocks { to: at, blocks: vec![builder.finish()?] })
    });
    world.database.append(AppendBatch { parts: parts.collect(), ..AppendBatch::default() }).await.unwrap();
}

fn definition(to: &str, net: &str, links: &[(&str, &str)]) -> TopicsDefinition {
    let link = |(field, column): &(&str, &str)| Link { field: vec![(*field).into()], column: (*column).into() };
    let fit = Fit { schema: format!("{to}.value"), links: links.iter().map(link).collect() };
    let carried = CarriedTopic { topic: "bins.weighed".into(), to: to.into(), rows: Some(rows()), fit: Some(fit) };
    let mut between = TopicsDefinition::of(vec![carried], 2);
    let step = json!({"step": "compute", "column": net, "value": "kg - 1.5"});
    let step: ShapeStep = serde_json::from_value::<Step>(step).unwrap().into();
    between.shape.steps.insert("bins.weighed".into(), vec![step]);
    between
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn rows_are_written_under_registered_schemas_of_all_languages_once_through_kills() {
    let world = World::new().await;
    let from = TopicName::parse("bins.weighed").unwrap();
    world.database.create_topic(&from, 2, &TopicSettings::default()).await.unwrap();
    let mut written = Vec::new();
    for (to, language, text) in [
        ("bins.avro", Language::Avro, AVRO),
        ("bins.json", Language::JsonSchema, JSON),
        ("bins.proto", Language::Protobuf, PROTO),
    ] {
        let topic = TopicName::parse(to).unwrap();
        world.database.create_topic(&topic, 2, &TopicSettings::default()).await.unwrap();
        let id = world.database.register_text(&topic, "value", language, text, "test").await.unwrap();
        // names that are alike need no link; the grade has another name, and no column of Avro is left out
        let connector = world.connector(&format!("to-{to}"), definition(to, "net_weight", &[("grade", "quality")])).await;
        written.push((to, id, ValueSchema::new(language, text).unwrap(), connector));
    }
    append(&world, &from, 0..WEIGHED / 3).await;
    for round in 1..4_u64 {
        let fleet = world.fleet();
        tokio::time::sleep(Duration::from_millis(120 * round)).await;
        drop(fleet);
    }
    append(&world, &from, WEIGHED / 3..WEIGHED).await;
    let fleet = world.fleet();
    let good = |bin: &i64| grade(*bin) != "third";
    let expected: Vec<(i64, String, String)> =
        (0..WEIGHED).filter(good).map(|bin| (bin, format!("{}.0", 99 + bin % 300), grade(bin).to_owned())).collect();
    let wrong = i64::try_from((0..WEIGHED).filter(|bin| !good(bin)).count()).unwrap();
    for (to, id, schema, connector) in &written {
        let start = Instant::now();
        let records = loop {
            let records = topic_records(&world.database, to).await;
            if records.len() >= expected.len() && waiting(&world, *connector).await == wrong {
                break records;
            }
            assert!(start.elapsed() < PATIENCE, "{to}: {} records", records.len());
            tokio::time::sleep(Duration::from_millis(100)).await;
        };
        let mut found: Vec<(i64, String, String)> = Vec::new();
        for record in records {
            assert_eq!(record.schema, Some(*id), "{to}");
            let value = schema.show(record.value.as_ref().unwrap()).unwrap();
            let net = value.get("net_weight").or_else(|| value.get("netWeight")).unwrap();
            let net: f64 = net.as_f64().or_else(|| net.as_str()?.parse().ok()).unwrap();
            // what is a language's default is not written
            let grade = value.get("grade").and_then(|g| g.as_str()).unwrap_or("first");
            found.push((value["bin"].as_i64().unwrap_or(0), format!("{net:.1}"), grade.to_owned()));
        }
        found.sort_unstable();
        assert_eq!(found.len(), expected.len(), "{to}: none twice");
        assert_eq!(found, expected, "{to}");
    }
    fleet.stop().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_schema_that_rows_do_not_fit_halts_the_connector_and_says_which_field_lacks_what() {
    let world = World::new().await;
    let from = TopicName::parse("bins.weighed").unwrap();
    world.database.create_topic(&from, 2, &TopicSettings::default()).await.unwrap();
    let to = TopicName::parse("bins.avro").unwrap();
    world.database.create_topic(&to, 2, &TopicSettings::default()).await.unwrap();
    world.database.register_text(&to, "value", Language::Avro, AVRO, "test").await.unwrap();
    append(&world, &from, 0..10).await;
    let lacking = world.connector("lacking", definition("bins.avro", "gross", &[])).await;
    let mut other = definition("bins.avro", "net_weight", &[("grade", "quality")]);
    other.carries[0].to = "bins.other".into();
    let unknown = TopicsDefinition {
        carries: vec![CarriedTopic {
            fit: Some(Fit { schema: "no.such".into(), links: Vec::new() }),
            to: "bins.third".into(),
            ..other.carries[0].clone()
        }],
        ..other.clone()
    };
    let bound = world.connector("into-another-topic", other).await;
    let unknown = world.connector("without-a-schema", unknown).await;
    let fleet = world.fleet();
    for connector in [lacking, unknown] {
        world.until_state(connector, State::Halted).await;
    }
    let reason = async |connector: ConnectorId| {
        let found = world.database.find_connector(connector).await.unwrap();
        found.said().find_map(|lane| lane.reason.clone()).unwrap_or_default()
    };
    let said = reason(lacking).await;
    assert!(
        said.contains("the field net_weight needs a column") && said.contains("the field grade needs a column"),
        "{said}"
    );
    assert!(reason(unknown).await.contains("there is no schema no.such"));
    // a topic without a schema takes the one that its rows are written under
    let start = Instant::now();
    while topic_records(&world.database, "bins.other").await.len() < 10 {
        assert!(start.elapsed() < PATIENCE, "{}", reason(bound).await);
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    let other = TopicName::parse("bins.other").unwrap();
    let names: Vec<String> = world.database.schemas_of(&other).await.unwrap().into_iter().map(|v| v.name).collect();
    assert!(names.contains(&"bins.avro.value".to_owned()), "{names:?}");
    fleet.stop().await;
}
