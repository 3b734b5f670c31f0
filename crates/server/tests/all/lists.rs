//! Lists: every one of them page by page, in every order, while others come and go.

use std::collections::BTreeMap;

use reqwest::Method;
use serde_json::{Value, json};

use crate::support::{Api, place, says};

const EACH: usize = 7;

/// Something of every kind, with ties in what lists are in order of.
async fn filled() -> Api {
    let api = Api::start().await;
    let made = async |method: Method, path: &str, body: Value| {
        let (status, made) = api.send(api.request(method, path).json(&body)).await;
        assert!(status < 300, "{path}: {made:#}");
        made
    };
    for n in 0..EACH {
        // neither made nor named in the order of their numbers
        let letter = char::from(b"gbdacfe"[n]);
        let connection = json!({"name": format!("Weighbridge-{letter}"), "kind": "generator", "seed": 1});
        let connection = made(Method::POST, "/connections", connection).await;
        let table = json!({"schema": "recipes", "table": "picks", "topic": format!("picks.{letter}")});
        let definition = json!({"kind": "source", "connection": connection["id"], "tables": [table], "partitions": 1});
        let connector = json!({"name": format!("pickers-{letter}"), "definition": definition, "start": false});
        made(Method::POST, "/connectors", connector).await;
        let topic = format!("bins.{letter}");
        made(Method::POST, "/topics", json!({"name": topic, "partitions": 2})).await;
        let records: Vec<Value> = (0..n / 2).map(|n| json!({"key": "bin-3", "value": n, "partition": n % 2})).collect();
        if !records.is_empty() {
            made(Method::POST, &format!("/topics/{topic}/records?producer=scale"), json!(records)).await;
        }
        let reader = json!({"name": format!("stocktaking-{letter}"), "topics": [topic], "start": {"to": "earliest"}});
        made(Method::POST, "/readers", reader).await;
        let text = format!("{{\"type\": \"record\", \"name\": \"bin_{letter}\", \"fields\": []}}");
        made(Method::POST, "/schemas", json!({"name": format!("bin-{letter}"), "language": "avro", "text": text})).await;
        let function = json!({"name": format!("half_{letter}"), "parameters": [{"name": "n", "type": "integer"}],
            "gives": "integer", "value": "n / 2", "examples": [{"given": ["4"], "gives": "2"}]});
        made(Method::PUT, &format!("/functions/half_{letter}"), json!({"function": function})).await;
        made(Method::POST, "/drafts", json!({"name": letter, "kind": "sink", "lacks": "a topic", "work": {}})).await;
        let grown = format!(
            "{{\"type\": \"record\", \"name\": \"bin\", \"fields\": [{}]}}",
            (0..n)
                .map(|n| format!("{{\"name\": \"f{n}\", \"type\": \"int\", \"default\": 0}}"))
                .collect::<Vec<_>>()
                .join(", ")
        );
        let version = json!({"name": "bin", "language": "avro", "text": grown});
        match n {
            0 => made(Method::POST, "/schemas", version).await,
            _ => made(Method::POST, "/schemas/bin/versions", version_text(&grown)).await,
        };
    }
    for role in ["key", "value"] {
        made_nothing(&api, &format!("/topics/bins.a/schemas/{role}"), json!({"schema": "bin-a", "required": false})).await;
    }
    let more: Vec<Value> = (0..EACH).map(|n| json!({"value": n})).collect();
    made(Method::POST, "/topics/bins.a/records", json!(more)).await;
    let mut definition = api.get("/connectors/pickers-a").await.1["definition"].take();
    for partitions in [2, 3] {
        definition["partitions"] = partitions.into();
        let change = api.request(Method::PUT, "/connectors/pickers-a").header("if-match", "*");
        let (status, said) = api.send(change.json(&json!({"definition": definition}))).await;
        assert_eq!(status, 200, "{said:#}");
    }
    let client = api.cluster.connect("gonvel").await.unwrap();
    let rows = format!(
        "INSERT INTO connector_lines (connector_id, lane, runner, at, level, says) \
           SELECT id, 0, 'inside', now(), 'info', 'line ' || n FROM connectors, generate_series(1, {EACH}) n;
         INSERT INTO connector_history (connector_id, connector, who, what, version) \
           SELECT id, name, 'Ines', 'started', 1 FROM connectors, generate_series(1, {EACH}) n;
         INSERT INTO topic_history (topic_id, at, appended, bytes) \
           SELECT id, now() - n * interval '1 minute', n, n FROM topics, generate_series(1, {EACH}) n;
         INSERT INTO quarantine (connector_id, topic_id, topic, partition, record_offset, timestamp_us, value, step, finding, cause, \
             version, state, expires_at) \
           SELECT id, 1, 'bins', 0, n, 0, '1', 'write', 'too heavy', n / 2, 1, 'waiting', now() + interval '2 days' \
             FROM connectors, generate_series(1, {EACH}) n;
         INSERT INTO operations (id, kind, says, state) SELECT gen_random_uuid(), 'import', 'Imports a file', 'done'
           FROM generate_series(1, {EACH});
         INSERT INTO lanes (connector_id, lane, waits) SELECT id, 1, 'no runner has room' FROM connectors
           ON CONFLICT DO NOTHING"
    );
    client.batch_execute(&rows).await.unwrap();
    // who appends is noted each second
    let start = std::time::Instant::now();
    while api.list("/producers").await.as_array().unwrap().len() < EACH - 2 {
        assert!(start.elapsed().as_secs() < 30);
        tokio::time::sleep(std::time::Duration::from_millis(100)).await;
    }
    api
}

