//! Shapes at work: what arrives is what the steps' SQL gives of the source, whatever happens meanwhile.

use std::time::{Duration, Instant};

use crate::support::{PATIENCE, TABLES, World, topic_changes, topic_records, write};
use gonvel_core::connector::{CarriedTopic, SinkDefinition, SourceDefinition, State, TopicsDefinition, Wish};
use gonvel_core::naming::TopicName;
use gonvel_core::ports::{FleetStore, TopicLog};
use gonvel_core::record::Record;
use gonvel_core::shape::{ShapeStep, Shapes};
use gonvel_runtime::standing;
use serde_json::json;
use tokio_postgres::Client;

fn steps(name: &str, steps: serde_json::Value) -> Shapes {
    let steps: Vec<ShapeStep> = serde_json::from_value(steps).unwrap();
    Shapes { rules: vec![], steps: [(name.to_owned(), steps)].into() }
}

async fn texts(client: &Client, query: &str) -> Vec<String> {
    match client.query(&format!("SELECT t::text FROM ({query}) t ORDER BY 1"), &[]).await {
        Ok(rows) => rows.iter().map(|r| r.get(0)).collect(),
        Err(error) => vec![format!("{error:?}")],
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_arrives_is_what_the_steps_give_of_the_source() {
    let world = World::new().await;
    let source = world.cluster.connect("packhouse").await.unwrap();
    let target = world.cluster.connect("settlement").await.unwrap();
    source.batch_execute(TABLES).await.unwrap();
    source
        .batch_execute(
            "CREATE SEQUENCE numbers; INSERT INTO bins SELECT n, n, 'first', repeat('y', n * 9), now(), n % 5 FROM generate_series(1, 400) n;
             INSERT INTO lines SELECT n, n % 3, n / 100.0 FROM generate_series(1, 300) n",
        )
        .await
        .unwrap();
    let mut fleet = world.fleet();
    // lines are shaped before their topic, bins after it
    let at_source = steps(
        "public.lines",
        json!([
            {"step": "filter", "only": "price > 1.5"},
            {"step": "compute", "column": "euros", "value": "round(price * 1.1, 2)"},
            {"step": "mask", "columns": ["consignment_id"], "how": "token"},
        ]),
    );
    let at_sink = steps(
        "packhouse.bins",
        json!([
            {"step": "compute", "column": "size", "value": "CASE WHEN weight_kg > 300 THEN 'large' WHEN weight_kg > 100 THEN 'usual' END"},
            {"step": "filter", "only": "size IS NOT NULL AND weight_kg <> 'NaN'"},
            {"step": "letters", "columns": ["grade"], "to": "upper"},
            {"step": "rename", "columns": [{"column": "room", "to": "room_id"}]},
            {"step": "convert", "column": "room_id", "to": "text"},
            {"step": "route", "ways": [{"when": "size = 'large'", "to": "large_bins"}]},
        ]),
    );
    let from = SourceDefinition { shape: at_source, ..world.source(&["bins", "lines"], 2).await };
    let to = SinkDefinition { shape: at_sink, ..world.sink(&["bins", "lines"]).await };
    world.connector("from-packhouse", from).await;
    let to = world.connector("to-settlement", to).await;
    let writer = tokio::spawn(write(world.cluster.connect("packhouse").await.unwrap(), 400, 5));
    tokio::time::sleep(Duration::from_secs(2)).await;
    // in the middle of it the runner goes, and another one takes over
    drop(fleet);
    fleet = world.fleet();
    writer.await.unwrap();
    let bins = |which: &str, large: &str| {
        format!(
            "SELECT id, weight_kg, upper(grade), md5(remark), picked_at, room::text, {large}::text FROM bins WHERE weight_kg <> 'NaN' AND weight_kg {which}"
        )
    };
    let there = |table: &str| format!("SELECT id, weight_kg, grade, md5(remark), picked_at, room_id, size FROM {table}");
    world.until_same((&source, &bins("> 300", "'large'")), (&target, &there("large_bins"))).await;
    world.until_same((&source, &bins("BETWEEN 100.1 AND 300", "'usual'")), (&target, &there("bins"))).await;
    // the key was changed for another, one for one
    let lines = "SELECT line_no, price, round(price * 1.1, 2) FROM lines WHERE price > 1.5";
    world.until_same((&source, lines), (&target, "SELECT line_no, price, euros FROM lines")).await;
    assert_eq!(world.database.quarantined(Some(to), None, &["waiting"], 0, 9).await.unwrap().len(), 0);
    fleet.stop().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_row_that_cannot_be_shaped_waits_in_quarantine_and_all_others_go_on() {
    let world = World::new().await;
    let source = world.cluster.connect("packhouse").await.unwrap();
    let target = world.cluster.connect("settlement").await.unwrap();
    source
        .batch_execute(
            "CREATE TABLE bins (id bigint PRIMARY KEY, code text, phone text);
             INSERT INTO bins SELECT n, CASE WHEN n % 50 = 0 THEN 'none' ELSE n::text END, '0161 496 ' || n FROM generate_series(1, 200) n",
        )
        .await
        .unwrap();
    let shape = steps(
        "packhouse.bins",
        json!([
            {"step": "compute", "column": "number", "value": "CAST(code AS integer) + length(phone)"},
            {"step": "mask", "columns": ["phone"], "how": "hash"},
        ]),
    );
    world.connector("from-packhouse", world.source(&["bins"], 2).await).await;
    let sink = SinkDefinition { shape, ..world.sink(&["bins"]).await };
    let to = world.connector("to-settlement", sink.clone()).await;
    let fleet = world.fleet();
    let good = "SELECT id, code::int + length(phone) AS number FROM bins WHERE code <> 'none'";
    world.until_same((&source, good), (&target, "SELECT id, number FROM bins")).await;
    let waiting = world.database.quarantined(Some(to), None, &["waiting"], 0, 99).await.unwrap();
    assert_eq!(waiting.len(), 4);
    for kept in &waiting {
        assert_eq!(kept.step, "shape");
        assert!(kept.finding.contains("step 1 (compute)") && kept.finding.contains("code = \"none\""), "{}", kept.finding);
        assert!(!kept.finding.contains("0161"), "{}", kept.finding);
    }
    let causes = world.database.causes(Some(to)).await.unwrap();
    assert_eq!(causes.len(), 1, "{causes:?}");
    // a shape that takes them, and they are tried again by it
    let connector = world.database.find_connector(to).await.unwrap();
    let shape = steps(
        "packhouse.bins",
        json!([
            {"step": "compute", "column": "number", "value": "CASE WHEN code ~ '^[0-9]+$' THEN CAST(code AS integer) + length(phone) END"},
            {"step": "mask", "columns": ["phone"], "how": "hash"},
        ]),
    );
    let name = gonvel_core::naming::ConnectorName::parse("to-settlement").unwrap();
    let other = gonvel_core::connector::ValidConnector::check(to, name, SinkDefinition { shape, ..sink }.into()).unwrap();
    world.database.change_connector(&other, connector.version, &[], "").await.unwrap();
    world.database.retry(&gonvel_storage::quarantine::Which::All(to), None).await.unwrap();
    let all = "SELECT id, CASE WHEN code <> 'none' THEN code::int + length(phone) END AS number FROM bins";
    world.until_same((&source, all), (&target, "SELECT id, number FROM bins")).await;
    assert_eq!(world.database.quarantined(Some(to), None, &["waiting", "asked"], 0, 9).await.unwrap().len(), 0);
    let masked: i64 =
        target.query_one("SELECT count(DISTINCT phone) FROM bins WHERE length(phone) = 64", &[]).await.unwrap().get(0);
    assert_eq!(masked, 200);
    fleet.stop().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn lookups_follow_their_reference_and_a_masked_topic_never_holds_the_clear_value() {
    let world = World::new().await;
    let source = world.cluster.connect("packhouse").await.unwrap();
    let target = world.cluster.connect("settlement").await.unwrap();
    source
        .batch_execute(
            "CREATE TABLE rooms (id int PRIMARY KEY, label text);
             CREATE TABLE growers (id bigint PRIMARY KEY, room int, phone text);
             ALTER TABLE growers REPLICA IDENTITY FULL;
             INSERT INTO rooms SELECT n, 'room ' || n FROM generate_series(1, 20) n;
             INSERT INTO growers SELECT n, n % 25, '0161 496 ' || n FROM generate_series(1, 300) n",
        )
        .await
        .unwrap();
    let shape = steps(
        "public.growers",
        json!([{"step": "mask", "columns": ["phone"], "how": "partial", "first": 0, "last": 2},
            {"step": "origin", "facts": [{"fact": "kind", "header": "change"}, {"fact": "table", "header": "table"}]}]),
    );
    let from = SourceDefinition { shape, ..world.source(&["rooms", "growers"], 2).await };
    let from = world.connector("from-packhouse", from).await;
    let fleet = world.fleet();
    world.until_state(from, State::Following).await;
    let rooms =
        json!({"connection": world.connection("packhouse").await, "schema": "public", "table": "rooms", "every_seconds": 5});
    let shape = steps(
        "packhouse.growers",
        json!([
            {"step": "lookup", "topic": "packhouse.rooms", "by": [{"column": "room", "key": "id"}], "columns": [{"from": "label", "column": "room_label"}]},
            {"step": "lookup", "table": rooms, "by": [{"column": "room", "key": "id"}], "columns": [{"from": "label", "column": "label_there"}]},
        ]),
    );
    let to = world.connector("to-settlement", SinkDefinition { shape, ..world.sink(&["growers"]).await }).await;
    let there = "SELECT id, room, room_label, label_there FROM growers";
    let joined = "SELECT g.id, g.room, r.label AS room_label, r.label AS label_there
        FROM growers g LEFT JOIN rooms r ON r.id = g.room";
    world.until_same((&source, joined), (&target, there)).await;
    // a reference that changed is what rows that come later find
    source
        .batch_execute("UPDATE rooms SET label = 'cold ' || id WHERE id < 5; DELETE FROM rooms WHERE id = 9")
        .await
        .unwrap();
    let start = Instant::now();
    loop {
        source.batch_execute("UPDATE growers SET phone = phone || '1' WHERE id IN (1, 9)").await.unwrap();
        tokio::time::sleep(Duration::from_millis(300)).await;
        let found = texts(&target, "SELECT id, room_label, label_there FROM growers WHERE id IN (1, 9)").await;
        if found == ["(1,\"cold 1\",\"cold 1\")", "(9,,)"] {
            break;
        }
        assert!(start.elapsed() < PATIENCE, "{found:?}");
    }
    source.batch_execute("DELETE FROM growers WHERE id < 50").await.unwrap();
    world.until_same((&source, "SELECT id FROM growers"), (&target, "SELECT id FROM growers")).await;
    let records = topic_records(&world.database, "packhouse.growers").await;
    let header = |record: &Record, n: usize| String::from_utf8(record.headers[n].value.to_vec()).unwrap();
    assert!(records.iter().all(|record| record.headers[0].name == "change" && header(record, 1) == "growers"));
    assert_eq!(records.iter().filter(|record| header(record, 0) == "delete").count(), 49);
    for record in records {
        let bytes: Vec<u8> = [record.key, record.value].into_iter().flatten().flat_map(|b| b.to_vec()).collect();
        assert!(!String::from_utf8_lossy(&bytes).contains("0161"));
    }
    // a shape that does not fit halts the lane, and says where
    let connector = world.database.find_connector(to).await.unwrap();
    let name = gonvel_core::naming::ConnectorName::parse("to-settlement").unwrap();
    let wrong = steps("packhouse.growers", json!([{"step": "compute", "column": "x", "value": "lable || 'x'"}]));
    let sink = SinkDefinition { shape: wrong, ..world.sink(&["growers"]).await };
    let other = gonvel_core::connector::ValidConnector::check(to, name, sink.into()).unwrap();
    world.database.change_connector(&other, connector.version, &[], "").await.unwrap();
    // with the first row that comes once the lane has begun anew
    let found = async || world.database.find_connector(to).await.unwrap().said().any(|lane| lane.state == State::Halted);
    let start = Instant::now();
    while !found().await {
        assert!(start.elapsed() < PATIENCE);
        source.batch_execute("UPDATE growers SET room = 3 WHERE id = 60").await.unwrap();
        tokio::time::sleep(Duration::from_millis(300)).await;
    }
    let reason = world.until_state(to, State::Halted).await;
    assert!(reason.contains("step 1: there is no column lable"), "{reason}");
    world.database.ask(to, Wish::Stop, "").await.unwrap();
    fleet.stop().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn topics_are_carried_into_denormalised_ones_each_record_once() {
    let world = World::new().await;
    let source = world.cluster.connect("packhouse").await.unwrap();
    let target = world.cluster.connect("settlement").await.unwrap();
    source.batch_execute(TABLES).await.unwrap();
    source
        .batch_execute(
            "CREATE SEQUENCE numbers; CREATE TABLE rooms (id int PRIMARY KEY, label text);
             INSERT INTO rooms SELECT n, 'room ' || n FROM generate_series(1, 40) n;
             INSERT INTO bins SELECT n, n, 'first', 'y', now(), n % 50 FROM generate_series(1, 300) n",
        )
        .await
        .unwrap();
    let from = world.connector("from-packhouse", world.source(&["bins", "rooms"], 2).await).await;
    let mut fleet = world.fleet();
    world.until_state(from, State::Following).await;
    let carried = |topic: &str, to: &str| CarriedTopic { topic: topic.into(), to: to.into(), rows: None, fit: None };
    let shape = steps(
        "packhouse.bins",
        json!([
            {"step": "drop", "columns": ["remark"]},
            {"step": "lookup", "topic": "packhouse.rooms", "by": [{"column": "room", "key": "id"}], "columns": [{"from": "label", "column": "room_label"}], "again": true},
            {"step": "route", "ways": [{"when": "room_label LIKE 'cold%'", "to": "rich.cold"}, {"when": "weight_kg > 250", "to": "rich.large"}]},
        ]),
    );
    let definition = TopicsDefinition { shape, ..TopicsDefinition::of(vec![carried("packhouse.bins", "rich.bins")], 3) };
    let between = world.connector("rich", definition).await;
    let mut sink = world.sink(&["bins", "large", "cold"]).await;
    sink.topics.iter_mut().for_each(|topic| topic.topic = format!("rich.{}", topic.table));
    world.connector("to-settlement", sink).await;
    let writer = tokio::spawn(write(world.cluster.connect("packhouse").await.unwrap(), 300, 9));
    tokio::time::sleep(Duration::from_secs(2)).await;
    drop(fleet);
    fleet = world.fleet();
    writer.await.unwrap();
    let joined =
        "SELECT b.id, b.weight_kg, b.grade, b.room, r.label AS room_label, CASE WHEN r.label LIKE 'cold%' THEN 'cold'
        WHEN b.weight_kg > 250 THEN 'large' ELSE 'bins' END AS way FROM bins b LEFT JOIN rooms r ON r.id = b.room";
    let there = ["bins", "large", "cold"];
    let there =
        there.map(|t| format!("SELECT id, weight_kg, grade, room, room_label, '{t}' AS way FROM {t}")).join(" UNION ALL ");
    // the table of cold rooms is made with its first row
    source.batch_execute("UPDATE rooms SET label = 'cold ' || id WHERE id = 1").await.unwrap();
    world.until_same((&source, joined), (&target, &there)).await;
    // of every key, what each topic holds in order is what came, once
    let came = u64::try_from(topic_records(&world.database, "packhouse.bins").await.len()).unwrap();
    let start = Instant::now();
    loop {
        let found = world.database.find_connector(between).await.unwrap();
        let counted: u64 = found.said().flat_map(|l| l.tables.values()).map(|t| t.counts.total()).sum();
        if counted == came {
            break;
        }
        assert!(counted < came && start.elapsed() < PATIENCE, "{counted} read of {came}: {:?}", found.lanes);
        tokio::time::sleep(Duration::from_millis(200)).await;
    }
    // what was carried before says what its reference says now, whether the lane runs meanwhile, falls or begins anew
    for change in [
        "UPDATE rooms SET label = 'cold ' || id WHERE id < 10",
        "DELETE FROM rooms WHERE id = 5; INSERT INTO rooms VALUES (45, 'new'), (46, 'cold new')",
        "ALTER TABLE rooms ALTER id TYPE bigint; UPDATE rooms SET label = 'warm ' || id WHERE id < 4",
        "UPDATE rooms SET label = 'cold ' || id WHERE id > 20; UPDATE bins SET room = room + 1 WHERE id % 7 = 0",
        "TRUNCATE rooms; INSERT INTO rooms SELECT n, 'cold again ' || n FROM generate_series(1, 30, 2) n",
    ] {
        source.batch_execute(change).await.unwrap();
        if change.starts_with("UPDATE") {
            tokio::time::sleep(Duration::from_millis(150)).await;
            drop(fleet);
            source.batch_execute("UPDATE rooms SET label = label || '!' WHERE id IN (2, 30)").await.unwrap();
            fleet = world.fleet();
        }
        world.until_same((&source, joined), (&target, &there)).await;
    }
    fleet.stop().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_cannot_be_carried_between_topics_waits_and_comes_later_once() {
    let world = World::new().await;
    let source = world.cluster.connect("packhouse").await.unwrap();
    source
        .batch_execute(
            "CREATE TABLE bins (id bigint PRIMARY KEY, code text);
             INSERT INTO bins SELECT n, CASE WHEN n % 50 = 0 THEN 'none' ELSE n::text END FROM generate_series(1, 200) n",
        )
        .await
        .unwrap();
    world.connector("from-packhouse", world.source(&["bins"], 2).await).await;
    let shape = |number: &str| {
        let steps = json!([{"step": "compute", "column": "number", "value": number}, {"step": "drop_repeats"},
            {"step": "route", "ways": [{"when": "number > 100", "to": "rich.{code}"}]}]);
        Shapes { steps: [("packhouse.bins".to_owned(), serde_json::from_value(steps).unwrap())].into(), ..Shapes::default() }
    };
    let carried = CarriedTopic { topic: "packhouse.bins".into(), to: "rich.bins".into(), rows: None, fit: None };
    let definition =
        |number: &str| TopicsDefinition { shape: shape(number), ..TopicsDefinition::of(vec![carried.clone()], 2) };
    let rich = world.connector("rich", definition("CAST(code AS integer)")).await;
    let fleet = world.fleet();
    let came = async |count: usize| {
        let start = Instant::now();
        loop {
            let found = match world.database.topic(&TopicName::parse("rich.bins").unwrap()).await {
                Ok(_) => topic_records(&world.database, "rich.bins").await.len(),
                Err(_) => 0,
            };
            if found == count {
                return;
            }
            assert!(found < count && start.elapsed() < PATIENCE, "{found} of {count}");
            tokio::time::sleep(Duration::from_millis(100)).await;
        }
    };
    let states = async |states: &[&str]| world.database.quarantined(Some(rich), None, states, 0, 99).await.unwrap();
    came(98).await;
    let waiting = states(&["waiting"]).await;
    assert_eq!((waiting.len(), waiting[0].step.as_str()), (4, "shape"));
    assert!(waiting[0].finding.contains("step 1 (compute)") && waiting[0].finding.contains("code = \"none\""));
    // what is mended in the source comes by itself, and what waited of it is void
    source.batch_execute("UPDATE bins SET code = '7' WHERE id = 50").await.unwrap();
    came(99).await;
    assert_eq!(states(&["superseded"]).await.len(), 1);
    // the others come once the shape takes them
    let connector = world.database.find_connector(rich).await.unwrap();
    let takes = definition("CASE WHEN code <> 'none' THEN CAST(code AS integer) END");
    let name = gonvel_core::naming::ConnectorName::parse("rich").unwrap();
    let other = gonvel_core::connector::ValidConnector::check(rich, name, takes.into()).unwrap();
    world.database.change_connector(&other, connector.version, &[], "").await.unwrap();
    world.database.retry(&gonvel_storage::quarantine::Which::All(rich), None).await.unwrap();
    came(102).await;
    let start = Instant::now();
    while states(&["delivered"]).await.len() < 3 {
        assert!(start.elapsed() < PATIENCE);
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
    world.database.ask(rich, Wish::Stop, "").await.unwrap();
    world.until_state(rich, State::Stopped).await;
    // as if it had crashed before that was noted
    world.sql_own("UPDATE quarantine SET state = 'asked' WHERE state = 'delivered'").await;
    world.database.ask(rich, Wish::Run, "").await.unwrap();
    world.until_state(rich, State::Following).await;
    source.batch_execute("INSERT INTO bins VALUES (201, '7')").await.unwrap();
    came(103).await;
    assert_eq!(states(&["delivered"]).await.len(), 3);
    // moved to its beginning, it carries all again: of the row that was mended both states, one of them filling in for the other
    world.database.ask(rich, Wish::Stop, "").await.unwrap();
    world.until_state(rich, State::Stopped).await;
    let from = world.database.position(rich, 0).await.unwrap().unwrap();
    let definition = world.database.find_connector(rich).await.unwrap().definition;
    let stands = standing::stands(&world.database, rich, &definition).await.unwrap();
    let moves: Vec<_> = stands.into_iter().map(|(at, next)| (at, next, 0)).collect();
    let moved = standing::move_to(&world.database, (rich, &definition), &moves, false).await.unwrap().unwrap();
    assert_eq!(moved.from, from);
    world.database.move_lane((rich, 0), &from, &moved.to).await.unwrap();
    assert!(world.database.move_lane((rich, 0), &from, &moved.to).await.is_err());
    assert!(standing::move_to(&world.database, (rich, &definition), &moves, false).await.is_err());
    world.database.ask(rich, Wish::Run, "").await.unwrap();
    came(103 + 104).await;
    fleet.stop().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn rows_that_a_source_cannot_shape_wait_by_their_keys_and_are_read_again() {
    let world = World::new().await;
    let source = world.cluster.connect("packhouse").await.unwrap();
    let target = world.cluster.connect("settlement").await.unwrap();
    source
        .batch_execute(
            "CREATE TABLE bins (id bigint PRIMARY KEY, code text, phone text);
             INSERT INTO bins SELECT n, CASE WHEN n % 50 = 0 THEN 'none' ELSE n::text END, '0161 496 ' || n
               FROM generate_series(1, 200) n",
        )
        .await
        .unwrap();
    let definition = async |number: &str| {
        let shape = steps(
            "public.bins",
            json!([{"step": "compute", "column": "number", "value": number}, {"step": "mask", "columns": ["phone"], "how": "hash"}]),
        );
        SourceDefinition { shape, ..world.source(&["bins"], 2).await }
    };
    let from = world.connector("from-packhouse", definition("CAST(code AS integer) + length(phone)").await).await;
    world.connector("to-settlement", world.sink(&["bins"]).await).await;
    let fleet = world.fleet();
    let states = async |states: &[&str]| world.database.quarantined(Some(from), None, states, 0, 99).await.unwrap();
    let good = "SELECT id, code::int + length(phone) AS number FROM bins WHERE code <> 'none'";
    let there = "SELECT id, number FROM bins";
    world.until_same((&source, good), (&target, there)).await;
    // a row of the stream as well; one that is mended and one that goes wait no longer
    source
        .batch_execute(
            "INSERT INTO bins VALUES (250, 'none', '0161 496 250'), (201, '201', '0161 496 201');
             UPDATE bins SET code = '50' WHERE id = 50; DELETE FROM bins WHERE id = 100",
        )
        .await
        .unwrap();
    world.until_same((&source, good), (&target, there)).await;
    let waiting = states(&["waiting"]).await;
    assert_eq!(waiting.len(), 3, "{waiting:?}");
    assert_eq!(states(&["superseded"]).await.len(), 2);
    for kept in &waiting {
        assert!(kept.value.is_none() && kept.headers == json!([]) && kept.record_offset < 0, "{kept:?}");
        assert!(kept.finding.contains("step 1 (compute)") && !kept.finding.contains("0161"), "{}", kept.finding);
    }
    // one is tried again as it is, and fails again; then the shape takes them
    let connector = world.database.find_connector(from).await.unwrap();
    let one = gonvel_storage::quarantine::Which::Ids(vec![waiting[0].id]);
    world.database.retry(&one, None).await.unwrap();
    let start = Instant::now();
    while states(&["waiting"]).await.iter().all(|kept| kept.tries == 0) {
        assert!(start.elapsed() < PATIENCE);
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
    let takes = definition("CASE WHEN code <> 'none' THEN CAST(code AS integer) + length(phone) END").await;
    let name = gonvel_core::naming::ConnectorName::parse("from-packhouse").unwrap();
    let other = gonvel_core::connector::ValidConnector::check(from, name, takes.into()).unwrap();
    world.database.change_connector(&other, connector.version, &[], "").await.unwrap();
    world.database.retry(&gonvel_storage::quarantine::Which::All(from), None).await.unwrap();
    let all = "SELECT id, CASE WHEN code <> 'none' THEN code::int + length(phone) END AS number FROM bins";
    world.until_same((&source, all), (&target, there)).await;
    let start = Instant::now();
    while states(&["delivered"]).await.len() < 3 {
        assert!(start.elapsed() < PATIENCE, "{:?}", states(&["waiting", "asked"]).await);
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
    // 196 loaded, one inserted, one mended, one deleted, three tried again
    assert_eq!(topic_records(&world.database, "packhouse.bins").await.len(), 202);
    fleet.stop().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_waits_is_void_once_the_shape_leaves_it_out_or_its_reference_comes() {
    let world = World::new().await;
    let source = world.cluster.connect("packhouse").await.unwrap();
    source
        .batch_execute(
            "CREATE TABLE rooms (id int PRIMARY KEY, label text); INSERT INTO rooms VALUES (1, 'cold');
             CREATE TABLE bins (id bigint PRIMARY KEY, code text, room int); ALTER TABLE bins REPLICA IDENTITY FULL;
             INSERT INTO bins VALUES (1, 'none', 1), (2, '2', 9), (3, '3', 1), (4, 'none', 1)",
        )
        .await
        .unwrap();
    let from = world.connector("from-packhouse", world.source(&["rooms", "bins"], 1).await).await;
    let fleet = world.fleet();
    world.until_state(from, State::Following).await;
    let shape = steps(
        "packhouse.bins",
        json!([
            {"step": "lookup", "topic": "packhouse.rooms", "by": [{"column": "room", "key": "id"}],
             "columns": [{"from": "label", "column": "label"}], "miss": "refuse", "again": true},
            {"step": "filter", "only": "code <> 'gone'"},
            {"step": "compute", "column": "number", "value": "CAST(code AS integer)"},
        ]),
    );
    let carried = CarriedTopic { topic: "packhouse.bins".into(), to: "rich.bins".into(), rows: None, fit: None };
    let rich = world.connector("rich", TopicsDefinition { shape, ..TopicsDefinition::of(vec![carried], 1) }).await;
    let states = async |state: &str| world.database.quarantined(Some(rich), None, &[state], 0, 99).await.unwrap().len();
    let until = async |state: &str, count: usize| {
        let start = Instant::now();
        while states(state).await != count {
            assert!(start.elapsed() < PATIENCE, "{} {state}, not {count}", states(state).await);
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
    };
    until("waiting", 3).await;
    // the shape leaves out what the row says now: what waits is an older state of it
    source.batch_execute("UPDATE bins SET code = 'gone' WHERE id = 1").await.unwrap();
    until("superseded", 1).await;
    // the room comes: its bin is carried again, and does not wait besides
    source.batch_execute("INSERT INTO rooms VALUES (9, 'warm')").await.unwrap();
    until("superseded", 2).await;
    until("waiting", 1).await;
    let there = topic_changes(&world.database, "rich.bins").await;
    let of_two: Vec<_> = there.iter().filter(|change| change["new"]["id"] == 2).collect();
    assert_eq!((of_two.len(), &of_two[0]["new"]["label"], &of_two[0]["change"]), (1, &json!("warm"), &json!("update")));
    fleet.stop().await;
}
