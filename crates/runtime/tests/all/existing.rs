//! Rows that are there already when a source or a sink begins: they stay, go first, or go if they did not come.

use std::time::{Duration, Instant};

use gonvel_core::connector::{ExistingRows, Guarantee, SinkDefinition, SourceDefinition, State, ValueForm, Wish};
use gonvel_core::naming::ConnectorId;
use gonvel_core::shape::Shapes;
use serde_json::json;
use tokio_postgres::Client;

use crate::support::{PATIENCE, TABLES, World, rows, topic_changes, write};

const BOTH: [&str; 2] = ["bins", "lines"];

async fn begun() -> (World, Client, Client) {
    let world = World::new().await;
    let source = world.cluster.connect("packhouse").await.unwrap();
    source
        .batch_execute(&format!(
            "{TABLES} CREATE SEQUENCE numbers;
             INSERT INTO bins SELECT n, n % 500 / 10.0, 'second', repeat('r', 2500), '2026-10-01', n % 60 FROM generate_series(1, 2000) n;
             INSERT INTO lines SELECT n, 1, n % 9 / 10.0 FROM generate_series(1, 500) n"
        ))
        .await
        .unwrap();
    let target = world.cluster.connect("settlement").await.unwrap();
    (world, source, target)
}

async fn delete(world: &World, connector: ConnectorId) {
    world.database.ask(connector, Wish::Delete, "").await.unwrap();
    let start = Instant::now();
    while world.database.find_connector(connector).await.is_ok() {
        assert!(start.elapsed() < PATIENCE, "not deleted");
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
}

/// What is in the target and not in the source.
async fn too_many(source: &Client, target: &Client) -> usize {
    rows(target, "(SELECT id FROM bins)").await.len() - rows(source, "(SELECT id FROM bins)").await.len()
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_source_that_is_made_again_lets_rows_go_that_went_while_nobody_looked() {
    let (world, source, target) = begun().await;
    let mut fleet = world.fleet();
    let (mut from, to) = world.flow(&BOTH, 3).await;
    world.until_equal(&source, &target, &BOTH).await;
    let cases = [ExistingRows::Keep, ExistingRows::Empty, ExistingRows::Compare];
    for (number, existing) in cases.into_iter().enumerate() {
        delete(&world, from).await;
        // meanwhile rows go, change, come, and change their key
        let unseen = format!(
            "DELETE FROM bins WHERE id % 7 = {number}; DELETE FROM lines WHERE consignment_id % 5 = {number};
             UPDATE bins SET grade = 'unseen {number}' WHERE id % 7 = 5; UPDATE bins SET id = -id WHERE id % 70 = 6;
             INSERT INTO bins SELECT {number} * 10000 + n, 1, 'new', repeat('n', 2500), '2026-11-01', 1 FROM generate_series(5001, 5100) n"
        );
        source.batch_execute(&unseen).await.unwrap();
        let mut definition = SourceDefinition { existing_rows: Some(existing), ..world.source(&BOTH, 3).await };
        definition.load.rows_per_second = Some(1_500);
        from = world.connector(&format!("again-{number}"), definition).await;
        world.until_state(from, State::Loading).await;
        // rows change while it loads, and its runner goes away
        let writer = tokio::spawn(write(world.cluster.connect("packhouse").await.unwrap(), 150, number as i64 + 1));
        tokio::time::sleep(Duration::from_millis(500)).await;
        fleet.stop().await;
        fleet = world.fleet();
        writer.await.unwrap();
        world.until_state(from, State::Following).await;
        if existing == ExistingRows::Keep {
            world.until_state(to, State::Following).await;
            tokio::time::sleep(Duration::from_secs(1)).await;
            assert!(too_many(&source, &target).await > 200, "what is gone is still there");
            // asked for later it goes as well
            let tables = ["public.bins".to_owned(), "public.lines".to_owned()];
            world.database.ask_to_load_again(from, &tables, ExistingRows::Compare).await.unwrap();
            world.database.start_anew(&[from]).await.unwrap();
        }
        world.until_equal(&source, &target, &BOTH).await;
        world.until_state(from, State::Following).await;
    }
    // what did not change meanwhile, and what others wrote, is not told to be gone
    let deleted = |changes: &[serde_json::Value]| changes.iter().filter(|c| c["change"] == "delete").count();
    let before = deleted(&topic_changes(&world.database, "packhouse.bins").await);
    let tables = ["public.bins".to_owned(), "public.lines".to_owned()];
    for existing in [ExistingRows::Compare, ExistingRows::Empty] {
        world.database.ask_to_load_again(from, &tables, existing).await.unwrap();
        world.database.start_anew(&[from]).await.unwrap();
        let writer = write(world.cluster.connect("packhouse").await.unwrap(), 60, 9);
        let deletes = async {
            writer.await;
            world.until_equal(&source, &target, &BOTH).await;
            world.until_state(from, State::Following).await;
            deleted(&topic_changes(&world.database, "packhouse.bins").await)
        };
        let deletes = deletes.await - before;
        assert!(deletes < 60, "{deletes} deletes, of 60 steps of the writer");
    }
    fleet.stop().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_is_gone_is_told_of_whole_rows_too_and_a_topic_of_several_tables_keeps_the_others() {
    let (world, source, target) = begun().await;
    let fleet = world.fleet();
    let definition = |existing| {
        let world = &world;
        async move {
            let mut definition = SourceDefinition { existing_rows: existing, ..world.source(&["bins"], 2).await };
            definition.values.form = ValueForm::Row;
            definition
        }
    };
    let from = world.connector("whole", definition(None).await).await;
    world.connector("to-settlement", world.sink(&["bins"]).await).await;
    world.until_equal(&source, &target, &["bins"]).await;
    delete(&world, from).await;
    source.batch_execute("DELETE FROM bins WHERE id % 3 = 0").await.unwrap();
    let again = world.connector("again", definition(Some(ExistingRows::Compare)).await).await;
    world.until_equal(&source, &target, &["bins"]).await;
    delete(&world, again).await;

    // rows of another table in the same topic are not this one's to tell of
    source.batch_execute("CREATE TABLE crates (LIKE bins INCLUDING ALL); INSERT INTO crates SELECT * FROM bins LIMIT 50; UPDATE crates SET id = id + 7000000").await.unwrap();
    let mut crates = world.source(&["crates"], 2).await;
    crates.tables[0].topic = "packhouse.bins".into();
    crates.values.form = ValueForm::Row;
    let beside = world.connector("beside", crates).await;
    world.until_state(beside, State::Following).await;
    source.batch_execute("DELETE FROM bins WHERE id % 3 = 1").await.unwrap();
    let last = world.connector("last", definition(Some(ExistingRows::Compare)).await).await;
    world.until_state(last, State::Following).await;
    let all = "SELECT id, grade FROM bins UNION ALL SELECT id, grade FROM crates";
    world.until_same((&source, all), (&target, "SELECT id, grade FROM bins")).await;
    delete(&world, last).await;

    // nor is a row gone that waits in quarantine: it is in the source, and could not be shaped
    source.batch_execute("DELETE FROM bins WHERE id % 100 = 2; UPDATE bins SET room = 0 WHERE id % 100 = 5").await.unwrap();
    let dividing = json!({"steps": {"public.bins": [{"step": "compute", "column": "share", "value": "60 / room"}]}});
    let mut shaped = definition(Some(ExistingRows::Compare)).await;
    shaped.shape = serde_json::from_value(dividing).unwrap();
    let shaped = world.connector("shaped", shaped).await;
    world.until_same((&source, all), (&target, "SELECT id, grade FROM bins")).await;
    world.until_state(shaped, State::Following).await;
    let told = "SELECT count(*) FROM bins WHERE share IS NULL";
    let wait: i64 = target.query_one(told, &[]).await.unwrap().get(0);
    assert!(wait > 50, "{wait} rows as they were before, and those of the other table");
    fleet.stop().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_sink_that_is_made_again_lets_rows_go_that_its_topics_do_not_know() {
    let (world, source, target) = begun().await;
    let mut fleet = world.fleet();
    let (_, mut to) = world.flow(&BOTH, 3).await;
    world.until_equal(&source, &target, &BOTH).await;
    let steps: Shapes =
        serde_json::from_value(json!({"steps": {"packhouse.lines": [{"step": "filter", "only": "line_no = 1"}]}})).unwrap();
    let cases = [
        (ExistingRows::Keep, Guarantee::ExactlyOnce, 1, Shapes::default()),
        (ExistingRows::Empty, Guarantee::ExactlyOnce, 3, Shapes::default()),
        (ExistingRows::Compare, Guarantee::ExactlyOnce, 3, Shapes::default()),
        (ExistingRows::Empty, Guarantee::AtLeastOnce, 1, Shapes::default()),
        (ExistingRows::Compare, Guarantee::AtLeastOnce, 1, Shapes::default()),
        (ExistingRows::Compare, Guarantee::ExactlyOnce, 1, steps),
    ];
    for (number, (existing, guarantee, lanes, shape)) in cases.into_iter().enumerate() {
        delete(&world, to).await;
        // rows that no topic knows, and some that it knows and that went or changed meanwhile
        let strange = format!(
            "INSERT INTO bins SELECT 8000000 + {number} * 1000 + n, 1, 'strange' FROM generate_series(1, 300) n;
             INSERT INTO lines SELECT 8000000 + {number} * 1000 + n, 1, 1 FROM generate_series(1, 300) n;
             UPDATE bins SET grade = 'strange' WHERE id % 5 = 1"
        );
        target.batch_execute(&strange).await.unwrap();
        source
            .batch_execute(&format!(
                "DELETE FROM bins WHERE id % 50 = {number}; UPDATE bins SET remark = 'here {number}' WHERE id % 50 = 49;
                 UPDATE lines SET line_no = 2 WHERE consignment_id = {number} + 1"
            ))
            .await
            .unwrap();
        let shaped = !shape.is_nothing();
        let mut sink = SinkDefinition { existing_rows: Some(existing), shape, ..world.sink(&BOTH).await };
        (sink.writes.guarantee, sink.placing.lanes) = (guarantee, lanes);
        let writer = tokio::spawn(write(world.cluster.connect("packhouse").await.unwrap(), 100, number as i64 + 1));
        to = world.connector(&format!("again-{number}"), sink).await;
        tokio::time::sleep(Duration::from_millis(300)).await;
        fleet.stop().await;
        fleet = world.fleet();
        writer.await.unwrap();
        if existing == ExistingRows::Keep {
            let wanted = "SELECT id FROM bins UNION ALL SELECT 8000000 + n FROM generate_series(1, 300) n";
            world.until_same((&source, wanted), (&target, "SELECT id FROM bins")).await;
            continue;
        }
        world.until_equal(&source, &target, &["bins"]).await;
        let lines = if shaped { "SELECT * FROM lines WHERE line_no = 1" } else { "SELECT * FROM lines" };
        world.until_same((&source, lines), (&target, "SELECT * FROM lines")).await;
        // once: what others write there later is theirs
        target.batch_execute("INSERT INTO bins (id, grade) VALUES (9000000, 'later')").await.unwrap();
        fleet.stop().await;
        fleet = world.fleet();
        world.until_state(to, State::Following).await;
        source.batch_execute("UPDATE bins SET room = room + 1 WHERE id % 50 = 48").await.unwrap();
        let wanted = "SELECT id, room FROM bins UNION ALL SELECT 9000000, NULL";
        world.until_same((&source, wanted), (&target, "SELECT id, room FROM bins")).await;
    }
    fleet.stop().await;
}

/// A part of a table takes its rows with it and sends no deletes. Rows that came and went so while the source's lane was behind are in its
/// log yet when the table is loaded again: they are gone all the same.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn rows_that_came_and_went_with_a_part_while_the_lane_was_behind_go_with_the_load() {
    let world = World::new().await;
    let source = world.cluster.connect("packhouse").await.unwrap();
    let rooms = "CREATE TABLE rooms (id bigint PRIMARY KEY, n int) PARTITION BY RANGE (id);
         CREATE TABLE rooms_0 PARTITION OF rooms FOR VALUES FROM (0) TO (100); INSERT INTO rooms SELECT m, 0 FROM generate_series(0, 49) m";
    source.batch_execute(rooms).await.unwrap();
    let target = world.cluster.connect("settlement").await.unwrap();
    let fleet = world.fleet();
    let (from, _) = world.flow(&["rooms"], 3).await;
    world.until_equal(&source, &target, &["rooms"]).await;
    for existing in [ExistingRows::Compare, ExistingRows::Empty] {
        world.until_state(from, State::Following).await;
        world.database.ask(from, Wish::Pause, "").await.unwrap();
        world.until_state(from, State::Paused).await;
        // some come and go, some change before they go, and some of each come again with other values
        let unseen = "INSERT INTO rooms SELECT m, 1 FROM generate_series(50, 99) m ON CONFLICT DO NOTHING; UPDATE rooms SET n = 1 WHERE id % 2 = 0;
             BEGIN; ALTER TABLE rooms DETACH PARTITION rooms_0; DROP TABLE rooms_0; COMMIT;
             CREATE TABLE rooms_0 PARTITION OF rooms FOR VALUES FROM (0) TO (100); INSERT INTO rooms SELECT m, 2 FROM generate_series(0, 99, 5) m";
        for statement in unseen.split(';') {
            source.batch_execute(statement).await.unwrap();
        }
        let part = "BEGIN; ALTER TABLE rooms DETACH PARTITION rooms_0; CREATE TABLE kept AS SELECT * FROM rooms_0 WHERE id % 3 = 0; DROP TABLE rooms_0;
             ALTER TABLE kept ALTER id SET NOT NULL, ADD PRIMARY KEY (id); ALTER TABLE kept RENAME TO rooms_0;
             ALTER TABLE rooms ATTACH PARTITION rooms_0 FOR VALUES FROM (0) TO (100); COMMIT";
        source.batch_execute(part).await.unwrap();
        world.database.ask_to_load_again(from, &["public.rooms".to_owned()], existing).await.unwrap();
        world.database.ask(from, Wish::Run, "").await.unwrap();
        world.until_equal(&source, &target, &["rooms"]).await;
        // what changes from then on goes on as ever
        source.batch_execute("INSERT INTO rooms SELECT m, 3 FROM generate_series(0, 60) m ON CONFLICT DO NOTHING; UPDATE rooms SET n = 4 WHERE id % 7 = 0").await.unwrap();
        world.until_equal(&source, &target, &["rooms"]).await;
    }
    fleet.stop().await;
}

/// A load that brings only some rows does not say of the others that they are gone: what the log brings of them late is there.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn rows_that_a_load_leaves_out_stay_where_the_log_brings_them_late() {
    let world = World::new().await;
    let source = world.cluster.connect("packhouse").await.unwrap();
    source
        .batch_execute(
            "CREATE TABLE rooms (id bigint PRIMARY KEY, n int); INSERT INTO rooms SELECT m, 0 FROM generate_series(0, 49) m",
        )
        .await
        .unwrap();
    let target = world.cluster.connect("settlement").await.unwrap();
    let mut definition = world.source(&["rooms"], 3).await;
    definition.tables[0].load_where = Some("id < 20".into());
    let from = world.connector("from-packhouse", definition).await;
    world.connector("to-settlement", world.sink(&["rooms"]).await).await;
    let fleet = world.fleet();
    let all = |wanted: &'static str| world.until_same((&source, wanted), (&target, "SELECT * FROM rooms"));
    all("SELECT * FROM rooms WHERE id < 20").await;
    world.until_state(from, State::Following).await;
    world.database.ask(from, Wish::Pause, "").await.unwrap();
    world.until_state(from, State::Paused).await;
    source
        .batch_execute(
            "INSERT INTO rooms SELECT m, 1 FROM generate_series(100, 149) m; UPDATE rooms SET n = 1 WHERE id IN (1, 30)",
        )
        .await
        .unwrap();
    world.database.ask_to_load_again(from, &["public.rooms".to_owned()], ExistingRows::Empty).await.unwrap();
    world.database.ask(from, Wish::Run, "").await.unwrap();
    all("SELECT * FROM rooms WHERE id < 20 OR n = 1").await;
    // and are there still when the load is done
    world.until_state(from, State::Following).await;
    source.batch_execute("UPDATE rooms SET n = 2 WHERE id = 2").await.unwrap();
    all("SELECT * FROM rooms WHERE id < 20 OR n = 1").await;
    fleet.stop().await;
}
