//! What can be changed is addressed by its name or its id, and changed only as it was read.

use reqwest::{Method, StatusCode};
use serde_json::{Value, json};

use crate::support::{Api, place, word};

/// An answer with its entity tag.
async fn tagged(api: &Api, method: Method, path: &str, at: Option<&str>, body: Option<&Value>) -> (u16, String, Value) {
    let mut request = api.request(method, path);
    if let Some(at) = at {
        request = request.header("if-match", at);
    }
    if let Some(body) = body {
        request = request.json(body);
    }
    let answer = request.send().await.unwrap();
    let status = answer.status().as_u16();
    let tag = answer.headers().get("etag").map(|tag| tag.to_str().unwrap().to_owned()).unwrap_or_default();
    (status, tag, serde_json::from_slice(&answer.bytes().await.unwrap()).unwrap_or_default())
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_another_changed_is_neither_changed_nor_deleted_unseen() {
    let api = Api::start().await;
    let seed = |seed: i32| json!({"name": "weighbridge", "kind": "generator", "seed": seed});
    let definition =
        json!({"kind": "source", "tables": [{"schema": "recipes", "table": "picks", "topic": "picks"}], "partitions": 1});
    let (status, first, connection) = tagged(&api, Method::POST, "/connections", None, Some(&seed(1))).await;
    assert_eq!((status, first.as_str()), (201, "\"1\""), "{connection:#}");
    let mut definition = definition;
    definition["connection"] = connection["id"].clone();
    let connector = |partitions: i32| {
        let mut definition = definition.clone();
        definition["partitions"] = partitions.into();
        json!({"definition": definition})
    };
    let mut made = connector(1);
    (made["name"], made["start"]) = ("pickers".into(), false.into());
    let made = tagged(&api, Method::POST, "/connectors", None, Some(&made)).await;
    assert_eq!(made.0, 201, "{:#}", made.2);
    let topic = json!({"name": "bins", "partitions": 1});
    assert_eq!(tagged(&api, Method::POST, "/topics", None, Some(&topic)).await.0, 201);
    let schema = json!({"name": "bin", "language": "avro", "text": "\"string\""});
    assert_eq!(tagged(&api, Method::POST, "/schemas", None, Some(&schema)).await.0, 201);
    let function = |value: &str| {
        json!({"function": {"name": "half", "parameters": [{"name": "n", "type": "integer"}], "gives": "integer",
            "value": value, "examples": [{"given": ["4"], "gives": "2"}]}})
    };
    let saved = tagged(&api, Method::PUT, "/functions/half", None, Some(&function("n / 2"))).await;
    assert_eq!(saved.0, 200, "{:#}", saved.2);
    let draft = |lacks: &str| json!({"name": "", "kind": "sink", "lacks": lacks, "work": {}});
    let (_, _, kept) = tagged(&api, Method::POST, "/drafts", None, Some(&draft("a topic"))).await;
    let draft_path = format!("/drafts/{}", kept["id"].as_str().unwrap());
    let about = |owner: &str| json!({"description": "", "owner": owner, "labels": [], "rule": {}, "retired": false});

    // (address, where it is changed, two changes, where it is deleted)
    let cases = [
        ("/connectors/pickers", "/connectors/pickers", connector(2), connector(3), "/connectors/pickers"),
        ("/connections/weighbridge", "/connections/weighbridge", seed(2), seed(3), "/connections/weighbridge"),
        (
            "/topics/bins",
            "/topics/bins/settings",
            json!({"most_bytes": 1_000_000_000}),
            json!({"most_bytes": 2_000_000_000}),
            "/topics/bins",
        ),
        ("/schemas/bin", "/schemas/bin", about("Ida"), about("Bo"), "/schemas/bin"),
        ("/functions/half", "/functions/half", function("n / 2 + 0"), function("n / 2 - 0"), "/functions/half"),
        (draft_path.as_str(), draft_path.as_str(), draft("a table"), draft("all"), draft_path.as_str()),
    ];
    for (path, change, one, other, delete) in cases {
        let (status, read, before) = tagged(&api, Method::GET, path, None, None).await;
        assert_eq!(status, 200, "{path}: {before:#}");
        let unsaid = tagged(&api, Method::PUT, change, None, Some(&one)).await;
        // a function is also made so
        let refused = if path.starts_with("/functions") { (409, Some("exists")) } else { (428, Some("unconditional")) };
        assert_eq!((unsaid.0, word(&unsaid.2)), refused, "{path}: {:#}", unsaid.2);
        let (status, next, changed) = tagged(&api, Method::PUT, change, Some(&read), Some(&one)).await;
        assert!(status == 200 && next != read && !next.is_empty(), "{path}: {status} {next} {changed:#}");
        // whoever read it before is told, and what is there stays
        for (method, address, body) in [(Method::PUT, change, Some(&other)), (Method::DELETE, delete, None)] {
            let late = tagged(&api, method.clone(), address, Some(&read), body).await;
            assert_eq!((late.0, word(&late.2), place(&late.2)), (412, Some("changed"), Some("If-Match")), "{method} {path}");
        }
        let (_, now, there) = tagged(&api, Method::GET, path, None, None).await;
        assert!(now == next && there == changed, "{path}: {now}\n{there:#}\n{changed:#}");
        let (status, last, _) = tagged(&api, Method::PUT, change, Some("*"), Some(&other)).await;
        assert!(status == 200 && last != next, "{path}: {status} {last}");
    }
    for no_tag in ["41", "W/\"41\"", "\"41\", \"42\"", "\"", ""] {
        let (status, _, problem) = tagged(&api, Method::PUT, "/schemas/bin", Some(no_tag), Some(&about("Eve"))).await;
        assert_eq!((status, word(&problem), place(&problem)), (400, Some("malformed"), Some("If-Match")), "{no_tag:?}");
    }
    let unlike = tagged(&api, Method::PUT, "/schemas/bin", Some("\"bin\""), Some(&about("Eve"))).await;
    assert_eq!(unlike.0, 412, "no revision is called so: {:#}", unlike.2);
    // either way leads to the same
    for (what, name, id) in [("connectors", "pickers", &made.2["id"]), ("connections", "weighbridge", &connection["id"])] {
        let by = async |said: &str| tagged(&api, Method::GET, &format!("/{what}/{said}"), None, None).await;
        assert_eq!(by(name).await, by(id.as_str().unwrap()).await);
        let (status, _, problem) = by("nowhere").await;
        assert_eq!((status, word(&problem)), (404, Some("not-found")), "{problem:#}");
    }
    for path in [draft_path.as_str(), "/functions/half", "/schemas/bin"] {
        let (_, read, _) = tagged(&api, Method::GET, path, None, None).await;
        // what loses something is seen first
        let (_, _, plan) = match path != draft_path {
            true => tagged(&api, Method::DELETE, &format!("{path}?dry_run=true"), Some(&read), None).await,
            false => (0, String::new(), Value::Null),
        };
        let confirm = plan["tag"].as_str().map(|tag| format!("?confirm={tag}")).unwrap_or_default();
        let gone = tagged(&api, Method::DELETE, &format!("{path}{confirm}"), Some(&read), None).await.0;
        assert_eq!(gone, StatusCode::NO_CONTENT.as_u16(), "{path}");
    }
}
