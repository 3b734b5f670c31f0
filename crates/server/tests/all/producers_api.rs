//! Who appends, by the names that are given; and answers for each record of a request.

use std::time::{Duration, Instant};

use reqwest::Method;
use serde_json::{Value, json};

use crate::support::{Api, says};

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_can_be_appended_is_and_each_other_record_is_answered() {
    let api = Api::start().await;
    api.topic("coldstore.readings", 2).await;
    let text = r#"{"type":"object","properties":{"room":{"type":"integer"}},"required":["room"]}"#;
    let readings = json!({"name": "coldstore.reading", "language": "json_schema", "text": text});
    assert_eq!(api.post("/schemas", &readings).await.0, 201);
    let body = json!([
        {"key": "a", "value": {"room": 1}},
        {"key": "b", "value": {"room": "cellar"}},
        {"key": "c", "value": {"room": 2}, "partition": 7},
        {"key": "d", "valu": 1},
        {"key": "e", "value": {"room": 3}},
    ]);
    let whole = "/topics/coldstore.readings/records?schema=coldstore.reading";
    let refused = api.post(whole, &body).await;
    says(&refused, 422, "record 1: the value: the value does not fit coldstore.reading:1");
    assert_eq!(api.get("/topics/coldstore.readings").await.1["records"], 0, "all of a request or nothing");

    let partial = format!("{whole}&partial=true");
    let send = || {
        let request = api.request(Method::POST, &partial).header("idempotency-key", "five").json(&body);
        api.send(request)
    };
    let (status, done) = send().await;
    assert_eq!(status, 200, "{done:#}");
    let numbers: Vec<&Value> = done["refused"].as_array().unwrap().iter().map(|r| &r["record"]).collect();
    assert_eq!(numbers, [&json!(1), &json!(2), &json!(3)]);
    let findings = done["refused"].to_string();
    for part in ["at $.room", "there is no partition 7: the topic has 0 to 1", "unknown field `valu`"] {
        assert!(findings.contains(part), "{findings}");
    }
    // where the others are is said in their order
    for (place, room) in done["records"].as_array().unwrap().iter().zip([1, 3]) {
        let (partition, offset) = (&place["partition"], &place["offset"]);
        let path = format!("/topics/coldstore.readings/records?order=oldest&limit=1&partition={partition}&offset={offset}");
        assert_eq!(api.get(&path).await.1["items"][0]["value"]["room"], room);
    }
    assert_eq!(send().await.1, done, "a retry is answered as at first");
    let grown = json!({"partitions": 8});
    assert_eq!(api.confirmed(Method::POST, "/topics/coldstore.readings/partitions", Some(&grown)).await.0, 200);
    assert_eq!(send().await.1, done, "also when more of it would fit now");
    let lines = "{\"value\": 7}\n{\"value\":\n";
    let request = api.request(Method::POST, "/topics/coldstore.readings/records?partial=true");
    let (_, done) = api.send(request.header("content-type", "application/x-ndjson").body(lines)).await;
    assert_eq!((done["records"].as_array().unwrap().len(), &done["refused"][0]["record"]), (1, &json!(1)));
    assert!(done["refused"][0]["finding"].as_str().unwrap().starts_with("line 2: "), "{done:#}");
    let (status, none) = api.post("/topics/coldstore.readings/records?partial=true", &json!([7])).await;
    assert_eq!((status, none["records"].as_array().map(Vec::len)), (200, Some(0)), "{none:#}");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn applications_are_seen_by_their_names_with_what_they_appended_and_what_was_refused() {
    let api = Api::start().await;
    api.topic("coldstore.readings", 2).await;
    api.topic("coldstore.doors", 1).await;
    let records = "/topics/coldstore.readings/records";
    let ten = json!(vec![json!({"value": {"room": 1}}); 10]);
    for _ in 0..3 {
        let request = api.request(Method::POST, records).header("producer-name", "thermometers").json(&ten);
        assert_eq!(api.send(request).await.0, 200);
    }
    let wrong = api.request(Method::POST, records).header("Producer-Name", "thermometers").json(&json!([{"valu": 1}]));
    assert_eq!(api.send(wrong).await.0, 422);
    assert_eq!(
        api.post(&format!("{records}?producer=doors%20of%20room%203&partial=true"), &json!([{"value": 1}, 7])).await.0,
        200
    );
    assert_eq!(api.post("/topics/coldstore.doors/records", &json!({"value": true})).await.0, 200);
    let names = [("x".repeat(101), "1 to 100 characters"), (" ".into(), "leave it out")];
    for (name, says_what) in names {
        let query = format!("{records}?producer={}", name.replace(' ', "%20"));
        says(&api.post(&query, &json!({"value": 1})).await, 422, says_what);
    }

    let noted = |found: &Value| found.as_array().unwrap().iter().map(|p| p["records"].as_i64().unwrap()).sum::<i64>() == 32;
    let began = Instant::now();
    let mut found = api.list("/producers").await;
    while !noted(&found) {
        assert!(began.elapsed() < Duration::from_secs(20), "{found:#}");
        tokio::time::sleep(Duration::from_millis(50)).await;
        found = api.list("/producers").await;
    }
    let of = |topic: &str, name: &str| {
        let all = found.as_array().unwrap();
        all.iter().find(|p| p["topic"] == topic && p["name"] == name).unwrap_or_else(|| panic!("{found:#}")).clone()
    };
    let thermometers = of("coldstore.readings", "thermometers");
    assert_eq!((&thermometers["records"], &thermometers["refused"]), (&json!(30), &json!(1)));
    assert!(thermometers["rate_per_s"].as_f64().unwrap() > 0.4, "{thermometers:#}");
    assert!(thermometers["why"].as_str().unwrap().contains("unknown field `valu`"), "{thermometers:#}");
    assert!(thermometers["last_append"].is_string() && thermometers["last_refused"].is_string());
    let doors = of("coldstore.readings", "doors of room 3");
    assert_eq!((&doors["records"], &doors["refused"]), (&json!(1), &json!(1)));
    assert!(of("coldstore.doors", "")["why"].is_null());
    let only = api.list("/producers?topic=coldstore.doors").await;
    assert_eq!(only.as_array().unwrap().len(), 1);
    assert_eq!(api.get("/topics/coldstore.readings").await.1["producers"], json!(["doors of room 3", "thermometers"]));
    let listed = api.list("/topics").await;
    assert_eq!(listed[0]["producers"], json!([""]), "{listed:#}");
    // with its topic an application's name goes too
    assert_eq!(api.confirmed(Method::DELETE, "/topics/coldstore.doors", None).await.0, 204);
    assert!(!api.list("/producers").await.to_string().contains("coldstore.doors"));
}
