//! Changes that a lane of this process handed on, taken into a round as they are.

use std::sync::Arc;

use super::{Gathering, MOST_CHANGES, Open, PARTITION_BYTES, Reader};
use crate::handed_on::Changes;

impl Reader {
    /// Takes what was handed on from where a partition stands; false if nothing was. The runs are taken whole as far as they go:
    /// the partitions of a topic share its batches, and with all of one in a round its rows reach the target in the source's
    /// order, which is kind to the target's indexes.
    pub(super) fn handed_on(&mut self, place: usize, gathering: &mut Gathering) -> bool {
        // shaping wants one batch with nothing else in it
        let Some(following) = self.following.as_ref().filter(|_| self.shaping.is_none()) else { return false };
        let cursor = &mut self.cursors[place];
        let most_bytes = usize::try_from(PARTITION_BYTES).unwrap_or(usize::MAX);
        let runs = following.from(cursor.at, cursor.delivered.next, most_bytes);
        let before = gathering.changes;
        for run in &runs {
            let changes = &run.changes;
            let first = usize::try_from(cursor.delivered.next - run.first).unwrap_or(0);
            let left = usize::try_from(cursor.limit - cursor.delivered.next).unwrap_or(0);
            let most = left.min((2 * MOST_CHANGES).saturating_sub(gathering.changes));
            let with_it = gathering.changes - before + changes.rows.len() - first;
            if most == 0 || (gathering.changes > before && with_it > gathering.share) {
                break;
            }
            let open = gathering.open(cursor.topic, changes.schema, &changes.batch.table);
            let batch = open.number_of(changes);
            let (mut taken, mut latest_us) = (0, i64::MIN);
            for (number, &row) in changes.rows.iter().enumerate().skip(first).take(most) {
                open.changes.push(((batch, row), changes.key(number)));
                open.from.push((cursor.at, cursor.delivered.next));
                latest_us = latest_us.max(changes.batch.origins[row].commit_time_us);
                cursor.delivered.counts.add(changes.batch.kinds[row]);
                cursor.delivered.next += 1;
                taken += 1;
            }
            if taken > 0 {
                gathering.changes += taken;
                gathering.latest_us = gathering.latest_us.max(Some(latest_us));
            }
        }
        !runs.is_empty()
    }
}

impl Open {
    /// The number of a batch that was handed on among those gathered. Partitions of one topic get parts of the same batch: with
    /// one number their changes stand in the source's order again.
    fn number_of(&mut self, changes: &Changes) -> usize {
        if let Some((_, number)) = self.handed.iter().find(|(batch, _)| Arc::ptr_eq(batch, &changes.batch)) {
            return *number;
        }
        self.end_batch();
        let number = self.batches.len();
        self.batches.push((*changes.batch).clone());
        self.handed.push((changes.batch.clone(), number));
        number
    }
}
