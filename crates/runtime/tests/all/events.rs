//! Events of every form as rows: each way of writing, wrong ones in quarantine and only they, none twice.

use std::collections::BTreeMap;
use std::sync::Arc;
use std::time::{Duration, Instant};

use crate::support::{PATIENCE, World, topic_changes};
use bytes::Bytes;
use gonvel_core::block::BlockBuilder;
use gonvel_core::connector::{
    CarriedTopic, Deletes, DeliveredTopic, SinkDefinition, TargetRows, TopicsDefinition, ValueForm, Wish,
};
use gonvel_core::event_rows::{EventColumn, EventRows, Part};
use gonvel_core::naming::{ConnectorId, PartitionId, SchemaId, TopicName, TopicPartition};
use gonvel_core::ports::{AppendBatch, PartitionBlocks, Topic, TopicLog};
use gonvel_core::record::{Header, Record};
use gonvel_core::schemas::Language;
use gonvel_core::schemas::values::ValueSchema;
use gonvel_core::shape::{ShapeStep, Step};
use gonvel_core::topic_settings::TopicSettings;
use gonvel_storage::quarantine::Which;
use rand::rngs::StdRng;
use rand::{Rng, SeedableRng};
use serde_json::{Value, json};
use tokio_postgres::Client;

const ROOMS: i64 = 12;

const AVRO: &str = r#"{"type":"record","name":"Reading","fields":[
    {"name":"room","type":"int"},
    {"name":"celsius","type":["null",{"type":"bytes","logicalType":"decimal","precision":5,"scale":2}],"default":null},
    {"name":"door","type":["null",{"type":"record","name":"Door","fields":[{"name":"open","type":"boolean"}]}],"default":null},
    {"name":"sent","type":"long"},
    {"name":"note","type":["null","string"],"default":null}]}"#;
const JSON_SCHEMA: &str = r#"{"type":"object","properties":{"room":{"type":"integer"}},"required":["room"]}"#;
const PROTOBUF: &str = r#"syntax = "proto3"; message Reading { int32 room = 1; optional string celsius = 2; Door door = 3;
    int64 sent = 4; optional string note = 5; message Door { bool open = 1; } }"#;

/// The forms of a value.
const FORMS: [&str; 6] = ["json", "json with a schema", "avro", "protobuf", "cloud event", "json as avro’s text"];

/// A reading as everyone understands it.
#[derive(Debug, Clone, PartialEq)]
struct Reading {
    room: i64,
    celsius: Option<String>,
    open: Option<bool>,
    sent: i64,
    note: Option<String>,
    /// Nothing comes: the room's row goes.
    gone: bool,
    /// What is wrong with it.
    wrong: bool,
}

fn readings(random: &mut StdRng, count: usize) -> Vec<Reading> {
    let notes = ["", "Tür \"B\"\n\t\\N", "null", "🍎", "a,b;{c}"];
    let one = |number: usize| Reading {
        room: random.random_range(0..ROOMS),
        celsius: (random.random_range(0..5) > 0)
            .then(|| format!("{:.2}", f64::from(random.random_range(-9_999..9_999)) / 100.0)),
        open: (random.random_range(0..3) > 0).then(|| random.random()),
        sent: i64::try_from(number).unwrap(),
        note: (random.random_range(0..2) > 0).then(|| notes[random.random_range(0..notes.len())].to_owned()),
        gone: random.random_range(0..20) == 0,
        wrong: random.random_range(0..40) == 0,
    };
    (0..count).map(one).collect()
}

