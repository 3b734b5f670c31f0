//! What the database refuses for good is told apart from what helps itself, and concerns only whoever brought it.

use std::time::Duration;

use gonvel_core::block::pack;
use gonvel_core::naming::{Offset, PartitionId, TopicName, TopicPartition};
use gonvel_core::ports::{AppendBatch, Identity, PartitionBlocks, PortError, TopicLog};
use gonvel_core::record::Record;
use gonvel_core::topic_settings::TopicSettings;
use gonvel_stand_ins::test_cluster::TestCluster;
use gonvel_storage::Database;
use gonvel_storage::sealing::Sealer;

fn batch(to: TopicPartition, bytes: usize, key: Option<&str>) -> AppendBatch {
    // what does not compress
    let mut seed = 0x2545_f491_4f6c_dd1d_u64;
    let mut value = Vec::with_capacity(bytes);
    while value.len() < bytes {
        seed ^= seed << 13;
        seed ^= seed >> 7;
        seed ^= seed << 17;
        value.extend_from_slice(&seed.to_le_bytes());
    }
    let records = [Record { value: Some(value.into()), ..Record::default() }];
    let identity = key.map(|key| Identity::Key { key: key.to_owned(), digest: vec![1] });
    AppendBatch { parts: vec![PartitionBlocks { to, blocks: pack(&records) }], identity, ..AppendBatch::default() }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_the_database_refuses_for_good_concerns_only_whoever_brought_it() {
    let cluster = TestCluster::start(&["gonvel"]).await;
    let database = Database::open(&cluster.url("gonvel"), Sealer::new(&[7; 32])).await.unwrap();
    let topic = database.create_topic(&TopicName::parse("bins").unwrap(), 1, &TopicSettings::default()).await.unwrap();
    let to = TopicPartition { topic: topic.id, partition: PartitionId(0) };
    database.append(batch(to, 9, None)).await.unwrap();

    // while the first waits for a lock, the others come together: among them keys that no text of the database can be
    let own = cluster.connect("gonvel").await.unwrap();
    own.batch_execute("BEGIN; LOCK TABLE topic_partitions IN ACCESS EXCLUSIVE MODE").await.unwrap();
    let keys = [None, Some("a"), Some("b\0ad"), Some("c"), None, Some("d\0"), Some("e")];
    let appends = keys.map(|key| {
        let database = database.clone();
        tokio::spawn(async move { database.append(batch(to, 9, key)).await })
    });
    tokio::time::sleep(Duration::from_millis(300)).await;
    own.batch_execute("ROLLBACK").await.unwrap();
    let mut landed = 0;
    for (key, append) in keys.iter().zip(appends) {
        let answer = append.await.unwrap();
        if key.is_some_and(|key| key.contains('\0')) {
            assert!(matches!(answer, Err(PortError::Unfit { .. })), "{key:?}: {answer:?}");
        } else {
            answer.unwrap();
            landed += 1;
        }
    }
    assert_eq!(database.bounds(topic.id).await.unwrap()[0].next, Offset(1 + landed));

    // however much comes at one moment, what goes into one transaction is limited; all of it goes in
    own.batch_execute("BEGIN; LOCK TABLE topic_partitions IN ACCESS EXCLUSIVE MODE").await.unwrap();
    let large: Vec<_> = [7, 7, 7, 20, 1, 1, 7]
        .map(|megabytes| {
            let database = database.clone();
            tokio::spawn(async move { database.append(batch(to, megabytes << 20, None)).await })
        })
        .into();
    tokio::time::sleep(Duration::from_millis(500)).await;
    own.batch_execute("ROLLBACK").await.unwrap();
    for append in large {
        append.await.unwrap().unwrap();
    }
    let sums: Vec<(i64, i64)> = own
        .query("SELECT count(*), sum(length(body))::bigint FROM blocks GROUP BY xmin::text", &[])
        .await
        .unwrap()
        .iter()
        .map(|row| (row.get(0), row.get(1)))
        .collect();
    assert!(sums.iter().all(|(blocks, bytes)| *blocks == 1 || *bytes <= 16 << 20), "{sums:?}");

    // a table that lacks a column answers, and will answer the same
    own.batch_execute("ALTER TABLE topic_partitions RENAME COLUMN next_offset TO elsewhere").await.unwrap();
    let read = database.bounds(topic.id).await;
    assert!(matches!(read, Err(PortError::Failed { .. })), "{read:?}");
    let appended = database.append(batch(to, 9, Some("f"))).await;
    assert!(matches!(appended, Err(PortError::Failed { .. })), "{appended:?}");
    own.batch_execute("ALTER TABLE topic_partitions RENAME COLUMN elsewhere TO next_offset").await.unwrap();
    database.append(batch(to, 9, Some("f"))).await.unwrap();
    // and one that was ended from outside helps itself
    own.batch_execute(
        "SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE pid <> pg_backend_pid() AND datname = 'gonvel'",
    )
    .await
    .unwrap();
    let appended = database.append(batch(to, 9, Some("g"))).await;
    assert!(matches!(appended, Ok(_) | Err(PortError::TryAgain { .. })), "{appended:?}");
    database.append(batch(to, 9, Some("h"))).await.unwrap();
}
