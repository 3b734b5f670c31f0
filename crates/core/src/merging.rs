//! Merging: which neighbouring small blocks become one.

use std::ops::Range;

use crate::block::{MOST_BYTES, MOST_RECORDS};

/// A block of a partition.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Small {
    /// Its first offset.
    pub first: i64,
    /// Offsets that it covers.
    pub span: i64,
    /// Records in it.
    pub records: u32,
    /// Bytes before compression.
    pub unpacked: usize,
    /// Earliest timestamp in microseconds.
    pub earliest_us: i64,
    /// Latest timestamp in microseconds.
    pub latest_us: i64,
    /// When the last of it was appended, in microseconds.
    pub appended_us: i64,
}

impl Small {
    fn is_small(self) -> bool {
        is_small(self.records, self.unpacked)
    }
}

/// Fewest blocks that are merged when the result is not half full: so a record is written again a few times at most,
/// however small the appends are.
pub const FEWEST: usize = 10;

/// Most offsets that a merged block covers: behind a gap that is as large as this another one begins.
pub const MOST_SPAN: i64 = i32::MAX as i64;

/// Whether a block is small enough to be merged.
#[must_use]
pub fn is_small(records: u32, unpacked: usize) -> bool {
    records < MOST_RECORDS / 2 && unpacked < MOST_BYTES / 2
}

/// The runs of neighbours to merge, each into one block that keeps the limits of a block and spans `most_span_us` of time at
/// most, by the records and by when they were appended: blocks are forgotten and moved whole, so one must not hold what is due together
/// with what is not for long. When the first of a block was appended is not noted; it was not before the block that is before it.
#[must_use]
pub fn runs(blocks: &[Small], most_span_us: i64) -> Vec<Range<usize>> {
    let mut out = Vec::new();
    let mut start = 0;
    let nothing =
        Small { first: 0, span: 0, records: 0, unpacked: 0, earliest_us: i64::MAX, latest_us: i64::MIN, appended_us: 0 };
    let mut sum = nothing;
    let mut close = |start: usize, end: usize, sum: Small| {
        if end - start >= FEWEST || (end - start >= 2 && !sum.is_small()) {
            out.push(start..end);
        }
    };
    let appended_from = |start: usize| blocks[start.saturating_sub(1)].appended_us;
    for (n, block) in blocks.iter().enumerate() {
        let first = if sum.records == 0 { block.first } else { sum.first };
        let with = Small {
            first,
            span: block.first.saturating_add(block.span).saturating_sub(first),
            records: sum.records.saturating_add(block.records),
            unpacked: sum.unpacked.saturating_add(block.unpacked),
            earliest_us: sum.earliest_us.min(block.earliest_us),
            latest_us: sum.latest_us.max(block.latest_us),
            appended_us: block.appended_us,
        };
        let fits = with.records <= MOST_RECORDS
            && with.unpacked <= MOST_BYTES
            && with.span <= MOST_SPAN
            && with.latest_us.saturating_sub(with.earliest_us) <= most_span_us
            && with.appended_us.saturating_sub(appended_from(start)) <= most_span_us;
        if block.is_small() && fits {
            sum = with;
            continue;
        }
        close(start, n, sum);
        (start, sum) = if block.is_small() { (n, *block) } else { (n + 1, nothing) };
    }
    close(start, blocks.len(), sum);
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// Offsets that are not kept before a block.
    fn gap() -> impl Strategy<Value = i64> {
        prop_oneof![8 => Just(0), 2 => 1_i64..1_000_000, 1 => MOST_SPAN - 10_000..MOST_SPAN + 10_000]
    }

    proptest! {
        #[test]
        fn runs_are_apart_keep_the_limits_and_leave_little(
            sizes in prop::collection::vec((1_u32..6_000, 1_usize..1_500_000, 0_i64..1_000, gap()), 0..200),
            most_span_us in 0_i64..2_000,
        ) {
            let (mut end, mut appended) = (0, 0);
            let block = |&(records, unpacked, at, gap): &(u32, usize, i64, i64)| {
                let first = end + gap;
                end = first + i64::from(records);
                appended += at % 100;
                Small { first, span: records.into(), records, unpacked, earliest_us: at, latest_us: at + 50, appended_us: appended }
            };
            let blocks: Vec<Small> = sizes.iter().map(block).collect();
            let runs = runs(&blocks, most_span_us);
            prop_assert!(runs.windows(2).all(|w| w[0].end <= w[1].start));
            for run in &runs {
                let before = &blocks[run.start.saturating_sub(1)];
                let run = &blocks[run.clone()];
                prop_assert!(run.len() >= 2 && run.iter().all(|b| b.is_small()));
                prop_assert!(run.iter().map(|b| b.records).sum::<u32>() <= MOST_RECORDS);
                prop_assert!(run.iter().map(|b| b.unpacked).sum::<usize>() <= MOST_BYTES);
                prop_assert!(run[run.len() - 1].first + run[run.len() - 1].span - run[0].first <= MOST_SPAN);
                let (from, to) = (run.iter().map(|b| b.earliest_us).min(), run.iter().map(|b| b.latest_us).max());
                prop_assert!(to.unwrap() - from.unwrap() <= most_span_us);
                prop_assert!(run[run.len() - 1].appended_us - before.appended_us <= most_span_us);
            }
        }
    }

    #[test]
    fn many_appends_of_one_record_are_merged_and_a_few_wait() {
        let small =
            |records, unpacked| Small { first: 0, span: 1, records, unpacked, earliest_us: 0, latest_us: 0, appended_us: 0 };
        let runs = |blocks: &[Small]| super::runs(blocks, i64::MAX);
        let one = small(1, 160);
        assert_eq!(runs(&[one; 200]), std::iter::once(0..200).collect::<Vec<_>>());
        assert_eq!(runs(&[one; 9]), Vec::<Range<usize>>::new());
        let full = small(5_000, 900_000);
        let mut mixed = vec![one; 12];
        mixed.insert(6, full);
        assert_eq!(runs(&mixed), Vec::<Range<usize>>::new());
        mixed.extend([one; 6]);
        assert_eq!(runs(&mixed), vec![7..19]);
        let third = small(2_000, 400_000);
        assert_eq!(runs(&[third; 5]), [0..2, 2..4]);
    }
}
