//! Forgetting: which of a topic's oldest blocks may go by age and by size.

use crate::naming::{Offset, PartitionId};
use crate::topic_settings::TopicSettings;

/// A block, or a file of blocks, that goes or stays as a whole.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct KeptBlock {
    /// The offset after it.
    pub end: Offset,
    /// Latest timestamp in it, in microseconds since 1970-01-01 UTC.
    pub latest_us: i64,
    /// Its size as stored.
    pub bytes: i64,
}

/// The oldest blocks of a partition, in order.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct OldestBlocks {
    /// The partition.
    pub partition: PartitionId,
    /// Its blocks from the oldest on.
    pub blocks: Vec<KeptBlock>,
    /// Whether more follow than are given.
    pub more: bool,
}

/// For each partition that forgets something, the offset before which everything goes.
///
/// By age a block goes once all its records are too old and all blocks before it went. By size the block with the earliest
/// time goes first, whichever partition it is in, and the newest block of a partition never does. `total_bytes` is the
/// topic's size.
#[must_use]
pub fn forget(
    partitions: &[OldestBlocks],
    total_bytes: i64,
    settings: &TopicSettings,
    now_us: i64,
) -> Vec<(PartitionId, Offset)> {
    let mut gone = vec![0_usize; partitions.len()];
    let mut left = total_bytes;
    if let Some(age_ms) = settings.forget_after_ms {
        let limit = now_us.saturating_sub(age_ms.saturating_mul(1000));
        for (gone, partition) in gone.iter_mut().zip(partitions) {
            *gone = partition.blocks.iter().take_while(|b| b.latest_us < limit).count();
            left -= partition.blocks[..*gone].iter().map(|b| b.bytes).sum::<i64>();
        }
    }
    if let Some(most) = settings.most_bytes {
        while left > most {
            let heads = partitions.iter().enumerate().filter_map(|(n, p)| {
                let last = !p.more && gone[n] + 1 >= p.blocks.len();
                p.blocks.get(gone[n]).filter(|_| !last).map(|b| (b.latest_us, n, b.bytes))
            });
            let Some((_, n, bytes)) = heads.min() else { break };
            gone[n] += 1;
            left -= bytes;
        }
    }
    let ends = gone.iter().zip(partitions).filter(|(gone, _)| **gone > 0);
    ends.map(|(gone, p)| (p.partition, p.blocks[gone - 1].end)).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn topic() -> impl Strategy<Value = Vec<OldestBlocks>> {
        let block = (0_i64..100, 1_i64..20);
        prop::collection::vec(prop::collection::vec(block, 0..12), 1..4).prop_map(|partitions| {
            let partition = |(n, blocks): (usize, Vec<(i64, i64)>)| OldestBlocks {
                partition: PartitionId(i32::try_from(n).unwrap()),
                blocks: (1..)
                    .zip(blocks)
                    .map(|(end, (latest_us, bytes))| KeptBlock { end: Offset(end * 10), latest_us, bytes })
                    .collect(),
                more: false,
            };
            partitions.into_iter().enumerate().map(partition).collect()
        })
    }

    /// What is left, block by block, as a simple reader of the rule would do it.
    fn model(topic: &[OldestBlocks], settings: &TopicSettings, now_us: i64) -> Vec<Vec<KeptBlock>> {
        let mut left: Vec<Vec<KeptBlock>> = topic.iter().map(|p| p.blocks.clone()).collect();
        if let Some(age) = settings.forget_after_ms {
            for blocks in &mut left {
                while blocks.first().is_some_and(|b| b.latest_us < now_us - age * 1000) {
                    blocks.remove(0);
                }
            }
        }
        if let Some(most) = settings.most_bytes {
            loop {
                let size: i64 = left.iter().flatten().map(|b| b.bytes).sum();
                let oldest = (0..left.len()).filter(|&n| left[n].len() > 1).min_by_key(|&n| (left[n][0].latest_us, n));
                match oldest {
                    Some(n) if size > most => left[n].remove(0),
                    _ => break,
                };
            }
        }
        left
    }

    proptest! {
        #[test]
        fn what_is_forgotten_is_what_a_simple_reading_of_the_rule_forgets(
            topic in topic(),
            age in prop::option::of(1_i64..50),
            most in prop::option::of(1_i64..200),
        ) {
            // times are in microseconds and ages in milliseconds
            let topic: Vec<OldestBlocks> = topic.into_iter().map(|mut p| {
                p.blocks.iter_mut().for_each(|b| b.latest_us *= 1000);
                p
            }).collect();
            let settings = TopicSettings { forget_after_ms: age, most_bytes: most, ..TopicSettings::default() };
            let total = topic.iter().flat_map(|p| &p.blocks).map(|b| b.bytes).sum();
            let ends = forget(&topic, total, &settings, 60_000);
            let left = model(&topic, &settings, 60_000);
            for (partition, left) in topic.iter().zip(left) {
                let end = ends.iter().find(|(p, _)| *p == partition.partition).map_or(Offset(0), |(_, end)| *end);
                let kept: Vec<KeptBlock> = partition.blocks.iter().filter(|b| b.end > end).copied().collect();
                prop_assert_eq!(kept, left);
            }
        }
    }

    #[test]
    fn a_list_that_is_cut_off_does_not_take_its_last_block_for_the_newest() {
        let blocks = vec![KeptBlock { end: Offset(10), latest_us: 0, bytes: 5 }];
        let settings = TopicSettings { most_bytes: Some(1), ..TopicSettings::default() };
        let one =
            |more| forget(&[OldestBlocks { partition: PartitionId(0), blocks: blocks.clone(), more }], 50, &settings, 0);
        assert_eq!(one(true), [(PartitionId(0), Offset(10))]);
        assert_eq!(one(false), []);
    }
}
