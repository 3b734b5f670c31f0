//! Two servers and two runners are replaced one after the other under load: by this version, from this one or, with `GONVEL_BEFORE`, from
//! the program of an earlier version. While both versions are at work on the same tables, each does all that it did before. In the end
//! source and target are the same, no change stands twice, and an application's records stand once each, in their order.

use std::path::Path;
use std::process::Stdio;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use gonvel_stand_ins::packhouse::seed::seed;
use gonvel_stand_ins::packhouse::workload::Day;
use gonvel_stand_ins::postgres_cluster::{OWNER, free_port};
use gonvel_stand_ins::test_cluster::TestCluster;
use serde_json::{Value, json};

use crate::support::checks::{no_change_stands_twice, rows};
use crate::support::{Gonvel, THIS};

const TABLES: [&str; 3] = ["growers", "blocks", "bins"];
/// Longest time in which a process that is asked to ends; loaded machines take longer.
const ENDS: Duration = Duration::from_secs(20);

/// An application that appends numbers, each until it has an answer, by whichever server answers; how many it appended.
async fn appends(ports: [u16; 2], stop: Arc<AtomicBool>) -> u64 {
    let client = reqwest::Client::builder().timeout(Duration::from_secs(5)).build().unwrap();
    let to = |turn: u64, path: &str| format!("http://127.0.0.1:{}/api/v1{path}", ports[usize::from(turn % 2 == 1)]);
    let mut turn = 0;
    let mut session = None;
    let mut number = 0_u64;
    while !stop.load(Ordering::Relaxed) {
        let Some(name) = &session else {
            let made = client.post(to(turn, "/producers")).json(&json!({})).send().await;
            let made: Option<Value> = match made {
                Ok(made) => made.json().await.ok(),
                Err(_) => None,
            };
            session = made.and_then(|made| made["session"].as_str().map(str::to_owned));
            turn += 1;
            continue;
        };
        let sent = client
            .post(to(turn, "/topics/gates.opened/records"))
            .header("producer-session", name)
            .header("producer-sequence", number.to_string())
            .json(&json!({"value": number, "partition": 0}))
            .send()
            .await;
        match sent {
            Ok(answer) if answer.status().is_success() => number += 1,
            Ok(answer) if answer.status().is_client_error() => panic!("{}", answer.text().await.unwrap_or_default()),
            // it ends or is not there: the other one is asked
            _ => turn += 1,
        }
        tokio::time::sleep(Duration::from_millis(4)).await;
    }
    number
}

/// Asks a server for all that a version does with its tables; `mark` makes names of its own.
async fn does_everything(gonvel: &Gonvel, mark: &str) {
    let lists = [
        "connectors",
        "connections",
        "topics",
        "readers",
        "schemas",
        "functions",
        "producers",
        "drafts",
        "runners",
        "quarantine/causes",
    ];
    for list in lists {
        let answer = gonvel.client.get(format!("{}/{list}", gonvel.base)).send().await.unwrap();
        let status = answer.status();
        assert!(status.is_success(), "{list} of {mark}: {status} {}", answer.text().await.unwrap());
    }
    let (topic, reader) = (format!("kept.{mark}"), format!("reader-{mark}"));
    gonvel.post("/topics", json!({"name": topic, "partitions": 2})).await;
    gonvel.post(&format!("/topics/{topic}/records"), json!([{"key": "a", "value": 1}, {"key": "b", "value": 2}])).await;
    gonvel.post("/readers", json!({"name": reader, "topics": [topic]})).await;
    let joined = gonvel.post(&format!("/readers/{reader}/members"), json!({"label": mark})).await;
    assert!(joined["member"].is_string(), "{joined:#}");
    let settings = json!({"forget_after_ms": 86_400_000});
    let put = async |settings: &Value| {
        let put = gonvel.client.put(format!("{}/topics/{topic}/settings", gonvel.base)).header("if-match", "\"1\"");
        put.json(settings).send().await.unwrap()
    };
    let put = match put(&settings).await {
        // a version from before revisions were headers
        refused if refused.status() == 422 && std::env::var_os("GONVEL_BEFORE").is_some() => {
            put(&json!({"revision": 1, "settings": settings})).await
        }
        put => put,
    };
    assert!(put.status().is_success(), "{}", put.text().await.unwrap());
    let connection = gonvel.list("/connections").await.unwrap()[0]["id"].clone();
    let table = json!({"schema": "public", "table": "bins", "topic": format!("kept.{mark}.bins")});
    let definition = json!({"kind": "source", "connection": connection, "tables": [table], "partitions": 1});
    let made =
        gonvel.post("/connectors", json!({"name": format!("kept-{mark}"), "definition": definition, "start": false})).await;
    let path = format!("/connectors/{}", made["id"].as_str().unwrap());
    gonvel.post("/drafts", json!({"kind": "source", "name": mark, "lacks": "tables", "work": {"draft": {}}})).await;
    gonvel.delete(&path).await;
}

