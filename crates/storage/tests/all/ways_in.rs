//! The statements by which appends go in.

use std::collections::BTreeMap;

use gonvel_core::block::{EncodedBlock, pack};
use gonvel_core::naming::{PartitionId, TopicName, TopicPartition};
use gonvel_core::ports::{AppendBatch, Identity, PartitionBlocks, PortError, TopicLog};
use gonvel_core::topic_settings::TopicSettings;
use gonvel_stand_ins::dice::Dice;
use gonvel_stand_ins::test_cluster::TestCluster;

use crate::support::{SECOND, open, record};

/// A block by itself, one beside another partition's, and one that is looked for among the earlier ones each have a statement of their
/// own; what stands in the log afterwards is the same.
#[tokio::test]
async fn a_block_stands_in_the_log_alike_however_it_went_in() {
    let cluster = TestCluster::start(&["gonvel"]).await;
    let database = open(&cluster).await;
    let mut topics = Vec::new();
    for name in ["alone", "beside", "known"] {
        let topic = database.create_topic(&TopicName::parse(name).unwrap(), 2, &TopicSettings::default()).await.unwrap();
        topics.push(topic.id);
    }
    let at = |topic: usize, partition| TopicPartition { topic: topics[topic], partition: PartitionId(partition) };
    let part = |to, blocks: &[EncodedBlock]| PartitionBlocks { to, blocks: blocks.to_vec() };
    let mut dice = Dice::new(71);
    for round in 0..60 {
        let records: Vec<_> = (0..=dice.roll(40))
            .map(|n| {
                let time = i64::try_from(dice.roll(1_000)).unwrap() * SECOND;
                record(&format!("{n}"), Some(&"x".repeat(usize::try_from(dice.roll(300)).unwrap())), time)
            })
            .collect();
        let blocks = pack(&records);
        let other = pack(&[record("other", Some("partition"), SECOND)]);
        let alone = AppendBatch { parts: vec![part(at(0, 0), &blocks)], ..AppendBatch::default() };
        let beside = vec![part(at(1, 0), &blocks), part(at(1, 1), &other)];
        let identity = Some(Identity::Key { key: format!("{round}"), digest: vec![1] });
        let known = AppendBatch { parts: vec![part(at(2, 0), &blocks)], identity, ..AppendBatch::default() };
        let mut landed = Vec::new();
        for batch in [alone, AppendBatch { parts: beside, ..AppendBatch::default() }, known] {
            let first = database.append(batch).await.unwrap().swap_remove(0);
            landed.push((first.first, first.records));
        }
        assert!(landed.iter().all(|one| *one == landed[0]), "{landed:?}");
    }
    let client = cluster.connect("gonvel").await.unwrap();
    let mut found: BTreeMap<String, (String, String)> = BTreeMap::new();
    for (name, topic) in ["alone", "beside", "known"].iter().zip(&topics) {
        let blocks = "SELECT string_agg(concat_ws(' ', first_offset, records, span, earliest_us, latest_us, unpacked, reach_us, md5(body)), '; '
            ORDER BY first_offset), count(*) FROM blocks WHERE topic_id = $1 AND partition = 0";
        let row = client.query_one(blocks, &[&topic.0]).await.unwrap();
        assert_eq!(row.get::<_, i64>(1), 60);
        let ends = "SELECT concat_ws(' ', first_offset, next_offset, bytes, reach_us, small_blocks) FROM topic_partitions WHERE topic_id = $1 AND partition = 0";
        let end = client.query_one(ends, &[&topic.0]).await.unwrap();
        found.insert((*name).to_owned(), (row.get(0), end.get(0)));
    }
    assert!(found.values().all(|one| *one == found["alone"]), "{found:?}");
    // a partition that is not there is named, and nothing of it stays
    let nowhere = AppendBatch { parts: vec![part(at(0, 9), &pack(&[record("a", None, 0)]))], ..AppendBatch::default() };
    let refused = database.append(nowhere).await.unwrap_err();
    assert!(matches!(&refused, PortError::NotFound { what } if what.contains("partition 9")), "{refused}");
}
