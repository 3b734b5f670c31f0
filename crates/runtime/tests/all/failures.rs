//! What a connector says and does when something outside it is not as it should be.

use std::time::{Duration, Instant};

use crate::support::{World, move_sink, sink_positions, topic_changes};
use gonvel_core::connector::{BadRecords, ExistingRows, State, ValidConnector, Wish};
use gonvel_core::naming::{ConnectorId, ConnectorName};
use gonvel_core::ports::{Address, FleetStore};

const BINS: &str = "CREATE TABLE bins (id bigint PRIMARY KEY, grade text)";

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_sink_waits_for_its_topic_and_halts_where_a_person_is_needed() {
    let world = World::new().await;
    let source = world.cluster.connect("packhouse").await.unwrap();
    let target = world.cluster.connect("settlement").await.unwrap();
    source
        .batch_execute(&format!("{BINS}; INSERT INTO bins SELECT n, 'first' FROM generate_series(1, 100) n"))
        .await
        .unwrap();
    target.batch_execute("CREATE TABLE bins (id bigint, grade text)").await.unwrap();
    let source_id = world.connector("from-packhouse", world.source(&["bins"], 1).await).await;
    let mut sink = world.sink(&["bins"]).await;
    sink.failing.records = BadRecords::Halt;
    let sink_id = world.connector("to-settlement", sink).await;
    world.database.ask(source_id, Wish::Pause, "").await.unwrap();
    let fleet = world.fleet();
    // that is how things begin, and nothing that failed
    let start = std::time::Instant::now();
    while !world.until_state(sink_id, State::Starting).await.contains("the topic packhouse.bins is not there yet") {
        assert!(start.elapsed() < Duration::from_secs(20));
        tokio::time::sleep(Duration::from_millis(50)).await;
    }

    world.database.ask(source_id, Wish::Run, "").await.unwrap();
    let reason = world.until_state(sink_id, State::Halted).await;
    assert!(reason.contains("no unique key on id") && reason.contains("ADD UNIQUE (\"id\")"), "{reason}");
    target.batch_execute("ALTER TABLE bins ADD UNIQUE (id)").await.unwrap();
    world.database.ask(sink_id, Wish::Run, "").await.unwrap();
    world.until_equal(&source, &target, &["bins"]).await;

    // a refusal of the target's own halts it too; nothing of the round is in the target, and mended it goes on
    target.batch_execute("ALTER TABLE bins ADD CHECK (grade <> 'rotten')").await.unwrap();
    source
        .batch_execute("UPDATE bins SET grade = 'second' WHERE id = 1; UPDATE bins SET grade = 'rotten' WHERE id = 2")
        .await
        .unwrap();
    let reason = world.until_state(sink_id, State::Halted).await;
    assert!(reason.contains("constraint bins_grade_check") && reason.contains("change the check"), "{reason}");
    target.batch_execute("ALTER TABLE bins DROP CONSTRAINT bins_grade_check").await.unwrap();
    world.database.ask(sink_id, Wish::Run, "").await.unwrap();
    world.until_equal(&source, &target, &["bins"]).await;

    // rows that the target lost are written again when their next change comes
    target.batch_execute("DELETE FROM bins WHERE id <= 50").await.unwrap();
    source.batch_execute("UPDATE bins SET grade = 'juice'").await.unwrap();
    world.until_equal(&source, &target, &["bins"]).await;
    fleet.stop().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_source_whose_slot_is_gone_halts_and_says_what_is_lost() {
    let world = World::new().await;
    let source = world.cluster.connect("packhouse").await.unwrap();
    source.batch_execute(BINS).await.unwrap();
    let (source_id, _) = world.flow(&["bins"], 1).await;
    let fleet = world.fleet();
    world.until_state(source_id, State::Following).await;
    world.database.ask(source_id, Wish::Pause, "").await.unwrap();
    world.until_state(source_id, State::Paused).await;
    source.execute("SELECT pg_drop_replication_slot(slot_name) FROM pg_replication_slots", &[]).await.unwrap();
    source.batch_execute("INSERT INTO bins VALUES (1, 'lost')").await.unwrap();
    world.database.ask(source_id, Wish::Run, "").await.unwrap();
    let reason = world.until_state(source_id, State::Halted).await;
    assert!(reason.contains("is not in the server any more") && reason.contains("begin anew"), "{reason}");
    let at = address(&world, source_id).await;
    let place = gonvel_connectors::kinds::source(&at).unwrap().place(&at, source_id).await.unwrap().unwrap();
    assert!(!place.kept && place.confirmed.is_none());
    // deleting it still leaves nothing behind
    world.database.ask(source_id, Wish::Delete, "").await.unwrap();
    let start = Instant::now();
    while world.database.find_connector(source_id).await.is_ok() {
        assert!(start.elapsed() < Duration::from_secs(20));
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    let left: i64 = source.query_one("SELECT count(*) FROM pg_publication", &[]).await.unwrap().get(0);
    assert_eq!(left, 0);
    fleet.stop().await;
}

async fn address(world: &World, id: ConnectorId) -> Address {
    let found = world.database.find_connector(id).await.unwrap();
    world.database.address(found.definition.connection().unwrap()).await.unwrap()
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_gap_that_a_lost_slot_left_is_closed_by_beginning_anew_and_a_moved_sink_delivers_again() {
    let world = World::new().await;
    let source = world.cluster.connect("packhouse").await.unwrap();
    let target = world.cluster.connect("settlement").await.unwrap();
    source
        .batch_execute(&format!("{BINS}; INSERT INTO bins SELECT n, 'first' FROM generate_series(1, 300) n"))
        .await
        .unwrap();
    let from = world.connector("from-packhouse", world.source(&["bins"], 3).await).await;
    let mut sink = world.sink(&["bins"]).await;
    sink.placing.lanes = 2;
    let to = world.connector("to-settlement", sink).await;
    let fleet = world.fleet();
    world.until_equal(&source, &target, &["bins"]).await;
    world.database.ask(from, Wish::Pause, "").await.unwrap();
    world.until_state(from, State::Paused).await;
    source.execute("SELECT pg_drop_replication_slot(slot_name) FROM pg_replication_slots", &[]).await.unwrap();
    // changes that no log tells any more: among them a delete, which a load alone would not show
    source.batch_execute("DELETE FROM bins WHERE id % 3 = 0; UPDATE bins SET grade = 'second' WHERE id < 50").await.unwrap();
    world.database.ask(from, Wish::Run, "").await.unwrap();
    world.until_state(from, State::Halted).await;
    world.database.begin_anew(from, ExistingRows::Empty, "grower").await.unwrap();
    world.until_equal(&source, &target, &["bins"]).await;
    source.batch_execute("INSERT INTO bins VALUES (1000, 'late')").await.unwrap();
    world.until_equal(&source, &target, &["bins"]).await;
    let history = world.database.history_of(from.0, None, 1).await.unwrap();
    assert_eq!((history[0].what.as_str(), history[0].who.as_str()), ("begun anew", "grower"));

    // a sink that is moved back delivers again; only from where it was seen to stand
    world.database.ask(to, Wish::Stop, "").await.unwrap();
    world.until_state(to, State::Stopped).await;
    target.batch_execute("TRUNCATE bins").await.unwrap();
    let address = address(&world, to).await;
    let stands = sink_positions(&address, to).await;
    assert_eq!(stands.len(), 3);
    let mut moves: Vec<_> = stands.iter().map(|(at, next)| (*at, *next, 0)).collect();
    moves[2].1 += 1;
    let elsewhere = move_sink(&address, to, &moves, false).await.unwrap_err();
    assert!(elsewhere.to_string().contains("does not stand at"), "{elsewhere}");
    assert_eq!(sink_positions(&address, to).await, stands, "a part was moved");
    moves[2].1 -= 1;
    move_sink(&address, to, &moves, false).await.unwrap();
    world.database.ask(to, Wish::Run, "").await.unwrap();
    world.until_equal(&source, &target, &["bins"]).await;
    fleet.stop().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn another_runner_takes_over_what_one_left_and_the_first_writes_nothing_more() {
    let world = World::new().await;
    let source = world.cluster.connect("packhouse").await.unwrap();
    let target = world.cluster.connect("settlement").await.unwrap();
    source
        .batch_execute(&format!("{BINS}; INSERT INTO bins SELECT n, 'first' FROM generate_series(1, 500) n"))
        .await
        .unwrap();
    let (source_id, sink_id) = world.flow(&["bins"], 3).await;
    let first = world.runner("one");
    world.until_equal(&source, &target, &["bins"]).await;
    let second = world.runner("two");
    tokio::time::sleep(Duration::from_millis(700)).await;
    source.batch_execute("UPDATE bins SET grade = 'second' WHERE id <= 100").await.unwrap();
    world.until_equal(&source, &target, &["bins"]).await;
    // as if the first were cut off: its leases are taken from it while its lanes still run
    for id in [source_id, sink_id] {
        let mut taken = None;
        while taken.is_none() {
            world.sql_own("UPDATE lanes SET expires_at = now() - interval '1 second'").await;
            taken = world.database.acquire(id, 0, "two", Duration::from_secs(3)).await.unwrap();
        }
    }
    source.batch_execute("UPDATE bins SET grade = 'juice'; DELETE FROM bins WHERE id % 7 = 0").await.unwrap();
    world.until_equal(&source, &target, &["bins"]).await;
    let topic = gonvel_core::ports::TopicLog::topic(&world.database, &"packhouse.bins".to_owned().try_into().unwrap())
        .await
        .unwrap();
    let bounds = gonvel_core::ports::TopicLog::bounds(&world.database, topic.id).await.unwrap();
    let records: i64 = bounds.iter().map(|b| b.next.0).sum();
    assert_eq!(records, 500 + 100 + 500 + 500 / 7, "a change was written twice or not at all");
    first.stop().await;
    second.stop().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_lane_that_hangs_in_its_system_keeps_no_other_from_being_started_and_stopped() {
    let world = World::new().await;
    let source = world.cluster.connect("packhouse").await.unwrap();
    let target = world.cluster.connect("settlement").await.unwrap();
    source.batch_execute(&format!("{BINS}; INSERT INTO bins VALUES (1, 'first')")).await.unwrap();
    let (source_id, sink_id) = world.flow(&["bins"], 1).await;
    let fleet = world.fleet();
    world.until_equal(&source, &target, &["bins"]).await;
    target.batch_execute("BEGIN; LOCK TABLE bins").await.unwrap();
    source.batch_execute("UPDATE bins SET grade = 'second'").await.unwrap();
    let waits = "SELECT EXISTS (SELECT 1 FROM pg_locks WHERE NOT granted)";
    while !target.query_one(waits, &[]).await.unwrap().get::<_, bool>(0) {
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
    world.database.ask(sink_id, Wish::Pause, "").await.unwrap();
    tokio::time::sleep(Duration::from_millis(700)).await;
    for (wish, state) in [(Wish::Pause, State::Paused), (Wish::Run, State::Following)] {
        world.database.ask(source_id, wish, "").await.unwrap();
        world.until_state(source_id, state).await;
    }
    target.batch_execute("COMMIT").await.unwrap();
    world.until_state(sink_id, State::Paused).await;
    world.until_equal(&source, &target, &["bins"]).await;
    fleet.stop().await;
}

/// What a connector notes of itself, once it notes something with this text.
async fn until_noted(world: &World, id: ConnectorId, text: &str) {
    let start = Instant::now();
    loop {
        let found = world.database.find_connector(id).await.unwrap();
        let notes: Vec<&String> = found.said().flat_map(|s| &s.notes).collect();
        if notes.iter().any(|note| note.contains(text)) {
            return;
        }
        assert!(start.elapsed() < Duration::from_secs(30), "{notes:?}");
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn tables_that_are_made_anew_dropped_or_renamed_lose_nothing_in_silence() {
    let world = World::new().await;
    let source = world.cluster.connect("packhouse").await.unwrap();
    let target = world.cluster.connect("settlement").await.unwrap();
    let tables = ["bins", "rooms", "sheds"];
    for table in tables {
        source
            .batch_execute(&format!(
                "CREATE TABLE {table} (id bigint PRIMARY KEY, grade text); INSERT INTO {table} VALUES (1, 'a')"
            ))
            .await
            .unwrap();
    }
    let definition = world.source(&tables, 2).await;
    let from = world.connector("from-packhouse", definition.clone()).await;
    world.connector("to-settlement", world.sink(&tables).await).await;
    let fleet = world.fleet();
    world.until_equal(&source, &target, &tables).await;

    // another table of the same name: the rows of the first go, its own come, also those that were there before it was seen
    source
        .batch_execute("DROP TABLE rooms; CREATE TABLE rooms (id bigint PRIMARY KEY, grade text, floor int); INSERT INTO rooms VALUES (7, 'b', 2)")
        .await
        .unwrap();
    world.until_equal(&source, &target, &tables).await;
    source.batch_execute("UPDATE rooms SET floor = 3").await.unwrap();
    world.until_equal(&source, &target, &tables).await;

    // one whose rows cannot be told apart is not published: the source could not update it any more
    source
        .batch_execute("DROP TABLE rooms; CREATE TABLE rooms (id bigint, grade text); INSERT INTO rooms VALUES (8, 'c')")
        .await
        .unwrap();
    let reason = world.until_state(from, State::Halted).await;
    assert!(reason.contains("public.rooms cannot be published: it has no primary key"), "{reason}");
    source.batch_execute("UPDATE rooms SET grade = 'd'; ALTER TABLE rooms ADD PRIMARY KEY (id)").await.unwrap();
    world.database.ask(from, Wish::Run, "").await.unwrap();
    world.until_state(from, State::Following).await;
    let (wanted, found) = ((&source, "SELECT id, grade FROM rooms"), (&target, "SELECT id, grade FROM rooms"));
    world.until_same(wanted, found).await;

    // one that is gone is said, and the others go on
    source.batch_execute("DROP TABLE sheds; INSERT INTO bins VALUES (2, 'b')").await.unwrap();
    until_noted(&world, from, "public.sheds is not in the database any more").await;
    world.until_equal(&source, &target, &["bins"]).await;

    // what a table brings under another name waits until a person says where it goes
    source.batch_execute("ALTER TABLE bins RENAME TO boxes; INSERT INTO boxes VALUES (3, 'c')").await.unwrap();
    let reason = world.until_state(from, State::Halted).await;
    assert!(reason.contains("no table public.bins any more, and public.boxes"), "{reason}");
    world.database.ask(from, Wish::Run, "").await.unwrap();
    tokio::time::sleep(Duration::from_secs(2)).await;
    world.until_state(from, State::Halted).await;
    let mut edited = definition;
    edited.tables.retain(|t| t.table != "sheds");
    edited.tables[0].table = "boxes".into();
    let valid = ValidConnector::check(from, ConnectorName::parse("from-packhouse").unwrap(), edited.into()).unwrap();
    world.database.change_connector(&valid, 1, &[], "").await.unwrap();
    world.until_state(from, State::Following).await;
    let boxes = (&source, "SELECT * FROM boxes");
    world.until_same(boxes, (&target, "SELECT * FROM bins")).await;
    // it went on: nothing was loaded again
    let changes = topic_changes(&world.database, "packhouse.bins").await;
    assert_eq!(changes.iter().filter(|change| change["change"] == "load").count(), 1, "{changes:?}");

    // without its publication the log cannot be read: it says so, and what to do
    source.batch_execute(&format!("DROP PUBLICATION gonvel_{}", from.0.simple())).await.unwrap();
    let reason = world.until_state(from, State::Halted).await;
    assert!(reason.contains("is not in the database any more") && reason.contains("begin anew"), "{reason}");
    fleet.stop().await;
}

/// Two captured tables that take each other's names: what was carried of each goes, and the rows under its name come.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn tables_that_exchange_their_names_end_as_the_source_is() {
    let world = World::new().await;
    let source = world.cluster.connect("packhouse").await.unwrap();
    let target = world.cluster.connect("settlement").await.unwrap();
    let tables = ["bins", "rooms"];
    for (table, first) in tables.iter().zip([1, 100]) {
        let make = format!(
            "CREATE TABLE {table} (id bigint PRIMARY KEY, grade text);
             INSERT INTO {table} SELECT m, '{table}' FROM generate_series({first}, {first} + 9) m"
        );
        source.batch_execute(&make).await.unwrap();
    }
    let from = world.connector("from-packhouse", world.source(&tables, 2).await).await;
    world.connector("to-settlement", world.sink(&tables).await).await;
    let fleet = world.fleet();
    world.until_equal(&source, &target, &tables).await;
    let exchange = "ALTER TABLE bins RENAME TO before; ALTER TABLE rooms RENAME TO bins; ALTER TABLE before RENAME TO rooms";
    // while it runs, with rows; and while it is paused, with rows of before and after
    source.batch_execute(&format!("BEGIN; {exchange}; INSERT INTO bins VALUES (200, 'after'); COMMIT")).await.unwrap();
    world.until_equal(&source, &target, &tables).await;
    world.database.ask(from, Wish::Pause, "").await.unwrap();
    world.until_state(from, State::Paused).await;
    source
        .batch_execute(&format!("DELETE FROM bins WHERE id = 200; {exchange}; INSERT INTO rooms VALUES (201, 'after'); DELETE FROM bins WHERE id = 3"))
        .await
        .unwrap();
    world.database.ask(from, Wish::Run, "").await.unwrap();
    world.until_equal(&source, &target, &tables).await;
    fleet.stop().await;
}

/// What a table of the same name held before goes once all that the log has of it has come: not before.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_table_that_is_made_anew_while_its_connector_is_behind_leaves_no_rows() {
    let world = World::new().await;
    let source = world.cluster.connect("packhouse").await.unwrap();
    let target = world.cluster.connect("settlement").await.unwrap();
    let make = "CREATE TABLE rooms (id bigint PRIMARY KEY, grade text)";
    source.batch_execute(&format!("{make}; INSERT INTO rooms VALUES (1, 'a')")).await.unwrap();
    let from = world.connector("from-packhouse", world.source(&["rooms"], 2).await).await;
    world.connector("to-settlement", world.sink(&["rooms"]).await).await;
    let fleet = world.fleet();
    world.until_equal(&source, &target, &["rooms"]).await;
    for round in 0..3 {
        world.database.ask(from, Wish::Pause, "").await.unwrap();
        world.until_state(from, State::Paused).await;
        let rows = |from: i32, grade: &str| {
            format!("INSERT INTO rooms SELECT n, '{grade}' FROM generate_series({from}, {}) n", from + 50)
        };
        source.batch_execute(&rows(100 * round + 10, "before")).await.unwrap();
        source.batch_execute(&format!("DROP TABLE rooms; {make}")).await.unwrap();
        source.batch_execute(&rows(100 * round + 40, "after")).await.unwrap();
        if round == 2 {
            source.batch_execute(&format!("DROP TABLE rooms; {make}; INSERT INTO rooms VALUES (7, 'last')")).await.unwrap();
        }
        world.database.ask(from, Wish::Run, "").await.unwrap();
        source.batch_execute("INSERT INTO rooms VALUES (9, 'meanwhile')").await.unwrap();
        world.until_equal(&source, &target, &["rooms"]).await;
        source.batch_execute("UPDATE rooms SET grade = 'later' WHERE id % 2 = 1").await.unwrap();
        world.until_equal(&source, &target, &["rooms"]).await;
    }
    fleet.stop().await;
}

/// Where the server counts Gonvel's session as a standby, commits wait for it: it must not wait for them in turn.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_commit_that_waits_for_gonvel_is_not_waited_for() {
    let (world, _own) = World::apart().await;
    let source = world.cluster.connect("packhouse").await.unwrap();
    source
        .batch_execute(
            "CREATE TABLE bins (id bigint PRIMARY KEY, grade text); ALTER TABLE bins ALTER grade SET STORAGE EXTERNAL;
             INSERT INTO bins VALUES (1, repeat('large', 1000))",
        )
        .await
        .unwrap();
    let from = world.connector("from-packhouse", world.source(&["bins"], 1).await).await;
    let fleet = world.fleet();
    world.until_state(from, State::Following).await;
    source.batch_execute("ALTER SYSTEM SET synchronous_standby_names = '*'").await.unwrap();
    source.batch_execute("SELECT pg_reload_conf()").await.unwrap();
    let start = Instant::now();
    while source.query_opt("SELECT 1 FROM pg_stat_replication WHERE sync_state = 'sync'", &[]).await.unwrap().is_none() {
        assert!(start.elapsed() < Duration::from_secs(10));
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    // another key, and a value that is not sent: it is fetched from the row that the commit is to show
    let writer = world.cluster.connect("packhouse").await.unwrap();
    let commit = tokio::spawn(async move { writer.batch_execute("UPDATE bins SET id = 2").await });
    let reason = world.until_state(from, State::Halted).await;
    assert!(reason.contains("counts Gonvel's session as a standby"), "{reason}");
    source.batch_execute("ALTER SYSTEM RESET synchronous_standby_names").await.unwrap();
    source.batch_execute("SELECT pg_reload_conf()").await.unwrap();
    commit.await.unwrap().unwrap();
    world.database.ask(from, Wish::Run, "").await.unwrap();
    world.until_state(from, State::Following).await;
    fleet.stop().await;
}
