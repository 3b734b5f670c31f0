use std::sync::Arc;

use serde_json::{Value as Json, json};

use super::*;
use crate::change::{ChangeBatchBuilder, ChangeKind, Origin};
use crate::column::{ColumnType, Value};
use crate::schemas::Language;
use crate::sql_text;
use crate::table::Column;

const AVRO: &str = r#"{"type":"record","name":"Weighed","fields":[
    {"name":"bin","type":"long"}, {"name":"netWeight","type":{"type":"bytes","logicalType":"decimal","precision":7,"scale":1}},
    {"name":"grade","type":{"type":"enum","name":"Grade","symbols":["first","second"]}, "aliases":["quality"]},
    {"name":"room","type":["null","int"],"default":null}, {"name":"at","type":{"type":"long","logicalType":"timestamp-micros"}},
    {"name":"picked","type":["null",{"type":"int","logicalType":"date"}],"default":null},
    {"name":"door","type":["null",{"type":"record","name":"Door","fields":[{"name":"open","type":"boolean"}]}],"default":null},
    {"name":"tags","type":{"type":"array","items":"string"},"default":[]}, {"name":"seal","type":["null","bytes"],"default":null},
    {"name":"line","type":"string","default":"none"}]}"#;
const JSON: &str = r#"{"type":"object","required":["bin","grade","at","netWeight"],"properties":{
    "bin":{"type":"integer"},"netWeight":{"type":"number"},"grade":{"enum":["first","second"]},"room":{"type":["integer","null"]},
    "at":{"type":"string","format":"date-time"},"picked":{"type":["string","null"],"format":"date"},
    "door":{"type":"object","properties":{"open":{"type":"boolean"}}},"tags":{"type":"array"},"seal":{"type":["string","null"]},
    "line":{"type":"string"}}}"#;
const PROTO: &str = r#"syntax = "proto3"; import "google/protobuf/timestamp.proto";
    message Weighed { int64 bin = 1; double net_weight = 2; Grade grade = 3; optional int32 room = 4;
      google.protobuf.Timestamp at = 5; string picked = 6; Door door = 7; repeated string tags = 8; bytes seal = 9; string line = 10; }
    message Door { bool open = 1; }
    enum Grade { first = 0; second = 1; }"#;

fn column(name: &str, ty: ColumnType, source: &str) -> Column {
    Column { name: name.into(), ty, source_type: source.into(), key: name == "bin" }
}

fn columns() -> Vec<Column> {
    vec![
        column("bin", ColumnType::Int64, "bigint"),
        column("net_weight", ColumnType::Decimal { precision: 12, scale: 3 }, "numeric(12,3)"),
        column("quality", ColumnType::Text, "text"),
        column("room", ColumnType::Int16, "smallint"),
        column("at", ColumnType::TimestampTz, "timestamp with time zone"),
        column("picked", ColumnType::Date, "date"),
        column("door_open", ColumnType::Boolean, "boolean"),
        column("tags", ColumnType::Verbatim, "text[]"),
        column("seal", ColumnType::Bytes, "bytea"),
        column("line", ColumnType::Text, "text"),
    ]
}

fn table(columns: Vec<Column>) -> Arc<TableSchema> {
    Arc::new(TableSchema { system: "packhouse".into(), schema: "public".into(), table: "bins".into(), columns })
}

/// A batch of one row, of columns as the texts that SQL has for them.
fn row(table: &Arc<TableSchema>, cells: &[Option<&str>]) -> ChangeBatch {
    let mut builder = ChangeBatchBuilder::new(table.clone());
    builder.begin(ChangeKind::Insert, Origin::default());
    let mut scratch = Vec::new();
    for (place, cell) in cells.iter().enumerate() {
        let value = match cell {
            None => Value::Null,
            Some(text) => sql_text::read(table.columns[place].ty, text.as_bytes(), &mut scratch).unwrap(),
        };
        builder.new_value(place, value).unwrap();
    }
    builder.no_old();
    builder.finish()
}

fn schema(language: Language, text: &str) -> Arc<ValueSchema> {
    Arc::new(ValueSchema::new(language, text).unwrap())
}

fn fit(links: &[(&[&str], &str)]) -> Fit {
    let link = |(field, column): &(&[&str], &str)| Link {
        field: field.iter().map(|name| (*name).to_owned()).collect(),
        column: (*column).to_owned(),
    };
    Fit { schema: "weighed".into(), links: links.iter().map(link).collect() }
}

