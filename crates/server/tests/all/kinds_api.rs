//! Kinds of systems over HTTP: what a kind describes is asked for, and what it does not declare is refused at its field.

use reqwest::Method;
use serde_json::{Value, json};

use crate::support::Api;

fn source(connection: &Value, more: &Value) -> Value {
    let mut definition = json!({
        "kind": "source", "connection": connection, "partitions": 1,
        "tables": [{"schema": "recipes", "table": "picks", "topic": "weighbridge.picks"}],
    });
    definition.as_object_mut().unwrap().extend(more.as_object().unwrap().clone());
    json!({"name": "from-weighbridge", "start": false, "definition": definition})
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_a_kind_cannot_do_is_refused_at_its_field_and_nothing_is_made() {
    let api = Api::start().await;
    let kinds = api.get("/kinds").await.1;
    let kind = |word: &str| kinds.as_array().unwrap().iter().find(|kind| kind["kind"] == word).unwrap().clone();
    assert_eq!((kind("generator")["source"]["loads"].as_bool(), kind("generator")["sink"].is_null()), (Some(false), true));
    assert_eq!(kind("postgresql")["sink"]["holds"], true);

    for (body, field, part) in [
        (json!({"name": "w", "kind": "generatr"}), "kind", "perhaps generator is meant"),
        (json!({"name": "w", "kind": "generator", "host": "db"}), "host", "has no setting host"),
        (json!({"name": "w", "kind": "generator", "seed": "seven"}), "seed", "a whole number"),
        (json!({"name": "w", "kind": "generator", "recipes": "picks"}), "recipes", "line 1"),
        (json!({"name": "w", "host": "db", "port": 1}), "database", "the database is missing"),
    ] {
        let (status, problem) = api.post("/connections", &body).await;
        assert_eq!((status, problem["field"].as_str()), (422, Some(field)), "{problem:#}");
        assert!(format!("{} {}", problem["detail"], problem["remedy"]).contains(part), "{problem:#}");
    }
    assert_eq!(api.get("/connections").await.1, json!([]));
    let (status, made) = api.post("/connections", &json!({"name": "weighbridge", "kind": "generator"})).await;
    assert_eq!((status, made["place"].as_str(), made["seed"].as_i64()), (201, Some("picks, readings, seed 1"), Some(1)));
    // a connection stays of its kind
    let path = format!("/connections/{}", made["id"].as_str().unwrap());
    let (status, problem) = {
        let other = json!({"name": "w", "host": "h", "port": 1, "database": "d", "user": "u"});
        api.send(api.request(Method::PUT, &path).json(&other)).await
    };
    assert_eq!((status, problem["field"].as_str()), (422, Some("kind")), "{problem:#}");

    let steps = json!({"steps": {"recipes.picks": [{"step": "drop", "columns": ["remark"]}]}});
    for (more, field) in [
        (json!({"start": {"at": "earliest"}}), "start"),
        (json!({"load": {"rows": true, "chunks": 4}}), "load"),
        (json!({"existing_rows": "compare"}), "existing_rows"),
        (json!({"schema_changes": "told"}), "schema_changes"),
        (json!({"patterns": {"include": ["*"], "topic": "w.{table}"}}), "patterns"),
    ] {
        let (status, problem) = api.post("/connectors", &source(&made["id"], &more)).await;
        assert_eq!((status, problem["field"].as_str()), (422, Some(field)), "{problem:#}");
        let (_, report) = api.post("/connectors/preflight", &source(&made["id"], &more)).await;
        assert_eq!(report["ready"], false, "{report:#}");
    }
    let sink = json!({"name": "to-weighbridge", "start": false, "definition": {
        "kind": "sink", "connection": made["id"], "topics": [{"topic": "bins", "schema": "recipes", "table": "bins"}]}});
    let (status, problem) = api.post("/connectors", &sink).await;
    assert_eq!((status, problem["field"].as_str()), (422, Some("connection")), "{problem:#}");
    assert!(problem["detail"].as_str().unwrap().contains("is not written by sinks"), "{problem:#}");
    assert_eq!(api.get("/connectors").await.1, json!([]));

    // what it can do is made, also with a shape: a row is made again by its number
    let (status, connector) = api.post("/connectors", &source(&made["id"], &json!({"shape": steps}))).await;
    assert_eq!(status, 201, "{connector:#}");
    assert!(connector["guarantee"].as_str().unwrap().starts_with("Exactly once"), "{connector:#}");
    let path = format!("/connectors/{}", connector["id"].as_str().unwrap());
    assert_eq!(api.get(&format!("{path}/positions")).await.1["source"], json!({}), "it is held nowhere else");
    let (status, problem) = api.post(&format!("{path}/begin-anew"), &json!({"existing_rows": "compare"})).await;
    assert_eq!((status, problem["field"].as_str()), (422, Some("existing_rows")), "{problem:#}");
    let sampled = json!({"table": {"schema": "recipes", "table": "readings", "topic": "t"}, "values": {"encoding": "json"}});
    let (status, sample) = api.post(&format!("/connections/{}/sample", made["id"].as_str().unwrap()), &sampled).await;
    assert_eq!((status, sample["rows"][0]["key"]["id"].as_i64()), (200, Some(1)), "{sample:#}");
    let inferred =
        json!({"language": "avro", "from": {"table": {"connection": made["id"], "schema": "recipes", "table": "picks"}}});
    let (status, inferred) = api.post("/schemas/infer", &inferred).await;
    assert!(status == 200 && inferred["text"].as_str().unwrap().contains("weight_kg"), "{inferred:#}");
}
