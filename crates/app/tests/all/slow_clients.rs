//! Clients that do not read: what they asked for waits in the topic, not in the server's memory.

use std::time::Duration;

use crate::support::Gonvel;
use futures::StreamExt;
use gonvel_stand_ins::postgres_cluster::free_port;
use gonvel_stand_ins::test_cluster::TestCluster;
use serde_json::json;

/// Records of 1 kB, in requests of 5,000: 100 MB in all.
const REQUESTS: usize = 20;
const RECORDS: usize = 5_000;
/// Clients of each kind; together they asked for more than a gigabyte.
const CLIENTS: usize = 3;
/// What blocks being sent may take, in MiB.
const ROOM: u64 = 150;

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_client_that_does_not_read_takes_no_memory_and_gets_all_when_it_does() {
    let cluster = TestCluster::start(&["gonvel"]).await;
    let folder = tempfile::tempdir().unwrap();
    let gonvel = Gonvel::serve(&cluster, folder.path(), free_port().unwrap()).await;
    gonvel.post("/topics", json!({"name": "coldstore.readings", "partitions": 1})).await;
    let lines: String = (0..RECORDS).map(|n| format!("{{\"value\":\"{n} {}\"}}\n", "x".repeat(1_000))).collect();
    for _ in 0..REQUESTS {
        let request = gonvel.client.post(format!("{}/topics/coldstore.readings/records", gonvel.base));
        let answer = request.header("content-type", "application/x-ndjson").body(lines.clone()).send().await.unwrap();
        assert_eq!(answer.status(), 200);
    }
    gonvel.post("/readers", json!({"name": "slow", "topics": ["coldstore.readings"]})).await;
    let joined = gonvel.post("/readers/slow/members", json!({"ttl_ms": 600_000})).await;
    let as_member = format!("/readers/slow/members/{}/stream", joined["member"].as_str().unwrap());
    let before = gonvel.memory();
    let mut open = Vec::new();
    for path in [
        "/topics/coldstore.readings/stream?from=oldest",
        "/topics/coldstore.readings/export?form=jsonl",
        "/topics/coldstore.readings/export?form=parquet",
        "/topics/coldstore.readings/search?filter=value%20LIKE%20'%25x'&limit=1000",
        &as_member,
    ] {
        for _ in 0..CLIENTS {
            // a connection of its own each, which is not read from
            let request = reqwest::Client::new().get(format!("{}{path}", gonvel.base));
            let answer = request.header("accept", "application/x-ndjson").send().await.unwrap();
            assert_eq!(answer.status(), 200, "{path}");
            open.push(answer);
        }
    }
    for _ in 0..12 {
        tokio::time::sleep(Duration::from_millis(500)).await;
        let now = gonvel.memory();
        assert!(now < before + ROOM, "{before} MiB became {now} MiB");
    }
    // and it is all there for the one that reads at last
    let mut pieces = open.remove(0).bytes_stream();
    let mut seen = 0;
    // the first line only says where the stream begins
    while seen < REQUESTS * RECORDS + 1 {
        seen += pieces.next().await.unwrap().unwrap().iter().filter(|b| **b == b'{').count();
    }
    assert_eq!(seen, REQUESTS * RECORDS + 1);
    drop(open);
    let now = gonvel.memory();
    assert!(now < before + ROOM, "{before} MiB became {now} MiB");
}
