//! Kinds of systems over HTTP: what a kind describes is asked for, and what it does not declare is refused at its field.

use reqwest::Method;
use serde_json::{Value, json};

use crate::support::{Api, place};

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
    let kinds = api.list("/kinds").await;
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
        assert_eq!((status, place(&problem)), (422, Some(field)), "{problem:#}");
        assert!(format!("{} {}", problem["detail"], problem["remedy"]).contains(part), "{problem:#}");
    }
    assert_eq!(api.list("/connections").await, json!([]));
    let (status, made) = api.post("/connections", &json!({"name": "weighbridge", "kind": "generator"})).await;
    assert_eq!((status, made["place"].as_str(), made["seed"].as_i64()), (201, Some("picks, readings, seed 1"), Some(1)));
    // a connection stays of its kind
    let path = format!("/connections/{}", made["id"].as_str().unwrap());
    let (status, problem) = {
        let other = json!({"name": "w", "host": "h", "port": 1, "database": "d", "user": "u"});
        api.send(api.request(Method::PUT, &path).header("if-match", "*").json(&other)).await
    };
    assert_eq!((status, place(&problem)), (422, Some("kind")), "{problem:#}");

    let steps = json!({"steps": {"recipes.picks": [{"step": "drop", "columns": ["remark"]}]}});
    for (more, field) in [
        (json!({"start": {"at": "earliest"}}), "definition/start"),
        (json!({"load": {"rows": true, "chunks": 4}}), "definition/load"),
        (json!({"existing_rows": "compare"}), "definition/existing_rows"),
        (json!({"schema_changes": "told"}), "definition/schema_changes"),
        (json!({"patterns": {"include": ["*"], "topic": "w.{table}"}}), "definition/patterns"),
    ] {
        let (status, problem) = api.post("/connectors", &source(&made["id"], &more)).await;
        assert_eq!((status, place(&problem)), (422, Some(field)), "{problem:#}");
        let (_, report) = api.post("/connectors/preflight", &source(&made["id"], &more)).await;
        assert_eq!(report["ready"], false, "{report:#}");
    }
    let sink = json!({"name": "to-weighbridge", "start": false, "definition": {
        "kind": "sink", "connection": made["id"], "topics": [{"topic": "bins", "schema": "recipes", "table": "bins"}]}});
    let (status, problem) = api.post("/connectors", &sink).await;
    assert_eq!((status, place(&problem)), (422, Some("definition/connection")), "{problem:#}");
    assert!(problem["detail"].as_str().unwrap().contains("is not written by sinks"), "{problem:#}");
    assert_eq!(api.list("/connectors").await, json!([]));
    // in a manifest it is told at its line, and nothing is made either
    let text = "connector: w\nsource:\n  connection: weighbridge\n  tables: [{schema: recipes, table: picks, topic: w.picks}]\n  \
        partitions: 1\n  start: {at: earliest}\n---\nconnection: later\nkind: generator\n---\nconnector: back\nsink:\n  \
        connection: later\n  topics: [{topic: w.picks, schema: s, table: t}]\n";
    let files = json!({"files": [{"name": "all.yaml", "text": text}]});
    let plan = api.manifests(&files).await;
    let faults: Vec<(i64, String)> = plan["faults"]
        .as_array()
        .unwrap()
        .iter()
        .map(|f| (f["line"].as_i64().unwrap(), f["finding"].as_str().unwrap().to_owned()))
        .collect();
    assert_eq!(faults.iter().map(|fault| fault.0).collect::<Vec<_>>(), [6, 13], "{plan:#}");
    assert!(faults[0].1.contains("cannot begin there") && faults[1].1.contains("is not written by sinks"), "{faults:?}");
    assert_eq!(api.post("/manifests/apply", &files).await.0, 422);
    assert_eq!((api.list("/connectors").await, api.list("/connections").await.as_array().unwrap().len()), (json!([]), 1));

    // what it can do is made, also with a shape: a row is made again by its number
    let (status, connector) = api.post("/connectors", &source(&made["id"], &json!({"shape": steps}))).await;
    assert_eq!(status, 201, "{connector:#}");
    assert!(connector["guarantee"].as_str().unwrap().starts_with("Exactly once"), "{connector:#}");
    let path = format!("/connectors/{}", connector["id"].as_str().unwrap());
    assert_eq!(api.get(&format!("{path}/positions")).await.1["source"], json!({}), "it is held nowhere else");
    let (status, problem) = api.post(&format!("{path}/begin-anew"), &json!({"existing_rows": "compare"})).await;
    assert_eq!((status, place(&problem)), (422, Some("existing_rows")), "{problem:#}");
    let sampled = json!({"table": {"schema": "recipes", "table": "readings", "topic": "t"}, "values": {"encoding": "json"}});
    let (status, sample) = api.post(&format!("/connections/{}/sample", made["id"].as_str().unwrap()), &sampled).await;
    assert_eq!((status, sample["rows"][0]["key"]["id"].as_i64()), (200, Some(1)), "{sample:#}");
    let inferred =
        json!({"language": "avro", "from": {"table": {"connection": made["id"], "schema": "recipes", "table": "picks"}}});
    let (status, inferred) = api.post("/schemas/infer", &inferred).await;
    assert!(status == 200 && inferred["text"].as_str().unwrap().contains("weight_kg"), "{inferred:#}");
}

