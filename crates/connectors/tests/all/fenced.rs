//! A source's slot and publication belong to whoever holds the lane: one that was frozen and wakes changes neither.

use std::time::Duration;

use gonvel_connectors::error::ConnectorError;
use gonvel_connectors::postgres::slot::{change_tables, clean_up, prepare};
use gonvel_connectors::postgres::source::SourceSettings;
use gonvel_core::connector::{CapturedTable, InitialLoad};
use gonvel_core::naming::{ConnectorId, Epoch};
use gonvel_core::ports::DatabaseAddress;
use gonvel_stand_ins::postgres_cluster::OWNER;
use gonvel_stand_ins::test_cluster::TestCluster;
use tokio_postgres::Client;
use uuid::Uuid;

/// The slot and what the publication sends.
async fn made(client: &Client) -> (String, Vec<String>) {
    let slot = client.query_one("SELECT string_agg(slot_name || confirmed_flush_lsn, ',') FROM pg_replication_slots", &[]);
    let tables = client.query("SELECT tablename::text FROM pg_publication_tables ORDER BY 1", &[]);
    (slot.await.unwrap().get(0), tables.await.unwrap().iter().map(|row| row.get(0)).collect())
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_former_holder_of_the_lane_drops_no_slot_and_changes_no_publication() {
    let cluster = TestCluster::start(&["packhouse"]).await;
    let client = cluster.connect("packhouse").await.unwrap();
    client.batch_execute("CREATE TABLE bins (id int PRIMARY KEY); CREATE TABLE lines (id int PRIMARY KEY)").await.unwrap();
    let table = |name: &str| CapturedTable::whole("public", name, name);
    let settings = |epoch: i64, tables: Vec<CapturedTable>| SourceSettings {
        connector: ConnectorId(Uuid::from_u128(7)),
        epoch: Epoch(epoch),
        void: None,
        address: DatabaseAddress::new("127.0.0.1", cluster.port, "packhouse", OWNER, &cluster.password),
        tables,
        patterns: None,
        load: InitialLoad::default(),
        whole_rows: false,
        fetches_unsent: false,
        start: None,
        silence: Duration::from_secs(10),
    };
    // frozen before it made anything, it wakes when another has
    let frozen = settings(4, vec![table("lines")]);
    let mut position = prepare(&settings(5, vec![table("bins")])).await.unwrap();
    let before = made(&client).await;
    assert_eq!(before.1, ["bins"]);
    let late = prepare(&frozen).await;
    assert!(matches!(late, Err(ConnectorError::Later { epoch: 5 })), "{late:?}");
    let late = change_tables(&frozen, &mut position, &["public.lines".to_owned()], &["public.bins".to_owned()], &[]).await;
    assert!(matches!(late, Err(ConnectorError::Later { epoch: 5 })), "{late:?}");
    assert_eq!(made(&client).await, before);

    // the same and later ones go on
    for epoch in [5, 9] {
        let both = settings(epoch, vec![table("bins"), table("lines")]);
        change_tables(&both, &mut position, &["public.lines".to_owned()], &[], &[]).await.unwrap();
        assert_eq!(made(&client).await, (before.0.clone(), vec!["bins".to_owned(), "lines".to_owned()]));
    }
    let late = change_tables(&settings(5, vec![table("bins")]), &mut position, &[], &["public.lines".to_owned()], &[]).await;
    assert!(matches!(late, Err(ConnectorError::Later { epoch: 9 })), "{late:?}");
    // but for what a log noted that was rolled back since
    let void = SourceSettings { void: Some(Epoch(9)), ..settings(5, vec![table("lines")]) };
    prepare(&void).await.unwrap();
    let after = made(&client).await;
    assert!(after.0 != before.0 && after.1 == ["lines"], "{after:?}");
    clean_up(&void.address, void.connector).await.unwrap();
}
