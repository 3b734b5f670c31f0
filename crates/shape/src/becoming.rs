//! What became of changes once both images of each went through all stages.

use std::collections::HashMap;
use std::sync::Arc;

use arrow_array::UInt32Array;
use gonvel_core::change::{ChangeBatch, ChangeKind, OldImage};
use gonvel_core::column::{ColumnArray, Value};

use crate::run::{Failed, Image, Routed, Shaped, Work, gathered, take};

/// What a change became in one place.
#[derive(Clone, Copy)]
struct Became {
    row: usize,
    kind: ChangeKind,
    old: Old,
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
        let all_ways: Vec<String> = self.plan.ways();
        for row in 0..batch.len() {
            if self.failed.contains_key(&row) || self.repeats.contains(&row) {
                continue;
            }
            let kind = batch.kinds[row];
            if kind == ChangeKind::Truncate {
                add(None, Became { row, kind, old: Old::None });
                all_ways.iter().for_each(|way| add(Some(way), Became { row, kind, old: Old::None }));
                continue;
            }
            let has_new = kind != ChangeKind::Delete;
            let new_in = has_new && new.present[row];
            let before = match batch.old_images[row] {
                OldImage::Row => Some(old.present[row]),
                _ => None,
            };
            let key = if keys.present[row] { Old::Key } else { Old::None };
            let gone = |old: Old| Became { row, kind: ChangeKind::Delete, old };
            match (kind, new_in, before) {
                (ChangeKind::Update, true, Some(true)) => {
                    let (to, from) = (route(new, row), route(old, row));
                    if to == from {
                        add(to.as_ref(), Became { row, kind, old: Old::Whole });
                    } else {
                        // it goes another way from now on
                        add(from.as_ref(), gone(Old::Whole));
                        add(to.as_ref(), Became { row, kind: ChangeKind::Insert, old: Old::None });
                    }
                }
                (ChangeKind::Update, true, Some(false)) => {
                    add(route(new, row).as_ref(), Became { row, kind: ChangeKind::Insert, old: Old::None });
                }
                (ChangeKind::Update, true, None) => {
                    let old = if batch.old_images[row] == OldImage::Key { Old::Key } else { Old::None };
                    let to = route(new, row);
                    // where it went before is not known: it goes from all other ways
                    if new.routes.is_some() && key == Old::Key {
                        let others = all_ways.iter().map(Some).chain([None]).filter(|way| *way != to.as_ref());
                        others.for_each(|way| add(way, gone(Old::Key)));
                    }
                    add(to.as_ref(), Became { row, kind, old });
                }
                (ChangeKind::Update, false, Some(true)) => add(route(old, row).as_ref(), gone(Old::Whole)),
                (ChangeKind::Update, false, None) => {
                    add(None, gone(key));
                    all_ways.iter().for_each(|way| add(Some(way), gone(key)));
                }
                (ChangeKind::Delete, _, Some(true)) => add(route(old, row).as_ref(), gone(Old::Whole)),
                (ChangeKind::Delete, _, None) => {
                    add(None, gone(key));
                    all_ways.iter().for_each(|way| add(Some(way), gone(key)));
                }
                (ChangeKind::Insert | ChangeKind::Load, true, _) => {
                    add(route(new, row).as_ref(), Became { row, kind, old: Old::None });
                }
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
        let whole = rows.len() == batch.len();
        let places: UInt32Array = rows.iter().map(|row| u32::try_from(*row).unwrap_or(u32::MAX)).collect();
        let taken = |columns: &[ColumnArray]| -> Vec<ColumnArray> {
            if whole { columns.to_vec() } else { columns.iter().map(|c| take(c, &places)).collect() }
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
        let shaped = ChangeBatch {
            table: Arc::clone(output),
            kinds: list.iter().map(|b| b.kind).collect(),
            new: taken(&new.columns),
            old: old_columns,
            old_images: olds.iter().map(image).collect(),
            unchanged,
            origins: rows.iter().map(|row| batch.origins[*row]).collect(),
        };
        Routed { to, batch: shaped, rows }
    }
}
