//! The demo's connectors of events: the cold store's readings as a table of the settlement, and shaped, per room, into a topic.

use std::error::Error;

use gonvel_core::connector::{
    CarriedTopic, Definition, DeliveredTopic, SinkDefinition, TopicsDefinition, ValidConnector, ValueForm, Wish,
};
use gonvel_core::event_rows::{EventColumn, EventRows, Part};
use gonvel_core::naming::{ConnectorId, ConnectorName};
use gonvel_core::own_function::{FunctionExample, OwnFunction, Parameter};
use gonvel_core::shape::Step;
use gonvel_storage::Database;
use serde_json::json;
use uuid::Uuid;

use crate::coldstore;

/// The readings above their rooms' targets.
const WARMTH: &str = "coldstore.warmth";

fn header(name: &str, column: &str, ty: &str) -> EventColumn {
    EventColumn { path: vec![name.to_owned()], ..EventColumn::of(Part::Header, column, ty) }
}

/// Every event a row of its own.
fn each() -> EventRows {
    let columns = vec![
        EventColumn::field(&["room"], "room", "integer"),
        EventColumn::field(&["celsius"], "celsius", "numeric(4,1)"),
        EventColumn::field(&["humidity"], "humidity", "numeric(4,1)"),
        EventColumn::field(&["open"], "open", "boolean"),
        EventColumn::field(&["limit"], "limit_celsius", "numeric(4,1)"),
        header("ce-type", "event_type", "text"),
        header("ce-id", "event_id", "text"),
        EventColumn::of(Part::Time, "told_at", "timestamp with time zone"),
        EventColumn::of(Part::Partition, "record_partition", "integer").as_key(),
        EventColumn::of(Part::Offset, "record_offset", "bigint").as_key(),
    ];
    EventRows { columns, ..EventRows::default() }
}

/// What a room last told.
fn of_room() -> EventRows {
    let columns = vec![
        EventColumn::field(&["room"], "room", "integer").as_key(),
        EventColumn::field(&["celsius"], "celsius", "numeric(4,1)"),
        header("ce-type", "event_type", "text"),
        EventColumn::of(Part::Time, "told_at", "timestamp with time zone"),
    ];
    EventRows { columns, ..EventRows::default() }
}

/// How much warmer a room is than it is to be: for every shape that asks.
fn degrees_above() -> OwnFunction {
    let degrees = |name: &str| Parameter { name: name.to_owned(), ty: "numeric(4,1)".to_owned() };
    let example = |given: [&str; 2], gives: Option<&str>| FunctionExample {
        given: given.map(str::to_owned).into(),
        gives: gives.map(str::to_owned),
    };
    OwnFunction {
        name: "degrees_above".into(),
        parameters: vec![degrees("celsius"), degrees("target")],
        gives: "numeric(4,1)".into(),
        value: "greatest(celsius - target, 0)".into(),
        description: "By how many °C a room is warmer than its target; 0 where it is not.".into(),
        examples: vec![
            example(["3.5", "1.5"], Some("2.0")),
            example(["0.5", "1.5"], Some("0.0")),
            example(["NULL", "1.5"], Some("0.0")),
        ],
    }
}

/// Makes the connectors; `packhouse` and `settlement` are connections.
pub(crate) async fn prepare(database: &Database, packhouse: Uuid, settlement: Uuid) -> Result<(), Box<dyn Error>> {
    let function = degrees_above();
    database.save_function(&function.name, 0, Some(&function), "").await?;
    let topic = coldstore::TOPIC.to_owned();
    let delivered =
        DeliveredTopic { topic: topic.clone(), schema: "public".into(), table: "readings".into(), rows: Some(each()) };
    let sink = SinkDefinition::of(settlement, vec![delivered]);
    let carried = CarriedTopic { topic: topic.clone(), to: WARMTH.into(), rows: Some(of_room()), fit: None };
    let mut between = TopicsDefinition::of(vec![carried], 3);
    between.values.form = ValueForm::Row;
    let steps: Vec<Step> = serde_json::from_value(json!([
        {"step": "filter", "only": "event_type = 'coldstore.reading'"},
        {"step": "lookup", "topic": "", "table": {"connection": packhouse, "schema": "public", "table": "rooms"},
         "by": [{"column": "room", "key": "id"}],
         "columns": [{"from": "label", "column": "label"}, {"from": "target_c", "column": "target_c"}]},
        {"step": "compute", "column": "above_target", "value": "degrees_above(celsius, target_c)"},
        {"step": "drop", "columns": ["event_type"]},
    ]))?;
    between.shape.steps.insert(topic, steps.into_iter().map(Into::into).collect());
    for (name, definition) in [("coldstore-readings", Definition::from(sink)), ("coldstore-warmth", between.into())] {
        let connector = ValidConnector::check(ConnectorId(Uuid::now_v7()), ConnectorName::parse(name)?, definition)?;
        database.create_connector(&connector, Wish::Run, "").await?;
    }
    Ok(())
}
