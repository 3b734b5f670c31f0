//! A source's slot and publication belong to whoever holds the lane: one that was frozen and wakes changes neither.

use crate::bins_and_lines::{sent, settings};
use gonvel_connectors::postgres::slot::{change_tables, clean_up, prepare};
use gonvel_core::naming::Epoch;
use gonvel_core::ports::systems::ConnectorError;
use gonvel_stand_ins::test_cluster::TestCluster;
use tokio_postgres::Client;

/// The slot and what the publication sends.
async fn made(client: &Client) -> (String, Vec<String>) {
    let slot = client.query_one("SELECT string_agg(slot_name || confirmed_flush_lsn, ',') FROM pg_replication_slots", &[]);
    (slot.await.unwrap().get(0), sent(client).await)
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_former_holder_of_the_lane_drops_no_slot_and_changes_no_publication() {
    let cluster = TestCluster::start(&["packhouse"]).await;
    let client = cluster.connect("packhouse").await.unwrap();
    client.batch_execute("CREATE TABLE bins (id int PRIMARY KEY); CREATE TABLE lines (id int PRIMARY KEY)").await.unwrap();
    let settings = |epoch: i64, tables: &[&str]| settings(&cluster, epoch, tables);
    // frozen before it made anything, it wakes when another has
    let frozen = settings(4, &["lines"]);
    let mut position = prepare(&settings(5, &["bins"])).await.unwrap();
    let before = made(&client).await;
    assert_eq!(before.1, ["bins"]);
    let late = prepare(&frozen).await;
    assert!(matches!(late, Err(ConnectorError::Later { epoch: 5 })), "{late:?}");
    let late = change_tables(&frozen, &mut position, &["public.lines".to_owned()], &["public.bins".to_owned()], &[]).await;
    assert!(matches!(late, Err(ConnectorError::Later { epoch: 5 })), "{late:?}");
    assert_eq!(made(&client).await, before);

    // the same and later ones go on
    for epoch in [5, 9] {
        let both = settings(epoch, &["bins", "lines"]);
        change_tables(&both, &mut position, &["public.lines".to_owned()], &[], &[]).await.unwrap();
        assert_eq!(made(&client).await, (before.0.clone(), vec!["bins".to_owned(), "lines".to_owned()]));
    }
    let late = change_tables(&settings(5, &["bins"]), &mut position, &[], &["public.lines".to_owned()], &[]).await;
    assert!(matches!(late, Err(ConnectorError::Later { epoch: 9 })), "{late:?}");
    // but for what a log noted that was rolled back since
    let mut void = settings(5, &["lines"]);
    void.void = Some(Epoch(9));
    prepare(&void).await.unwrap();
    let after = made(&client).await;
    assert!(after.0 != before.0 && after.1 == ["lines"], "{after:?}");
    clean_up(&void.address, void.connector).await.unwrap();
}
