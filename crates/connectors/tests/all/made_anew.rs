//! A table that is made anew, or has another name for a while, while rows of it are on their way.

use std::time::Duration;

use crate::bins_and_lines::{sent, settings};
use gonvel_connectors::postgres::position::PgPosition;
use gonvel_connectors::postgres::publication::differences;
use gonvel_connectors::postgres::slot::{change_tables, clean_up, prepare};
use gonvel_connectors::postgres::source::{PgSource, PgSourceSettings};
use gonvel_core::change::ChangeKind;
use gonvel_core::column::Value;
use gonvel_core::ports::systems::{Captured, ConnectorError};
use gonvel_core::table_patterns::TablePatterns;
use gonvel_stand_ins::test_cluster::TestCluster;
use tokio_postgres::Client;

async fn next(source: &mut PgSource) -> Captured {
    tokio::time::timeout(Duration::from_secs(20), source.next()).await.unwrap().unwrap().unwrap()
}

fn kinds(captured: &Captured) -> Vec<ChangeKind> {
    captured.changes.iter().flat_map(|changes| changes.batch.kinds.clone()).collect()
}

/// A captured position as it is stored.
fn stored(captured: &Captured) -> PgPosition {
    serde_json::from_value(captured.position.stored().unwrap()).unwrap()
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
    let new = differences(&client, &settings, &position.numbers).await.unwrap().new;
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
        position = stored(&captured);
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
    let found = differences(&client, &both, &position.numbers).await.unwrap();
    assert_eq!(found.new, ["public.lines"]);
    client.batch_execute("DROP TABLE bins; CREATE TABLE bins (id int PRIMARY KEY)").await.unwrap();
    let late = change_tables(&both, &mut position, &found.new, &[], &[]).await;
    assert!(matches!(&late, Err(ConnectorError::TryAgain { .. })), "{late:?}");
    assert_eq!(sent(&client).await, [] as [String; 0]);
    let found = differences(&client, &both, &position.numbers).await.unwrap();
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

/// A source of `bins` and `lines`, which loads nothing, and a session in it.
async fn two_tables() -> (TestCluster, Client, PgSourceSettings) {
    let cluster = TestCluster::start(&["packhouse"]).await;
    let client = cluster.connect("packhouse").await.unwrap();
    let make = "CREATE TABLE bins (id bigint PRIMARY KEY); CREATE TABLE lines (id bigint PRIMARY KEY)";
    client.batch_execute(make).await.unwrap();
    let mut settings = settings(&cluster, 1, &["bins", "lines"]);
    settings.load.rows = false;
    (cluster, client, settings)
}

/// Gives `bins` and `lines` each other's name.
const EXCHANGE: &str = "BEGIN; ALTER TABLE bins RENAME TO bins_before; ALTER TABLE lines RENAME TO bins; ALTER TABLE bins_before RENAME TO lines; COMMIT";

/// The rows that are told, each with its table's place, up to so many.
async fn told(source: &mut PgSource, count: usize) -> Vec<(usize, ChangeKind, Option<i64>)> {
    let mut told = Vec::new();
    while told.len() < count {
        for changes in next(source).await.changes {
            let batch = &changes.batch;
            told.extend((0..batch.len()).map(|row| {
                let id = match batch.new[0].value(row) {
                    Value::Long(id) => Some(id),
                    _ => None,
                };
                (changes.table, batch.kinds[row], id)
            }));
        }
    }
    told.sort_by_key(|(table, ..)| *table);
    told
}

/// The log calls a table as it was called then: under the name of another one that is captured as well, if they were exchanged.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn tables_that_have_each_others_names_for_a_while_keep_their_rows() {
    let (_cluster, client, settings) = two_tables().await;
    let position = prepare(&settings).await.unwrap();
    for statement in [
        "INSERT INTO bins VALUES (1)",
        EXCHANGE,
        "INSERT INTO bins VALUES (101); INSERT INTO lines VALUES (2)",
        EXCHANGE,
        "INSERT INTO bins VALUES (3); INSERT INTO lines VALUES (102)",
    ] {
        client.batch_execute(statement).await.unwrap();
    }
    assert_eq!(differences(&client, &settings, &position.numbers).await.unwrap().new, [] as [String; 0]);
    let mut source = PgSource::start(settings.clone(), position).await.unwrap();
    let of = |table: usize, id: i64| (table, ChangeKind::Insert, Some(id));
    assert_eq!(told(&mut source, 5).await, [of(0, 1), of(0, 2), of(0, 3), of(1, 101), of(1, 102)]);
    drop(source);
    clean_up(&settings.address, settings.connector).await.unwrap();
}

