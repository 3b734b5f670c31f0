//! Records that a sink delivered, by which is told whether a log still has the history that they came from.
//!
//! A log whose database comes back older than it was gives offsets out again. Whoever stood further on then holds a position that
//! says nothing any more, unless it also knows which record it saw there.

use std::fmt;

use serde::{Deserialize, Serialize};

/// A record that was seen: where it stood, and its time in microseconds since 1970-01-01 UTC.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct Seen {
    /// Its offset.
    pub offset: i64,
    /// Its time.
    pub time_us: i64,
}

/// Records of one partition that were seen, the oldest first: the newest, and ever fewer the further they lie back. Those that were pinned
/// stay: nothing may be delivered again from before them.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Trail {
    seen: Vec<Seen>,
    /// The offsets of those that stay, in order.
    pinned: Vec<i64>,
}

/// Records that stay at most: the newest of those that were pinned.
const MOST_PINNED: usize = 16;

/// What a log has at the offset of a record that was seen.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Found {
    /// A record of this time.
    Record {
        /// In microseconds since 1970-01-01 UTC.
        time_us: i64,
    },
    /// Nothing any more: it was forgotten, or superseded by a newer one of its key.
    Nothing,
}

/// Whether a log has the history that a trail came from.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Verdict {
    /// It has, as far as can be told.
    Same,
    /// It has not: the two agree up to this offset, as far as is known, and part somewhere between it and the position.
    Parted {
        /// The offset after the newest record that both have; none if no record is known that they share.
        agree_to: Option<i64>,
        /// The newest record that was seen, where the log has another.
        seen: Option<Seen>,
    },
}

/// Records in one step of distance: so many times as many as in the step before lie in the next.
const STEP_BITS: u32 = 3;

fn step(newest: i64, seen: Seen) -> u32 {
    let back = u64::try_from(newest - seen.offset).unwrap_or_default();
    (u64::BITS - back.leading_zeros()).div_ceil(STEP_BITS)
}

impl Trail {
    /// Reads what [`fmt::Display`] wrote; what cannot be read tells nothing.
    #[must_use]
    pub fn read(text: &str) -> Self {
        let mut pinned = Vec::new();
        let one = |part: &str| {
            let (offset, time_us) = part.split_once('@')?;
            let (offset, stays) = (offset.parse().ok()?, time_us.ends_with('!'));
            pinned.extend(stays.then_some(offset));
            Some(Seen { offset, time_us: time_us.trim_end_matches('!').parse().ok()? })
        };
        let seen: Option<Vec<Seen>> = text.split_whitespace().map(one).collect();
        seen.map_or_else(Self::default, |seen| Self { seen, pinned })
    }

    /// Adds the newest record, which is to stay.
    pub fn pin(&mut self, newest: Seen) {
        self.note(newest);
        self.pinned.push(newest.offset);
        let over = self.pinned.len().saturating_sub(MOST_PINNED);
        self.pinned.drain(..over);
    }

    /// Leaves out what lies at an offset or after it.
    pub fn cut(&mut self, offset: i64) {
        self.seen.retain(|seen| seen.offset < offset);
        self.pinned.retain(|pinned| *pinned < offset);
    }

    /// Adds the newest record. What lay at or after it was taken back.
    pub fn note(&mut self, newest: Seen) {
        if self.seen.last() == Some(&newest) {
            return;
        }
        self.cut(newest.offset);
        self.seen.push(newest);
        // of each step the oldest and the newest stay: the oldest moves on into the next step before it would be missed there
        let steps: Vec<u32> = self.seen.iter().map(|seen| step(newest.offset, *seen)).collect();
        let mut place = 0;
        let pinned = &self.pinned;
        self.seen.retain(|seen| {
            let here = steps[place];
            let first = place == 0 || steps[place - 1] != here;
            let last = steps.get(place + 1) != Some(&here);
            place += 1;
            first || last || pinned.contains(&seen.offset)
        });
    }

    /// The records, the newest first.
    pub fn newest_first(&self) -> impl Iterator<Item = Seen> {
        self.seen.iter().rev().copied()
    }