async fn build_flow(gonvel: &Gonvel, cluster: &TestCluster) {
    let mut ids = vec![];
    for name in ["packhouse", "settlement"] {
        let body = json!({"name": name, "host": "127.0.0.1", "port": cluster.port, "database": name, "user": OWNER,
            "password": cluster.password});
        ids.push(gonvel.post("/connections", body).await["id"].clone());
    }
    let tables: Vec<Value> =
        TABLES.iter().map(|t| json!({"schema": "public", "table": t, "topic": format!("packhouse.{t}")})).collect();
    let source = json!({"kind": "source", "connection": ids[0], "tables": tables, "partitions": 2});
    let sink = json!({"kind": "sink", "connection": ids[1], "topics": tables, "placing": {"lanes": 2}});
    gonvel.post("/connectors", json!({"name": "packhouse-changes", "definition": source, "start": true})).await;
    gonvel.post("/connectors", json!({"name": "settlement-tables", "definition": sink, "start": true})).await;
}

async fn all_follow(gonvel: &Gonvel) {
    let start = Instant::now();
    loop {
        let said = gonvel.list("/connectors").await.unwrap_or_default();
        let of_flow: Vec<&Value> =
            said.as_array().into_iter().flatten().filter(|c| !c["name"].as_str().unwrap().starts_with("kept-")).collect();
        if of_flow.len() == 2 && of_flow.iter().all(|c| c["state"] == "following") {
            return;
        }
        assert!(start.elapsed() < Duration::from_secs(60), "{said:#}");
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
}

fn ends(process: &mut Gonvel) {
    let start = Instant::now();
    process.signal("TERM");
    let status = process.ended();
    assert!(status.success() && start.elapsed() < ENDS, "{status} after {:?}", start.elapsed());
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn replaced_one_by_one_under_load_nothing_is_lost_or_refused() {
    let before = std::env::var("GONVEL_BEFORE").unwrap_or_else(|_| THIS.to_owned());
    let cluster = TestCluster::start(&["gonvel", "packhouse", "settlement"]).await;
    let folder = tempfile::tempdir().unwrap();
    let folder: &Path = folder.path();
    let url = cluster.url("gonvel");
    let ports = [free_port().unwrap(), free_port().unwrap()];
    let mut packhouse = cluster.connect("packhouse").await.unwrap();
    seed(&mut packhouse).await.unwrap();
    packhouse.batch_execute("DELETE FROM bins WHERE id > 5000").await.unwrap();

    let server = async |program: &str, number: usize, name: &str| {
        Gonvel::serve_by(program, &url, folder, ports[number], (name, Stdio::inherit())).await
    };
    let mut first = server(&before, 0, "server-1").await;
    let mut second = server(&before, 1, "server-2").await;
    let mut one = Gonvel::runner_by(&before, &url, folder, "runner-1", None);
    let mut two = Gonvel::runner_by(&before, &url, folder, "runner-2", None);
    build_flow(&first, &cluster).await;
    first.post("/topics", json!({"name": "gates.opened", "partitions": 1})).await;
    let stop = Arc::new(AtomicBool::new(false));
    let appending = tokio::spawn(appends(ports, stop.clone()));
    let day = Day::begin(&cluster.url("packhouse"), 100).await.unwrap();
    all_follow(&first).await;

    ends(&mut first);
    first = server(THIS, 0, "server-1").await;
    // the tables are this version's now
    does_everything(&second, "by-the-former").await;
    does_everything(&first, "by-the-newer").await;
    all_follow(&second).await;
    ends(&mut one);
    one = Gonvel::runner_by(THIS, &url, folder, "runner-1", None);
    tokio::time::sleep(Duration::from_millis(1_500)).await;
    all_follow(&second).await;
    // lanes of the former version begin anew on the newer tables
    let id = |name: &str, all: &Value| {
        let found = all.as_array().unwrap().iter().find(|c| c["name"] == name).unwrap();
        found["id"].as_str().unwrap().to_owned()
    };
    let all = second.list("/connectors").await.unwrap();
    for name in ["packhouse-changes", "settlement-tables"] {
        second.post(&format!("/connectors/{}/actions", id(name, &all)), json!({"action": "restart"})).await;
    }
    tokio::time::sleep(Duration::from_millis(500)).await;
    all_follow(&first).await;
    ends(&mut two);
    two = Gonvel::runner_by(THIS, &url, folder, "runner-2", None);
    ends(&mut second);
    second = server(THIS, 1, "server-2").await;
    all_follow(&second).await;

    day.end();
    stop.store(true, Ordering::Relaxed);
    let appended = appending.await.unwrap();
    let start = Instant::now();
    for table in TABLES {
        while rows(&cluster, "packhouse", table).await != rows(&cluster, "settlement", table).await {
            assert!(
                start.elapsed() < Duration::from_secs(60),
                "{table}: {:#}",
                first.list("/connectors").await.unwrap_or_default()
            );
            tokio::time::sleep(Duration::from_millis(200)).await;
        }
    }
    for table in TABLES {
        let (there, _) = rows(&cluster, "packhouse", table).await.unwrap();
        no_change_stands_twice(&first, &format!("packhouse.{table}"), there, false).await;
    }
    assert!(appended > 100, "{appended}");
    let mut next = 0;
    while next < appended {
        let path = format!("/topics/gates.opened/records?order=oldest&partition=0&offset={next}&limit=500");
        let page = second.get(&path).await.unwrap();
        for record in page["items"].as_array().unwrap() {
            assert_eq!(record["value"], next, "{record:#}");
            next += 1;
        }
    }
    assert_eq!(second.get("/topics/gates.opened").await.unwrap()["records"], appended);
    drop((one, two));
}
