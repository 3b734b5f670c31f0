//! Loads as they are asked for: a table again while others are followed, none at all, at a pace, by a second login.
#![allow(clippy::cast_precision_loss, reason = "counts far below 2^52")]

use std::time::{Duration, Instant};

use crate::support::{TABLES, World, loads, topic_changes, write};
use gonvel_connectors::postgres::address::Login;
use gonvel_core::connector::{ExistingRows, SourceDefinition, State, Wish};
use gonvel_core::secret::Secret;
use gonvel_core::table_patterns::TablePatterns;
use tokio_postgres::Client;

const BINS: &str = "INSERT INTO bins SELECT n, n % 500 / 10.0, 'second', repeat('r', 2500), '2026-10-01', n % 60 FROM generate_series(1, 3000) n;
    INSERT INTO lines SELECT n, 1, n % 9 / 10.0 FROM generate_series(1, 500) n";

async fn begun(world: &World) -> (Client, Client) {
    let source = world.cluster.connect("packhouse").await.unwrap();
    source.batch_execute(&format!("{TABLES} CREATE SEQUENCE numbers; {BINS}")).await.unwrap();
    (source, world.cluster.connect("settlement").await.unwrap())
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_table_is_loaded_again_under_changes_and_restarts_and_mends_what_its_target_lost() {
    let world = World::new().await;
    let (source, target) = begun(&world).await;
    let mut fleet = world.fleet();
    let (from, to) = world.flow(&["bins", "lines"], 3).await;
    world.until_equal(&source, &target, &["bins", "lines"]).await;
    let before = topic_changes(&world.database, "packhouse.bins").await.len();

    // a person empties the target's tables; what comes by following alone never brings the rows back
    world.database.ask(to, Wish::Pause, "").await.unwrap();
    world.until_state(to, State::Paused).await;
    target
        .batch_execute("DELETE FROM bins WHERE id % 3 = 0; UPDATE bins SET grade = 'lost' WHERE id % 3 = 1")
        .await
        .unwrap();
    world.database.ask(to, Wish::Run, "").await.unwrap();
    let mut writers = Vec::new();
    for seed in 1..=2 {
        writers.push(tokio::spawn(write(world.cluster.connect("packhouse").await.unwrap(), 200, seed)));
    }
    for round in 0..3 {
        world.database.ask_to_load_again(from, &["public.bins".to_owned()], ExistingRows::Keep).await.unwrap();
        world.database.start_anew(&[from]).await.unwrap();
        tokio::time::sleep(Duration::from_millis(400)).await;
        if round == 1 {
            // the runner goes away in the middle of it, and what was asked is not asked twice
            fleet.stop().await;
            fleet = world.fleet();
        }
    }
    for writer in writers {
        writer.await.unwrap();
    }
    world.until_equal(&source, &target, &["bins", "lines"]).await;
    world.until_state(from, State::Following).await;
    let changes = topic_changes(&world.database, "packhouse.bins").await;
    assert!(loads(&changes) >= before + 2_000, "{} loads", loads(&changes));
    // every row of the source is there as its last record says
    assert_eq!(loads(&topic_changes(&world.database, "packhouse.lines").await), 500, "the other table was not loaded again");
    let asked = changes.len();
    fleet.stop().await;
    let fleet = world.fleet();
    world.until_state(from, State::Following).await;
    source.batch_execute("UPDATE bins SET room = 77").await.unwrap();
    world.until_equal(&source, &target, &["bins", "lines"]).await;
    let after = topic_changes(&world.database, "packhouse.bins").await;
    assert_eq!(loads(&after), loads(&changes), "a restart loads nothing again");
    assert!(after.len() > asked);
    fleet.stop().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_table_that_is_altered_while_it_loads_comes_whole_though_no_row_changes_after_that() {
    let mut world = World::new().await;
    let source = world.cluster.connect("packhouse").await.unwrap();
    let target = world.cluster.connect("settlement").await.unwrap();
    // written anew with a value for each row; given one for all without that; and changed by the one who alters it
    let tables = ["anew", "filled", "mixed"];
    for table in tables {
        source
            .batch_execute(&format!(
                "CREATE TABLE {table} (id bigint PRIMARY KEY, note text, room smallint);
                 INSERT INTO {table} SELECT n, repeat('n', 400), n % 60 FROM generate_series(1, 2000) n"
            ))
            .await
            .unwrap();
    }
    world.load.rows_per_second = Some(1_000);
    let (from, _) = world.flow(&tables, 2).await;
    let fleet = world.fleet();
    world.until_state(from, State::Loading).await;
    for table in tables {
        // some of it is loaded, and some is not
        let start = Instant::now();
        let loaded = async || loads(&topic_changes(&world.database, &format!("packhouse.{table}")).await);
        while loaded().await == 0 {
            assert!(start.elapsed() < Duration::from_secs(60), "{table} is not being loaded");
            tokio::time::sleep(Duration::from_millis(20)).await;
        }
        let alter = match table {
            "anew" => "ALTER TABLE anew ADD COLUMN mark uuid NOT NULL DEFAULT gen_random_uuid()",
            "filled" => "ALTER TABLE filled ADD COLUMN site text NOT NULL DEFAULT 'north'",
            _ => {
                "BEGIN; INSERT INTO mixed SELECT n, 'late' FROM generate_series(5001, 5100) n; ALTER TABLE mixed ALTER room TYPE smallint USING room + 1;
                 UPDATE mixed SET note = 'turned' WHERE id % 100 = 0; DELETE FROM mixed WHERE id % 100 = 1; COMMIT"
            }
        };
        source.batch_execute(alter).await.unwrap();
        assert!(loaded().await < 2_000, "{table} was loaded before it was altered");
    }
    world.until_equal(&source, &target, &tables).await;
    world.until_state(from, State::Following).await;
    fleet.stop().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn without_an_initial_load_only_what_changes_is_captured() {
    let mut world = World::new().await;
    world.load.rows = false;
    let (source, target) = begun(&world).await;
    let fleet = world.fleet();
    let (from, _) = world.flow(&["bins", "lines"], 2).await;
    world.until_state(from, State::Following).await;
    source
        .batch_execute("UPDATE bins SET grade = 'first' WHERE id <= 10; DELETE FROM lines WHERE consignment_id = 1")
        .await
        .unwrap();
    let start = Instant::now();
    while topic_changes(&world.database, "packhouse.bins").await.len() < 10 {
        assert!(start.elapsed() < Duration::from_secs(30));
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
    let changes = topic_changes(&world.database, "packhouse.bins").await;
    assert!(changes.iter().all(|c| c["change"] == "update"), "{changes:?}");
    // asked for later, the rows come after all
    let all = ["public.bins".to_owned(), "public.lines".to_owned()];
    world.database.ask_to_load_again(from, &all, ExistingRows::Keep).await.unwrap();
    world.database.start_anew(&[from]).await.unwrap();
    world.until_equal(&source, &target, &["bins", "lines"]).await;
    fleet.stop().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_load_keeps_its_pace_and_changes_do_not_wait_for_it() {
    let mut world = World::new().await;
    world.load.rows_per_second = Some(600);
    let source = world.cluster.connect("packhouse").await.unwrap();
    source
        .batch_execute(
            "CREATE ROLE tail LOGIN REPLICATION PASSWORD 'pippin'; CREATE TABLE bins (id bigint PRIMARY KEY, grade text);
             INSERT INTO bins SELECT n, 'second' FROM generate_series(1, 3000) n; ANALYZE bins",
        )
        .await
        .unwrap();
    // another login reads the log: the connection's own may not even replicate in some sites
    world.log_login = Some(Login { user: "tail".into(), password: Secret::new("pippin".into()) });
    let fleet = world.fleet();
    let start = Instant::now();
    let (from, _) = world.flow(&["bins"], 1).await;
    world.until_state(from, State::Loading).await;
    source.batch_execute("UPDATE bins SET grade = 'first' WHERE id = 3000").await.unwrap();
    let mut seen_while_loading = false;
    loop {
        let lane = world.database.find_connector(from).await.unwrap().said().next().unwrap().clone();
        let progress = lane.tables["public.bins"].clone();
        if let (Some(done), Some(total)) = (progress.load_done, progress.load_total) {
            assert!(done <= 3_000 && (total == 0 || total == 3_000), "{progress:?}");
            seen_while_loading |= progress.counts.update > 0 && done > 0;
        }
        if lane.state == State::Following {
            break;
        }
        assert!(start.elapsed() < Duration::from_secs(60), "{lane:?}");
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
    // 3,000 rows at 600 a second
    assert!(start.elapsed() > Duration::from_secs(4), "{:?}", start.elapsed());
    assert!(seen_while_loading, "the change waited for the load");
    let user = "SELECT usename::text FROM pg_stat_replication";
    assert_eq!(source.query_one(user, &[]).await.unwrap().get::<_, String>(0), "tail");
    world.database.ask(from, Wish::Delete, "").await.unwrap();
    let left = "SELECT (SELECT count(*) FROM pg_replication_slots) + (SELECT count(*) FROM pg_publication)";
    while source.query_one(left, &[]).await.unwrap().get::<_, i64>(0) > 0 {
        assert!(start.elapsed() < Duration::from_secs(90), "something was left behind");
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
    fleet.stop().await;
}

/// A row that is changed while its table is loaded comes with the change alone: also where a column of it is gone by then.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_large_column_that_is_dropped_while_loading_takes_no_row_with_it() {
    let mut world = World::new().await;
    world.load.rows_per_second = Some(500);
    let source = world.cluster.connect("packhouse").await.unwrap();
    let target = world.cluster.connect("settlement").await.unwrap();
    source
        .batch_execute(
            "CREATE TABLE bins (id bigint PRIMARY KEY, grade text, doc text, other text);
             ALTER TABLE bins ALTER doc SET STORAGE EXTERNAL; ALTER TABLE bins ALTER other SET STORAGE EXTERNAL;
             INSERT INTO bins SELECT n, 'second', repeat('doc', 1000), repeat('other', 600) FROM generate_series(1, 2000) n; ANALYZE bins",
        )
        .await
        .unwrap();
    let fleet = world.fleet();
    let (from, _) = world.flow(&["bins"], 1).await;
    world.until_state(from, State::Loading).await;
    source
        .batch_execute("BEGIN; UPDATE bins SET grade = 'first' WHERE id > 1990; DELETE FROM bins WHERE id > 1998; ALTER TABLE bins DROP COLUMN doc; COMMIT")
        .await
        .unwrap();
    let wanted = "SELECT id, grade, other FROM bins";
    world.until_same((&source, wanted), (&target, wanted)).await;
    fleet.stop().await;
}

/// What a transaction under way writes comes by the stream when it ends, whether it writes it itself or in a part of it.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_is_written_in_a_savepoint_while_a_load_begins_comes_once() {
    let world = World::new().await;
    let source = world.cluster.connect("packhouse").await.unwrap();
    source
        .batch_execute("CREATE TABLE bins (id bigint PRIMARY KEY, grade text); INSERT INTO bins SELECT n, 'a' FROM generate_series(1, 50) n")
        .await
        .unwrap();
    let fleet = world.fleet();
    let from = world.connector("from-packhouse", world.source(&["bins"], 1).await).await;
    world.until_state(from, State::Following).await;
    let writer = world.cluster.connect("packhouse").await.unwrap();
    writer
        .batch_execute(
            "BEGIN; INSERT INTO bins VALUES (101, 'itself'); SAVEPOINT one; INSERT INTO bins VALUES (102, 'within');
             RELEASE SAVEPOINT one; SAVEPOINT two; INSERT INTO bins VALUES (103, 'within')",
        )
        .await
        .unwrap();
    // later numbers are given out meanwhile
    source.batch_execute("INSERT INTO bins VALUES (201, 'others')").await.unwrap();
    world.database.ask_to_load_again(from, &["public.bins".to_owned()], ExistingRows::Keep).await.unwrap();
    world.database.start_anew(&[from]).await.unwrap();
    let start = Instant::now();
    let began =
        "SELECT 1 FROM pg_stat_activity WHERE application_name LIKE 'gonvel%' AND query LIKE '%pg_logical_emit_message%'";
    // it has begun, and waits for the transaction or not
    while source.query_opt(began, &[]).await.unwrap().is_none() && start.elapsed() < Duration::from_secs(3) {
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    writer.batch_execute("COMMIT").await.unwrap();
    loop {
        let changes = topic_changes(&world.database, "packhouse.bins").await;
        let of = |id: i64| changes.iter().filter(|c| c["new"]["id"] == id).count();
        if of(50) == 2 && of(103) > 0 {
            world.until_state(from, State::Following).await;
            let changes = topic_changes(&world.database, "packhouse.bins").await;
            let of = |id: i64| changes.iter().filter(|c| c["new"]["id"] == id).count();
            assert_eq!([101, 102, 103].map(of), [1, 1, 1], "{changes:?}");
            break;
        }
        assert!(start.elapsed() < Duration::from_secs(60), "{changes:?}");
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    fleet.stop().await;
}

/// A file that is made while an older transaction runs has rows that look as if the stream brought them.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_table_that_is_rewritten_before_it_is_taken_in_is_not_loaded_empty() {
    let world = World::new().await;
    let source = world.cluster.connect("packhouse").await.unwrap();
    let target = world.cluster.connect("settlement").await.unwrap();
    let patterns = TablePatterns { include: vec!["public.*".into()], exclude: vec![], topic: "packhouse.{table}".into() };
    let definition = SourceDefinition { patterns: Some(patterns), ..world.source(&[], 1).await };
    let fleet = world.fleet();
    let from = world.connector("all", definition).await;
    world.until_state(from, State::Following).await;
    source.batch_execute("CREATE TABLE bins (id bigint PRIMARY KEY, n int)").await.unwrap();
    let older = world.cluster.connect("packhouse").await.unwrap();
    older.batch_execute("BEGIN; CREATE TABLE holds_a_number (id int)").await.unwrap();
    source.batch_execute("INSERT INTO bins SELECT n, n FROM generate_series(1, 300) n").await.unwrap();
    let start = Instant::now();
    let published = "SELECT 1 FROM pg_publication_tables WHERE tablename = 'bins'";
    while source.query_opt(published, &[]).await.unwrap().is_none() {
        assert!(start.elapsed() < Duration::from_secs(30));
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    world.until_state(from, State::Loading).await;
    source.batch_execute("ALTER TABLE bins ALTER n TYPE bigint").await.unwrap();
    older.batch_execute("ROLLBACK").await.unwrap();
    world.connector("to-settlement", world.sink(&["bins"]).await).await;
    world.until_equal(&source, &target, &["bins"]).await;
    fleet.stop().await;
}
