//! Records that a sink cannot handle: they wait, all others go on, and nothing old overtakes what is newer.

use std::time::{Duration, Instant};

use crate::support::{PATIENCE, World, topic_records};
use gonvel_core::block::BlockBuilder;
use gonvel_core::connector::{Deletes, SinkDefinition, State, TargetRows, Wish};
use gonvel_core::naming::{ConnectorId, PartitionId, TopicName, TopicPartition};
use gonvel_core::ports::{AppendBatch, PartitionBlocks, TopicLog};
use gonvel_storage::quarantine::{Kept, Which};
use tokio_postgres::Client;

const BINS: &str = "CREATE TABLE bins (id bigint PRIMARY KEY, weight_kg int, grade text)";

async fn begin(rows: i64) -> (World, Client, Client) {
    let world = World::new().await;
    let source = world.cluster.connect("packhouse").await.unwrap();
    let target = world.cluster.connect("settlement").await.unwrap();
    source
        .batch_execute(&format!("{BINS}; INSERT INTO bins SELECT n, n, 'first' FROM generate_series(1, {rows}) n"))
        .await
        .unwrap();
    (world, source, target)
}

async fn flow(world: &World, partitions: i32, change: impl FnOnce(&mut SinkDefinition)) -> ConnectorId {
    world.connector("from-packhouse", world.source(&["bins"], partitions).await).await;
    let mut sink = world.sink(&["bins"]).await;
    change(&mut sink);
    world.connector("to-settlement", sink).await
}

async fn kept(world: &World, id: ConnectorId, state: &str) -> Vec<Kept> {
    world.database.quarantined(Some(id), None, &[state], 0, 500).await.unwrap()
}

