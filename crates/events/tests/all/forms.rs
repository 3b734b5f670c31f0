//! The same value in Avro, in Protocol Buffers and in JSON becomes the same row.

use gonvel_core::event_rows::{EventColumn, Part};
use gonvel_core::record::Record;
use gonvel_core::schemas::Language;
use gonvel_core::schemas::values::ValueSchema;
use gonvel_events::{EventForm, EventSchema};
use proptest::prelude::*;
use serde_json::{Value, json};

use crate::{by_place, row};

const AVRO: &str = r#"{"type":"record","name":"Node","fields":[
    {"name":"id","type":"long"}, {"name":"note","type":["null","string"]},
    {"name":"tags","type":{"type":"array","items":["null","string","long"]}},
    {"name":"places","type":{"type":"map","values":{"type":"record","name":"Place","fields":[{"name":"row","type":"int"},{"name":"tall","type":"boolean"}]}}},
    {"name":"next","type":["null","Node"]},
    {"name":"last","type":"double"}]}"#;

fn node() -> impl Strategy<Value = Value> {
    let tag = prop_oneof![Just(Value::Null), "[a-z\"]{0,3}".prop_map(Value::from), any::<i64>().prop_map(Value::from)];
    let place = (any::<i32>(), any::<bool>()).prop_map(|(row, tall)| json!({"row": row, "tall": tall}));
    let one = (
        any::<i64>(),
        prop::option::of("[ a-zé]{0,6}"),
        prop::collection::vec(tag, 0..4),
        prop::collection::btree_map("[a-c]", place, 0..3),
        -1e6..1e6,
    )
        .prop_map(|(id, note, tags, places, last)| json!({"id": id, "note": note, "tags": tags, "places": places, "next": null, "last": last}));
    one.prop_recursive(3, 12, 2, |inner| {
        (inner.clone(), inner).prop_map(|(mut node, next)| {
            node["next"] = next;
            node
        })
    })
}

/// Columns of which each is taken or not.
fn columns(chosen: &[bool]) -> Vec<EventColumn> {
    let all = [
        EventColumn::field(&["id"], "id", "bigint"),
        EventColumn::field(&["note"], "note", "text"),
        EventColumn::field(&["tags"], "tags", "jsonb"),
        EventColumn::field(&["places"], "places", "jsonb"),
        EventColumn::field(&["places", "a", "row"], "a_row", "integer"),
        EventColumn::field(&["places", "b"], "b", "jsonb"),
        EventColumn::field(&["next"], "next", "jsonb"),
        EventColumn::field(&["next", "next", "id"], "next_id", "bigint"),
        EventColumn::field(&["next", "places", "c", "tall"], "tall", "boolean"),
        EventColumn::field(&["last"], "last", "double precision"),
    ];
    all.into_iter().zip(chosen).filter(|(_, chosen)| **chosen).map(|(column, _)| column).collect()
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(1_000))]
    #[test]
    fn avro_and_its_json_become_the_same_row(value in node(), chosen in prop::collection::vec(any::<bool>(), 10), rest: bool) {
        let mut columns = columns(&chosen);
        if rest {
            columns.push(EventColumn::of(Part::Rest, "rest", "jsonb"));
        }
        let form = EventForm::new("t", &by_place(columns)).unwrap();
        let written = ValueSchema::new(Language::Avro, AVRO).unwrap().write(&value).unwrap();
        let schema = EventSchema::new(Language::Avro, AVRO).unwrap();
        let of_avro = row(&form, &Record { value: Some(written.clone()), ..Record::default() }, Some(&schema));
        let of_json = row(&form, &Record { value: Some(value.to_string().into()), ..Record::default() }, None);
        prop_assert_eq!(&of_avro, &of_json);
        // a value that was cut is refused, wherever it was
        let cut = written.slice(..written.len() - 1);
        let cut = row(&form, &Record { value: Some(cut), ..Record::default() }, Some(&schema));
        let decodes = rest || chosen.iter().any(|chosen| *chosen);
        prop_assert_eq!(cut.is_err(), decodes);
    }
}

#[test]
fn protocol_buffers_bring_defaults_of_fields_without_presence_and_null_of_others() {
    let text = r#"syntax = "proto3"; message Door { int32 room = 1; optional int32 mm = 2; bytes raw = 3; Kind kind = 4; repeated string tags = 5;
        Site site = 6; message Site { string name = 1; } enum Kind { SMALL = 0; LARGE = 1; } }"#;
    let columns = [("room", "integer"), ("mm", "integer"), ("raw", "bytea"), ("kind", "text"), ("tags", "text[]")];
    let mut columns: Vec<EventColumn> = columns.iter().map(|(name, ty)| EventColumn::field(&[name], name, ty)).collect();
    columns.push(EventColumn::field(&["site", "name"], "site", "text"));
    let form = EventForm::new("t", &by_place(columns)).unwrap();
    let schema = EventSchema::new(Language::Protobuf, text).unwrap();
    let written = |value: &Value| ValueSchema::new(Language::Protobuf, text).unwrap().write(value).unwrap();
    let cells = |value: Value| {
        let record = Record { value: Some(written(&value)), ..Record::default() };
        row(&form, &record, Some(&schema)).unwrap()[..6]
            .iter()
            .map(|c| c.clone().unwrap_or_else(|| "∅".into()))
            .collect::<Vec<_>>()
    };
    assert_eq!(cells(json!({})), ["0", "∅", "\\x", "SMALL", "{}", "∅"]);
    let full = json!({"room": -3, "mm": 0, "raw": "AP8=", "kind": "LARGE", "tags": ["a,b", ""], "site": {}});
    assert_eq!(cells(full), ["-3", "0", "\\x00ff", "LARGE", "{\"a,b\",\"\"}", ""]);
    let record = Record { value: Some(vec![0xff, 0xff].into()), ..Record::default() };
    assert!(row(&form, &record, Some(&schema)).unwrap_err().contains("does not follow its schema"));
}
