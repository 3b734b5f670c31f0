//! Changes of tables' columns: told in a topic in order with the rows, and carried into targets as far as each sink may.

use std::time::{Duration, Instant};

use crate::support::{World, loads, rows, topic_changes};
use gonvel_core::connector::{BadRecords, ExistingRows, State, TargetColumns};
use gonvel_core::naming::TopicName;
use gonvel_core::ports::TopicLog;
use gonvel_storage::catalog::history::LineFilter;

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn changes_of_columns_are_told_once_and_reach_targets_without_a_stop() {
    let world = World::new().await;
    let source = world.cluster.connect("packhouse").await.unwrap();
    let target = world.cluster.connect("settlement").await.unwrap();
    source
        .batch_execute(
            "CREATE TABLE bins (id bigint PRIMARY KEY, grade varchar(6), room smallint);
             INSERT INTO bins SELECT n, 'first', n FROM generate_series(1, 50) n",
        )
        .await
        .unwrap();
    let mut definition = world.source(&["bins"], 2).await;
    definition.schema_changes = Some("packhouse.schema-changes".into());
    let mut fleet = world.fleet();
    let from = world.connector("from-packhouse", definition).await;
    let mut sinks = Vec::new();
    for (name, columns) in [("ask", TargetColumns::Ask), ("add", TargetColumns::Add), ("widen", TargetColumns::Widen)] {
        let mut sink = world.sink(&["bins"]).await;
        (sink.writes.columns, sink.topics[0].schema) = (columns, name.into());
        sink.failing.records = BadRecords::Halt;
        sinks.push(world.connector(&format!("to-{name}"), sink).await);
    }
    world.until_state(from, State::Following).await;

    let steps = [
        "ALTER TABLE bins ADD COLUMN weight numeric(7,1); UPDATE bins SET weight = 2.5 WHERE id <= 10",
        "ALTER TABLE bins ALTER room TYPE integer, ALTER grade TYPE text; UPDATE bins SET room = 7 WHERE id = 11",
        "ALTER TABLE bins RENAME COLUMN weight TO net_weight; UPDATE bins SET net_weight = 3.5 WHERE id = 12",
        "ALTER TABLE bins DROP COLUMN grade; INSERT INTO bins (id, room, net_weight) VALUES (51, 8, 4.5)",
    ];
    for (number, step) in steps.iter().enumerate() {
        source.batch_execute(step).await.unwrap();
        if number == 1 {
            // whoever goes on after a crash does not tell it twice, nor forget it
            drop(fleet);
            fleet = world.fleet();
        }
        let start = Instant::now();
        while topic_changes(&world.database, "packhouse.schema-changes").await.len() <= number {
            assert!(start.elapsed() < Duration::from_secs(30), "step {number} was not told");
            tokio::time::sleep(Duration::from_millis(100)).await;
        }
    }
    source.batch_execute("UPDATE bins SET room = 90000 WHERE id = 13").await.unwrap();
    let told = topic_changes(&world.database, "packhouse.schema-changes").await;
    let statements: Vec<String> =
        told.iter().map(|t| t["statement"].as_str().unwrap().replace(r#"ALTER TABLE "public"."bins" "#, "")).collect();
    assert_eq!(
        statements,
        [
            r#"ADD COLUMN "weight" numeric(7,1);"#,
            r#"ALTER COLUMN "grade" TYPE text; ALTER COLUMN "room" TYPE integer;"#,
            r#"RENAME COLUMN "weight" TO "net_weight";"#,
            r#"DROP COLUMN "grade";"#,
        ]
    );
    let first = &told[0];
    assert!(first["by"].is_null() && first["table"] == "bins" && first["changes"][0]["change"] == "added", "{first}");

    // the one that may do it all follows; what the others lack is told, with the statement
    let start = Instant::now();
    // a renamed column is a new one there: values that came under the former name stay under it, and all come under the new one
    let wide = "SELECT (id, room, net_weight)::text FROM widen.bins ORDER BY 1";
    let expected = rows(&source, "(SELECT id, room, net_weight FROM bins)").await;
    loop {
        let found = target.query(wide, &[]).await.map(|r| r.iter().map(|r| r.get::<_, String>(0)).collect::<Vec<_>>());
        if found.as_ref().is_ok_and(|found| *found == expected) {
            break;
        }
        assert!(start.elapsed() < Duration::from_secs(30), "{found:?}");
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
    world.until_state(sinks[2], State::Following).await;
    for (sink, column) in [(sinks[0], "has no column net_weight"), (sinks[1], "room is smallint there and integer comes")] {
        let reason = world.until_state(sink, State::Halted).await;
        assert!(reason.contains("out of range") || reason.contains("smallint"), "{reason}");
        let notes = world.database.find_connector(sink).await.unwrap().said().next().unwrap().notes.join("\n");
        assert!(notes.contains(column) && notes.contains("ALTER TABLE"), "{notes}");
    }
    // carried out by a person, it goes on
    target
        .batch_execute(r#"ALTER TABLE "add".bins ALTER room TYPE integer; ALTER TABLE ask.bins ALTER room TYPE integer"#)
        .await
        .unwrap();
    for sink in &sinks[..2] {
        world.database.ask(*sink, gonvel_core::connector::Wish::Run, "").await.unwrap();
        world.until_state(*sink, State::Following).await;
    }
    let start = Instant::now();
    while rows(&target, r#"(SELECT id, room, net_weight FROM "add".bins)"#).await != expected {
        assert!(start.elapsed() < Duration::from_secs(30));
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
    let asks = target.query("SELECT room FROM ask.bins WHERE id = 13", &[]).await.unwrap();
    assert_eq!(asks[0].get::<_, i32>(0), 90_000);
    fleet.stop().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn rows_from_before_a_change_of_columns_come_with_what_it_gave_them() {
    let world = World::new().await;
    let source = world.cluster.connect("packhouse").await.unwrap();
    let target = world.cluster.connect("settlement").await.unwrap();
    source
        .batch_execute(
            "CREATE TABLE bins (id bigint PRIMARY KEY, grade text, kg numeric(7,1));
             INSERT INTO bins SELECT n, 'first', n / 4.0 FROM generate_series(1, 300) n",
        )
        .await
        .unwrap();
    world.flow(&["bins"], 2).await;
    let mut fleet = world.fleet();
    world.until_equal(&source, &target, &["bins"]).await;
    let loaded = async || loads(&topic_changes(&world.database, "packhouse.bins").await);
    // what comes without values, and what goes, gives rows from before no other ones
    source.batch_execute("ALTER TABLE bins ADD COLUMN note text; UPDATE bins SET note = 'seen' WHERE id = 1").await.unwrap();
    world.until_equal(&source, &target, &["bins"]).await;
    assert_eq!(loaded().await, 300, "rows were loaded again for nothing");

    // a value for all, and one for each
    source
        .batch_execute(
            "ALTER TABLE bins ADD COLUMN site text NOT NULL DEFAULT 'north', ADD COLUMN mark uuid DEFAULT gen_random_uuid();
             INSERT INTO bins (id, site) VALUES (301, 'south')",
        )
        .await
        .unwrap();
    world.until_equal(&source, &target, &["bins"]).await;
    assert!(loaded().await >= 600);

    // while no runner is there: values become others, and a column has another name
    fleet.stop().await;
    source
        .batch_execute(
            "ALTER TABLE bins ALTER kg TYPE numeric(7,0) USING kg * 2; ALTER TABLE bins RENAME COLUMN grade TO quality;
             UPDATE bins SET quality = 'second' WHERE id = 7",
        )
        .await
        .unwrap();
    fleet = world.fleet();
    let (wanted, found) = ("SELECT id, quality, kg, mark FROM bins", "SELECT id, quality, kg::numeric(7,0), mark FROM bins");
    world.until_same((&source, wanted), (&target, found)).await;

    // and where rows are not loaded it is said
    let mut quiet = world.source(&["bins"], 1).await;
    quiet.load.rows = false;
    quiet.tables[0].topic = "packhouse.later".into();
    let quiet = world.connector("only-changes", quiet).await;
    world.until_state(quiet, State::Following).await;
    source.batch_execute("UPDATE bins SET note = 'a'; ").await.unwrap();
    let start = Instant::now();
    while world.database.topic(&TopicName::parse("packhouse.later").unwrap()).await.is_err()
        || topic_changes(&world.database, "packhouse.later").await.len() < 301
    {
        assert!(start.elapsed() < Duration::from_secs(20));
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
    source
        .batch_execute("ALTER TABLE bins ADD COLUMN room int NOT NULL DEFAULT 3; UPDATE bins SET note = 'b' WHERE id = 2")
        .await
        .unwrap();
    let start = Instant::now();
    loop {
        let lines = world.database.lines_of(quiet, &LineFilter::default(), 50).await.unwrap();
        if lines.iter().any(|l| l.says.contains("load the table if they are wanted") && l.facts["columns"] == "room") {
            break;
        }
        assert!(start.elapsed() < Duration::from_secs(20), "{lines:?}");
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
    let later = topic_changes(&world.database, "packhouse.later").await;
    assert!(later.iter().all(|c| c["change"] == "update"), "rows were loaded");
    fleet.stop().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn columns_that_come_without_a_row_that_tells_are_seen() {
    let world = World::new().await;
    let source = world.cluster.connect("packhouse").await.unwrap();
    let target = world.cluster.connect("settlement").await.unwrap();
    source
        .batch_execute(
            "CREATE TABLE bins (id bigint PRIMARY KEY, grade text, remark text, spare text);
             INSERT INTO bins SELECT n, 'first', 'checked', 'x' FROM generate_series(1, 300) n",
        )
        .await
        .unwrap();
    world.flow(&["bins"], 2).await;
    let mut fleet = world.fleet();
    world.until_equal(&source, &target, &["bins"]).await;
    let loaded = async || loads(&topic_changes(&world.database, "packhouse.bins").await);
    // one that goes, and one that comes empty, give rows no other values
    source.batch_execute("ALTER TABLE bins DROP COLUMN spare").await.unwrap();
    fleet.stop().await;
    fleet = world.fleet();
    source.batch_execute("UPDATE bins SET grade = 'second' WHERE id = 1").await.unwrap();
    let same = "SELECT id, grade, remark FROM bins";
    world.until_same((&source, same), (&target, same)).await;
    source.batch_execute("ALTER TABLE bins ADD COLUMN note text").await.unwrap();
    fleet.stop().await;
    fleet = world.fleet();
    source.batch_execute("UPDATE bins SET note = 'seen' WHERE id = 2").await.unwrap();
    let same = "SELECT id, grade, remark, note FROM bins";
    world.until_same((&source, same), (&target, same)).await;
    assert_eq!(loaded().await, 300, "rows were loaded again for nothing");

    // one with a value for all, while it follows
    source.batch_execute("ALTER TABLE bins ADD COLUMN site text NOT NULL DEFAULT 'north'").await.unwrap();
    let same = "SELECT id, grade, remark, note, site FROM bins";
    world.until_same((&source, same), (&target, same)).await;

    // one in place of another with its name and type, while no runner is there: the same columns, and other values
    fleet.stop().await;
    source.batch_execute("ALTER TABLE bins DROP COLUMN remark; ALTER TABLE bins ADD COLUMN remark text").await.unwrap();
    fleet = world.fleet();
    world.until_same((&source, same), (&target, same)).await;
    assert_eq!(loaded().await, 900, "loaded more often than values changed");
    fleet.stop().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn they_come_through_a_shape_as_well() {
    let world = World::new().await;
    let source = world.cluster.connect("packhouse").await.unwrap();
    let target = world.cluster.connect("settlement").await.unwrap();
    source
        .batch_execute(
            "CREATE TABLE bins (id bigint PRIMARY KEY, grade text, kg numeric(7,1));
             INSERT INTO bins SELECT n, 'first', n / 4.0 FROM generate_series(1, 300) n",
        )
        .await
        .unwrap();
    let mut definition = world.source(&["bins"], 2).await;
    let steps =
        serde_json::json!([{"step": "drop", "columns": ["grade"]}, {"step": "compute", "column": "kg", "value": "kg * 2"}]);
    definition.shape.steps = [("public.bins".to_owned(), serde_json::from_value(steps).unwrap())].into();
    world.connector("from-packhouse", definition).await;
    world.connector("to-settlement", world.sink(&["bins"]).await).await;
    let mut fleet = world.fleet();
    let same = async |columns: &str| {
        let (wanted, found) = (format!("SELECT id, kg * 2{columns} FROM bins"), format!("SELECT id, kg{columns} FROM bins"));
        world.until_same((&source, &wanted), (&target, &found)).await;
    };
    same("").await;
    source
        .batch_execute(
            "ALTER TABLE bins ADD COLUMN site text NOT NULL DEFAULT 'north'; INSERT INTO bins (id, kg) VALUES (301, 1)",
        )
        .await
        .unwrap();
    same(", site").await;
    fleet.stop().await;
    source
        .batch_execute("ALTER TABLE bins ADD COLUMN floor int NOT NULL DEFAULT 2; UPDATE bins SET floor = 3 WHERE id = 7")
        .await
        .unwrap();
    fleet = world.fleet();
    same(", site, floor").await;
    fleet.stop().await;
}

/// What the newest records of the topic look like says nothing of what was told: after a load they are rows of any shape.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_change_of_columns_is_told_though_a_load_brought_them_first() {
    const TOLD: &str = "packhouse.schema-changes";
    let world = World::new().await;
    let source = world.cluster.connect("packhouse").await.unwrap();
    let insert = |from: i32| format!("INSERT INTO bins SELECT n, 'first' FROM generate_series({from}, {}) n", from + 49);
    let table = "CREATE TABLE bins (id bigint PRIMARY KEY, grade varchar(6))";
    source.batch_execute(&format!("{table}; {}", insert(1))).await.unwrap();
    let mut definition = world.source(&["bins"], 1).await;
    definition.schema_changes = Some(TOLD.into());
    let from = world.connector("from-packhouse", definition).await;
    let until = async |records: usize| {
        let start = Instant::now();
        while topic_changes(&world.database, "packhouse.bins").await.len() < records {
            assert!(start.elapsed() < Duration::from_secs(30), "fewer than {records} records");
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
    };
    let fleet = world.fleet();
    world.until_state(from, State::Following).await;
    until(50).await;
    fleet.stop().await;
    // the column comes while nothing runs, and rows with it are loaded before any change of one
    source.batch_execute("ALTER TABLE bins ADD COLUMN weight numeric(7,1)").await.unwrap();
    world.database.ask_to_load_again(from, &["public.bins".to_owned()], ExistingRows::Keep).await.unwrap();
    let fleet = world.fleet();
    until(100).await;
    world.until_state(from, State::Following).await;
    fleet.stop().await;
    assert!(topic_changes(&world.database, TOLD).await.is_empty(), "rows of a load tell nothing");
    let fleet = world.fleet();
    source.batch_execute("UPDATE bins SET weight = 2.5 WHERE id = 1").await.unwrap();
    until(101).await;
    source.batch_execute("UPDATE bins SET weight = 3.5 WHERE id = 1").await.unwrap();
    until(102).await;
    let told = topic_changes(&world.database, TOLD).await;
    let statements: Vec<&str> = told.iter().map(|t| t["statement"].as_str().unwrap()).collect();
    assert_eq!(statements, [r#"ALTER TABLE "public"."bins" ADD COLUMN "weight" numeric(7,1);"#]);
    fleet.stop().await;
}
