//! What each delivery guarantee gives when something fails at the worst moment.

use std::time::{Duration, Instant};

use crate::support::{PATIENCE, World};
use gonvel_core::connector::{Definition, Deletes, Guarantee, SinkDefinition, State, TargetRows, ValidConnector};
use gonvel_core::naming::{ConnectorId, ConnectorName};
use gonvel_storage::quarantine::Which;
use tokio_postgres::Client;

/// A flow whose target has a row for every row that is delivered.
async fn flow(guarantee: Guarantee) -> (World, Client, Client, ConnectorId) {
    let world = World::new().await;
    let source = world.cluster.connect("packhouse").await.unwrap();
    let target = world.cluster.connect("settlement").await.unwrap();
    source
        .batch_execute("CREATE TABLE bins (id bigint PRIMARY KEY); INSERT INTO bins SELECT generate_series(1, 20)")
        .await
        .unwrap();
    target.batch_execute("CREATE TABLE bins (id bigint)").await.unwrap();
    world.connector("from-packhouse", world.source(&["bins"], 3).await).await;
    let sink = world.connector("to-settlement", appending(&world, guarantee).await).await;
    (world, source, target, sink)
}

async fn appending(world: &World, guarantee: Guarantee) -> SinkDefinition {
    let mut sink = world.sink(&["bins"]).await;
    (sink.writes.rows, sink.writes.deletes) = (TargetRows::Appended, Deletes::Ignored);
    sink.writes.guarantee = guarantee;
    sink
}

async fn count(target: &Client, of: &str) -> i64 {
    target.query_one(&format!("SELECT count(*) FROM {of}"), &[]).await.unwrap().get(0)
}

async fn until(target: &Client, of: &str, enough: impl Fn(i64) -> bool) {
    let start = Instant::now();
    loop {
        let found = count(target, of).await;
        if enough(found) {
            return;
        }
        assert!(start.elapsed() < PATIENCE, "{found} {of}");
        tokio::time::sleep(Duration::from_millis(30)).await;
    }
}

