//! Events of several types in one topic, each a table's or a topic's rows; and fields that were never seen before.

use std::collections::BTreeMap;
use std::time::{Duration, Instant};

use crate::support::{PATIENCE, World, topic_changes};
use bytes::Bytes;
use gonvel_core::block::BlockBuilder;
use gonvel_core::connector::{CarriedTopic, DeliveredTopic, SinkDefinition, TopicsDefinition, ValidConnector, ValueForm};
use gonvel_core::event_rows::{EventColumn, EventRows, Only, Part, Unknown};
use gonvel_core::naming::{ConnectorId, ConnectorName, PartitionId, TopicName, TopicPartition};
use gonvel_core::ports::{AppendBatch, PartitionBlocks, TopicLog};
use gonvel_core::record::{Header, Record};
use gonvel_core::schemas::Language;
use gonvel_core::schemas::values::ValueSchema;
use gonvel_core::shape::{ShapeStep, Step};
use gonvel_core::topic_settings::TopicSettings;
use gonvel_storage::quarantine::Which;
use serde_json::{Value, json};
use tokio_postgres::Client;

const EVENTS: i64 = 1_200;
const TOPIC: &str = "coldstore.events";
/// A reading that no column takes, and an event of another type of the same key after it.
const WRONG: i64 = 400;

fn kind(number: i64) -> Option<&'static str> {
    if number == WRONG {
        return Some("reading");
    }
    [Some("reading"), Some("opened"), Some("reading"), Some("defrosted"), None][usize::try_from(number % 5).unwrap()]
}

fn room(number: i64) -> i64 {
    number % 40
}

fn event(number: i64) -> Record {
    let value = match kind(number) {
        Some("reading") if number == WRONG => {
            json!({"kind": "reading", "n": number, "room": room(number), "celsius": "cold"})
        }
        Some("reading") => json!({"kind": "reading", "n": number, "room": room(number), "celsius": number}),
        Some(kind) => json!({"kind": kind, "n": number, "room": room(number), "by": "Alva"}),
        None => json!({"n": number, "note": "a test"}),
    };
    let ty = kind(number).map(|kind| Header { name: "ce-type".into(), value: Bytes::from_static(kind.as_bytes()) });
    Record {
        key: Some(Bytes::from(format!("room-{}", room(number)))),
        value: Some(Bytes::from(value.to_string())),
        headers: ty.into_iter().collect(),
        ..Record::default()
    }
}

async fn append(world: &World, topic: &str, records: impl IntoIterator<Item = Record>) {
    let topic = world.database.topic(&TopicName::parse(topic).unwrap()).await.unwrap();
    let mut builders: BTreeMap<i32, BlockBuilder> = BTreeMap::new();
    for record in records {
        let partition = i32::from(record.key.as_ref().and_then(|key| key.last()).unwrap_or(&0) % 2);
        builders.entry(partition).or_default().push_record(&record);
    }
    let parts = builders.into_iter().filter_map(|(partition, mut builder)| {
        let at = TopicPartition { topic: topic.id, partition: PartitionId(partition) };
        Some(PartitionBlocks { to: at, blocks: vec![builder.finish()?] })
    });
    world.database.append(AppendBatch { parts: parts.collect(), ..AppendBatch::default() }).await.unwrap();
}

fn only(told_by: Part, is: &[&str], is_not: &[&str]) -> Option<Only> {
    let path = if told_by == Part::Header { "ce-type" } else { "kind" };
    let own = |types: &[&str]| types.iter().map(|ty| (*ty).to_owned()).collect();
    Some(Only { part: told_by, path: vec![path.into()], is: own(is), is_not: own(is_not) })
}

/// Rows of one type, by the room: the newest of each.
fn rows(only: Option<Only>, more: EventColumn) -> EventRows {
    let columns = vec![EventColumn::of(Part::Key, "id", "text").as_key(), EventColumn::field(&["n"], "n", "bigint"), more];
    EventRows { columns, only, ..EventRows::default() }
}

