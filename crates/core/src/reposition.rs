//! Moving a reader: where it would stand, and what that skips or reads again.

use serde::{Deserialize, Serialize};

use crate::naming::Offset;
use crate::ports::PartitionBounds;

/// Where a reader is to stand in a partition.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub enum Target {
    /// At the oldest kept record.
    Earliest,
    /// After the newest record.
    Latest,
    /// At an offset.
    Offset(Offset),
    /// So many records further on, or back if negative.
    By(i64),
}

/// An offset that is not kept.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error(
    "offset {offset} is not kept in partition {partition}: it holds {first} to {last}, and {next} is where the next record goes",
    last = .next - 1
)]
pub struct NotKept {
    /// The partition.
    pub partition: i32,
    /// The offset asked for.
    pub offset: i64,
    /// Oldest kept.
    pub first: i64,
    /// The next record's.
    pub next: i64,
}

/// A move of a reader in one partition, counted in offsets that are still kept.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Move {
    /// Where it stands.
    pub from: Offset,
    /// Where it would stand.
    pub to: Offset,
    /// Records that it would never read.
    pub skipped: i64,
    /// Records that it would read once more.
    pub repeated: i64,
}

/// What a move would do. Steps by a number of records end at the oldest and the newest.
///
/// # Errors
/// [`NotKept`] if an offset is asked for that the partition does not hold.
pub fn plan(bounds: &PartitionBounds, from: Offset, target: Target) -> Result<Move, NotKept> {
    let (first, next) = (bounds.first.0, bounds.next.0);
    let to = match target {
        Target::Earliest => first,
        Target::Latest => next,
        Target::By(records) => from.0.clamp(first, next).saturating_add(records).clamp(first, next),
        Target::Offset(Offset(offset)) => {
            if !(first..=next).contains(&offset) {
                return Err(NotKept { partition: bounds.partition.0, offset, first, next });
            }
            offset
        }
    };
    // what was forgotten can neither be skipped nor repeated any more
    let stands = from.0.clamp(first, next);
    Ok(Move { from, to: Offset(to), skipped: (to - stands).max(0), repeated: (stands - to).max(0) })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::naming::PartitionId;

    #[test]
    fn a_move_says_what_it_skips_and_repeats() {
        let bounds =
            PartitionBounds { partition: PartitionId(2), first: Offset(100), next: Offset(200), records: 100, bytes: 0 };
        let cases = [
            (150, Target::Earliest, (100, 0, 50)),
            (150, Target::Latest, (200, 50, 0)),
            (150, Target::Offset(Offset(200)), (200, 50, 0)),
            (150, Target::Offset(Offset(150)), (150, 0, 0)),
            (150, Target::By(-10), (140, 0, 10)),
            (150, Target::By(-999), (100, 0, 50)),
            (150, Target::By(i64::MAX), (200, 50, 0)),
            // stands before what is kept
            (20, Target::Earliest, (100, 0, 0)),
            (20, Target::Latest, (200, 100, 0)),
            (20, Target::By(5), (105, 5, 0)),
        ];
        for (from, target, (to, skipped, repeated)) in cases {
            let moved = plan(&bounds, Offset(from), target).unwrap();
            assert_eq!((moved.to.0, moved.skipped, moved.repeated), (to, skipped, repeated), "{from} {target:?}");
        }
        for offset in [99, 201, -1] {
            let refused = plan(&bounds, Offset(150), Target::Offset(Offset(offset))).unwrap_err();
            assert!(refused.to_string().contains("holds 100 to 199"), "{refused}");
        }
    }
}
