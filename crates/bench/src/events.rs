//! Events from a topic into a table, against the server reading the same texts itself; and through a shape into another topic.

use std::time::Instant;

use gonvel_core::block::BlockBuilder;
use gonvel_core::connector::{
    CarriedTopic, DeliveredTopic, SinkDefinition, State, TargetRows, TopicsDefinition, ValueForm, Wish,
};
use gonvel_core::event_rows::{EventColumn, EventRows, Part};
use gonvel_core::naming::{PartitionId, SchemaId, TopicName, TopicPartition};
use gonvel_core::ports::{AppendBatch, PartitionBlocks, SchemaStore, TopicLog};
use gonvel_core::record::Record;
use gonvel_core::schemas::Language;
use gonvel_core::schemas::values::ValueSchema;
use gonvel_core::shape::ShapeStep;
use gonvel_core::topic_settings::TopicSettings;
use serde_json::json;

use crate::report::{Measured, median};
use crate::world::{Outcome, World};

/// How the events are written.
#[derive(Clone, Copy, PartialEq)]
pub enum Form {
    Json,
    Avro,
}

const EVENTS: i64 = 1_000_000;
/// Events in a list that the server reads.
const LIST: i64 = 1_000;
const PARTITIONS: i32 = 3;
const ROUNDS: i64 = 3;
const COLUMNS: &str = "id bigint, room int, celsius numeric(4,1), humidity double precision, at timestamptz, note text";
const SCHEMA: &str = r#"{"type":"record","name":"Reading","fields":[{"name":"id","type":"long"},{"name":"room","type":"int"},
{"name":"celsius","type":{"type":"bytes","logicalType":"decimal","precision":4,"scale":1}},{"name":"humidity","type":"double"},
{"name":"at","type":{"type":"long","logicalType":"timestamp-micros"}},{"name":"note","type":["null","string"]}]}"#;

/// What the n-th event says.
fn event(n: i64) -> String {
    let (room, celsius, humidity) = (n % 60, (n * 7_919 % 90) as f64 / 10.0, 850 + n * 31 % 110);
    let note = if n % 12 == 0 { "\"the door stood open\"" } else { "null" };
    let (second, minute, hour) = (n % 60, n / 60 % 60, n / 3_600 % 24);
    format!(
        r#"{{"id":{n},"room":{room},"celsius":{celsius:.1},"humidity":{}.{},"at":"2026-11-25T{hour:02}:{minute:02}:{second:02}Z","note":{note}}}"#,
        humidity / 10,
        humidity % 10
    )
}

fn rows() -> EventRows {
    let field = |name: &'static str, ty: &str| EventColumn::field(&[name], name, ty);
    let columns = vec![
        field("id", "bigint").as_key(),
        field("room", "integer"),
        field("celsius", "numeric(4,1)"),
        field("humidity", "double precision"),
        field("at", "timestamp with time zone"),
        field("note", "text"),
    ];
    EventRows { columns, ..EventRows::default() }
}

async fn append(world: &World, name: &str, form: Form) -> Outcome<()> {
    let topic = world.database.topic(&TopicName::parse(name)?).await?;
    let (mut schema, mut written): (Option<SchemaId>, Option<ValueSchema>) = (None, None);
    if form == Form::Avro {
        schema = Some(world.database.register(&topic.name, "value", SCHEMA, "bench").await?);
        written = Some(ValueSchema::new(Language::Avro, SCHEMA)?);
    }
    for first in (0..EVENTS).step_by(5_000) {
        let mut builder = BlockBuilder::default();
        for n in first..first + 5_000 {
            let text = event(n);
            let value = match &written {
                Some(schema) => schema.write(&serde_json::from_str(&text)?)?,
                None => text.into(),
            };
            builder.push_record(&Record {
                value: Some(value),
                timestamp_us: 1_795_000_000_000_000 + n,
                schema,
                ..Record::default()
            });
        }
        let partition = PartitionId(i32::try_from(first / 5_000)? % PARTITIONS);
        let to = TopicPartition { topic: topic.id, partition };
        let parts = builder.finish().map(|block| PartitionBlocks { to, blocks: vec![block] }).into_iter().collect();
        world.database.append(AppendBatch { parts, ..AppendBatch::default() }).await?;
    }
    Ok(())
}

