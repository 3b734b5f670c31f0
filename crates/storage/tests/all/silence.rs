//! A database that falls silent without closing: nobody waits for ever, and what comes later goes on.

use std::time::{Duration, Instant};

use gonvel_core::block::pack;
use gonvel_core::naming::{Offset, PartitionId, TopicName, TopicPartition};
use gonvel_core::ports::{AppendBatch, PartitionBlocks, PortError, RunnerStore, TopicLog};
use gonvel_core::record::Record;
use gonvel_core::topic_settings::TopicSettings;
use gonvel_stand_ins::between::Between;
use gonvel_stand_ins::test_cluster::TestCluster;
use gonvel_storage::Database;
use gonvel_storage::reaching::{Address, Patience};
use gonvel_storage::sealing::Sealer;

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_silent_database_is_given_up_and_the_next_session_goes_on() {
    let cluster = TestCluster::start(&["gonvel"]).await;
    let between = Between::start(cluster.port).await;
    let url = cluster.url("gonvel").replace(&format!(":{}/", cluster.port), &format!(":{}/", between.port));
    let of = Duration::from_millis;
    let patience = Patience { statement: of(1_000), silence: of(1_500), ..Patience::default() };
    let database = Database::open_at(Address::parse(&url).unwrap().patient(patience), Sealer::new(&[7; 32])).await.unwrap();
    let topic = database.create_topic(&TopicName::parse("bins").unwrap(), 1, &TopicSettings::default()).await.unwrap();
    let to = TopicPartition { topic: topic.id, partition: PartitionId(0) };
    let batch = || {
        let records = [Record { value: Some("russet".into()), ..Record::default() }];
        AppendBatch { parts: vec![PartitionBlocks { to, blocks: pack(&records) }], ..AppendBatch::default() }
    };
    database.append(batch()).await.unwrap();
    // a session that is idle owes nothing, and stays
    tokio::time::sleep(of(2_000)).await;
    let made = between.made();
    database.append(batch()).await.unwrap();
    database.bounds(topic.id).await.unwrap();
    assert_eq!(between.made(), made, "a session was given up that was only idle");

    between.fall_silent();
    let start = Instant::now();
    let (appended, read) = tokio::join!(database.append(batch()), database.bounds(topic.id));
    assert!(matches!(appended, Err(PortError::TryAgain { .. })), "{appended:?}");
    assert!(matches!(read, Err(PortError::TryAgain { .. })), "{read:?}");
    assert!(start.elapsed() < Duration::from_secs(5), "{:?}", start.elapsed());
    // sessions that were in the pool are found out as they are used, each once
    let start = Instant::now();
    while database.append(batch()).await.is_err() || database.bounds(topic.id).await.is_err() {
        assert!(start.elapsed() < Duration::from_secs(20), "nothing goes on");
    }
    assert!(database.bounds(topic.id).await.unwrap()[0].next >= Offset(3));

    // a statement that the server would carry out for ever is given up by it
    let own = cluster.connect("gonvel").await.unwrap();
    own.batch_execute("BEGIN; LOCK TABLE topic_partitions IN ACCESS EXCLUSIVE MODE").await.unwrap();
    let start = Instant::now();
    let waited = database.bounds(topic.id).await;
    assert!(matches!(waited, Err(PortError::TryAgain { .. })) && start.elapsed() < Duration::from_secs(4), "{waited:?}");
    own.batch_execute("ROLLBACK").await.unwrap();
    database.append(batch()).await.unwrap();
}

/// A process that is frozen within a transaction, or whose machine is, holds what others need: only until the server gives it up.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn one_that_falls_silent_while_it_plans_is_given_up_and_others_plan() {
    let cluster = TestCluster::start(&["gonvel"]).await;
    let between = Between::start(cluster.port).await;
    let url = cluster.url("gonvel").replace(&format!(":{}/", cluster.port), &format!(":{}/", between.port));
    let patience = Patience { transaction: Duration::from_millis(1_000), ..Patience::default() };
    let database = Database::open_at(Address::parse(&url).unwrap().patient(patience), Sealer::new(&[7; 32])).await.unwrap();
    let own = cluster.connect("gonvel").await.unwrap();
    let held = cluster.connect("gonvel").await.unwrap();
    held.batch_execute("BEGIN; LOCK TABLE runners IN ACCESS EXCLUSIVE MODE").await.unwrap();
    let planning = tokio::spawn(async move { database.share_out().await });
    let plans = async || {
        let locks = "SELECT count(*) FROM pg_locks WHERE locktype = 'advisory' AND pid IN (SELECT pid FROM pg_locks WHERE relation = 'runners'::regclass)";
        own.query_one(locks, &[]).await.unwrap().get::<_, i64>(0) > 0
    };
    while !plans().await {
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
    // it hears nothing more of its server, which goes on
    between.fall_silent();
    held.batch_execute("ROLLBACK").await.unwrap();
    let start = Instant::now();
    while plans().await {
        assert!(start.elapsed() < Duration::from_secs(5), "its lock is held for ever");
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    planning.abort();
}
