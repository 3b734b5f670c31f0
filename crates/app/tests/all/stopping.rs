//! A server that is stopped answers what it took.

use std::io::BufRead;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::{Duration, Instant};

use crate::support::Gonvel;
use crate::support::shell::Shell;
use gonvel_stand_ins::postgres_cluster::free_port;
use gonvel_stand_ins::test_cluster::TestCluster;
use serde_json::json;

const CLIENTS: usize = 24;
const ROUNDS: usize = 4;

/// Appends are under way all the time, and each is answered or not taken; a stream that is open does not keep the process from ending.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_a_stopping_server_took_it_answered() {
    let cluster = TestCluster::start(&["gonvel"]).await;
    let folder = tempfile::tempdir().unwrap();
    let answered = Arc::new(AtomicUsize::new(0));
    for round in 0..ROUNDS {
        let mut gonvel = Gonvel::serve(&cluster, folder.path(), free_port().unwrap()).await;
        if round == 0 {
            gonvel.post("/topics", json!({"name": "coldstore.readings", "partitions": 2})).await;
        }
        let records = format!("{}/topics/coldstore.readings/records", gonvel.base);
        let stream = format!("{}/topics/coldstore.readings/stream?from=newest", gonvel.base);
        let open = reqwest::Client::new().get(stream).header("accept", "application/x-ndjson").send().await.unwrap();
        let clients: Vec<_> = (0..CLIENTS)
            .map(|number| {
                let (records, answered) = (records.clone(), answered.clone());
                tokio::spawn(async move {
                    let client = reqwest::Client::new();
                    loop {
                        let sent = client.post(&records).json(&json!({"value": number})).send().await;
                        match sent {
                            Ok(answer) if answer.status() == 200 => answered.fetch_add(1, Ordering::SeqCst),
                            _ => return,
                        };
                    }
                })
            })
            .collect();
        tokio::time::sleep(Duration::from_millis(400)).await;
        let start = Instant::now();
        gonvel.signal("TERM");
        assert!(gonvel.ended().success());
        assert!(start.elapsed() < Duration::from_secs(10), "it took {:?} to stop", start.elapsed());
        let said = open.text().await.unwrap();
        let last: serde_json::Value = serde_json::from_str(said.trim_end().lines().last().unwrap()).unwrap();
        let told = (&last["problem"]["type"], &last["problem"]["detail"]);
        assert_eq!(told, (&json!("/api/v1/problems/try-again"), &json!("the server stops")), "{said}");
        for client in clients {
            client.await.unwrap();
        }
    }
    let own = cluster.connect("gonvel").await.unwrap();
    let taken: i64 = own.query_one("SELECT sum(next_offset)::bigint FROM topic_partitions", &[]).await.unwrap().get(0);
    let answered = i64::try_from(answered.load(Ordering::SeqCst)).unwrap();
    assert!(answered > 0, "nothing was under way");
    assert_eq!(taken, answered, "records were taken whose appends were not answered");
}

/// By command a topic is followed through a server that is stopped, and through one that is killed: each record is printed once.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn whoever_follows_a_topic_goes_on_where_it_was_when_the_server_is_back() {
    let cluster = TestCluster::start(&["gonvel"]).await;
    let folder = tempfile::tempdir().unwrap();
    let port = free_port().unwrap();
    let mut gonvel = Gonvel::serve(&cluster, folder.path(), port).await;
    gonvel.post("/topics", json!({"name": "coldstore.readings", "partitions": 2})).await;
    let shell = Shell::at(&gonvel);
    let mut follows = shell.begin("records read coldstore.readings --follow --oldest --output json");
    let printed = follows.stdout.take().unwrap();
    let (send, lines) = std::sync::mpsc::channel();
    std::thread::spawn(move || {
        for line in std::io::BufReader::new(printed).lines() {
            let Ok(line) = line else { return };
            let _ = send.send(serde_json::from_str::<serde_json::Value>(&line).unwrap()["value"].as_i64().unwrap());
        }
    });
    let mut got = Vec::new();
    for round in 0..5 {
        for n in 0..10 {
            gonvel.post("/topics/coldstore.readings/records", json!({"value": round * 10 + n})).await;
        }
        while got.len() < (round + 1) * 10 {
            got.push(lines.recv_timeout(Duration::from_secs(60)).unwrap());
        }
        if round % 2 == 0 {
            gonvel.signal("TERM");
            assert!(gonvel.ended().success());
        } else {
            gonvel.kill();
        }
        gonvel = Gonvel::serve(&cluster, folder.path(), port).await;
    }
    got.extend(lines.recv_timeout(Duration::from_millis(1500)));
    follows.kill().unwrap();
    follows.wait().unwrap();
    got.sort_unstable();
    assert!(got.iter().copied().eq(0..50), "{got:?}");
}
