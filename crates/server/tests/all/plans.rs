//! Requests that lose something: seen first, and carried out as they were seen or not at all.

use gonvel_stand_ins::postgres_cluster::OWNER;
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
        ("connections", json!({"name": "spare", "kind": "generator", "seed": 2})),
    ];
    api.topic("crates", 1).await;
    let function = json!({"function": {"name": "paid", "parameters": [{"name": "kg", "type": "bigint"}], "gives": "bigint",
        "value": "kg * 2", "examples": [{"given": ["3"], "gives": "6"}]}});
    let saved = api.send(api.request(Method::PUT, "/functions/paid").json(&function)).await;
    assert_eq!(saved.0, 200, "{:#}", saved.1);
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
    for path in [
        "/topics/bins",
        "/readers/stocktaking",
        "/schemas/bin",
        "/connectors/pickers",
        "/connections/spare",
        "/functions/paid",
    ] {
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
    // what is asked, and how it is answered when its plan was carried out already; a connector leaves its system first
    let cases = [
        (Method::POST, "/readers/stocktaking/reposition", Some(json!({"target": {"to": "latest"}})), 412),
        (Method::POST, "/topics/bins/partitions", Some(json!({"partitions": 5})), 422),
        (Method::PUT, "/topics/bins/settings", Some(json!({"keep": "latest"})), 412),
        (Method::PUT, "/readers/stocktaking/topics", Some(json!({"topics": ["crates"]})), 412),
        (Method::DELETE, "/connections/spare", None, 404),
        (Method::DELETE, "/functions/paid", None, 404),
        (Method::DELETE, "/schemas/bin", None, 404),
        (Method::DELETE, "/readers/stocktaking", None, 404),
        (Method::DELETE, "/topics/bins", None, 404),
        (Method::DELETE, "/connectors/pickers", None, 202),
    ];
    // the tag of a request that came before, and what is none at all
    let (_, earlier) = api.plan(Method::POST, cases[0].1, Some(&json!({"target": {"to": "earliest"}}))).await;
    let mut other = earlier["tag"].as_str().unwrap().to_owned();
    for (method, path, body, again) in &cases {
        let send = |query: String| api.send(api.planned(method.clone(), path, &query, body.as_ref()));
        let before = there(&api).await;
        let (status, plan) = send("dry_run=true".into()).await;
        assert_eq!((status, plan["needs_confirming"].as_bool()), (200, Some(true)), "{path}: {plan:#}");
        let unseen = send(String::new()).await;
        let told = (unseen.0, word(&unseen.1), place(&unseen.1));
        assert_eq!(told, (428, Some("unconfirmed"), Some("confirm")), "{path}: {:#}", unseen.1);
        says(&unseen, 428, plan["says"][0].as_str().unwrap());
        for (tag, refusal) in [(other.as_str(), "plan-changed"), ("nothing", "malformed"), ("%00", "malformed")] {
            let refused = send(format!("confirm={tag}")).await;
            assert_eq!((word(&refused.1), place(&refused.1)), (Some(refusal), Some("confirm")), "{path} {tag}");
        }
        assert_eq!(there(&api).await, before, "{path} changed something unconfirmed");
        other = plan["tag"].as_str().unwrap().to_owned();
        let done = send(format!("confirm={other}")).await;
        assert!((200..300).contains(&done.0), "{path}: {:#}", done.1);
        assert_ne!(there(&api).await, before, "{path} changed nothing");
        let late = send(format!("confirm={other}")).await;
        assert_eq!(late.0, *again, "{path}: {:#}", late.1);
    }
}

/// Whoever came since the plan was shown was not seen in it.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn whom_it_touches_by_now_is_part_of_what_is_confirmed() {
    let api = filled().await;
    let (_, plan) = api.plan(Method::DELETE, "/topics/bins", None).await;
    assert_eq!(plan["touched"].as_array().unwrap().len(), 1, "{plan:#}");
    let confirm = format!("confirm={}", plan["tag"].as_str().unwrap());
    assert_eq!(api.post("/readers", &json!({"name": "night-watch", "topics": ["bins"]})).await.0, 201);
    let refused = api.send(api.planned(Method::DELETE, "/topics/bins", &confirm, None)).await;
    assert_eq!((refused.0, word(&refused.1)), (412, Some("plan-changed")), "{:#}", refused.1);

    // of what was changed since it was read nothing is planned either
    let definition = json!({"definition": api.get("/connectors/pickers").await.1["definition"]});
    for path in ["/connectors/pickers", "/topics/bins/settings"] {
        let body = if path.starts_with("/topics") { json!({}) } else { definition.clone() };
        let stale = api.put_at(&format!("{path}?dry_run=true"), 7, &body).await;
        assert_eq!((stale.0, word(&stale.1), place(&stale.1)), (412, Some("changed"), Some("If-Match")), "{path}");
    }
    // and of manifests the plan says itself whether it has to be confirmed
    let file = |text: &str| json!({"files": [{"name": "a.yaml", "text": text}], "prune": true});
    let only = file("topic: bins\npartitions: 2\n");
    let (_, plan) = api.plan(Method::POST, "/manifests/apply", Some(&only)).await;
    assert_eq!(plan["needs_confirming"], true, "{plan:#}");
    let unseen = api.post("/manifests/apply", &only).await;
    says(&unseen, 428, "It deletes");
    assert!(plan["says"][0].as_str().unwrap().starts_with("It deletes"), "{plan:#}");
    let wrong = file("topic: bins\npartition: 2\n");
    let (_, plan) = api.plan(Method::POST, "/manifests/apply", Some(&wrong)).await;
    assert_eq!(plan["installation"]["faults"].as_array().unwrap().len(), 1, "{plan:#}");
    assert_eq!(api.post("/manifests/apply", &wrong).await.0, 422);
}

/// Rows that are there and go first are lost by an edit.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn an_edit_that_empties_tables_has_to_be_confirmed() {
    let api = filled().await;
    let system = json!({"name": "settlement", "host": "127.0.0.1", "port": api.cluster.port, "database": "gonvel",
        "user": OWNER, "password": api.cluster.password});
    let connection = api.post("/connections", &system).await.1["id"].clone();
    let topic = |name: &str| json!({"topic": name, "schema": "public", "table": name});
    let sink = |topics: Value| json!({"definition": {"kind": "sink", "connection": connection, "topics": topics, "existing_rows": "empty"}});
    let mut made = sink(json!([topic("bins")]));
    (made["name"], made["start"]) = ("settlement-tables".into(), false.into());
    assert_eq!(api.post("/connectors", &made).await.0, 201);
    // it is none that never ran
    let client = api.cluster.connect("gonvel").await.unwrap();
    client.batch_execute("UPDATE connectors SET wish = 'stop' WHERE name = 'settlement-tables'").await.unwrap();
    let wider = sink(json!([topic("bins"), topic("lots")]));
    let path = "/connectors/settlement-tables";
    let (_, plan) = api.plan(Method::PUT, path, Some(&wider)).await;
    assert_eq!(plan["needs_confirming"], true, "{plan:#}");
    let unseen = api.put_at(path, 1, &wider).await;
    assert_eq!((unseen.0, word(&unseen.1)), (428, Some("unconfirmed")), "{:#}", unseen.1);
    let (status, changed) = api.confirmed(Method::PUT, path, Some(&wider)).await;
    assert_eq!((status, &changed["version"]), (200, &json!(2)), "{changed:#}");
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
    says(&api.post("/quarantine/discard", &which).await, 428, "It gives up 4 records");
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
