//! Streams of records: cut wherever it may be, and taken up again.

use std::collections::BTreeMap;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::{Duration, Instant};

use futures::StreamExt;
use gonvel_stand_ins::dice::Dice;
use reqwest::Method;
use serde_json::{Value, json};

use crate::support::{Api, place, says, word};

/// What whoever reads the stream has, and from where it goes on.
#[derive(Default)]
struct Received {
    offsets: BTreeMap<i64, Vec<i64>>,
    cursor: Option<String>,
    heartbeats: usize,
}

impl Received {
    fn take(&mut self, record: &Value) {
        let (partition, offset) = (record["partition"].as_i64().unwrap(), record["offset"].as_i64().unwrap());
        self.offsets.entry(partition).or_default().push(offset);
    }

    fn count(&self) -> usize {
        self.offsets.values().map(Vec::len).sum()
    }

    /// Whole events of what was sent, as a browser reads them; the rest is lost with the connection.
    fn events(&mut self, rest: &mut String) {
        while let Some(end) = rest.find("\n\n") {
            let event: String = rest.drain(..end + 2).collect();
            let field = |name: &str| event.lines().find_map(|line| line.strip_prefix(name)).map(str::trim);
            if let Some(id) = field("id:") {
                self.cursor = Some(id.to_owned());
            }
            match field("data:") {
                Some(data) => self.take(&serde_json::from_str(data).unwrap()),
                None => self.heartbeats += 1,
            }
        }
    }

    fn lines(&mut self, rest: &mut String) {
        while let Some(end) = rest.find('\n') {
            let line: String = rest.drain(..=end).collect();
            let record: Value = serde_json::from_str(&line).unwrap();
            self.cursor = Some(record["cursor"].as_str().unwrap().to_owned());
            if record["offset"].is_i64() {
                self.take(&record);
            } else {
                self.heartbeats += 1;
            }
        }
    }
}

const CUTS: usize = 1_000;
const PARTITIONS: i32 = 4;

