//! A table that is made anew while rows of the one before are on their way, and whoever carries them is stopped at the worst moment.

use std::time::Duration;

use gonvel_connectors::postgres::publication::differences;
use gonvel_connectors::postgres::slot::{change_tables, clean_up, prepare};
use gonvel_connectors::postgres::source::{Captured, PgSource, SourceSettings};
use gonvel_core::change::ChangeKind;
use gonvel_core::connector::{CapturedTable, InitialLoad};
use gonvel_core::naming::{ConnectorId, Epoch};
use gonvel_core::ports::DatabaseAddress;
use gonvel_stand_ins::postgres_cluster::OWNER;
use gonvel_stand_ins::test_cluster::TestCluster;
use uuid::Uuid;

async fn next(source: &mut PgSource) -> Captured {
    tokio::time::timeout(Duration::from_secs(20), source.next()).await.unwrap().unwrap().unwrap()
}

fn kinds(captured: &Captured) -> Vec<ChangeKind> {
    captured.changes.iter().flat_map(|changes| changes.batch.kinds.clone()).collect()
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_went_with_the_table_before_is_told_though_the_session_ends_between() {
    let cluster = TestCluster::start(&["packhouse"]).await;
    let client = cluster.connect("packhouse").await.unwrap();
    client.batch_execute("CREATE TABLE bins (id int PRIMARY KEY)").await.unwrap();
    let settings = SourceSettings {
        connector: ConnectorId(Uuid::from_u128(7)),
        epoch: Epoch(1),
        void: None,
        address: DatabaseAddress::new("127.0.0.1", cluster.port, "packhouse", OWNER, &cluster.password),
        tables: vec![CapturedTable::whole("public", "bins", "packhouse.bins")],
        patterns: None,
        load: InitialLoad { rows: false, ..InitialLoad::default() },
        whole_rows: false,
        fetches_unsent: false,
        start: None,
        silence: Duration::from_secs(10),
    };
    let mut position = prepare(&settings).await.unwrap();
    client.batch_execute("INSERT INTO bins VALUES (1)").await.unwrap();
    client.batch_execute("INSERT INTO bins VALUES (2)").await.unwrap();
    // the other one has other columns: rows of both stand in no batch together
    client.batch_execute("DROP TABLE bins; CREATE TABLE bins (id int PRIMARY KEY, grade text)").await.unwrap();
    let new = differences(&client, &settings).await.unwrap().new;
    assert_eq!(new, ["public.bins"]);
    change_tables(&settings, &mut position, &new, &[], &new).await.unwrap();
    client.batch_execute("INSERT INTO bins VALUES (3, 'first')").await.unwrap();

    let mut told = Vec::new();
    // whoever takes a batch is stopped after it, and another goes on from there
    while told.len() < 4 {
        let mut source = PgSource::start(settings.clone(), position.clone()).await.unwrap();
        // all of it is there before any is taken
        tokio::time::sleep(Duration::from_millis(500)).await;
        let captured = next(&mut source).await;
        told.extend(kinds(&captured));
        position = captured.position;
    }
    assert_eq!(told, [ChangeKind::Insert, ChangeKind::Insert, ChangeKind::Truncate, ChangeKind::Insert]);
    clean_up(&settings.address, settings.connector).await.unwrap();
}
