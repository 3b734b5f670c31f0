//! Partitions that keep nothing, or nothing for a long way: whoever reads there comes to the end, and may say so.

use std::time::{Duration, Instant};

use futures::StreamExt;
use gonvel_core::naming::TopicName;
use gonvel_core::ports::TopicLog;
use gonvel_core::topic_settings::{Keep, TopicSettings};
use gonvel_storage::topic_log::keeper::Keeper;
use reqwest::Method;
use serde_json::{Value, json};

use crate::support::{Api, says};

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_member_commits_what_it_was_given_also_where_it_is_forgotten_since() {
    let api = Api::start().await;
    api.topic("bins.moved", 2).await;
    let some: Vec<Value> = (0..20).map(|n| json!({"value": n, "partition": n % 2})).collect();
    api.post("/topics/bins.moved/records", &json!(some)).await;
    api.post("/readers", &json!({"name": "stocktaking", "topics": ["bins.moved"]})).await;
    let share = api.post("/readers/stocktaking/members", &json!({"ttl_ms": 60_000})).await.1;
    let member = format!("/readers/stocktaking/members/{}", share["member"].as_str().unwrap());
    let given = api.get(&format!("{member}/records?limit=4")).await.1["positions"].clone();
    // all of partition 1 is forgotten meanwhile
    let client = api.cluster.connect("gonvel").await.unwrap();
    client.batch_execute("DELETE FROM blocks WHERE partition = 1; UPDATE topic_partitions SET first_offset = next_offset, bytes = 0 WHERE partition = 1").await.unwrap();
    let committed = api.post(&format!("{member}/commit"), &json!({"positions": given})).await;
    assert_eq!(committed.0, 204, "{:#}", committed.1);
    let rest = api.get(&format!("{member}/records?limit=50")).await.1;
    assert_eq!(api.post(&format!("{member}/commit"), &json!({"positions": rest["positions"]})).await.0, 204);
    assert_eq!(api.get("/readers/stocktaking").await.1["lag_records"], 0);
    let past = json!({"positions": [{"topic": "bins.moved", "partition": 1, "next_offset": 11}]});
    says(&api.post(&format!("{member}/commit"), &past).await, 422, "offset 11 is past the end");
    let before = json!({"positions": [{"topic": "bins.moved", "partition": 1, "next_offset": -1}]});
    says(&api.post(&format!("{member}/commit"), &before).await, 422, "offset -1");
}

/// How many statements the database's sessions of the server began within a time.
async fn asked(api: &Api, during: Duration) -> i64 {
    let client = api.cluster.connect("gonvel").await.unwrap();
    let count = "SELECT pg_stat_clear_snapshot(), (xact_commit + xact_rollback)::bigint FROM pg_stat_database WHERE datname = 'gonvel'";
    let before: i64 = client.query_one(count, &[]).await.unwrap().get(1);
    tokio::time::sleep(during).await;
    client.query_one(count, &[]).await.unwrap().get::<_, i64>(1) - before
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn who_stands_where_nothing_is_kept_comes_to_the_end_and_rests() {
    let api = Api::start().await;
    let settings = TopicSettings { keep: Keep::Latest, deletes_kept_ms: 1, ..TopicSettings::default() };
    let topic = api.database.create_topic(&TopicName::parse("bins.moved").unwrap(), 1, &settings).await.unwrap();
    let some = json!([{"key": "bin-1", "value": 1}, {"key": "bin-2", "value": 2}, {"key": "bin-2", "value": null}]);
    assert_eq!(api.post("/topics/bins.moved/records", &some).await.0, 200);
    api.post("/readers", &json!({"name": "stocktaking", "topics": ["bins.moved"]})).await;
    let share = api.post("/readers/stocktaking/members", &json!({"ttl_ms": 60_000})).await.1;
    let member = format!("/readers/stocktaking/members/{}", share["member"].as_str().unwrap());
    let first = api.get(&format!("{member}/records?limit=1")).await.1;
    assert_eq!(api.post(&format!("{member}/commit"), &json!({"positions": first["positions"]})).await.0, 204);
    let mut keeper = Keeper::new(api.database.clone());
    keeper.round(true, chrono::Utc::now().timestamp_micros() + 3_600_000_000).await;
    let bounds = api.database.bounds(topic.id).await.unwrap()[0];
    assert_eq!((bounds.records, bounds.next.0), (1, 3));

    // there is nothing to read, so nothing is behind
    let reader = api.get("/readers/stocktaking").await.1;
    assert_eq!((&reader["lag_records"], &reader["lag_ms"]), (&json!(0), &Value::Null), "{reader:#}");
    let read = api.get(&format!("{member}/records")).await.1;
    assert_eq!((&read["records"], &read["positions"][0]["next_offset"]), (&json!([]), &json!(3)));
    let streams = ["/topics/bins.moved/stream?offset=1", &format!("{member}/stream")].map(|path| {
        let request = api.request(Method::GET, path).header("accept", "application/x-ndjson");
        tokio::spawn(async move { request.send().await.unwrap().bytes_stream().next().await })
    });
    tokio::time::sleep(Duration::from_millis(2_500)).await;
    let often = asked(&api, Duration::from_secs(3)).await;
    assert!(often < 150, "{often} statements in three seconds in which nothing happens");
    for stream in streams {
        stream.abort();
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_page_behind_a_long_way_of_nothing_reads_a_page() {
    let api = Api::start().await;
    let settings = TopicSettings { keep: Keep::Latest, ..TopicSettings::default() };
    api.database.create_topic(&TopicName::parse("bins.moved").unwrap(), 1, &settings).await.unwrap();
    let some =
        |from: usize| json!((from..from + 250).map(|n| json!({"key": n.to_string(), "value": n})).collect::<Vec<_>>());
    for number in 0..60 {
        assert_eq!(api.post("/topics/bins.moved/records", &some(number * 250)).await.0, 200);
    }
    let client = api.cluster.connect("gonvel").await.unwrap();
    client
        .batch_execute("UPDATE topic_partitions SET next_offset = 40000000, passed_over = 40000000 - 15000")
        .await
        .unwrap();
    let start = Instant::now();
    let page = api.get("/topics/bins.moved/records?limit=2").await.1;
    let offsets: Vec<i64> = page["items"].as_array().unwrap().iter().map(|r| r["offset"].as_i64().unwrap()).collect();
    assert_eq!(offsets, [14_999, 14_998]);
    let reads = "SELECT coalesce(sum(idx_tup_fetch), 0)::bigint FROM pg_stat_user_tables WHERE relname = 'blocks'";
    let fetched: i64 = client.query_one(reads, &[]).await.unwrap().get(0);
    assert!(fetched < 20 && start.elapsed() < Duration::from_secs(20), "{fetched} blocks were fetched");
    let page = api.get(&format!("/topics/bins.moved/records?limit=2&cursor={}", page["next"].as_str().unwrap())).await.1;
    assert_eq!(page["items"][0]["offset"], 14_997);
}
