//! An array's elements as rows, the same from every form of value, a record as a whole or not at all.

use std::collections::BTreeMap;

use bytes::Bytes;
use gonvel_core::change::ChangeBatchBuilder;
use gonvel_core::event_rows::{EventColumn, EventRows, Part, Unknown};
use gonvel_core::record::Record;
use gonvel_core::schemas::Language;
use gonvel_core::schemas::values::ValueSchema;
use gonvel_events::{Came, EventForm, EventSchema};
use proptest::prelude::*;
use serde_json::{Value, json};

use crate::{by_place, texts};

const AVRO: &str = r#"{"type":"record","name":"Delivery","fields":[{"name":"grower","type":"string"},
    {"name":"load","type":{"type":"record","name":"Load","fields":[{"name":"lots","type":["null",{"type":"array","items":
      {"type":"record","name":"Lot","fields":[{"name":"lot","type":"int"},{"name":"kg","type":["null","double"],"default":null},
        {"name":"tags","type":{"type":"array","items":"string"},"default":[]}]}}],"default":null}]}}]}"#;
const PROTO: &str = r#"syntax = "proto3"; message Delivery { string grower = 1; Load load = 2;
    message Load { repeated Lot lots = 1; } message Lot { int32 lot = 1; optional double kg = 2; repeated string tags = 3; } }"#;

fn element(path: &[&str], name: &str, ty: &str) -> EventColumn {
    EventColumn { part: Part::Element, ..EventColumn::field(path, name, ty) }
}

fn rows() -> EventRows {
    let columns = vec![
        EventColumn::field(&["grower"], "grower", "text"),
        element(&["lot"], "lot", "integer"),
        element(&["kg"], "kg", "double precision"),
        element(&["tags"], "tags", "text[]"),
        element(&[], "whole", "jsonb"),
        EventColumn::of(Part::Place, "line", "integer").as_key(),
    ];
    EventRows { expand: Some(vec!["load".into(), "lots".into()]), ..by_place(columns) }
}

fn read(record: &Record, schema: Option<&EventSchema>, rows: &EventRows) -> Result<Vec<Vec<Option<String>>>, String> {
    let form = EventForm::new("deliveries", rows).unwrap();
    let mut builder = ChangeBatchBuilder::new(form.table().clone());
    let headers = record.encoded_headers();
    let came = Came { record: record.as_ref_with(&headers), partition: 2, offset: 41 };
    let mut keys = vec![Bytes::from_static(b"of the record before")];
    let read = form.read_all(&came, schema, &mut builder, &mut keys);
    assert!(read.is_ok() || builder.is_empty(), "nothing of a record that is refused");
    read?;
    let batch = builder.finish();
    let mut own = keys.clone();
    own.sort_unstable();
    own.dedup();
    assert_eq!((keys.len(), own.len()), (batch.len(), batch.len()), "every row has a key of its own");
    Ok((0..batch.len()).map(|row| texts(&batch, row)).collect())
}

#[derive(Debug, Clone)]
struct Lot {
    lot: i32,
    kg: Option<f64>,
    tags: Vec<String>,
}

