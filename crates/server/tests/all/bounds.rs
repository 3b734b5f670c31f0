//! Small requests that would take very much: each is refused, the server's memory stays what it was, and others are answered.

use std::future::Future;
use std::time::{Duration, Instant};

use bytes::Bytes;
use gonvel_core::avro::binary::{write_bytes, write_long};
use gonvel_core::avro::container::{Codec, Sync, header, pack, write_block};
use gonvel_core::block::{BlockBuilder, UNPACKED_LIMIT};
use gonvel_core::naming::{PartitionId, TopicName, TopicPartition};
use gonvel_core::ports::{AppendBatch, PartitionBlocks, PortError, TopicLog};
use gonvel_core::record::{Header, Record};
use reqwest::Method;
use serde_json::json;

use crate::support::{Api, says};

const SYNC: Sync = [7; 16];

/// The most memory that this process had so far, in bytes.
fn peak() -> usize {
    let status = std::fs::read_to_string("/proc/self/status").unwrap();
    let line = status.lines().find(|line| line.starts_with("VmHWM:")).unwrap();
    line.split_whitespace().nth(1).unwrap().parse::<usize>().unwrap() << 10
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_few_bytes_that_unpack_to_very_many_are_refused_while_they_are_read() {
    let api = Api::start().await;
    api.topic("bins.weighed", 1).await;
    let before = peak();
    // an array of a hundred million nulls
    let mut many = header(r#"{"type":"array","items":"null"}"#, Codec::Null, &SYNC);
    let mut data = Vec::new();
    write_long(100_000_000, &mut data);
    write_long(0, &mut data);
    write_block(1, &data, &SYNC, &mut many);
    assert!(many.len() < 200);
    says(&api.append("bins.weighed", "application/avro", many).await, 422, "items that take no bytes");
    // and one of items that have many names and a byte
    let fields: Vec<_> = (0..2_000).map(|n| json!({"name": format!("f{n}{}", "x".repeat(200)), "type": "null"})).collect();
    let wide = json!({"type": "array", "items": ["null", {"type": "record", "name": "Wide", "fields": fields}]});
    let mut file = header(&wide.to_string(), Codec::Null, &SYNC);
    data.clear();
    write_long(100_000, &mut data);
    data.extend(std::iter::repeat_n(2, 100_000));
    write_long(0, &mut data);
    write_block(1, &data, &SYNC, &mut file);
    says(&api.append("bins.weighed", "application/avro", file).await, 422, "more parts than can be held");
    // blocks of zeros, each of a text that is no larger than a block may be
    let mut packed = header(r#""bytes""#, Codec::Zstandard, &SYNC);
    for (count, size) in [(100, 60 << 20), (300, 1 << 20)] {
        let mut file = packed.clone();
        data.clear();
        write_bytes(&vec![0; size - 16], &mut data);
        let block = pack(&data).unwrap();
        for _ in 0..count {
            write_block(1, &block, &SYNC, &mut file);
        }
        assert!(file.len() < 1 << 20, "{}", file.len());
        let refused = api.append("bins.weighed", "application/avro", file).await;
        assert_eq!(refused.0, 413, "{:#}", refused.1);
    }
    packed.clear();
    let grew = peak() - before;
    // with what the tests beside it take
    assert!(grew < 2 << 30, "it took {} MiB", grew >> 20);
    assert_eq!(api.count("bins.weighed").await, 0);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_could_not_be_read_again_is_not_appended() {
    let api = Api::start().await;
    api.topic("bins.weighed", 1).await;
    let line = |header: usize| {
        json!({"timestamp": "2026-11-25T09:30:00Z", "value": "1", "headers": [{"name": "pad", "value": "0".repeat(header)}]})
            .to_string()
    };
    let import = |body: String| api.import("bins.weighed", "form=jsonl&partitions=by-key", body);
    says(&import(line(65 << 20)).await, 422, "a record has 67108864 at most");
    let headers: Vec<_> = (0..10_001).map(|_| json!({"name": "a", "value": ""})).collect();
    let many = json!({"timestamp": "2026-11-25T09:30:00Z", "value": "1", "headers": headers});
    says(&import(many.to_string()).await, 422, "10000 at most");
    says(&api.post("/topics/bins.weighed/records", &json!({"value": 1, "headers": headers})).await, 422, "10000 at most");
    assert_eq!(import(line(1 << 20)).await.0, 200);
    // nor by anyone else
    let topic = api.database.topic(&TopicName::parse("bins.weighed").unwrap()).await.unwrap();
    let pad = Header { name: "pad".into(), value: Bytes::from(vec![0; UNPACKED_LIMIT]) };
    let mut builder = BlockBuilder::default();
    builder.push_record(&Record { headers: vec![pad], ..Record::default() });
    let to = TopicPartition { topic: topic.id, partition: PartitionId(0) };
    let parts = vec![PartitionBlocks { to, blocks: builder.finish().into_iter().collect() }];
    let refused = api.database.append(AppendBatch { parts, ..AppendBatch::default() }).await;
    assert!(matches!(&refused, Err(PortError::Refused(finding)) if finding.contains("can be read again")), "{refused:?}");
    assert_eq!(api.all("bins.weighed").await.len(), 1);
}

/// How long `/api/v1/health` takes at most while something is going on.
async fn watched<T>(api: &Api, going_on: impl Future<Output = T>) -> (T, Duration) {
    let health = format!("{}/health", api.base);
    let (mut longest, mut going_on) = (Duration::ZERO, std::pin::pin!(going_on));
    loop {
        let start = Instant::now();
        let asked = api.client.get(&health).send();
        tokio::select! {
            done = &mut going_on => return (done, longest),
            answer = asked => assert!(answer.unwrap().status().is_success()),
        }
        longest = longest.max(start.elapsed());
        tokio::time::sleep(Duration::from_millis(100).saturating_sub(start.elapsed())).await;
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_schema_that_doubles_keeps_no_one_else_waiting() {
    let api = Api::start().await;
    api.topic("bins.weighed", 1).await;
    let mut defs = serde_json::Map::new();
    for n in 0..40 {
        let next = json!({"$ref": format!("#/$defs/a{}", n + 1)});
        defs.insert(format!("a{n}"), json!({"allOf": [next.clone(), next]}));
    }
    defs.insert("a40".into(), json!({"type": "object"}));
    let text = json!({"$ref": "#/$defs/a0", "$defs": defs}).to_string();
    let made = json!({"name": "bins.doubled", "language": "json_schema", "text": text});
    let (refused, longest) = watched(&api, api.post("/schemas", &made)).await;
    says(&refused, 422, "unfolds to more than 100000 schemas");
    assert!(longest < Duration::from_secs(3), "{longest:?}");

    let text = json!({"properties": {"a": {"allOf": [{"$ref": "#"}, {"$ref": "#"}]}}}).to_string();
    let made = json!({"name": "bins.weighed.value", "language": "json_schema", "text": text});
    assert_eq!(api.post("/schemas", &made).await.0, 201);
    let bound = json!({"schema": "bins.weighed.value", "required": true});
    assert_eq!(api.send(api.request(Method::PUT, "/topics/bins.weighed/schemas/value").json(&bound)).await.0, 204);
    let nested = (0..60).fold(json!({}), |inner, _| json!({"a": inner}));
    let many: Vec<_> = (0..2_000).map(|_| json!({"value": nested})).collect();
    let body = json!(many);
    let sent = api.post("/topics/bins.weighed/records?partial=true", &body);
    let (done, longest) = watched(&api, sent).await;
    assert!(longest < Duration::from_secs(3), "{longest:?}");
    let said = done.1.to_string();
    assert!(said.contains("200000 steps") || said.contains("took longer than 10 s"), "{said}");
    assert_eq!(api.count("bins.weighed").await, 0);
    // what is small is checked as ever
    assert_eq!(api.post("/topics/bins.weighed/records", &json!({"value": {"a": {}}})).await.0, 200);
}