/// What an item is known by; the rest may be measured anew with each request.
fn still(items: &[Value]) -> Vec<[Value; 6]> {
    items.iter().map(|item| ["id", "name", "number", "at", "cause", "path"].map(|field| item[field].clone())).collect()
}

fn version_text(text: &str) -> Value {
    json!({"text": text})
}

async fn made_nothing(api: &Api, path: &str, body: Value) {
    let (status, said) = api.send(api.request(Method::PUT, path).json(&body)).await;
    assert_eq!(status, 204, "{said:#}");
}

/// A list page by page, with what stands behind its question mark.
async fn paged(api: &Api, path: &str, limit: usize) -> Vec<Value> {
    let (mut items, mut cursor) = (Vec::new(), String::new());
    let and = if path.contains('?') { '&' } else { '?' };
    loop {
        let (status, page) = api.get(&format!("{path}{and}limit={limit}{cursor}")).await;
        assert_eq!(status, 200, "{path}: {page:#}");
        let found = page["items"].as_array().unwrap();
        assert!(found.len() <= limit && items.len() < 1000, "{path}: {page:#}");
        items.extend(found.iter().cloned());
        match page["next"].as_str() {
            Some(next) => cursor = format!("&cursor={next}"),
            None => return items,
        }
    }
}

/// Lists of the document, each with the orders that it can be in.
fn lists() -> BTreeMap<String, Vec<String>> {
    let document: Value = serde_json::from_str(&gonvel_server::openapi_json()).unwrap();
    let mut lists = BTreeMap::new();
    for (path, item) in document["paths"].as_object().unwrap() {
        let told = &item["get"];
        let body = &told["responses"]["200"]["content"]["application/json"]["schema"]["$ref"];
        if !body.as_str().is_some_and(|name| name.ends_with("Page")) {
            continue;
        }
        let parameter = |name: &str| told["parameters"].as_array().unwrap().iter().find(|p| p["name"] == name);
        let needed = if path.ends_with("/difference") { "?from=1&to=7" } else { "?" };
        let path = path.strip_prefix("/api/v1").unwrap();
        let path = path.replace("{connection}", "Weighbridge-a").replace("{connector}", "pickers-a");
        let path = path.replace("/schemas/{name}", "/schemas/bin").replace("{name}", "bins.a");
        let mut orders = vec![needed.to_owned()];
        let words = parameter("order").map(|order| order["schema"]["enum"].clone()).unwrap_or_default();
        orders.extend(words.as_array().into_iter().flatten().map(|word| format!("?order={}", word.as_str().unwrap())));
        if parameter("descending").is_some() {
            orders.extend(orders.clone().into_iter().map(|order| format!("{order}&descending=true")));
        }
        lists.insert(path, orders);
    }
    lists
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn every_list_comes_page_by_page_as_it_comes_at_once() {
    let api = filled().await;
    let lists = lists();
    assert!(lists.len() > 20, "{lists:?}");
    let mut short = Vec::new();
    for (path, orders) in &lists {
        for order in orders {
            let path = format!("{path}{order}");
            let whole = paged(&api, &path, 500).await;
            for limit in [1, 3, whole.len().max(1), 99] {
                assert_eq!(still(&paged(&api, &path, limit).await), still(&whole), "{path}, {limit} a page");
            }
            if let Some(up) = path.strip_suffix("&descending=true") {
                let mut up = paged(&api, up, 500).await;
                up.reverse();
                assert_eq!(still(&up), still(&whole), "{path}");
            }
            if whole.len() < 2 {
                short.push(path);
            }
        }
    }
    // who looks ahead found nothing, and what runs here has one runner at most
    short.retain(|path| !["/soon-forgotten", "/runners"].iter().any(|empty| path.starts_with(empty)));
    assert!(short.is_empty(), "nothing was paged: {short:?}");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_comes_and_goes_meanwhile_neither_repeats_nor_hides_others() {
    let api = filled().await;
    let names = |page: &Value| -> Vec<String> {
        page["items"].as_array().unwrap().iter().map(|t| t["name"].as_str().unwrap().to_owned()).collect()
    };
    let first = api.get("/topics?limit=3&order=records&search=BINS.").await.1;
    assert_eq!(names(&first), ["bins.b", "bins.g", "bins.d"], "{first:#}");
    let next = first["next"].as_str().unwrap();
    // the last of the page goes, and others come before it and after it
    assert_eq!(api.confirmed(Method::DELETE, "/topics/bins.d", None).await.0, 204);
    api.topic("bins.0", 1).await;
    api.topic("bins.z", 1).await;
    assert_eq!(
        api.post("/topics/bins.z/records", &json!([{"value": 1}, {"value": 2}, {"value": 3}, {"value": 4}])).await.0,
        200
    );
    let second = api.get(&format!("/topics?limit=9&order=records&search=BINS.&cursor={next}")).await.1;
    assert_eq!(names(&second), ["bins.c", "bins.f", "bins.e", "bins.z", "bins.a"]);
    assert!(second.get("next").is_none());

    // a cursor belongs to its list, its filter and its order
    let of = |query: &str| format!("/{query}&cursor={next}");
    for query in [
        "topics?limit=3",
        "topics?order=bytes&search=BINS.",
        "topics?order=records&search=bins.",
        "readers?",
        "topics?order=records&search=BINS.&descending=true",
    ] {
        let refused = api.get(&of(query)).await;
        says(&refused, 400, "not of this list");
        assert_eq!(place(&refused.1), Some("cursor"));
    }
    for cursor in ["", "nowhere", "%00", "W10"] {
        says(&api.get(&format!("/topics?cursor={cursor}")).await, 400, "not of this list");
    }
    let other = api.get("/topics/bins.c/records?limit=1").await.1["next"].as_str().unwrap().to_owned();
    says(&api.get(&format!("/topics/bins.e/records?cursor={other}")).await, 400, "not of this list");
    for (limit, status) in [("0", 422), ("10001", 422), ("-1", 400), ("all", 400)] {
        let refused = api.get(&format!("/topics?limit={limit}")).await;
        assert_eq!((refused.0, place(&refused.1)), (status, Some("limit")), "{:#}", refused.1);
    }
    // a word that is not known is not passed over
    let refused = api.get("/topics?limit=3&serach=bins").await;
    says(&refused, 400, "this address takes cursor, descending, limit, order, search");
    assert_eq!(place(&refused.1), Some("serach"));
    says(&api.get("/health?verbose=true").await, 400, "this address takes none");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn lists_are_filtered_by_what_the_document_names() {
    let api = filled().await;
    for (path, found) in [
        ("/connectors?kind=source", EACH),
        ("/connectors?kind=sink", 0),
        ("/connectors?state=draft", EACH),
        ("/connectors?state=halted", 0),
        ("/connectors?system=Weighbridge-c", 1),
        ("/connectors?topic=picks.c", 1),
        ("/connectors?topic=bins.c", 0),
        ("/connectors?search=PICKERS", EACH),
        ("/connectors?search=%25", 0),
        ("/connections?search=weighBRIDGE", EACH),
        ("/connections?kind=generator", EACH),
        ("/connections?kind=postgresql", 0),
        ("/readers?topic=bins.d", 1),
        ("/readers?search=taking-d", 1),
        ("/producers?search=SCALE", EACH - 2),
        ("/functions?search=half_b", 1),
    ] {
        assert_eq!(api.list(path).await.as_array().unwrap().len(), found, "{path}");
    }
    // moments are in order, however many digits of a second they have
    let client = api.cluster.connect("gonvel").await.unwrap();
    let moments = "UPDATE connectors SET created_at = timestamptz '2026-11-25 09:00:00Z' + ascii(right(name, 1)) * interval '0.01 s' \
        - interval '0.97 s'";
    client.batch_execute(moments).await.unwrap();
    let made = api.list("/connectors?order=created_at&topic=").await;
    assert_eq!(made, json!([]), "a topic without a name is none");
    let made = api.list("/connectors?order=created_at").await;
    let names: Vec<&str> = made.as_array().unwrap().iter().map(|c| c["name"].as_str().unwrap()).collect();
    assert_eq!(names[0], "pickers-a", "{made:#}");
    let refused = api.get("/connectors?state=broken").await;
    assert_eq!((refused.0, place(&refused.1)), (400, Some("state")), "{:#}", refused.1);
}

/// Offsets in the order in which they came, by partition.
fn by_partition(records: &[Value]) -> BTreeMap<i64, Vec<i64>> {
    let mut out: BTreeMap<i64, Vec<i64>> = BTreeMap::new();
    for record in records {
        out.entry(record["partition"].as_i64().unwrap()).or_default().push(record["offset"].as_i64().unwrap());
    }
    out
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn records_of_all_partitions_are_paged_together_and_by_key() {
    let api = Api::start().await;
    api.topic("bins", 3).await;
    // times that go back and stand still, so that partitions take turns and their own order is held
    let record = |n: usize| {
        json!({"key": format!("bin-{}", n % 5), "value": n, "partition": n * 7 % 3,
            "timestamp": format!("2026-11-25T00:00:{:02}Z", (n * 11) % 60)})
    };
    for piece in 0..8 {
        let records: Vec<Value> = (piece * 12..piece * 12 + 12).map(record).collect();
        assert_eq!(api.post("/topics/bins/records", &json!(records)).await.0, 200);
    }
    for order in ["oldest", "newest"] {
        let path = format!("/topics/bins/records?order={order}");
        for limit in [1, 5, 95, 96, 97] {
            let found = by_partition(&paged(&api, &path, limit).await);
            let mut expected: Vec<i64> = (0..32).collect();
            if order == "newest" {
                expected.reverse();
            }
            assert!((0..3).all(|p| found[&p] == expected), "{order}, {limit} a page: {found:?}");
        }
        let all = paged(&api, &path, 100).await;
        for limit in [1, 4, 19, 20] {
            let found = paged(&api, &format!("{path}&key=bin-3"), limit).await;
            let expected: Vec<Value> = all.iter().filter(|r| r["key"] == "bin-3").cloned().collect();
            assert_eq!(by_partition(&found), by_partition(&expected), "{order} of a key, {limit} a page");
        }
        let part = paged(&api, &format!("{path}&partition=1&offset=20"), 3).await;
        assert_eq!(part.len(), if order == "oldest" { 12 } else { 21 });
    }
    // from the newest page back, what is appended meanwhile is left out
    let first = api.get("/topics/bins/records?limit=50").await.1;
    assert_eq!(api.post("/topics/bins/records", &json!([record(1)])).await.0, 200);
    let rest = api.get(&format!("/topics/bins/records?limit=50&cursor={}", first["next"].as_str().unwrap())).await.1;
    assert_eq!((rest["items"].as_array().unwrap().len(), rest.get("next")), (46, None));
    // and one who waits at the end goes on from there
    let path = "/topics/bins/records?order=oldest&wait_ms=20000&limit=97";
    let end = api.get(path).await.1;
    let waits = format!("{path}&cursor={}", end["next"].as_str().unwrap());
    let (came, _) = tokio::join!(api.get(&waits), async {
        tokio::time::sleep(std::time::Duration::from_millis(100)).await;
        api.post("/topics/bins/records", &json!([record(3), record(4)])).await
    });
    assert_eq!(came.1["items"].as_array().unwrap().len(), 2, "{:#}", came.1);
}