    /// Judges a log by what it has at each record's offset, for a position and the offset after the log's last record. `found` is
    /// what it has, the newest first; it may end where the first record stands that both have.
    #[must_use]
    pub fn judge(&self, next: i64, end: i64, found: &[Found]) -> Verdict {
        let mut other = None;
        let mut agree_to = None;
        for (seen, found) in self.newest_first().zip(found) {
            match found {
                Found::Record { time_us } if *time_us == seen.time_us => {
                    agree_to = Some(seen.offset + 1);
                    break;
                }
                Found::Record { .. } => other = other.or(Some(seen)),
                Found::Nothing => {}
            }
        }
        if next > end || other.is_some() { Verdict::Parted { agree_to, seen: other } } else { Verdict::Same }
    }
}

impl fmt::Display for Trail {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for (number, seen) in self.seen.iter().enumerate() {
            let (between, stays) = (if number > 0 { " " } else { "" }, self.pinned.contains(&seen.offset));
            write!(f, "{between}{}@{}{}", seen.offset, seen.time_us, if stays { "!" } else { "" })?;
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        /// A log that was cut back to `cut` and grew again is known for another one from any trail that goes past the cut, and is said
        /// to agree up to a place that is before the cut and not much further back than need be.
        #[test]
        fn a_log_that_was_cut_back_is_known(
            moves in prop::collection::vec((1_i64..400, prop::bool::weighted(0.03)), 1..200), back in 0_i64..5_000, grown in 0_i64..8_000, gone in prop::collection::vec(any::<bool>(), 64),
        ) {
            let (mut trail, mut next, mut kept) = (Trail::default(), 0, Vec::new());
            let mut pinned = 0;
            for (records, stays) in moves {
                next += records;
                let seen = Seen { offset: next - 1, time_us: next * 10 };
                if stays {
                    trail.pin(seen);
                    pinned = next;
                } else {
                    trail.note(seen);
                }
                kept.push(next - 1);
            }
            prop_assert!(trail.seen.len() <= 16 + MOST_PINNED, "{} records are kept", trail.seen.len());
            prop_assert_eq!(&Trail::read(&trail.to_string()), &trail);
            let cut = (next - back).max(0);
            let end = cut + grown;
            let log = |seen: Seen| match seen.offset {
                offset if offset >= end => Found::Nothing,
                offset if offset < cut => Found::Record { time_us: (offset + 1) * 10 },
                offset => Found::Record { time_us: (offset + 1) * 10 + 3 },
            };
            let found: Vec<Found> = trail.newest_first().map(log).collect();
            let verdict = trail.judge(next, end, &found);
            if back == 0 {
                prop_assert_eq!(verdict, Verdict::Same);
            } else {
                let Verdict::Parted { agree_to, .. } = verdict else { return Err(TestCaseError::fail(format!("{verdict:?}"))) };
                let agree_to = agree_to.unwrap_or(0);
                prop_assert!(pinned > cut || agree_to >= pinned, "{pinned} may not come again, and they are said to agree up to {agree_to}");
                prop_assert!(agree_to <= cut, "they part at {cut}, and are said to agree up to {agree_to}");
                // no further back than 64 times what is lost, or than the moves were apart
                let lost = next - cut;
                prop_assert!(cut - agree_to <= 64 * (lost + 400), "{lost} are lost, and {} come again", cut - agree_to);
            }
            // what was compacted away tells nothing, and never that a log is another one
            let sparse: Vec<Found> =
                trail.newest_first().zip(gone.iter().cycle()).map(|(seen, gone)| if *gone { Found::Nothing } else { Found::Record { time_us: (seen.offset + 1) * 10 } }).collect();
            prop_assert_eq!(trail.judge(next, next + grown, &sparse), Verdict::Same);
        }
    }

    #[test]
    fn a_record_that_was_taken_back_is_forgotten() {
        let mut trail = Trail::default();
        for offset in [3, 9, 12] {
            trail.note(Seen { offset, time_us: 1 });
        }
        trail.note(Seen { offset: 9, time_us: 2 });
        assert_eq!(trail.to_string(), "3@1 9@2");
        assert_eq!(Trail::read("3@1 nine"), Trail::default());
        trail.pin(Seen { offset: 20, time_us: 3 });
        trail.note(Seen { offset: 21, time_us: 4 });
        assert_eq!(trail.to_string(), "3@1 9@2 20@3! 21@4");
        trail.cut(20);
        assert_eq!(trail.to_string(), "3@1 9@2");
    }
}
