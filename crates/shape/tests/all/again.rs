//! Rows carried again: whatever happens to rows and to what they look up, what is left is what a run with the references as they
//! are in the end leaves. And rows of which a part is refused go nowhere.

use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;

use crate::growers::{Change, Places, changes, changes_without, folded, growers, life, tools};
use gonvel_core::change::{ChangeBatch, ChangeKind, OldImage};
use gonvel_core::column::Value;
use gonvel_core::shape::ShapeStep;
use gonvel_shape::picking::pick;
use gonvel_shape::plan::{Plan, References, Shape};
use gonvel_shape::reference::{Changed, Reference};
use gonvel_shape::run::Context;
use proptest::prelude::*;
use serde_json::{Value as Json, json};

fn plan(steps: Json) -> Plan {
    let steps: Vec<ShapeStep> = serde_json::from_value(steps).unwrap();
    let references = References::from([("rooms".to_owned(), growers())]);
    let compiled = Plan::compile(&growers(), Shape { rules: &[], steps: &steps }, &references, &tools());
    compiled.plan.unwrap_or_else(|| panic!("{:?}", compiled.findings))
}

/// With the references as some changes leave them.
fn context_of(of: &[Change]) -> Context {
    let mut rows = Reference::new(growers(), vec![3]);
    rows.apply(&changes(of));
    let mut context = Context::new(tools());
    context.references.insert("rooms".into(), rows);
    context
}

/// The latest row of each key, as it came.
fn latest(all: &[Change]) -> Vec<Change> {
    let mut rows: BTreeMap<i64, Change> = BTreeMap::new();
    for change in all {
        let id = change.new.as_ref().or(change.old.as_ref()).map(|row| row.0).unwrap();
        if change.kind == ChangeKind::Delete { drop(rows.remove(&id)) } else { drop(rows.insert(id, change.clone())) }
    }
    rows.into_values().collect()
}

/// Carries those of some rows again that look up what changed; gives how many.
fn again(plan: &Plan, rows: &[Change], context: &mut Context, into: &mut Places) -> usize {
    let changed: HashMap<String, Changed> =
        context.references.iter_mut().map(|(name, reference)| (name.clone(), reference.take_changed())).collect();
    let batch = changes(rows);
    let touched = plan.touched(&batch, context, &Arc::new(changed));
    let mut picked: ChangeBatch = pick(&batch, &touched.keys().copied().collect::<Vec<_>>());
    picked.kinds.iter_mut().for_each(|kind| *kind = ChangeKind::Update);
    picked.old_images.iter_mut().for_each(|image| *image = OldImage::None);
    picked.old = Vec::new();
    let shaped = plan.apply(&picked, context);
    assert_eq!(shaped.failed, []);
    folded(&shaped, into);
    touched.len()
}

fn lookup(miss: &str) -> Json {
    json!({"step": "lookup", "topic": "rooms", "by": [{"column": "room", "key": "id"}],
        "columns": [{"from": "bins", "column": "held"}], "miss": miss, "again": true})
}

