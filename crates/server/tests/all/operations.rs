//! Work that takes longer than a request: how far it is, how it ends, and how it is ended.

use std::time::Duration;

use gonvel_core::naming::ConnectorId;
use gonvel_core::ports::FleetStore;
use reqwest::Method;
use serde_json::{Value, json};

use crate::support::{Answer, Api, says, word};

fn lines(count: usize) -> String {
    (0..count).map(|n| format!("{{\"timestamp\":0,\"partition\":0,\"value\":\"{n}\"}}\n")).collect()
}

/// Waits until an operation is as it is to be.
async fn until(api: &Api, id: &Value, mut is: impl FnMut(&Value) -> bool) -> Value {
    let path = format!("/operations/{}", id.as_str().unwrap());
    let mut last = Value::Null;
    for _ in 0..6_000 {
        last = api.get(&path).await.1;
        if is(&last) {
            return last;
        }
        tokio::time::sleep(Duration::from_millis(5)).await;
    }
    panic!("{last:#}");
}

fn ended(operation: &Value) -> bool {
    operation["state"] != "running"
}

async fn cancel(api: &Api, id: &Value) -> Answer {
    api.send(api.request(Method::DELETE, &format!("/operations/{}", id.as_str().unwrap()))).await
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn an_import_goes_on_by_itself_once_and_ends_where_it_is_cancelled() {
    let api = Api::start().await;
    api.topic("bins.copied", 1).await;
    let import = |key: &'static str, count| {
        let request = api.request(Method::POST, "/topics/bins.copied/import?form=jsonl").header("idempotency-key", key);
        request.body(lines(count)).send()
    };
    let first = import("monday", 12_000).await.unwrap();
    let at = first.headers()["location"].to_str().unwrap().to_owned();
    let first: Value = first.json().await.unwrap();
    assert_eq!(at, format!("/api/v1/operations/{}", first["id"].as_str().unwrap()));
    assert_eq!((&first["kind"], &first["subject"]["name"]), (&json!("import"), &json!("bins.copied")), "{first:#}");
    // whoever lost the answer sends it again
    let again: Value = import("monday", 12_000).await.unwrap().json().await.unwrap();
    assert_eq!(again["id"], first["id"]);
    let done = until(&api, &first["id"], ended).await;
    assert_eq!((&done["state"], &done["result"]["records"]), (&json!("done"), &json!(12_000)), "{done:#}");
    assert!(done["done"] == done["total"] && done["ended_at"].is_string(), "{done:#}");
    assert_eq!(api.count("bins.copied").await, 12_000);
    says(&cancel(&api, &first["id"]).await, 409, "it has ended");

    let long: Value = import("tuesday", 600_000).await.unwrap().json().await.unwrap();
    let some = |operation: &Value| operation["result"]["records"].as_i64().is_some_and(|records| records > 0);
    let midway = until(&api, &long["id"], some).await;
    assert!(midway["done"].as_i64() < midway["total"].as_i64(), "{midway:#}");
    let (status, cancelled) = cancel(&api, &long["id"]).await;
    // it may have ended by the time that it is shown
    let ends = cancelled["cancelling"] == true || cancelled["state"] == "cancelled";
    assert!(status == 202 && ends, "{cancelled:#}");
    let cancelled = until(&api, &long["id"], ended).await;
    assert_eq!(cancelled["state"], "cancelled", "{cancelled:#}");
    let stays = cancelled["result"]["records"].as_i64().unwrap();
    assert!(stays < 600_000, "{cancelled:#}");
    assert_eq!(api.count("bins.copied").await, 12_000 + stays, "what was imported until then stays, and nothing more came");

    // a large file that comes once more is not read again, and its answer comes through all the same
    let again: Value = import("tuesday", 600_000).await.unwrap().json().await.unwrap();
    assert_eq!(again["id"], long["id"], "{again:#}");

    let kinds = api.list("/operations?kind=import&subject=bins.copied").await;
    assert_eq!(kinds.as_array().unwrap().len(), 2);
    assert_eq!(kinds[0]["id"], long["id"], "the newest first");
    assert_eq!(api.list("/operations?state=cancelled").await[0]["id"], long["id"]);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_a_server_left_undone_is_told_and_nobody_goes_on_with_it() {
    let api = Api::start().await;
    let client = api.cluster.connect("gonvel").await.unwrap();
    let id = uuid::Uuid::now_v7();
    let left = format!(
        "INSERT INTO operations (id, kind, says, result, moved_at) VALUES ('{id}', 'import', 'Imports a file', '{{\"records\": 5000}}', \
         now() - interval '11 seconds')"
    );
    client.batch_execute(&left).await.unwrap();
    let failed = until(&api, &json!(id.to_string()), ended).await;
    assert_eq!((&failed["state"], word(&failed["problem"])), (&json!("failed"), Some("try-again")), "{failed:#}");
    assert_eq!(failed["result"]["records"], 5_000);
    assert!(failed["problem"]["detail"].as_str().unwrap().contains("stays"), "{failed:#}");
    // one that comes back from a long pause is told that it has ended
    let moved = api.database.move_operation(id, 1, None, &json!({})).await;
    assert!(moved.is_err(), "{moved:?}");
    // it is forgotten after a week
    client.batch_execute("UPDATE operations SET ended_at = now() - interval '8 days'").await.unwrap();
    let mut keeper = gonvel_storage::topic_log::keeper::Keeper::new(api.database.clone());
    keeper.round(true, chrono::Utc::now().timestamp_micros()).await;
    assert_eq!(api.get(&format!("/operations/{id}")).await.0, 404);
}

/// A connector that nobody runs, as it was made and then asked to be.
async fn sink(api: &Api, name: &str, wish: &str) -> Value {
    let login = json!({"name": format!("target-of-{name}"), "host": "127.0.0.1", "port": api.cluster.port, "database": "gonvel",
        "user": "gonvel", "password": api.cluster.password});
    let (_, connection) = api.post("/connections", &login).await;
    let topic = json!({"topic": "bins", "schema": "public", "table": "bins"});
    let definition = json!({"kind": "sink", "connection": connection["id"], "topics": [topic]});
    let (status, made) = api.post("/connectors", &json!({"name": name, "start": false, "definition": definition})).await;
    assert_eq!(status, 201, "{made:#}");
    let client = api.cluster.connect("gonvel").await.unwrap();
    client.execute("UPDATE connectors SET wish = $2 WHERE name = $1", &[&name, &wish]).await.unwrap();
    made
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_retry_counts_what_became_of_its_records_and_gives_back_the_others() {
    let api = Api::start().await;
    api.topic("bins", 1).await;
    let made = sink(&api, "to-target", "pause").await;
    let client = api.cluster.connect("gonvel").await.unwrap();
    let rows = "INSERT INTO quarantine (connector_id, topic_id, topic, partition, record_offset, timestamp_us, value, step, finding, cause, version, \
        state, expires_at) SELECT id, 1, 'bins', 0, n, 0, '1', 'write', 'too heavy', 7, 1, 'waiting', now() + interval '2 days' \
        FROM connectors, generate_series(1, 6) n";
    client.batch_execute(rows).await.unwrap();
    let all = json!({"which": {"connector": made["id"]}});
    let (status, begun) = api.post("/quarantine/retry", &all).await;
    assert_eq!((status, &begun["total"], &begun["unit"]), (202, &json!(6), &json!("records")), "{begun:#}");
    let waits = until(&api, &begun["id"], |operation| operation["waits"].is_string()).await;
    assert_eq!((&waits["waits"], &waits["done"]), (&json!("the connector is paused: start it"), &json!(0)), "{waits:#}");
    for (state, offsets) in [("delivered", "1, 2"), ("superseded", "3"), ("waiting", "4")] {
        let settle = format!("UPDATE quarantine SET state = '{state}' WHERE record_offset IN ({offsets})");
        client.batch_execute(&settle).await.unwrap();
    }
    until(&api, &begun["id"], |operation| operation["done"] == 4).await;
    assert_eq!(cancel(&api, &begun["id"]).await.0, 202);
    let after = until(&api, &begun["id"], ended).await;
    assert_eq!(after["state"], "cancelled", "{after:#}");
    let counts = json!({"delivered": 2, "superseded": 1, "discarded": 0, "waiting": 1});
    assert_eq!(after["result"], counts, "{after:#}");
    assert_eq!(api.list("/quarantine/records?state=waiting").await.as_array().unwrap().len(), 3, "two were not tried yet");
    assert_eq!(api.list("/quarantine/records?state=asked").await, json!([]));

    // those that wait are asked for once more, by another operation
    let (_, again) = api.post("/quarantine/retry", &all).await;
    assert_eq!(again["total"], 3, "{again:#}");
    client.batch_execute("UPDATE quarantine SET state = 'delivered' WHERE state = 'asked'").await.unwrap();
    let done = until(&api, &again["id"], ended).await;
    assert_eq!((&done["state"], &done["result"]["delivered"]), (&json!("done"), &json!(3)), "{done:#}");
    let unknown = json!({"which": {"connector": uuid::Uuid::now_v7()}});
    assert_eq!(api.post("/quarantine/retry", &unknown).await.0, 404);
    let document: Value = serde_json::from_str(&gonvel_server::openapi_json()).unwrap();
    assert!(document["paths"]["/api/v1/quarantine/retry"]["post"]["responses"]["404"].is_object());
    // nothing to try is done at once
    let (_, none) = api.post("/quarantine/retry", &all).await;
    assert_eq!(until(&api, &none["id"], ended).await["state"], "done");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_delete_ends_with_its_connector_and_what_stays_is_listed() {
    let api = Api::start().await;
    api.topic("bins", 1).await;
    let made = sink(&api, "to-target", "run").await;
    let path = format!("/connectors/{}", made["id"].as_str().unwrap());
    let (_, plan) = api.plan(Method::DELETE, &path, None).await;
    let confirmed = format!("confirm={}", plan["tag"].as_str().unwrap());
    let delete = || api.planned(Method::DELETE, &path, &confirmed, None).header("idempotency-key", "delete it");
    let (status, begun) = api.send(delete()).await;
    assert_eq!((status, &begun["kind"], &begun["subject"]["id"]), (202, &json!("delete"), &made["id"]), "{begun:#}");
    says(&cancel(&api, &begun["id"]).await, 409, "is being removed");
    assert_eq!(api.get(&format!("/operations/{}", begun["id"].as_str().unwrap())).await.1["state"], "running");
    // its system is gone for good: that has to be said, and is another plan
    let leaving = format!("{path}?leave_remains=true&dry_run=true");
    let (_, plan) = api.send(api.request(Method::DELETE, &leaving)).await;
    let told = plan["says"].to_string();
    assert!(told.contains("without asking target-of-to-target") && told.contains("gonvel.sink_positions"), "{plan:#}");
    let confirmed = format!("{path}?confirm={}", plan["tag"].as_str().unwrap());
    assert_eq!(api.send(api.request(Method::DELETE, &confirmed)).await.0, 412);
    let confirmed = format!("{path}?leave_remains=true&confirm={}", plan["tag"].as_str().unwrap());
    let (status, leaving) = api.send(api.request(Method::DELETE, &confirmed)).await;
    assert_eq!(status, 202, "{leaving:#}");
    let id = ConnectorId(made["id"].as_str().unwrap().parse().unwrap());
    assert!(api.database.leaves_remains(id).await.unwrap());
    api.database.remove_connector(id).await.unwrap();
    for operation in [&begun, &leaving] {
        assert_eq!(until(&api, &operation["id"], ended).await["state"], "done");
    }
    // whoever lost the answer is told though the connector is gone
    let (status, again) = api.send(delete()).await;
    assert_eq!((status, &again["id"]), (202, &begun["id"]), "{again:#}");
    let kept = until(&api, &leaving["id"], ended).await;
    assert!(kept["result"]["remains"][0].as_str().unwrap().contains(&id.to_string()), "{kept:#}");
    assert_eq!(until(&api, &begun["id"], ended).await["result"], json!({}));
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_load_that_no_lane_has_taken_up_is_taken_back() {
    let api = Api::start().await;
    let login = json!({"name": "packhouse", "host": "127.0.0.1", "port": api.cluster.port, "database": "gonvel",
        "user": "gonvel", "password": api.cluster.password});
    let (_, connection) = api.post("/connections", &login).await;
    let table = json!({"schema": "public", "table": "topics", "topic": "packhouse.topics"});
    let definition = json!({"kind": "source", "connection": connection["id"], "tables": [table], "partitions": 1});
    let made = json!({"name": "packhouse-changes", "start": false, "definition": definition});
    assert_eq!(api.post("/connectors", &made).await.0, 201);
    let client = api.cluster.connect("gonvel").await.unwrap();
    client.batch_execute("UPDATE connectors SET wish = 'stop'").await.unwrap();
    let asked = async || client.query_one("SELECT count(*) FROM reloads", &[]).await.unwrap().get::<_, i64>(0);
    let again = json!({"tables": ["public.topics"], "existing_rows": "keep"});
    let (status, begun) = api.post("/connectors/packhouse-changes/reload", &again).await;
    assert_eq!((status, &begun["kind"], asked().await), (202, &json!("load_again"), 1), "{begun:#}");
    let waits = until(&api, &begun["id"], |operation| operation["waits"].is_string()).await;
    assert_eq!(waits["waits"], "the connector is stopped: start it", "{waits:#}");
    // a lane that has it may be reading already
    client.batch_execute("UPDATE lanes SET holder = 'runner-1'").await.unwrap();
    says(&cancel(&api, &begun["id"]).await, 409, "are being loaded");
    client.batch_execute("UPDATE lanes SET holder = NULL").await.unwrap();
    assert_eq!(cancel(&api, &begun["id"]).await.0, 202);
    assert_eq!(until(&api, &begun["id"], ended).await["state"], "cancelled");
    assert_eq!(asked().await, 0);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn manifests_are_applied_up_to_the_step_that_is_refused_and_told_step_by_step() {
    let api = Api::start().await;
    let login = json!({"name": "settlement", "host": "127.0.0.1", "port": api.cluster.port, "database": "settlement",
        "user": "gonvel", "password": api.cluster.password});
    let client = api.cluster.connect("gonvel").await.unwrap();
    client.batch_execute("CREATE DATABASE settlement").await.unwrap();
    assert_eq!(api.post("/connections", &login).await.0, 201);
    client.batch_execute("DROP DATABASE settlement WITH (FORCE)").await.unwrap();
    let text = "topic: coldstore.doors\npartitions: 1\n---\ntopic: coldstore.gates\npartitions: 0\n";
    let (status, wrong) = api.post("/manifests/apply", &json!({"files": [{"name": "a.yaml", "text": text}]})).await;
    assert_eq!(status, 422, "{wrong:#}");
    assert_eq!(api.list("/operations").await, json!([]), "nothing is begun that is wrong");
    let text = "topic: coldstore.doors\npartitions: 1\n---\nconnector: doors-out\nstate: running\nsink:\n  connection: settlement\n  topics: [{topic: coldstore.doors, schema: public, table: doors}]\n";
    let files = json!({"files": [{"name": "a.yaml", "text": text}]});
    let (status, begun) = api.post("/manifests/apply", &files).await;
    assert_eq!((status, &begun["total"], &begun["unit"]), (202, &json!(2), &json!("steps")), "{begun:#}");
    let failed = until(&api, &begun["id"], ended).await;
    let steps = failed["result"]["steps"].as_array().unwrap();
    assert_eq!((&failed["state"], steps.len(), &failed["done"]), (&json!("failed"), 2, &json!(1)), "{failed:#}");
    assert!(steps[0].get("refused").is_none() && steps[1]["refused"].is_string(), "{failed:#}");
    assert!(failed["problem"]["detail"].is_string(), "{failed:#}");
    assert_eq!(api.get("/topics/coldstore.doors").await.0, 200, "what was done stays");
    assert_eq!(api.list("/operations").await[0]["result"], json!({}), "a list of many is not to carry their steps");
}
