//! Forgetting: which of a topic's oldest blocks may go by age and by size.

use crate::naming::{Offset, PartitionId};
use crate::topic_settings::TopicSettings;

/// A block, or a file of blocks, that goes or stays as a whole.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct KeptBlock {
    /// The offset after it.
    pub end: Offset,
    /// From when its age counts, in microseconds since 1970-01-01 UTC: the later of its latest record's time and of when it was appended.
    pub ages_from_us: i64,
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
/// By age a block goes once all its records are too old, whether by their own time or since they were appended, and all blocks before
/// it went: what comes late, from a source that was paused or from a file, is there as long as anything else. By size the block with
/// the earliest of these times goes first, whichever partition it is in, and the newest block of a partition never does. `total_bytes` is the
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
            *gone = partition.blocks.iter().take_while(|b| b.ages_from_us < limit).count();
            left -= partition.blocks[..*gone].iter().map(|b| b.bytes).sum::<i64>();
        }
    }
    if let Some(most) = settings.most_bytes {
        while left > most {
            let heads = partitions.iter().enumerate().filter_map(|(n, p)| {
                let last = !p.more && gone[n] + 1 >= p.blocks.len();
                p.blocks.get(gone[n]).filter(|_| !last).map(|b| (b.ages_from_us, n, b.bytes))
            });
            let Some((_, n, bytes)) = heads.min() else { break };
            gone[n] += 1;
            left -= bytes;
        }
    }
    let ends = gone.iter().zip(partitions).filter(|(gone, _)| **gone > 0);
    ends.map(|(gone, p)| (p.partition, p.blocks[gone - 1].end)).collect()
}

const DAY_US: i64 = 86_400_000_000;

/// A topic as it is, and how it grows: what it will have forgotten at a later time.
#[derive(Debug, Clone)]
pub struct Outlook {
    /// Its oldest blocks, as far as they are looked at.
    pub partitions: Vec<OldestBlocks>,
    /// Its size in bytes as stored.
    pub total_bytes: i64,
    /// What it keeps.
    pub settings: TopicSettings,
    /// Bytes that come each day.
    pub bytes_per_day: i64,
    /// Now, in microseconds since 1970-01-01 UTC.
    pub now_us: i64,
}

/// What forgetting takes from one who has not read it yet.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct SoonForgotten {
    /// When the first of it goes, in microseconds since 1970-01-01 UTC.
    pub at_us: i64,
    /// Offsets that will have gone at the end of the time that is looked at.
    pub records: i64,
}

impl Outlook {
    /// For each partition that has forgotten something by then, the offset before which all went, if nobody changes anything.
    #[must_use]
    pub fn gone_by(&self, at_us: i64) -> Vec<(PartitionId, Offset)> {
        let span = i128::from(at_us.saturating_sub(self.now_us).max(0));
        let grows = i64::try_from(i128::from(self.bytes_per_day) * span / i128::from(DAY_US)).unwrap_or(i64::MAX);
        forget(&self.partitions, self.total_bytes.saturating_add(grows), &self.settings, at_us)
    }

