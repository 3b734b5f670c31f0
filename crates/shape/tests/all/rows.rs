//! What becomes of changes: filters are about membership, hidden values are nowhere, rows that fail are named alone.

use std::collections::BTreeMap;
use std::sync::Arc;

use crate::growers::{Change, Places, changes, changes_without, folded, growers, life, tools};
use gonvel_core::change::{ChangeBatch, ChangeBatchBuilder, ChangeKind, OldImage, Origin};
use gonvel_core::column::{ColumnType, Value};
use gonvel_core::connector::Values;
use gonvel_core::record_form::RecordForm;
use gonvel_core::row_bytes;
use gonvel_core::shape::{ShapeStep, TableRule};
use gonvel_shape::finding::Finding;
use gonvel_shape::plan::{Compiled, Plan, References, Shape};
use gonvel_shape::reference::Reference;
use gonvel_shape::run::Context;
use proptest::prelude::*;
use serde_json::{Value as Json, json};

fn compiled(steps: Json, rules: Json, references: &References) -> Compiled {
    let steps: Vec<ShapeStep> = serde_json::from_value(steps).unwrap();
    let rules: Vec<TableRule> = serde_json::from_value(rules).unwrap();
    Plan::compile(&growers(), Shape { rules: &rules, steps: &steps }, references, &tools())
}

fn plan(steps: Json) -> Plan {
    let compiled = compiled(steps, json!([]), &References::new());
    compiled.plan.unwrap_or_else(|| panic!("{:?}", compiled.findings))
}

/// The rows that a plan leaves when changes come in batches of a size.
fn left(plan: &Plan, all: &[Change], cut: usize) -> Places {
    let (mut rows, mut context) = (Places::new(), Context::new(tools()));
    for part in all.chunks(cut) {
        let shaped = plan.apply(&changes(part), &mut context);
        assert_eq!(shaped.failed, []);
        folded(&shaped, &mut rows);
    }
    rows.retain(|_, there| !there.is_empty());
    rows
}

