//! What the tests of the log have in common.

use bytes::Bytes;
use gonvel_core::block::pack;
use gonvel_core::naming::{Offset, PartitionId, TopicName, TopicPartition};
use gonvel_core::ports::{AppendBatch, PartitionBlocks, Topic, TopicLog};
use gonvel_core::record::Record;
use gonvel_core::topic_settings::TopicSettings;
use gonvel_stand_ins::test_cluster::TestCluster;
use gonvel_storage::Database;
use gonvel_storage::sealing::Sealer;

pub(crate) const SECOND: i64 = 1_000_000;

pub(crate) async fn open(cluster: &TestCluster) -> Database {
    Database::open(&cluster.url("gonvel"), Sealer::new(&[7; 32])).await.unwrap()
}

pub(crate) async fn topic(database: &Database, name: &str, settings: TopicSettings) -> (Topic, TopicPartition) {
    let topic = database.create_topic(&TopicName::parse(name).unwrap(), 1, &settings).await.unwrap();
    let at = TopicPartition { topic: topic.id, partition: PartitionId(0) };
    (topic, at)
}

pub(crate) fn record(key: &str, value: Option<&str>, timestamp_us: i64) -> Record {
    let part = |text: &str| Bytes::copy_from_slice(text.as_bytes());
    Record { key: Some(part(key)), value: value.map(part), timestamp_us, ..Record::default() }
}

pub(crate) async fn append(database: &Database, at: TopicPartition, records: &[Record]) {
    let parts = vec![PartitionBlocks { to: at, blocks: pack(records) }];
    database.append(AppendBatch { parts, ..AppendBatch::default() }).await.unwrap();
}

/// What is there is as old as its records, as if each had been appended when it happened.
pub(crate) async fn appended_as_it_happened(cluster: &TestCluster) {
    cluster.connect("gonvel").await.unwrap().batch_execute("UPDATE blocks SET appended_us = latest_us").await.unwrap();
}

/// All records with their offsets, and in how many blocks they are.
pub(crate) async fn read(database: &Database, at: TopicPartition) -> (Vec<(i64, Record)>, usize) {
    let (mut out, mut next, mut count) = (Vec::new(), Offset(0), 0);
    loop {
        let blocks = database.read(at, next, 1 << 16).await.unwrap();
        if blocks.is_empty() {
            return (out, count);
        }
        for block in &blocks {
            count += 1;
            out.extend(block.open(at).unwrap().records().map(|r| r.map(|(o, r)| (o.0, r.to_record())).unwrap()));
            next = block.end();
        }
    }
}

pub(crate) async fn bounds(database: &Database, topic: &Topic) -> (i64, i64, i64, i64) {
    let b = database.bounds(topic.id).await.unwrap()[0];
    (b.first.0, b.next.0, b.records, b.bytes)
}

pub(crate) async fn stored_bytes(cluster: &TestCluster, topic: &Topic) -> i64 {
    let client = cluster.connect("gonvel").await.unwrap();
    let query = "SELECT (coalesce((SELECT sum(length(body)) FROM blocks WHERE topic_id = $1), 0) \
                 + coalesce((SELECT sum(bytes) FROM cold_files WHERE topic_id = $1 AND state = 'there'), 0))::bigint";
    client.query_one(query, &[&topic.id.0]).await.unwrap().get(0)
}