#[test]
fn a_row_becomes_the_same_value_in_all_three_languages() {
    let table = table(columns());
    let full = [
        Some("7"),
        Some("18.500"),
        Some("second"),
        Some("3"),
        Some("2026-11-29 06:30:15.5+00"),
        Some("2026-10-01"),
        Some("t"),
        Some("{early,\"a, b\"}"),
        Some("\\x00ff"),
        Some("2"),
    ];
    let grade: (&[&str], &str) = (&["grade"], "quality");
    let avro = FitForm::new(schema(Language::Avro, AVRO), "weighed:1", &table, &fit(&[])).unwrap();
    let json = FitForm::new(schema(Language::JsonSchema, JSON), "weighed:1", &table, &fit(&[grade])).unwrap();
    let proto = FitForm::new(schema(Language::Protobuf, PROTO), "weighed:1", &table, &fit(&[grade])).unwrap();
    let shown = |language: Language, text: &str, form: &FitForm, cells: &[Option<&str>]| -> Result<Json, String> {
        let value = form.value(&row(&table, cells), 0)?;
        schema(language, text).show(&value).ok_or_else(|| "it cannot be read back".to_owned())
    };
    let in_avro = shown(Language::Avro, AVRO, &avro, &full).unwrap();
    let expected = json!({"bin": 7, "netWeight": "18.5", "grade": "second", "room": 3, "at": "2026-11-29T06:30:15.5Z",
        "picked": "2026-10-01", "door": {"open": true}, "tags": ["early", "a, b"], "seal": "\\x00ff", "line": "2"});
    assert_eq!(in_avro["at"].as_str().map(|at| &at[..21]), expected["at"].as_str().map(|at| &at[..21]));
    for (name, value) in expected.as_object().unwrap().iter().filter(|(name, _)| *name != "at") {
        assert_eq!(&in_avro[name], value, "{name} in Avro");
    }
    let in_json = shown(Language::JsonSchema, JSON, &json, &full).unwrap();
    let in_proto = shown(Language::Protobuf, PROTO, &proto, &full).unwrap();
    assert_eq!((&in_json["netWeight"], &in_proto["net_weight"]), (&json!(18.5), &json!(18.5)));
    assert_eq!((&in_json["seal"], &in_proto["seal"]), (&json!("AP8="), &json!("AP8=")));
    for name in ["bin", "grade", "room", "picked", "door", "tags", "line"] {
        assert_eq!((&in_json[name], &in_proto[name]), (&expected[name], &expected[name]), "{name}");
    }

    // null where it fits, the default where it does not, and what is needed is missed at its path
    let few = [Some("7"), Some("18.5"), Some("first"), None, Some("2026-11-29 06:30:15+00"), None, None, None, None, None];
    let in_avro = shown(Language::Avro, AVRO, &avro, &few).unwrap();
    assert_eq!((&in_avro["door"], &in_avro["tags"], &in_avro["line"]), (&Json::Null, &json!([]), &json!("none")));
    let in_json = shown(Language::JsonSchema, JSON, &json, &few).unwrap();
    assert_eq!((in_json.get("door"), in_json.get("line"), &in_json["room"]), (None, None, &Json::Null));
    let mut lacks = few;
    lacks[4] = None;
    for (language, text, form) in [(Language::Avro, AVRO, &avro), (Language::JsonSchema, JSON, &json)] {
        let refused = shown(language, text, form, &lacks).unwrap_err();
        assert!(refused.contains("at"), "{refused}");
    }
    let mut other = few;
    other[2] = Some("third");
    for (language, text, form) in
        [(Language::Avro, AVRO, &avro), (Language::JsonSchema, JSON, &json), (Language::Protobuf, PROTO, &proto)]
    {
        assert!(shown(language, text, form, &other).is_err(), "{language:?} takes a grade that there is none of");
    }
    let mut fine = few;
    fine[1] = Some("18.555");
    assert!(shown(Language::Avro, AVRO, &avro, &fine).unwrap_err().contains("up to 1 after the point"));
}