proptest! {
    #[test]
    fn a_filter_leaves_what_filtering_the_table_leaves(
        acts in prop::collection::vec((any::<u8>(), 0_i64..8, 0_i32..10), 1..60),
        identity in 0..2,
        cut in 1..7_usize,
    ) {
        let (all, table) = life(&acts, if identity == 0 { OldImage::Row } else { OldImage::Key });
        let plan = plan(json!([
            {"step": "compute", "column": "many", "value": "bins * 2"},
            {"step": "filter", "only": "many >= 8"},
            {"step": "drop", "columns": ["phone"]},
        ]));
        let mut rows = left(&plan, &all, cut);
        let found: Vec<String> = rows.remove("").unwrap_or_default().into_values().collect();
        let expected: Vec<String> = table.values().filter(|r| r.3 * 2 >= 8)
            .map(|r| format!("Long({}) Text({:?}) Int({}) Int({})", r.0, r.1, r.3, r.3 * 2)).collect();
        prop_assert_eq!(found, expected);
    }

    #[test]
    fn routes_leave_each_row_in_one_place(
        acts in prop::collection::vec((any::<u8>(), 0_i64..8, 0_i32..10), 1..60),
        identity in 0..2,
    ) {
        let (all, table) = life(&acts, if identity == 0 { OldImage::Row } else { OldImage::Key });
        let plan = plan(json!([{"step": "route", "ways": [{"when": "bins > 6", "to": "large"}, {"when": "bins > 3", "to": "medium"}]}]));
        let rows = left(&plan, &all, 5);
        for row in table.values() {
            let way = if row.3 > 6 { "large" } else if row.3 > 3 { "medium" } else { "" };
            let key = format!("Long({})", row.0);
            for (name, there) in &rows {
                prop_assert_eq!(there.contains_key(&key), name == way, "{} in {:?}", key, name);
            }
        }
        prop_assert_eq!(rows.values().map(BTreeMap::len).sum::<usize>(), table.len());
    }

    #[test]
    fn without_repeats_the_same_rows_are_left(
        acts in prop::collection::vec((any::<u8>(), 0_i64..4, 0_i32..4), 1..60),
        identity in 0..2,
        cut in 1..7_usize,
        around in prop::sample::select(vec![
            (json!([]), json!([])),
            (json!([{"step": "mask", "columns": ["id"], "how": "token"}]), json!([])),
            (json!([{"step": "filter", "only": "bins < 3"}]), json!([])),
            (json!([]), json!([{"step": "filter", "only": "bins > 0"}])),
            (json!([{"step": "filter", "only": "bins < 3"}]), json!([{"step": "route", "ways": [
                {"when": "bins > 1", "to": "large"}, {"when": "bins = 0", "to": "large"}, {"when": "bins = 1", "to": "small"}]}])),
        ]),
        by in prop::sample::select(vec![json!([]), json!(["bins"])]),
    ) {
        let (all, _) = life(&acts, if identity == 0 { OldImage::Row } else { OldImage::Key });
        let (before, after) = (around.0.as_array().unwrap(), around.1.as_array().unwrap());
        let all_rows = [before.as_slice(), after].concat();
        let once = [before.as_slice(), &[json!({"step": "drop_repeats", "by": by})], after].concat();
        prop_assert_eq!(left(&plan(json!(once)), &all, cut), left(&plan(json!(all_rows)), &all, cut));
    }

    #[test]
    fn a_row_that_was_bad_and_is_mended_comes_through(
        acts in prop::collection::vec((any::<u8>(), 0_i64..4, 0_i32..3), 1..60),
        identity in 0..2,
        cut in 1..7_usize,
    ) {
        let (all, _) = life(&acts, if identity == 0 { OldImage::Row } else { OldImage::Key });
        let plan = plan(json!([{"step": "compute", "column": "share", "value": "12 / bins"}, {"step": "keep", "columns": ["id", "share"]}]));
        let (mut rows, mut context, mut good) = (Places::new(), Context::new(tools()), BTreeMap::new());
        for part in all.chunks(cut) {
            let shaped = plan.apply(&changes(part), &mut context);
            let failed: Vec<usize> = shaped.failed.iter().map(|f| f.row).collect();
            let bad = (0..part.len()).filter(|row| part[*row].new.as_ref().is_some_and(|new| new.3 == 0));
            prop_assert_eq!(failed, bad.collect::<Vec<_>>());
            folded(&shaped, &mut rows);
            for change in part {
                match (&change.new, &change.old) {
                    (None, Some(old)) => drop(good.remove(&old.0)),
                    (Some(new), _) if new.3 != 0 => drop(good.insert(new.0, format!("Long({}) Int({})", new.0, 12 / new.3))),
                    _ => {}
                }
            }
        }
        let found: Vec<String> = rows.remove("").unwrap_or_default().into_values().collect();
        prop_assert_eq!(found, good.into_values().collect::<Vec<_>>());
    }

    #[test]
    fn what_a_reference_said_once_is_not_taken_for_what_it_says_now(
        acts in prop::collection::vec((any::<u8>(), 0_i64..4, 0_i32..3), 1..40),
        turns in prop::collection::vec(0_i64..3, 8),
        way in prop::sample::select(vec!["leave", "filter", "route"]),
        identity in 0..2,
    ) {
        let (all, table) = life(&acts, if identity == 0 { OldImage::Row } else { OldImage::Key });
        let references = References::from([("packhouse.growers".to_owned(), growers())]);
        let mut steps = vec![json!({"step": "lookup", "topic": "packhouse.growers", "by": [{"column": "bins", "key": "id"}],
            "columns": [{"from": "name", "column": "grower"}], "miss": if way == "leave" { way } else { "empty" }})];
        match way {
            "filter" => steps.push(json!({"step": "filter", "only": "grower IS NOT NULL"})),
            "route" => steps.push(json!({"step": "route", "ways": [{"when": "grower IS NULL", "to": "unknown"}]})),
            _ => {}
        }
        let plan = compiled(json!(steps), json!([]), &references).plan.unwrap();
        let mut context = Context::new(tools());
        context.references.insert("packhouse.growers".into(), Reference::new(growers(), vec![1]));
        let (mut rows, mut expected) = (Places::new(), BTreeMap::new());
        for (number, part) in all.chunks(5).enumerate() {
            // growers come and go meanwhile
            let grower = turns[number];
            let row = (grower, format!("grower {grower}"), String::new(), 0);
            let reference = context.references.get_mut("packhouse.growers").unwrap();
            let mut key = Vec::new();
            gonvel_core::row_bytes::write(Value::Long(grower), &mut key);
            let (kind, new, old) = match reference.get(&key) {
                Some(_) => (ChangeKind::Delete, None, Some(row)),
                None => (ChangeKind::Insert, Some(row), None),
            };
            reference.apply(&changes(&[Change { kind, new, old, image: OldImage::Key }]));
            let there: Vec<bool> = (0..3_i64)
                .map(|grower| {
                    let mut key = Vec::new();
                    gonvel_core::row_bytes::write(Value::Long(grower), &mut key);
                    reference.get(&key).is_some()
                })
                .collect();
            let shaped = plan.apply(&changes(part), &mut context);
            prop_assert_eq!(&shaped.failed, &[]);
            folded(&shaped, &mut rows);
            for change in part {
                match (&change.new, &change.old) {
                    (None, Some(old)) => drop(expected.remove(&old.0)),
                    (Some(new), _) => drop(expected.insert(new.0, there[usize::try_from(new.3).unwrap()])),
                    _ => {}
                }
            }
        }
        for id in table.keys() {
            let key = format!("Long({id})");
            let main = rows.get("").is_some_and(|rows| rows.contains_key(&key));
            prop_assert_eq!(main, expected[id], "{} in the main place", key);
            let other = rows.get("unknown").is_some_and(|rows| rows.contains_key(&key));
            prop_assert_eq!(other, way == "route" && !expected[id], "{} in the other place", key);
        }
        let ids: Vec<String> = table.keys().map(|id| format!("Long({id})")).collect();
        for key in rows.values().flat_map(BTreeMap::keys) {
            prop_assert!(ids.contains(key), "{} is gone", key);
        }
    }

    #[test]
    fn an_update_of_a_part_is_marked_wherever_its_row_may_be_missing(
        acts in prop::collection::vec((any::<u8>(), 0_i64..4, 0_i32..6), 1..60),
        way in prop::sample::select(vec![
            json!({"step": "filter", "only": "bins > 2"}),
            json!({"step": "route", "ways": [{"when": "bins > 2", "to": "large"}]}),
        ]),
    ) {
        let (all, _) = life(&acts, OldImage::Key);
        let plan = plan(json!([way, {"step": "letters", "columns": ["name"], "to": "upper"}]));
        let (mut rows, mut context) = (Places::new(), Context::new(tools()));
        for part in all.chunks(1) {
            let shaped = plan.apply(&changes_without(part, &[1]), &mut context);
            prop_assert_eq!(&shaped.failed, &[]);
            for routed in &shaped.parts {
                let to = routed.to.clone().unwrap_or_default();
                for row in 0..routed.batch.len() {
                    let key = format!("{:?}", routed.batch.identifying(row)[0].value(row));
                    let partial = routed.batch.unchanged.contains_key(&row);
                    let there = rows.get(&to).is_some_and(|rows| rows.contains_key(&key));
                    prop_assert!(!partial || there || routed.partly.contains(&row), "{} in {:?}", key, to);
                }
            }
            folded(&shaped, &mut rows);
        }
    }

    #[test]
    fn what_is_hidden_is_nowhere_in_a_record(
        acts in prop::collection::vec((any::<u8>(), 0_i64..6, 0_i32..10), 1..40),
        how in prop::sample::select(vec!["hide", "hash", "token", "partial"]),
        identity in 0..2,
    ) {
        let (all, _) = life(&acts, if identity == 0 { OldImage::Row } else { OldImage::Key });
        let plan = plan(json!([
            // fails for some rows, and says why
            {"step": "compute", "column": "share", "value": "100 / (bins - CAST(right(phone, 1) AS integer))"},
            {"step": "mask", "columns": ["id"], "how": "token"},
            {"step": "mask", "columns": ["phone", "name"], "how": how},
            {"step": "rename", "columns": [{"column": "phone", "to": "reached_at"}]},
        ]));
        let shaped = plan.apply(&changes(&all), &mut Context::new(tools()));
        let mut said: Vec<u8> = Vec::new();
        for part in &shaped.parts {
            let form = RecordForm::of(part.batch.table.clone(), Values::default());
            for row in 0..part.batch.len() {
                form.write_key(part.batch.identifying(row), row, &mut said);
                form.write_value(&part.batch, row, &mut said);
            }
        }
        shaped.failed.iter().for_each(|f| said.extend(f.finding.as_bytes()));
        let text = String::from_utf8_lossy(&said);
        prop_assert!(!text.contains("0161") && !text.contains("grower "), "{}", text);
    }
}

