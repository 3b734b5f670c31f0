//! What became of changes once both images of each went through all stages.

use std::collections::HashMap;
use std::sync::Arc;

use gonvel_core::change::{ChangeBatch, ChangeKind, OldImage};
use gonvel_core::column::{ColumnArray, Value};

use crate::run::{Routed, Shaped, gathered, nulls};
use crate::taking::take;
use crate::work::{Failed, Image, Work};

/// What a change became in one place.
#[derive(Clone, Copy)]
struct Became {
    row: usize,
    kind: ChangeKind,
    old: Old,
    /// Whether it is an update of a row that may not be there.
    perhaps_new: bool,
}

/// Which old image goes with it.
#[derive(Clone, Copy, PartialEq)]
enum Old {
    None,
    Whole,
    Key,
}

impl Work<'_> {
    pub(crate) fn assembled(self, new: &Image, old: &Image, keys: &Image) -> Shaped {
        let batch = self.batch;
        let mut ways: Vec<(Option<String>, Vec<Became>)> = Vec::new();
        let mut add = |to: Option<&String>, became: Became| match ways.iter_mut().find(|(way, _)| way.as_ref() == to) {
            Some((_, list)) => list.push(became),
            None => ways.push((to.cloned(), vec![became])),
        };
        let route = |image: &Image, row: usize| image.routes.as_ref().and_then(|r| r[row].clone());
        let (ways_out, leaves_out, recalled) = (self.plan.ways(), self.plan.may_leave_out(), self.plan.recalls());
        let everywhere = || [None].into_iter().chain(ways_out.iter().map(Some));
        for row in 0..batch.len() {
            if self.failed.contains_key(&row) || self.repeats.contains(&row) {
                continue;
            }
            let kind = batch.kinds[row];
            let one = |kind: ChangeKind, old: Old| Became { row, kind, old, perhaps_new: false };
            if kind == ChangeKind::Truncate {
                everywhere().for_each(|way| add(way, one(kind, Old::None)));
                continue;
            }
            let new_in = kind != ChangeKind::Delete && new.present[row];
            let whole = batch.old_images[row] == OldImage::Row && old.present[row];
            // whether it was there before, where that can be known
            let usable = batch.old_images[row] == OldImage::Row && !self.unusable.contains(&row) && recalled;
            let before = usable.then_some(whole);
            let key = if keys.present[row] { Old::Key } else { Old::None };
            let known = if whole { Old::Whole } else { key };
            let gone = |old: Old| one(ChangeKind::Delete, old);
            match (kind, new_in, before) {
                (ChangeKind::Update, true, Some(true)) => {
                    let (to, from) = (route(new, row), route(old, row));
                    if to == from {
                        add(to.as_ref(), one(kind, Old::Whole));
                    } else {
                        // it goes another way from now on
                        add(from.as_ref(), gone(Old::Whole));
                        add(to.as_ref(), one(ChangeKind::Insert, Old::None));
                    }
                }
                (ChangeKind::Update, true, Some(false)) => {
                    add(route(new, row).as_ref(), one(ChangeKind::Insert, Old::None));
                }
                (ChangeKind::Update, true, None) => {
                    let to = route(new, row);
                    // where it went before is not known: it goes from all other ways
                    if new.routes.is_some() && known != Old::None {
                        everywhere().filter(|way| *way != to.as_ref()).for_each(|way| add(way, gone(known)));
                    }
                    let given = batch.old_images[row] != OldImage::None;
                    let old = if given { known } else { Old::None };
                    add(to.as_ref(), Became { perhaps_new: leaves_out, ..one(kind, old) });
                }
                (ChangeKind::Update, false, Some(true)) => add(route(old, row).as_ref(), gone(Old::Whole)),
                (ChangeKind::Delete, _, Some(true)) => add(route(old, row).as_ref(), gone(Old::Whole)),
                (ChangeKind::Update, false, None) | (ChangeKind::Delete, _, None) => {
                    everywhere().for_each(|way| add(way, gone(known)));
                }
                (ChangeKind::Insert | ChangeKind::Load, true, _) => add(route(new, row).as_ref(), one(kind, Old::None)),
                _ => {}
            }
        }
        let parts = ways.into_iter().map(|(to, list)| self.part(to, &list, new, old, keys)).collect();
        let mut failed: Vec<Failed> = self.failed.into_values().collect();
        failed.sort_by_key(|f| f.row);
        Shaped { parts, failed }
    }

    fn part(&self, to: Option<String>, list: &[Became], new: &Image, old: &Image, keys: &Image) -> Routed {
        let batch = self.batch;
        let output = &self.plan.output;
        let rows: Vec<usize> = list.iter().map(|b| b.row).collect();
        let whole = rows.len() == batch.len() && rows.iter().enumerate().all(|(place, row)| place == *row);
        let taken = |columns: &[ColumnArray]| -> Vec<ColumnArray> {
            if columns.is_empty() {
                // no row has this image
                output.columns.iter().map(|c| nulls(c.ty, rows.len())).collect()
            } else if whole {
                columns.to_vec()
            } else {
                columns.iter().map(|c| take(c, &rows)).collect()
            }
        };
        let olds: Vec<Old> = list.iter().map(|b| b.old).collect();
        let old_columns = match (olds.contains(&Old::Whole), olds.contains(&Old::Key)) {
            (false, false) => Vec::new(),
            (true, false) => taken(&old.columns),
            (false, true) => taken(&keys.columns),
            (true, true) => {
                let value = |column: usize| {
                    let one = move |became: &Became| match became.old {
                        Old::Whole => old.columns[column].value(became.row),
                        Old::Key => keys.columns[column].value(became.row),
                        Old::None => Value::Null,
                    };
                    gathered(output.columns[column].ty, list.iter().map(one))
                };
                (0..output.columns.len()).map(value).collect()
            }
        };
        let mut unchanged = HashMap::new();
        if !new.unchanged.is_empty() {
            for (place, became) in list.iter().enumerate().filter(|(_, b)| b.kind != ChangeKind::Delete) {
                if let Some(missing) = new.unchanged.get(&became.row) {
                    unchanged.insert(place, missing.clone());
                }
            }
        }
        let image = |old: &Old| match old {
            Old::None => OldImage::None,
            Old::Whole => OldImage::Row,
            Old::Key => OldImage::Key,
        };
        let partly = unchanged.keys().copied().filter(|place| list[*place].perhaps_new);
        let mut partly: Vec<usize> = partly.collect();
        partly.sort_unstable();
        let shaped = ChangeBatch {
            table: Arc::clone(output),
            kinds: list.iter().map(|b| b.kind).collect(),
            new: taken(&new.columns),
            old: old_columns,
            old_images: olds.iter().map(image).collect(),
            unchanged,
            origins: rows.iter().map(|row| batch.origins[*row]).collect(),
        };
        Routed { to, batch: shaped, rows, partly }
    }
}
