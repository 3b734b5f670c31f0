//! Values by schemas: what is inferred takes what it was inferred from, messages come back as they were given, and what does not
//! fit is said with its place.

use bytes::Bytes;
use gonvel_core::schemas::infer::Shape;
use gonvel_core::schemas::values::{ValueSchema, read_plain};
use gonvel_core::schemas::{Language, parse};
use proptest::prelude::*;
use serde_json::{Value as Json, json};

fn any_json(depth: u32) -> BoxedStrategy<Json> {
    let leaf = prop_oneof![
        Just(Json::Null),
        any::<bool>().prop_map(Json::from),
        any::<i64>().prop_map(Json::from),
        (-50..50_i64).prop_map(Json::from),
        (-1e6..1e6_f64).prop_map(Json::from),
        prop::sample::select(vec![
            "",
            "a",
            "2026-11-25T09:30:00Z",
            "2026-11-25",
            "00000000-0000-4000-8000-000000000001",
            "ü"
        ])
        .prop_map(Json::from),
    ];
    if depth == 0 {
        return leaf.boxed();
    }
    let inner = any_json(depth - 1);
    // names that Avro does not take, and two that become one there
    let names = prop::sample::select(vec!["id", "a b", "a_b", "1st", "ü", "", "item", "value"]);
    prop_oneof![
        2 => leaf,
        2 => prop::collection::btree_map(names.prop_map(str::to_owned), inner.clone(), 0..4).prop_map(|m| json!(m)),
        1 => prop::collection::vec(inner, 0..3).prop_map(Json::from),
    ]
    .boxed()
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(400))]

    #[test]
    fn what_is_inferred_takes_all_that_was_seen(values in prop::collection::vec(any_json(3), 1..8)) {
        let mut shape = Shape::default();
        values.iter().for_each(|v| shape.see(v));
        for language in [Language::Avro, Language::JsonSchema] {
            let text = shape.schema(language, "cold.readings").unwrap();
            let schema = parse(language, &text, &[]).unwrap_or_else(|e| panic!("{text}: {e}"));
            let by = ValueSchema::new(language, &schema.text).unwrap();
            for value in &values {
                let written = by.write(value);
                prop_assert!(written.is_ok(), "{value} does not fit {text}: {written:?}");
                let shown = by.show(&written.unwrap()).unwrap();
                prop_assert!(by.write(&shown).is_ok(), "{shown} was shown of {value}, by {text}");
            }
        }
    }

    #[test]
    fn messages_come_back_as_they_were_given(
        room in any::<i32>(), celsius in prop::option::of(-1e3..1e3_f64), alarms in prop::collection::vec("[a-z]{1,4}", 0..3),
        bins in prop::collection::btree_map(any::<i64>(), 0..50_i32, 0..3), open in any::<bool>(), count in any::<u64>(),
    ) {
        let schema = ValueSchema::new(Language::Protobuf, READING).unwrap();
        let mut given = json!({"door": {"open": open, "count": count}});
        if room != 0 { given["room"] = room.into(); }
        if let Some(celsius) = celsius { given["celsius"] = celsius.into(); }
        if !alarms.is_empty() { given["alarms"] = json!(alarms); }
        if !bins.is_empty() { given["bins_by_lot"] = json!(bins); }
        if !open { given["door"].as_object_mut().unwrap().remove("open"); }
        if count == 0 { given["door"].as_object_mut().unwrap().remove("count"); }
        let bytes = schema.write(&given).unwrap();
        prop_assert_eq!(schema.show(&bytes).unwrap(), given.clone());
        // as bytes and as JSON text it is the same value
        prop_assert_eq!(schema.take(&bytes).unwrap(), bytes.clone());
        let text = Bytes::from(given.to_string());
        prop_assert_eq!(schema.show(&schema.take(&text).unwrap()).unwrap(), given);
        // a part of it is refused or is another value: never a fault of the reader's
        for end in 0..bytes.len() {
            let _ = schema.take(&bytes.slice(..end));
        }
    }
}

const READING: &str = "syntax = \"proto3\"; message Reading { int32 room = 1; optional double celsius = 2;
    repeated string alarms = 3; map<int64, int32> bins_by_lot = 4; Door door = 5; }
    message Door { bool open = 1; uint64 count = 2; }";

#[test]
fn what_does_not_fit_is_said_with_its_place_in_every_language() {
    let avro = r#"{"type":"record","name":"R","fields":[{"name":"door","type":{"type":"record","name":"D","fields":[{"name":"open","type":"boolean"}]}}]}"#;
    let json_schema = r#"{"properties":{"door":{"properties":{"open":{"type":"boolean"}},"required":["open"]}}}"#;
    let required = "message R { optional D door = 1; } message D { required bool open = 1; }";
    let text = |text: &str| Bytes::from(text.to_owned());
    let bytes = Bytes::copy_from_slice;
    let cases = [
        (Language::Avro, avro, text(r#"{"door":{"open":1}}"#), "at $.door.open: found 1"),
        (Language::Avro, avro, text(r#"{"door":{}}"#), "at $.door.open: the field is missing"),
        (Language::Avro, avro, text("{"), "neither a value in Avro single-object encoding of this schema nor JSON"),
        (Language::JsonSchema, json_schema, text(r#"{"door":{"open":1}}"#), "at $.door.open: 1 is not of type"),
        (Language::JsonSchema, json_schema, text(r#"{"door":{}}"#), "at $.door: \"open\" is a required property"),
        (Language::JsonSchema, json_schema, text("{"), "neither JSON of this schema nor JSON text"),
        (Language::Protobuf, READING, text(r#"{"door":{"ajar":true}}"#), "ajar"),
        // what stands within a message is looked at as well: door { 9: 1 }
        (Language::Protobuf, READING, bytes(&[0x2a, 2, 0x48, 1]), "at $.door: the message Door has no field of number 9"),
        (Language::Protobuf, required, bytes(&[0x0a, 0]), "at $.door: the required field open is missing"),
        (Language::Protobuf, READING, bytes(&[0x0a, 9, 1]), "failed to decode"),
    ];
    for (language, schema, value, expected) in cases {
        let found = ValueSchema::new(language, schema).unwrap().take(&value).unwrap_err();
        assert!(found.contains(expected), "{expected}: {found}");
        // a record that names no schema is read by a draft in the same way
        assert!(read_plain(&parse(language, schema, &[]).unwrap().parsed, &value).is_err(), "{expected}");
    }
    // an earlier value by a later version: by the words of the version it was written with
    let earlier = ValueSchema::new(Language::Avro, avro).unwrap();
    let value = earlier.write(&json!({"door": {"open": true}})).unwrap();
    let later = parse(Language::Avro, &avro.replace("boolean", "string"), &[]).unwrap().parsed;
    let found = earlier.read_by(&later, &value).unwrap_err();
    assert_eq!(found, "at $.door.open: the value is boolean, string is expected");
    assert!(earlier.read_by(&parse(Language::Protobuf, READING, &[]).unwrap().parsed, &value).is_err());
}
