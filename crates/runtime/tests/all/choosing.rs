//! What of a source is captured: tables by their names, also those made later, columns left out, other keys, partitions, rows of
//! the load, and the forms that records are written in.
#![allow(clippy::cast_precision_loss, reason = "counts far below 2^52")]

use std::time::{Duration, Instant};

use crate::support::{PATIENCE, World, rows, topic_changes, topic_records};
use gonvel_core::connector::{CapturedTable, Encoding, SourceDefinition, State, ValidConnector, ValueForm, Values, Wish};
use gonvel_core::naming::{ConnectorName, TopicName};
use gonvel_core::ports::TopicLog;
use gonvel_core::table_patterns::TablePatterns;
use tokio_postgres::Client;

async fn clients(world: &World) -> (Client, Client) {
    (world.cluster.connect("packhouse").await.unwrap(), world.cluster.connect("settlement").await.unwrap())
}

async fn until<T>(what: &str, mut found: impl AsyncFnMut() -> Option<T>) -> T {
    let start = Instant::now();
    loop {
        if let Some(found) = found().await {
            return found;
        }
        assert!(start.elapsed() < PATIENCE, "{what}");
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
}

async fn published(source: &Client) -> Vec<String> {
    let all = source.query("SELECT tablename::text FROM pg_publication_tables ORDER BY 1", &[]).await.unwrap();
    all.iter().map(|row| row.get(0)).collect()
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn tables_are_found_by_their_names_also_those_made_later_and_with_what_was_in_them_before() {
    let world = World::new().await;
    let (source, target) = clients(&world).await;
    source
        .batch_execute(
            "CREATE TABLE line_1 (id int PRIMARY KEY, n int); INSERT INTO line_1 SELECT n, n FROM generate_series(1, 500) n;
             CREATE TABLE line_old (id int PRIMARY KEY); CREATE TABLE notes (id int PRIMARY KEY); CREATE TABLE line_bare (n int)",
        )
        .await
        .unwrap();
    let patterns = TablePatterns {
        include: vec!["public.line_*".into()],
        exclude: vec!["*_old".into()],
        topic: "packhouse.{table}".into(),
    };
    let definition = SourceDefinition { patterns: Some(patterns), ..world.source(&[], 2).await };
    let fleet = world.fleet();
    let id = world.connector("lines", definition).await;
    world.until_state(id, State::Following).await;
    assert_eq!(published(&source).await, ["line_1"]);
    let notes = world.database.find_connector(id).await.unwrap().said().next().unwrap().notes.clone();
    assert_eq!(notes, ["public.line_bare is not captured: it has no primary key"]);
    // the table that cannot be captured can still be changed in the source
    source.batch_execute("INSERT INTO line_bare VALUES (1); UPDATE line_bare SET n = 2").await.unwrap();

    // made and written in a transaction that is under way while the table is taken in, and by others
    let slow = world.cluster.connect("packhouse").await.unwrap();
    source.batch_execute("CREATE TABLE line_2 (id int PRIMARY KEY, n int)").await.unwrap();
    slow.batch_execute("BEGIN; INSERT INTO line_2 SELECT n, -n FROM generate_series(1, 200) n").await.unwrap();
    until("the new table was not published", async || {
        source
            .batch_execute(
                "INSERT INTO line_2 SELECT 1000 + count(*), 0 FROM line_2; UPDATE line_2 SET n = n + 1 WHERE id % 7 = 0",
            )
            .await
            .unwrap();
        published(&source).await.contains(&"line_2".to_owned()).then_some(())
    })
    .await;
    source.batch_execute("INSERT INTO line_2 VALUES (5000, 5)").await.unwrap();
    // the other table does not wait for that transaction
    source.batch_execute("UPDATE line_1 SET n = -1 WHERE id = 1").await.unwrap();
    until("the other table waits", async || {
        let changes = topic_changes(&world.database, "packhouse.line_1").await;
        changes.iter().any(|c| c["change"] == "update").then_some(())
    })
    .await;
    slow.batch_execute("COMMIT").await.unwrap();
    source.batch_execute("UPDATE line_2 SET n = n + 1 WHERE id < 100; DELETE FROM line_2 WHERE id = 1").await.unwrap();
    until("the topic was not made", async || {
        world.database.topic(&TopicName::parse("packhouse.line_2").unwrap()).await.ok()
    })
    .await;
    world.connector("to-settlement", world.sink(&["line_1", "line_2"]).await).await;
    world.until_equal(&source, &target, &["line_1", "line_2"]).await;

    // what was changed in a table that is gone before anyone looked is in the log, and is brought all the same
    source.batch_execute("CREATE TABLE line_9 (id int PRIMARY KEY, n int)").await.unwrap();
    until("the table was not taken in", async || published(&source).await.contains(&"line_9".to_owned()).then_some(()))
        .await;
    world.until_state(id, State::Following).await;
    fleet.stop().await;
    source.batch_execute("INSERT INTO line_9 VALUES (1, 1); UPDATE line_9 SET n = 77; DROP TABLE line_9").await.unwrap();
    let fleet = world.fleet();
    until("the last change did not come", async || {
        world.database.topic(&TopicName::parse("packhouse.line_9").unwrap()).await.ok()?;
        let changes = topic_changes(&world.database, "packhouse.line_9").await;
        changes.iter().any(|c| c["new"]["n"] == 77).then_some(())
    })
    .await;

    // a table that gets its key, and one that is renamed away
    source.batch_execute("ALTER TABLE line_bare ADD PRIMARY KEY (n); ALTER TABLE line_1 RENAME TO former").await.unwrap();
    until("the tables were not looked for again", async || {
        (published(&source).await == ["line_2", "line_bare"]).then_some(())
    })
    .await;
    world.until_state(id, State::Following).await;

    // one that gets another name which is captured as well brings all its rows under that
    source.batch_execute("ALTER TABLE line_2 RENAME TO line_3").await.unwrap();
    until("the topic of the other name was not made", async || {
        world.database.topic(&TopicName::parse("packhouse.line_3").unwrap()).await.ok()
    })
    .await;
    world.connector("to-settlement-3", world.sink(&["line_3"]).await).await;
    world.until_equal(&source, &target, &["line_3"]).await;
    world.database.ask(id, Wish::Delete, "").await.unwrap();
    until("something was left behind", async || {
        let left = "SELECT (SELECT count(*) FROM pg_replication_slots) + (SELECT count(*) FROM pg_publication)";
        (source.query_one(left, &[]).await.unwrap().get::<_, i64>(0) == 0).then_some(())
    })
    .await;
    fleet.stop().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn columns_keys_rows_and_partitions_are_captured_as_chosen_and_an_edit_changes_that() {
    let world = World::new().await;
    let (source, target) = clients(&world).await;
    source
        .batch_execute(
            "CREATE TABLE bins (id bigint PRIMARY KEY, grade text, secret text, weight numeric(7,1));
             INSERT INTO bins SELECT n, 'second', 'never', n FROM generate_series(1, 400) n;
             CREATE TABLE tags (bin bigint NOT NULL, label text NOT NULL, at timestamptz); ALTER TABLE tags REPLICA IDENTITY FULL;
             INSERT INTO tags SELECT n, 'l' || n % 3, now() FROM generate_series(1, 300) n;
             CREATE TABLE weighings (id bigint, day date, kg numeric(7,1), PRIMARY KEY (id, day)) PARTITION BY RANGE (day);
             CREATE TABLE weighings_10 PARTITION OF weighings FOR VALUES FROM ('2026-10-01') TO ('2026-11-01');
             CREATE TABLE weighings_11 (kg numeric(7,1), day date NOT NULL, id bigint NOT NULL, PRIMARY KEY (id, day));
             ALTER TABLE weighings ATTACH PARTITION weighings_11 FOR VALUES FROM ('2026-11-01') TO ('2026-12-01');
             INSERT INTO weighings SELECT n, '2026-10-01'::date + n % 60, n FROM generate_series(1, 30000) n",
        )
        .await
        .unwrap();
    let mut definition = world.source(&["bins", "tags", "weighings"], 3).await;
    definition.load.chunks = 3;
    definition.tables[0].leave_out = vec!["secret".into()];
    definition.tables[0].load_where = Some("id <= 100 -- the first".into());
    definition.tables[1].key = vec!["label".into(), "bin".into()];
    let fleet = world.fleet();
    let id = world.connector("from-packhouse", definition.clone()).await;
    until("the source did not begin", async || {
        world.database.find_connector(id).await.unwrap().said().next().and_then(|l| l.position.clone())
    })
    .await;
    // rows move between partitions, and a partition is rewritten, while the load goes on
    source
        .batch_execute(
            "UPDATE weighings SET day = '2026-10-05' WHERE id % 50 = 0; DELETE FROM weighings WHERE id % 77 = 0;
             UPDATE tags SET label = 'moved' WHERE bin = 7; DELETE FROM tags WHERE bin = 8; UPDATE weighings SET kg = kg + 1 WHERE id < 900;
             UPDATE bins SET grade = 'first' WHERE id = 399; UPDATE bins SET secret = 'other' WHERE id = 398",
        )
        .await
        .unwrap();
    source.batch_execute("VACUUM FULL weighings_11").await.unwrap();
    world.until_state(id, State::Following).await;
    let to = world.connector("to-settlement", world.sink(&["bins", "tags", "weighings"]).await).await;
    world.until_equal(&source, &target, &["tags", "weighings"]).await;
    until("the chosen rows did not come", async || {
        let expected = source
            .query("SELECT (id, grade, weight)::text FROM bins WHERE id <= 100 OR id IN (398, 399) ORDER BY 1", &[])
            .await
            .unwrap();
        let expected: Vec<String> = expected.iter().map(|row| row.get(0)).collect();
        (rows(&target, "bins").await == expected).then_some(())
    })
    .await;
    for change in topic_changes(&world.database, "packhouse.bins").await {
        assert!(!change.to_string().contains("secret") && !change.to_string().contains("never"), "{change}");
    }

    // the column comes back, all rows are wanted, a table goes, another comes
    source
        .batch_execute("CREATE TABLE rooms (id int PRIMARY KEY, label text); INSERT INTO rooms VALUES (1, 'north')")
        .await
        .unwrap();
    let mut edited = definition.clone();
    edited.tables[0] = CapturedTable::whole("public", "bins", "packhouse.bins");
    edited.tables[1] = CapturedTable::whole("public", "rooms", "packhouse.rooms");
    let valid = ValidConnector::check(id, ConnectorName::parse("from-packhouse").unwrap(), edited.into()).unwrap();
    world.database.change_connector(&valid, 1, &["public.bins".to_owned()], "").await.unwrap();
    assert!(world.database.change_connector(&valid, 1, &[], "").await.is_err(), "an edit of an older version was taken");
    until("the publication was not changed", async || {
        (published(&source).await == ["bins", "rooms", "weighings"]).then_some(())
    })
    .await;
    until("the topic was not made", async || world.database.topic(&TopicName::parse("packhouse.rooms").unwrap()).await.ok())
        .await;
    world.until_state(id, State::Following).await;
    let sink = world.sink(&["bins", "rooms", "weighings"]).await;
    let valid = ValidConnector::check(to, ConnectorName::parse("to-settlement").unwrap(), sink.into()).unwrap();
    world.database.change_connector(&valid, 1, &[], "").await.unwrap();
    source.batch_execute("INSERT INTO rooms VALUES (2, 'south'); UPDATE weighings SET kg = 0 WHERE id = 5").await.unwrap();
    world.until_equal(&source, &target, &["rooms", "weighings"]).await;
    until("the column did not come back", async || {
        let select = "SELECT (id, grade, secret, weight)::text FROM bins ORDER BY 1";
        let both = (source.query(select, &[]).await.unwrap(), target.query(select, &[]).await.ok()?);
        let text = |rows: &[tokio_postgres::Row]| rows.iter().map(|r| r.get::<_, String>(0)).collect::<Vec<_>>();
        (text(&both.0) == text(&both.1)).then_some(())
    })
    .await;
    let versions = world.database.versions(id).await.unwrap();
    assert_eq!(versions.iter().map(|v| v.version).collect::<Vec<_>>(), [2, 1]);
    assert_eq!(versions[1].definition, definition.into());

    // a table that was dropped keeps none of the others from being carried, also after a start
    source.batch_execute("DROP TABLE rooms").await.unwrap();
    world.database.start_anew(&[id]).await.unwrap();
    source.batch_execute("UPDATE weighings SET kg = 1 WHERE id = 6").await.unwrap();
    world.until_equal(&source, &target, &["weighings"]).await;
    world.until_state(id, State::Following).await;
    fleet.stop().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn truncates_are_sent_again_when_rows_become_changes() {
    let world = World::new().await;
    let (source, target) = clients(&world).await;
    source.batch_execute("CREATE TABLE bins (id int PRIMARY KEY); INSERT INTO bins VALUES (1), (2)").await.unwrap();
    let mut definition = world.source(&["bins"], 2).await;
    definition.values.form = ValueForm::Row;
    let fleet = world.fleet();
    let id = world.connector("from-packhouse", definition.clone()).await;
    world.connector("to-settlement", world.sink(&["bins"]).await).await;
    world.until_equal(&source, &target, &["bins"]).await;
    definition.values.form = ValueForm::Change;
    let valid = ValidConnector::check(id, ConnectorName::parse("from-packhouse").unwrap(), definition.into()).unwrap();
    world.database.change_connector(&valid, 1, &[], "").await.unwrap();
    until("truncates are not published", async || {
        let sent = "SELECT bool_and(pubtruncate) FROM pg_publication";
        source.query_one(sent, &[]).await.unwrap().get::<_, bool>(0).then_some(())
    })
    .await;
    source.batch_execute("TRUNCATE bins; INSERT INTO bins VALUES (3)").await.unwrap();
    world.until_equal(&source, &target, &["bins"]).await;
    fleet.stop().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn records_of_every_form_and_encoding_make_the_same_tables() {
    let world = World::new().await;
    let (source, target) = clients(&world).await;
    source
        .batch_execute(&format!(
            "{} CREATE SEQUENCE numbers; INSERT INTO bins SELECT n, n % 500 / 10.0, 'second', repeat('r', 2500), '2026-10-01', n % 60
             FROM generate_series(1, 400) n; INSERT INTO lines SELECT n, 1, n % 9 / 10.0 FROM generate_series(1, 100) n",
            crate::support::TABLES
        ))
        .await
        .unwrap();
    let fleet = world.fleet();
    let mut names = Vec::new();
    for (form, encoding) in
        [ValueForm::Change, ValueForm::Row].into_iter().flat_map(|f| [(f, Encoding::Avro), (f, Encoding::Json)])
    {
        let name = format!("{form:?}-{encoding:?}").to_lowercase();
        let mut definition = world.source(&["bins", "lines"], 2).await;
        definition.values = Values { form, encoding };
        let mut sink = world.sink(&["bins", "lines"]).await;
        for (table, delivered) in definition.tables.iter_mut().zip(&mut sink.topics) {
            table.topic = format!("{name}.{}", table.table);
            (delivered.topic, delivered.schema) = (table.topic.clone(), name.clone());
        }
        let from = world.connector(&format!("from-{name}"), definition).await;
        world.until_state(from, State::Following).await;
        world.connector(&format!("to-{name}"), sink).await;
        names.push(name);
    }
    crate::support::write(world.cluster.connect("packhouse").await.unwrap(), 150, 5).await;
    for name in &names {
        for table in ["bins", "lines"] {
            let there = format!("\"{name}\".{table}");
            until(&format!("{there} is not like its source"), async || {
                (rows(&source, table).await == rows(&target, &there).await).then_some(())
            })
            .await;
        }
    }
    // a delete in row form has a key and no value; a row is always whole
    let records = topic_records(&world.database, "row-json.bins").await;
    assert!(records.iter().any(|r| r.value.is_none() && r.key.is_some()));
    for value in records.iter().filter_map(|r| r.value.as_ref()) {
        let row: serde_json::Value = serde_json::from_slice(value).unwrap();
        assert!(row["id"].is_i64() && row.as_object().unwrap().len() == 6, "{row}");
    }
    fleet.stop().await;
}