fn lots() -> impl Strategy<Value = Vec<Lot>> {
    let tag = "[a-z ,{}\"]{0,6}";
    let lot = (any::<i32>(), proptest::option::of(-1e6..1e6_f64), proptest::collection::vec(tag, 0..3));
    proptest::collection::vec(lot.prop_map(|(lot, kg, tags)| Lot { lot, kg, tags }), 0..6)
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(150))]

    #[test]
    fn every_form_gives_the_same_rows_as_a_plain_reading(lots in lots(), grower in "[a-zA-Zü ]{1,8}") {
        let in_json = |lot: &Lot| json!({"lot": lot.lot, "kg": lot.kg, "tags": lot.tags});
        let value = json!({"grower": grower, "load": {"lots": lots.iter().map(in_json).collect::<Vec<_>>()}});
        let as_json = Record { value: Some(value.to_string().into()), ..Record::default() };
        let found = read(&as_json, None, &rows()).unwrap();
        prop_assert_eq!(found.len(), lots.len());
        for (number, (row, lot)) in found.iter().zip(&lots).enumerate() {
            prop_assert_eq!(row[0].as_deref(), Some(grower.as_str()));
            prop_assert_eq!(row[1].clone(), Some(lot.lot.to_string()));
            let kg: Option<f64> = row[2].as_ref().map(|kg| kg.parse().unwrap());
            prop_assert_eq!(kg, lot.kg);
            let whole: Value = serde_json::from_str(row[4].as_ref().unwrap()).unwrap();
            prop_assert_eq!(&whole["tags"], &json!(lot.tags));
            prop_assert_eq!(row[5].clone(), Some((number + 1).to_string()));
            prop_assert_eq!((row[6].as_deref(), row[7].as_deref()), (Some("2"), Some("41")));
        }
        let plain = |rows: &[Vec<Option<String>>]| -> Vec<Vec<Option<String>>> {
            // the whole element is written otherwise in each language
            rows.iter().map(|row| row.iter().enumerate().filter(|(n, _)| *n != 4).map(|(_, cell)| cell.clone()).collect()).collect()
        };
        for (language, text) in [(Language::Avro, AVRO), (Language::Protobuf, PROTO)] {
            let schema = ValueSchema::new(language, text).unwrap();
            let mut own = value.clone();
            if language == Language::Protobuf {
                // what is null is not sent
                for lot in own["load"]["lots"].as_array_mut().unwrap() {
                    lot.as_object_mut().unwrap().retain(|_, value| !value.is_null());
                }
            }
            let record = Record { value: Some(schema.write(&own).unwrap()), ..Record::default() };
            let reads = EventSchema::new(language, text).unwrap();
            prop_assert_eq!(plain(&read(&record, Some(&reads), &rows()).unwrap()), plain(&found), "{:?}", language);
        }
    }
}

#[test]
fn a_record_is_refused_as_a_whole_with_the_place_of_what_is_wrong() {
    let record = |value: &Value| Record { value: Some(value.to_string().into()), ..Record::default() };
    let lots = |lots: Value| record(&json!({"grower": "Weir", "load": {"lots": lots}}));
    let none: [Record; 4] =
        [lots(json!([])), lots(Value::Null), record(&json!({"load": {}})), record(&json!({"grower": "Weir"}))];
    for record in &none {
        assert_eq!(read(record, None, &rows()), Ok(Vec::new()), "{record:?}");
    }
    let quarantine = EventRows { unknown: Unknown::Quarantine, ..rows() };
    let cases: BTreeMap<&str, (Record, EventRows)> = BTreeMap::from([
        (
            "at $.load.lots[1].lot: the number is out of the range of integer",
            (lots(json!([{"lot": 1}, {"lot": 3e9}])), rows()),
        ),
        ("at $.load.lots[2]: an object is expected", (lots(json!([{"lot": 1}, null, 7])), rows())),
        ("at $.load.lots: an array is expected", (lots(json!({"lot": 1})), rows())),
        ("at $.load.lots[0].tare: no column takes this field", (lots(json!([{"lot": 1, "tare": 2}])), quarantine)),
        ("it has no value", (Record::default(), rows())),
    ]);
    for (part, (record, rows)) in cases {
        let refused = read(&record, None, &rows).unwrap_err();
        assert!(refused.contains(part), "{refused} (expected: {part})");
    }
    // single values are elements too
    let columns = vec![element(&[], "tag", "text"), EventColumn::of(Part::Place, "line", "integer").as_key()];
    let tags = EventRows { expand: Some(vec!["tags".into()]), ..by_place(columns) };
    let found = read(&record(&json!({"tags": ["early", null, 7]})), None, &tags).unwrap();
    let cells: Vec<Option<&str>> = found.iter().map(|row| row[0].as_deref()).collect();
    assert_eq!(cells, [Some("early"), None, Some("7")]);
}
