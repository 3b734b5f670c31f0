//! What a run of changes of one table comes to, key by key: a sink applies the outcome instead of every step.
//!
//! The outcome of applying a plan's segments in order is the same as applying every change in order.

use std::collections::HashMap;

use foldhash::fast::RandomState;

use crate::change::{ChangeBatch, ChangeKind};

/// A change's place: batch, row.
pub type Place = (usize, usize);

/// What is to be done with distinct keys, in this order: deletes, upserts, updates, partials, inserts.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Segment {
    /// Whether all rows go first.
    pub truncate: bool,
    /// Rows to remove.
    pub deletes: Vec<Place>,
    /// Rows to write whether or not they are there.
    pub upserts: Vec<Place>,
    /// Rows that should be there: a target that lacks one gets it all the same.
    pub updates: Vec<Place>,
    /// Rows of which some columns were not sent: only the others are written.
    pub partials: Vec<Place>,
    /// Rows that should not be there yet.
    pub inserts: Vec<Place>,
}

impl Segment {
    /// Whether there is nothing to do.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        !self.truncate
            && self.deletes.is_empty()
            && self.upserts.is_empty()
            && self.updates.is_empty()
            && self.partials.is_empty()
            && self.inserts.is_empty()
    }
}

#[derive(Clone, Copy)]
enum Net {
    Insert(Place),
    Upsert(Place),
    Update(Place),
    Partial(Place),
    Delete(Place),
}

/// Changes are looked up by their keys one by one; the standard hasher would be a third of the work.
type ByKey<'k> = HashMap<&'k [u8], Net, RandomState>;

/// Folds changes, given in order with their encoded keys (a truncate has none).
///
/// A change that does not say all columns after another of the same key, and a truncate, begin a new segment.
#[must_use]
pub fn fold<'k>(batches: &[ChangeBatch], changes: impl IntoIterator<Item = (Place, &'k [u8])>) -> Vec<Segment> {
    let mut segments = Vec::new();
    let changes = changes.into_iter();
    let mut current = ByKey::with_capacity_and_hasher(changes.size_hint().0, RandomState::default());
    let mut truncate = false;
    for (place, key) in changes {
        let (batch, row) = place;
        let kind = batches[batch].kinds[row];
        if kind == ChangeKind::Truncate {
            // what came before in this segment is wiped with the rest
            current.clear();
            truncate = true;
            continue;
        }
        let partial = kind == ChangeKind::Update && batches[batch].unchanged.contains_key(&row);
        let before = current.get(key).copied();
        if partial && before.is_some() {
            segments.push(close(&mut current, &mut truncate));
        }
        let net = match (kind, before) {
            (ChangeKind::Delete, _) => Net::Delete(place),
            (ChangeKind::Update, _) if partial => Net::Partial(place),
            (ChangeKind::Update, None | Some(Net::Update(_))) => Net::Update(place),
            (_, Some(Net::Insert(_))) | (ChangeKind::Insert | ChangeKind::Load, None) => Net::Insert(place),
            _ => Net::Upsert(place),
        };
        current.insert(key, net);
    }
    segments.push(close(&mut current, &mut truncate));
    segments.retain(|s| !s.is_empty());
    segments
}

