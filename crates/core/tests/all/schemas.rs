//! Schemas against independent implementations: verdicts, fingerprints, values, and the public test suite of JSON Schema.

use apache_avro::reader::datum::GenericDatumReader;
use apache_avro::writer::datum::GenericDatumWriter;
use gonvel_core::avro::binary::Reader;
use gonvel_core::avro::fingerprint::{canonical_form, fingerprint, sha256};
use gonvel_core::avro::resolution::misfits;
use gonvel_core::avro::resolving::Resolver;
use gonvel_core::avro::schema::Schema;
use gonvel_core::avro::{from_json, json};
use gonvel_core::schemas::values::ValueSchema;
use gonvel_core::schemas::{self, Language};
use proptest::prelude::*;
use serde_json::Value as Json;

fn unpacked(packed: &[u8]) -> String {
    String::from_utf8(zstd::decode_all(packed).unwrap()).unwrap()
}

/// The pairs of `data/avro_pairs.py`.
fn pairs() -> Vec<(Json, Json, bool, bool)> {
    let text = unpacked(include_bytes!("data/avro_pairs.jsonl.zst"));
    text.lines().map(|line| serde_json::from_str(line).unwrap()).collect()
}

#[test]
fn verdicts_agree_with_those_of_an_independent_library() {
    let pairs = pairs();
    assert!(pairs.len() >= 2_000);
    let mut wrong = Vec::new();
    for (first, second, first_reads, second_reads) in pairs {
        let (a, b) = (Schema::parse(&first.to_string()), Schema::parse(&second.to_string()));
        let (Ok(a), Ok(b)) = (&a, &b) else {
            wrong.push(format!("not taken: {first} {second}: {:?} {:?}", a.err(), b.err()));
            continue;
        };
        for (reader, writer, expected) in [(a, b, first_reads), (b, a, second_reads)] {
            let found = misfits(reader, writer);
            // beyond the letter, and said so
            let by_meaning = found.iter().all(|misfit| misfit.finding.contains("by the letter it can be read"));
            if found.is_empty() != expected && !(expected && by_meaning) {
                wrong.push(format!("{first}\n{second}\n expected {expected}, found {found:?}"));
            }
        }
    }
    assert!(
        wrong.is_empty(),
        "{} of them:\n{}",
        wrong.len(),
        wrong.iter().take(5).cloned().collect::<Vec<_>>().join("\n\n")
    );
}

/// Random values of a schema, as JSON for people.
fn value_of(schema: &Schema, random: &mut impl Iterator<Item = u32>, depth: u32) -> Json {
    let mut next = || random.next().unwrap_or(0);
    match schema {
        Schema::Null | Schema::Recursive(_) => Json::Null,
        Schema::Boolean => (next() % 2 == 0).into(),
        Schema::Int(_) => next().cast_signed().into(),
        Schema::Long(_) => (i64::from(next()) * 7_000_000_019 - (1 << 60)).into(),
        Schema::Float | Schema::Double => (f64::from(next() % 1000) / 8.0).into(),
        Schema::Bytes(_) => format!("\\x{:02x}{:02x}", next() % 256, next() % 256).into(),
        Schema::String(_) => ["", "russet", "ü→x"][next() as usize % 3].into(),
        Schema::Fixed { size, .. } => (0..*size).fold("\\x".to_owned(), |t, _| format!("{t}{:02x}", next() % 256)).into(),
        Schema::Enum { symbols, .. } => symbols[next() as usize % symbols.len()].as_str().into(),
        Schema::Array(inner) => {
            let count = if depth > 3 { 0 } else { next() % 3 };
            (0..count).map(|_| value_of(inner, random, depth + 1)).collect::<Vec<_>>().into()
        }
        Schema::Map(inner) => {
            let count = if depth > 3 { 0 } else { next() % 3 };
            let items: serde_json::Map<_, _> =
                (0..count).map(|n| (format!("k{n}"), value_of(inner, random, depth + 1))).collect();
            items.into()
        }
        Schema::Union(branches) => {
            let branch = &branches[next() as usize % branches.len()];
            value_of(branch, random, depth + 1)
        }
        Schema::Record { fields, .. } => {
            let fields: serde_json::Map<_, _> =
                fields.iter().map(|f| (f.name.clone(), value_of(&f.schema, random, depth + 1))).collect();
            fields.into()
        }
    }
}

