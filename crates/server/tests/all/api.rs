//! The API on topics and connectors, against a real log.

use crate::support::{place, word};
use std::borrow::Cow;
use std::sync::Arc;
use std::time::Duration;

use bytes::Bytes;
use futures::StreamExt;
use gonvel_core::block::pack;
use gonvel_core::naming::{PartitionId, TopicName, TopicPartition};
use gonvel_core::ports::{AppendBatch, PartitionBlocks, Topic, TopicLog};
use gonvel_core::record::{Header, Record};
use gonvel_core::topic_settings::TopicSettings;
use gonvel_server::ServerState;
use gonvel_stand_ins::test_cluster::TestCluster;
use gonvel_storage::Database;
use gonvel_storage::sealing::Sealer;
use serde_json::{Value, json};
use tokio::sync::Notify;

struct Api {
    _cluster: TestCluster,
    base: String,
    database: Database,
}

impl Api {
    async fn start() -> Self {
        let cluster = TestCluster::start(&["gonvel"]).await;
        let database = Database::open(&cluster.url("gonvel"), Sealer::new(&[7; 32])).await.unwrap();
        let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
        let base = format!("http://{}", listener.local_addr().unwrap());
        let state = ServerState::new(database.clone(), Arc::new(Notify::new()), None);
        tokio::spawn(gonvel_server::serve(listener, state, console, std::future::pending()));
        Self { _cluster: cluster, base, database }
    }

    async fn get(&self, path: &str) -> (u16, Value) {
        let answer = reqwest::get(format!("{}{path}", self.base)).await.unwrap();
        (answer.status().as_u16(), answer.json().await.unwrap_or_default())
    }

    async fn topic(&self, name: &str, partitions: i32) -> Topic {
        self.database.create_topic(&TopicName::parse(name).unwrap(), partitions, &TopicSettings::default()).await.unwrap()
    }

    async fn append(&self, topic: &Topic, partition: i32, records: &[Record]) {
        let to = TopicPartition { topic: topic.id, partition: PartitionId(partition) };
        let parts = vec![PartitionBlocks { to, blocks: pack(records) }];
        self.database.append(AppendBatch { parts, ..AppendBatch::default() }).await.unwrap();
    }
}

fn record(value: &str, second: i64) -> Record {
    Record {
        key: Some(Bytes::from_static(b"room-7")),
        value: Some(Bytes::copy_from_slice(value.as_bytes())),
        headers: vec![Header { name: "site".into(), value: Bytes::from_static(b"coldstore") }],
        timestamp_us: second * 1_000_000,
        ..Record::default()
    }
}

