//! Partitions that come while something is being read, and keys that are in others than their own.

use std::time::{Duration, Instant};

use futures::{Stream, StreamExt};
use gonvel_core::partitioning::partition_of;
use reqwest::Method;
use serde_json::{Value, json};

use crate::support::Api;

async fn grow(api: &Api, topic: &str, partitions: i32) {
    let grown =
        api.confirmed(Method::POST, &format!("/topics/{topic}/partitions"), Some(&json!({"partitions": partitions}))).await;
    assert_eq!(grown.0, 200, "{:#}", grown.1);
}

async fn keys(api: &Api, topic: &str, some: std::ops::Range<usize>) {
    let records: Vec<Value> = some.map(|n| json!({"key": format!("bin-{n}"), "value": n})).collect();
    assert_eq!(api.post(&format!("/topics/{topic}/records"), &json!(records)).await.0, 200);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_key_is_found_wherever_its_records_were_put() {
    let api = Api::start().await;
    for topic in ["bins.grown", "bins.named"] {
        api.topic(topic, if topic == "bins.grown" { 1 } else { 8 }).await;
    }
    keys(&api, "bins.grown", 0..20).await;
    grow(&api, "bins.grown", 8).await;
    keys(&api, "bins.grown", 0..20).await;
    let own = partition_of(Some(b"bin-3"), 8).0;
    let named = json!([{"key": "bin-3", "value": 1}, {"key": "bin-3", "value": 2, "partition": (own + 1) % 8}]);
    assert_eq!(api.post("/topics/bins.named/records", &named).await.0, 200);
    for topic in ["bins.grown", "bins.named"] {
        let found = api.get(&format!("/topics/{topic}/records?key=bin-3")).await.1;
        assert_eq!(found["items"].as_array().unwrap().len(), 2, "{topic}: {found:#}");
        let search = api.request(Method::GET, &format!("/topics/{topic}/search?filter=key%20%3D%20%27bin-3%27"));
        let text = search.send().await.unwrap().text().await.unwrap();
        assert_eq!(text.matches("event: record").count(), 2, "{topic}: {text}");
    }
}

/// Reads until a part of what comes was seen so often; how often it was in the end.
async fn seen(stream: impl Stream<Item = reqwest::Result<bytes::Bytes>>, part: &str, times: usize) -> usize {
    let mut stream = Box::pin(stream);
    let (mut text, end) = (String::new(), Instant::now() + Duration::from_secs(10));
    while text.matches(part).count() < times {
        let Ok(piece) = tokio::time::timeout_at(end.into(), stream.next()).await else { break };
        text.push_str(&String::from_utf8_lossy(&piece.unwrap().unwrap()));
    }
    text.matches(part).count()
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_is_open_when_partitions_come_sees_them() {
    let api = Api::start().await;
    api.topic("bins.moved", 1).await;
    let open = async |path: &str| {
        let lines = !path.ends_with("tail");
        let request = api.request(Method::GET, path);
        let request = if lines { request.header("accept", "application/x-ndjson") } else { request };
        request.send().await.unwrap().bytes_stream()
    };
    assert_eq!(api.post("/readers", &json!({"name": "stocktaking", "topics": ["bins.moved"]})).await.0, 201);
    let share = api.post("/readers/stocktaking/members", &json!({})).await.1;
    let member = format!("/readers/stocktaking/members/{}/stream", share["member"].as_str().unwrap());
    let streams = [open("/topics/bins.moved/stream").await, open("/topics/bins.moved/tail").await, open(&member).await];
    let waiting = {
        let request = api.request(Method::GET, "/topics/bins.moved/records?order=oldest&wait_ms=20000");
        tokio::spawn(async move { request.send().await.unwrap().json::<Value>().await.unwrap() })
    };
    tokio::time::sleep(Duration::from_millis(300)).await;
    grow(&api, "bins.moved", 6).await;
    let start = Instant::now();
    let one = json!({"key": "bin-1", "value": 0, "partition": 5});
    assert_eq!(api.post("/topics/bins.moved/records", &one).await.0, 200);
    assert_eq!(waiting.await.unwrap()["items"].as_array().unwrap().len(), 1);
    assert!(start.elapsed() < Duration::from_secs(10), "a page waited to its end for what was there");
    keys(&api, "bins.moved", 0..39).await;
    for (stream, of) in streams.into_iter().zip(["stream", "tail", "member"]) {
        assert_eq!(seen(stream, "\"offset\":", 40).await, 40, "{of}");
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_reader_that_is_made_while_partitions_come_has_them_all() {
    let api = Api::start().await;
    for number in 0..12 {
        let (topic, reader) = (format!("bins.moved-{number}"), format!("reader-{number}"));
        api.topic(&topic, 1).await;
        let growing = grow(&api, &topic, 3);
        let making = async {
            tokio::time::sleep(Duration::from_millis(number)).await;
            api.post("/readers", &json!({"name": reader, "topics": [topic]})).await
        };
        let ((), made) = tokio::join!(growing, making);
        assert_eq!(made.0, 201, "{:#}", made.1);
        let positions = api.get(&format!("/readers/{reader}")).await.1["positions"].as_array().unwrap().len();
        assert_eq!(positions, 3, "of {topic}");
    }
}