fn numbers(seed: u32) -> impl Iterator<Item = u32> {
    std::iter::successors(Some(seed.wrapping_mul(2_654_435_761) | 1), |n| {
        Some(n.wrapping_mul(1_664_525).wrapping_add(1_013_904_223))
    })
    .map(|n| n >> 7)
}

/// What a null says of a list of nothing but nulls cannot be told from damage here, so such values are left out.
fn has_list_of_nulls(schema: &Schema) -> bool {
    match schema {
        Schema::Array(inner) | Schema::Map(inner) => **inner == Schema::Null || has_list_of_nulls(inner),
        Schema::Union(branches) => branches.iter().any(has_list_of_nulls),
        Schema::Record { fields, .. } => fields.iter().any(|f| has_list_of_nulls(&f.schema)),
        _ => false,
    }
}

#[test]
fn what_is_said_to_be_readable_is_read_and_values_pass_to_another_library_and_back() {
    let (mut read, mut passed) = (0, 0);
    for (number, (first, second, first_reads, second_reads)) in pairs().into_iter().enumerate() {
        let (a, b) = (Schema::parse(&first.to_string()).unwrap(), Schema::parse(&second.to_string()).unwrap());
        let seed = u32::try_from(number).unwrap();
        for (reader, writer, text, reads) in [(&a, &b, &second, first_reads), (&b, &a, &first, second_reads)] {
            if has_list_of_nulls(writer) {
                continue;
            }
            let value = value_of(writer, &mut numbers(seed), 0);
            let mut bytes = Vec::new();
            from_json::write(writer, &value, &mut bytes).unwrap();
            if reads {
                let mut from = Reader::new(&bytes);
                let found = Resolver::new(reader, writer).read(&mut from);
                // bytes read as text need not be text
                let text_of_bytes = found.as_ref().is_err_and(|e| e.to_string().contains("UTF-8"));
                assert!(found.is_ok() || text_of_bytes, "{first}\n{second}\n{value}: {found:?}");
                if found.is_ok() {
                    assert_eq!(from.remaining(), 0, "{text}");
                    read += 1;
                }
            }
            let Ok(theirs) = apache_avro::Schema::parse_str(&text.to_string()) else { continue };
            let decoded = GenericDatumReader::builder(&theirs).build().unwrap().read_value(&mut bytes.as_slice()).unwrap();
            // its own check before writing knows no enum within an enum's default and the like
            let writer_of_theirs = GenericDatumWriter::builder(&theirs).validate(false).build().unwrap();
            let encoded = writer_of_theirs.write_value_to_vec(decoded).unwrap();
            let back = json::read(writer, &mut Reader::new(&encoded)).unwrap();
            assert_eq!(back, json::read(writer, &mut Reader::new(&bytes)).unwrap(), "{text}");
            passed += 1;
        }
    }
    assert!(read > 1_200 && passed > 3_500, "{read} read, {passed} passed");
}

#[test]
fn fingerprints_are_those_of_the_specification_and_of_another_library() {
    // known ones of the primitive types
    assert_eq!(fingerprint("\"null\"").unwrap(), 0x63dd_24e7_cc25_8f8a);
    assert_eq!(fingerprint("\"int\"").unwrap(), 0x7275_d51a_3f39_5c8f);
    assert_eq!(fingerprint("\"string\"").unwrap(), 0x8f01_4872_6345_03c7);
    assert_eq!(sha256(true, "{\"type\":\"int\"}"), "3f2b87a9fe7cc9b13835598c3981cd45e3e355309e5090aa0933d7becb6fba45");
    for (first, ..) in pairs().into_iter().take(600) {
        let text = first.to_string();
        let Ok(theirs) = apache_avro::Schema::parse_str(&text) else { continue };
        assert_eq!(canonical_form(&text).unwrap(), theirs.canonical_form());
        assert_eq!(
            fingerprint(&text).unwrap().to_le_bytes().to_vec(),
            theirs.fingerprint::<apache_avro::rabin::Rabin>().bytes
        );
    }
}

