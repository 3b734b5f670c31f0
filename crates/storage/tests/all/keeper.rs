//! What the keeper does to a real log, beside a simple model of what must be left.

use std::collections::BTreeMap;
use std::path::Path;

use bytes::Bytes;
use gonvel_core::naming::Offset;
use gonvel_core::ports::{PortError, TopicLog};
use gonvel_core::record::Record;
use gonvel_core::topic_settings::{Keep, TopicSettings};
use gonvel_lake::Lake;
use gonvel_stand_ins::test_cluster::TestCluster;
use gonvel_storage::Database;
use gonvel_storage::topic_log::keeper::Keeper;

use crate::support::{SECOND, append, appended_as_it_happened, bounds, open, read, record, stored_bytes, topic};

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn merging_leaves_every_record_where_it_was_while_appends_go_on() {
    let cluster = TestCluster::start(&["gonvel"]).await;
    let database = open(&cluster).await;
    let (topic, at) = topic(&database, "coldstore.readings", TopicSettings::default()).await;
    let mut keeper = Keeper::new(database.clone());
    let producing = async {
        for n in 0..400_i64 {
            append(&database, at, &[record("room 3", Some(&n.to_string()), n)]).await;
        }
    };
    let keeping = async {
        for _ in 0..6 {
            tokio::time::sleep(std::time::Duration::from_millis(60)).await;
            keeper.round(false, 0).await;
            assert_eq!(keeper.said().failure, None);
        }
    };
    tokio::join!(producing, keeping);
    keeper.round(false, 0).await;
    let (records, blocks) = read(&database, at).await;
    let values: Vec<i64> =
        records.iter().map(|(_, r)| std::str::from_utf8(r.value.as_ref().unwrap()).unwrap().parse().unwrap()).collect();
    assert_eq!(values, (0..400).collect::<Vec<_>>());
    assert!(records.iter().zip(0..).all(|((offset, _), n)| *offset == n));
    assert!(blocks < 60, "400 appends of one record are still {blocks} blocks");
    assert!(keeper.said().merged_blocks >= 380, "{:?}", keeper.said());
    assert_eq!(bounds(&database, &topic).await.3, stored_bytes(&cluster, &topic).await);
    // times are still found, and so are offsets inside a merged block
    let found = database.block_at_time(at, 250).await.unwrap();
    assert!(found.0 <= 250);
    let block = database.read(at, Offset(399), 1).await.unwrap().remove(0);
    assert!(block.first.0 <= 399 && block.end().0 == 400);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn age_and_size_forget_the_oldest_and_nothing_else() {
    let cluster = TestCluster::start(&["gonvel"]).await;
    let database = open(&cluster).await;
    let settings = TopicSettings { forget_after_ms: Some(10_000), ..TopicSettings::default() };
    let (topic, at) = topic(&database, "loads.departed", settings).await;
    for n in 0..20 {
        append(&database, at, &[record("a", Some("x"), n * SECOND), record("b", Some("y"), n * SECOND + 1)]).await;
    }
    appended_as_it_happened(&cluster).await;
    let mut keeper = Keeper::new(database.clone());
    keeper.round(true, 15 * SECOND).await;
    // blocks of seconds 0 to 4 are all older than ten seconds at second 15
    assert_eq!(keeper.said().failure, None);
    let (records, _) = read(&database, at).await;
    assert_eq!(records.first().unwrap().0, 10);
    let (first, next, kept, bytes) = bounds(&database, &topic).await;
    assert_eq!((first, next, kept, keeper.said().forgotten_records), (10, 40, 30, 10));
    assert_eq!(bytes, stored_bytes(&cluster, &topic).await);
    assert_eq!(database.block_at_time(at, 0).await.unwrap(), Offset(10));

    let most = TopicSettings { most_bytes: Some(bytes / 2), ..TopicSettings::default() };
    database.change_topic(topic.id, topic.revision, &most).await.unwrap();
    keeper.round(true, 15 * SECOND).await;
    let (first, _, kept, after) = bounds(&database, &topic).await;
    assert!(after <= bytes / 2 && after > bytes / 4 && kept == 40 - first, "{after} of {bytes}");
    // the newest block stays, however small the limit is
    let revision = topic.revision + 1;
    let nothing = TopicSettings { most_bytes: Some(1), ..TopicSettings::default() };
    database.change_topic(topic.id, revision, &nothing).await.unwrap();
    keeper.round(true, 15 * SECOND).await;
    assert_eq!(read(&database, at).await.0.len(), 2);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn the_latest_of_each_key_stays_in_its_place() {
    let cluster = TestCluster::start(&["gonvel"]).await;
    let database = open(&cluster).await;
    let settings = TopicSettings { keep: Keep::Latest, deletes_kept_ms: 5_000, ..TopicSettings::default() };
    let (topic, at) = topic(&database, "packhouse.varieties", settings).await;
    let began = chrono::Utc::now().timestamp_micros();
    let mut keeper = Keeper::new(database.clone());
    let mut all: Vec<(i64, Record)> = Vec::new();
    for round in 0..5_i64 {
        for n in 0..60 {
            let key = format!("{}", (n * 7 + round) % 13);
            let value = (n % 9 != 0).then(|| format!("{round} {n}"));
            let one = record(&key, value.as_deref(), round * SECOND);
            append(&database, at, std::slice::from_ref(&one)).await;
            all.push((i64::try_from(all.len()).unwrap(), one));
        }
        // a record without a key is no one's older one
        let keyless = Record { value: Some(Bytes::from_static(b"note")), ..Record::default() };
        append(&database, at, std::slice::from_ref(&keyless)).await;
        all.push((i64::try_from(all.len()).unwrap(), keyless));
        keeper.round(true, round * SECOND).await;
        assert_eq!(keeper.said().failure, None);
        let (kept, _) = read(&database, at).await;
        assert!(kept.windows(2).all(|w| w[0].0 < w[1].0));
        assert!(kept.iter().all(|k| all.contains(k)), "a record changed or moved");
        let newest: BTreeMap<_, _> = all.iter().filter_map(|(o, r)| Some((r.key.clone()?, *o))).collect();
        let expected: Vec<i64> =
            all.iter().filter(|(o, r)| r.key.as_ref().is_none_or(|k| newest[k] == *o)).map(|(o, _)| *o).collect();
        assert_eq!(kept.iter().map(|(o, _)| *o).collect::<Vec<_>>(), expected, "round {round}");
        let (_, next, records, bytes) = bounds(&database, &topic).await;
        assert_eq!((next, records), (i64::try_from(all.len()).unwrap(), i64::try_from(expected.len()).unwrap()));
        assert_eq!(bytes, stored_bytes(&cluster, &topic).await);
    }
    // deletes go when their time is over, and only then
    let deletes = |kept: &[(i64, Record)]| kept.iter().filter(|(_, r)| r.key.is_some() && r.value.is_none()).count();
    let before = read(&database, at).await.0;
    assert!(deletes(&before) > 0);
    // it runs from when they were appended: whoever reads could not have had them before, however old they are
    keeper.round(true, 60 * SECOND).await;
    assert_eq!(deletes(&read(&database, at).await.0), deletes(&before));
    keeper.round(true, began).await;
    assert_eq!(deletes(&read(&database, at).await.0), deletes(&before));
    keeper.round(true, chrono::Utc::now().timestamp_micros() + 60 * SECOND).await;
    let after = read(&database, at).await.0;
    assert_eq!((deletes(&after), after.len()), (0, before.len() - deletes(&before)));
    // a reader that stands in a gap goes on with what is left
    let first = after[0].0;
    assert!(first > 0);
    assert_eq!(database.read(at, Offset(0), 1).await.unwrap().len(), 1);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn old_blocks_move_to_a_folder_and_are_read_on_unnoticed() {
    let cluster = TestCluster::start(&["gonvel"]).await;
    let folder = tempfile::tempdir().unwrap();
    let url = format!("file://{}", folder.path().display());
    move_read_and_forget(&cluster, open(&cluster).await.with_cold_store(&url, []).unwrap(), folder.path()).await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn old_blocks_move_to_an_s3_store_and_are_read_on_unnoticed() {
    let cluster = TestCluster::start(&["gonvel"]).await;
    let folder = tempfile::tempdir().unwrap();
    let lake = Lake::start(folder.path()).await.unwrap();
    let database = open(&cluster).await.with_cold_store(&lake.url("gonvel"), lake.options()).unwrap();
    move_read_and_forget(&cluster, database, &lake.folder("gonvel")).await;
    // a store that is away keeps nothing from being appended, and says so where its records are read
    let away = open(&cluster).await.with_cold_store(&lake.url("gonvel"), lake.options()).unwrap();
    let settings = TopicSettings { hot_span_ms: Some(10_000), ..TopicSettings::default() };
    let (topic, at) = topic(&away, "coldstore.away", settings).await;
    append(&away, at, &[record("room", Some("0"), 0)]).await;
    let mut keeper = Keeper::new(away.clone());
    keeper.round(true, 60 * SECOND).await;
    assert_eq!((keeper.said().moved_blocks, keeper.said().failure.as_deref()), (1, None));
    drop(lake);
    append(&away, at, &[record("room", Some("1"), 30 * SECOND)]).await;
    let lost = away.read(at, Offset(0), 1).await;
    assert!(matches!(lost, Err(PortError::TryAgain { during: "reading a cold file", .. })), "{lost:?}");
    assert_eq!(away.read(at, Offset(1), 1).await.unwrap().len(), 1);
    keeper.round(true, 60 * SECOND).await;
    assert!(keeper.said().failure.as_deref().is_some_and(|f| f.contains("writing a cold file")), "{:?}", keeper.said());
    assert_eq!(bounds(&away, &topic).await.2, 2);
    assert_eq!(away.read(at, Offset(1), 1).await.unwrap().len(), 1, "what could not be moved is still there");
}

/// The whole way of a topic whose cold files are below `folder`.
async fn move_read_and_forget(cluster: &TestCluster, database: Database, folder: &Path) {
    let settings = TopicSettings { hot_span_ms: Some(10_000), ..TopicSettings::default() };
    let (topic, at) = topic(&database, "coldstore.rooms", settings.clone()).await;
    for n in 0..40 {
        append(&database, at, &[record("room", Some(&n.to_string()), n * SECOND)]).await;
    }
    appended_as_it_happened(cluster).await;
    let before = read(&database, at).await;
    let mut keeper = Keeper::new(database.clone());
    keeper.round(true, 60 * SECOND).await;
    assert_eq!(keeper.said().failure, None);
    assert!(keeper.said().moved_blocks > 0);
    let client = cluster.connect("gonvel").await.unwrap();
    let hot: i64 = client.query_one("SELECT count(*) FROM blocks", &[]).await.unwrap().get(0);
    let path: String = client.query_one("SELECT path FROM cold_files WHERE state = 'there'", &[]).await.unwrap().get(0);
    assert_eq!(hot, 0, "all forty seconds are more than ten seconds back");
    assert_eq!(read(&database, at).await.0, before.0);
    for (time, offset) in [(0, 0), (25 * SECOND, 25), (39 * SECOND + 1, 40)] {
        let found = database.block_at_time(at, time).await.unwrap();
        assert!(found.0 <= offset && (offset < 40 || found.0 == 40), "{time}: {found:?}");
    }
    // any reader of the standard's files reads the file
    let file = std::fs::read(folder.join(&path)).unwrap();
    let container = gonvel_core::avro::container::Container::open(&file[..]);
    assert!(container.unwrap().next_block(1 << 20).unwrap().is_some());

    // new records go on after the files, and a damaged or lost file is named
    append(&database, at, &[record("room", Some("40"), 100 * SECOND)]).await;
    assert_eq!(read(&database, at).await.0.len(), 41);
    let mut damaged = file.clone();
    let middle = damaged.len() / 2;
    damaged[middle] ^= 0xff;
    std::fs::write(folder.join(&path), &damaged).unwrap();
    let blocks = database.read(at, Offset(0), 1 << 20).await.unwrap();
    let found: Result<Vec<_>, PortError> =
        blocks.iter().map(|b| b.open(at)?.records().collect::<Result<Vec<_>, _>>().map(|r| r.len())).collect();
    assert!(matches!(found, Err(PortError::Damaged { .. })) || found.unwrap().iter().sum::<usize>() == 40);
    std::fs::remove_file(folder.join(&path)).unwrap();
    let lost = database.read(at, Offset(0), 1).await.unwrap_err();
    assert!(lost.to_string().contains(&path), "{lost}");

    // forgetting removes the file's row, and deleting the topic all that is left
    let forget = TopicSettings { hot_span_ms: None, forget_after_ms: Some(1_000), ..settings };
    database.change_topic(topic.id, topic.revision, &forget).await.unwrap();
    keeper.round(true, 90 * SECOND).await;
    assert_eq!(read(&database, at).await.0.len(), 1);
    assert_eq!(bounds(&database, &topic).await.3, stored_bytes(cluster, &topic).await);
    database.delete_topic(topic.id).await.unwrap();
    keeper.round(true, 90 * SECOND).await;
    keeper.round(true, 90 * SECOND).await;
    let left: i64 = client
        .query_one("SELECT (SELECT count(*) FROM blocks) + (SELECT count(*) FROM cold_files) + (SELECT count(*) FROM deleted_topics)", &[])
        .await
        .unwrap()
        .get(0);
    assert_eq!((left, keeper.said().drops_waiting), (0, 0));
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_damaged_block_is_named_and_others_are_kept() {
    let cluster = TestCluster::start(&["gonvel"]).await;
    let database = open(&cluster).await;
    let (topic, at) = topic(&database, "bins.weighed", TopicSettings::default()).await;
    for n in 0..30 {
        append(&database, at, &[record("bin", Some(&format!("{n} {}", "weight ".repeat(20))), n)]).await;
    }
    let client = cluster.connect("gonvel").await.unwrap();
    let damage = "UPDATE blocks SET body = set_byte(body, length(body) - 6, get_byte(body, length(body) - 6) # 255) WHERE topic_id = $1 AND first_offset = 7";
    client.execute(damage, &[&topic.id.0]).await.unwrap();
    let blocks = database.read(at, Offset(0), 1 << 20).await.unwrap();
    let bad: Vec<String> = blocks.iter().filter_map(|b| b.open(at).err()).map(|e| e.to_string()).collect();
    assert_eq!(bad.len(), 1);
    assert!(bad[0].contains("block 7 of partition 0"), "{bad:?}");
    // merging leaves it to be found, and goes on with its neighbours and with other topics
    let (_, other) = crate::support::topic(&database, "bins.moved", TopicSettings::default()).await;
    for n in 0..30 {
        append(&database, other, &[record("bin", Some("x"), n)]).await;
    }
    let mut keeper = Keeper::new(database.clone());
    keeper.round(false, 0).await;
    let failure = keeper.said().failure.clone().unwrap();
    assert!(failure.contains("block 7 of partition 0") && failure.contains("damaged"), "{failure}");
    let blocks = database.read(at, Offset(0), 1 << 20).await.unwrap();
    assert_eq!(blocks.iter().map(|b| (b.first.0, b.end().0)).collect::<Vec<_>>(), [(0, 7), (7, 8), (8, 30)]);
    assert_eq!(blocks.iter().filter(|b| b.open(at).is_ok()).count(), 2);
    assert_eq!(read(&database, other).await.1, 1);
    // it is not looked at again until there is something to merge
    keeper.round(false, 0).await;
    assert_eq!(keeper.said().failure, None);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn of_several_servers_one_keeps_and_another_takes_over() {
    let cluster = TestCluster::start(&["gonvel"]).await;
    let (first, second) = (open(&cluster).await, open(&cluster).await);
    let (_, at) = topic(&first, "coldstore.readings", TopicSettings::default()).await;
    let leaders = async || -> i64 {
        let client = cluster.connect("gonvel").await.unwrap();
        let query = "SELECT count(*) FROM pg_locks WHERE locktype = 'advisory' AND granted";
        client.query_one(query, &[]).await.unwrap().get(0)
    };
    let keeping = tokio::spawn(first.clone().keep());
    let start = std::time::Instant::now();
    while leaders().await == 0 {
        assert!(start.elapsed().as_secs() < 10, "no one keeps");
        tokio::time::sleep(std::time::Duration::from_millis(50)).await;
    }
    let other = tokio::spawn(second.clone().keep());
    for n in 0..40 {
        append(&second, at, &[record("room", Some("x"), n)]).await;
    }
    tokio::time::sleep(std::time::Duration::from_millis(300)).await;
    assert_eq!(leaders().await, 1);
    // the one that kept is gone in the middle of whatever it did
    keeping.abort();
    while read(&second, at).await.1 > 4 {
        assert!(start.elapsed().as_secs() < 40, "no one took over");
        tokio::time::sleep(std::time::Duration::from_millis(100)).await;
    }
    assert_eq!(read(&second, at).await.0.len(), 40);
    // what it did is said a moment after it is done; a few may have been merged by the one that is gone
    while second.keeper_said().await.unwrap().is_none_or(|(said, _)| said.merged_blocks == 0) {
        assert!(start.elapsed().as_secs() < 50, "it does not say what it did");
        tokio::time::sleep(std::time::Duration::from_millis(100)).await;
    }
    other.abort();
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_a_change_of_settings_forgets_goes_at_once_and_not_with_the_next_round_of_all() {
    let cluster = TestCluster::start(&["gonvel"]).await;
    let database = open(&cluster).await;
    let (topic, at) = topic(&database, "loads.departed", TopicSettings::default()).await;
    append(&database, at, &[record("load 1", Some("old"), 0)]).await;
    append(&database, at, &[record("load 2", Some("new"), i64::MAX / 2)]).await;
    let keeping = tokio::spawn(database.clone().keep());
    let start = std::time::Instant::now();
    while database.keeper_said().await.unwrap().is_none() {
        assert!(start.elapsed().as_secs() < 20, "no one keeps");
        tokio::time::sleep(std::time::Duration::from_millis(50)).await;
    }
    let settings = TopicSettings { forget_after_ms: Some(1_000), ..TopicSettings::default() };
    database.change_topic(topic.id, topic.revision, &settings).await.unwrap();
    let changed = std::time::Instant::now();
    while read(&database, at).await.0.len() > 1 {
        assert!(changed.elapsed().as_secs() < 30, "it waits for the next round of all");
        tokio::time::sleep(std::time::Duration::from_millis(50)).await;
    }
    keeping.abort();
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_backlog_that_is_appended_late_is_kept_as_long_as_what_came_in_time() {
    const HOUR: i64 = 3_600 * SECOND;
    let cluster = TestCluster::start(&["gonvel"]).await;
    let folder = tempfile::tempdir().unwrap();
    let place = format!("file://{}", folder.path().display());
    let database = open(&cluster).await.with_cold_store(&place, []).unwrap();
    let settings =
        TopicSettings { forget_after_ms: Some(7_200_000), hot_span_ms: Some(3_600_000), ..TopicSettings::default() };
    let (topic, at) = topic(&database, "orchard.plots", settings).await;
    // a source that was paused for three days brings what happened meanwhile, in small appends and a large one
    let now = chrono::Utc::now().timestamp_micros();
    for n in 0..30 {
        append(&database, at, &[record("plot", Some(&n.to_string()), now - 72 * HOUR + n * HOUR)]).await;
    }
    let many: Vec<_> = (0..50).map(|n| record(&n.to_string(), Some("many"), now - 70 * HOUR)).collect();
    append(&database, at, &many).await;
    let mut keeper = Keeper::new(database.clone());
    let firsts = async |keeper: &mut Keeper, now_us| {
        // moved by one round, forgotten by the next
        keeper.round(true, now_us).await;
        keeper.round(true, now_us).await;
        assert_eq!(keeper.said().failure, None);
        bounds(&database, &topic).await.0
    };
    // it is old, so it moves to files, but it is there for two hours for whoever reads it
    assert_eq!(firsts(&mut keeper, now + HOUR).await, 0);
    assert!(keeper.said().moved_blocks > 0, "{:?}", keeper.said());
    assert_eq!(database.outlook(&topic, now + HOUR).await.unwrap().gone_by(now + HOUR * 199 / 100), []);
    assert_eq!(read(&database, at).await.0.len(), 80);
    assert_eq!(firsts(&mut keeper, now + 3 * HOUR).await, 80);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn blocks_far_apart_are_not_made_one_and_are_found_from_either_side() {
    const FAR: i64 = 5_000_000_000;
    let cluster = TestCluster::start(&["gonvel"]).await;
    let database = open(&cluster).await;
    let settings = TopicSettings { keep: Keep::Latest, ..TopicSettings::default() };
    let (topic, at) = topic(&database, "packhouse.varieties", settings).await;
    for n in 0..6 {
        append(&database, at, &[record(&n.to_string(), Some("x"), n)]).await;
    }
    let client = cluster.connect("gonvel").await.unwrap();
    let gap = format!("UPDATE topic_partitions SET next_offset = {FAR}, passed_over = {FAR} - 6");
    client.batch_execute(&gap).await.unwrap();
    for n in 6..20 {
        append(&database, at, &[record(&n.to_string(), Some("x"), n)]).await;
    }
    let mut keeper = Keeper::new(database.clone());
    keeper.round(true, 0).await;
    assert_eq!(keeper.said().failure, None);
    assert!(keeper.said().merged_blocks > 0);
    let offsets: Vec<i64> = read(&database, at).await.0.iter().map(|(offset, _)| *offset).collect();
    assert_eq!(offsets, (0..6).chain(FAR..FAR + 14).collect::<Vec<_>>());
    assert_eq!(bounds(&database, &topic).await.2, 20);
    for (last, holds) in [(FAR + 13, FAR + 13), (FAR + 100, FAR + 13), (FAR - 1, 5), (FAR / 2, 5), (3, 3)] {
        let block = database.read_back(at, Offset(last)).await.unwrap().unwrap();
        assert!((block.first.0..block.end().0).contains(&holds), "{last}: {:?} to {:?}", block.first, block.end());
    }
}

/// A setting of a version that took any number; what it does to its own topic it does not do to others.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn one_topic_s_endless_span_keeps_no_other_from_forgetting() {
    let cluster = TestCluster::start(&["gonvel"]).await;
    let database = open(&cluster).await;
    let folder = tempfile::tempdir().unwrap();
    let database = database.with_cold_store(&format!("file://{}", folder.path().display()), []).unwrap();
    let forget = TopicSettings { forget_after_ms: Some(10_000), ..TopicSettings::default() };
    let hot = TopicSettings { hot_span_ms: Some(10_000), ..TopicSettings::default() };
    let mut ends = Vec::new();
    for (name, settings) in
        [("loads.endless", &forget), ("loads.departed", &forget), ("rooms.endless", &hot), ("rooms", &hot)]
    {
        let (topic, at) = topic(&database, name, settings.clone()).await;
        append(&database, at, &[record("a", Some("old"), i64::MIN), record("a", Some("old"), 0)]).await;
        append(&database, at, &[record("a", Some("new"), 50 * SECOND)]).await;
        ends.push(topic);
    }
    let client = cluster.connect("gonvel").await.unwrap();
    let endless = "UPDATE topics SET forget_after_ms = 9223372036854775807 WHERE name = 'loads.endless'; \
                   UPDATE topics SET hot_span_ms = 9223372036854775807 WHERE name = 'rooms.endless'";
    client.batch_execute(endless).await.unwrap();
    appended_as_it_happened(&cluster).await;
    let mut keeper = Keeper::new(database.clone());
    keeper.round(true, 55 * SECOND).await;
    assert_eq!(keeper.said().failure, None);
    let mut firsts = Vec::new();
    for topic in &ends {
        firsts.push(bounds(&database, topic).await.0);
    }
    assert_eq!((firsts, keeper.said().moved_blocks), (vec![0, 2, 0, 0], 1));
}
