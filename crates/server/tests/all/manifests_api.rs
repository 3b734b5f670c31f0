//! What manifests say, as servers take it.

use serde_json::{Value, json};

use crate::support::{Api, place};

fn files(text: &str) -> Value {
    json!({"files": [{"name": "all.yaml", "text": text}]})
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_topic_stays_bound_unless_its_manifest_lets_go_of_the_schema() {
    let api = Api::start().await;
    let schema = "schema: cold.Reading\nlanguage: avro\nversions:\n- text: '{\"type\": \"record\", \"name\": \"Reading\", \"fields\": []}'\n";
    let topic = |values: &str| format!("{schema}---\ntopic: readings\npartitions: 2\n{values}");
    let apply = async |text: &str| {
        let (status, ended) = api.ended(api.post("/manifests/apply", &files(text)).await).await;
        assert_eq!(status, 200, "{ended:#}");
        let again = api.manifests(&files(text)).await;
        assert_eq!((&again["steps"], &again["faults"]), (&json!([]), &json!([])), "{again:#}");
        let exported = api.request(reqwest::Method::GET, "/manifests").send().await.unwrap().text().await.unwrap();
        exported.contains("values:")
    };
    assert!(apply(&topic("values: {schema: cold.Reading, required: true}\n")).await);
    assert!(apply(&topic("")).await, "it stays bound");
    let plan = api.manifests(&files(&topic("values: none\n"))).await;
    assert_eq!(plan["steps"][0]["changes"][0]["field"], "values", "{plan:#}");
    assert!(!apply(&topic("values: none\n")).await, "it was let go of");
    assert!(!apply(&topic("")).await, "and stays so");
    let plan = api.manifests(&files(&topic("values: nothing\n"))).await;
    let fault = &plan["faults"][0];
    assert!(fault["line"] == 8 && fault["finding"].as_str().unwrap().contains("or none"), "{plan:#}");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn the_way_to_a_system_stands_in_its_manifest_and_its_secrets_elsewhere() {
    let api = Api::start().await;
    let connection = |more: &str| {
        format!(
            "connection: packhouse\nkind: postgresql\nhost: db.orchard.example\nport: 5432\ndatabase: packhouse\nuser: gonvel\n\
             password: {{env: PACKHOUSE_PASSWORD}}\nonly_where: {{site: packhouse}}\nthrough: jump_host\n\
             through_host: gate.orchard.example\nthrough_user: gonvel\nthrough_key: {{file: gate.key}}\n{more}"
        )
    };
    let key = "through_host_key: SHA256:GFEowJBzPU8pI9t/GTzykgVu8AytKdYKek//rV1sdqI\n";
    let plan = api.manifests(&files(&connection(key))).await;
    assert_eq!((&plan["faults"], plan["steps"][0]["name"].as_str()), (&json!([]), Some("packhouse")), "{plan:#}");
    let asked: Vec<&str> = plan["secrets"].as_array().unwrap().iter().map(|s| s["field"].as_str().unwrap()).collect();
    assert_eq!(asked, ["password", "through_key"], "{plan:#}");
    for (more, line, part) in [
        ("through_host_key: mine\n", 13, "neither a public key nor a fingerprint"),
        ("keepalive_seconds: 1\n", 13, "from 5 to 3600"),
        ("certificate: mine\ncertificate_key: typed\n", 14, "a secret stands in the text"),
        ("through_pasword: {env: X}\n", 13, "perhaps through_password is meant"),
    ] {
        let plan = api.manifests(&files(&connection(more))).await;
        let fault = &plan["faults"][0];
        let told = fault["finding"].as_str().unwrap_or_default();
        assert!(fault["line"] == line && told.contains(part), "{more}: {plan:#}");
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_reader_reads_other_topics_and_stays_where_it_stands_in_the_rest() {
    let api = Api::start().await;
    let topics = "topic: bins\npartitions: 1\n---\ntopic: doors\npartitions: 2\n---\ntopic: rooms\npartitions: 1\n";
    let text = |reads: &str| files(&format!("{topics}---\nreader: night-watch\ntopics: [{reads}]\n"));
    let apply = async |reads: &str| {
        let plan = api.manifests(&text(reads)).await;
        let (status, _) = api.ended(api.post("/manifests/apply", &text(reads)).await).await;
        assert_eq!((status, &plan["faults"]), (200, &json!([])), "{plan:#}");
        let again = api.manifests(&text(reads)).await;
        assert_eq!(again["steps"], json!([]), "{again:#}");
        plan
    };
    apply("bins, doors").await;
    let (_, joined) = api.post("/readers/night-watch/members", &json!({"label": "one"})).await;
    let path = format!("/readers/night-watch/members/{}/commit", joined["member"].as_str().unwrap());
    let committed = json!({"positions": [{"topic": "doors", "partition": 1, "next_offset": 0}]});
    assert_eq!(api.post(&path, &committed).await.0, 204);
    assert_eq!(api.manifests(&text("doors, bins")).await["steps"], json!([]), "in whatever order");
    let plan = apply("rooms, doors").await;
    let says = json!(["Its positions in bins are lost.", "It begins at the oldest kept records of rooms."]);
    assert_eq!((&plan["steps"][0]["says"], plan["steps"].as_array().unwrap().len()), (&says, 1), "{plan:#}");
    let (_, reader) = api.get("/readers/night-watch").await;
    let stands =
        |p: &Value| (p["topic"].as_str().map(str::to_owned), p["partition"].as_i64(), p["committed_at"].is_string());
    let stands: Vec<_> = reader["positions"].as_array().unwrap().iter().map(stands).collect();
    let at = |topic: &str, partition, committed| (Some(topic.to_owned()), Some(partition), committed);
    assert_eq!(stands, [at("doors", 0, false), at("doors", 1, true), at("rooms", 0, false)], "{reader:#}");
    assert!(reader["positions"].as_array().unwrap().iter().all(|p| p["member"].is_string()), "{reader:#}");
    // over HTTP
    let put = async |body: Value| api.plan(reqwest::Method::PUT, "/readers/night-watch/topics", Some(&body)).await;
    for (body, status, field) in [
        (json!({"topics": []}), 422, Some("topics")),
        (json!({"topics": ["bins"], "start": {"to": "by", "records": 3}}), 422, Some("start")),
        (json!({"topics": ["nowhere"]}), 404, None),
    ] {
        let (said, problem) = put(body).await;
        assert_eq!((said, place(&problem)), (status, field), "{problem:#}");
    }
    let others = json!({"topics": ["bins"], "start": {"to": "latest"}});
    let (_, plan) = put(others.clone()).await;
    let says = "It reads doors, rooms no more: its positions there are lost.";
    assert_eq!((&plan["says"][1], &plan["needs_confirming"]), (&json!(says), &json!(true)), "{plan:#}");
    let (status, reader) = api.confirmed(reqwest::Method::PUT, "/readers/night-watch/topics", Some(&others)).await;
    assert_eq!((status, &reader["topics"]), (200, &json!(["bins"])), "{reader:#}");
}