#[test]
fn fields_find_their_columns_and_what_is_missing_is_asked_for() {
    let fields = || target_fields(schema(Language::Avro, AVRO).parsed());
    let how = |columns: &[Column], links: &[Link]| -> Vec<(String, Option<How>)> {
        link(fields(), columns, links).into_iter().map(|l| (l.field.path.join("."), l.how)).collect()
    };
    let found = how(&columns(), &[]);
    let of = |name: &str| found.iter().find(|(path, _)| path == name).unwrap().1;
    assert_eq!((of("bin"), of("netWeight"), of("grade")), (Some(How::Name), Some(How::Alike), Some(How::Alias)));
    assert_eq!((of("door.open"), of("room")), (Some(How::Name), Some(How::Name)));

    // the only column left that a needed field takes is shown, and not taken
    let weighed = vec![
        column("number", ColumnType::Int64, "bigint"),
        column("kg", ColumnType::Decimal { precision: 7, scale: 1 }, "numeric(7,1)"),
        column("class", ColumnType::Text, "text"),
        column("told", ColumnType::TimestampTz, "timestamp with time zone"),
    ];
    let linked = link(fields(), &weighed, &[]);
    let by = |name: &str| linked.iter().find(|l| l.field.path == [name]).unwrap();
    assert_eq!((by("at").column.as_deref(), by("at").how), (Some("told"), Some(How::Type)));
    // a whole number goes into a decimal as well: which of the two it is, nobody can say
    assert_eq!(by("netWeight").how, None);
    assert_eq!(by("room").how, None, "what is not needed is not guessed");
    let near =
        link(fields(), &[column("bin_number", ColumnType::Int64, "bigint"), column("ad", ColumnType::Text, "text")], &[]);
    assert_eq!((near[0].column.as_deref(), near[0].how), (Some("bin_number"), Some(How::Near)));
    let error = FitForm::new(schema(Language::Avro, AVRO), "weighed:1", &table(weighed), &fit(&[])).unwrap_err();
    for part in ["weighed:1: ", "the field bin needs a column", "the field at needs a column, a time"] {
        assert!(error.contains(part), "{error}");
    }
    type Chosen<'c> = &'c [(&'c [&'c str], &'c str)];
    let cases: [(Chosen<'_>, &str); 4] = [
        (&[(&["bin"], "seal")], "the field bin cannot take the column seal: bytea is not a whole number of 64 bits"),
        (&[(&["bin"], "")], "the field bin needs a column"),
        (&[(&["bni"], "bin")], "there is no field bni"),
        (&[(&["line"], "lane")], "there is no such column"),
    ];
    for (links, part) in cases {
        let error = FitForm::new(schema(Language::Avro, AVRO), "weighed:1", &table(columns()), &fit(links)).unwrap_err();
        assert!(error.contains(part), "{error} (expected: {part})");
    }
    // one column may fill two fields where that was chosen
    let twice: [(&[&str], &str); 1] = [(&["line"], "quality")];
    let form = FitForm::new(schema(Language::Avro, AVRO), "weighed:1", &table(columns()), &fit(&twice));
    assert!(
        form.unwrap_err().contains("the field grade needs a column"),
        "a column that was chosen elsewhere is not taken again"
    );
    let both: [(&[&str], &str); 2] = [(&["line"], "quality"), (&["grade"], "quality")];
    assert!(FitForm::new(schema(Language::Avro, AVRO), "weighed:1", &table(columns()), &fit(&both)).is_ok());
}

#[test]
fn fields_of_records_that_come_back_to_themselves_in_many_ways_have_an_end() {
    let avro: Vec<String> = (0..60).map(|n| format!(r#"{{"name":"a{n}","type":["null","R"],"default":null}}"#)).collect();
    let avro = format!(r#"{{"type":"record","name":"R","fields":[{}]}}"#, avro.join(","));
    let proto: Vec<String> = (1..60).map(|n| format!("A a{n} = {n};")).collect();
    let proto = format!("syntax = \"proto3\"; message A {{ {} }}", proto.join(" "));
    // where Avro names a record again, its value is filled as a whole
    for (language, text, fields) in [(Language::Avro, avro, 60), (Language::Protobuf, proto, 1_000)] {
        let start = std::time::Instant::now();
        assert_eq!(target_fields(schema(language, &text).parsed()).len(), fields, "{language:?}");
        assert!(start.elapsed() < std::time::Duration::from_secs(10));
    }
}