#[derive(serde::Deserialize)]
struct Case {
    draft: String,
    about: String,
    schema: Json,
    tests: Vec<Tried>,
}

#[derive(serde::Deserialize)]
struct Tried {
    description: String,
    data: Json,
    valid: bool,
}

#[test]
fn the_public_test_suite_of_json_schema_passes_through_what_an_append_is_checked_by() {
    let cases: Vec<Case> = serde_json::from_str(&unpacked(include_bytes!("data/json_schema_suite.json.zst"))).unwrap();
    let (mut passed, mut elsewhere, mut wrong) = (0, 0, Vec::new());
    for mut case in cases {
        if case.draft == "draft7" && case.schema.is_object() && case.schema.get("$schema").is_none() {
            case.schema["$schema"] = "http://json-schema.org/draft-07/schema#".into();
        }
        let schema = match ValueSchema::new(Language::JsonSchema, &case.schema.to_string()) {
            Ok(schema) => schema,
            // what has to be fetched, or is written in a dialect of its own, is refused with its place
            Err(fault) => {
                let text = case.schema.to_string();
                assert!(text.contains("localhost:1234") || text.contains("\"$schema\""), "{}: {fault}", case.about);
                elsewhere += 1;
                continue;
            }
        };
        for tried in case.tests {
            let fits = schema.take(&tried.data.to_string().into()).is_ok();
            if fits == tried.valid {
                passed += 1;
            } else {
                wrong.push(format!("{} {}, {}", case.draft, case.about, tried.description));
            }
        }
    }
    assert!(wrong.is_empty(), "{} of them: {:#?}", wrong.len(), wrong.iter().take(20).collect::<Vec<_>>());
    assert!(passed > 2_000 && elsewhere < 60, "{passed} passed, {elsewhere} need what is elsewhere");
}

#[test]
fn every_misfit_of_a_pair_stands_at_a_change_that_is_told() {
    for (first, second, first_reads, second_reads) in pairs() {
        let parsed = |json: &Json| schemas::parse(Language::Avro, &json.to_string(), &[]).unwrap().parsed;
        let (a, b) = (parsed(&first), parsed(&second));
        let found = schemas::differences(&a, &b);
        let (past, reads) = (schemas::misfits(&a, &b).len(), schemas::misfits(&b, &a).len());
        assert!((past > 0 || first_reads) && (reads > 0 || second_reads), "{first}\n{second}");
        let told = |half: fn(&schemas::Difference) -> usize| found.iter().map(half).sum::<usize>();
        assert_eq!((told(|d| d.past_reads.len()), told(|d| d.reads_past.len())), (past, reads), "{first}\n{second}");
        assert!(found.iter().all(|d| !d.change.words.is_empty() && d.change.path.starts_with('$')));
        assert_eq!(schemas::differences(&a, &a), []);
    }
}