#[test]
fn a_step_that_is_switched_off_leaves_records_as_they_are() {
    let (all, _) = life(&[(0, 1, 5), (1, 1, 6), (0, 2, 1), (2, 1, 0)], OldImage::Row);
    let batch = changes(&all);
    let steps = json!([{"off": true, "step": "mask", "columns": ["phone"], "how": "hide"}]);
    let plan = plan(steps.clone());
    let shaped = plan.apply(&batch, &mut Context::new(tools()));
    let written = |batch: &ChangeBatch| {
        let form = RecordForm::of(batch.table.clone(), Values::default());
        let mut out = Vec::new();
        (0..batch.len()).for_each(|row| {
            form.write_key(batch.identifying(row), row, &mut out);
            form.write_value(batch, row, &mut out);
        });
        out
    };
    assert_eq!(written(&shaped.parts[0].batch), written(&batch));
    let steps: Vec<ShapeStep> = serde_json::from_value(steps).unwrap();
    assert!(Shape { rules: &[], steps: &steps }.is_nothing(&growers()));
}

#[test]
fn a_row_that_fails_is_named_alone_with_its_step_and_value() {
    let (all, _) = life(&[(0, 1, 5), (0, 2, 0), (0, 3, 2)], OldImage::Row);
    let plan = plan(json!([
        {"step": "rename", "columns": [{"column": "bins", "to": "held"}]},
        {"step": "compute", "column": "share", "value": "10 / held"},
    ]));
    let shaped = plan.apply(&changes(&all), &mut Context::new(tools()));
    assert_eq!(shaped.parts[0].rows, [0, 2]);
    let [failed] = shaped.failed.as_slice() else { panic!("{:?}", shaped.failed) };
    assert_eq!((failed.row, failed.finding.as_str()), (1, "step 2 (compute): division by zero: held = 0"));
}