/// Waits until so many records are in a state, and gives them.
async fn until_kept(world: &World, id: ConnectorId, state: &str, count: usize) -> Vec<Kept> {
    let start = Instant::now();
    loop {
        let there = kept(world, id, state).await;
        if there.len() == count {
            return there;
        }
        let all = world.database.quarantined(Some(id), None, &["waiting", "asked", "delivered", "superseded"], 0, 500).await;
        assert!(start.elapsed() < PATIENCE, "{} are {state}, not {count}: {all:?}", there.len());
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
}

/// The id of the bin that a record is of: its key, in Avro's form for whole numbers after ten bytes that say so.
fn id_of(record: &Kept) -> i64 {
    let bytes = &record.key.as_deref().unwrap()[10..];
    let zigzag = bytes.iter().rev().fold(0_i64, |sum, byte| (sum << 7) | i64::from(byte & 0x7f));
    (zigzag >> 1) ^ -(zigzag & 1)
}

async fn until_count(client: &Client, statement: &str, count: i64) {
    let start = Instant::now();
    loop {
        let found: i64 = client.query_one(statement, &[]).await.map_or(-1, |row| row.get(0));
        if found == count {
            return;
        }
        assert!(start.elapsed() < PATIENCE, "{statement}: {found}, not {count}");
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn three_bad_rows_of_a_thousand_cost_three_rows_and_are_delivered_once_mended() {
    let (world, source, target) = begin(1_000).await;
    source
        .batch_execute("UPDATE bins SET weight_kg = 99999 WHERE id IN (7, 500); UPDATE bins SET grade = NULL WHERE id = 900")
        .await
        .unwrap();
    target
        .batch_execute("CREATE TABLE bins (id bigint PRIMARY KEY, weight_kg smallint, grade text NOT NULL)")
        .await
        .unwrap();
    let sink = flow(&world, 3, |_| {}).await;
    let fleet = world.fleet();
    until_count(&target, "SELECT count(*) FROM bins", 997).await;
    let waiting = until_kept(&world, sink, "waiting", 3).await;
    assert!(waiting.iter().all(|w| w.key.is_some() && w.value.is_some() && w.value_schema.is_some() && w.step == "write"));
    let finding = |part: &str| waiting.iter().filter(|w| w.finding.contains(part)).count();
    assert_eq!((finding("22003"), finding("column grade")), (2, 1), "{waiting:?}");
    let causes = world.database.causes(Some(sink)).await.unwrap();
    assert_eq!(causes.iter().map(|c| c.waiting).sum::<i64>(), 3);
    assert_eq!(causes.len(), 2, "two of one cause are one group: {causes:?}");
    assert_eq!(causes.iter().flat_map(|c| &c.by_hour).sum::<i64>(), 3);
    // what is counted as delivered was delivered
    let start = Instant::now();
    loop {
        let found = world.database.find_connector(sink).await.unwrap();
        let counted: u64 = found.said().flat_map(|l| l.tables.values()).map(|t| t.counts.load).sum();
        if counted == 997 {
            break;
        }
        assert!(counted < 997 && start.elapsed() < PATIENCE, "{counted} are counted");
        tokio::time::sleep(Duration::from_millis(50)).await;
    }

    // a newer record of a key makes the older one void, also when the target is mended since
    source.batch_execute("UPDATE bins SET weight_kg = 70 WHERE id = 7").await.unwrap();
    let void = until_kept(&world, sink, "superseded", 1).await;
    let mend = "ALTER TABLE bins ALTER weight_kg TYPE int";
    target.batch_execute(mend).await.unwrap();
    assert_eq!(world.database.retry(&Which::Ids(vec![void[0].id]), None).await.unwrap(), 0);
    assert_eq!(world.database.retry(&Which::All(sink), Some(100)).await.unwrap(), 2);
    until_kept(&world, sink, "delivered", 1).await;
    // the one whose cause is still there waits on, with what was found this time
    let left = until_kept(&world, sink, "waiting", 1).await;
    assert_eq!((left[0].tries, left[0].finding.contains("column grade")), (1, true));
    let weights = "SELECT string_agg(weight_kg::text, ',' ORDER BY id) FROM bins WHERE id IN (7, 500)";
    assert_eq!(target.query_one(weights, &[]).await.unwrap().get::<_, String>(0), "70,99999");

    target.batch_execute("ALTER TABLE bins ALTER grade DROP NOT NULL").await.unwrap();
    world.database.retry(&Which::Cause(sink, left[0].cause), None).await.unwrap();
    until_kept(&world, sink, "delivered", 2).await;
    world.until_equal(&source, &target, &["bins"]).await;
    fleet.stop().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_retry_that_a_crash_cut_short_adds_no_second_row() {
    let (world, source, target) = begin(20).await;
    target.batch_execute("CREATE TABLE bins (id bigint, weight_kg int CHECK (weight_kg <> 5), grade text)").await.unwrap();
    let sink = flow(&world, 1, |sink| {
        sink.writes.rows = TargetRows::Appended;
        sink.writes.deletes = Deletes::Ignored;
    })
    .await;
    let fleet = world.fleet();
    let waiting = until_kept(&world, sink, "waiting", 1).await;
    until_count(&target, "SELECT count(*) FROM bins", 19).await;
    target.batch_execute("ALTER TABLE bins DROP CONSTRAINT bins_weight_kg_check").await.unwrap();
    world.database.retry(&Which::All(sink), None).await.unwrap();
    until_kept(&world, sink, "delivered", 1).await;
    // as if the target had committed and the note of it had not
    world.database.ask(sink, Wish::Pause, "").await.unwrap();
    world.until_state(sink, State::Paused).await;
    world.sql_own("UPDATE quarantine SET state = 'asked'").await;
    let note = format!("INSERT INTO gonvel.sink_retried SELECT '{}', {}", sink.0, waiting[0].id);
    target.batch_execute(&note).await.unwrap();
    world.database.ask(sink, Wish::Run, "").await.unwrap();
    until_kept(&world, sink, "delivered", 1).await;
    source.batch_execute("INSERT INTO bins VALUES (21, 21, 'late')").await.unwrap();
    until_count(&target, "SELECT count(*) FROM bins", 21).await;
    until_count(&target, "SELECT count(*) FROM gonvel.sink_retried", 0).await;
    fleet.stop().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_table_that_was_emptied_does_not_get_back_what_waited_for_it() {
    for lanes in [1, 2] {
        let (world, source, target) = begin(40).await;
        target
            .batch_execute(
                "CREATE TABLE bins (id bigint PRIMARY KEY, weight_kg int CHECK (weight_kg % 10 <> 3), grade text)",
            )
            .await
            .unwrap();
        let sink = flow(&world, 3, |sink| sink.placing.lanes = lanes).await;
        let fleet = world.fleet();
        until_kept(&world, sink, "waiting", 4).await;
        source.batch_execute("TRUNCATE bins; INSERT INTO bins VALUES (7, 7, 'late')").await.unwrap();
        until_count(&target, "SELECT count(*) FROM bins", 1).await;
        until_kept(&world, sink, "superseded", 4).await;
        target.batch_execute("ALTER TABLE bins DROP CONSTRAINT bins_weight_kg_check").await.unwrap();
        assert_eq!(world.database.retry(&Which::All(sink), None).await.unwrap(), 0);
        world.until_equal(&source, &target, &["bins"]).await;
        fleet.stop().await;
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_paced_retry_is_not_put_off_by_what_comes_meanwhile() {
    let (world, source, target) = begin(30).await;
    target
        .batch_execute("CREATE TABLE bins (id bigint PRIMARY KEY, weight_kg int CHECK (weight_kg > 27), grade text)")
        .await
        .unwrap();
    let sink = flow(&world, 1, |_| {}).await;
    let fleet = world.fleet();
    until_kept(&world, sink, "waiting", 27).await;
    target.batch_execute("ALTER TABLE bins DROP CONSTRAINT bins_weight_kg_check").await.unwrap();
    let client = world.cluster.connect("packhouse").await.unwrap();
    let busy = tokio::spawn(async move {
        for n in 0.. {
            if client.batch_execute(&format!("INSERT INTO bins VALUES ({}, 100, 'more')", 1_000 + n)).await.is_err() {
                return;
            }
            tokio::time::sleep(Duration::from_millis(20)).await;
        }
    });
    world.database.retry(&Which::All(sink), Some(10)).await.unwrap();
    until_kept(&world, sink, "delivered", 27).await;
    busy.abort();
    world.until_equal(&source, &target, &["bins"]).await;
    fleet.stop().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn too_many_bad_records_halt_and_lose_nothing() {
    let (world, source, target) = begin(300).await;
    target
        .batch_execute("CREATE TABLE bins (id bigint PRIMARY KEY, weight_kg int CHECK (weight_kg < 100), grade text)")
        .await
        .unwrap();
    let sink = flow(&world, 1, |sink| sink.failing.most_in_a_row = 50).await;
    let fleet = world.fleet();
    let reason = world.until_state(sink, State::Halted).await;
    assert!(reason.contains("201 records in a row") && reason.contains("constraint"), "{reason}");
    assert!(kept(&world, sink, "waiting").await.is_empty(), "what is delivered later is not in quarantine");
    let history = world.database.history_of(sink.0, None, 10).await.unwrap();
    assert_eq!(history.iter().map(|d| d.what.as_str()).collect::<Vec<_>>(), ["halted", "made and started"]);
    let lines = world.database.lines_of(sink, &gonvel_storage::catalog::history::LineFilter::default(), 50).await.unwrap();
    assert!(lines.iter().any(|l| l.level == "error" && l.says.contains("in a row")), "{lines:?}");
    target.batch_execute("ALTER TABLE bins DROP CONSTRAINT bins_weight_kg_check").await.unwrap();
    world.database.ask(sink, Wish::Run, "grower").await.unwrap();
    world.until_equal(&source, &target, &["bins"]).await;
    fleet.stop().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_record_that_is_no_change_waits_and_its_neighbours_go_on() {
    let (world, source, target) = begin(50).await;
    let sink = flow(&world, 1, |_| {}).await;
    let fleet = world.fleet();
    world.until_equal(&source, &target, &["bins"]).await;
    let topic = world.database.topic(&TopicName::parse("packhouse.bins").unwrap()).await.unwrap();
    let records = crate::support::topic_records(&world.database, "packhouse.bins").await;
    // a change between two others of the same block: cut short, and one of no schema
    let (whole, mut cut) = (records[3].clone(), records[4].clone());
    cut.value = cut.value.map(|v| v.slice(..v.len() - 3));
    let mut block = BlockBuilder::default();
    for record in [&whole, &cut, &whole] {
        block.push(
            record.key.as_deref(),
            record.value.as_deref(),
            &[],
            record.timestamp_us,
            record.schema,
            record.key_schema,
        );
    }
    block.push(Some(b"bin"), Some(b"{}"), &[], 1, None, None);
    let to = TopicPartition { topic: topic.id, partition: PartitionId(0) };
    let parts = vec![PartitionBlocks { to, blocks: block.finish().into_iter().collect() }];
    world.database.append(AppendBatch { parts, ..AppendBatch::default() }).await.unwrap();
    source.batch_execute("UPDATE bins SET grade = 'second'").await.unwrap();
    world.until_equal(&source, &target, &["bins"]).await;
    let waiting = kept(&world, sink, "waiting").await;
    let read: Vec<_> = waiting.iter().map(|w| (w.record_offset, w.step.as_str(), w.value_schema.is_some())).collect();
    // the one that was cut short has the key of bin 5, which was changed since
    assert_eq!(read, [(53, "read", false)]);
    assert_eq!(waiting[0].value.as_deref(), Some(&b"{}"[..]));
    let void = kept(&world, sink, "superseded").await;
    assert_eq!(void.iter().map(|w| w.record_offset).collect::<Vec<_>>(), [51]);
    assert_eq!(world.database.discard(&Which::All(sink), i64::MAX, "grower", "a test of the scale").await.unwrap(), 1);
    let gone = kept(&world, sink, "discarded").await;
    assert_eq!((gone[0].settled_by.as_deref(), gone[0].reason.as_deref()), (Some("grower"), Some("a test of the scale")));
    fleet.stop().await;
}

/// A change that brings only a part of its row is not delivered past the row's own, which waits: in rounds of their own and in one.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_part_of_a_row_goes_behind_the_row_that_waits() {
    let ways = [
        (TargetRows::Current, Deletes::Applied),
        (TargetRows::Current, Deletes::Ignored),
        (TargetRows::Current, Deletes::Marked),
        (TargetRows::History, Deletes::Applied),
    ];
    for (rows, deletes) in ways {
        let (world, source, target) = begin(5).await;
        let large = "ALTER TABLE bins ALTER grade SET STORAGE EXTERNAL";
        source.batch_execute(large).await.unwrap();
        let sink = flow(&world, 1, |sink| (sink.writes.rows, sink.writes.deletes) = (rows, deletes)).await;
        let fleet = world.fleet();
        until_count(&target, "SELECT count(*) FROM bins", 5).await;
        let limit = "ALTER TABLE bins ADD CONSTRAINT light CHECK (weight_kg < 100)";
        target.batch_execute(limit).await.unwrap();
        for together in [false, true] {
            let (first, second) = if together { (11, 12) } else { (21, 22) };
            if together {
                world.database.ask(sink, Wish::Pause, "").await.unwrap();
                world.until_state(sink, State::Paused).await;
            }
            let settled = kept(&world, sink, "delivered").await.len();
            let insert =
                format!("INSERT INTO bins SELECT n, 500, repeat('large', 1000) FROM generate_series({first}, {second}) n");
            source.batch_execute(&insert).await.unwrap();
            if !together {
                until_kept(&world, sink, "waiting", 2).await;
            }
            source.batch_execute(&format!("UPDATE bins SET weight_kg = 5 WHERE id = {first}")).await.unwrap();
            if together {
                world.database.ask(sink, Wish::Run, "").await.unwrap();
            }
            let waiting = until_kept(&world, sink, "waiting", 3).await;
            let behind = waiting.iter().max_by_key(|w| w.record_offset).unwrap();
            assert!(behind.finding.contains("brings only a part of the row"), "{}", behind.finding);
            // by itself it has no row yet
            world.database.retry(&Which::Ids(vec![behind.id]), None).await.unwrap();
            let start = Instant::now();
            while kept(&world, sink, "waiting").await.iter().all(|w| w.tries == 0) {
                assert!(start.elapsed() < PATIENCE);
                tokio::time::sleep(Duration::from_millis(50)).await;
            }
            target.batch_execute("ALTER TABLE bins DROP CONSTRAINT light").await.unwrap();
            world.database.retry(&Which::All(sink), None).await.unwrap();
            until_kept(&world, sink, "delivered", settled + 3).await;
            let all = "SELECT id, weight_kg, grade FROM bins";
            let now = if rows == TargetRows::History { &format!("{all} WHERE valid_to IS NULL") } else { all };
            world.until_same((&source, all), (&target, now)).await;
            let heavy = "UPDATE bins SET weight_kg = 6 WHERE weight_kg > 99";
            source.batch_execute(heavy).await.unwrap();
            world.until_same((&source, all), (&target, now)).await;
            if rows == TargetRows::History {
                target.batch_execute("DELETE FROM bins WHERE weight_kg > 99").await.unwrap();
            }
            target.batch_execute(limit).await.unwrap();
        }
        // one whose row is not wanted any more has none: it is not taken for delivered
        source.batch_execute("INSERT INTO bins VALUES (31, 500, repeat('large', 1000))").await.unwrap();
        let unwanted = until_kept(&world, sink, "waiting", 1).await[0].id;
        world.database.discard(&Which::Ids(vec![unwanted]), i64::MAX, "grower", "a test of the scale").await.unwrap();
        let settled = kept(&world, sink, "delivered").await.len();
        source.batch_execute("UPDATE bins SET weight_kg = 5 WHERE id = 31").await.unwrap();
        let alone = until_kept(&world, sink, "waiting", 1).await.remove(0);
        world.database.retry(&Which::Ids(vec![alone.id]), None).await.unwrap();
        let start = Instant::now();
        loop {
            let alone = until_kept(&world, sink, "waiting", 1).await.remove(0);
            if alone.tries > 0 {
                assert!(alone.finding.contains("does not have the row"), "{}", alone.finding);
                break;
            }
            assert!(start.elapsed() < PATIENCE);
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
        // and a whole row makes void what waits of it
        source.batch_execute("UPDATE bins SET grade = 'small' WHERE id = 31").await.unwrap();
        until_kept(&world, sink, "waiting", 0).await;
        assert_eq!(kept(&world, sink, "delivered").await.len(), settled);
        until_count(&target, "SELECT count(*) FROM bins WHERE id = 31 AND weight_kg = 5 AND grade = 'small'", 1).await;
        fleet.stop().await;
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_is_delivered_of_a_row_makes_void_what_waits_from_before_it() {
    let (world, source, target) = begin(5).await;
    target
        .batch_execute(
            "CREATE TABLE bins (id bigint PRIMARY KEY, weight_kg int CONSTRAINT light CHECK (weight_kg < 100),
             grade text CONSTRAINT good CHECK (grade <> 'bad'))",
        )
        .await
        .unwrap();
    let sink = flow(&world, 1, |_| {}).await;
    let fleet = world.fleet();
    until_count(&target, "SELECT count(*) FROM bins", 5).await;
    source.batch_execute("INSERT INTO bins VALUES (7, 500, 'first')").await.unwrap();
    until_kept(&world, sink, "waiting", 1).await;
    source.batch_execute("UPDATE bins SET weight_kg = 5, grade = 'bad' WHERE id = 7").await.unwrap();
    let waiting = until_kept(&world, sink, "waiting", 2).await;
    let (first, second) =
        (waiting.iter().map(|w| w.record_offset).min(), waiting.iter().max_by_key(|w| w.record_offset).unwrap());
    target.batch_execute("ALTER TABLE bins DROP CONSTRAINT good").await.unwrap();
    world.database.retry(&Which::Ids(vec![second.id]), None).await.unwrap();
    until_kept(&world, sink, "delivered", 1).await;
    let void = until_kept(&world, sink, "superseded", 1).await;
    assert_eq!(Some(void[0].record_offset), first);
    target.batch_execute("ALTER TABLE bins DROP CONSTRAINT light").await.unwrap();
    assert_eq!(world.database.retry(&Which::All(sink), None).await.unwrap(), 0);
    world.until_equal(&source, &target, &["bins"]).await;
    fleet.stop().await;
}

/// What needs what comes after it in the same round, or values that another row still has, is not bad because something else is.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn rows_that_need_each_other_are_not_put_aside_beside_a_bad_one() {
    let world = World::new().await;
    let source = world.cluster.connect("packhouse").await.unwrap();
    let target = world.cluster.connect("settlement").await.unwrap();
    source
        .batch_execute(
            "CREATE TABLE bins (id bigint PRIMARY KEY, room int, slot text UNIQUE, weight_kg int);
             CREATE TABLE rooms (id bigint PRIMARY KEY, name text);
             INSERT INTO rooms SELECT n, 'room' FROM generate_series(1, 3) n;
             INSERT INTO bins SELECT n, 1, 'slot ' || n, n FROM generate_series(1, 40) n",
        )
        .await
        .unwrap();
    target
        .batch_execute(
            "CREATE TABLE rooms (id bigint PRIMARY KEY, name text);
             CREATE TABLE bins (id bigint PRIMARY KEY, room bigint REFERENCES rooms DEFERRABLE INITIALLY DEFERRED, slot text UNIQUE,
               weight_kg int CHECK (weight_kg < 1000))",
        )
        .await
        .unwrap();
    let from = world.connector("from-packhouse", world.source(&["bins", "rooms"], 3).await).await;
    let fleet = world.fleet();
    // one round brings children and parents: what a load brings alone would wait
    world.until_state(from, State::Following).await;
    let sink = world.connector("to-settlement", world.sink(&["bins", "rooms"]).await).await;
    world.until_equal(&source, &target, &["bins", "rooms"]).await;
    world.database.ask(sink, Wish::Pause, "").await.unwrap();
    world.until_state(sink, State::Paused).await;
    // children whose parents come later, a bad row, one without a parent, and ten pairs of rows that exchange their slots
    source
        .batch_execute(
            "INSERT INTO bins SELECT n, 9, 'late ' || n, n FROM generate_series(101, 130) n; INSERT INTO rooms VALUES (9, 'late');
             INSERT INTO bins VALUES (200, 1, 'bad', 5000), (201, 77, 'alone', 1);
             UPDATE bins SET slot = 'free ' || id WHERE id <= 10;
             UPDATE bins SET slot = 'slot ' || (id - 10) WHERE id BETWEEN 11 AND 20;
             UPDATE bins SET slot = 'slot ' || (id + 10) WHERE id <= 10",
        )
        .await
        .unwrap();
    let start = Instant::now();
    while topic_records(&world.database, "packhouse.bins").await.len() < 102 {
        assert!(start.elapsed() < PATIENCE);
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    world.database.ask(sink, Wish::Run, "").await.unwrap();
    let wanted = "SELECT * FROM bins WHERE id NOT IN (200, 201)";
    world.until_same((&source, wanted), (&target, "SELECT * FROM bins")).await;
    let mut waiting: Vec<i64> = until_kept(&world, sink, "waiting", 2).await.iter().map(id_of).collect();
    waiting.sort_unstable();
    assert_eq!(waiting, [200, 201]);
    fleet.stop().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn whatever_is_refused_meanwhile_the_target_is_the_source_once_all_is_tried_again() {
    let (world, source, target) = begin(400).await;
    target
        .batch_execute("CREATE TABLE bins (id bigint PRIMARY KEY, weight_kg int CHECK (weight_kg % 7 <> 3), grade text)")
        .await
        .unwrap();
    // values that are stored apart are sent only with the changes that make them
    source
        .batch_execute("ALTER TABLE bins ALTER grade SET STORAGE EXTERNAL; UPDATE bins SET grade = repeat('first', 600)")
        .await
        .unwrap();
    let sink = flow(&world, 4, |sink| {
        sink.placing.lanes = 2;
        (sink.failing.most_in_a_row, sink.failing.most_a_minute) = (100_000, 100_000);
    })
    .await;
    let fleet = world.fleet();
    // every kind of change, of which about one in seven is refused; the same keys again and again
    let mut seed = 0x9e37_79b9_u64;
    let mut roll = |sides: u64| {
        seed ^= seed << 13;
        seed ^= seed >> 7;
        seed ^= seed << 17;
        seed % sides
    };
    for step in 0..600 {
        // a table that is emptied makes void what waited for it
        if step % 200 == 150 {
            source
                .batch_execute(
                    "TRUNCATE bins; INSERT INTO bins SELECT n, n, repeat('again', 600) FROM generate_series(1, 300) n",
                )
                .await
                .unwrap();
        }
        let (id, weight) = (roll(450), roll(1_000));
        let statement = match roll(9) {
            0 => format!("INSERT INTO bins VALUES ({id}, {weight}, repeat('new', 1000)) ON CONFLICT DO NOTHING"),
            1 => format!("DELETE FROM bins WHERE id = {id}"),
            2 => format!("UPDATE bins SET id = id + 1000 WHERE id = {id}"),
            3 => format!("UPDATE bins SET weight_kg = weight_kg + 1 WHERE id BETWEEN {id} AND {}", id + roll(40)),
            4 => format!(
                "BEGIN; UPDATE bins SET weight_kg = 3 WHERE id = {id}; UPDATE bins SET weight_kg = 4 WHERE id = {id}; COMMIT"
            ),
            5 => format!("UPDATE bins SET weight_kg = {weight} WHERE id = {id}"),
            _ => format!(
                "UPDATE bins SET weight_kg = {weight}, grade = repeat('g{step}', {}) WHERE id = {id}",
                1 + roll(2) * 1_000
            ),
        };
        source.batch_execute(&statement).await.unwrap();
        if step % 20 == 10 {
            // any of them, also before what it belongs behind
            let waiting = kept(&world, sink, "waiting").await;
            if !waiting.is_empty() {
                let chosen = usize::try_from(roll(waiting.len() as u64)).unwrap();
                world.database.retry(&Which::Ids(vec![waiting[chosen].id]), None).await.unwrap();
            }
        }
        if step == 300 {
            world.database.restart(sink, None, "").await.unwrap();
        }
    }
    // what the target takes of the source is in the target as it is, whatever waits, but for rows of which a change waits
    let start = Instant::now();
    loop {
        let waits: Vec<String> = kept(&world, sink, "waiting").await.iter().map(|w| id_of(w).to_string()).collect();
        let good = format!("(SELECT * FROM bins WHERE weight_kg % 7 <> 3 AND id <> ALL ('{{{}}}'))", waits.join(","));
        let (expected, found) = (crate::support::rows(&source, &good).await, crate::support::rows(&target, "bins").await);
        let behind: Vec<&String> = expected.iter().filter(|row| !found.contains(row)).collect();
        if behind.is_empty() {
            break;
        }
        assert!(start.elapsed() < PATIENCE, "{behind:?}");
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
    // how many of them were overtaken hangs on how many changes were delivered at a time
    let all = [kept(&world, sink, "superseded").await, kept(&world, sink, "waiting").await].concat();
    assert!(!all.is_empty(), "nothing was refused");
    target.batch_execute("ALTER TABLE bins DROP CONSTRAINT bins_weight_kg_check").await.unwrap();
    world.database.retry(&Which::All(sink), None).await.unwrap();
    world.until_equal(&source, &target, &["bins"]).await;
    assert!(kept(&world, sink, "waiting").await.is_empty());
    fleet.stop().await;
}

/// A record that is said to be delivered is in the target, also when the target's server crashes a moment later: a commit that waits for
/// no disk is lost with what came before it, but quarantine would not know.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_quarantine_says_is_delivered_outlives_a_crash_of_the_target() {
    // nothing but a commit that asks for it brings anything to the target's disk
    let (mut world, _own) = World::apart_with(&["wal_writer_delay=10s"]).await;
    let source = world.cluster.connect("packhouse").await.unwrap();
    let target = world.cluster.connect("settlement").await.unwrap();
    source.batch_execute(&format!("{BINS}; INSERT INTO bins VALUES (1, 1, 'first'), (2, 2, NULL)")).await.unwrap();
    target.batch_execute("CREATE TABLE bins (id bigint PRIMARY KEY, weight_kg int, grade text NOT NULL)").await.unwrap();
    let sink = flow(&world, 1, |_| {}).await;
    let fleet = world.fleet();
    until_kept(&world, sink, "waiting", 1).await;
    target.batch_execute("ALTER TABLE bins ALTER grade DROP NOT NULL").await.unwrap();
    assert_eq!(world.database.retry(&Which::All(sink), None).await.unwrap(), 1);
    until_kept(&world, sink, "delivered", 1).await;
    world.cluster.crash_and_restart().await;
    let target = world.cluster.connect("settlement").await.unwrap();
    until_count(&target, "SELECT count(*) FROM bins WHERE id = 2", 1).await;
    fleet.stop().await;
}
