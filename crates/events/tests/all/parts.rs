//! Columns and the rest together say all that a value says; what does not fit leaves nothing behind.

use gonvel_core::change::ChangeBatchBuilder;
use gonvel_core::event_rows::{EventColumn, Part, Unknown};
use gonvel_core::record::{Header, Record};
use gonvel_events::EventForm;
use proptest::prelude::*;
use serde_json::{Map, Value, json};

use crate::{by_place, read, row, texts};

fn scalar() -> impl Strategy<Value = Value> {
    let texts = prop::sample::select(vec!["", "a", "Tür \"B\"\n\\", "null", "🍎", "{}", "\u{7f}"]);
    prop_oneof![
        Just(Value::Null),
        any::<bool>().prop_map(Value::from),
        any::<i64>().prop_map(Value::from),
        (-1e9..1e9).prop_map(Value::from),
        texts.prop_map(Value::from),
    ]
}

/// Objects of a few names, so that those of columns are often there.
fn object() -> impl Strategy<Value = Value> {
    let name = prop::sample::select(vec!["a", "b", "c d", "é"]);
    let leaf = scalar();
    let inner = leaf.prop_recursive(3, 40, 4, move |inner| {
        let member = (name.clone(), inner.clone());
        prop_oneof![
            prop::collection::vec(inner, 0..4).prop_map(Value::from),
            prop::collection::vec(member, 0..4).prop_map(|members| members
                .into_iter()
                .map(|(name, value)| (name.to_owned(), value))
                .collect::<Map<_, _>>()
                .into()),
        ]
    });
    inner.prop_map(|value| if value.is_object() { value } else { json!({"a": value}) })
}

fn paths() -> impl Strategy<Value = Vec<Vec<&'static str>>> {
    let name = prop::sample::select(vec!["a", "b", "c d", "é"]);
    let path = prop::collection::vec(name, 1..4);
    prop::collection::btree_set(path, 0..5).prop_map(|paths| paths.into_iter().collect())
}

fn at<'v>(value: &'v Value, path: &[&str]) -> Option<&'v Value> {
    path.iter().try_fold(value, |value, name| value.get(name))
}

/// Puts a value where it was.
fn put(into: &mut Value, path: &[&str], value: Value) {
    let (name, rest) = path.split_first().unwrap();
    let members = into.as_object_mut().unwrap();
    if rest.is_empty() {
        members.insert((*name).to_owned(), value);
    } else {
        put(members.entry((*name).to_owned()).or_insert_with(|| json!({})), rest, value);
    }
}

/// What is left of a value once members are taken out, and with them the objects that held nothing else.
fn without(value: &Value, path: &[&str], paths: &[Vec<&str>]) -> Option<Value> {
    if paths.iter().any(|taken| taken == path) {
        return None;
    }
    let on_the_way = path.is_empty() || paths.iter().any(|taken| taken.starts_with(path));
    match value {
        Value::Object(members) if on_the_way => {
            let left = members.iter().filter_map(|(name, inner)| {
                let path: Vec<&str> = path.iter().copied().chain([name.as_str()]).collect();
                without(inner, &path, paths).map(|left| (name.clone(), left))
            });
            let left: Map<String, Value> = left.collect();
            (!left.is_empty()).then(|| left.into())
        }
        Value::Null if on_the_way => None,
        other => Some(other.clone()),
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(2_000))]
    #[test]
    fn columns_and_the_rest_say_all_of_a_value(value in object(), paths in paths()) {
        // a column that takes an object whole leaves nothing below it to another
        let paths: Vec<Vec<&str>> = paths.iter().filter(|path| !paths.iter().any(|o| o != *path && path.starts_with(o))).cloned().collect();
        let mut columns: Vec<EventColumn> =
            paths.iter().enumerate().map(|(n, path)| EventColumn::field(path, &format!("c{n}"), "json")).collect();
        columns.push(EventColumn::of(Part::Rest, "rest", "json"));
        let form = EventForm::new("t", &by_place(columns)).unwrap();
        let record = Record { value: Some(value.to_string().into()), ..Record::default() };
        let parsed = |text: &Option<String>| text.as_ref().map(|text| serde_json::from_str::<Value>(text).unwrap());
        match row(&form, &record, None) {
            Ok(cells) => {
                for (cell, path) in cells.iter().zip(&paths) {
                    let wanted = at(&value, path).filter(|found| !found.is_null());
                    let found = parsed(cell);
                    prop_assert_eq!(found.as_ref(), wanted, "{:?}", path);
                }
                prop_assert_eq!(parsed(&cells[paths.len()]), without(&value, &[], &paths));
                let mut whole = parsed(&cells[paths.len()]).unwrap_or_else(|| json!({}));
                for (cell, path) in cells.iter().zip(&paths) {
                    if let Some(found) = parsed(cell) {
                        put(&mut whole, path, found);
                    }
                }
                for path in &paths {
                    prop_assert_eq!(at(&whole, path).unwrap_or(&Value::Null), at(&value, path).unwrap_or(&Value::Null));
                }
            }
            Err(finding) => {
                // only where something else stands on the way to a column
                let blocked = |path: &Vec<&str>| (1..path.len()).any(|n| at(&value, &path[..n]).is_some_and(|v| !v.is_object() && !v.is_null()));
                prop_assert!(paths.iter().any(blocked), "{}", finding);
                prop_assert!(finding.contains("an object is expected"), "{}", finding);
            }
        }
    }

    #[test]
    fn what_does_not_fit_leaves_nothing_behind(rooms in prop::collection::vec(prop_oneof![
        any::<i32>().prop_map(Value::from), any::<i64>().prop_map(Value::from), Just(json!("cellar")), Just(json!({})), Just(Value::Null)], 1..40)) {
        let mut columns = vec![EventColumn::field(&["n"], "n", "integer"), EventColumn::field(&["room"], "room", "integer")];
        columns[1].required = true;
        let form = EventForm::new("t", &by_place(columns)).unwrap();
        let mut builder = ChangeBatchBuilder::new(form.table().clone());
        let mut wanted = Vec::new();
        for (n, room) in rooms.iter().enumerate() {
            let record = Record { value: Some(json!({"n": n, "room": room}).to_string().into()), ..Record::default() };
            let read = read(&form, &record, None, &mut builder);
            let fits = room.as_i64().is_some_and(|room| i32::try_from(room).is_ok());
            prop_assert_eq!(read.is_ok(), fits, "{:?}: {:?}", room, read);
            if let Err(finding) = read {
                prop_assert!(finding.starts_with("at $.room: ") && !finding.contains("cellar"), "{}", finding);
            } else {
                wanted.push(vec![Some(n.to_string()), Some(room.to_string()), Some("2".into()), Some("41".into())]);
            }
            prop_assert_eq!(builder.len(), wanted.len());
        }
        let batch = builder.finish();
        prop_assert_eq!((0..batch.len()).map(|row| texts(&batch, row)).collect::<Vec<_>>(), wanted);
    }
}