#[test]
fn what_was_not_sent_stays_unsent_and_is_not_guessed() {
    let mut builder = ChangeBatchBuilder::new(growers());
    builder.begin(ChangeKind::Update, Origin::default());
    builder.new_value(0, Value::Long(1)).unwrap();
    builder.new_unchanged(1);
    builder.new_value(2, Value::Text("0161")).unwrap();
    builder.new_value(3, Value::Int(4)).unwrap();
    builder.no_old();
    let batch = builder.finish();
    let moved = plan(
        json!([{"step": "reorder", "columns": ["bins", "name"]}, {"step": "letters", "columns": ["name"], "to": "upper"}]),
    );
    let shaped = moved.apply(&batch, &mut Context::new(tools()));
    assert_eq!(shaped.parts[0].batch.unchanged[&0], [1]);
    let mixed = plan(json!([{"step": "compute", "column": "label", "value": "name || bins"}]));
    let shaped = mixed.apply(&batch, &mut Context::new(tools()));
    assert!(shaped.failed[0].finding.contains("name did not change and was not sent"), "{:?}", shaped.failed);
    // a row that went no further needs nothing
    let gone = plan(
        json!([{"step": "filter", "only": "bins > 9"}, {"step": "compute", "column": "label", "value": "name || bins"}]),
    );
    assert_eq!(gone.apply(&batch, &mut Context::new(tools())).failed, []);
}

