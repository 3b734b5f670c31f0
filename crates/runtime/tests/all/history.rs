//! Gonvel's own database comes back older than it was. Nothing is skipped in silence, and what was lost is brought again.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use gonvel_core::block::pack;
use gonvel_core::connector::{ExistingRows, Forgotten, State, ValidConnector, Wish};
use gonvel_core::naming::{ConnectorId, ConnectorName, Offset, PartitionId, TopicName, TopicPartition};
use gonvel_core::ports::{AppendBatch, FleetStore, LaneProgress, PartitionBlocks, PortError, TopicLog};
use gonvel_core::record::Record;
use gonvel_core::topic_settings::TopicSettings;
use gonvel_runtime::history::parted;
use gonvel_storage::Database;
use gonvel_storage::sealing::Sealer;
use tokio_postgres::Client;

use crate::support::*;

async fn insert(source: &Client, rows: i64) {
    for _ in 0..rows {
        source.batch_execute("INSERT INTO bins SELECT nextval('numbers'), 1.5, 'first'").await.unwrap();
    }
}

async fn tables(world: &World) -> (Client, Client) {
    let (source, target) =
        (world.cluster.connect("packhouse").await.unwrap(), world.cluster.connect("settlement").await.unwrap());
    source.batch_execute(TABLES).await.unwrap();
    source.batch_execute("CREATE SEQUENCE numbers").await.unwrap();
    (source, target)
}

/// What a halted connector says.
async fn halted(world: &World, id: ConnectorId) -> String {
    world.until_state(id, State::Halted).await
}

/// Mends as the lanes say: the source begins anew with its tables emptied, the sink is moved to where both agree.
async fn mend(world: &World, source: ConnectorId, sink: ConnectorId) -> i64 {
    world.database.begin_anew(source, ExistingRows::Empty, "").await.unwrap();
    let address = world.database.address(world.connection("settlement").await).await.unwrap();
    let stands = sink_stands(&address, sink).await;
    let mut agreed = 0;
    for parted in parted(&world.database, stands).await.unwrap() {
        agreed += parted.agree_to;
        move_sink(&address, sink, &[(parted.at, parted.next, parted.agree_to)], true).await.unwrap();
    }
    world.database.start_anew(&[sink]).await.unwrap();
    agreed
}

#[tokio::test(flavor = "multi_thread", worker_threads = 4)]
async fn a_dump_put_back_halts_both_and_nothing_is_lost_once_they_are_mended() {
    let mut world = World::new().await;
    let (source, target) = tables(&world).await;
    insert(&source, 40).await;
    let (from, to) = world.flow(&["bins"], 2).await;
    let fleet = world.fleet();
    world.until_equal(&source, &target, &["bins"]).await;
    let folder = tempfile::tempdir().unwrap();
    let dump = folder.path().join("gonvel.dump");
    world.cluster.dump("gonvel", &dump).unwrap();
    insert(&source, 300).await;
    source.batch_execute("DELETE FROM bins WHERE id % 7 = 0").await.unwrap();
    world.until_equal(&source, &target, &["bins"]).await;
    fleet.stop().await;

    world.cluster.restore("gonvel", &dump).await.unwrap();
    world.database = Database::open(&world.cluster.url("gonvel"), Sealer::new(&[7; 32])).await.unwrap();
    let fleet = world.fleet();
    source.batch_execute("DELETE FROM bins WHERE id % 11 = 0").await.unwrap();
    insert(&source, 60).await;
    let (said, told) = (halted(&world, from).await, halted(&world, to).await);
    assert!(said.contains("the topic log was rolled back") && said.contains("begin anew"), "{said}");
    assert!(said.contains("bytes of the server's log between them are lost"), "{said}");
    assert!(told.contains("packhouse.bins was delivered up to offset"), "{told}");

    let before = count(&target).await;
    let agreed = mend(&world, from, to).await;
    assert!(agreed >= 20, "both agree on some of the 40 first rows, and not only up to {agreed}");
    world.until_equal(&source, &target, &["bins"]).await;
    insert(&source, 20).await;
    source.batch_execute("UPDATE bins SET grade = 'second' WHERE id % 5 = 0").await.unwrap();
    world.until_equal(&source, &target, &["bins"]).await;
    assert!(count(&target).await > before - 100);
    fleet.stop().await;
}

async fn count(client: &Client) -> i64 {
    client.query_one("SELECT count(*) FROM bins", &[]).await.unwrap().get(0)
}

