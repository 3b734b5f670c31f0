//! Producers of several servers on one database, which are killed and whose database goes away: what was acknowledged is
//! there, once and in its order, and offsets have no gap.

use std::collections::BTreeMap;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::time::{Duration, Instant};

use crate::support::Gonvel;
use gonvel_stand_ins::postgres_cluster::free_port;
use gonvel_stand_ins::test_cluster::TestCluster;
use serde_json::{Value, json};

const PARTITIONS: i64 = 3;

/// A producer that goes on with the other server when one does not answer, and sends again what was not answered.
struct Producer {
    number: usize,
    servers: Vec<String>,
    session: String,
    client: reqwest::Client,
    /// Answers that the database was away.
    refused: Arc<AtomicUsize>,
}

impl Producer {
    /// Appends until told to stop; how many batches of three were acknowledged.
    async fn run(self, stop: Arc<AtomicBool>) -> usize {
        let mut sequence = 0;
        let mut tries = self.number;
        while !stop.load(Ordering::Relaxed) {
            let records: Vec<Value> = (0..3)
                .map(|n| json!({"key": format!("{} {n}", self.number), "value": format!("{} {}", self.number, sequence * 3 + n)}))
                .collect();
            let deadline = Instant::now() + Duration::from_secs(60);
            loop {
                assert!(Instant::now() < deadline, "producer {} gets no answer", self.number);
                let base = &self.servers[tries % self.servers.len()];
                let request = self.client.post(format!("{base}/topics/bins.weighed/records")).json(&records);
                let request =
                    request.header("producer-session", &self.session).header("producer-sequence", sequence.to_string());
                match request.timeout(Duration::from_secs(10)).send().await {
                    Ok(answer) if answer.status() == 200 => break,
                    Ok(answer) => {
                        // the only refusal there may be is that the database is away, said with when to come again
                        assert_eq!(answer.status(), 503);
                        assert!(answer.headers().contains_key("retry-after"));
                        let problem: Value = answer.json().await.unwrap();
                        assert_eq!(problem["type"], "/api/v1/problems/try-again", "{problem:#}");
                        self.refused.fetch_add(1, Ordering::Relaxed);
                    }
                    Err(_) => {}
                }
                tries += 1;
                tokio::time::sleep(Duration::from_millis(20)).await;
            }
            sequence += 1;
        }
        sequence
    }
}

/// The numbers that stand in the topic, by producer and key, in the order of offsets; offsets have no gap.
async fn found(gonvel: &Gonvel) -> BTreeMap<String, Vec<usize>> {
    let mut out: BTreeMap<String, Vec<usize>> = BTreeMap::new();
    for partition in 0..PARTITIONS {
        let (mut offset, mut cursor) = (0, String::new());
        loop {
            let path = format!("/topics/bins.weighed/records?order=oldest&partition={partition}&limit=500{cursor}");
            let page = gonvel.get(&path).await.unwrap();
            for record in page["items"].as_array().unwrap() {
                assert_eq!(record["offset"], offset, "offsets have a gap");
                offset += 1;
                let number = record["value"].as_str().unwrap().split_once(' ').unwrap().1.parse().unwrap();
                out.entry(record["key"].as_str().unwrap().to_owned()).or_default().push(number);
            }
            let Some(next) = page["next"].as_str() else { break };
            cursor = format!("&cursor={next}");
        }
    }
    out
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn acknowledged_records_are_there_once_whatever_is_killed() {
    let mut cluster = TestCluster::start(&["gonvel"]).await;
    let folder = tempfile::tempdir().unwrap();
    let ports = [free_port().unwrap(), free_port().unwrap()];
    let mut servers = Vec::new();
    for port in ports {
        servers.push(Gonvel::serve(&cluster, folder.path(), port).await);
    }
    servers[0].post("/topics", json!({"name": "bins.weighed", "partitions": PARTITIONS})).await;
    let (stop, refused) = (Arc::new(AtomicBool::new(false)), Arc::new(AtomicUsize::new(0)));
    let mut producing = Vec::new();
    for number in 0..6 {
        let session = servers[0].post("/producers", json!({})).await["session"].as_str().unwrap().to_owned();
        let producer = Producer {
            number,
            servers: servers.iter().map(|s| s.base.clone()).collect(),
            session,
            client: reqwest::Client::new(),
            refused: refused.clone(),
        };
        producing.push(tokio::spawn(producer.run(stop.clone())));
    }
    for (round, pause_ms) in [200, 700, 60, 450, 150].into_iter().enumerate() {
        tokio::time::sleep(Duration::from_millis(pause_ms)).await;
        let which = round % 2;
        servers[which].kill();
        servers[which] = Gonvel::serve(&cluster, folder.path(), ports[which]).await;
    }
    for _ in 0..2 {
        cluster.crash_and_restart().await;
        tokio::time::sleep(Duration::from_millis(800)).await;
    }
    stop.store(true, Ordering::Relaxed);
    let mut acknowledged = Vec::new();
    for producer in producing {
        acknowledged.push(producer.await.unwrap());
    }
    assert!(acknowledged.iter().all(|batches| *batches > 20), "{acknowledged:?}");
    let found = found(&servers[0]).await;
    for (number, batches) in acknowledged.iter().enumerate() {
        for n in 0..3 {
            let expected: Vec<usize> = (0..*batches).map(|sequence| sequence * 3 + n).collect();
            assert_eq!(found[&format!("{number} {n}")], expected, "producer {number}");
        }
    }
    eprintln!("{acknowledged:?} batches, {} answers that the database was away", refused.load(Ordering::Relaxed));
}
