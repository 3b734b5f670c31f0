//! Appending, reading, files and readers over HTTP, against a real log.

use std::io::Read;
use std::time::{Duration, Instant};

use bytes::Bytes;
use futures::StreamExt;
use gonvel_core::avro::container::{Codec, header, write_block};
use gonvel_core::block::pack;
use gonvel_core::naming::{Offset, PartitionId, TopicName, TopicPartition};
use gonvel_core::ports::{AppendBatch, PartitionBlocks, TopicLog};
use gonvel_core::record::Record;
use gonvel_storage::topic_log::keeper::Keeper;
use reqwest::Method;
use serde_json::{Value, json};

use crate::support::{Api, place, says, word};

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn every_form_of_records_is_appended_and_says_where() {
    let api = Api::start().await;
    api.topic("bins.weighed", 3).await;
    let body = json!([{"key": "bin-1", "value": {"weight": 18.5}, "headers": {"room": "3"}, "timestamp": "2026-11-25T09:30:00Z"},
        {"key": "bin-2", "value": null}, {"value_base64": "AP8=", "partition": 2}]);
    let (status, done) = api.post("/topics/bins.weighed/records", &body).await;
    assert_eq!(status, 200, "{done:#}");
    let places = done["records"].as_array().unwrap();
    assert_eq!((places.len(), places[2]["partition"].as_i64()), (3, Some(2)));
    // each record is where the answer says, with all it was sent with
    let (partition, offset) = (&places[0]["partition"], &places[0]["offset"]);
    let path = format!("/topics/bins.weighed/records?order=oldest&limit=1&partition={partition}&offset={offset}");
    let record = api.get(&path).await.1["items"][0].clone();
    assert_eq!((&record["key"], &record["value"]), (&json!("bin-1"), &json!({"weight": 18.5})));
    assert_eq!((&record["timestamp"], &record["headers"][0]["value"]), (&json!("2026-11-25T09:30:00Z"), &json!("3")));

    let lines = "{\"key\":\"bin-1\",\"value\":1}\n{\"key\":\"bin-1\",\"value\":2}\n";
    let (_, done) = api.append("bins.weighed", "application/x-ndjson", lines).await;
    let offsets: Vec<i64> = done["records"].as_array().unwrap().iter().map(|r| r["offset"].as_i64().unwrap()).collect();
    assert_eq!(offsets[1], offsets[0] + 1, "one key's records go to one partition in their order");
    says(&api.post("/topics/bins.weighed", &json!({})).await, 405, "this address does not take POST");
    let raw = api.request(Method::POST, "/topics/bins.weighed/records?key=bin-9&partition=0");
    assert_eq!(api.send(raw.header("content-type", "application/octet-stream").body(vec![0_u8, 159])).await.0, 200);

    // CloudEvents in three modes
    let event =
        json!({"specversion": "1.0", "id": "w-1", "source": "/lines/2", "type": "bin.weighed", "data": {"weight": 9}});
    assert_eq!(api.append("bins.weighed", "application/cloudevents+json", event.to_string()).await.0, 200);
    let batch = json!([event, event]).to_string();
    let (_, done) = api.append("bins.weighed", "application/cloudevents-batch+json; charset=utf-8", batch).await;
    assert_eq!(done["records"].as_array().unwrap().len(), 2);
    let binary =
        api.request(Method::POST, "/topics/bins.weighed/records").header("ce-specversion", "1.0").header("ce-id", "w-2");
    let binary = binary.header("ce-source", "/lines/2").header("ce-type", "bin.weighed").header("ce-partitionkey", "bin-5");
    assert_eq!(api.send(binary.json(&json!({"weight": 10}))).await.0, 200);
    let (_, found) = api.get("/topics/bins.weighed/records?key=bin-5").await;
    assert_eq!(found["items"][0]["value"], json!({"weight": 10}));

    // an Avro file brings its schema; values by the latest schema come back as they were given
    let schema =
        r#"{"type":"record","name":"Weighing","fields":[{"name":"bin","type":"string"},{"name":"weight","type":"double"}]}"#;
    let mut file = header(schema, Codec::Null, &[7; 16]);
    let mut data = vec![10];
    data.extend_from_slice(b"bin-7");
    data.extend_from_slice(&18.5_f64.to_le_bytes());
    write_block(1, &data, &[7; 16], &mut file);
    assert_eq!(api.append("bins.weighed", "application/avro", file).await.0, 200);
    let by_schema = "/topics/bins.weighed/records?schema=latest";
    let (status, done) = api.post(by_schema, &json!({"key": "bin-8", "value": {"bin": "bin-8", "weight": 7}})).await;
    assert_eq!(status, 200, "{done:#}");
    let (_, found) = api.get("/topics/bins.weighed/records?key=bin-8&raw=true").await;
    assert_eq!(found["items"][0]["value"], json!({"bin": "bin-8", "weight": 7.0}));
    let bound = api.list("/topics/bins.weighed/schemas").await[0].clone();
    assert_eq!((&bound["name"], &bound["text"]), (&json!("bins.weighed.value"), &json!(schema)));
    let wrong = api
        .post(by_schema, &json!([{"value": {"bin": "b", "weight": 1}}, {"value": {"bin": "b", "weight": "heavy"}}]))
        .await;
    says(&wrong, 422, "record 1: the value: at $.weight: found \"heavy\", where a number belongs");

    // by a schema that is named, whatever the topic is bound to
    let text = r#"{"type":"object","properties":{"room":{"type":"integer"}},"required":["room"]}"#;
    let door = json!({"name": "coldstore.door", "language": "json_schema", "text": text});
    assert_eq!(api.post("/schemas", &door).await.0, 201);
    let named = "/topics/bins.weighed/records?schema=coldstore.door";
    let (status, done) = api.post(named, &json!({"key": "room-3", "value": {"room": 3, "celsius": 1.50}})).await;
    assert_eq!(status, 200, "{done:#}");
    let (_, found) = api.get("/topics/bins.weighed/records?key=room-3").await;
    let record = &found["items"][0];
    let version = api.get("/schemas/coldstore.door").await.1["versions"][0]["id"].clone();
    assert_eq!((&record["value"]["room"], &record["schema"]), (&json!(3), &version));
    let wrong = api.post(named, &json!([{"value": {"room": 4}}, {"value": {"celsius": 2}}])).await;
    says(&wrong, 422, "record 1: the value: the value does not fit coldstore.door:1");
    says(
        &api.post("/topics/bins.weighed/records?schema=no.such", &json!({"value": 1})).await,
        422,
        "there is no schema no.such",
    );
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn records_are_tried_as_rows_before_anything_runs() {
    let api = Api::start().await;
    api.topic("coldstore.readings", 2).await;
    let reading = |room: i64| json!({"key": format!("room-{room}"), "headers": {"site": "north"}, "value": {"room": room, "celsius": 1.5}});
    let all: Vec<_> = (0..30).map(reading).collect();
    assert_eq!(api.post("/topics/coldstore.readings/records", &json!(all)).await.0, 200);
    let odd = json!([{"key": "room-1", "value": {"room": "cellar"}}, {"key": "room-2", "value": {"room": 70_000, "door": {"open": true}}}, {"key": "room-3", "value": null}]);
    assert_eq!(api.post("/topics/coldstore.readings/records", &odd).await.0, 200);

    let path = "/topics/coldstore.readings/event-rows";
    let (status, tried) = api.post(path, &json!({})).await;
    assert_eq!(status, 200, "{tried:#}");
    let part = |name: &str| tried["fields"].as_array().unwrap().iter().find(|f| f["path"] == json!([name])).unwrap().clone();
    assert_eq!((&part("room")["present"], &part("celsius")["present"]), (&json!(32), &json!(30)));
    assert_eq!((&tried["records"], &tried["keyed"], &tried["changes"]), (&json!(33), &json!(33), &json!(false)));
    // where two types were seen a column takes both
    assert_eq!(part("room")["type"], "jsonb");

    let columns = json!([
        {"name": "room", "type": "smallint", "path": ["room"]},
        {"name": "site", "type": "text", "part": "header", "path": ["site"]},
        {"name": "id", "type": "text", "part": "key", "key": true},
    ]);
    let (_, tried) = api.post(path, &json!({"rows": {"columns": columns, "unknown": "quarantine"}})).await;
    assert_eq!((&tried["fit"], &tried["records"]), (&json!(1), &json!(33)), "{tried:#}");
    let findings: Vec<&str> = tried["refused"].as_array().unwrap().iter().filter_map(|r| r["finding"].as_str()).collect();
    assert!(findings[0].starts_with("at $.celsius: no column takes this field"), "{findings:?}");
    assert!(findings.iter().any(|f| f.starts_with("at $.door: no column")), "{findings:?}");
    assert!(findings.iter().any(|f| f.starts_with("at $.room: it is not a value of type smallint")), "{findings:?}");
    let (_, tried) = api.post(path, &json!({"rows": {"columns": columns}})).await;
    assert_eq!(tried["fit"], 31, "{tried:#}");
    let gone = tried["sample"].as_array().unwrap().iter().find(|row| row["deletes"] == json!(true)).unwrap();
    assert_eq!(gone["cells"], json!([null, null, "room-3"]));

    let cases = [
        (json!({"rows": {"columns": []}}), "at least one"),
        (json!({"rows": {"columns": [{"name": "a", "type": "no such", "path": ["a"], "key": true}]}}), "is of type no such"),
        (json!({"rows": {"columns": columns, "newest_by": "site"}}), "choose a number, a date or a time"),
        (json!({"records": 0}), "ask for 1 to 10000"),
    ];
    for (body, part) in cases {
        says(&api.post(path, &body).await, 422, part);
    }
    says(&api.post("/topics/no.such/event-rows", &json!({})).await, 404, "no.such");
    // what goes on, in the way a sink writes
    let asked = json!({"writes": {"rows": "appended"}, "rows": {"columns": columns}});
    let (_, sample) = api.post("/topics/coldstore.readings/delivery-sample", &asked).await;
    let cells =
        sample["rows"].as_array().unwrap().last().unwrap()["cells"].as_object().unwrap().keys().cloned().collect::<Vec<_>>();
    assert_eq!(cells, ["room", "site", "id"], "{sample:#}");
    let shape = json!({"shape": {"steps": {"coldstore.readings": [{"step": "filter", "only": "room > 20"}]}},
        "rows": {"from": "topic", "topic": "coldstore.readings", "rows": {"columns": columns}}});
    let (status, shaped) = api.post("/shapes/try", &shape).await;
    assert_eq!((status, shaped["findings"].as_array().map(Vec::len)), (200, Some(0)), "{shaped:#}");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn types_of_events_are_found_tried_and_shaped_apart() {
    let api = Api::start().await;
    api.topic("coldstore.events", 2).await;
    let event = |n: i64| match n % 3 {
        0 => json!({"key": n.to_string(), "value": {"kind": "door", "room": n, "open": true}}),
        _ => json!({"key": n.to_string(), "value": {"kind": "reading", "room": n, "celsius": n}}),
    };
    let all: Vec<_> = (0..30).map(event).collect();
    assert_eq!(api.post("/topics/coldstore.events/records", &json!(all)).await.0, 200);
    assert_eq!(api.post("/topics/coldstore.events/records", &json!([{"key": "x", "value": null}])).await.0, 200);
    let path = "/topics/coldstore.events/event-rows";
    let (_, tried) = api.post(path, &json!({})).await;
    let expected = json!([{"part": "field", "path": ["kind"],
        "types": [{"what": "reading", "records": 20}, {"what": "door", "records": 10}]}]);
    assert_eq!(tried["types"], expected, "{tried:#}");
    // columns of one type are those that its records have; a record without a value says no type
    let only = |is: &[&str]| json!({"part": "field", "path": ["kind"], "is": is});
    let (_, tried) = api.post(path, &json!({"only": only(&["reading"])})).await;
    assert_eq!(
        (&tried["records"], &tried["of_other_types"], &tried["fit"]),
        (&json!(21), &json!(10), &json!(20)),
        "{tried:#}"
    );
    assert!(tried["refused"][0]["finding"].as_str().unwrap().contains("says its type"), "{tried:#}");
    let names: Vec<&str> = tried["rows"]["columns"].as_array().unwrap().iter().filter_map(|c| c["name"].as_str()).collect();
    assert!(names.contains(&"celsius") && !names.contains(&"open"), "{names:?}");
    let rows = tried["rows"].clone();
    says(&api.post(path, &json!({"only": {"part": "time", "is": ["a"]}})).await, 422, "time says no type");
    // shapes of a type are given by its name, tried and compared on its rows alone
    let steps = |value: &str| json!({"steps": {"coldstore.events [reading]": [{"step": "compute", "column": "above", "value": value}]}});
    let from = json!({"from": "topic", "topic": "coldstore.events", "rows": rows});
    let body = json!({"before": steps("celsius + 1"), "after": steps("CASE WHEN celsius > 10 THEN celsius ELSE celsius + 1 END"), "rows": from, "most": 1000});
    let (status, compared) = api.post("/shapes/compare", &body).await;
    assert_eq!(
        (status, &compared["rows"], &compared["change"], &compared["same"]),
        (200, &json!(20), &json!(13), &json!(7)),
        "{compared:#}"
    );
    // and what would be read twice is refused before anything runs
    let carried = |to: &str, is: &[&str]| {
        let mut rows = rows.clone();
        rows["only"] = only(is);
        json!({"topic": "coldstore.events", "to": to, "rows": rows})
    };
    let asked = |one: &[&str], other: &[&str]| {
        let carries = json!([carried("a", one), carried("b", other)]);
        json!({"name": "apart", "start": false, "definition": {"kind": "topics", "partitions": 1, "carries": carries, "shape": steps("1")}})
    };
    let twice = api.post("/connectors", &asked(&["reading"], &["door", "reading"])).await;
    says(&twice, 422, "a record could become a row in both");
    let (status, made) = api.post("/connectors", &asked(&["reading"], &["door"])).await;
    assert_eq!(
        (status, &made["tables"][1]["types"], &made["tables"][1]["counted_above"]),
        (201, &json!("[door]"), &json!(true)),
        "{made:#}"
    );
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_bad_request_says_which_record_and_stores_nothing() {
    let api = Api::start().await;
    api.topic("orchard.events", 2).await;
    let large = json!([{"value": 1}, {"value": "x".repeat(1 << 20)}]).to_string();
    let cases: [(&str, String, u16, &str); 13] = [
        ("application/json", "{".into(), 400, "the body is not JSON"),
        ("application/json", "[{\"value\":1},{\"wert\":2}]".into(), 422, "record 1: unknown field `wert`"),
        (
            "application/json",
            "[{\"value\":1},{\"partition\":2}]".into(),
            422,
            "record 1: there is no partition 2: the topic has 0 to 1",
        ),
        ("application/json", "[]".into(), 422, "no record"),
        ("application/json", large, 413, "record 1 has 1048578 bytes"),
        ("application/x-ndjson", "{}\nnothing\n".into(), 422, "record 1: line 2"),
        ("application/octet-stream", "x".repeat(17 << 20), 413, "larger than 16777216 bytes"),
        (
            "application/cloudevents+json",
            "{\"specversion\":\"1.0\"}".into(),
            422,
            "record 0: the attribute \"id\" is missing",
        ),
        ("application/cloudevents+xml", "<e/>".into(), 415, "are not taken: send application/json"),
        ("application/avro", "Obj\u{1}".into(), 400, "ends early"),
        ("application/avro", "7".into(), 422, "neither an Avro object container file nor"),
        ("text/plain", "7".into(), 415, "\"text/plain\""),
        ("", "7".into(), 415, "are not taken"),
    ];
    for (media, body, status, expected) in cases {
        says(&api.append("orchard.events", media, body).await, status, expected);
    }
    says(&api.post("/topics/nowhere/records", &json!({"value": 1})).await, 404, "no topic nowhere");
    says(&api.post("/topics/no%20name/records", &json!({"value": 1})).await, 422, "' ' at character 3");
    says(&api.post("/topics/orchard.events/records?schema=latest", &json!({"value": 1})).await, 422, "has no schema yet");
    assert_eq!(api.count("orchard.events").await, 0);
    api.post("/topics/orchard.events/records", &json!({"value": 1, "partition": 0})).await;
    let past = api.get("/topics/orchard.events/records?partition=0&offset=5").await;
    says(&past, 422, "offset 5 is past the end: partition 0 holds 0 to 0, and 1 is where the next record goes");
    // what was forgotten is told from what never was
    let old = json!({"value": 0, "partition": 1, "timestamp": "2001-01-01T00:00:00Z"});
    api.post("/topics/orchard.events/records", &old).await;
    api.appended_as_it_happened().await;
    api.post("/topics/orchard.events/records", &json!({"value": 1, "partition": 1})).await;
    let day = json!({"forget_after_ms": 86_400_000});
    assert_eq!(api.confirmed(Method::PUT, "/topics/orchard.events/settings", Some(&day)).await.0, 200);
    Keeper::new(api.database.clone()).round(true, chrono::Utc::now().timestamp_micros()).await;
    for path in ["records?", "stream?", "export?form=csv&"] {
        let offset = if path.starts_with("export") { "from_offset=0" } else { "offset=0" };
        let gone = api.get(&format!("/topics/orchard.events/{path}partition=1&{offset}")).await;
        says(&gone, 422, "offset 0 is forgotten already: partition 1 holds 1 to 1");
    }
    // a body without a stated length is measured as it comes
    let pieces = futures::stream::iter((0..20).map(|_| Ok::<_, std::io::Error>(vec![b'x'; 1 << 20])));
    let body = reqwest::Body::wrap_stream(pieces);
    says(&api.append("orchard.events", "application/octet-stream", body).await, 413, "larger than 16777216 bytes");
    // who sends much to where it is refused at once reads why, and the connection goes on
    says(&api.append("nowhere", "application/octet-stream", "x".repeat(40 << 20)).await, 404, "no topic nowhere");
    for (query, field) in [("limit=0", "limit"), ("wait_ms=60000", "wait_ms"), ("offset=1", "offset"), ("time=noon", "time")]
    {
        let refused = api.get(&format!("/topics/orchard.events/records?{query}")).await;
        assert_eq!((refused.0, place(&refused.1)), (422, Some(field)), "{:#}", refused.1);
    }
    says(&api.get("/topics/orchard.events/search?filter=weight%20%3E%203").await, 422, "a record has no \"weight\"");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_file_that_is_too_large_is_refused_whole() {
    let api = Api::importing(1 << 20).await;
    api.topic("copy", 1).await;
    let line = |n: usize| format!("{}\n", json!({"timestamp": 0, "value": format!("{n} {}", "x".repeat(1_000))}));
    let file = |lines: usize| (0..lines).map(line).collect::<String>();
    let import = |body: String| api.import("copy", "form=jsonl", body);
    // without a stated length it is measured as it comes
    let pieces: Vec<Result<String, std::io::Error>> = (0..3_000).map(|n| Ok(line(n))).collect();
    let streamed = reqwest::Body::wrap_stream(futures::stream::iter(pieces));
    let refused = api.import("copy", "form=jsonl", streamed).await;
    says(&refused, 413, "larger than the 1 MiB that this server takes");
    says(&import(file(1_200)).await, 413, "nothing of it was imported");
    assert_eq!(api.count("copy").await, 0);
    let done = import(file(900)).await;
    assert_eq!((done.0, &done.1["records"]), (200, &json!(900)), "{:#}", done.1);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_retried_request_is_appended_once() {
    let api = Api::start().await;
    api.topic("loads.departed", 4).await;
    let with = |headers: &[(&str, &str)], body: Value| {
        let mut request = api.request(Method::POST, "/topics/loads.departed/records");
        for (name, value) in headers {
            request = request.header(*name, *value);
        }
        api.send(request.json(&body))
    };
    // without a key, a retry must still find the partition of the first try
    let body = json!([{"value": 1}, {"key": "load-7", "value": 2}, {"value": 3}]);
    let first = with(&[("idempotency-key", "evening")], body.clone()).await;
    let again = with(&[("idempotency-key", "evening")], body.clone()).await;
    assert_eq!((first.0, &first.1), (200, &again.1));
    says(&with(&[("idempotency-key", "evening")], json!({"value": 9})).await, 422, "was used for another request");
    let session = api.post("/producers", &json!({})).await.1["session"].as_str().unwrap().to_owned();
    let numbered = |n: &'static str| with(&[("producer-session", &session), ("producer-sequence", n)], json!({"value": n}));
    assert_eq!(numbered("0").await, numbered("0").await);
    says(&numbered("2").await, 409, "expects sequence 1 next, not 2");
    assert_eq!(numbered("1").await.0, 200);
    assert_eq!(api.count("loads.departed").await, 5);
    says(&with(&[("producer-session", &session)], json!({"value": 1})).await, 422, "together with Producer-Sequence");
    says(&with(&[("producer-session", "x"), ("producer-sequence", "0")], json!({})).await, 422, "is no session");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn records_are_waited_for_streamed_and_searched() {
    let api = Api::start().await;
    api.topic("coldstore.readings", 2).await;
    // a page that waits ends with the append
    let start = Instant::now();
    let waiting = api.get("/topics/coldstore.readings/records?order=oldest&wait_ms=20000");
    let (page, _) = tokio::join!(waiting, async {
        tokio::time::sleep(Duration::from_millis(100)).await;
        api.post("/topics/coldstore.readings/records", &json!({"key": "room-1", "value": {"celsius": 1.5}})).await
    });
    assert_eq!(page.1["items"].as_array().unwrap().len(), 1);
    assert!(start.elapsed() < Duration::from_secs(10));
    let many: Vec<Value> = (0..4_000)
        .map(|n| json!({"key": format!("room-{}", n % 7), "value": {"celsius": n, "text": "x".repeat(40)}}))
        .collect();
    api.post("/topics/coldstore.readings/records", &json!(many)).await;
    // a stream from the oldest gives every partition in its order, and goes on with what comes
    let stream = api.request(Method::GET, "/topics/coldstore.readings/stream?from=oldest");
    let answer = stream.header("accept", "application/x-ndjson").send().await.unwrap();
    assert_eq!(answer.headers()["content-type"], "application/x-ndjson");
    let mut pieces = answer.bytes_stream();
    let (mut text, mut seen, mut next) = (Vec::new(), 0, [0, 0]);
    while seen < 4_002 {
        text.extend_from_slice(&pieces.next().await.unwrap().unwrap());
        while let Some(end) = text.iter().position(|b| *b == b'\n') {
            let line: Vec<u8> = text.drain(..=end).collect();
            let record: Value = serde_json::from_slice(&line).unwrap();
            if record["offset"].is_null() {
                // a sign of life
                continue;
            }
            let partition = usize::try_from(record["partition"].as_i64().unwrap()).unwrap();
            assert_eq!(record["offset"], next[partition]);
            next[partition] += 1;
            seen += 1;
        }
        if seen == 4_001 {
            api.post("/topics/coldstore.readings/records", &json!({"key": "room-1", "value": 0})).await;
        }
    }
    // a search says how far it is and finds what holds, the newest first in each partition
    let found = api.request(Method::GET, "/topics/coldstore.readings/search?filter=value.celsius%20%3E%3D%203990");
    let text = found.send().await.unwrap().text().await.unwrap();
    assert_eq!(text.matches("event: record").count(), 10);
    let last = text.lines().rfind(|l| l.starts_with("data: {\"searched\"")).unwrap();
    let progress: Value = serde_json::from_str(&last[6..]).unwrap();
    assert_eq!((&progress["done"], &progress["searched"], &progress["found"]), (&json!(true), &json!(4_002), &json!(10)));
    // a key that must be equal is looked for only where it can be
    let by_key = api.request(Method::GET, "/topics/coldstore.readings/search?filter=key%20%3D%20%27room-3%27&limit=5");
    let text = by_key.send().await.unwrap().text().await.unwrap();
    assert_eq!(text.matches("event: record").count(), 5);
    assert!(!text.contains("\"total\":4002"));
    // numbers are compared by all their digits, as they were written
    api.topic("loads.counted", 1).await;
    let lines = "{\"value\":{\"id\":12345678901234567890123,\"kg\":1234567890123456.78}}\n\
                 {\"value\":{\"id\":12345678901234567890124,\"kg\":1234567890123456.79}}\n";
    assert_eq!(api.append("loads.counted", "application/x-ndjson", lines).await.0, 200);
    for (filter, found) in [
        ("value.id%20%3D%2012345678901234567890123", 1),
        ("value.id%20%3E%2012345678901234567890122", 2),
        ("value.kg%20%3C%201234567890123456.785", 1),
        ("value.kg%20%3D%201234567890123456.8", 0),
    ] {
        let answer =
            api.request(Method::GET, &format!("/topics/loads.counted/search?filter={filter}")).send().await.unwrap();
        assert_eq!(answer.text().await.unwrap().matches("event: record").count(), found, "{filter}");
    }
    let stopped = api.request(Method::GET, "/topics/coldstore.readings/search?filter=true").send().await.unwrap();
    drop(stopped);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_is_exported_and_imported_is_equal() {
    let api = Api::start().await;
    api.topic("packhouse.labels", 3).await;
    let schema = r#"{"type":"record","name":"Label","fields":[{"name":"text","type":"string"}]}"#;
    let mut file = header(schema, Codec::Null, &[7; 16]);
    write_block(2, b"\x06abc\x04de", &[7; 16], &mut file);
    assert_eq!(api.append("packhouse.labels", "application/avro", file).await.0, 200);
    let records = json!([
        {"key": "a", "value": "text, with \"quotes\"\nand lines", "headers": [{"name": "seal", "value_base64": "AP8="}, {"name": "seal", "value": ""}],
         "timestamp": "1999-12-31T23:59:59.999999Z", "partition": 2},
        {"key_base64": "AP8=", "value": null, "partition": 1}, {"value_base64": "", "partition": 0}, {"key": "", "value": {"a": [1, 2.50]}}]);
    assert_eq!(api.post("/topics/packhouse.labels/records", &records).await.0, 200);
    let strip = |records: Vec<Value>| -> Vec<Value> {
        let without = |mut r: Value| {
            r.as_object_mut().unwrap().remove("schema");
            r
        };
        records.into_iter().map(without).collect()
    };
    let before = strip(api.all("packhouse.labels").await);
    for form in ["avro", "parquet", "jsonl", "csv"] {
        let answer = api.request(Method::GET, &format!("/topics/packhouse.labels/export?form={form}")).send().await.unwrap();
        assert!(answer.headers()["content-disposition"].to_str().unwrap().contains(&format!("packhouse.labels.{form}")));
        let file = answer.bytes().await.unwrap();
        // to a client that takes it compressed, as nearly every one does, it comes whole too
        let packed = api.request(Method::GET, &format!("/topics/packhouse.labels/export?form={form}"));
        let packed = packed.header("accept-encoding", "gzip").send().await.unwrap();
        let is_packed = packed.headers().contains_key("content-encoding");
        assert_eq!(is_packed, form != "jsonl", "{form}");
        let packed = packed.bytes().await.unwrap();
        let mut unpacked = Vec::new();
        match is_packed {
            true => flate2::read::GzDecoder::new(&packed[..]).read_to_end(&mut unpacked).unwrap(),
            false => (&packed[..]).read_to_end(&mut unpacked).unwrap(),
        };
        assert_eq!(unpacked.len(), file.len(), "{form}");
        let file = Bytes::from(unpacked);
        let copy = format!("copy.{form}");
        api.topic(&copy, 3).await;
        assert_eq!(
            api.import(&copy, &format!("form={form}"), file.clone()).await,
            (200, json!({"records": 6, "batches": 1}))
        );
        assert_eq!(strip(api.all(&copy).await), before, "{form}");
        // into fewer partitions only by key, and a refused file leaves nothing
        let narrow = format!("narrow.{form}");
        api.topic(&narrow, 1).await;
        let refused = api.import(&narrow, &format!("form={form}"), file).await;
        says(&refused, 422, "has 0 to 0: import by key instead; nothing was imported");
        assert_eq!(api.count(&narrow).await, 0);
    }
    let part = api.get("/topics/packhouse.labels/export?form=jsonl&partition=2&to_offset=99").await;
    assert_eq!((part.0, place(&part.1)), (422, Some("to_offset")));
    says(&api.get("/topics/packhouse.labels/export?form=xlsx").await, 422, "take avro, parquet, jsonl or csv");
    let import = |body: String| api.import("copy.csv", "form=jsonl", body);
    says(&import("{\"timestamp\":0}\n{".into()).await, 422, "row 1:");
    // what was committed before a wrong row is said, and is there
    let good = "{\"timestamp\":0,\"partition\":1}\n".repeat(10_000);
    let late = import(format!("{good}{{\"timestamp\":0,\"partition\":9}}\n")).await;
    says(&late, 422, "row 10000: it was in partition 9, and copy.csv has 0 to 2");
    says(&late, 422, "the 10000 records before were imported and stay");
    assert_eq!(api.count("copy.csv").await, 10_006);
    let unknown = import("{\"timestamp\":0,\"schema\":77}\n".into()).await;
    says(&unknown, 422, "row 0: it names the value schema 77, and no row up to it brings the text of that");
    let wrong = import("{\"timestamp\":0,\"schema\":77,\"schema_text\":\"{\"}\n".into()).await;
    says(&wrong, 422, "row 0: the text of its value schema: line 1, column 1: the schema is not JSON");
    assert_eq!(api.count("copy.csv").await, 10_006);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_captured_record_larger_than_http_takes_is_exported_and_comes_back() {
    let api = Api::start().await;
    api.topic("packhouse.scans", 1).await;
    let topic = api.database.topic(&TopicName::parse("packhouse.scans").unwrap()).await.unwrap();
    let to = TopicPartition { topic: topic.id, partition: PartitionId(0) };
    let value: Vec<u8> = (0..3_000_000_u32).map(|n| (n.wrapping_mul(2_654_435_761) >> 24).try_into().unwrap()).collect();
    let record = Record { value: Some(value.clone().into()), ..Record::default() };
    let parts = vec![PartitionBlocks { to, blocks: pack([&record]) }];
    api.database.append(AppendBatch { parts, ..AppendBatch::default() }).await.unwrap();
    for form in ["avro", "parquet", "jsonl", "csv"] {
        let export = api.request(Method::GET, &format!("/topics/packhouse.scans/export?form={form}&to_offset=1"));
        let file = export.send().await.unwrap().bytes().await.unwrap();
        assert_eq!(api.import("packhouse.scans", &format!("form={form}"), file).await.0, 200, "{form}");
    }
    for block in api.database.read(to, Offset(0), 1 << 30).await.unwrap() {
        let open = block.open(to).unwrap();
        assert!(open.records().all(|r| r.unwrap().1.value == Some(&value[..])));
    }
    assert_eq!(api.count("packhouse.scans").await, 5);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn readers_share_commit_and_are_moved_with_a_look_first() {
    let api = Api::start().await;
    api.topic("bins.moved", 2).await;
    let some: Vec<Value> =
        (0..20).map(|n| json!({"value": n, "partition": n % 2, "timestamp": format!("2026-11-25T09:00:{n:02}Z")})).collect();
    api.post("/topics/bins.moved/records", &json!(some)).await;
    let (status, made) = api.post("/readers", &json!({"name": "stocktaking", "topics": ["bins.moved"]})).await;
    assert_eq!((status, &made["lag_records"]), (201, &json!(20)), "{made:#}");
    assert!(made["lag_ms"].as_i64().is_some());
    let (_, share) = api.post("/readers/stocktaking/members", &json!({"label": "line 2"})).await;
    let member = format!("/readers/stocktaking/members/{}", share["member"].as_str().unwrap());
    let (_, read) = api.get(&format!("{member}/records?limit=15")).await;
    assert_eq!(read["records"].as_array().unwrap().len(), 15);
    assert_eq!(api.post(&format!("{member}/commit"), &json!({"positions": read["positions"]})).await.0, 204);
    let (_, rest) = api.get(&format!("{member}/records")).await;
    assert_eq!(rest["records"].as_array().unwrap().len(), 5, "reading goes on after the commit");
    let reader = api.get("/readers/stocktaking").await.1;
    assert_eq!((&reader["lag_records"], &reader["members"][0]["label"]), (&json!(5), &json!("line 2")));
    let past = json!({"positions": [{"topic": "bins.moved", "partition": 0, "next_offset": 99}]});
    says(&api.post(&format!("{member}/commit"), &past).await, 422, "offset 99 is past the end");
    // no moving while it reads
    let earliest = json!({"target": {"to": "earliest"}});
    says(&api.post("/readers/stocktaking/reposition", &earliest).await, 409, "while members are active (line 2)");
    assert_eq!(api.send(api.request(Method::DELETE, &member)).await.0, 204);
    let back = json!({"target": {"to": "time", "time": "2026-11-25T09:00:04Z"}});
    let (_, shown) = api.plan(Method::POST, "/readers/stocktaking/reposition", Some(&back)).await;
    assert_eq!((&shown["repeated"], &shown["records"]), (&json!(11), &json!(0)), "{shown:#}");
    assert_eq!(api.get("/readers/stocktaking").await.1["lag_records"], 5, "a look moves nothing");
    let (_, done) = api.confirmed(Method::POST, "/readers/stocktaking/reposition", Some(&back)).await;
    assert_eq!(done["moves"], shown["moves"], "what was shown is what is done");
    assert_eq!(api.get("/readers/stocktaking").await.1["lag_records"], 16);
    let late = format!("confirm={}", shown["tag"].as_str().unwrap());
    let late = api.send(api.planned(Method::POST, "/readers/stocktaking/reposition", &late, Some(&back))).await;
    assert_eq!((late.0, word(&late.1)), (412, Some("plan-changed")), "it stands elsewhere since: {:#}", late.1);
    let beyond = json!({"target": {"to": "offset", "offset": 50}, "partition": 1});
    says(&api.post("/readers/stocktaking/reposition", &beyond).await, 422, "offset 50 is not kept in partition 1");
    let one_back = json!({"target": {"to": "by", "records": -1}, "partition": 1});
    let (_, by) = api.plan(Method::POST, "/readers/stocktaking/reposition", Some(&one_back)).await;
    assert_eq!((by["moves"].as_array().unwrap().len(), &by["repeated"]), (1, &json!(1)));

    // a stream is of a member that joined; nothing is committed but what the client says it has
    let nobody = api.get(&format!("/readers/stocktaking/members/{}/stream", uuid::Uuid::nil())).await;
    says(&nobody, 404, "it left or was away too long");
    let (_, share) = api.post("/readers/stocktaking/members", &json!({"label": "tail", "ttl_ms": 2_000})).await;
    let member = format!("/readers/stocktaking/members/{}", share["member"].as_str().unwrap());
    let stream = api.request(Method::GET, &format!("{member}/stream")).header("accept", "application/x-ndjson");
    let mut pieces = stream.send().await.unwrap().bytes_stream();
    let mut lines = 0;
    while lines < 16 {
        let piece = pieces.next().await.unwrap().unwrap();
        lines += String::from_utf8_lossy(&piece).lines().filter(|l| l.contains("\"topic\":\"bins.moved\"")).count();
    }
    assert_eq!(api.list("/readers").await[0]["members"][0]["label"], "tail");
    // the server sent all of it; the client took it, and then lost it
    assert_eq!(api.get("/readers/stocktaking").await.1["lag_records"], 16);
    let has = json!({"positions": [{"topic": "bins.moved", "partition": 0, "next_offset": 10}]});
    assert_eq!(api.post(&format!("{member}/commit"), &has).await.0, 204);
    let left = api.get("/readers/stocktaking").await.1["lag_records"].as_i64().unwrap();
    assert!((1..16).contains(&left), "{left}");
    let before = api.get("/readers/stocktaking").await.1;
    for path in ["records", "stream"] {
        let again = api.request(Method::GET, &format!("{member}/{path}")).send().await.unwrap();
        assert_eq!(again.status(), 200);
        drop(again);
    }
    let after = api.get("/readers/stocktaking").await.1;
    assert_eq!((&before["members"], &before["lag_records"]), (&after["members"], &after["lag_records"]));
    // the commit kept it active for longer than it had asked for; once it leaves, its stream ends
    tokio::time::sleep(Duration::from_millis(2_500)).await;
    assert_eq!(api.send(api.request(Method::DELETE, &member)).await.0, 204);
    let deadline = Instant::now() + Duration::from_secs(20);
    while pieces.next().await.is_some_and(|piece| piece.is_ok()) {
        assert!(Instant::now() < deadline, "the stream of a member that left goes on");
    }
    for (body, status, part) in [
        (json!({"name": "stocktaking", "topics": ["bins.moved"]}), 409, "is there already"),
        (json!({"name": "a b", "topics": ["bins.moved"]}), 422, "' ' at character 2"),
        (json!({"name": "other", "topics": []}), 422, "at least one topic"),
        (json!({"name": "other", "topics": ["nowhere"]}), 404, "no topic nowhere"),
        (json!({"name": "other", "topics": ["bins.moved"], "start": {"to": "by", "records": 3}}), 422, "stands nowhere yet"),
    ] {
        says(&api.post("/readers", &body).await, status, part);
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn topics_are_changed_and_deleted_with_a_look_first() {
    let api = Api::start().await;
    api.topic("harvest.plans", 2).await;
    let old = json!([{"value": 1, "partition": 0, "timestamp": "2001-01-01T00:00:00Z"}]);
    api.post("/topics/harvest.plans/records", &old).await;
    api.appended_as_it_happened().await;
    api.post("/topics/harvest.plans/records", &json!({"value": 2, "partition": 0})).await;
    let week = json!({"forget_after_ms": 604_800_000});
    let settings = "/topics/harvest.plans/settings";
    let (_, plan) = api.plan(Method::PUT, settings, Some(&week)).await;
    assert_eq!((&plan["records"], &plan["partitions"][0]["before_offset"]), (&json!(1), &json!(1)), "{plan:#}");
    let unseen = api.put_at(settings, 1, &week).await;
    assert_eq!((unseen.0, word(&unseen.1), place(&unseen.1)), (428, Some("unconfirmed"), Some("confirm")));
    let changed = api.confirmed(Method::PUT, settings, Some(&week)).await;
    assert_eq!((changed.0, &changed.1["settings"]["forget_after_ms"]), (200, &json!(604_800_000)));
    says(&api.put_at(settings, 1, &week).await, 412, "was changed since you read it");
    let longer = json!({"forget_after_ms": 704_800_000});
    assert_eq!(api.put_at(settings, 2, &longer).await.0, 200, "where nothing is lost nothing has to be confirmed");
    for (settings, field) in
        [(json!({"forget_after_ms": 0}), "forget_after_ms"), (json!({"keep": "latest", "hot_span_ms": 5}), "hot_span_ms")]
    {
        let refused = api.plan(Method::PUT, "/topics/harvest.plans/settings", Some(&settings)).await;
        assert_eq!((refused.0, place(&refused.1)), (422, Some(field)));
    }
    let more = json!({"partitions": 4});
    says(
        &api.post("/topics/harvest.plans/partitions", &more).await,
        428,
        "most keys of harvest.plans go to another partition",
    );
    for partitions in [2, 1001] {
        let refused =
            api.plan(Method::POST, "/topics/harvest.plans/partitions", Some(&json!({"partitions": partitions}))).await;
        says(&refused, 422, "can only get more");
    }
    assert_eq!(api.confirmed(Method::POST, "/topics/harvest.plans/partitions", Some(&more)).await.1["partitions"], 4);
    api.post("/readers", &json!({"name": "planner", "topics": ["harvest.plans"]})).await;
    let (_, plan) = api.plan(Method::DELETE, "/topics/harvest.plans", None).await;
    let loses = json!([{"kind": "reader", "name": "planner", "says": "loses its position in it"}]);
    assert_eq!((&plan["records"], &plan["touched"], &plan["against"]), (&json!(2), &loses, &json!([])));
    says(
        &api.send(api.request(Method::DELETE, "/topics/harvest.plans")).await,
        428,
        "harvest.plans is deleted with 2 records, for ever",
    );
    let member = api.post("/readers/planner/members", &json!({})).await.1["member"].as_str().unwrap().to_owned();
    let used = api.confirmed(Method::DELETE, "/topics/harvest.plans", None).await;
    says(&used, 409, "active members of the reader planner");
    api.send(api.request(Method::DELETE, &format!("/readers/planner/members/{member}"))).await;
    assert_eq!(api.confirmed(Method::DELETE, "/topics/harvest.plans", None).await.0, 204);
    assert_eq!(api.get("/topics/harvest.plans").await.0, 404);
    for (body, part) in [
        (json!({"name": "a/b", "partitions": 1}), "'/' at character 2"),
        (json!({"name": "a", "partitions": 0}), "from 1 to 1000"),
        (json!({"name": "a", "partitions": 1, "settings": {"keep": "some"}}), "unknown variant"),
    ] {
        says(&api.post("/topics", &body).await, 422, part);
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn more_than_there_is_room_for_is_told_when_to_come_again() {
    let api = Api::start().await;
    api.topic("bins.weighed", 1).await;
    // requests whose bodies do not end
    for (path, most, what) in [
        ("/topics/bins.weighed/records", 64, "requests with records"),
        ("/topics/bins.weighed/import?form=csv", 8, "exports and imports"),
    ] {
        let begin = |_| {
            let begun = futures::stream::once(async { Ok::<_, std::io::Error>(vec![b'x']) });
            let body = reqwest::Body::wrap_stream(begun.chain(futures::stream::pending()));
            tokio::spawn(api.request(Method::POST, path).header("content-type", "application/json").body(body).send())
        };
        let (first, _, open) = futures::future::select_all((0..=most).map(begin)).await;
        let answer = first.unwrap().unwrap();
        assert_eq!((answer.status().as_u16(), &answer.headers()["retry-after"]), (429, &"2".parse().unwrap()));
        let problem: Value = answer.json().await.unwrap();
        assert!(problem["detail"].as_str().unwrap().contains(&format!("{most} {what}")), "{problem:#}");
        tokio::time::sleep(Duration::from_millis(200)).await;
        assert!(open.iter().all(|o| !o.is_finished()), "fewer than {most} are let in");
        open.iter().for_each(tokio::task::JoinHandle::abort);
        let start = Instant::now();
        loop {
            let answer =
                api.request(Method::POST, path).header("content-type", "application/json").body("{}").send().await.unwrap();
            if answer.status() != 429 {
                break;
            }
            assert!(start.elapsed() < Duration::from_secs(20), "{what} that broke off are not given back");
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
    }
    let mut open = Vec::new();
    loop {
        let answer = api.request(Method::GET, "/topics/bins.weighed/stream").send().await.unwrap();
        if answer.status() == 429 {
            assert_eq!(answer.headers()["retry-after"], "2");
            assert!(answer.json::<Value>().await.unwrap()["detail"].as_str().unwrap().contains("256 streams"));
            break;
        }
        open.push(answer);
        assert!(open.len() <= 256);
    }
    assert_eq!(open.len(), 256);
    drop(open);
    let deadline = Instant::now() + Duration::from_secs(20);
    loop {
        // a closed connection is noticed with the next sign of life
        api.post("/topics/bins.weighed/records", &json!({"value": 1})).await;
        if api.request(Method::GET, "/topics/bins.weighed/stream").send().await.unwrap().status() == 200 {
            break;
        }
        assert!(Instant::now() < deadline, "closed streams are not given back");
        tokio::time::sleep(Duration::from_millis(200)).await;
    }
}
