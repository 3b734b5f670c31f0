//! Up to where partitions can be read so that no transaction of a source is cut.

use gonvel_connectors::error::ConnectorError;
use gonvel_core::naming::Offset;

use super::{MOST_CHANGES, ReadRound, Reader, not_a_change};
use crate::lane::Failure;
use crate::whole::Whole;

/// How far a partition was looked at.
struct Looked {
    /// Offsets with the positions of their transactions in the source's log; 0 for a row of an initial load.
    records: Vec<(i64, u64)>,
    /// The offset after the last.
    end: i64,
    /// Whether that is where the partition ended.
    all: bool,
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
        let mut most = MOST_CHANGES;
        loop {
            // first the positions, then the partitions: what came before those positions is then in them
            let complete = whole.complete_to().await?;
            let mut looked = Vec::with_capacity(self.cursors.len());
            for place in 0..self.cursors.len() {
                looked.push(self.look(place, most).await?);
            }
            let mut limits = complete;
            for (cursor, looked) in self.cursors.iter().zip(&looked).filter(|(_, looked)| !looked.all) {
                let last = looked.records.iter().rev().find(|(_, position)| *position > 0).map_or(0, |(_, p)| *p);
                let limit = &mut limits[whole.source(cursor.topic)];
                *limit = (*limit).min(last);
            }
            let mut forward = false;
            for (cursor, looked) in self.cursors.iter_mut().zip(&looked) {
                let limit = limits[whole.source(cursor.topic)];
                let cut = looked
                    .records
                    .iter()
                    .find(|(_, position)| *position > 0 && *position >= limit)
                    .map_or(looked.end, |(o, _)| *o);
                (cursor.limit, cursor.seen) = (cut, looked.end);
                forward |= cut > cursor.delivered.next;
            }
            if forward {
                return Ok(true);
            }
            if looked.iter().all(|l| l.all) {
                return Ok(false);
            }
            // one transaction is larger than what was looked at
            most = most.saturating_mul(2);
        }
    }

    async fn look(&mut self, place: usize, most: usize) -> Result<Looked, Failure> {
        let at = self.cursors[place].at;
        let mut looked = Looked { records: Vec::new(), end: self.cursors[place].delivered.next, all: false };
        while looked.records.len() < most {
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
                    looked.records.push((offset, position));
                }
                looked.end = looked.end.max(block.end().0);
            }
        }
        Ok(looked)
    }
}
