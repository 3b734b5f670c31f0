//! Commits that wait for a standby: the stream brings them before anyone else sees them.

use std::time::{Duration, Instant};

use gonvel_connectors::postgres::load::{settle, until_visible};
use gonvel_stand_ins::test_cluster::TestCluster;
use tokio_postgres::Client;

const MOMENT: Duration = Duration::from_millis(300);

async fn standbys(client: &Client, names: &str) {
    client.batch_execute(&format!("ALTER SYSTEM SET synchronous_standby_names = '{names}'")).await.unwrap();
    client.batch_execute("SELECT pg_reload_conf()").await.unwrap();
    let start = Instant::now();
    while client.query_one("SHOW synchronous_standby_names", &[]).await.unwrap().get::<_, String>(0) != names {
        assert!(start.elapsed() < Duration::from_secs(10));
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
    // the server's other processes take it up a moment later
    tokio::time::sleep(MOMENT).await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_commit_that_waits_for_a_standby_is_waited_for_and_a_long_transaction_is_not() {
    let cluster = TestCluster::start(&["packhouse"]).await;
    let client = cluster.connect("packhouse").await.unwrap();
    client.batch_execute("CREATE TABLE bins (id int PRIMARY KEY)").await.unwrap();
    // one that just goes on for long is waited for no longer than was said
    let open = cluster.connect("packhouse").await.unwrap();
    open.batch_execute("BEGIN; INSERT INTO bins VALUES (1)").await.unwrap();
    settle(&client, MOMENT).await.unwrap();
    open.batch_execute("ROLLBACK").await.unwrap();

    standbys(&client, "nobody").await;
    let writer = cluster.connect("packhouse").await.unwrap();
    writer.batch_execute("BEGIN; INSERT INTO bins VALUES (2)").await.unwrap();
    let transaction: i64 = writer.query_one("SELECT pg_current_xact_id()::text::bigint", &[]).await.unwrap().get(0);
    let committing = tokio::spawn(async move { writer.batch_execute("COMMIT").await });
    let waits = "SELECT 1 FROM pg_stat_activity WHERE wait_event = 'SyncRep'";
    while client.query_opt(waits, &[]).await.unwrap().is_none() {
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
    let number = u32::try_from(transaction).unwrap();
    assert!(tokio::time::timeout(4 * MOMENT, settle(&client, MOMENT)).await.is_err(), "it was not waited for");
    assert!(tokio::time::timeout(4 * MOMENT, until_visible(&client, number, "gonvel_1")).await.is_err());

    standbys(&client, "").await;
    committing.await.unwrap().unwrap();
    settle(&client, MOMENT).await.unwrap();
    until_visible(&client, number, "gonvel_1").await.unwrap();
}