#[test]
fn a_row_tried_again_is_no_repeat() {
    let (all, _) = life(&[(0, 1, 5), (1, 1, 6)], OldImage::Key);
    let plan = plan(json!([{"step": "drop_repeats"}]));
    let mut context = Context::new(tools());
    assert_eq!(plan.apply(&changes(&all), &mut context).parts[0].rows, [0, 1]);
    let second = changes(&all[1..]);
    assert!(plan.apply(&second, &mut context).parts.is_empty());
    assert_eq!(plan.apply_again(&second, &mut context).parts[0].rows, [0]);
}

#[test]
fn repeats_of_a_key_go_no_further() {
    let (all, _) = life(&[(0, 1, 5), (1, 1, 5), (1, 1, 6), (0, 2, 1), (1, 2, 1), (2, 2, 0)], OldImage::Key);
    let plan = plan(json!([{"step": "drop_repeats"}]));
    let mut context = Context::new(tools());
    let rows: Vec<usize> = all
        .chunks(1)
        .enumerate()
        .filter(|(_, c)| !plan.apply(&changes(c), &mut context).parts.is_empty())
        .map(|(n, _)| n)
        .collect();
    assert_eq!(rows, [0, 2, 3, 5]);
}

#[test]
fn a_lookup_adds_what_the_reference_holds_now() {
    let reference = growers();
    let references = References::from([("packhouse.growers".to_owned(), reference.clone())]);
    let of = |miss: &str| {
        let steps = json!([{"step": "lookup", "topic": "packhouse.growers", "by": [{"column": "bins", "key": "id"}],
            "columns": [{"from": "name", "column": "grower"}], "miss": miss}]);
        let compiled = compiled(steps, json!([]), &references);
        compiled.plan.unwrap_or_else(|| panic!("{:?}", compiled.findings))
    };
    let mut rows = Reference::new(reference, vec![1]);
    let (there, _) = life(&[(0, 1, 0), (0, 2, 0), (0, 3, 0), (2, 3, 0)], OldImage::Key);
    rows.apply(&changes(&there));
    assert_eq!(rows.len(), 2);
    let mut context = Context::new(tools());
    context.references.insert("packhouse.growers".into(), rows);
    let (all, _) = life(&[(0, 7, 1), (0, 8, 3)], OldImage::Row);
    let batch = changes(&all);
    let shaped = of("empty").apply(&batch, &mut context);
    let added: Vec<Value<'_>> = (0..2).map(|row| shaped.parts[0].batch.new[4].value(row)).collect();
    assert_eq!(added, [Value::Text("grower 1"), Value::Null]);
    assert_eq!(of("leave").apply(&batch, &mut context).parts[0].rows, [0]);
    let refused = of("refuse").apply(&batch, &mut context);
    assert_eq!(refused.failed[0].finding, "step 1 (lookup): packhouse.growers has no such row: bins = 3");
}