proptest! {
    #[test]
    fn rows_carried_again_leave_what_a_run_with_the_last_references_leaves(
        acts in prop::collection::vec((any::<u8>(), 0_i64..6, 0_i32..5), 1..40),
        of_references in prop::collection::vec((any::<u8>(), 0_i64..5, 0_i32..4), 1..40),
        pieces in prop::collection::vec((0..7_usize, 0..7_usize), 1..10),
        identity in 0..2,
        miss in prop::sample::select(vec!["empty", "leave"]),
        further in prop::sample::select(vec![
            json!([]),
            json!([{"step": "filter", "only": "held > 1"}]),
            json!([{"step": "route", "ways": [{"when": "held > 2", "to": "large"}, {"when": "held = 1", "to": "small"}]}]),
            json!([{"step": "mask", "columns": ["id"], "how": "token"}, {"step": "filter", "only": "held <> 3"}, {"step": "drop_repeats"}]),
        ]),
    ) {
        // what is looked up is made by a step before
        let mut steps = vec![json!({"step": "compute", "column": "room", "value": "CAST(bins % 5 AS bigint)"}), lookup(miss)];
        steps.extend(further.as_array().unwrap().iter().cloned());
        let plan = plan(json!(steps));
        let image = if identity == 0 { OldImage::Row } else { OldImage::Key };
        let ((rows, _), (rooms, _)) = (life(&acts, image), life(&of_references, OldImage::Key));
        let (mut found, mut context) = (Places::new(), context_of(&[]));
        let (mut came, mut known) = (0, 0);
        // some rows, then some of the references, of which some change nothing
        let mut pieces = pieces.iter().copied().chain([(1, 1)]).cycle();
        while came < rows.len() || known < rooms.len() {
            let (some, more) = pieces.next().unwrap();
            let to = rows.len().min(came + some);
            let shaped = plan.apply(&changes(&rows[came..to]), &mut context);
            prop_assert_eq!(&shaped.failed, &[]);
            folded(&shaped, &mut found);
            came = to;
            let to = rooms.len().min(known + more);
            context.references.get_mut("rooms").unwrap().take_in(&changes(&rooms[known..to]), 0, true);
            known = to;
            again(&plan, &latest(&rows[..came]), &mut context, &mut found);
        }
        prop_assert_eq!(again(&plan, &latest(&rows), &mut context, &mut found), 0, "what was taken comes once");
        let mut expected = Places::new();
        folded(&plan.apply(&changes(&latest(&rows)), &mut context_of(&rooms)), &mut expected);
        for places in [&mut found, &mut expected] {
            places.retain(|_, rows| !rows.is_empty());
        }
        prop_assert_eq!(found, expected);
    }

    #[test]
    fn a_row_of_which_a_part_is_refused_goes_nowhere_and_all_others_go_on(
        acts in prop::collection::vec((any::<u8>(), 0_i64..6, 0_i32..8), 1..40),
    ) {
        let steps = json!([{"step": "route", "ways": [{"when": "bins > 4", "to": "large"}, {"when": "bins > 2", "to": "usual"}]},
            {"step": "filter", "only": "bins <> 7"}]);
        let plan = plan(steps);
        let (all, _) = life(&acts, OldImage::Key);
        let batch = changes_without(&all, &[1]);
        let whole = plan.apply(&batch, &mut Context::new(tools()));
        let mut refused = whole.clone();
        refused.refuse_parts("a part");
        let parts = whole.parts.iter().flat_map(|part| part.partly.iter().map(|place| part.rows[*place]));
        let parts: std::collections::BTreeSet<usize> = parts.collect();
        prop_assert_eq!(refused.failed.iter().map(|f| f.row).collect::<Vec<_>>(), parts.iter().copied().collect::<Vec<_>>());
        let said = |shaped: &gonvel_shape::run::Shaped| {
            let mut out: Vec<String> = Vec::new();
            for part in &shaped.parts {
                for (place, row) in part.rows.iter().enumerate().filter(|(_, row)| !parts.contains(row)) {
                    let batch = &part.batch;
                    let image = |columns: &[gonvel_core::column::ColumnArray]| format!("{:?}", columns.iter().map(|c| c.value(place)).collect::<Vec<_>>());
                    let old = if batch.old.is_empty() || batch.old_images[place] == OldImage::None { String::new() } else { image(&batch.old) };
                    let unsent = batch.unchanged.get(&place);
                    out.push(format!("{:?} {row} {:?} {} {old} {unsent:?} {}", part.to, batch.kinds[place], image(&batch.new), batch.origins[place].position));
                }
            }
            out
        };
        prop_assert_eq!(said(&refused), said(&whole));
        prop_assert!(refused.parts.iter().all(|part| part.partly.is_empty() && part.rows.iter().all(|row| !parts.contains(row))));
    }
}

proptest! {
    /// However the records of several partitions come, and wherever truncates stand among them: a reference holds the rows that each
    /// partition comes to, also when it has let go of much.
    #[test]
    fn a_truncate_takes_what_came_from_its_own_partition(
        steps in prop::collection::vec((0_i32..3, 0_u8..12, 0_i64..12), 0..80),
        length in prop::sample::select(vec![1_usize, 40_000]),
    ) {
        let mut reference = Reference::new(growers(), vec![1]);
        let mut rows: BTreeMap<i64, (i32, String)> = BTreeMap::new();
        for (number, (partition, act, id)) in steps.into_iter().enumerate() {
            let name = format!("{:0length$}", if act % 2 == 0 { 7 } else { number });
            let row = Some((id, name.clone(), String::new(), 0));
            let change = match act {
                0 => {
                    rows.retain(|_, (of, _)| *of != partition);
                    Change { kind: ChangeKind::Truncate, new: None, old: None, image: OldImage::None }
                }
                1 | 2 => {
                    rows.remove(&id);
                    Change { kind: ChangeKind::Delete, new: None, old: row, image: OldImage::Key }
                }
                _ => {
                    rows.insert(id, (partition, name));
                    Change { kind: ChangeKind::Update, new: row, old: None, image: OldImage::None }
                }
            };
            reference.take_in(&changes(&[change]), partition, true);
            prop_assert_eq!(reference.len(), rows.len());
        }
        for id in 0..12 {
            let mut key = Vec::new();
            gonvel_core::row_bytes::write(Value::Long(id), &mut key);
            let found = reference.get(&key).map(|row| reference.values(row).unwrap());
            let wanted = rows.get(&id).map(|(_, name)| vec![Value::Text(name)]);
            prop_assert_eq!(found, wanted, "{}", id);
        }
    }
}
