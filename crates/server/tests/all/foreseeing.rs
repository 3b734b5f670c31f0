//! What topics forget before it is read is told a day ahead, to whom it matters.

use std::time::{Duration, Instant};

use chrono::{DateTime, TimeDelta, Utc};
use serde_json::{Value, json};

use reqwest::Method;

use crate::support::Api;

const HOUR_MS: i64 = 3_600_000;

/// Appends records whose time is some hours ago, as one block.
async fn append(api: &Api, topic: &str, partition: i32, hours: i64, records: usize) {
    let timestamp = (Utc::now() - TimeDelta::hours(hours)).to_rfc3339();
    let batch: Vec<Value> =
        (0..records).map(|n| json!({"value": n, "partition": partition, "timestamp": timestamp})).collect();
    let (status, answer) = api.post(&format!("/topics/{topic}/records"), &json!(batch)).await;
    assert_eq!(status, 200, "{answer:#}");
    api.appended_as_it_happened().await;
}

async fn keeps(api: &Api, topic: &str, settings: Value) {
    let (status, answer) = api.confirmed(Method::PUT, &format!("/topics/{topic}/settings"), Some(&settings)).await;
    assert_eq!(status, 200, "{answer:#}");
}

/// What is told, as soon as it is as wanted.
async fn until_told(api: &Api, wanted: impl Fn(&[Value]) -> bool) -> Vec<Value> {
    let start = Instant::now();
    loop {
        let told = api.list("/soon-forgotten").await.as_array().cloned().unwrap();
        if wanted(&told) {
            return told;
        }
        assert!(start.elapsed() < Duration::from_secs(10), "{told:#?}");
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
}

fn in_hours(told: &Value) -> f64 {
    let at = DateTime::parse_from_rfc3339(told["at"].as_str().unwrap()).unwrap();
    #[allow(clippy::cast_precision_loss, reason = "hours for people")]
    let minutes = (at.to_utc() - Utc::now()).num_minutes() as f64;
    minutes / 60.0
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_is_soon_forgotten_unread_is_told_of_readers_and_connectors() {
    let api = Api::start().await;
    api.topic("loads.departed", 2).await;
    api.topic("loads.weighed", 1).await;
    for (partition, hours, records) in [(0, 40, 5), (0, 30, 7), (1, 28, 11), (1, 1, 13)] {
        append(&api, "loads.departed", partition, hours, records).await;
    }
    for name in ["weighbridge", "diligent", "elsewhere"] {
        let topic = if name == "elsewhere" { "loads.weighed" } else { "loads.departed" };
        let (status, made) = api.post("/readers", &json!({"name": name, "topics": [topic]})).await;
        assert_eq!(status, 201, "{made:#}");
    }
    // a connector between topics, which stopped after it had carried nine of twelve and none
    let rows = json!({"columns": [
        {"name": "n", "type": "text", "part": "value"},
        {"name": "record_partition", "type": "integer", "part": "partition", "key": true},
        {"name": "record_offset", "type": "bigint", "part": "offset", "key": true},
    ]});
    let carries = json!([{"topic": "loads.departed", "to": "loads.shaped", "rows": rows}]);
    let between =
        json!({"name": "shaping", "start": false, "definition": {"kind": "topics", "partitions": 1, "carries": carries}});
    let (status, made) = api.post("/connectors", &between).await;
    assert_eq!(status, 201, "{made:#}");
    let stands = "UPDATE lanes SET position = jsonb_build_object('places', jsonb_build_array( \
        jsonb_build_object('topic', id, 'partition', 0, 'next', 9), jsonb_build_object('topic', id, 'partition', 1, 'next', 0))) \
        FROM topics WHERE topics.name = 'loads.departed'";
    assert_eq!(api.cluster.connect("gonvel").await.unwrap().execute(stands, &[]).await.unwrap(), 1);

    // nothing is forgotten: nothing is told
    assert_eq!(api.list("/soon-forgotten").await, json!([]));
    // after 72 hours nothing goes within a day; after 50 the blocks of 40, 30 and 28 hours do
    keeps(&api, "loads.departed", json!({"forget_after_ms": 72 * HOUR_MS})).await;
    tokio::time::sleep(Duration::from_millis(500)).await;
    assert_eq!(api.list("/soon-forgotten").await, json!([]));
    keeps(&api, "loads.departed", json!({"forget_after_ms": 50 * HOUR_MS})).await;
    let told = until_told(&api, |told| told.len() == 3).await;
    let short = |told: &[Value]| -> Vec<_> {
        told.iter()
            .map(|t| (t["name"].as_str().unwrap().to_owned(), t["partition"].as_i64(), t["records"].as_i64()))
            .collect()
    };
    let of = |name: &str, records| (name.to_owned(), Some(0), Some(records));
    assert_eq!(short(&told), [of("diligent", 23), of("weighbridge", 23), of("shaping", 14)], "{told:#?}");
    assert!((9.8..10.1).contains(&in_hours(&told[0])) && told[0]["topic"] == "loads.departed", "{told:#?}");
    assert!((19.8..20.1).contains(&in_hours(&told[2])), "{told:#?}");
    assert_eq!((&told[0]["connector"], &told[2]["connector"]), (&Value::Null, &made["id"]));

    // who has read what goes has nothing to fear; who has read a part is told of the rest
    for (partition, offset) in [(0, 12), (1, 11)] {
        let to = json!({"target": {"to": "offset", "offset": offset}, "topic": "loads.departed", "partition": partition});
        let (status, moved) = api.confirmed(Method::POST, "/readers/diligent/reposition", Some(&to)).await;
        assert_eq!(status, 200, "{moved:#}");
    }
    keeps(&api, "loads.departed", json!({"forget_after_ms": 53 * HOUR_MS})).await;
    let told = until_told(&api, |told| told.len() == 2).await;
    // the block of 28 hours stays for another hour after the day
    assert_eq!(short(&told), [of("weighbridge", 12), of("shaping", 3)], "{told:#?}");

    // by size, at the pace of what came: 36 records came within 40 hours, 13 of them within the last day
    let bytes = api.get("/topics/loads.departed").await.1["bytes"].as_i64().unwrap();
    keeps(&api, "loads.departed", json!({"most_bytes": bytes * 10})).await;
    until_told(&api, <[Value]>::is_empty).await;
    keeps(&api, "loads.departed", json!({"most_bytes": bytes + 1})).await;
    let told = until_told(&api, |told| !told.is_empty()).await;
    assert_eq!(told[0]["name"], "weighbridge", "{told:#?}");
    assert!((0.0..24.0).contains(&in_hours(&told[0])), "{told:#?}");
}