async fn until(target: &Client, statement: &str, expected: &[String]) {
    let start = Instant::now();
    loop {
        let rows = target.query(statement, &[]).await.map(|rows| rows.iter().map(|row| row.get(0)).collect::<Vec<String>>());
        match rows {
            Ok(rows) if rows == expected => return,
            found => assert!(start.elapsed() < PATIENCE, "{statement}: {found:?}, not {expected:?}"),
        }
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
}

/// The newest number of each room among events of some types, in the order of the texts.
fn newest(of: impl Fn(Option<&str>) -> bool, upto: i64) -> Vec<String> {
    let mut newest = BTreeMap::new();
    for number in (0..upto).filter(|number| *number != WRONG && of(kind(*number))) {
        newest.insert(room(number), number);
    }
    let mut all: Vec<String> = newest.iter().map(|(room, number)| format!("room-{room} {number}")).collect();
    all.sort_unstable();
    all
}

const SHOWN: &str = "SELECT id || ' ' || n FROM public.";

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn each_type_of_a_topics_events_becomes_rows_of_its_own() {
    let world = World::new().await;
    let target = world.cluster.connect("settlement").await.unwrap();
    world.database.create_topic(&TopicName::parse(TOPIC).unwrap(), 2, &TopicSettings::default()).await.unwrap();
    let celsius = || EventColumn::field(&["celsius"], "celsius", "integer");
    let by = || EventColumn::field(&["by"], "opened_by", "text");
    let whole = || EventColumn::of(Part::Value, "event", "jsonb");
    let read = |part: Part| {
        [
            ("readings", rows(only(part, &["reading"], &[]), celsius())),
            ("openings", rows(only(part, &["opened", "defrosted"], &[]), by())),
            ("others", rows(only(part, &[], &["reading", "opened", "defrosted"]), whole())),
        ]
    };
    let mut sinks: Vec<(&str, ConnectorId)> = Vec::new();
    for (prefix, part) in [("h", Part::Header), ("f", Part::Field)] {
        let topic = |(table, rows): (&str, EventRows)| DeliveredTopic {
            topic: TOPIC.into(),
            schema: "public".into(),
            table: format!("{prefix}_{table}"),
            rows: Some(rows),
        };
        let mut sink = SinkDefinition::of(world.connection("settlement").await, read(part).map(topic).to_vec());
        let double = json!({"step": "compute", "column": "doubled", "value": "celsius * 2"});
        let step: ShapeStep = serde_json::from_value::<Step>(double).unwrap().into();
        sink.shape.steps.insert(format!("{TOPIC} [reading]"), vec![step]);
        sink.placing.lanes = 2;
        sinks.push((prefix, world.connector(&format!("by-{prefix}"), sink).await));
    }
    // the same between topics
    let carried = |(to, rows): (&str, EventRows)| CarriedTopic {
        topic: TOPIC.into(),
        to: format!("sorted.{to}"),
        rows: Some(rows),
        fit: None,
    };
    let mut between = TopicsDefinition::of(read(Part::Header).map(carried).to_vec(), 2);
    between.values.form = ValueForm::Row;
    world.connector("between", between).await;

    append(&world, TOPIC, (0..EVENTS / 2).map(event)).await;
    for round in 1..4_u64 {
        let fleet = world.fleet();
        tokio::time::sleep(Duration::from_millis(200 * round)).await;
        drop(fleet);
    }
    append(&world, TOPIC, (EVENTS / 2..EVENTS).map(event)).await;
    let fleet = world.fleet();
    let opened = |kind: Option<&str>| matches!(kind, Some("opened" | "defrosted"));
    for (prefix, id) in &sinks {
        until(&target, &format!("{SHOWN}{prefix}_openings ORDER BY 1"), &newest(opened, EVENTS)).await;
        until(&target, &format!("{SHOWN}{prefix}_others ORDER BY 1"), &newest(|kind| kind.is_none(), EVENTS)).await;
        until(&target, &format!("{SHOWN}{prefix}_readings ORDER BY 1"), &newest(|kind| kind == Some("reading"), EVENTS))
            .await;
        let wrong = format!("SELECT count(*)::text FROM {prefix}_readings WHERE doubled IS DISTINCT FROM celsius * 2");
        until(&target, &wrong, &["0".to_owned()]).await;
        // a newer reading of the room overtook the wrong one: events of other types did not
        let kept = world.database.quarantined(Some(*id), None, &["waiting", "superseded"], 0, 9).await.unwrap();
        assert_eq!(kept.len(), 1, "{kept:?}");
        assert!(kept[0].state == "superseded" && kept[0].finding.contains("$.celsius"), "{kept:?}");
    }
    let start = Instant::now();
    loop {
        let counts = [
            topic_changes(&world.database, "sorted.readings").await,
            topic_changes(&world.database, "sorted.openings").await,
        ];
        let expected = [0, 1].map(|of| {
            (0..EVENTS)
                .filter(|n| *n != WRONG && if of == 1 { opened(kind(*n)) } else { kind(*n) == Some("reading") })
                .count()
        });
        if [counts[0].len(), counts[1].len()] == expected {
            let mut numbers: Vec<i64> = counts[1].iter().map(|row| row["n"].as_i64().unwrap()).collect();
            numbers.sort_unstable();
            assert_eq!(numbers, (0..EVENTS).filter(|n| opened(kind(*n))).collect::<Vec<_>>(), "none twice");
            break;
        }
        assert!(start.elapsed() < PATIENCE, "{} and {} records, not {expected:?}", counts[0].len(), counts[1].len());
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    fleet.stop().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_waits_is_overtaken_by_its_own_type_only() {
    let world = World::new().await;
    let target = world.cluster.connect("settlement").await.unwrap();
    world.database.create_topic(&TopicName::parse(TOPIC).unwrap(), 2, &TopicSettings::default()).await.unwrap();
    target
        .batch_execute(
            "CREATE TABLE readings (id text PRIMARY KEY, n bigint, celsius int CONSTRAINT cold CHECK (celsius < 10))",
        )
        .await
        .unwrap();
    let topic = |table: &str, rows| DeliveredTopic {
        topic: TOPIC.into(),
        schema: "public".into(),
        table: table.into(),
        rows: Some(rows),
    };
    let celsius = EventColumn::field(&["celsius"], "celsius", "integer");
    let by = EventColumn::field(&["by"], "opened_by", "text");
    let readings = topic("readings", rows(only(Part::Field, &["reading"], &[]), celsius));
    let openings = topic("openings", rows(only(Part::Field, &["opened"], &[]), by));
    let connection = world.connection("settlement").await;
    let reads = |topics: &[&DeliveredTopic]| SinkDefinition::of(connection, topics.iter().copied().cloned().collect());
    let id = world.connector("sorted", reads(&[&readings, &openings])).await;
    let fleet = world.fleet();
    let hot = || Record { value: Some(json!({"kind": "reading", "n": 1, "celsius": 30}).to_string().into()), ..event(0) };
    let opened = || Record { value: Some(json!({"kind": "opened", "n": 2, "by": "Alva"}).to_string().into()), ..event(0) };
    append(&world, TOPIC, [hot()]).await;
    let start = Instant::now();
    while world.database.quarantined(Some(id), None, &["waiting"], 0, 9).await.unwrap().is_empty() {
        assert!(start.elapsed() < PATIENCE, "it does not wait");
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
    // also for a lane that learns anew what waits
    fleet.stop().await;
    let fleet = world.fleet();
    let defrosted = Record { value: Some(json!({"kind": "defrosted", "n": 3}).to_string().into()), ..event(0) };
    append(&world, TOPIC, [defrosted, opened()]).await;
    until(&target, &format!("{SHOWN}openings"), &["room-0 2".to_owned()]).await;
    // what is of no type that is read is passed over, and not counted
    let counted = async || {
        let connector = world.database.find_connector(id).await.unwrap();
        let counts = connector.said().next().and_then(|lane| lane.tables.get(TOPIC)).map(|table| table.counts);
        counts.unwrap_or_default()
    };
    let start = Instant::now();
    while counted().await.update < 1 {
        assert!(start.elapsed() < PATIENCE, "{:?}", counted().await);
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
    assert_eq!(counted().await.total(), 1);
    // once its type is not read any more, what waits is not said to be delivered
    let change = async |topics: &[&DeliveredTopic], version: i32| {
        let name = ConnectorName::parse("sorted").unwrap();
        let connector = ValidConnector::check(id, name, reads(topics).into()).unwrap();
        world.database.change_connector(&connector, version, &[], "").await.unwrap();
    };
    change(&[&openings], 1).await;
    assert_eq!(world.database.retry(&Which::All(id), None).await.unwrap(), 1);
    let start = Instant::now();
    loop {
        let kept = world.database.quarantined(Some(id), None, &["waiting", "asked", "delivered"], 0, 9).await.unwrap();
        assert_eq!(kept.len(), 1);
        assert_ne!(kept[0].state, "delivered", "nothing was written");
        if kept[0].finding.contains("is read any more") {
            break;
        }
        assert!(start.elapsed() < PATIENCE, "{kept:?}");
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
    change(&[&readings, &openings], 2).await;
    target.batch_execute("ALTER TABLE readings DROP CONSTRAINT cold").await.unwrap();
    assert_eq!(world.database.retry(&Which::All(id), None).await.unwrap(), 1, "an event of another type overtook it");
    until(&target, &format!("{SHOWN}readings"), &["room-0 1".to_owned()]).await;
    fleet.stop().await;
}

const AVRO: &str = r#"{"type":"record","name":"Reading","fields":[{"name":"n","type":"long"},
    {"name":"room","type":["null","int"],"default":null},{"name":"checked","type":["null",{"type":"int","logicalType":"date"}],"default":null}]}"#;

/// Readings whose fields grow: later ones have more of them, and some come null at first.
fn growing(number: i64, avro: (gonvel_core::naming::SchemaId, &ValueSchema)) -> Record {
    let mut value = json!({"n": number});
    if number >= 100 {
        value["room"] = if number < 150 { Value::Null } else { json!(number % 7) };
    }
    if number >= 200 {
        value["door"] = json!({"open": number % 2 == 0, "by": null});
    }
    if number >= 250 {
        value["door"]["by"] = json!(["Alva", "Bo"]);
        value["Celsius °"] = if number % 2 == 0 { json!(number) } else { json!(0.5) };
    }
    let key = Some(Bytes::from(number.to_string()));
    if number % 50 == 49 {
        let value = json!({"n": number, "room": 3, "checked": "2026-11-29"});
        return Record { key, value: Some(avro.1.write(&value).unwrap()), schema: Some(avro.0), ..Record::default() };
    }
    Record { key, value: Some(Bytes::from(value.to_string())), ..Record::default() }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_field_that_was_never_seen_becomes_a_column_and_no_record_is_lost_or_doubled() {
    let world = World::new().await;
    let target = world.cluster.connect("settlement").await.unwrap();
    let name = TopicName::parse(TOPIC).unwrap();
    world.database.create_topic(&name, 2, &TopicSettings::default()).await.unwrap();
    let id = world.database.register_text(&name, "value", Language::Avro, AVRO, "test").await.unwrap();
    let avro = ValueSchema::new(Language::Avro, AVRO).unwrap();
    let columns = vec![
        EventColumn::field(&["n"], "n", "bigint"),
        EventColumn::of(Part::Partition, "p", "integer").as_key(),
        EventColumn::of(Part::Offset, "o", "bigint").as_key(),
    ];
    let rows = EventRows { columns, unknown: Unknown::AddColumn, ..EventRows::default() };
    let topic =
        DeliveredTopic { topic: TOPIC.into(), schema: "public".into(), table: "readings".into(), rows: Some(rows.clone()) };
    let mut sink = SinkDefinition::of(world.connection("settlement").await, vec![topic]);
    sink.placing.lanes = 2;
    let connector = world.connector("growing", sink).await;
    let carried = CarriedTopic { topic: TOPIC.into(), to: "grown".into(), rows: Some(rows), fit: None };
    let mut between = TopicsDefinition::of(vec![carried], 1);
    between.values.form = ValueForm::Row;
    world.connector("between", between).await;
    for part in 0..6_i64 {
        append(&world, TOPIC, (part * 50..(part + 1) * 50).map(|number| growing(number, (id, &avro)))).await;
        let fleet = world.fleet();
        tokio::time::sleep(Duration::from_millis(if part % 2 == 0 { 300 } else { 900 })).await;
        if part % 2 == 0 { drop(fleet) } else { fleet.stop().await }
    }
    let fleet = world.fleet();
    until(
        &target,
        "SELECT count(*) || ' ' || count(DISTINCT n) || ' ' || sum(n) FROM readings",
        &[format!("300 300 {}", 299 * 150)],
    )
    .await;
    let kept = world.database.find_connector(connector).await.unwrap();
    let read = kept.definition.read_topics();
    let mut found: Vec<(String, String)> =
        read[0].rows.unwrap().columns[3..].iter().map(|c| (c.name.clone(), c.ty.clone())).collect();
    found.sort_unstable();
    // where no schema says a type it is one that takes what may come later; which lane comes to a room first is open
    let room = if found.last().is_some_and(|(_, ty)| ty == "numeric") { "numeric" } else { "integer" };
    let expected =
        [("celsius__", "numeric"), ("checked", "date"), ("door_by", "jsonb"), ("door_open", "boolean"), ("room", room)];
    assert_eq!(found, expected.map(|(name, ty)| (name.to_owned(), ty.to_owned())));
    let shown = "SELECT concat_ws(' ', n, trim_scale(room::numeric), door_open, door_by, trim_scale(celsius__), checked) FROM readings WHERE n IN (10, 149, 150, 201, 251, 252) ORDER BY n";
    let expected =
        ["10", "149 3 2026-11-29", "150 3", "201 5 f", "251 6 f [\"Alva\", \"Bo\"] 0.5", "252 0 t [\"Alva\", \"Bo\"] 252"];
    until(&target, shown, &expected.map(str::to_owned)).await;
    let history = world.database.history_of(connector.0, None, 50).await.unwrap();
    let said: Vec<&str> = history.iter().filter_map(|deed| deed.detail.as_deref()).collect();
    assert!(said.iter().any(|said| said.contains("became columns: door_open boolean")), "{said:?}");
    // what goes on between topics grew as well
    let start = Instant::now();
    loop {
        let rows = topic_changes(&world.database, "grown").await;
        if rows.len() == 300 {
            let with = |column: &str| rows.iter().filter(|row| !row[column].is_null()).count();
            assert_eq!((with("n"), with("door_open"), with("checked")), (300, 98, 6), "{:?}", rows.last());
            break;
        }
        assert!(start.elapsed() < PATIENCE, "{} records", rows.len());
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    fleet.stop().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn events_are_routed_by_a_step_into_tables_and_topics() {
    let world = World::new().await;
    let target = world.cluster.connect("settlement").await.unwrap();
    world.database.create_topic(&TopicName::parse(TOPIC).unwrap(), 2, &TopicSettings::default()).await.unwrap();
    let by = || EventColumn::field(&["by"], "opened_by", "text");
    let route = |to: [&str; 2]| -> Vec<ShapeStep> {
        let ways = json!([{"when": "opened_by IS NOT NULL", "to": to[0]}, {"when": "n % 2 = 0", "to": to[1]}]);
        vec![serde_json::from_value::<Step>(json!({"step": "route", "ways": ways})).unwrap().into()]
    };
    let topic =
        DeliveredTopic { topic: TOPIC.into(), schema: "public".into(), table: "odd".into(), rows: Some(rows(None, by())) };
    let mut sink = SinkDefinition::of(world.connection("settlement").await, vec![topic]);
    sink.shape.steps.insert(TOPIC.into(), route(["openings", "even"]));
    world.connector("routed", sink).await;
    // each record a row of its own there: of a row that a key names, a delete goes to all places where it does not go
    let mut each = rows(None, by());
    each.columns[0].key = false;
    each.columns.extend([Part::Partition, Part::Offset].map(|part| EventColumn::of(part, part.word(), "bigint").as_key()));
    let carried = CarriedTopic { topic: TOPIC.into(), to: "odd".into(), rows: Some(each), fit: None };
    let mut between = TopicsDefinition::of(vec![carried], 1);
    between.values.form = ValueForm::Row;
    between.shape.steps.insert(TOPIC.into(), route(["openings", "{id}"]));
    world.connector("between", between).await;
    append(&world, TOPIC, (0..EVENTS / 2).map(event)).await;
    let fleet = world.fleet();
    tokio::time::sleep(Duration::from_millis(250)).await;
    drop(fleet);
    append(&world, TOPIC, (EVENTS / 2..EVENTS).map(event)).await;
    let fleet = world.fleet();
    let opened = |number: i64| matches!(kind(number), Some("opened" | "defrosted"));
    let newest = |of: &dyn Fn(i64) -> bool| {
        let rows: BTreeMap<i64, i64> = (0..EVENTS).filter(|n| of(*n)).map(|n| (room(n), n)).collect();
        let mut rows: Vec<String> = rows.iter().map(|(room, n)| format!("room-{room} {n}")).collect();
        rows.sort_unstable();
        rows
    };
    until(&target, &format!("{SHOWN}openings ORDER BY 1"), &newest(&opened)).await;
    until(&target, &format!("{SHOWN}even ORDER BY 1"), &newest(&|n| !opened(n) && n % 2 == 0)).await;
    until(&target, &format!("{SHOWN}odd ORDER BY 1"), &newest(&|n| !opened(n) && n % 2 == 1)).await;
    // between topics a column may name where a row goes
    let expected = [
        ("openings", (0..EVENTS).filter(|n| opened(*n)).count()),
        ("room-4", (0..EVENTS).filter(|n| !opened(*n) && n % 2 == 0 && room(*n) == 4).count()),
        ("odd", (0..EVENTS).filter(|n| !opened(*n) && n % 2 == 1).count()),
    ];
    let start = Instant::now();
    for (name, count) in expected {
        loop {
            let there = match world.database.topic(&TopicName::parse(name).unwrap()).await {
                Ok(_) => topic_changes(&world.database, name).await.len(),
                Err(_) => 0,
            };
            if there == count {
                break;
            }
            assert!(start.elapsed() < PATIENCE, "{name}: {there} records, not {count}");
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
    }
    fleet.stop().await;
}