#[test]
fn a_reference_takes_in_rows_of_another_shape() {
    // the key was a bigint and the number an integer; now it is the other way round
    let mut other = (*growers()).clone();
    (other.columns[0].ty, other.columns[3].ty) = (ColumnType::Int32, ColumnType::Int64);
    let other = Arc::new(other);
    let mut rows = Reference::new(other.clone(), vec![1, 3]);
    assert!(!rows.is_like(&growers()) && rows.is_like(&other));
    let (there, _) = life(&[(0, 1, 4), (0, 2, 5), (2, 2, 0)], OldImage::Key);
    rows.apply(&changes(&there));
    let mut key = Vec::new();
    let mut found = |id: i32| {
        key.clear();
        row_bytes::write(Value::Int(id), &mut key);
        rows.get(&key).map(|bytes| rows.values(bytes).unwrap().iter().map(|v| format!("{v:?}")).collect::<Vec<_>>())
    };
    assert_eq!(found(1).unwrap(), [r#"Text("grower 1")"#, "Long(4)"]);
    assert_eq!((found(2), found(3)), (None, None));
}

#[test]
fn table_rules_come_to_steps_of_each_table() {
    let rules = json!([{"tables": "public.*", "rules": [
        {"rule": "mask", "columns": ["*phone*"], "how": "hash"},
        {"rule": "convert", "from": "integer", "to": "bigint"},
        {"rule": "substitute", "which": "control", "with": " "},
        {"rule": "add", "column": "captured", "value": "origin.committed_at"},
        {"rule": "drop", "columns": ["name", "id"]},
        {"rule": "letters", "to": "upper"}, {"rule": "prefix", "with": "G_"}]}]);
    let compiled = compiled(json!([]), rules, &References::new());
    let plan = compiled.plan.unwrap_or_else(|| panic!("{:?}", compiled.findings));
    let columns: Vec<(String, String)> =
        plan.output.columns.iter().map(|c| (c.name.clone(), c.source_type.to_string())).collect();
    let expected =
        [("G_ID", "bigint"), ("G_PHONE", "text"), ("G_BINS", "bigint"), ("G_CAPTURED", "timestamp with time zone")];
    assert_eq!(columns, expected.map(|(a, b)| (a.to_owned(), b.to_owned())));
    assert!(plan.output.columns[0].key);
}

#[test]
fn what_is_wrong_is_said_at_its_step_and_character() {
    let references = References::from([("packhouse.growers".to_owned(), growers())]);
    let compute = |value: &str| json!([{"step": "rename", "columns": [{"column": "bins", "to": "held"}]}, {"step": "compute", "column": "x", "value": value}]);
    let deep = format!("{}held{}", "(".repeat(200), ")".repeat(200));
    // the steps, the step, from, to, a part of what is said
    type Case = (Json, usize, Option<(usize, usize)>, &'static str);
    let cases: Vec<Case> = vec![
        (compute("held + bns"), 1, Some((7, 10)), "there is no column bns"),
        (compute("nme || 'x'"), 1, Some((0, 3)), "(perhaps name)"),
        (compute("lenght(name)"), 1, Some((0, 6)), "(perhaps length)"),
        (compute("held +"), 1, Some((6, 6)), "not SQL"),
        (compute("name * 2"), 1, Some((0, 8)), "does not take (text, integer)"),
        (compute("held = name"), 1, Some((0, 11)), "cannot be compared"),
        (compute("CAST(name AS intger)"), 1, Some((5, 9)), "there is no type"),
        (compute("CASE WHEN held THEN 1 END"), 1, Some((10, 14)), "true or false"),
        (compute("name ~ '['"), 1, Some((7, 10)), "regular expression cannot be read"),
        (compute("'12x'::integer + 1"), 1, None, "not a value of type integer"),
        (compute("1 / 0"), 1, Some((0, 5)), "division by zero"),
        (compute("now()"), 1, Some((0, 3)), "origin.committed_at"),
        (compute("sum(held)"), 1, Some((0, 3)), "over many rows"),
        (compute("(SELECT 1)"), 1, None, "a subquery"),
        (compute("pg_read_file('/etc/passwd')"), 1, None, "there is no function pg_read_file"),
        (compute(&deep), 1, None, "nested more than"),
        (compute(&"x".repeat(20_001)), 1, None, "at most 20000"),
        (compute("origin.when"), 1, Some((0, 11)), "it has kind, committed_at"),
        (compute(""), 1, None, "an expression is missing"),
        (json!([{"step": "drop", "columns": ["id"]}]), 0, None, "the key column id would be gone"),
        (
            json!([{"step": "rename", "columns": [{"column": "bins", "to": "name"}]}]),
            0,
            None,
            "two columns would be called name",
        ),
        (json!([{"step": "keep", "columns": ["id", "grower"]}]), 0, None, "there is no column grower"),
        (json!([{"step": "mask", "columns": ["id"], "how": "hide"}]), 0, None, "use hash or token"),
        (json!([{"step": "trim", "columns": ["bins"]}]), 0, None, "only texts can be trimmed"),
        (json!([{"step": "convert", "column": "bins", "to": "intger"}]), 0, None, "(perhaps integer)"),
        (json!([{"step": "convert", "column": "bins", "to": "date"}]), 0, None, "cannot be converted to date"),
        (json!([{"step": "filter", "only": "bins"}]), 0, Some((0, 4)), "a condition is true or false"),
        (json!([{"step": "sql", "select": "SELECT id FROM growers"}]), 0, Some((15, 22)), "reads from input"),
        (json!([{"step": "sql", "select": "SELECT id, bins + 1 FROM input"}]), 0, Some((11, 19)), "needs a name"),
        (json!([{"step": "sql", "select": "DELETE FROM input"}]), 0, None, "not a SELECT"),
        (
            json!([{"step": "sql", "select": "SELECT id,\n  upper(bins) AS x\nFROM input"}]),
            0,
            Some((13, 23)),
            "does not take (integer)",
        ),
        (json!([{"step": "compute", "column": "id", "value": "bins"}]), 0, None, "which a delete does not say"),
        (
            json!([{"step": "lookup", "topic": "packhouse.rooms", "by": [{"column": "bins", "key": "id"}], "columns": [{"from": "name", "column": "n"}]}]),
            0,
            None,
            "is not there",
        ),
        (
            json!([{"step": "lookup", "topic": "packhouse.growers", "by": [{"column": "name", "key": "id"}], "columns": [{"from": "name", "column": "n"}]}]),
            0,
            None,
            "convert it to the key's type",
        ),
        (json!([{"step": "route", "ways": [{"to": "bins_{grde}"}]}]), 0, None, "there is no column grde"),
    ];
    let mut wrong = Vec::new();
    for (steps, step, span, part) in cases {
        let found = compiled(steps.clone(), json!([]), &references);
        let Some(Finding { step: at, span: place, .. }) = found.findings.first() else { panic!("nothing found: {steps}") };
        let said = found.findings[0].to_string();
        let there = place.map(|s| (s.from, s.to));
        if found.plan.is_some() || !said.contains(part) || *at != Some(step) || span.is_some() && there != span {
            wrong.push(format!("{said} at {there:?}, wanted {part:?} at {span:?}: {steps}"));
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}

#[test]
fn what_may_go_wrong_is_warned_of() {
    let cases = [
        (json!([{"step": "convert", "column": "bins", "to": "smallint"}]), "-32,768 to 32,767"),
        (json!([{"step": "convert", "column": "phone", "to": "numeric(4,1)"}]), "makes its row fail"),
        (
            json!([{"step": "compute", "column": "copy", "value": "phone"}, {"step": "mask", "columns": ["phone"], "how": "hide"}]),
            "copy is made of phone",
        ),
        (json!([{"step": "convert", "column": "id", "to": "smallint"}]), "two rows may get the same key"),
        (json!([{"step": "route", "ways": [{"to": "growers_{bins}"}]}]), "do not reach it"),
        (
            json!([{"step": "drop_repeats", "by": ["bins"]}, {"step": "compute", "column": "long", "value": "length(name) > 9"},
                {"step": "filter", "only": "long"}]),
            "long decides here what becomes of a row",
        ),
    ];
    for (steps, part) in cases {
        let found = compiled(steps, json!([]), &References::new());
        assert!(
            found.plan.is_some() && found.findings.iter().any(|f| f.to_string().contains(part)),
            "{part}: {:?}",
            found.findings
        );
    }
}