#[test]
fn a_text_that_is_refused_says_where_and_what() {
    let field = |inner: &str| format!("{{\"type\":\"record\",\"name\":\"R\",\n\"fields\":[{inner}]}}");
    let cases = [
        ("{\"type\":\n \"record\"}".to_owned(), 1, "record needs \"name\""),
        ("{\"type\":\"record\",\n\"name\":\"1R\",\"fields\":[]}".to_owned(), 2, "no name"),
        ("{\"type\":\"fixed\",\"name\":\"int\",\"size\":1}".to_owned(), 1, "a type of the specification"),
        ("[\"int\",\n\"int\"]".to_owned(), 2, "int twice"),
        ("[\"int\",\n[\"null\"]]".to_owned(), 2, "a union stands directly in a union"),
        ("[]".to_owned(), 1, "at least one branch"),
        ("{\"type\":\"enum\",\"name\":\"E\",\n\"symbols\":[\"A\",\"A\"]}".to_owned(), 2, "comes twice"),
        ("{\"type\":\"enum\",\"name\":\"E\",\"symbols\":[\"A\"],\n\"default\":\"B\"}".to_owned(), 2, "none of the symbols"),
        ("{\"type\":\"fixed\",\"name\":\"F\"}".to_owned(), 1, "a number of bytes"),
        ("{\"type\":\"array\"}".to_owned(), 1, "needs \"items\""),
        ("7".to_owned(), 1, "a name, an object or a list"),
        ("\"Lot\"".to_owned(), 1, "there is no type Lot"),
        (field("{\"name\":\"a\"}"), 2, "needs \"type\""),
        (field("{\"type\":\"int\"}"), 2, "needs \"name\""),
        (field("{\"name\":\"a-b\",\"type\":\"int\"}"), 2, "no name"),
        (field("{\"name\":\"a\",\"type\":\"int\"},\n{\"name\":\"a\",\"type\":\"int\"}"), 3, "the field a comes twice"),
        (field("{\"name\":\"a\",\"type\":\"int\",\n\"default\":\"x\"}"), 3, "the default of a: \"x\" stands where"),
        (field("{\"name\":\"a\",\"type\":\"int\",\n\"order\":\"up\"}"), 3, "none of ascending"),
        (field("{\"name\":\"a\",\"type\":\"int\",\n\"aliases\":[\"b c\"]}"), 3, "is no name"),
        (field("{\"name\":\"a\",\"type\":\"bytes\",\n\"default\":\"€\"}"), 3, "code points up to 255"),
        (field("{\"name\":\"a\",\"type\":[\"null\",\"int\"],\n\"default\":true}"), 3, "one of the union's branches"),
    ];
    for (text, line, expected) in cases {
        let fault = schemas::parse(Language::Avro, &text, &[]).map(|_| ()).unwrap_err();
        assert!(fault.line == line && fault.finding.contains(expected), "{expected} in line {line}: {fault}");
    }
    let others = [
        (Language::JsonSchema, "{\n \"type\": 3\n}", 2, "3"),
        (Language::JsonSchema, "{\n \"properties\": {\n  \"a\": {\"minimum\": \"x\"}}}", 3, "x"),
        (Language::JsonSchema, "{\n \"$schema\": \"http://json-schema.org/draft-04/schema#\"}", 2, "neither draft"),
        (Language::JsonSchema, "3", 1, "an object, true or false"),
        (Language::JsonSchema, "{\n \"pattern\": \"(\"}", 2, "regex"),
        (Language::Protobuf, "syntax = \"proto3\";\nmessage M { int32 a = 1;\n string a = 2; }", 3, "a"),
        (Language::Protobuf, "syntax = \"proto3\";\nmessage M {\n Lot a = 1; }", 3, "Lot"),
        (Language::Protobuf, "syntax = \"proto3\";\nmessage M {\n int32 = 1; }", 3, "expected"),
        (Language::Protobuf, "syntax = \"proto3\";", 1, "no message"),
    ];
    for (language, text, line, expected) in others {
        let fault = schemas::parse(language, text, &[]).map(|_| ()).unwrap_err();
        assert!(fault.line == line && fault.finding.contains(expected), "{expected} in line {line}: {fault}");
    }
}

