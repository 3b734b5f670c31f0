//! What is made once, however often the same request comes.

use std::collections::BTreeSet;

use futures::future::join_all;
use reqwest::Method;
use serde_json::{Value, json};

use crate::support::{Answer, Api, place, says, word};

/// Everything that can be made: where, with what, with what else, and the part of the answer that says which it is.
fn all(api: &Api, connection: &Value) -> [(&'static str, Value, Value, &'static str); 8] {
    let login = |name: &str| {
        json!({"name": name, "host": "127.0.0.1", "port": api.cluster.port, "database": "gonvel", "user": "gonvel",
            "password": api.cluster.password})
    };
    let sink = |name: &str| {
        let topic = json!({"topic": "bins", "schema": "public", "table": "bins"});
        json!({"name": name, "start": false, "definition": {"kind": "sink", "connection": connection["id"], "topics": [topic]}})
    };
    let schema = |name: &str| json!({"name": name, "language": "avro", "text": "\"string\""});
    let draft = |name: &str| json!({"name": name, "kind": "sink", "lacks": "a topic", "work": {}});
    [
        ("/topics", json!({"name": "lots", "partitions": 2}), json!({"name": "lots", "partitions": 3}), "name"),
        ("/connections", login("orders"), login("invoices"), "id"),
        ("/connectors", sink("to-orders"), sink("to-invoices"), "id"),
        ("/drafts", draft("to-sort"), draft("to-weigh"), "id"),
        ("/schemas", schema("weight"), schema("grade"), "name"),
        (
            "/readers",
            json!({"name": "audit", "topics": ["bins"]}),
            json!({"name": "stocktaking", "topics": ["bins"]}),
            "name",
        ),
        ("/readers/scale/members", json!({"label": "left"}), json!({"label": "right"}), "member"),
        ("/producers", Value::Null, Value::Null, "session"),
    ]
}

async fn made(api: &Api, path: &str, key: &str, body: &Value) -> Answer {
    let request = api.request(Method::POST, path).header("idempotency-key", key);
    api.send(if body.is_null() { request } else { request.json(body) }).await
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_request_that_comes_again_makes_nothing_more_and_is_answered_with_what_it_made() {
    let api = Api::start().await;
    api.topic("bins", 1).await;
    assert_eq!(api.post("/readers", &json!({"name": "scale", "topics": ["bins"]})).await.0, 201);
    let login = all(&api, &Value::Null)[1].1.clone();
    let (_, connection) = api
        .post(
            "/connections",
            &json!({"name": "settlement", "host": login["host"], "port": login["port"],
        "database": "gonvel", "user": "gonvel", "password": login["password"]}),
        )
        .await;
    for (path, body, other, id) in all(&api, &connection) {
        let key = format!("make {path}");
        // at once, as a client does that is tired of waiting, and afterwards
        let mut answers = join_all((0..6).map(|_| made(&api, path, &key, &body))).await;
        answers.push(made(&api, path, &key, &body).await);
        let which: BTreeSet<String> = answers.iter().map(|(_, made)| made[id].to_string()).collect();
        assert!(answers.iter().all(|(status, _)| *status == 201) && which.len() == 1, "{path}: {answers:#?}");
        if path != "/producers" && !path.ends_with("/members") {
            let listed = api.list(path).await;
            let listed: Vec<&Value> =
                listed.as_array().unwrap().iter().filter(|made| made[id] == answers[0].1[id]).collect();
            assert_eq!(listed.len(), 1, "{path}");
        }
        if body != other {
            let (status, refused) = made(&api, path, &key, &other).await;
            let about = (word(&refused), place(&refused));
            assert_eq!((status, about), (422, (Some("key-reused"), Some("Idempotency-Key"))), "{path}: {refused:#}");
        }
        // without a key, or with another, it is a request of its own
        let (status, _) = made(&api, path, &format!("again {path}"), &body).await;
        let named = !matches!(path, "/drafts" | "/producers") && !path.ends_with("/members");
        assert_eq!(status, if named { 409 } else { 201 }, "{path}");
    }
    let (status, refused) = made(&api, "/topics", "", &json!({"name": "crates", "partitions": 1})).await;
    assert_eq!((status, place(&refused)), (422, Some("Idempotency-Key")));
    // what was refused made nothing, so its key is free
    let (status, _) = made(&api, "/topics", "crates", &json!({"name": "crates", "partitions": 0})).await;
    assert_eq!(status, 422);
    assert_eq!(made(&api, "/topics", "crates", &json!({"name": "crates", "partitions": 1})).await.0, 201);
    // one key for all that a client asks for
    let append = api.request(Method::POST, "/topics/bins/records").header("idempotency-key", "crates");
    let (status, refused) = api.send(append.json(&json!({"value": 1}))).await;
    assert_eq!((status, word(&refused)), (422, Some("key-reused")));
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_was_made_is_shown_as_it_is_now_and_not_made_again_once_it_is_gone() {
    let api = Api::start().await;
    let lots = json!({"name": "lots", "partitions": 1});
    assert_eq!(made(&api, "/topics", "lots", &lots).await.0, 201);
    assert_eq!(api.confirmed(Method::POST, "/topics/lots/partitions", Some(&json!({"partitions": 4}))).await.0, 200);
    assert_eq!(made(&api, "/topics", "lots", &lots).await.1["partitions"], 4);
    api.confirmed(Method::DELETE, "/topics/lots", None).await;
    says(&made(&api, "/topics", "lots", &lots).await, 409, "deleted since");
    assert_eq!(api.get("/topics/lots").await.0, 404);
}

#[test]
fn everything_that_is_made_takes_a_key() {
    let document: Value = serde_json::from_str(&gonvel_server::openapi_json()).unwrap();
    let makes = document["paths"].as_object().unwrap().iter().filter_map(|(path, item)| {
        let post = item.get("post").filter(|post| post["responses"].get("201").is_some())?;
        let parameters = post["parameters"].as_array().into_iter().flatten();
        Some((path.clone(), parameters.filter(|parameter| parameter["name"] == "Idempotency-Key").count()))
    });
    let makes: Vec<_> = makes.collect();
    let without: Vec<_> = makes.iter().filter(|(_, keys)| *keys == 0).collect();
    assert!(without.is_empty(), "{without:?}");
    assert!(makes.len() >= 8, "{makes:?}");
}
