//! A preflight that was made before there was anything to look at.

use std::sync::Arc;
use std::time::{Duration, Instant};

use gonvel_core::column::ColumnType;
use gonvel_core::connector::Values;
use gonvel_core::naming::TopicName;
use gonvel_core::ports::SchemaStore;
use gonvel_core::preflight::NO_ROWS_YET;
use gonvel_core::record_form::RecordForm;
use gonvel_core::table::{Column, TableSchema};
use serde_json::{Value, json};

use crate::support::Api;

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_sink_that_was_checked_before_there_were_rows_is_checked_again_when_they_come() {
    let api = Api::start().await;
    let own = api.cluster.connect("gonvel").await.unwrap();
    own.batch_execute("CREATE DATABASE settlement").await.unwrap();
    let target = api.cluster.connect("settlement").await.unwrap();
    target.batch_execute("CREATE TABLE bins (id text PRIMARY KEY, grade boolean)").await.unwrap();
    api.topic("packhouse.bins", 1).await;
    let login = json!({"name": "settlement", "host": "127.0.0.1", "port": api.cluster.port, "database": "settlement",
        "user": "gonvel", "password": api.cluster.password});
    let (status, connection) = api.post("/connections", &login).await;
    assert_eq!(status, 201, "{connection:#}");
    let topic = json!({"topic": "packhouse.bins", "schema": "public", "table": "bins"});
    let sink = json!({"name": "settlement-tables", "start": false, "checked": true,
        "definition": {"kind": "sink", "connection": connection["id"], "topics": [topic]}});
    let (status, made) = api.post("/connectors", &sink).await;
    assert_eq!(status, 201, "{made:#}");
    let path = format!("/connectors/{}/preflight", made["id"].as_str().unwrap());
    let waits = |report: &Value| report["checks"].as_array().unwrap().iter().any(|c| c["finding"] == NO_ROWS_YET);
    let first = api.get(&path).await.1;
    assert!(waits(&first) && first["ready"] == true, "{first:#}");

    let column = |name: &str, key| Column { name: name.into(), ty: ColumnType::Int64, source_type: "bigint".into(), key };
    let columns = vec![column("id", true), column("grade", false)];
    let table = TableSchema { system: "packhouse".into(), schema: "public".into(), table: "bins".into(), columns };
    let form = RecordForm::of(Arc::new(table), Values::default());
    let name = TopicName::parse("packhouse.bins").unwrap();
    api.database.register(&name, "value", form.value_text(), "packhouse-changes").await.unwrap();
    let start = Instant::now();
    loop {
        let report = api.get(&path).await.1;
        if !waits(&report) {
            // what could not be seen before is seen now
            assert_eq!(report["ready"], false, "{report:#}");
            let found = report["checks"].as_array().unwrap().iter().find(|c| c["name"] == "column grade of public.bins");
            assert_eq!(found.unwrap()["finding"], "bigint comes, and boolean is there", "{report:#}");
            return;
        }
        assert!(start.elapsed() < Duration::from_secs(30), "not looked at again: {report:#}");
        tokio::time::sleep(Duration::from_millis(200)).await;
    }
}