#[test]
fn long_chains_of_types_are_walked_without_going_too_deep() {
    // as a thread that answers requests has it
    let walk = || {
        let chain: String = (1..2_000).map(|n| format!("message M{n} {{ M{} m = 1; }}\n", n - 1)).collect();
        for kind in ["int32", "string"] {
            let text = |kind: &str| {
                format!("syntax = \"proto3\";\nmessage A {{ M1999 m = 1; }}\nmessage M0 {{ {kind} a = 1; }}\n{chain}")
            };
            let (a, b) = (
                schemas::parse(Language::Protobuf, &text("int32"), &[]),
                schemas::parse(Language::Protobuf, &text(kind), &[]),
            );
            let (a, b) = (a.unwrap().parsed, b.unwrap().parsed);
            // what is not looked at is not promised
            assert!(schemas::misfits(&a, &b)[0].finding.contains("nest deeper"));
            assert!(schemas::field_paths(&a).len() < 200 && !schemas::differences(&a, &b).is_empty());
        }
        let records: Vec<String> = (0..300)
            .map(|n| {
                let inner = if n == 0 { "\"int\"".to_owned() } else { format!("\"R{}\"", n - 1) };
                format!(r#"{{"type":"record","name":"R{n}","fields":[{{"name":"a","type":{inner}}}]}}"#)
            })
            .collect();
        let parsed = schemas::parse(Language::Avro, &format!("[{}]", records.join(",")), &[]).unwrap().parsed;
        assert_eq!(schemas::misfits(&parsed, &parsed), []);
        assert!(schemas::differences(&parsed, &parsed).is_empty() && !schemas::field_paths(&parsed).is_empty());
        let defs: Vec<String> =
            (0..1_000).map(|n| format!("\"d{n}\":{{\"items\":{{\"$ref\":\"#/$defs/d{}\"}}}}", n + 1)).collect();
        let text = |end: &str| format!("{{\"$ref\":\"#/$defs/d0\",\"$defs\":{{{},\"d1000\":{end}}}}}", defs.join(","));
        let (a, b) = (text("{\"type\":\"string\"}"), text("{}"));
        let (a, b) =
            (schemas::parse(Language::JsonSchema, &a, &[]).unwrap(), schemas::parse(Language::JsonSchema, &b, &[]).unwrap());
        assert!(schemas::misfits(&a.parsed, &b.parsed)[0].finding.contains("too entangled"));
    };
    std::thread::Builder::new().stack_size(2 << 20).spawn(walk).unwrap().join().unwrap();
}

const LANGUAGES: [Language; 3] = [Language::Avro, Language::JsonSchema, Language::Protobuf];

#[test]
fn recursive_deep_and_huge_schemas_get_a_clear_answer() {
    let nested = |open: &str, close: &str, n: usize| format!("{}\"int\"{}", open.repeat(n), close.repeat(n));
    let doubling =
        (1..40).fold(r#"{"type":"record","name":"R0","fields":[{"name":"x","type":"int"}]}"#.to_owned(), |inner, n| {
            format!(
                r#"{{"type":"record","name":"R{n}","fields":[{{"name":"a","type":{inner}}},{{"name":"b","type":"R{}"}}]}}"#,
                n - 1
            )
        });
    let messages = format!("syntax = \"proto3\"; {}{}", "message M { ".repeat(4_000), "}".repeat(4_000));
    let cases = [
        (Language::Avro, nested(r#"{"type":"array","items":"#, "}", 10_000), "JSON: recursion limit"),
        (Language::Avro, nested(r#"{"type":"array","items":"#, "}", 65), "nests deeper than 64"),
        (Language::Avro, doubling, "unfolds to more than 100000"),
        (Language::Avro, " ".repeat(1 << 20) + "\"int\"", "at most 1048576"),
        (Language::JsonSchema, nested(r#"{"items":"#, "}", 10_000), "JSON: recursion limit"),
        (Language::JsonSchema, r#"{"pattern":"(a{1000}){1000}"}"#.to_owned(), "a{1000}"),
        (Language::JsonSchema, r#"{"$ref":"https://averling.example/lot"}"#.to_owned(), "averling.example"),
        (Language::Protobuf, messages, "nests deeper than 64"),
        (
            Language::Protobuf,
            format!("message M {{ optional string a = 1 [default = \"{}\"]; }}", "x".repeat(1 << 20)),
            "at most 1048576",
        ),
    ];
    for (language, text, expected) in cases {
        let fault = schemas::parse(language, &text, &[]).unwrap_err().to_string();
        assert!(fault.contains(expected), "{expected}: {}", fault.chars().take(300).collect::<String>());
    }
    // a schema that holds itself is taken, and compared with itself
    for (language, text) in [
        (Language::Avro, r#"{"type":"record","name":"N","fields":[{"name":"next","type":["null","N"],"default":null}]}"#),
        (Language::JsonSchema, r##"{"type":"object","properties":{"next":{"$ref":"#"}},"additionalProperties":false}"##),
        (Language::Protobuf, "syntax = \"proto3\"; message N { N next = 1; }"),
    ] {
        let parsed = schemas::parse(language, text, &[]).unwrap().parsed;
        assert!(schemas::misfits(&parsed, &parsed).is_empty() && schemas::differences(&parsed, &parsed).is_empty());
        assert!(schemas::field_paths(&parsed).iter().any(|p| p.ends_with("next")), "{text}");
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(400))]

    /// Texts made of the words of the three languages, in any order.
    #[test]
    fn no_text_brings_the_parsers_down(
        words in prop::collection::vec(prop::sample::select(vec![
            "{", "}", "[", "]", ":", ",", "\"type\"", "\"record\"", "\"fields\"", "\"name\"", "\"a\"", "\"N\"", "\"enum\"", "\"symbols\"",
            "\"fixed\"", "\"size\"", "\"default\"", "\"aliases\"", "\"items\"", "\"$ref\"", "\"#\"", "\"#/$defs/a\"", "\"$defs\"", "\"allOf\"",
            "\"anyOf\"", "\"pattern\"", "\"(\"", "null", "true", "-1", "1e400", "\"\\ud800\"", "syntax", "=", "\"proto2\"", ";", "message", "N",
            "repeated", "int32", "oneof", "map<", ">", "reserved", "to", "max", "extensions", "group", "/*", "//", "\n", "ü",
        ]), 0..40),
        language in prop::sample::select(LANGUAGES.to_vec()),
    ) {
        let text = words.join(" ");
        if let Ok(found) = schemas::parse(language, &text, &[]) {
            let _ = schemas::differences(&found.parsed, &found.parsed);
        }
    }

    /// A good text with something cut out, doubled or exchanged: it parses, or the fault has a line that is there.
    #[test]
    fn faults_stand_at_lines_that_are_there(at in 0..1_000_usize, length in 0..12_usize, put in "[\\x00-\\x7f]{0,4}", which in 0..3_usize) {
        let text = [
            "{\n \"type\": \"record\",\n \"name\": \"Bin\",\n \"fields\": [\n  {\"name\": \"id\", \"type\": \"long\", \"default\": 1},\n  {\"name\": \"grade\", \"type\": {\"type\": \"enum\", \"name\": \"Grade\", \"symbols\": [\"A\", \"B\"]}}\n ]\n}",
            "{\n \"type\": \"object\",\n \"properties\": {\n  \"room\": {\"type\": \"integer\", \"minimum\": 1},\n  \"open\": {\"$ref\": \"#/$defs/yes\"}\n },\n \"$defs\": {\"yes\": {\"type\": \"boolean\"}}\n}",
            "syntax = \"proto3\";\npackage averling;\nmessage Reading {\n  int32 room = 1;\n  optional double celsius = 2;\n  repeated string alarms = 3;\n}\n",
        ][which];
        let start = at % text.len();
        let mut changed = text.to_owned();
        changed.replace_range(start..(start + length).min(text.len()), &put);
        if let Err(fault) = schemas::parse(LANGUAGES[which], &changed, &[]) {
            let lines = changed.split('\n').count();
            prop_assert!(fault.line >= 1 && fault.line <= lines + 1 && fault.column >= 1, "{fault} in {changed:?}");
            prop_assert!(!fault.finding.is_empty());
        }
    }
}
