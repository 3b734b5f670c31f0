//! Tables that go while their load is about to begin.

use std::collections::BTreeMap;
use std::time::{Duration, Instant};

use gonvel_connectors::postgres::address::DatabaseAddress;
use gonvel_connectors::postgres::load::{Loading, run};
use gonvel_connectors::postgres::position::{Part, TableLoad};
use gonvel_core::connector::{CapturedTable, InitialLoad};
use gonvel_core::loading::Readings;
use gonvel_stand_ins::postgres_cluster::OWNER;
use gonvel_stand_ins::test_cluster::TestCluster;
use tokio::sync::mpsc;

const MAKE: &str = "CREATE TABLE bins (id bigint PRIMARY KEY); INSERT INTO bins SELECT generate_series(1, 30)";

/// A session that asks for a table's size waits for the one that drops it, and is told that there is none.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_table_that_is_made_anew_while_its_size_is_asked_for_is_read_as_it_is_then() {
    let cluster = TestCluster::start(&["packhouse"]).await;
    let client = cluster.connect("packhouse").await.unwrap();
    let others = "CREATE TABLE lines (id bigint PRIMARY KEY); CREATE TABLE rooms (id bigint PRIMARY KEY)";
    client.batch_execute(&format!("{MAKE}; {others}")).await.unwrap();
    let captured = |table: &str| CapturedTable::whole("public", table, table);
    // there is room for one of them, and bins waits behind the other
    let first = ["lines", "rooms"].map(|table| {
        let parts = vec![Part::new("public".into(), table.into(), 0, 0)];
        (captured(table), Some(TableLoad { rows: 0, expected: 0, parts }))
    });
    let loading = Loading {
        address: DatabaseAddress::new("127.0.0.1", cluster.port, "packhouse", OWNER, &cluster.password),
        tables: first.into_iter().chain([(captured("bins"), None)]).collect(),
        after: BTreeMap::new(),
        by_name: false,
        how: InitialLoad { chunks: 1, ..InitialLoad::default() },
        session: "test".into(),
        readings: Readings::default(),
    };
    let (sender, mut chunks) = mpsc::channel(1);
    let reading = tokio::spawn(run(loading, sender));
    let start = Instant::now();
    // it has read the second table and waits for the place of the first
    let has_read = "SELECT 1 FROM pg_stat_activity WHERE query = 'COMMIT' AND state_change < now() - interval '300 ms'";
    let waits = "SELECT 1 FROM pg_stat_activity WHERE wait_event_type = 'Lock' AND query LIKE '%pg_relation_size%'";
    let until = async |query: &str| {
        while client.query_opt(query, &[]).await.unwrap().is_none() {
            assert!(start.elapsed() < Duration::from_secs(30), "{query}");
            tokio::time::sleep(Duration::from_millis(10)).await;
        }
    };
    until(has_read).await;
    let other = cluster.connect("packhouse").await.unwrap();
    other.batch_execute("BEGIN; DROP TABLE bins").await.unwrap();
    let mut names = vec![chunks.recv().await.unwrap().name, chunks.recv().await.unwrap().name];
    until(waits).await;
    other.batch_execute(&format!("{MAKE}; COMMIT")).await.unwrap();
    let mut rows = 0;
    while let Some(chunk) = chunks.recv().await {
        rows += chunk.batch.len();
        names.push(chunk.name);
    }
    reading.await.expect("it does not break down").unwrap();
    assert_eq!(rows, 30, "{names:?}");
}