/// A million events into a table that only grows.
pub async fn into_table(form: Form) -> Outcome<Measured> {
    let world = World::start(&["settlement", "mirror"]).await?;
    world.sql("mirror", "CREATE TABLE lists (events text)").await?;
    let mirror = world.connect("mirror").await?;
    let insert = mirror.prepare("INSERT INTO lists VALUES ($1)").await?;
    for first in (0..EVENTS).step_by(usize::try_from(LIST)?) {
        let list: Vec<String> = (first..first + LIST).map(event).collect();
        mirror.execute(&insert, &[&format!("[{}]", list.join(","))]).await?;
    }
    world.sql("mirror", "VACUUM ANALYZE lists").await?;
    let fleet = world.fleet();
    let (mut ours, mut theirs) = (Vec::new(), Vec::new());
    for round in 0..ROUNDS {
        let (topic, table) = (format!("coldstore.readings-{round}"), format!("readings_{round}"));
        world.database.create_topic(&TopicName::parse(topic.as_str())?, PARTITIONS, &TopicSettings::default()).await?;
        let delivered =
            DeliveredTopic { topic: topic.clone(), schema: "public".into(), table: table.clone(), rows: Some(rows()) };
        let mut sink = SinkDefinition::of(world.connection("settlement").await?, vec![delivered]);
        sink.writes.rows = TargetRows::Appended;
        let id = world.connector(&format!("sink-{round}"), sink.into()).await?;
        world.until(id, State::Following).await?;
        world.database.ask(id, Wish::Pause, "").await?;
        world.until(id, State::Paused).await?;
        append(&world, &topic, form).await?;
        world.sql("mirror", &format!("CREATE TABLE {table} ({COLUMNS}); CHECKPOINT")).await?;

        let start = Instant::now();
        let read = format!("INSERT INTO {table} SELECT r.* FROM lists, jsonb_to_recordset(events::jsonb) AS r({COLUMNS})");
        world.sql("mirror", &read).await?;
        theirs.push(EVENTS as f64 / start.elapsed().as_secs_f64());
        world.sql("settlement", "CHECKPOINT").await?;

        let start = Instant::now();
        world.database.ask(id, Wish::Run, "").await?;
        fleet.nudge().notify_one();
        world.until_delivered("settlement", (round + 1) * EVENTS).await?;
        ours.push(EVENTS as f64 / start.elapsed().as_secs_f64());
        let sums = format!(
            "SELECT count(*)::text || ' ' || sum(id) || ' ' || sum(celsius) || ' ' || max(at) || ' ' || count(note) FROM {table}"
        );
        let (a, b): (String, String) = (
            world.connect("settlement").await?.query_one(&sums, &[]).await?.get(0),
            mirror.query_one(&sums, &[]).await?.get(0),
        );
        if a != b {
            return Err(format!("not the same rows: {a}, and {b}").into());
        }
    }
    fleet.stop().await;
    let (name, what, goal) = match form {
        Form::Json => (
            "events-json",
            "1,000,000 JSON events of six fields from a topic into a table, against the server's own jsonb_to_recordset of the same texts",
            1.0,
        ),
        Form::Avro => (
            "events-avro",
            "the same events in Avro from a topic into a table, against the server's own jsonb_to_recordset of the JSON texts",
            1.5,
        ),
    };
    let rates = |all: &[f64]| all.iter().map(|r| format!("{r:.0}")).collect::<Vec<_>>().join(", ");
    let ratio = median(ours.iter().zip(&theirs).map(|(a, b)| a / b).collect());
    let detail = format!("{} events/s against {}, median ratio of {ROUNDS} rounds", rates(&ours), rates(&theirs));
    Ok(Measured { name, what, ratio, goal, detail })
}

/// A million events through three steps into another topic, by one lane.
pub async fn between() -> Outcome<Measured> {
    const GOAL: f64 = 300_000.0;
    let world = World::start(&[]).await?;
    let fleet = world.fleet();
    let mut figures = Vec::new();
    for round in 0..ROUNDS {
        let (topic, to) = (format!("coldstore.readings-{round}"), format!("coldstore.warm-{round}"));
        world.database.create_topic(&TopicName::parse(topic.as_str())?, PARTITIONS, &TopicSettings::default()).await?;
        let mut by_place = rows();
        by_place.columns[0].key = false;
        by_place.columns.push(EventColumn::of(Part::Partition, "p", "integer").as_key());
        by_place.columns.push(EventColumn::of(Part::Offset, "o", "bigint").as_key());
        let mut between = TopicsDefinition::of(
            vec![CarriedTopic { topic: topic.clone(), to: to.clone(), rows: Some(by_place), fit: None }],
            PARTITIONS,
        );
        between.values.form = ValueForm::Row;
        let steps: Vec<ShapeStep> = serde_json::from_value(json!([
            {"step": "compute", "column": "above", "value": "celsius - 4.5"},
            {"step": "filter", "only": "room <> 7"},
            {"step": "drop", "columns": ["note"]},
        ]))?;
        between.shape.steps.insert(topic.clone(), steps);
        let id = world.connector(&format!("between-{round}"), between.into()).await?;
        world.until(id, State::Following).await?;
        world.database.ask(id, Wish::Pause, "").await?;
        world.until(id, State::Paused).await?;
        append(&world, &topic, Form::Json).await?;
        let left = EVENTS - (0..EVENTS).filter(|n| n % 60 == 7).count() as i64;
        let start = Instant::now();
        world.database.ask(id, Wish::Run, "").await?;
        fleet.nudge().notify_one();
        world.until_records(&to, left).await?;
        figures.push(EVENTS as f64 / start.elapsed().as_secs_f64());
    }
    fleet.stop().await;
    let shown = figures.iter().map(|r| format!("{r:.0}")).collect::<Vec<_>>().join(", ");
    let rate = median(figures);
    let detail = format!("{shown} events/s by one lane, with the database beside it; wanted {GOAL:.0}");
    let what = "1,000,000 JSON events through three steps into another topic, over 300,000 events/s";
    Ok(Measured { name: "events-between", what, ratio: rate / GOAL, goal: 1.0, detail })
}
