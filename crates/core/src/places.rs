//! Which offsets a block's records have.
//!
//! As appended, a block's records have consecutive offsets. Where only the latest of each key is kept, records go and the
//! others keep their offsets: the block then notes which of its offsets are left.

use bytes::Bytes;

use crate::avro::binary::{Reader, write_long};

/// The offsets of a block's records, counted from the block's first.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Places {
    span: i64,
    /// Distances between neighbours as Avro longs, the first from -1; none if every offset is there.
    left: Option<Bytes>,
}

impl Places {
    /// `span` consecutive offsets.
    #[must_use]
    pub fn all(span: i64) -> Self {
        Self { span, left: None }
    }

    /// Some of `span` offsets, ascending.
    #[must_use]
    pub fn some(span: i64, places: &[i64]) -> Self {
        if i64::try_from(places.len()) == Ok(span) {
            return Self::all(span);
        }
        let mut out = Vec::with_capacity(places.len());
        let mut before = -1;
        for &place in places {
            write_long(place - before, &mut out);
            before = place;
        }
        Self { span, left: Some(out.into()) }
    }

    /// As they are stored: the span, and what [`Self::stored`] gave.
    #[must_use]
    pub fn from_stored(span: i64, left: Option<Bytes>) -> Self {
        Self { span, left }
    }

    /// The form to store beside the span; none if every offset is there.
    #[must_use]
    pub fn stored(&self) -> Option<&Bytes> {
        self.left.as_ref()
    }

    /// Offsets covered, kept or not.
    #[must_use]
    pub fn span(&self) -> i64 {
        self.span
    }

    /// The places, ascending, from 0 to less than the span.
    pub fn iter(&self) -> impl Iterator<Item = i64> + '_ {
        let mut reader = self.left.as_ref().map(|left| Reader::new(left));
        let (mut before, span) = (-1_i64, self.span);
        std::iter::from_fn(move || {
            let step = match &mut reader {
                None => 1,
                Some(reader) => reader.long().ok().filter(|&s| s > 0)?,
            };
            before += step;
            (before < span).then_some(before)
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn places_come_back(kept in prop::collection::vec(any::<bool>(), 1..300)) {
            let places: Vec<i64> = (0..).zip(&kept).filter(|(_, kept)| **kept).map(|(n, _)| n).collect();
            let span = i64::try_from(kept.len()).unwrap();
            let made = Places::some(span, &places);
            let again = Places::from_stored(made.span(), made.stored().cloned());
            prop_assert_eq!(again.iter().collect::<Vec<_>>(), places);
            prop_assert_eq!(Places::all(span).iter().count(), kept.len());
        }
    }

    #[test]
    fn damaged_places_end_rather_than_leave_the_block() {
        for left in [&[0x80_u8][..], &[0], &[1], &[0xfe, 0xff, 0xff, 0xff, 0x0f]] {
            let places = Places::from_stored(5, Some(Bytes::copy_from_slice(left)));
            assert_eq!(places.iter().count(), 0, "{left:?}");
        }
    }
}
