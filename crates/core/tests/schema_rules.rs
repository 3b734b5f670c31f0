//! What is said of a change between two versions: in words, what it breaks, by which rule, and what would make it pass.
#![allow(clippy::unwrap_used, reason = "what fails here fails the test")]

use gonvel_core::schemas::json_schema::JsonSchema;
use gonvel_core::schemas::{self, Half, Language, Parsed, Reference, Rule, breaches, differences, misfits};
use proptest::prelude::*;
use serde_json::{Value as Json, json};

fn parsed(language: Language, text: &str) -> Parsed {
    schemas::parse(language, text, &[]).unwrap_or_else(|e| panic!("{text}: {e}")).parsed
}

/// Every change in a line: its path, its words, what it breaks.
fn said(language: Language, earlier: &str, later: &str) -> Vec<String> {
    let found = differences(&parsed(language, earlier), &parsed(language, later));
    let line = |d: &schemas::Difference| {
        let breaks = d.breaks().map(|b| format!(": {b}")).unwrap_or_default();
        format!("{} {}{breaks}", d.change.path, d.change.words)
    };
    found.iter().map(line).collect()
}

fn bin(fields: &str) -> String {
    format!(r#"{{"type":"record","name":"Bin","fields":[{{"name":"id","type":"long"}}{fields}]}}"#)
}

#[test]
fn a_change_of_an_avro_schema_is_told_with_what_it_breaks() {
    let weight = |ty: &str| bin(&format!(r#",{{"name":"weight_kg","type":{ty}}}"#));
    let decimal = |p: u32, s: u32| format!(r#"{{"type":"bytes","logicalType":"decimal","precision":{p},"scale":{s}}}"#);
    let grade = |symbols: &str| {
        bin(&format!(r#",{{"name":"grade","type":{{"type":"enum","name":"Grade","symbols":[{symbols}]}}}}"#))
    };
    let cases = [
        (
            weight("\"int\""),
            weight(&decimal(7, 1)),
            "$.weight_kg changed from int to decimal(7,1): neither side can read the other",
        ),
        (
            weight(&format!("[\"null\",{},\"string\"]", decimal(7, 1))),
            weight(&format!("[\"null\",{},\"string\"]", decimal(7, 2))),
            "$.weight_kg changed from decimal(7,1) to decimal(7,2): neither side can read the other",
        ),
        (weight("\"int\""), weight("\"long\""), "$.weight_kg changed from int to long: earlier readers cannot read it"),
        (weight("\"long\""), weight("\"int\""), "$.weight_kg changed from long to int: earlier data cannot be read by it"),
        (
            weight(&decimal(7, 1)),
            weight(&decimal(9, 1)),
            "$.weight_kg changed from decimal(7,1) to decimal(9,1): earlier readers cannot read it",
        ),
        (
            weight(&decimal(7, 1)),
            weight(&decimal(7, 2)),
            "$.weight_kg changed from decimal(7,1) to decimal(7,2): neither side can read the other",
        ),
        (bin(""), weight("\"int\""), "$.weight_kg was added: int, without a default: earlier data cannot be read by it"),
        (
            bin(""),
            bin(r#",{"name":"remark","type":["null","string"],"default":null}"#),
            "$.remark was added: null or string, default null",
        ),
        (weight("\"int\""), bin(""), "$.weight_kg was removed (int): earlier readers cannot read it"),
        (weight("\"int\""), weight(r#"["null","int"]"#), "$.weight_kg became optional: earlier readers cannot read it"),
        (
            weight(r#"["null","int"]"#),
            weight("\"int\""),
            "$.weight_kg is no longer optional: earlier data cannot be read by it",
        ),
        (grade(r#""A""#), grade(r#""A","B""#), "$.grade the symbol B was added: earlier readers cannot read it"),
        (
            weight("\"int\""),
            bin(r#",{"name":"mass_kg","type":"int","aliases":["weight_kg"]}"#),
            "$.mass_kg was called weight_kg",
        ),
    ];
    for (earlier, later, expected) in cases {
        assert!(
            said(Language::Avro, &earlier, &later).contains(&expected.to_owned()),
            "{expected}\n{:#?}",
            said(Language::Avro, &earlier, &later)
        );
    }
    // a rename by alias breaks who knows only the old name
    let renamed =
        said(Language::Avro, &weight("\"int\""), &bin(r#",{"name":"mass_kg","type":"int","aliases":["weight_kg"]}"#));
    assert!(
        renamed.iter().any(|line| line.starts_with("$.weight_kg") && line.ends_with("earlier readers cannot read it")),
        "{renamed:#?}"
    );
}

#[test]
fn a_rule_looks_at_as_many_versions_as_it_says_and_names_path_rule_and_remedy() {
    let versions =
        [bin(""), bin(r#",{"name":"room","type":"int","default":0}"#), bin(r#",{"name":"room","type":"long","default":0}"#)];
    let versions: Vec<Parsed> = versions.iter().map(|text| parsed(Language::Avro, text)).collect();
    let earlier: Vec<(i32, &Parsed)> = (1..).zip(&versions).collect();
    let new = parsed(Language::Avro, &bin(r#",{"name":"room","type":"int","default":0}"#));
    let found = |reads_past, past_reads| -> Vec<(&str, i32)> {
        breaches(Rule { reads_past, past_reads }, &new, &earlier).iter().map(|b| (b.half, b.version)).collect()
    };
    assert_eq!(found(Half::Off, Half::Off), []);
    assert_eq!(found(Half::Latest, Half::Off), [("reads-past", 3)]);
    assert_eq!(found(Half::All, Half::All), [("reads-past", 3)]);
    let text = bin(r#",{"name":"room","type":"string"}"#);
    let all = breaches(Rule { reads_past: Half::All, past_reads: Half::All }, &parsed(Language::Avro, &text), &earlier);
    let halves: Vec<(&str, i32)> = all.iter().map(|b| (b.half, b.version)).collect();
    assert_eq!(halves, [("reads-past", 1), ("reads-past", 2), ("reads-past", 3), ("past-reads", 2), ("past-reads", 3)]);
    let first = &all[0].misfits[0];
    assert_eq!((first.path.as_str(), first.remedy.contains("\"default\"")), ("$.room", true), "{first:?}");
    assert!(first.rule.contains("has a default"), "{first:?}");
}

#[test]
fn a_change_of_a_json_schema_is_told_with_what_it_breaks() {
    let room = |inner: &str| format!(r#"{{"type":"object","properties":{{"room":{inner}}},"required":["room"]}}"#);
    let cases = [
        (
            room(r#"{"type":"integer"}"#),
            room(r#"{"type":"number"}"#),
            "$.room changed from integer to number: earlier readers cannot read it",
        ),
        (
            room(r#"{"type":"integer","maximum":60}"#),
            room(r#"{"type":"integer","maximum":40}"#),
            "$.room maximum changed from 60 to 40: earlier data cannot be read by it",
        ),
        (
            room(r#"{"enum":["amber"]}"#),
            room(r#"{"enum":["amber","russet"]}"#),
            "$.room the value \"russet\" was added: earlier readers cannot read it",
        ),
        (
            room("{}"),
            r#"{"type":"object","properties":{"room":{}}}"#.to_owned(),
            "$.room is no longer required: earlier readers cannot read it",
        ),
        (
            room("{}"),
            r#"{"type":"object","properties":{"room":{},"door":{"type":"boolean"}},"required":["room"]}"#.to_owned(),
            "$.door was added: boolean, optional",
        ),
        (
            room("{}"),
            r#"{"type":"object","properties":{"room":{},"door":{"type":"boolean"}},"required":["room","door"]}"#.to_owned(),
            "$.door was added: boolean, required: earlier data cannot be read by it",
        ),
    ];
    for (earlier, later, expected) in cases {
        assert!(
            said(Language::JsonSchema, &earlier, &later).contains(&expected.to_owned()),
            "{expected}\n{:#?}",
            said(Language::JsonSchema, &earlier, &later)
        );
    }
}

#[test]
fn a_change_of_a_protocol_buffers_file_is_told_with_what_it_breaks() {
    let proto3 = |fields: &str| {
        format!("syntax = \"proto3\"; message Reading {{ int32 room = 1; {fields} }} enum Door {{ SHUT = 0; OPEN = 1; }}")
    };
    let cases = [
        (
            proto3("int32 level = 2;"),
            proto3("string level = 2;"),
            "$.level changed from int32 to string: neither side can read the other",
        ),
        (
            proto3("int32 level = 2;"),
            proto3("int64 level = 2;"),
            "$.level changed from int32 to int64: earlier readers cannot read it",
        ),
        (
            proto3("bytes note = 2;"),
            proto3("string note = 2;"),
            "$.note changed from bytes to string: earlier data cannot be read by it",
        ),
        (
            proto3("string note = 2;"),
            proto3("repeated string note = 2;"),
            "$.note changed from string to repeated string: earlier readers cannot read it",
        ),
        (proto3("string note = 2;"), proto3("string remark = 2;"), "$.remark was called note"),
        (proto3("string note = 2;"), proto3("reserved 2;"), "$.note was removed (string); its number is reserved"),
        (
            proto3("string note = 2;"),
            proto3(""),
            "$.note was removed (string); its number is not reserved and may be taken again by mistake",
        ),
        (
            proto3("map<string, int32> m = 2;"),
            proto3("map<string, string> m = 2;"),
            "$.m changed from map<string, int32> to map<string, string>: neither side can read the other",
        ),
        (
            proto3("string a = 2; string b = 3;"),
            proto3("oneof c { string a = 2; string b = 3; }"),
            "$.a became one of the choice c",
        ),
    ];
    for (earlier, later, expected) in cases {
        let lines = said(Language::Protobuf, &earlier, &later);
        assert!(lines.iter().any(|l| l == expected), "{expected}\n{lines:#?}");
    }
    let required = ["message M { optional int32 a = 1; }", "message M { required int32 a = 1; }"];
    assert_eq!(
        said(Language::Protobuf, required[0], required[1]),
        ["$.a became required: earlier data cannot be read by it"]
    );
    let closed = [
        "message M { optional D d = 1; } enum D { SHUT = 0; }",
        "message M { optional D d = 1; } enum D { SHUT = 0; OPEN = 1; }",
    ];
    assert_eq!(
        said(Language::Protobuf, closed[0], closed[1]),
        ["$.d the value OPEN was added: earlier readers cannot read it"]
    );
}

#[test]
fn references_bring_the_types_of_other_schemas() {
    let lot = Reference {
        name: "lot.proto".into(),
        text: "syntax = \"proto3\"; package averling; message Lot { int32 number = 1; }".into(),
    };
    let text = "syntax = \"proto3\";\nimport \"lot.proto\";\nmessage Offer { averling.Lot lot = 1; }";
    let fault = schemas::parse(Language::Protobuf, text, &[]).unwrap_err();
    assert_eq!((fault.line, fault.finding.contains("lot.proto")), (2, true), "{fault}");
    let found = schemas::parse(Language::Protobuf, text, std::slice::from_ref(&lot)).unwrap();
    let again = schemas::parse_standalone(Language::Protobuf, &found.text).unwrap();
    assert!(misfits(&again, &found.parsed).is_empty());
    assert_eq!(schemas::field_paths(&again), ["lot.number", "lot"]);

    let grade = Reference { name: "grade".into(), text: r#"{"enum":["A","B"]}"#.into() };
    let text = r#"{"properties":{"grade":{"$ref":"grade"}}}"#;
    assert!(schemas::parse(Language::JsonSchema, text, &[]).is_err());
    let Parsed::JsonSchema(found) = schemas::parse(Language::JsonSchema, text, &[grade]).unwrap().parsed else { panic!() };
    assert!(found.is_valid(&json!({"grade": "A"})) && !found.is_valid(&json!({"grade": "C"})));
    let any = JsonSchema::parse(r#"{"properties":{"grade":{"type":"string"}}}"#).unwrap();
    assert!(misfits(&Parsed::JsonSchema(any.clone()), &Parsed::JsonSchema(found.clone())).is_empty());
    assert_eq!(misfits(&Parsed::JsonSchema(found), &Parsed::JsonSchema(any))[0].path, "$.grade");
}

/// Schemas that say everything of the objects they let through.
fn closed_schema(depth: u32) -> BoxedStrategy<Json> {
    let number = (prop::option::of(-3..6_i64), prop::option::of(-3..6_i64), any::<bool>(), prop::option::of(1..4_i64));
    let number = number.prop_map(|(low, high, whole, step)| {
        let mut out = json!({"type": if whole { "integer" } else { "number" }});
        for (key, value) in [("minimum", low), ("exclusiveMaximum", high), ("multipleOf", step)] {
            if let Some(value) = value {
                out[key] = value.into();
            }
        }
        out
    });
    let text = (prop::option::of(0..3_u64), prop::option::of(0..4_u64)).prop_map(|(least, most)| {
        let mut out = json!({"type": "string"});
        for (key, value) in [("minLength", least), ("maxLength", most)] {
            if let Some(value) = value {
                out[key] = value.into();
            }
        }
        out
    });
    let listed = prop::collection::vec(value(0), 1..4).prop_map(|values| json!({"enum": values}));
    let leaf = prop_oneof![
        number,
        text,
        listed,
        Just(json!(true)),
        Just(json!({"type": ["null", "boolean"]})),
        Just(json!({"const": 2}))
    ];
    if depth == 0 {
        return leaf.boxed();
    }
    let inner = closed_schema(depth - 1);
    let object = (prop::collection::btree_map("[ab]", inner.clone(), 0..3), any::<u8>(), prop::option::of(inner.clone()));
    let object = object.prop_map(|(props, which, more)| {
        let required: Vec<&String> = props.keys().enumerate().filter(|(n, _)| which >> n & 1 == 1).map(|(_, k)| k).collect();
        json!({"type": "object", "properties": props, "required": required, "additionalProperties": more.unwrap_or(json!(false))})
    });
    let list =
        (prop::collection::vec(inner.clone(), 0..2), inner.clone(), prop::option::of(0..3_u64), prop::option::of(0..3_u64));
    let list = list.prop_map(|(front, rest, least, most)| {
        let mut out = json!({"type": "array", "items": rest});
        if !front.is_empty() {
            out["prefixItems"] = front.into();
        }
        for (key, value) in [("minItems", least), ("maxItems", most)] {
            if let Some(value) = value {
                out[key] = value.into();
            }
        }
        out
    });
    let several =
        |key: &'static str| prop::collection::vec(closed_schema(depth - 1), 1..3).prop_map(move |b| json!({key: b}));
    prop_oneof![3 => leaf, 3 => object, 2 => list, 1 => several("anyOf"), 1 => several("oneOf"), 1 => several("allOf")]
        .boxed()
}

fn value(depth: u32) -> BoxedStrategy<Json> {
    let leaf = prop_oneof![
        Just(Json::Null),
        any::<bool>().prop_map(Json::from),
        (-4..7_i64).prop_map(Json::from),
        (-4..7_i64).prop_map(|n| json!(n as f64 / 2.0)),
        "[xy]{0,4}".prop_map(Json::from),
    ];
    if depth == 0 {
        return leaf.boxed();
    }
    let inner = value(depth - 1);
    prop_oneof![
        2 => leaf,
        2 => prop::collection::btree_map("[abc]", inner.clone(), 0..3).prop_map(|m| json!(m)),
        1 => prop::collection::vec(inner, 0..4).prop_map(Json::from),
    ]
    .boxed()
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(800))]

    /// A comparison that finds nothing promises that everything fits: no value may show otherwise.
    #[test]
    fn what_a_json_schema_is_said_to_read_it_lets_through(
        reader in closed_schema(2), writer in closed_schema(2), same in any::<bool>(), values in prop::collection::vec(value(2), 60),
    ) {
        // two of one origin are more often alike
        let reader = if same { widened(&writer) } else { reader };
        let (reader, writer) = (JsonSchema::parse(&reader.to_string()).unwrap(), JsonSchema::parse(&writer.to_string()).unwrap());
        if schemas::json_schema::misfits(&reader, &writer).is_empty() {
            for value in values.iter().filter(|v| writer.is_valid(v)) {
                prop_assert!(reader.is_valid(value), "{value} passes {} and not {}", writer.root(), reader.root());
            }
        }
        prop_assert!(schemas::json_schema::misfits(&writer, &writer).is_empty(), "{} reads itself", writer.root());
    }
}

/// The same with some bounds taken out or moved.
fn widened(schema: &Json) -> Json {
    let mut out = schema.clone();
    if let Json::Object(object) = &mut out {
        object.shift_remove("minimum");
        object.shift_remove("minLength");
        if let Some(most) = object.get("maxItems").and_then(Json::as_u64) {
            object.insert("maxItems".into(), (most + 1).into());
        }
        for (key, inner) in object.iter_mut().filter(|(key, _)| !matches!(key.as_str(), "enum" | "const" | "required")) {
            match inner {
                Json::Object(properties) if key == "properties" => properties.values_mut().for_each(|p| *p = widened(p)),
                Json::Object(_) => *inner = widened(inner),
                Json::Array(items) => items.iter_mut().for_each(|i| *i = widened(i)),
                _ => {}
            }
        }
    }
    out
}