/// The fleet goes on running meanwhile: its lanes hold positions in memory that the replica never had.
#[tokio::test(flavor = "multi_thread", worker_threads = 4)]
async fn a_replica_that_lags_takes_over_under_running_lanes() {
    let (world, mut own) = World::apart().await;
    let (source, target) = tables(&world).await;
    let (from, to) = world.flow(&["bins"], 1).await;
    let fleet = world.fleet();
    insert(&source, 30).await;
    world.until_equal(&source, &target, &["bins"]).await;
    let cut_off = own.replica_cut_off().await;
    insert(&source, 25).await;
    world.until_equal(&source, &target, &["bins"]).await;
    let ground = world.database.ground();
    own.fail_over(cut_off).await;
    let start = Instant::now();
    while world.database.ground() == ground {
        assert!(start.elapsed() < PATIENCE, "nobody noticed that the database is another one");
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
    // from here on the offsets that the target knows are given out again
    insert(&source, 40).await;
    let (said, told) = (halted(&world, from).await, halted(&world, to).await);
    assert!(said.contains("continues from"), "{said}");
    assert!(told.contains("delivered up to offset 55") && told.contains("ends at 30 (both agree up to "), "{told}");
    mend(&world, from, to).await;
    world.until_equal(&source, &target, &["bins"]).await;
    fleet.stop().await;
}

/// The base backup of a replica is taken while rows are written, and they go on being written until it has taken over.
#[tokio::test(flavor = "multi_thread", worker_threads = 4)]
async fn a_base_backup_taken_under_load_takes_over_under_load() {
    let (world, mut own) = World::apart().await;
    let (source, target) = tables(&world).await;
    let (from, to) = world.flow(&["bins", "lines"], 3).await;
    let fleet = world.fleet();
    // however long the backup takes, rows are written meanwhile
    let enough = Arc::new(AtomicBool::new(false));
    let (url, stop) = (world.cluster.url("packhouse"), enough.clone());
    let writer = tokio::spawn(async move {
        for seed in 0.. {
            if stop.load(Ordering::Relaxed) {
                return;
            }
            let (client, connection) = tokio_postgres::connect(&url, tokio_postgres::NoTls).await.unwrap();
            tokio::spawn(connection);
            write(client, 45, seed % 900).await;
        }
    });
    world.until_state(from, State::Following).await;
    let cut_off = own.replica_cut_off().await;
    let start = Instant::now();
    let at = |database: &Database| {
        let database = database.clone();
        async move { topic_records(&database, "packhouse.bins").await.len() }
    };
    let known = at(&world.database).await;
    while at(&world.database).await < known + 200 {
        assert!(start.elapsed() < PATIENCE, "nothing more comes");
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
    own.fail_over(cut_off).await;
    assert!(halted(&world, from).await.contains("continues from"));
    let told = halted(&world, to).await;
    assert!(told.contains("this target is ahead of it"), "{told}");
    mend(&world, from, to).await;
    enough.store(true, Ordering::Relaxed);
    writer.await.unwrap();
    world.until_equal(&source, &target, &["bins", "lines"]).await;
    fleet.stop().await;
}

/// Records are told apart that got the same offsets, also where the log has grown past the position again.
#[tokio::test(flavor = "multi_thread", worker_threads = 4)]
async fn offsets_that_were_given_out_again_do_not_pass_for_delivered() {
    let mut world = World::new().await;
    let (source, target) = tables(&world).await;
    let (from, to) = world.flow(&["bins"], 1).await;
    let fleet = world.fleet();
    insert(&source, 10).await;
    world.until_equal(&source, &target, &["bins"]).await;
    fleet.stop().await;
    let folder = tempfile::tempdir().unwrap();
    let dump = folder.path().join("gonvel.dump");
    world.cluster.dump("gonvel", &dump).unwrap();
    let fleet = world.fleet();
    insert(&source, 15).await;
    world.until_equal(&source, &target, &["bins"]).await;
    fleet.stop().await;
    world.cluster.restore("gonvel", &dump).await.unwrap();
    world.database = Database::open(&world.cluster.url("gonvel"), Sealer::new(&[7; 32])).await.unwrap();
    // only the sink waits, and the log grows past it
    world.database.ask(to, Wish::Stop, "").await.unwrap();
    let fleet = world.fleet();
    halted(&world, from).await;
    world.database.begin_anew(from, ExistingRows::Empty, "").await.unwrap();
    let topic = world.database.topic(&TopicName::parse("packhouse.bins").unwrap()).await.unwrap();
    let start = Instant::now();
    while world.database.bounds(topic.id).await.unwrap()[0].next.0 < 30 {
        assert!(start.elapsed() < PATIENCE, "{:?}", world.database.bounds(topic.id).await.unwrap());
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    world.database.ask(to, Wish::Run, "").await.unwrap();
    let told = halted(&world, to).await;
    assert!(told.contains("partition 0 of packhouse.bins has another record at offset 24"), "{told}");
    mend_sink(&world, to).await;
    world.until_equal(&source, &target, &["bins"]).await;
    fleet.stop().await;
}

async fn mend_sink(world: &World, sink: ConnectorId) {
    let address = world.database.address(world.connection("settlement").await).await.unwrap();
    let stands = sink_stands(&address, sink).await;
    for parted in parted(&world.database, stands).await.unwrap() {
        move_sink(&address, sink, &[(parted.at, parted.next, parted.agree_to)], true).await.unwrap();
    }
    world.database.start_anew(&[sink]).await.unwrap();
}

/// A target that was written under a later lease than the log ever gave is not taken for one that another runner holds.
#[tokio::test(flavor = "multi_thread", worker_threads = 4)]
async fn leases_behind_the_targets_are_told_and_not_fenced_for_ever() {
    let world = World::new().await;
    let (source, target) = tables(&world).await;
    let (_, to) = world.flow(&["bins"], 1).await;
    let fleet = world.fleet();
    insert(&source, 10).await;
    world.until_equal(&source, &target, &["bins"]).await;
    fleet.stop().await;
    target.batch_execute("UPDATE gonvel.sink_positions SET epoch = epoch + 1000").await.unwrap();
    let fleet = world.fleet();
    let told = halted(&world, to).await;
    assert!(told.contains("the target was written under lease") && told.contains("stop the second installation"), "{told}");
    // moved to where it stands: nothing is skipped, and it may write again
    let address = world.database.address(world.connection("settlement").await).await.unwrap();
    let moves: Vec<_> = sink_positions(&address, to).await.into_iter().map(|(at, next)| (at, next, next)).collect();
    move_sink(&address, to, &moves, false).await.unwrap();
    world.database.start_anew(&[to]).await.unwrap();
    insert(&source, 10).await;
    world.until_equal(&source, &target, &["bins"]).await;
    fleet.stop().await;
}

/// What a lane wants to append that began before the database was another one is refused.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_lane_from_before_appends_nothing() {
    let (world, mut own) = World::apart().await;
    let id = world.connector("from-packhouse", world.source(&["bins"], 1).await).await;
    let ttl = Duration::from_secs(60);
    let lease = world.database.acquire(id, 0, "test", ttl).await.unwrap().unwrap();
    let progress = |position: &str, ground| {
        let progress = LaneProgress { connector: id, lane: 0, epoch: lease.epoch, position: position.into(), ground };
        AppendBatch { progress: Some(progress), ..AppendBatch::default() }
    };
    world.database.append(progress("first", lease.ground)).await.unwrap();
    // a record that is remembered here, and that the database may lack when it comes back
    let name = TopicName::parse("packhouse.bins").unwrap();
    let topic = world.database.create_topic(&name, 1, &TopicSettings::default()).await.unwrap();
    let at = TopicPartition { topic: topic.id, partition: PartitionId(0) };
    let parts = vec![PartitionBlocks { to: at, blocks: pack(&[Record::default()]) }];
    world.database.append(AppendBatch { parts, ..AppendBatch::default() }).await.unwrap();
    let remembered = || world.database.recent(at, Offset(0), 1).is_some();
    assert!(remembered() && world.database.may_have(&[(at, Offset(1))]) == [false]);
    own.crash_and_restart().await;
    let start = Instant::now();
    let refused = loop {
        match world.database.append(progress("second", lease.ground)).await {
            Err(PortError::TryAgain { cause, .. }) if cause.to_string().contains("started anew") => break cause,
            Err(_) => assert!(start.elapsed() < PATIENCE),
            Ok(_) => panic!("the lease's epoch still holds, but nobody looked what the database has"),
        }
        tokio::time::sleep(Duration::from_millis(50)).await;
    };
    assert!(refused.to_string().contains("looks again where it stands"), "{refused}");
    assert!(!remembered() && world.database.may_have(&[(at, Offset(1))]) == [true], "what is remembered passes for the log");
    assert_eq!(world.database.position(id, 0).await.unwrap(), Some("first".into()));
    world.database.append(progress("third", world.database.ground())).await.unwrap();
}

/// What a sink has not delivered yet may be forgotten meanwhile. It says so, with the span, and goes on once a person accepts it.
#[tokio::test(flavor = "multi_thread", worker_threads = 4)]
async fn records_forgotten_before_they_were_delivered_are_told_and_not_passed_over() {
    let mut world = World::new().await;
    let (source, target) = tables(&world).await;
    let (_, to) = world.flow(&["bins"], 1).await;
    let fleet = world.fleet();
    insert(&source, 10).await;
    world.until_equal(&source, &target, &["bins"]).await;
    world.database.ask(to, Wish::Stop, "").await.unwrap();
    world.until_state(to, State::Stopped).await;
    insert(&source, 30).await;
    let topic = world.database.topic(&TopicName::parse("packhouse.bins").unwrap()).await.unwrap();
    let database = world.database.clone();
    let bounds = async || database.bounds(topic.id).await.unwrap()[0];
    let start = Instant::now();
    while bounds().await.next.0 < 40 {
        assert!(start.elapsed() < PATIENCE);
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    let short = TopicSettings { forget_after_ms: Some(1), ..topic.settings.clone() };
    world.database.change_topic(topic.id, topic.revision, &short).await.unwrap();
    let keeping = tokio::spawn(world.database.clone().keep());
    while bounds().await.first.0 < 40 {
        assert!(start.elapsed() < PATIENCE, "{:?}", bounds().await);
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
    keeping.abort();
    // the process that appended them still has them in memory
    fleet.stop().await;
    world.database = Database::open(&world.cluster.url("gonvel"), Sealer::new(&[7; 32])).await.unwrap();
    let fleet = world.fleet();
    world.database.ask(to, Wish::Run, "").await.unwrap();
    let told = halted(&world, to).await;
    assert!(
        told.contains("30 records of partition 0 of packhouse.bins were forgotten before they were delivered"),
        "{told}"
    );
    assert!(told.contains("offsets 10 to 39") && told.contains("accepts the loss"), "{told}");
    let address = world.database.address(world.connection("settlement").await).await.unwrap();
    let at = TopicPartition { topic: topic.id, partition: PartitionId(0) };
    move_sink(&address, to, &[(at, 10, 40)], false).await.unwrap();
    world.database.start_anew(&[to]).await.unwrap();
    source.batch_execute("UPDATE bins SET grade = 'second'").await.unwrap();
    // what was lost comes with its next change, and nothing else is missing
    world.until_equal(&source, &target, &["bins"]).await;

    // a sink that was told to goes on by itself, and its history says what it never saw
    let stored = world.database.find_connector(to).await.unwrap();
    let mut sink = world.sink(&["bins"]).await;
    sink.failing.forgotten = Forgotten::PassOver;
    let changed = ValidConnector::check(to, ConnectorName::parse("to-settlement").unwrap(), sink.into()).unwrap();
    world.database.change_connector(&changed, stored.version, &[], "").await.unwrap();
    world.until_equal(&source, &target, &["bins"]).await;
    world.database.ask(to, Wish::Stop, "").await.unwrap();
    world.until_state(to, State::Stopped).await;
    let database = world.database.clone();
    let bounds = async || database.bounds(topic.id).await.unwrap()[0];
    let (before, start) = (bounds().await.next.0, Instant::now());
    source.batch_execute("UPDATE bins SET grade = 'third'").await.unwrap();
    // in one append or several: the keeper goes through them once, and then not for a while
    while bounds().await.next.0 < before + 40 {
        assert!(start.elapsed() < PATIENCE, "{:?}", bounds().await);
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    let keeping = tokio::spawn(world.database.clone().keep());
    while bounds().await.first.0 < before + 40 {
        assert!(start.elapsed() < PATIENCE, "{:?}", bounds().await);
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
    keeping.abort();
    fleet.stop().await;
    world.database = Database::open(&world.cluster.url("gonvel"), Sealer::new(&[7; 32])).await.unwrap();
    let fleet = world.fleet();
    world.database.ask(to, Wish::Run, "").await.unwrap();
    source.batch_execute("UPDATE bins SET grade = 'fourth'").await.unwrap();
    world.until_equal(&source, &target, &["bins"]).await;
    let deeds = world.database.history_of(to.0, None, 100).await.unwrap();
    let passed: Vec<_> = deeds.iter().filter(|deed| deed.what == "passed over").collect();
    let detail = passed[0].detail.clone().unwrap_or_default();
    let wanted = format!(
        "40 records of partition 0 of packhouse.bins were forgotten before they were delivered (offsets {before} to {})",
        before + 39
    );
    assert_eq!((passed.len(), detail), (1, wanted), "{deeds:?}");
    assert_eq!(world.database.find_connector(to).await.unwrap().passed_over, 40);
    fleet.stop().await;
}