/// Whether Gonvel has tables of its own in the target.
async fn own_tables(target: &Client) -> bool {
    target.query_one("SELECT to_regnamespace('gonvel') IS NOT NULL", &[]).await.unwrap().get(0)
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn each_gives_what_it_says_when_the_position_or_the_commit_fails() {
    for guarantee in [Guarantee::ExactlyOnce, Guarantee::AtLeastOnce, Guarantee::AtMostOnce] {
        let (world, source, target, sink) = flow(guarantee).await;
        let fleet = world.fleet();
        until(&target, "bins", |n| n == 20).await;
        assert_eq!(own_tables(&target).await, guarantee == Guarantee::ExactlyOnce);

        // Gonvel's own database does not take the position
        let refuse = "CREATE FUNCTION refuse() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN RAISE 'not now'; END $$";
        world
            .sql_own(&format!(
                "{refuse}; CREATE TRIGGER refuse BEFORE UPDATE OF position ON lanes FOR EACH ROW
                 WHEN (NEW.connector_id = '{}') EXECUTE FUNCTION refuse()",
                sink.0
            ))
            .await;
        source.batch_execute("INSERT INTO bins VALUES (21)").await.unwrap();
        match guarantee {
            Guarantee::ExactlyOnce => until(&target, "bins WHERE id = 21", |n| n == 1).await,
            _ => {
                world.until_state(sink, State::Retrying).await;
                let there = i64::from(guarantee == Guarantee::AtLeastOnce);
                assert_eq!(count(&target, "bins WHERE id = 21").await, there, "{guarantee:?}");
            }
        }
        world.sql_own("DROP TRIGGER refuse ON lanes").await;
        source.batch_execute("INSERT INTO bins VALUES (22)").await.unwrap();
        until(&target, "bins WHERE id = 22", |n| n == 1).await;
        let doubled = count(&target, "bins WHERE id = 21").await;
        assert_eq!(doubled > 1, guarantee == Guarantee::AtLeastOnce, "{guarantee:?}: {doubled}");

        // the session ends while the target commits
        target
            .batch_execute(&format!(
                "{refuse}; CREATE FUNCTION hang_up() RETURNS trigger LANGUAGE plpgsql AS
                   $$ BEGIN PERFORM pg_terminate_backend(pg_backend_pid()); PERFORM pg_sleep(1); RETURN NULL; END $$;
                 CREATE CONSTRAINT TRIGGER hang_up AFTER INSERT ON bins DEFERRABLE INITIALLY DEFERRED
                   FOR EACH ROW WHEN (NEW.id = 23) EXECUTE FUNCTION hang_up()"
            ))
            .await
            .unwrap();
        source.batch_execute("INSERT INTO bins VALUES (23)").await.unwrap();
        let lost = guarantee == Guarantee::AtMostOnce;
        let warned = "connector_lines WHERE says LIKE '%at most once does not bring them again%'";
        let own = world.cluster.connect("gonvel").await.unwrap();
        if lost {
            until(&own, warned, |n| n == 1).await;
        } else {
            world.until_state(sink, State::Retrying).await;
            assert_eq!(count(&own, warned).await, 0);
        }
        target.batch_execute("DROP TRIGGER hang_up ON bins").await.unwrap();
        source.batch_execute("INSERT INTO bins VALUES (24)").await.unwrap();
        until(&target, "bins WHERE id = 24", |n| n == 1).await;
        assert_eq!(count(&target, "bins WHERE id = 23").await, i64::from(!lost), "{guarantee:?}");

        // what the target refuses only when it commits waits alone
        target
            .batch_execute(
                "CREATE CONSTRAINT TRIGGER refuse AFTER INSERT ON bins DEFERRABLE INITIALLY DEFERRED
                 FOR EACH ROW WHEN (NEW.id = 26) EXECUTE FUNCTION refuse()",
            )
            .await
            .unwrap();
        source.batch_execute("INSERT INTO bins SELECT generate_series(25, 27)").await.unwrap();
        until(&own, "quarantine WHERE state = 'waiting' AND finding LIKE '%not now%'", |n| n == 1).await;
        until(&target, "bins WHERE id IN (25, 27)", |n| n == 2).await;
        target.batch_execute("DROP TRIGGER refuse ON bins").await.unwrap();
        assert_eq!(world.database.retry(&Which::All(sink), None).await.unwrap(), 1);
        until(&target, "bins WHERE id = 26", |n| n == 1).await;
        until(&own, "quarantine WHERE state = 'delivered'", |n| n == 1).await;
        fleet.stop().await;
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn the_position_goes_along_when_a_connector_gives_another_guarantee() {
    let (world, source, target, sink) = flow(Guarantee::ExactlyOnce).await;
    let fleet = world.fleet();
    // several lanes take over what one of them had, and the other way round
    let order = [
        (Guarantee::AtLeastOnce, 1),
        (Guarantee::AtMostOnce, 1),
        (Guarantee::ExactlyOnce, 2),
        (Guarantee::AtLeastOnce, 1),
        (Guarantee::ExactlyOnce, 3),
        (Guarantee::AtMostOnce, 1),
    ];
    let mut rows = 20;
    for (version, (guarantee, lanes)) in (1..).zip(order) {
        until(&target, "bins", |n| n == rows).await;
        let mut sink_now = appending(&world, guarantee).await;
        sink_now.placing.lanes = lanes;
        let definition = Definition::from(sink_now);
        let changed = ValidConnector::check(sink, ConnectorName::parse("to-settlement").unwrap(), definition).unwrap();
        world.database.change_connector(&changed, version, &[], "").await.unwrap();
        rows += 10;
        source.batch_execute(&format!("INSERT INTO bins SELECT generate_series({}, {rows})", rows - 9)).await.unwrap();
        until(&target, "bins", |n| n == rows).await;
        until(&target, "(SELECT DISTINCT id FROM bins) once", |n| n == rows).await;
        let start = Instant::now();
        while own_tables(&target).await != guarantee.in_target() {
            assert!(start.elapsed() < PATIENCE, "{guarantee:?}");
            tokio::time::sleep(Duration::from_millis(30)).await;
        }
    }
    fleet.stop().await;
    let found = world.database.find_connector(sink).await.unwrap();
    let counts = found.said().flat_map(|lane| lane.tables.values()).map(|table| table.counts);
    assert_eq!(counts.map(|c| c.load + c.insert).sum::<u64>(), 80, "what was counted goes along");
}

/// A lane that had not begun when the guarantee changed again has left no position in the target: where it stands is still known.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_a_lane_never_took_over_stands_where_it_stood() {
    let (world, source, target, sink) = flow(Guarantee::AtLeastOnce).await;
    let fleet = world.fleet();
    until(&target, "bins", |n| n == 20).await;
    fleet.stop().await;
    let change = async |version: i32, guarantee: Guarantee, lanes: u32| {
        let mut now = appending(&world, guarantee).await;
        now.placing.lanes = lanes;
        let name = ConnectorName::parse("to-settlement").unwrap();
        let changed = ValidConnector::check(sink, name, Definition::from(now)).unwrap();
        world.database.change_connector(&changed, version, &[], "").await.unwrap();
    };
    change(1, Guarantee::ExactlyOnce, 3).await;
    let fleet = world.fleet();
    let start = Instant::now();
    while !own_tables(&target).await || count(&target, "gonvel.sink_positions").await < 3 {
        assert!(start.elapsed() < PATIENCE);
        tokio::time::sleep(Duration::from_millis(30)).await;
    }
    fleet.stop().await;
    // as it is if two of the three lanes had not begun yet
    target.batch_execute("DELETE FROM gonvel.sink_positions WHERE partition > 0").await.unwrap();
    change(2, Guarantee::AtMostOnce, 1).await;
    let fleet = world.fleet();
    source.batch_execute("INSERT INTO bins SELECT generate_series(21, 40)").await.unwrap();
    until(&target, "(SELECT DISTINCT id FROM bins) once", |n| n == 40).await;
    assert_eq!(count(&target, "bins").await, 40, "rows came twice");
    fleet.stop().await;
}
