//! Requests that lose something: seen first, and carried out as they were seen or not at all.

use reqwest::Method;
use serde_json::{Value, json};

use crate::support::{Api, place, says, word};

async fn filled() -> Api {
    let api = Api::start().await;
    api.topic("bins", 2).await;
    let records: Vec<Value> = (0..10).map(|n| json!({"value": n, "partition": n % 2})).collect();
    assert_eq!(api.post("/topics/bins/records", &json!(records)).await.0, 200);
    let made = [
        ("readers", json!({"name": "stocktaking", "topics": ["bins"], "start": {"to": "earliest"}})),
        ("schemas", json!({"name": "bin", "language": "avro", "text": "\"string\""})),
        ("connections", json!({"name": "weighbridge", "kind": "generator", "seed": 1})),
    ];
    for (what, body) in made {
        assert_eq!(api.post(&format!("/{what}"), &body).await.0, 201, "{what}");
    }
    let weighbridge = api.get("/connections/weighbridge").await.1["id"].clone();
    let table = json!({"schema": "recipes", "table": "picks", "topic": "picks"});
    let definition = json!({"kind": "source", "connection": weighbridge, "tables": [table], "partitions": 1});
    let connector = json!({"name": "pickers", "definition": definition, "start": false});
    assert_eq!(api.post("/connectors", &connector).await.0, 201);
    api
}

