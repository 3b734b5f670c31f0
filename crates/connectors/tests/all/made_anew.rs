//! A table that is made anew, or has another name for a while, while rows of it are on their way.

use std::time::Duration;

use crate::bins_and_lines::{sent, settings};
use gonvel_connectors::error::ConnectorError;
use gonvel_connectors::postgres::publication::differences;
use gonvel_connectors::postgres::slot::{change_tables, clean_up, prepare};
use gonvel_connectors::postgres::source::{Captured, PgSource};
use gonvel_core::change::ChangeKind;
use gonvel_stand_ins::test_cluster::TestCluster;

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
    let mut settings = settings(&cluster, 1, &["bins"]);
    settings.load.rows = false;
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

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_table_that_was_made_anew_since_it_was_looked_is_not_sent_without_a_mark() {
    let cluster = TestCluster::start(&["packhouse"]).await;
    let client = cluster.connect("packhouse").await.unwrap();
    client.batch_execute("CREATE TABLE bins (id int PRIMARY KEY)").await.unwrap();
    let mut position = prepare(&settings(&cluster, 1, &["bins"])).await.unwrap();
    let both = settings(&cluster, 1, &["bins", "lines"]);
    client.batch_execute("CREATE TABLE lines (id int PRIMARY KEY)").await.unwrap();
    let found = differences(&client, &both).await.unwrap();
    assert_eq!(found.new, ["public.lines"]);
    client.batch_execute("DROP TABLE bins; CREATE TABLE bins (id int PRIMARY KEY)").await.unwrap();
    let late = change_tables(&both, &mut position, &found.new, &[], &[]).await;
    assert!(matches!(&late, Err(ConnectorError::TryAgain { .. })), "{late:?}");
    assert_eq!(sent(&client).await, [] as [String; 0]);
    let found = differences(&client, &both).await.unwrap();
    assert_eq!(found.new, ["public.bins", "public.lines"]);
    change_tables(&both, &mut position, &found.new, &[], &["public.bins".to_owned()]).await.unwrap();
    assert_eq!(sent(&client).await, ["bins", "lines"]);
    clean_up(&both.address, both.connector).await.unwrap();
}

/// What a table brings under another name is its own, where it has its name again by the time that is read.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_a_table_brings_while_it_has_another_name_is_told_under_its_own() {
    let cluster = TestCluster::start(&["packhouse"]).await;
    let client = cluster.connect("packhouse").await.unwrap();
    client
        .batch_execute("CREATE TABLE bins (id int PRIMARY KEY, grade text); ALTER TABLE bins REPLICA IDENTITY FULL")
        .await
        .unwrap();
    let mut settings = settings(&cluster, 1, &["bins"]);
    settings.load.rows = false;
    let position = prepare(&settings).await.unwrap();
    for statement in [
        "INSERT INTO bins VALUES (1, 'first')",
        "ALTER TABLE bins RENAME TO bins_before",
        "INSERT INTO bins_before VALUES (2, 'first')",
        "UPDATE bins_before SET grade = 'second' WHERE id = 1",
        "ALTER TABLE bins_before RENAME TO bins",
        "DELETE FROM bins WHERE id = 2",
    ] {
        client.batch_execute(statement).await.unwrap();
    }
    let mut source = PgSource::start(settings.clone(), position).await.unwrap();
    let mut told = Vec::new();
    while told.last() != Some(&ChangeKind::Delete) {
        told.extend(kinds(&next(&mut source).await));
    }
    assert_eq!(told, [ChangeKind::Insert, ChangeKind::Insert, ChangeKind::Update, ChangeKind::Delete]);
    drop(source);
    clean_up(&settings.address, settings.connector).await.unwrap();
}
