//! What is said of a change between two versions: in words, what it breaks, by which rule, and what would make it pass.

use gonvel_core::schemas::json_schema::JsonSchema;
use gonvel_core::schemas::{self, Half, Language, Parsed, Reference, Rule, breaches, differences, misfits};
use serde_json::json;

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
    assert_eq!(found(Half::Latest, Half::Off), [("reads_past", 3)]);
    assert_eq!(found(Half::All, Half::All), [("reads_past", 3)]);
    let text = bin(r#",{"name":"room","type":"string"}"#);
    let all = breaches(Rule { reads_past: Half::All, past_reads: Half::All }, &parsed(Language::Avro, &text), &earlier);
    let halves: Vec<(&str, i32)> = all.iter().map(|b| (b.half, b.version)).collect();
    assert_eq!(halves, [("reads_past", 1), ("reads_past", 2), ("reads_past", 3), ("past_reads", 2), ("past_reads", 3)]);
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
    let taken = ["A", "C"].map(|grade| found.holds(&json!({"grade": grade})));
    assert_eq!(taken, [Some(true), Some(false)]);
    let any = JsonSchema::parse(r#"{"properties":{"grade":{"type":"string"}}}"#).unwrap();
    assert!(misfits(&Parsed::JsonSchema(any.clone()), &Parsed::JsonSchema(found.clone())).is_empty());
    assert_eq!(misfits(&Parsed::JsonSchema(found), &Parsed::JsonSchema(any))[0].path, "$.grade");
}

#[test]
fn what_can_be_read_by_the_letter_and_means_another_value_says_both() {
    let of =
        |ty: &str, logical: &str| bin(&format!(r#",{{"name":"at","type":{{"type":"{ty}","logicalType":"{logical}"}}}}"#));
    let decimal = bin(r#","#)
        .replace(r#",]"#, r#",{"name":"at","type":{"type":"bytes","logicalType":"decimal","precision":7,"scale":1}}]"#);
    let text = bin(r#",{"name":"at","type":"string"}"#);
    for (reader, writer) in [
        (of("long", "timestamp-micros"), of("int", "date")),
        (of("long", "time-micros"), of("int", "time-millis")),
        (decimal.clone(), text.clone()),
        (text, decimal),
    ] {
        let found = misfits(&parsed(Language::Avro, &reader), &parsed(Language::Avro, &writer));
        let [one] = &found[..] else { panic!("{reader} {writer}: {found:?}") };
        assert!(one.finding.contains("by the letter it can be read") && one.path == "$.at", "{one:?}");
    }
    // a number of its own stays one
    let plain = bin(r#",{"name":"at","type":"long"}"#);
    assert_eq!(misfits(&parsed(Language::Avro, &plain), &parsed(Language::Avro, &of("int", "date"))), []);
}

#[test]
fn a_group_is_no_message_and_a_closed_enum_takes_no_other_number() {
    let message = |field: &str| {
        let text = format!(
            "syntax = \"proto2\"; message Bin {{ {field} }} enum Grade {{ FIRST = 0; SECOND = 1; }} message Inner {{ optional int32 a = 1; }}"
        );
        parsed(Language::Protobuf, &text)
    };
    let found = |reader: &str, writer: &str| misfits(&message(reader), &message(writer));
    let group = "optional group Part = 1 { optional int32 a = 1; }";
    for (reader, writer) in [("optional Inner part = 1;", group), (group, "optional Inner part = 1;")] {
        assert_eq!(found(reader, writer)[0].rule, "a field's number keeps its type");
    }
    assert_eq!(found(group, group), []);
    let closed = found("optional Grade grade = 1;", "optional int32 grade = 1;");
    assert!(closed[0].finding.contains("numbers that Grade does not know"), "{closed:?}");
    assert_eq!(found("optional int32 grade = 1;", "optional Grade grade = 1;"), []);
}