fn close(current: &mut ByKey<'_>, truncate: &mut bool) -> Segment {
    let mut segment = Segment { truncate: std::mem::take(truncate), ..Segment::default() };
    for net in std::mem::take(current).into_values() {
        match net {
            Net::Insert(place) => segment.inserts.push(place),
            Net::Upsert(place) => segment.upserts.push(place),
            Net::Update(place) => segment.updates.push(place),
            Net::Partial(place) => segment.partials.push(place),
            Net::Delete(place) => segment.deletes.push(place),
        }
    }
    // the source's order: it is kind to the target's indexes and makes runs repeatable
    let lists =
        [&mut segment.inserts, &mut segment.upserts, &mut segment.updates, &mut segment.partials, &mut segment.deletes];
    for list in lists {
        list.sort_unstable();
    }
    segment
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeMap;
    use std::sync::Arc;

    use proptest::prelude::*;

    use super::*;
    use crate::change::{ChangeBatchBuilder, OldImage, Origin};
    use crate::column::{ColumnType, Value};
    use crate::table::{Column, TableSchema};

    type Rows = BTreeMap<i64, (Option<i32>, Option<i32>)>;

    fn table() -> Arc<TableSchema> {
        let column = |name: &str, ty, key| Column { name: name.into(), ty, source_type: "".into(), key };
        Arc::new(TableSchema {
            system: "packhouse".into(),
            schema: "public".into(),
            table: "bins".into(),
            columns: vec![
                column("id", ColumnType::Int64, true),
                column("room", ColumnType::Int32, false),
                column("weight", ColumnType::Int32, false),
            ],
        })
    }

    /// Steps a random source takes; kinds that do not fit its state become ones that do, as in a real source.
    fn history(steps: &[(u8, i64, i32)]) -> (ChangeBatch, Rows) {
        let mut rows = Rows::new();
        let mut builder = ChangeBatchBuilder::new(table());
        for &(step, id, value) in steps {
            let there = rows.contains_key(&id);
            let mut write = |kind, unchanged: bool, rows: &mut Rows| {
                builder.begin(kind, Origin::default());
                builder.new_value(0, Value::Long(id)).unwrap();
                builder.new_value(1, Value::Int(value)).unwrap();
                if unchanged {
                    builder.new_unchanged(2);
                } else {
                    builder.new_value(2, Value::Int(-value)).unwrap();
                }
                builder.no_old();
                let weight = if unchanged { rows[&id].1 } else { Some(-value) };
                rows.insert(id, (Some(value), weight));
            };
            match step {
                0..=3 if !there => write(if step == 0 { ChangeKind::Load } else { ChangeKind::Insert }, false, &mut rows),
                0..=4 if there => write(ChangeKind::Update, step == 4, &mut rows),
                5..=6 if there => {
                    rows.remove(&id);
                    builder.begin(ChangeKind::Delete, Origin::default());
                    builder.no_new();
                    builder.begin_old(OldImage::Key);
                    builder.old_value(0, Value::Long(id)).unwrap();
                    builder.old_value(1, Value::Null).unwrap();
                    builder.old_value(2, Value::Null).unwrap();
                }
                7 if value % 7 == 0 => {
                    rows.clear();
                    builder.begin(ChangeKind::Truncate, Origin::default());
                    builder.no_new();
                    builder.no_old();
                }
                _ => {}
            }
        }
        (builder.finish(), rows)
    }

    fn int(value: Value<'_>) -> Option<i32> {
        if let Value::Int(v) = value { Some(v) } else { None }
    }

    proptest! {
        #[test]
        fn the_folded_changes_give_the_source_s_rows(steps in prop::collection::vec((0_u8..8, 0_i64..6, 0_i32..100), 0..80)) {
            let (batch, expected) = history(&steps);
            let keys: Vec<[u8; 8]> = (0..batch.len())
                .map(|row| match batch.identifying(row).first().map(|c| c.value(row)) {
                    Some(Value::Long(id)) => id.to_le_bytes(),
                    _ => [0; 8],
                })
                .collect();
            let batches = [batch];
            let places = keys.iter().enumerate().map(|(row, key)| ((0, row), &key[..]));
            let mut rows = Rows::new();
            for segment in fold(&batches, places) {
                let id = |&(b, r): &Place| i64::from_le_bytes(keys[r].map(|x| x + u8::try_from(b).unwrap()));
                if segment.truncate {
                    rows.clear();
                }
                for place in &segment.deletes {
                    rows.remove(&id(place));
                }
                for place in segment.upserts.iter().chain(&segment.updates).chain(&segment.inserts) {
                    let row = (int(batches[0].new[1].value(place.1)), int(batches[0].new[2].value(place.1)));
                    let before = rows.insert(id(place), row);
                    prop_assert!(before.is_none() || !segment.inserts.contains(place), "an insert meets a row");
                    prop_assert!(before.is_some() || !segment.updates.contains(place), "an update meets no row");
                }
                for place in &segment.partials {
                    rows.get_mut(&id(place)).unwrap().0 = int(batches[0].new[1].value(place.1));
                }
            }
            prop_assert_eq!(rows, expected);
        }
    }
}