struct Schemas(BTreeMap<&'static str, (SchemaId, ValueSchema)>);

impl Schemas {
    async fn register(world: &World, topic: &TopicName) -> Self {
        let mut all = BTreeMap::new();
        for (form, language, text) in [
            ("avro", Language::Avro, AVRO),
            ("json with a schema", Language::JsonSchema, JSON_SCHEMA),
            ("protobuf", Language::Protobuf, PROTOBUF),
        ] {
            // one name holds one language: each stands for itself
            let name = TopicName::parse(format!("{topic}.{}", language.word())).unwrap();
            world.database.create_topic(&name, 1, &TopicSettings::default()).await.unwrap();
            let id = world.database.register_text(&name, "value", language, text, "test").await.unwrap();
            all.insert(form, (id, ValueSchema::new(language, text).unwrap()));
        }
        Self(all)
    }

    /// A reading as a record of a form.
    fn record(&self, form: &str, reading: &Reading) -> Record {
        let mut headers = Vec::new();
        let key = Some(Bytes::from(format!("room-{:02}", reading.room)));
        let timestamp_us = 1_790_000_000_000_000 + reading.sent * 1_000;
        if reading.gone {
            return Record { key, timestamp_us, ..Record::default() };
        }
        let number = reading.celsius.as_ref().map(|c| serde_json::from_str::<Value>(c).unwrap());
        let mut value = json!({"room": reading.room, "celsius": number, "sent": reading.sent});
        if let Some(open) = reading.open {
            value["door"] = json!({"open": open});
        }
        if let Some(note) = &reading.note {
            value["note"] = json!(note);
        }
        if reading.wrong {
            value["room"] = json!("cellar");
        }
        let as_text = |value: &Value| Some(Bytes::from(value.to_string()));
        let (id, schema) = match form {
            "json as avro’s text" => (Some(self.0["avro"].0), None),
            form => self.0.get(form).map_or((None, None), |(id, schema)| (Some(*id), Some(schema))),
        };
        let value = match form {
            _ if reading.wrong && schema.is_some_and(|_| form != "json with a schema") => {
                Some(Bytes::from_static(b"\xc3\x01 cut"))
            }
            "avro" => {
                value["celsius"] = json!(reading.celsius);
                value["door"] = json!(reading.open.map(|open| json!({"open": open})));
                value["note"] = json!(reading.note);
                Some(schema.unwrap().write(&value).unwrap())
            }
            "protobuf" => {
                match &reading.celsius {
                    Some(celsius) => value["celsius"] = json!(celsius),
                    None => drop(value.as_object_mut().unwrap().shift_remove("celsius")),
                }
                Some(schema.unwrap().write(&value).unwrap())
            }
            "cloud event" => {
                headers.push(Header { name: "ce-type".into(), value: Bytes::from_static(b"reading") });
                as_text(&value)
            }
            _ => as_text(&value),
        };
        Record { key, value, headers, timestamp_us, schema: id, key_schema: None }
    }
}

async fn append(world: &World, topic: &Topic, records: &[Record]) {
    let mut builders: BTreeMap<i32, BlockBuilder> = BTreeMap::new();
    for record in records {
        // one room, one partition
        let partition = i32::from(record.key.as_ref().unwrap().last().unwrap() % 2);
        builders.entry(partition).or_default().push_record(record);
    }
    let parts = builders.into_iter().filter_map(|(partition, mut builder)| {
        let at = TopicPartition { topic: topic.id, partition: PartitionId(partition) };
        Some(PartitionBlocks { to: at, blocks: vec![builder.finish()?] })
    });
    world.database.append(AppendBatch { parts: parts.collect(), ..AppendBatch::default() }).await.unwrap();
}

fn columns() -> Vec<EventColumn> {
    vec![
        EventColumn::field(&["room"], "room", "integer"),
        EventColumn::field(&["celsius"], "celsius", "numeric(5,2)"),
        EventColumn::field(&["door", "open"], "door_open", "boolean"),
        EventColumn::field(&["sent"], "sent", "bigint"),
        EventColumn::field(&["note"], "note", "text"),
        EventColumn { path: vec!["ce-type".into()], ..EventColumn::of(Part::Header, "event_type", "text") },
        EventColumn::of(Part::Key, "record_key", "text"),
        EventColumn::of(Part::Time, "record_time", "timestamp with time zone"),
        EventColumn::of(Part::Partition, "p", "integer"),
        EventColumn::of(Part::Offset, "o", "bigint"),
    ]
}

fn rows(key: &[&str], newest_by: Option<&str>) -> EventRows {
    let mut columns = columns();
    columns.iter_mut().for_each(|c| c.key = key.contains(&c.name.as_str()));
    EventRows { columns, newest_by: newest_by.map(str::to_owned), ..EventRows::default() }
}

/// What is expected of a reading's row, as the target shows it.
fn shown(reading: &Reading, form: &str) -> String {
    let text = |value: Option<String>| value.unwrap_or_else(|| "∅".into());
    let event_type = if form == "cloud event" { "reading" } else { "∅" };
    format!(
        "{}|{}|{}|{}|{}|{event_type}|room-{:02}",
        reading.room,
        text(reading.celsius.clone()),
        text(reading.open.map(|open| open.to_string())),
        reading.sent,
        text(reading.note.clone()),
        reading.room,
    )
}

const SHOW: &str = "SELECT concat_ws('|', room, coalesce(celsius::text, '∅'), coalesce(door_open::text, '∅'), sent, coalesce(note, '∅'), \
    coalesce(event_type, '∅'), record_key) FROM readings";

async fn found(client: &Client, statement: &str) -> Vec<String> {
    let Ok(rows) = client.query(statement, &[]).await else { return Vec::new() };
    let mut rows: Vec<String> = rows.iter().map(|row| row.get(0)).collect();
    rows.sort_unstable();
    rows
}

async fn until(client: &Client, statement: &str, mut expected: Vec<String>, what: &str) {
    expected.sort_unstable();
    let start = Instant::now();
    loop {
        let rows = found(client, statement).await;
        if rows == expected {
            return;
        }
        let odd: Vec<_> = rows.iter().filter(|row| !expected.contains(row)).take(3).collect();
        let lack: Vec<_> = expected.iter().filter(|row| !rows.contains(row)).take(3).collect();
        assert!(start.elapsed() < PATIENCE, "{what}: {} rows, not {}: {odd:?} but not {lack:?}", rows.len(), expected.len());
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
}

/// Waits until so many went into quarantine, where newer ones of their rows may have overtaken them.
async fn put_aside(world: &World, id: ConnectorId, count: usize) {
    let start = Instant::now();
    loop {
        let kept = world.database.quarantined(Some(id), None, &["waiting", "superseded"], 0, 500).await.unwrap();
        if kept.len() == count {
            assert!(kept.iter().all(|kept| kept.step == "read" && kept.finding.contains("is no row")), "{kept:?}");
            return;
        }
        let lanes = world.database.find_connector(id).await.unwrap().lanes;
        assert!(start.elapsed() < PATIENCE, "{} were put aside, not {count}: {:?}, {lanes:?}", kept.len(), kept.first());
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
}

/// One topic of one form, and its readings as they were appended.
struct Sent {
    topic: Topic,
    form: &'static str,
    readings: Vec<Reading>,
}

async fn send(world: &World, number: usize, form: &'static str, deletes: bool) -> (Sent, Schemas) {
    let name = TopicName::parse(format!("coldstore.{number}")).unwrap();
    let topic = world.database.create_topic(&name, 2, &TopicSettings::default()).await.unwrap();
    let schemas = Schemas::register(world, &name).await;
    let mut readings = readings(&mut StdRng::seed_from_u64(u64::try_from(number).unwrap()), 600);
    readings.iter_mut().for_each(|reading| reading.gone &= deletes && !reading.wrong);
    (Sent { topic, form, readings }, schemas)
}

impl Sent {
    fn good(&self) -> impl Iterator<Item = &Reading> {
        self.readings.iter().filter(|reading| !reading.wrong)
    }

    fn wrong(&self) -> usize {
        self.readings.len() - self.good().count()
    }

    /// The last of each room, as far as it is there.
    fn current(&self) -> Vec<String> {
        let mut last: BTreeMap<i64, &Reading> = BTreeMap::new();
        last.extend(self.good().map(|reading| (reading.room, reading)));
        last.values().filter(|reading| !reading.gone).map(|reading| shown(reading, self.form)).collect()
    }

    fn all(&self) -> Vec<String> {
        self.good().filter(|reading| !reading.gone).map(|reading| shown(reading, self.form)).collect()
    }
}

async fn sink(world: &World, sent: &Sent, rows: EventRows, change: impl FnOnce(&mut SinkDefinition)) -> ConnectorId {
    let topic = DeliveredTopic {
        topic: sent.topic.name.as_str().into(),
        schema: "public".into(),
        table: "readings".into(),
        rows: Some(rows),
    };
    let mut sink = SinkDefinition::of(world.connection("settlement").await, vec![topic]);
    sink.failing.most_in_a_row = 500;
    change(&mut sink);
    world.connector("to-settlement", sink).await
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn every_form_becomes_the_same_rows_in_every_way_of_writing() {
    let world = World::new().await;
    let target = world.cluster.connect("settlement").await.unwrap();
    for (number, form) in FORMS.into_iter().enumerate() {
        for (way, rows_are) in [TargetRows::Current, TargetRows::Appended, TargetRows::History].into_iter().enumerate() {
            target.batch_execute("DROP TABLE IF EXISTS readings").await.unwrap();
            let (sent, schemas) = send(&world, number * 10 + way, form, true).await;
            let key: &[&str] = if rows_are == TargetRows::Appended { &["p", "o"] } else { &["record_key"] };
            let id = sink(&world, &sent, rows(key, None), |sink| {
                sink.writes.rows = rows_are;
                if way == 1 {
                    sink.writes.deletes = Deletes::Ignored;
                }
            })
            .await;
            let records: Vec<Record> = sent.readings.iter().map(|reading| schemas.record(form, reading)).collect();
            for (part, records) in records.chunks(150).enumerate() {
                append(&world, &sent.topic, records).await;
                // what was delivered is not delivered again by whoever comes after
                let fleet = world.fleet();
                if part % 2 == 0 {
                    tokio::time::sleep(Duration::from_millis(150)).await;
                } else {
                    put_aside(&world, id, sent.readings[..(part + 1) * 150].iter().filter(|r| r.wrong).count()).await;
                }
                fleet.stop().await;
            }
            let fleet = world.fleet();
            let what = format!("{form}, {rows_are:?}");
            match rows_are {
                TargetRows::Current => until(&target, SHOW, sent.current(), &what).await,
                TargetRows::Appended => until(&target, SHOW, sent.all(), &what).await,
                _ => {
                    until(&target, &format!("{SHOW} WHERE valid_to IS NULL"), sent.current(), &what).await;
                    until(&target, SHOW, sent.all(), &what).await;
                }
            }
            put_aside(&world, id, sent.wrong()).await;
            world.database.ask(id, Wish::Delete, "").await.unwrap();
            let start = Instant::now();
            while world.database.find_connector(id).await.is_ok() {
                assert!(start.elapsed() < PATIENCE, "{what}: it was not deleted");
                tokio::time::sleep(Duration::from_millis(20)).await;
            }
            fleet.stop().await;
        }
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn the_newest_by_a_column_stays_whatever_comes_late_or_is_tried_again() {
    let world = World::new().await;
    let target = world.cluster.connect("settlement").await.unwrap();
    let (mut sent, schemas) = send(&world, 1, "json", false).await;
    // late events: each room's come in any order
    let random = &mut StdRng::seed_from_u64(9);
    for place in (1..sent.readings.len()).rev() {
        sent.readings.swap(place, random.random_range(0..=place));
    }
    let id = sink(&world, &sent, rows(&["room"], Some("sent")), |_| {}).await;
    let fleet = world.fleet();
    for some in sent.readings.chunks(97) {
        let records: Vec<Record> = some.iter().map(|reading| schemas.record("json", reading)).collect();
        append(&world, &sent.topic, &records).await;
        tokio::time::sleep(Duration::from_millis(30)).await;
    }
    let newest = |also: &[Reading]| {
        let mut newest: BTreeMap<i64, Reading> = BTreeMap::new();
        for reading in sent.good().chain(also) {
            let known = newest.entry(reading.room).or_insert_with(|| reading.clone());
            if reading.sent >= known.sent {
                *known = reading.clone();
            }
        }
        newest.values().map(|reading| shown(reading, "json")).collect::<Vec<_>>()
    };
    until(&target, SHOW, newest(&[]), "newest by sent").await;
    put_aside(&world, id, sent.wrong()).await;
    // mended records are as old as they were: only where nothing newer came do they count
    let kept = world.database.quarantined(Some(id), None, &["waiting"], 0, 500).await.unwrap();
    let mut mended = Vec::new();
    for kept in &kept {
        let mut value: Value = serde_json::from_slice(kept.value.as_ref().unwrap()).unwrap();
        let reading = sent.readings.iter().find(|r| json!(r.sent) == value["sent"]).unwrap();
        value["room"] = json!(reading.room);
        mended.push(reading.clone());
        world.database.mend(kept.id, Some(value.to_string().as_bytes())).await.unwrap();
    }
    world.database.retry(&Which::All(id), None).await.unwrap();
    until(&target, SHOW, newest(&mended), "after mended ones").await;
    fleet.stop().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn an_older_event_that_waited_does_not_overwrite_what_came_since() {
    let world = World::new().await;
    let target = world.cluster.connect("settlement").await.unwrap();
    for (number, key) in ["record_key", "room"].into_iter().enumerate() {
        target.batch_execute("DROP TABLE IF EXISTS readings; CREATE TABLE readings (room int, celsius numeric CHECK (celsius < 90), \
            door_open boolean, sent bigint, note text, event_type text, record_key text, record_time timestamptz, p int, o bigint)").await.unwrap();
        target.batch_execute(&format!("ALTER TABLE readings ADD UNIQUE ({key})")).await.unwrap();
        let (sent, schemas) = send(&world, 20 + number, "json", false).await;
        let id = sink(&world, &sent, rows(&[key], None), |_| {}).await;
        let reading = |room, celsius: &str, sent| Reading {
            room,
            celsius: Some(celsius.into()),
            open: None,
            sent,
            note: None,
            gone: false,
            wrong: false,
        };
        let (hot, cool, other) = (reading(1, "95.00", 1), reading(1, "2.00", 2), reading(2, "96.00", 3));
        let fleet = world.fleet();
        append(&world, &sent.topic, &[schemas.record("json", &hot), schemas.record("json", &other)]).await;
        let start = Instant::now();
        while world.database.quarantined(Some(id), None, &["waiting"], 0, 9).await.unwrap().len() < 2 {
            assert!(start.elapsed() < PATIENCE, "they do not wait");
            tokio::time::sleep(Duration::from_millis(20)).await;
        }
        // also for a lane that learns anew what waits
        fleet.stop().await;
        let fleet = world.fleet();
        append(&world, &sent.topic, &[schemas.record("json", &cool)]).await;
        until(&target, SHOW, vec![shown(&cool, "json")], "the newer one").await;
        let void = world.database.quarantined(Some(id), None, &["superseded"], 0, 9).await.unwrap();
        assert_eq!(void.len(), 1, "{key}");
        target.batch_execute("ALTER TABLE readings DROP CONSTRAINT readings_celsius_check").await.unwrap();
        world.database.retry(&Which::All(id), None).await.unwrap();
        until(&target, SHOW, vec![shown(&cool, "json"), shown(&other, "json")], "after the retry").await;
        world.database.ask(id, Wish::Delete, "").await.unwrap();
        let start = Instant::now();
        while world.database.find_connector(id).await.is_ok() {
            assert!(start.elapsed() < PATIENCE, "it was not deleted");
            tokio::time::sleep(Duration::from_millis(20)).await;
        }
        fleet.stop().await;
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn events_go_through_a_shape_into_another_topic_and_a_table() {
    let world = World::new().await;
    let target = world.cluster.connect("settlement").await.unwrap();
    let (sent, schemas) = send(&world, 1, "json", false).await;
    let name = sent.topic.name.as_str().to_owned();
    let steps = |steps: &[(&str, &str)]| -> Vec<ShapeStep> {
        let compute = |(column, expression): &(&str, &str)| {
            ShapeStep::from(
                serde_json::from_value::<Step>(json!({"step": "compute", "column": column, "value": expression})).unwrap(),
            )
        };
        steps.iter().map(compute).collect()
    };
    let carried =
        CarriedTopic { topic: name.clone(), to: "coldstore.warm".into(), rows: Some(rows(&["p", "o"], None)), fit: None };
    let mut between = TopicsDefinition::of(vec![carried], 2);
    between.values.form = ValueForm::Row;
    between.shape.steps.insert(name.clone(), steps(&[("above", "celsius - 4.5")]));
    world.connector("between", between).await;
    let fleet = world.fleet();
    let records: Vec<Record> = sent.readings.iter().map(|reading| schemas.record("json", reading)).collect();
    append(&world, &sent.topic, &records).await;
    let start = Instant::now();
    let good = sent.good().count();
    let topic = TopicName::parse("coldstore.warm").unwrap();
    loop {
        let there = match world.database.topic(&topic).await {
            Ok(topic) => world.database.bounds(topic.id).await.unwrap().iter().map(|b| b.next.0).sum(),
            Err(_) => 0,
        };
        if there == i64::try_from(good).unwrap() {
            break;
        }
        assert!(start.elapsed() < PATIENCE, "{there} records, not {good}");
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    let above = |celsius: &str| {
        let hundredths: i64 = celsius.replace('.', "").parse().unwrap();
        let above = hundredths - 450;
        format!("{}{}.{:02}", if above < 0 { "-" } else { "" }, above.abs() / 100, above.abs() % 100)
    };
    let mut expected: Vec<(i64, Option<String>)> = sent.good().map(|r| (r.sent, r.celsius.as_deref().map(above))).collect();
    let mut came: Vec<(i64, Option<String>)> = topic_changes(&world.database, "coldstore.warm")
        .await
        .iter()
        .map(|row| (row["sent"].as_i64().unwrap(), row["above"].as_str().map(str::to_owned)))
        .collect();
    expected.sort_unstable();
    came.sort_unstable();
    assert_eq!(came, expected);
    // what it writes is rows of a table, for any sink
    let delivered =
        DeliveredTopic { topic: "coldstore.warm".into(), schema: "public".into(), table: "readings".into(), rows: None };
    world.connector("to-settlement", SinkDefinition::of(world.connection("settlement").await, vec![delivered])).await;
    until(&target, SHOW, sent.all(), "through another topic").await;
    fleet.stop().await;
    drop(Arc::new(target));
}
