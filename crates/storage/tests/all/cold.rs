//! Cold files beside what happens to their topics: nothing comes back, and nothing is passed over while blocks move.

use std::path::Path;

use gonvel_core::naming::Offset;
use gonvel_core::ports::TopicLog;
use gonvel_core::topic_settings::{Keep, TopicSettings};
use gonvel_stand_ins::test_cluster::TestCluster;
use gonvel_storage::Database;
use gonvel_storage::topic_log::keeper::Keeper;

use crate::support::{SECOND, append, appended_as_it_happened, bounds, open, read, record, stored_bytes, topic};

async fn with_files(cluster: &TestCluster, folder: &Path) -> Database {
    open(cluster).await.with_cold_store(&format!("file://{}", folder.display()), []).unwrap()
}

fn hot(span_ms: i64) -> TopicSettings {
    TopicSettings { hot_span_ms: Some(span_ms), ..TopicSettings::default() }
}

async fn round(keeper: &mut Keeper, now_us: i64) {
    keeper.round(true, now_us).await;
    assert_eq!(keeper.said().failure, None);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_deleted_row_does_not_come_back_from_a_cold_file() {
    let cluster = TestCluster::start(&["gonvel"]).await;
    let folder = tempfile::tempdir().unwrap();
    let database = with_files(&cluster, folder.path()).await;
    let (topic, at) = topic(&database, "packhouse.varieties", hot(10_000)).await;
    for n in 0..20 {
        append(&database, at, &[record(&format!("{}", n % 5), Some(&n.to_string()), n * SECOND)]).await;
    }
    let mut keeper = Keeper::new(database.clone());
    round(&mut keeper, 60 * SECOND).await;
    assert_eq!(keeper.said().moved_blocks, 20);

    let latest = TopicSettings { keep: Keep::Latest, deletes_kept_ms: 5_000, ..TopicSettings::default() };
    database.change_topic(topic.id, topic.revision, &latest).await.unwrap();
    append(&database, at, &[record("3", None, 61 * SECOND), record("4", Some("new"), 61 * SECOND)]).await;
    let later = chrono::Utc::now().timestamp_micros() + 60 * SECOND;
    round(&mut keeper, 62 * SECOND).await;
    round(&mut keeper, later).await;
    let left = read(&database, at).await.0;
    let offsets: Vec<i64> = left.iter().map(|(offset, _)| *offset).collect();
    assert_eq!(offsets, [15, 16, 17, 21], "the older records of a key, and then its delete, are gone");
    let (_, next, records, bytes) = bounds(&database, &topic).await;
    assert_eq!((next, records, bytes), (22, 4, stored_bytes(&cluster, &topic).await));
    // the file that was is removed, and only then
    round(&mut keeper, later).await;
    assert_eq!(files(folder.path()), 1);
}

fn files(folder: &Path) -> usize {
    let entries = std::fs::read_dir(folder).unwrap().map(|entry| entry.unwrap().path());
    entries.map(|path| if path.is_dir() { files(&path) } else { 1 }).sum()
}

/// What a pass could not do it does not count as done: another keeper may have changed a block under it.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_pass_that_was_overtaken_drops_no_delete() {
    let cluster = TestCluster::start(&["gonvel"]).await;
    let database = open(&cluster).await;
    let settings = TopicSettings { keep: Keep::Latest, deletes_kept_ms: 1, ..TopicSettings::default() };
    let (_, at) = topic(&database, "packhouse.varieties", settings).await;
    append(&database, at, &[record("1", Some("a"), 0), record("2", Some("b"), 0)]).await;
    append(&database, at, &[record("1", None, 0)]).await;
    let client = cluster.connect("gonvel").await.unwrap();
    // whatever is written in place of the first block, another one was there a moment before
    client
        .batch_execute(
            "CREATE FUNCTION overtake() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN \
               IF OLD.first_offset = 0 THEN RETURN NULL; END IF; RETURN NEW; END $$; \
             CREATE TRIGGER overtaken BEFORE UPDATE ON blocks FOR EACH ROW EXECUTE FUNCTION overtake()",
        )
        .await
        .unwrap();
    let mut keeper = Keeper::new(database.clone());
    let later = chrono::Utc::now().timestamp_micros() + 60 * SECOND;
    keeper.round(true, later).await;
    assert_eq!(read(&database, at).await.0.len(), 3, "the record is there, and so has to be its delete");
    client.batch_execute("DROP TRIGGER overtaken ON blocks").await.unwrap();
    round(&mut keeper, later).await;
    let left: Vec<i64> = read(&database, at).await.0.iter().map(|(offset, _)| *offset).collect();
    assert_eq!(left, [1]);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_keeper_that_slept_loses_nothing() {
    let cluster = TestCluster::start(&["gonvel"]).await;
    let folder = tempfile::tempdir().unwrap();
    let database = with_files(&cluster, folder.path()).await;
    let (_, at) = topic(&database, "coldstore.rooms", hot(10_000)).await;
    for n in 0..10 {
        append(&database, at, &[record("room", Some(&n.to_string()), n * SECOND)]).await;
    }
    let client = cluster.connect("gonvel").await.unwrap();
    // one keeper has written its file and sleeps before it is noted; another finds the file old
    client
        .batch_execute(
            "CREATE FUNCTION sleep_on() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN \
               PERFORM pg_advisory_xact_lock(77); RETURN OLD; END $$; \
             CREATE TRIGGER slept BEFORE DELETE ON blocks FOR EACH ROW EXECUTE FUNCTION sleep_on(); \
             SELECT pg_advisory_lock(77)",
        )
        .await
        .unwrap();
    let sleeping = tokio::spawn({
        let mut keeper = Keeper::new(database.clone());
        async move { keeper.round(true, 60 * SECOND).await }
    });
    let other = cluster.connect("gonvel").await.unwrap();
    let start = std::time::Instant::now();
    let waits = "SELECT count(*) FROM pg_locks WHERE locktype = 'advisory' AND NOT granted";
    while other.query_one(waits, &[]).await.unwrap().get::<_, i64>(0) == 0 {
        assert!(start.elapsed().as_secs() < 20, "the keeper does not come to move the blocks");
        tokio::time::sleep(std::time::Duration::from_millis(20)).await;
    }
    other.batch_execute("UPDATE cold_files SET moved_at = now() - interval '1 hour'").await.unwrap();
    let mut second = Keeper::new(database.clone());
    second.round(true, 0).await;
    client.batch_execute("SELECT pg_advisory_unlock(77)").await.unwrap();
    sleeping.await.unwrap();
    other.batch_execute("DROP TRIGGER slept ON blocks").await.unwrap();
    assert_eq!(read(&database, at).await.0.len(), 10, "records are lost");
    round(&mut second, 60 * SECOND).await;
    round(&mut second, 60 * SECOND).await;
    assert_eq!((read(&database, at).await.0.len(), files(folder.path())), (10, 1));
}

/// Readers from the start, by time and by offset, while blocks move to files and files are forgotten.
#[tokio::test(flavor = "multi_thread", worker_threads = 4)]
async fn who_reads_while_blocks_move_misses_none() {
    const RECORDS: i64 = 200;
    let cluster = TestCluster::start(&["gonvel"]).await;
    let folder = tempfile::tempdir().unwrap();
    let database = with_files(&cluster, folder.path()).await;
    let (topic, at) =
        topic(&database, "coldstore.readings", TopicSettings { forget_after_ms: Some(120_000), ..hot(10) }).await;
    for n in 0..RECORDS {
        append(&database, at, &[record("room", Some(&n.to_string()), n * SECOND)]).await;
    }
    appended_as_it_happened(&cluster).await;
    let done = std::sync::atomic::AtomicBool::new(false);
    let keeping = async {
        let mut keeper = Keeper::new(database.clone());
        for second in 0..RECORDS {
            keeper.round(true, second * SECOND + 30).await;
        }
        done.store(true, std::sync::atomic::Ordering::Relaxed);
    };
    let reading = async {
        let mut reads = 0;
        while !done.load(std::sync::atomic::Ordering::Relaxed) {
            let mut last = None;
            let mut next = Offset(0);
            loop {
                let blocks = database.read(at, next, 1).await.unwrap();
                for block in &blocks {
                    // what was forgotten meanwhile may be passed over, and nothing else
                    if last.is_some_and(|last: i64| block.first.0 != last + 1) {
                        let first = bounds(&database, &topic).await.0;
                        assert!(block.first.0 <= first, "{last:?} is followed by {:?}, and {first} is kept", block.first);
                    }
                    last = Some(block.end().0 - 1);
                    next = block.end();
                }
                if blocks.is_empty() {
                    break;
                }
                reads += 1;
            }
            assert_eq!(last, Some(RECORDS - 1));
        }
        reads
    };
    let by_time = async {
        let mut n = 0;
        while !done.load(std::sync::atomic::Ordering::Relaxed) {
            n = (n + 37) % RECORDS;
            let found = database.block_at_time(at, n * SECOND).await.unwrap();
            let first = bounds(&database, &topic).await.0;
            assert!(found.0 <= n.max(first), "second {n} is said to be at {found:?}, and {first} is kept");
        }
    };
    let ((), reads, ()) = tokio::join!(keeping, reading, by_time);
    assert!(reads > RECORDS, "it was hardly read: {reads}");
}