/// The publication has both before and after, so it says nothing of it; the session that comes to it ends, and the next one takes each for
/// a new table of its name.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn tables_that_exchanged_their_names_for_good_are_taken_for_new_ones() {
    let (_cluster, client, settings) = two_tables().await;
    let mut position = prepare(&settings).await.unwrap();
    client.batch_execute(EXCHANGE).await.unwrap();
    client.batch_execute("INSERT INTO bins VALUES (101); INSERT INTO lines VALUES (1)").await.unwrap();
    let mut source = PgSource::start(settings.clone(), position.clone()).await.unwrap();
    let ended = tokio::time::timeout(Duration::from_secs(20), source.next()).await.unwrap().unwrap();
    assert!(
        matches!(&ended, Err(ConnectorError::TryAgain { finding, .. }) if finding.contains("is called public.bins now")),
        "{ended:?}"
    );
    drop(source);

    let others = differences(&client, &settings, &position.numbers).await.unwrap().new;
    assert_eq!(others, ["public.bins", "public.lines"]);
    change_tables(&settings, &mut position, &others, &[], &others).await.unwrap();
    assert_eq!(differences(&client, &settings, &position.numbers).await.unwrap().new, [] as [String; 0]);
    client.batch_execute("INSERT INTO bins VALUES (102); INSERT INTO lines VALUES (2)").await.unwrap();
    let mut source = PgSource::start(settings.clone(), position).await.unwrap();
    let told = told(&mut source, 6).await;
    let of = |table: usize, id: i64| (table, ChangeKind::Insert, Some(id));
    let emptied = |table: usize| (table, ChangeKind::Truncate, None);
    assert_eq!(told, [of(0, 101), emptied(0), of(0, 102), of(1, 1), emptied(1), of(1, 2)]);
    drop(source);
    clean_up(&settings.address, settings.connector).await.unwrap();
}

/// What a table wrote under another captured one's name is not that one's, though it is called by a third name now.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_table_that_was_renamed_away_leaves_nothing_under_the_name_it_had_meanwhile() {
    let (_cluster, client, settings) = two_tables().await;
    let position = prepare(&settings).await.unwrap();
    client.batch_execute(EXCHANGE).await.unwrap();
    client.batch_execute("INSERT INTO lines VALUES (1); ALTER TABLE lines RENAME TO former").await.unwrap();
    let mut source = PgSource::start(settings.clone(), position).await.unwrap();
    let ended = tokio::time::timeout(Duration::from_secs(20), source.next()).await.unwrap().unwrap();
    let told = matches!(&ended, Err(ConnectorError::Settings { finding, .. }) if finding.contains("no table public.lines any more, and public.former"));
    assert!(told, "{ended:?}");
    drop(source);
    clean_up(&settings.address, settings.connector).await.unwrap();
}

/// A table whose new name a person puts in the place of the former is the same table, and goes on; found by its new name it is another's, whose
/// topic has none of its rows.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_renamed_table_goes_on_where_it_is_named_and_is_loaded_where_it_is_found() {
    let (cluster, client, _) = two_tables().await;
    let position = prepare(&settings(&cluster, 1, &["bins", "lines"])).await.unwrap();
    client.batch_execute("ALTER TABLE bins RENAME TO sheds").await.unwrap();
    let named = settings(&cluster, 1, &["sheds", "lines"]);
    assert_eq!(differences(&client, &named, &position.numbers).await.unwrap().new, [] as [String; 0]);
    let patterns = TablePatterns { include: vec!["public.*".into()], exclude: vec![], topic: "{table}".into() };
    let mut found = named;
    found.patterns = Some(patterns);
    assert_eq!(differences(&client, &found, &position.numbers).await.unwrap().new, ["public.sheds"]);
    clean_up(&found.address, found.connector).await.unwrap();
}
