//! What is told while someone watches.

use std::time::Duration;

use futures::StreamExt;
use gonvel_core::naming::ConnectorId;
use gonvel_core::ports::FleetStore;
use serde_json::{Value, json};

use crate::support::Api;

/// The next event's connectors.
async fn next(events: &mut (impl futures::Stream<Item = reqwest::Result<bytes::Bytes>> + Unpin)) -> Value {
    loop {
        let piece = tokio::time::timeout(Duration::from_secs(5), events.next()).await.expect("an event").unwrap().unwrap();
        let text = String::from_utf8_lossy(&piece).into_owned();
        if let Some(data) = text.lines().find_map(|line| line.strip_prefix("data:")) {
            return serde_json::from_str(data.trim()).unwrap();
        }
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_connector_that_goes_the_moment_after_it_was_told_is_told_to_be_gone() {
    let api = Api::start().await;
    let login = json!({"name": "settlement", "host": "127.0.0.1", "port": api.cluster.port, "database": "gonvel",
        "user": "gonvel", "password": api.cluster.password});
    let (_, connection) = api.post("/connections", &login).await;
    let topic = json!({"topic": "packhouse.bins", "schema": "public", "table": "bins"});
    // each time as it is before anyone watches, while someone does, and afterwards
    for round in 0..3 {
        let name = format!("tables-{round}");
        let sink = json!({"name": name, "start": false,
            "definition": {"kind": "sink", "connection": connection["id"], "topics": [topic]}});
        let (status, made) = api.post("/connectors", &sink).await;
        assert_eq!(status, 201, "{made:#}");
        let watched = api.request(reqwest::Method::GET, "/live/connectors").send().await.unwrap();
        let mut events = watched.bytes_stream();
        assert_eq!(next(&mut events).await[0]["name"], json!(name));
        api.database.remove_connector(ConnectorId(made["id"].as_str().unwrap().parse().unwrap())).await.unwrap();
        assert_eq!(next(&mut events).await, json!([]));
    }
}