/// Reads a partition page by page in an order, and gives the offsets in the order they came.
async fn walk(api: &Api, order: &str, limit: usize) -> Vec<i64> {
    let mut out = Vec::new();
    let mut from = String::new();
    loop {
        let (status, page) = api
            .get(&format!("/api/v1/topics/coldstore.readings/records?partition=1&order={order}&limit={limit}{from}"))
            .await;
        assert_eq!(status, 200, "{page:#}");
        let records = page["items"].as_array().unwrap();
        assert!(records.len() <= limit);
        out.extend(records.iter().map(|r| r["offset"].as_i64().unwrap()));
        match page["next"].as_str() {
            Some(next) => from = format!("&cursor={next}"),
            None => return out,
        }
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn records_are_paged_whole_in_both_directions_and_found_by_time() {
    let api = Api::start().await;
    let topic = api.topic("coldstore.readings", 2).await;
    // blocks of many sizes, so that pages end within and between them
    let mut second = 1_000;
    for size in [1, 7, 2, 30, 1, 1, 12, 3] {
        let records: Vec<Record> = (0..size).map(|n| record(&format!("{}", second + n), second + n)).collect();
        api.append(&topic, 1, &records).await;
        second += size;
    }
    let all: Vec<i64> = (0..57).collect();
    let reversed: Vec<i64> = all.iter().rev().copied().collect();
    for limit in [1, 2, 7, 10, 56, 57, 58, 500] {
        assert_eq!(walk(&api, "oldest", limit).await, all, "oldest first, {limit} a page");
        assert_eq!(walk(&api, "newest", limit).await, reversed, "newest first, {limit} a page");
    }
    for (time, first) in [("1970-01-01T00:16:40Z", 0), ("1970-01-01T00:17:00.5Z", 21), ("1970-01-01T02:17:00+02:00", 20)] {
        let time = time.replace('+', "%2B");
        let (_, page) =
            api.get(&format!("/api/v1/topics/coldstore.readings/records?order=oldest&time={time}&limit=1")).await;
        assert_eq!(page["items"][0]["offset"], first, "{time}: {page:#}");
    }
    let (_, page) = api.get("/api/v1/topics/coldstore.readings/records?order=oldest&time=2026-11-25T00:00:00Z").await;
    assert_eq!(page["items"], json!([]), "no record is that late");

    let (_, page) = api.get("/api/v1/topics/coldstore.readings/records?limit=1").await;
    let newest = &page["items"][0];
    assert_eq!(newest["headers"], json!([{"name": "site", "value": "coldstore"}]));
    assert_eq!(
        (&newest["key"], &newest["value"], &newest["timestamp"]),
        (&json!("room-7"), &json!(1056), &json!("1970-01-01T00:17:36Z"))
    );
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_cannot_be_read_is_said_with_what_can() {
    let api = Api::start().await;
    let topic = api.topic("coldstore.readings", 2).await;
    api.append(&topic, 0, &[record("1", 1), record("2", 2)]).await;
    let cases = [
        ("partition=5", 422, "partition", "give one from 0 to 1"),
        ("partition=0&offset=9", 422, "offset", "holds 0 to 1"),
        ("offset=1", 422, "offset", "name the partition"),
        ("time=yesterday", 422, "time", "write it like 2026-"),
        ("limit=0", 422, "limit", "ask for 1 to 500"),
        ("limit=501", 422, "limit", "ask for 1 to 500"),
        // what is not even of the form is told like all else, and not as plain text
        ("limit=many", 400, "limit", "limit: invalid digit"),
        ("raw=perhaps", 400, "raw", "raw: "),
    ];
    for (query, status, field, part) in cases {
        let (found, problem) = api.get(&format!("/api/v1/topics/coldstore.readings/records?{query}")).await;
        assert_eq!((found, place(&problem)), (status, Some(field)), "{query}: {problem:#}");
        assert!(problem["detail"].as_str().unwrap().contains(part), "{query}: {problem:#}");
    }
    for path in ["/api/v1/topics/absent", "/api/v1/topics/absent/records", "/api/v1/topics/absent/tail"] {
        let (status, problem) = api.get(path).await;
        assert_eq!((status, word(&problem)), (404, Some("not-found")), "{path}");
    }
    for (path, parameter) in [
        ("/api/v1/drafts/the-first", "id"),
        ("/api/v1/connectors/%FF/positions", "connector"),
        ("/api/v1/readers/a/members/b/records", "member"),
    ] {
        let (status, problem) = api.get(path).await;
        assert_eq!((status, word(&problem), place(&problem)), (400, Some("malformed"), Some(parameter)), "{path}");
    }
    let (status, problem) = api.get("/api/v1/demo/workload").await;
    assert_eq!((status, word(&problem)), (404, Some("not-found")));
    let (status, _) = api.get("/api/v1/no-such-thing").await;
    assert_eq!(status, 404);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn the_tail_gives_new_records_and_says_what_it_passed_over() {
    let api = Api::start().await;
    let topic = api.topic("coldstore.readings", 1).await;
    api.append(&topic, 0, &[record("\"before\"", 1)]).await;
    let answer = reqwest::get(format!("{}/api/v1/topics/coldstore.readings/tail", api.base)).await.unwrap();
    assert_eq!(answer.headers()["content-type"], "text/event-stream");
    let mut stream = answer.bytes_stream();
    let crowd: Vec<Record> = (0..120).map(|n| record(&n.to_string(), n)).collect();
    api.append(&topic, 0, &crowd).await;
    let mut text = String::new();
    while !text.contains("event: skipped") {
        let part =
            tokio::time::timeout(Duration::from_secs(10), stream.next()).await.expect("an event in time").unwrap().unwrap();
        text.push_str(std::str::from_utf8(&part).unwrap());
    }
    let line = |name: &str| {
        let event = text.split("\n\n").find(|e| e.contains(&format!("event: {name}"))).unwrap();
        let data = event.lines().find_map(|l| l.strip_prefix("data: ")).unwrap();
        serde_json::from_str::<Value>(data).unwrap()
    };
    let records = line("records");
    assert_eq!(records[0]["value"], 119, "the newest comes first");
    let shown = records.as_array().unwrap().len();
    assert_eq!(
        line("skipped").as_u64().unwrap() + u64::try_from(shown).unwrap(),
        120,
        "what was before the tail is not in it"
    );
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn the_server_tells_its_health_its_metrics_and_its_document() {
    let api = Api::start().await;
    assert_eq!(api.get("/api/v1/health").await.1["status"], "ok");
    let (_, document) = api.get("/api/openapi.json").await;
    assert_eq!(document["openapi"], "3.1.0");
    let mut seen = std::collections::HashSet::new();
    for (path, methods) in document["paths"].as_object().unwrap() {
        for (method, operation) in methods.as_object().unwrap() {
            let id = operation["operationId"].as_str().unwrap_or_default();
            assert!(!id.is_empty() && seen.insert(id), "{method} {path} has no operation id of its own");
        }
    }
    assert!(seen.len() > 15);
    let metrics = reqwest::get(format!("{}/metrics", api.base)).await.unwrap();
    assert_eq!(metrics.status(), 200);
    // every address of the interface gives the page, and what is not there under an address of files or of the API says so
    for (path, status, kind, keep) in [
        ("/", 200, "text/html", "no-cache"),
        ("/connectors/anything", 200, "text/html", "no-cache"),
        ("/assets/index-1.js", 200, "text/javascript", "public, max-age=31536000, immutable"),
        ("/assets/index-0.js", 404, "", ""),
        ("/api/v1/orchards", 404, "application/problem+json", ""),
    ] {
        let answer = reqwest::get(format!("{}{path}", api.base)).await.unwrap();
        let header = |name: &str| answer.headers().get(name).map(|v| v.to_str().unwrap().to_owned()).unwrap_or_default();
        let found = (answer.status().as_u16(), header("content-type"), header("cache-control"));
        assert_eq!(found, (status, kind.to_owned(), keep.to_owned()), "{path}");
        assert_eq!(answer.text().await.unwrap() == PAGE, kind == "text/html", "{path}");
    }
}

const PAGE: &str = "<!doctype html><title>Gonvel</title>";

/// A console of two files.
fn console(path: &str) -> Option<Cow<'static, [u8]>> {
    match path {
        "index.html" => Some(PAGE.as_bytes().into()),
        "assets/index-1.js" => Some(b"start()".as_slice().into()),
        _ => None,
    }
}