/// Appends until it is told to end, and gives how many records there are.
async fn appending(api: Arc<Api>, stop: Arc<AtomicUsize>) -> usize {
    let mut count = 0;
    while stop.load(Ordering::Relaxed) == 0 {
        let records: Vec<Value> = (0..40).map(|n| json!({"value": count + n, "partition": (count + n) % 4})).collect();
        assert_eq!(api.post("/topics/bins/records", &json!(records)).await.0, 200);
        count += 40;
        tokio::time::sleep(Duration::from_millis(60)).await;
    }
    count
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_stream_that_is_cut_a_thousand_times_gives_every_record_once() {
    let api = Arc::new(Api::start().await);
    api.topic("bins", PARTITIONS).await;
    let stop = Arc::new(AtomicUsize::new(0));
    let appends = tokio::spawn(appending(Arc::clone(&api), Arc::clone(&stop)));
    let (mut dice, mut got) = (Dice::new(7), Received::default());
    let start = Instant::now();
    let mut total = None;
    for cut in 0.. {
        let lines = cut % 2 == 1;
        let mut request = api.request(Method::GET, "/topics/bins/stream?from=oldest");
        request = match (&got.cursor, cut % 3) {
            (None, _) => request,
            // a browser asks the same address again, with the header
            (Some(cursor), 0) => request.header("last-event-id", cursor),
            (Some(cursor), _) => api.request(Method::GET, &format!("/topics/bins/stream?cursor={cursor}")),
        };
        if lines {
            request = request.header("accept", "application/x-ndjson");
        }
        let answer = request.send().await.unwrap();
        assert_eq!(answer.status(), 200, "{}", answer.text().await.unwrap());
        // wherever it may be: before anything came, within a record, after some
        let mut left = usize::try_from(dice.roll(20_000)).unwrap();
        let (mut pieces, mut rest) = (answer.bytes_stream(), String::new());
        while left > 0 {
            // now and then as soon as it has begun, at last with all there is
            let patience = Duration::from_millis(if cut < CUTS { 5 } else { 500 });
            let wait = tokio::time::timeout(patience, pieces.next());
            let Ok(Some(piece)) = wait.await else { break };
            let piece = piece.unwrap();
            let taken = piece.len().min(left);
            left -= taken;
            rest.push_str(std::str::from_utf8(&piece[..taken]).unwrap());
            if lines { got.lines(&mut rest) } else { got.events(&mut rest) }
        }
        drop(pieces);
        if cut == CUTS {
            stop.store(1, Ordering::Relaxed);
        }
        if cut >= CUTS && appends.is_finished() {
            let all = api.count("bins").await;
            total = Some(usize::try_from(all).unwrap());
        }
        if total.is_some_and(|total| got.count() >= total) {
            break;
        }
        assert!(start.elapsed() < Duration::from_secs(180), "{cut} cuts, {} records", got.count());
    }
    let count = appends.await.unwrap();
    assert_eq!((Some(count), got.count()), (total, count), "{:?}", got.offsets.values().map(Vec::len));
    for (partition, offsets) in &got.offsets {
        let expected: Vec<i64> = (0..).take(offsets.len()).collect();
        assert_eq!(*offsets, expected, "partition {partition}");
    }
    assert!(got.heartbeats > CUTS / 4 && count > 2_000, "{} heartbeats, {count} records", got.heartbeats);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_stream_is_taken_up_from_its_own_cursor_only_and_what_is_forgotten_is_told() {
    let api = Api::start().await;
    api.topic("bins", 2).await;
    api.topic("lots", 2).await;
    let first = async |path: &str| {
        let request = api.request(Method::GET, path).header("accept", "application/x-ndjson");
        let mut pieces = request.send().await.unwrap().bytes_stream();
        let piece = pieces.next().await.unwrap().unwrap();
        serde_json::from_slice::<Value>(piece.split(|byte| *byte == b'\n').next().unwrap()).unwrap()
    };
    // before a record came it is known already where it goes on: what comes while it is away is not lost
    let begun = first("/topics/bins/stream").await;
    assert!(begun["offset"].is_null(), "{begun:#}");
    assert_eq!(api.post("/topics/bins/records", &json!([{"value": 7, "partition": 1}])).await.0, 200);
    let cursor = begun["cursor"].as_str().unwrap();
    let request = api.request(Method::GET, &format!("/topics/bins/stream?cursor={cursor}"));
    let mut pieces = request.header("accept", "application/x-ndjson").send().await.unwrap().bytes_stream();
    let mut text = String::new();
    while !text.contains("\"value\"") {
        text.push_str(std::str::from_utf8(&pieces.next().await.unwrap().unwrap()).unwrap());
    }
    assert!(text.contains("\"partition\":1"), "{text}");

    for (path, parameter) in [
        (format!("/topics/lots/stream?cursor={cursor}"), "cursor"),
        (format!("/topics/bins/stream?partition=1&cursor={cursor}"), "cursor"),
        (format!("/topics/bins/stream?cursor={}", &cursor[..cursor.len() - 2]), "cursor"),
        ("/topics/bins/stream?cursor=nowhere".into(), "cursor"),
        ("/topics/bins/stream?cursor=".into(), "cursor"),
    ] {
        let refused = api.get(&path).await;
        assert_eq!((refused.0, word(&refused.1), place(&refused.1)), (400, Some("malformed"), Some(parameter)), "{path}");
    }
    let header = api.request(Method::GET, "/topics/bins/stream").header("last-event-id", "nowhere");
    let refused = api.send(header).await;
    assert_eq!((refused.0, place(&refused.1)), (400, Some("Last-Event-ID")), "{:#}", refused.1);
    let client = api.cluster.connect("gonvel").await.unwrap();
    let gone = "DELETE FROM blocks; UPDATE topic_partitions SET first_offset = 5, next_offset = 9";
    client.batch_execute(gone).await.unwrap();
    let late = api.get(&format!("/topics/bins/stream?cursor={cursor}")).await;
    says(&late, 422, "is forgotten already");
    assert_eq!(place(&late.1), Some("cursor"));
    let by_header = api.request(Method::GET, "/topics/bins/stream").header("last-event-id", cursor);
    assert_eq!(place(&api.send(by_header).await.1), Some("Last-Event-ID"));
}