/// Everything that a request could have changed.
async fn there(api: &Api) -> Vec<Value> {
    let mut all = Vec::new();
    for path in ["/topics/bins", "/readers/stocktaking", "/schemas/bin", "/connectors/pickers"] {
        let (_, mut one) = api.get(path).await;
        // it grows by itself
        if let Some(fields) = one.as_object_mut() {
            fields.retain(|name, _| !["lag_ms", "producers"].contains(&name.as_str()));
        }
        for position in one["positions"].as_array_mut().into_iter().flatten() {
            position["lag_ms"] = Value::Null;
        }
        all.push(one);
    }
    all
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_loses_something_is_seen_first_and_then_done_as_it_was_seen() {
    let api = filled().await;
    let cases = [
        (Method::POST, "/readers/stocktaking/reposition", Some(json!({"target": {"to": "latest"}}))),
        (Method::POST, "/topics/bins/partitions", Some(json!({"partitions": 5}))),
        (Method::PUT, "/topics/bins/settings", Some(json!({"keep": "latest"}))),
        (Method::DELETE, "/schemas/bin", None),
        (Method::DELETE, "/readers/stocktaking", None),
        (Method::DELETE, "/topics/bins", None),
        (Method::DELETE, "/connectors/pickers", None),
    ];
    let mut other: Option<String> = None;
    for (method, path, body) in &cases {
        let send = |query: String| api.send(api.planned(method.clone(), path, &query, body.as_ref()));
        let before = there(&api).await;
        let (status, plan) = send("dry_run=true".into()).await;
        assert_eq!((status, plan["needs_confirming"].as_bool()), (200, Some(true)), "{path}: {plan:#}");
        assert!(!plan["says"].as_array().unwrap().is_empty(), "{path}: {plan:#}");
        let unseen = send(String::new()).await;
        let told = (unseen.0, word(&unseen.1), place(&unseen.1));
        assert_eq!(told, (428, Some("unconfirmed"), Some("confirm")), "{path}: {:#}", unseen.1);
        says(&unseen, 428, plan["says"][0].as_str().unwrap());
        // the tag of another request, or none at all
        for (tag, status, of) in
            [(other.as_deref().unwrap_or("x"), 0, ""), ("nothing", 400, "malformed"), ("%00", 400, "malformed")]
        {
            let refused = send(format!("confirm={tag}")).await;
            let expected =
                if status == 0 && other.is_some() { (412, Some("plan-changed")) } else { (400, Some("malformed")) };
            let expected = if status == 0 { expected } else { (status, Some(of)) };
            assert_eq!((refused.0, word(&refused.1)), expected, "{path} {tag}: {:#}", refused.1);
        }
        assert_eq!(there(&api).await, before, "{path} changed something unconfirmed");
        let tag = plan["tag"].as_str().unwrap().to_owned();
        let done = send(format!("confirm={tag}")).await;
        assert!((200..300).contains(&done.0), "{path}: {:#}", done.1);
        assert_ne!(there(&api).await, before, "{path} changed nothing");
        // a plan is carried out once
        let again = send(format!("confirm={tag}")).await;
        assert!([404, 409, 412, 422].contains(&again.0) || *method == Method::DELETE, "{path}: {:#}", again.1);
        other = Some(tag);
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_move_is_what_was_shown_though_records_come_and_is_refused_where_it_stands_elsewhere() {
    let api = filled().await;
    let latest = json!({"target": {"to": "latest"}});
    let path = "/readers/stocktaking/reposition";
    let (_, plan) = api.plan(Method::POST, path, Some(&latest)).await;
    assert_eq!((&plan["records"], plan["moves"].as_array().unwrap().len()), (&json!(10), 2), "{plan:#}");
    // these were not seen, so they are not passed over
    assert_eq!(
        api.post("/topics/bins/records", &json!([{"value": 10, "partition": 0}, {"value": 11, "partition": 1}])).await.0,
        200
    );
    let confirm = format!("confirm={}", plan["tag"].as_str().unwrap());
    let (status, done) = api.send(api.planned(Method::POST, path, &confirm, Some(&latest))).await;
    assert_eq!((status, &done["moves"]), (200, &plan["moves"]), "{done:#}");
    assert_eq!(api.get("/readers/stocktaking").await.1["lag_records"], 2);
    // by now it would skip others
    let stale = api.send(api.planned(Method::POST, path, &confirm, Some(&latest))).await;
    assert_eq!((stale.0, word(&stale.1)), (412, Some("plan-changed")), "{:#}", stale.1);
    // one that stands ahead of the log, which was put back, passes more records as they come: it goes from and to where it was shown
    let client = api.cluster.connect("gonvel").await.unwrap();
    client.batch_execute("UPDATE reader_positions SET next_offset = next_offset + 3").await.unwrap();
    let back = json!({"target": {"to": "earliest"}});
    let (_, plan) = api.plan(Method::POST, path, Some(&back)).await;
    assert_eq!(api.post("/topics/bins/records", &json!([{"value": 12, "partition": 0}])).await.0, 200);
    assert_ne!(api.plan(Method::POST, path, Some(&back)).await.1["repeated"], plan["repeated"]);
    let confirm = format!("confirm={}", plan["tag"].as_str().unwrap());
    let (status, done) = api.send(api.planned(Method::POST, path, &confirm, Some(&back))).await;
    assert_eq!(status, 200, "{done:#}");
    // and a partition that came since was not among what was shown
    let (_, plan) = api.plan(Method::POST, path, Some(&json!({"target": {"to": "earliest"}}))).await;
    assert_eq!(api.confirmed(Method::POST, "/topics/bins/partitions", Some(&json!({"partitions": 3}))).await.0, 200);
    let confirm = format!("confirm={}", plan["tag"].as_str().unwrap());
    let grown = api.send(api.planned(Method::POST, path, &confirm, Some(&json!({"target": {"to": "earliest"}})))).await;
    assert_eq!((grown.0, word(&grown.1)), (412, Some("plan-changed")), "{:#}", grown.1);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn an_edit_an_action_and_records_in_quarantine_are_told_first() {
    let api = filled().await;
    let pickers = api.get("/connectors/pickers").await.1;
    // an edit: what it brings, and both manifests; a tag of another definition does not confirm it
    let mut wider = pickers["definition"].clone();
    wider["partitions"] = 2.into();
    let mut widest = wider.clone();
    widest["partitions"] = 3.into();
    let of = |definition: &Value| json!({"definition": definition});
    let (status, plan) = api.plan(Method::PUT, "/connectors/pickers", Some(&of(&wider))).await;
    assert_eq!(status, 200, "{plan:#}");
    assert_ne!(plan["before"], plan["after"]);
    let confirm = format!("confirm={}", plan["tag"].as_str().unwrap());
    let other = api.send(api.planned(Method::PUT, "/connectors/pickers", &confirm, Some(&of(&widest)))).await;
    assert_eq!((other.0, word(&other.1)), (412, Some("plan-changed")), "{:#}", other.1);
    let (status, changed) = api.send(api.planned(Method::PUT, "/connectors/pickers", &confirm, Some(&of(&wider)))).await;
    assert_eq!((status, &changed["version"]), (200, &json!(2)), "{changed:#}");
    // several connectors at once
    let pause = json!({"connectors": [pickers["id"]], "action": "restart"});
    let (_, plan) = api.plan(Method::POST, "/connectors/actions", Some(&pause)).await;
    assert_eq!(plan["outcomes"][0]["says"], "stays as it is", "{plan:#}");
    // records that wait
    let client = api.cluster.connect("gonvel").await.unwrap();
    let rows = "INSERT INTO quarantine (connector_id, topic_id, topic, partition, record_offset, timestamp_us, value, step, finding, cause, version, \
        state, expires_at) SELECT id, 1, 'bins', 0, n, 0, '1', 'write', 'too heavy', 7, 1, 'waiting', now() + interval '2 days' \
        FROM connectors, generate_series(1, 4) n";
    client.batch_execute(rows).await.unwrap();
    let which = json!({"which": {"connector": pickers["id"]}, "reason": "left the cooperative"});
    let (_, plan) = api.plan(Method::POST, "/quarantine/discard", Some(&which)).await;
    assert_eq!((&plan["records"], &plan["needs_confirming"]), (&json!(4), &json!(true)), "{plan:#}");
    says(&api.post("/quarantine/discard", &which).await, 428, "4 records are given up");
    let again = json!({"which": {"connector": pickers["id"]}});
    assert_eq!(api.plan(Method::POST, "/quarantine/retry", Some(&again)).await.1["repeated"], 4);
    // what is tried again meanwhile is not given up, and what came since was not seen: it waits on
    client.batch_execute("UPDATE quarantine SET state = 'asked' WHERE record_offset = 1").await.unwrap();
    client.batch_execute(&rows.replace("generate_series(1, 4)", "generate_series(5, 6)")).await.unwrap();
    let seen = format!("confirm={}", plan["tag"].as_str().unwrap());
    let (status, gone) = api.send(api.planned(Method::POST, "/quarantine/discard", &seen, Some(&which))).await;
    assert_eq!((status, &gone["records"]), (200, &json!(3)), "{gone:#}");
    assert_eq!(api.list("/quarantine/records?state=waiting").await.as_array().unwrap().len(), 2);
    assert_eq!(api.list("/quarantine/records?state=discarded").await.as_array().unwrap().len(), 3);
}
