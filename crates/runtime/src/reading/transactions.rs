//! Up to where partitions can be read so that no transaction of a source is cut.

use std::collections::BTreeSet;

use gonvel_core::naming::{Offset, TopicId, TopicPartition};
use gonvel_core::ports::systems::ConnectorError;

use super::{Cursor, MOST_CHANGES, ReadRound, Reader, not_a_change};
use crate::failing::Failure;
use crate::whole::Whole;

/// How far a partition was looked at.
#[derive(Default)]
struct Looked {
    /// Where records of another transaction begin: their offset, and the transaction's position in the source's log; 0 for rows of an initial
    /// load. A transaction takes one place, however many records it has.
    runs: Vec<(i64, u64)>,
    /// Records that were looked at.
    records: usize,
    /// The offset after the last.
    end: i64,
    /// Whether that is where the partition ended.
    all: bool,
}

impl Looked {
    fn note(&mut self, offset: i64, position: u64) {
        self.records += 1;
        if self.runs.last().is_none_or(|(_, known)| *known != position) {
            self.runs.push((offset, position));
        }
    }

    /// The transaction that was looked at last; 0 if none was.
    fn last(&self) -> u64 {
        self.runs.iter().rev().find(|(_, position)| *position > 0).map_or(0, |(_, position)| *position)
    }

    /// The offset of the first record of a transaction at a position or after it; the end if there is none.
    fn cut(&self, limit: u64) -> i64 {
        let found = self.runs.iter().find(|(_, position)| *position > 0 && *position >= limit);
        found.map_or(self.end, |(offset, _)| *offset)
    }
}

impl Reader {
    /// The next round of whole transactions, or of a part of one with more to come.
    pub(super) async fn whole_round(&mut self, whole: &mut Whole) -> Result<Option<ReadRound>, Failure> {
        if !whole.under_way && !self.find_limits(whole).await? {
            return Ok(None);
        }
        let before: Vec<i64> = self.cursors.iter().map(|c| c.delivered.next).collect();
        let Some(mut read) = self.round().await? else {
            return Err(ConnectorError::Defect("records that were looked at could not be read".into()).into());
        };
        let moved = self.cursors.iter().zip(before).enumerate().filter(|(_, (c, before))| c.delivered.next > *before);
        whole.moved.extend(moved.map(|(place, _)| place));
        whole.under_way = self.cursors.iter().any(|c| c.delivered.next < c.limit);
        read.round.more = whole.under_way;
        if !whole.under_way {
            let moved = std::mem::take(&mut whole.moved);
            read.round.delivered = moved.iter().map(|&p| (self.cursors[p].at, self.cursors[p].delivered)).collect();
        }
        Ok(Some(read))
    }

    /// Finds up to where every partition can be read so that no transaction is cut; false if that is nowhere beyond where they
    /// are.
    async fn find_limits(&mut self, whole: &Whole) -> Result<bool, Failure> {
        // first the positions, then the partitions: what came before those positions is then in them
        let complete = whole.complete_to().await?;
        let start = |c: &Cursor| Looked { end: c.delivered.next, ..Looked::default() };
        let mut looked: Vec<Looked> = self.cursors.iter().map(start).collect();
        for (place, looked) in looked.iter_mut().enumerate() {
            self.look(place, looked, MOST_CHANGES).await?;
        }
        loop {
            let mut limits = complete.clone();
            for (cursor, looked) in self.cursors.iter().zip(&looked).filter(|(_, looked)| !looked.all) {
                let limit = &mut limits[whole.source(cursor.topic)];
                *limit = (*limit).min(looked.last());
            }
            let mut forward = false;
            for (cursor, looked) in self.cursors.iter_mut().zip(&looked) {
                let cut = looked.cut(limits[whole.source(cursor.topic)]);
                (cursor.limit, cursor.seen) = (cut, looked.end);
                forward |= cut > cursor.delivered.next;
            }
            if forward {
                return Ok(true);
            }
            // a transaction is larger than what was looked at: more is looked at where it holds the others up
            let mut holding = false;
            for (place, looked) in looked.iter_mut().enumerate() {
                let limit = limits[whole.source(self.cursors[place].topic)];
                if !looked.all && looked.last() <= limit {
                    let most = looked.records + MOST_CHANGES;
                    self.look(place, looked, most).await?;
                    holding = true;
                }
            }
            if !holding {
                // the source is still at a transaction: until more of it comes there is nothing to look at
                self.have_seen_all().await?;
                return Ok(false);
            }
        }
    }

    async fn have_seen_all(&mut self) -> Result<(), Failure> {
        let topics: BTreeSet<TopicId> = self.cursors.iter().map(|c| c.at.topic).collect();
        for topic in topics {
            for bounds in self.log.bounds(topic).await? {
                let at = TopicPartition { topic, partition: bounds.partition };
                let cursors = self.cursors.iter_mut().filter(|cursor| cursor.at == at);
                cursors.for_each(|cursor| cursor.seen = cursor.seen.max(bounds.next.0));
            }
        }
        Ok(())
    }

    /// Looks further into a partition, until so many of its records were looked at.
    async fn look(&mut self, place: usize, looked: &mut Looked, most: usize) -> Result<(), Failure> {
        let at = self.cursors[place].at;
        while looked.records < most {
            let blocks = self.blocks(at, looked.end).await?;
            if blocks.is_empty() {
                looked.all = true;
                break;
            }
            for block in blocks {
                let open = block.open(at)?;
                for record in open.records() {
                    let (Offset(offset), record) = record?;
                    if offset < looked.end {
                        continue;
                    }
                    let Some(schema) = record.schema else { return Err(not_a_change(at, offset, super::NO_SCHEMA)) };
                    let form = self.form(schema).await?;
                    if form.is_row_form() {
                        return Err(ConnectorError::settings(
                            Some("topics"),
                            "values in row form do not say their transaction",
                            "write the topic in change form, or deliver it without keeping transactions whole",
                        )
                        .into());
                    }
                    let position = form.position(record.value).map_err(|e| not_a_change(at, offset, &e.to_string()))?;
                    looked.note(offset, position);
                }
                looked.end = looked.end.max(block.end().0);
            }
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        /// With one place for each transaction, the same is known as with one for each record.
        #[test]
        fn transactions_are_looked_at_as_records_would_be(
            runs in prop::collection::vec((0_u64..9, 1_usize..6), 0..20), limit in 0_u64..12,
        ) {
            let positions: Vec<u64> = runs.iter().flat_map(|(position, count)| vec![*position; *count]).collect();
            let mut looked = Looked { end: 100, ..Looked::default() };
            let mut offset = 100;
            for position in &positions {
                looked.note(offset, *position);
                offset += 1;
                looked.end = offset;
            }
            let last = positions.iter().rev().find(|p| **p > 0).copied().unwrap_or(0);
            let cut = (100..).zip(&positions).find(|(_, p)| **p > 0 && **p >= limit).map_or(offset, |(o, _)| o);
            prop_assert_eq!((looked.last(), looked.cut(limit), looked.records), (last, cut, positions.len()));
            prop_assert!(looked.runs.len() <= runs.len());
        }
    }
}