    /// What is forgotten within a time, in microseconds, before those who stand at offsets have read it: by place in the list.
    #[must_use]
    pub fn takes_from(&self, positions: &[(PartitionId, Offset)], within_us: i64) -> Vec<(usize, SoonForgotten)> {
        let passes = |gone: &[(PartitionId, Offset)], (partition, next): (PartitionId, Offset)| {
            gone.iter().find(|(found, end)| *found == partition && *end > next).map(|(_, end)| end.0 - next.0)
        };
        let gone = self.gone_by(self.now_us + within_us);
        let passed = positions.iter().enumerate().filter_map(|(place, at)| Some((place, *at, passes(&gone, *at)?)));
        let found = passed.map(|(place, at, records)| {
            let (mut before, mut at_us) = (self.now_us - 1, self.now_us + within_us);
            while at_us - before > 1 {
                let between = before + (at_us - before) / 2;
                if passes(&self.gone_by(between), at).is_some() { at_us = between } else { before = between }
            }
            (place, SoonForgotten { at_us, records })
        });
        found.collect()
    }
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
                    .map(|(end, (ages_from_us, bytes))| KeptBlock { end: Offset(end * 10), ages_from_us, bytes })
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
                while blocks.first().is_some_and(|b| b.ages_from_us < now_us - age * 1000) {
                    blocks.remove(0);
                }
            }
        }
        if let Some(most) = settings.most_bytes {
            loop {
                let size: i64 = left.iter().flatten().map(|b| b.bytes).sum();
                let oldest = (0..left.len()).filter(|&n| left[n].len() > 1).min_by_key(|&n| (left[n][0].ages_from_us, n));
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
                p.blocks.iter_mut().for_each(|b| b.ages_from_us *= 1000);
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

    proptest! {
        /// The time that is told is the first at which what is not read has gone, and the records are those that have gone in the end.
        #[test]
        fn what_is_soon_forgotten_is_what_forgetting_then_takes(
            topic in topic(), age in prop::option::of(1_i64..50), most in prop::option::of(1_i64..200),
            next in 0_i64..120, partition in 0_i32..3, per_day in 0_i64..400_000_000,
        ) {
            let total_bytes = topic.iter().flat_map(|p| &p.blocks).map(|b| b.bytes).sum();
            let settings = TopicSettings { forget_after_ms: age, most_bytes: most, ..TopicSettings::default() };
            let outlook = Outlook { partitions: topic, total_bytes, settings, bytes_per_day: per_day, now_us: 1_000 };
            let within_us = 60_000_000;
            let gone = |at_us| outlook.gone_by(at_us).iter().find(|g| g.0.0 == partition).map_or(0, |g| g.1.0);
            match outlook.takes_from(&[(PartitionId(partition), Offset(next))], within_us).first() {
                None => prop_assert!(gone(1_000 + within_us) <= next),
                Some((_, SoonForgotten { at_us, records })) => {
                    let (at_us, records) = (*at_us, *records);
                    prop_assert!(gone(at_us) > next);
                    prop_assert!(at_us == 1_000 || gone(at_us - 1) <= next);
                    prop_assert_eq!(records, gone(1_000 + within_us) - next);
                }
            }
            // and what has gone does not come back
            let mut before = 0;
            for step in 0..30 {
                let now = gone(1_000 + within_us * step / 30);
                prop_assert!(now >= before, "{} after {}", now, before);
                before = now;
            }
        }
    }

    #[test]
    fn by_size_what_grows_takes_what_is_there_at_its_pace() {
        let block = |end, ages_from_us| KeptBlock { end: Offset(end), ages_from_us, bytes: 100 };
        let partitions = vec![OldestBlocks {
            partition: PartitionId(0),
            blocks: vec![block(10, 1), block(20, 2), block(30, 3)],
            more: true,
        }];
        let settings = TopicSettings { most_bytes: Some(500), ..TopicSettings::default() };
        let outlook = Outlook { partitions, total_bytes: 300, settings, bytes_per_day: 300, now_us: 0 };
        let takes = |next, days| {
            let found = outlook.takes_from(&[(PartitionId(0), Offset(next))], days * DAY_US);
            found.first().map(|(_, soon)| *soon)
        };
        // two thirds of a day until it is full, then a block each third
        assert_eq!(takes(0, 1), Some(SoonForgotten { at_us: DAY_US * 201 / 300, records: 10 }));
        assert_eq!(takes(10, 1), None);
        assert_eq!(takes(10, 2), Some(SoonForgotten { at_us: DAY_US * 301 / 300, records: 20 }));
        let still = Outlook { bytes_per_day: 0, ..outlook };
        assert_eq!(still.takes_from(&[(PartitionId(0), Offset(0))], 100 * DAY_US), []);
    }

    #[test]
    fn a_list_that_is_cut_off_does_not_take_its_last_block_for_the_newest() {
        let blocks = vec![KeptBlock { end: Offset(10), ages_from_us: 0, bytes: 5 }];
        let settings = TopicSettings { most_bytes: Some(1), ..TopicSettings::default() };
        let one =
            |more| forget(&[OldestBlocks { partition: PartitionId(0), blocks: blocks.clone(), more }], 50, &settings, 0);
        assert_eq!(one(true), [(PartitionId(0), Offset(10))]);
        assert_eq!(one(false), []);
    }
}