#[test]
fn facts_stand_beside_the_data_and_what_is_missing_is_told_from_null() {
    let mut columns = vec![
        EventColumn::field(&["celsius"], "celsius", "numeric(4,1)"),
        EventColumn { path: vec!["ce-type".into()], ..EventColumn::of(Part::Header, "event_type", "text") },
        EventColumn { path: vec!["n".into()], ..EventColumn::of(Part::Header, "n", "smallint") },
        EventColumn::of(Part::Key, "room", "integer"),
        EventColumn::of(Part::Time, "at", "timestamptz"),
        EventColumn::of(Part::Value, "whole", "text"),
    ];
    let header = |name: &str, value: &'static str| Header { name: name.into(), value: value.into() };
    let record = |value: Option<&'static str>| Record {
        key: Some("7".into()),
        value: value.map(Into::into),
        headers: vec![header("n", "1"), header("ce-type", "door"), header("n", "2")],
        timestamp_us: 1_790_000_000_000_000,
        ..Record::default()
    };
    let form = EventForm::new("t", &by_place(columns.clone())).unwrap();
    let text = r#"{"celsius": 1.25}"#;
    let cells = row(&form, &record(Some(text)), None).unwrap();
    let wanted = ["1.3", "door", "2", "7", "2026-09-21 14:13:20+00", text, "2", "41"];
    assert_eq!(cells, wanted.map(|cell| Some(cell.to_owned())));
    // of a record without a value only the place is known, and its row goes
    let cells = row(&form, &record(None), None).unwrap();
    assert_eq!(cells, [None, None, None, None, None, None, Some("2".into()), Some("41".into())]);

    columns[0].required = true;
    let form = EventForm::new("t", &by_place(columns.clone())).unwrap();
    let said = |value: &'static str| row(&form, &record(Some(value)), None).unwrap_err();
    assert!(said("{}").starts_with("at $.celsius: it is missing, and the column celsius needs a value"), "{}", said("{}"));
    assert!(said(r#"{"celsius": null}"#).starts_with("at $.celsius: it is null"));
    assert!(said("[1]").contains("at $: an object is expected, whose fields fill columns, and an array came"));
    assert!(said("{\"celsius\": 1").contains("the value is not JSON (line 1, column"));
    // the later of two members counts, as in jsonb
    assert_eq!(row(&form, &record(Some(r#"{"celsius": "x", "celsius": 2}"#)), None).unwrap()[0].as_deref(), Some("2.0"));

    let mut rows = by_place(columns);
    rows.unknown = Unknown::Quarantine;
    let form = EventForm::new("t", &rows).unwrap();
    let refused = row(&form, &record(Some(r#"{"celsius": 1, "door": {"open": true}}"#)), None).unwrap_err();
    assert!(refused.starts_with("at $.door: no column takes this field"), "{refused}");
}