/// What the page on made-up records shows is taken as it stands there, also as text, and comes back the same.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_the_page_shows_is_taken_and_an_edit_loads_nothing_again() {
    let page = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/made-up-records.md");
    let page = std::fs::read_to_string(page).unwrap();
    let shown: Vec<&str> = page.split("```yaml\n").skip(1).map(|rest| rest.split("```").next().unwrap()).collect();
    let [recipes, manifest] = shown[..] else { panic!("{} examples", shown.len()) };
    let api = Api::start().await;
    let (status, made) = api.post("/connections", &json!({"name": "page", "kind": "generator", "recipes": recipes})).await;
    assert_eq!((status, made["place"].as_str()), (201, Some("picks, readings, weighings, vehicles, seed 1")), "{made:#}");
    let files = |text: &str| json!({"files": [{"name": "all.yaml", "text": text}], "prune": true});
    let plan = api.manifests(&files(manifest)).await;
    assert_eq!(plan["faults"], json!([]), "{plan:#}");
    let begun = api.confirmed(Method::POST, "/manifests/apply", Some(&files(manifest))).await;
    let (status, applied) = api.ended(begun).await;
    assert_eq!(status, 200, "{applied:#}");
    let again = api.manifests(&files(manifest)).await;
    assert_eq!((again["steps"].clone(), again["unchanged"].as_i64()), (json!([]), Some(2)), "{again:#}");

    let all = api.list("/connectors").await;
    let connector = all.as_array().unwrap()[0].clone();
    let mut definition = connector["definition"].clone();
    definition["values"] = json!({"form": "row"});
    let path = format!("/connectors/{}", connector["id"].as_str().unwrap());
    let change = json!({"definition": definition});
    let (status, would) = api.plan(Method::PUT, &path, Some(&change)).await;
    let kinds: Vec<&str> = would["consequences"].as_array().unwrap().iter().map(|c| c["kind"].as_str().unwrap()).collect();
    assert!(status == 200 && kinds.contains(&"writes_otherwise") && !kinds.contains(&"loads_again"), "{would:#}");
    let load = json!({"tables": ["recipes.weighings"], "existing_rows": "keep"});
    let (status, problem) = api.post(&format!("{path}/reload"), &load).await;
    assert_eq!((status, place(&problem)), (422, Some("tables")), "{problem:#}");
    assert!(problem["detail"].as_str().unwrap().contains("no rows to load"), "{problem:#}");
}
