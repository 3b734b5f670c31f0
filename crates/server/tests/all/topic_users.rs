//! Who writes a topic, by all the ways that rows go.

use gonvel_core::connector::{CapturedTable, CarriedTopic, Definition, SourceDefinition, TopicsDefinition};
use gonvel_core::event_rows::{EventColumn, EventRows, Only, Part};
use gonvel_core::shape::{ShapeStep, Step, Way};
use gonvel_stand_ins::postgres_cluster::OWNER;
use serde_json::json;
use uuid::Uuid;

use crate::support::Api;

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_topic_names_whoever_routes_rows_into_it() {
    let api = Api::start().await;
    let connection = json!({
        "name": "packhouse", "host": "127.0.0.1", "port": api.cluster.port, "database": "gonvel", "user": OWNER,
        "password": api.cluster.password,
    });
    let made = api.post("/connections", &connection).await;
    assert_eq!(made.0, 201, "{:#}", made.1);
    let connection: Uuid = serde_json::from_value(made.1["id"].clone()).unwrap();
    let route = |to: &str| {
        let ways = vec![Way { when: Some("weight_kg > 400".into()), to: to.into() }];
        ShapeStep::from(Step::Route { ways })
    };
    let mut source = SourceDefinition::of(connection, vec![CapturedTable::whole("public", "bins", "bins")], 1);
    source.schema_changes = Some("columns".into());
    source.shape.steps.insert("public.bins".into(), vec![route("heavy"), route("by.{grade}")]);
    let only = Only { part: Part::Header, path: vec!["type".into()], is: vec!["bin.weighed".into()], is_not: vec![] };
    let rows = EventRows {
        only: Some(only),
        columns: vec![EventColumn::of(Part::Key, "bin", "text").as_key()],
        ..EventRows::default()
    };
    let weighed = CarriedTopic { topic: "events".into(), to: "weighed".into(), rows: Some(rows), fit: None };
    let mut topics = TopicsDefinition::of(vec![weighed.clone()], 1);
    topics.shape.steps.insert(weighed.name(), vec![route("heavy.events")]);
    for (name, definition) in [("bins-out", Definition::from(source)), ("weighed-bins", topics.into())] {
        let request = json!({"name": name, "definition": definition, "start": false});
        let made = api.post("/connectors", &request).await;
        assert_eq!(made.0, 201, "{:#}", made.1);
    }
    for (topic, written_by, read_by) in [
        ("bins", vec!["bins-out"], vec![]),
        ("columns", vec!["bins-out"], vec![]),
        ("heavy", vec!["bins-out"], vec![]),
        ("by.first", vec!["bins-out"], vec![]),
        ("bye.first", vec![], vec![]),
        ("events", vec![], vec!["weighed-bins"]),
        ("weighed", vec!["weighed-bins"], vec![]),
        ("heavy.events", vec!["weighed-bins"], vec![]),
    ] {
        api.topic(topic, 1).await;
        let said = api.get(&format!("/topics/{topic}")).await.1;
        assert_eq!((&said["written_by"], &said["read_by"]), (&json!(written_by), &json!(read_by)), "{topic}: {said:#}");
    }
}
