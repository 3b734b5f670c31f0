//! The blocks that this process appended last, so that who follows a partition in it need not ask the database for them.

use std::collections::{HashMap, VecDeque};
use std::sync::Mutex;

use gonvel_core::block::EncodedBlock;
use gonvel_core::naming::{Offset, TopicPartition};
use gonvel_core::places::Places;
use gonvel_core::ports::StoredBlock;

/// Bytes kept at most, of all partitions together.
const MOST_BYTES: usize = 16 << 20;
/// Blocks kept at most, of all partitions together.
const MOST_BLOCKS: usize = 16_384;

#[derive(Debug, Default)]
pub(super) struct Recent(Mutex<Kept>);

#[derive(Debug, Default)]
struct Kept {
    /// The ground they were appended on.
    ground: u64,
    /// Blocks without a gap between them, the oldest first, each with its bytes before compression.
    partitions: HashMap<TopicPartition, VecDeque<(StoredBlock, i64)>>,
    /// The partitions in the order of all appends; the front one's oldest block goes first.
    order: VecDeque<TopicPartition>,
    bytes: usize,
}

impl Kept {
    fn forget_oldest(&mut self) {
        let Some(at) = self.order.pop_front() else { return };
        let Some(blocks) = self.partitions.get_mut(&at) else { return };
        if let Some((block, _)) = blocks.pop_front() {
            self.bytes -= block.body.len();
        }
        if blocks.is_empty() {
            self.partitions.remove(&at);
        }
    }
}

impl Recent {
    /// Forgets what was appended on an earlier ground: the log may not have it any more.
    pub(super) fn begin(&self, ground: u64) {
        let Ok(mut kept) = self.0.lock() else { return };
        if ground > kept.ground {
            *kept = Kept { ground, ..Kept::default() };
        }
    }

    /// Takes in blocks that were committed on a ground, one after the other from an offset on.
    pub(super) fn note(&self, ground: u64, at: TopicPartition, first: Offset, blocks: &[EncodedBlock]) {
        self.begin(ground);
        let Ok(mut kept) = self.0.lock() else { return };
        if ground < kept.ground {
            return;
        }
        let follows = kept.partitions.get(&at).and_then(VecDeque::back).is_none_or(|(last, _)| last.end() == first);
        if !follows {
            // another process appended in between
            let gone = kept.partitions.remove(&at).unwrap_or_default();
            kept.bytes -= gone.iter().map(|(block, _)| block.body.len()).sum::<usize>();
            kept.order.retain(|other| *other != at);
        }
        let mut next = first.0;
        for block in blocks {
            let span = i64::from(block.records);
            let stored = StoredBlock {
                first: Offset(next),
                places: Places::all(span),
                latest_us: block.latest_us,
                body: block.body.clone(),
            };
            next += span;
            kept.bytes += block.body.len();
            kept.order.push_back(at);
            let unpacked = i64::try_from(block.unpacked).unwrap_or(i64::MAX);
            kept.partitions.entry(at).or_default().push_back((stored, unpacked));
        }
        while kept.bytes > MOST_BYTES || kept.order.len() > MOST_BLOCKS {
            kept.forget_oldest();
        }
    }

    /// Blocks from the one that holds an offset on, up to so many bytes before compression (at least one block); none if that one
    /// is not kept here.
    pub(super) fn from(&self, at: TopicPartition, from: Offset, max_bytes: i64) -> Option<Vec<StoredBlock>> {
        let kept = self.0.lock().ok()?;
        let blocks = kept.partitions.get(&at)?;
        let start = blocks.partition_point(|(block, _)| block.end() <= from);
        if blocks.get(start)?.0.first > from {
            return None;
        }
        let mut bytes = 0_i64;
        let taken = blocks.range(start..).take_while(|(_, unpacked)| {
            let fits = bytes < max_bytes;
            bytes = bytes.saturating_add(*unpacked);
            fits
        });
        Some(taken.map(|(block, _)| block.clone()).collect())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use bytes::Bytes;
    use gonvel_core::naming::{PartitionId, TopicId};

    fn at(partition: i32) -> TopicPartition {
        TopicPartition { topic: TopicId(1), partition: PartitionId(partition) }
    }

    fn block(records: u32, bytes: usize) -> EncodedBlock {
        EncodedBlock { records, body: Bytes::from(vec![0; bytes]), unpacked: bytes, earliest_us: 0, latest_us: 0 }
    }

    fn starts(recent: &Recent, partition: i32, from: i64, max: i64) -> Option<Vec<i64>> {
        Some(recent.from(at(partition), Offset(from), max)?.iter().map(|b| b.first.0).collect())
    }

    #[test]
    fn blocks_without_a_gap_are_found_by_any_offset_in_them() {
        let recent = Recent::default();
        recent.note(0, at(0), Offset(100), &[block(10, 50), block(5, 50)]);
        recent.note(0, at(0), Offset(115), &[block(1, 50)]);
        assert_eq!(starts(&recent, 0, 104, 1000), Some(vec![100, 110, 115]));
        assert_eq!(starts(&recent, 0, 110, 100), Some(vec![110, 115]));
        assert_eq!(starts(&recent, 0, 110, 1), Some(vec![110]), "at least one block");
        assert_eq!((starts(&recent, 0, 99, 1), starts(&recent, 0, 116, 1), starts(&recent, 1, 0, 1)), (None, None, None));
        // an append of another process was in between: what came before it no longer leads to what comes after
        recent.note(0, at(0), Offset(120), &[block(2, 50)]);
        assert_eq!((starts(&recent, 0, 110, 1000), starts(&recent, 0, 121, 1000)), (None, Some(vec![120])));
        // the database is another one: nothing of before is given any more, nor what was committed before and comes late
        recent.note(1, at(0), Offset(110), &[block(1, 50)]);
        recent.note(0, at(0), Offset(122), &[block(1, 50)]);
        assert_eq!((starts(&recent, 0, 110, 1000), starts(&recent, 0, 121, 1000)), (Some(vec![110]), None));
    }

    #[test]
    fn the_oldest_of_all_partitions_go_first_and_nothing_grows_without_end() {
        let recent = Recent::default();
        for n in 0..40 {
            recent.note(0, at(n % 2), Offset(i64::from(n / 2)), &[block(1, 1 << 20)]);
        }
        let kept = recent.0.lock().unwrap();
        assert!(kept.bytes <= MOST_BYTES && kept.order.len() == 16, "{} bytes, {} blocks", kept.bytes, kept.order.len());
        drop(kept);
        assert_eq!((starts(&recent, 0, 11, 1), starts(&recent, 0, 12, 1)), (None, Some(vec![12])));
        for n in 20..40_000 {
            recent.note(0, at(0), Offset(n), &[block(1, 1)]);
        }
        assert!(recent.0.lock().unwrap().order.len() <= MOST_BLOCKS);
    }
}
