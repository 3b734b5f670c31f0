//! Every form gives back what it was given, and says what it cannot read.
#![allow(clippy::unwrap_used, reason = "what fails here fails the test")]

use std::fs::File;
use std::io::{Seek, Write};

use bytes::Bytes;
use gonvel_core::record::Header;
use gonvel_record_files::{FileError, Form, Row, Rows, Writer, read};
use proptest::prelude::*;

fn bytes() -> impl Strategy<Value = Option<Bytes>> {
    prop_oneof![
        Just(None),
        Just(Some(Bytes::new())),
        prop::collection::vec(any::<u8>(), 0..40).prop_map(|b| Some(b.into())),
        any::<String>().prop_map(|t| Some(t.into())),
        Just(Some(Bytes::from_static(b"two\r\nlines, \"quoted\""))),
    ]
}

fn row() -> impl Strategy<Value = Row> {
    let header = (any::<String>(), prop::collection::vec(any::<u8>(), 0..9))
        .prop_map(|(name, value)| Header { name, value: value.into() });
    let text = || prop::option::of("[ -~]{1,20}");
    let (time, id) = (prop_oneof![any::<i64>(), 0..2_000_000_000_000_000_i64], || prop::option::of(any::<i64>()));
    ((0..9_i32, any::<i64>(), time), (bytes(), bytes(), prop::collection::vec(header, 0..4)), (id(), id(), text(), text()))
        .prop_map(|(place, parts, schemas)| Row {
            partition: place.0,
            offset: place.1,
            timestamp_us: place.2,
            key: parts.0,
            value: parts.1,
            headers: parts.2,
            schema: schemas.0,
            key_schema: schemas.1,
            schema_text: schemas.2,
            key_schema_text: schemas.3,
        })
}

fn written(form: Form, rows: &[Row]) -> Vec<u8> {
    let mut writer = Writer::begin(form, [7; 16]).unwrap();
    let mut out = Vec::new();
    for row in rows {
        writer.row(row, &mut out).unwrap();
    }
    writer.finish(&mut out).unwrap();
    out
}

fn open(form: Form, bytes: &[u8]) -> Result<Rows, FileError> {
    let mut file: File = tempfile::tempfile().unwrap();
    file.write_all(bytes).unwrap();
    file.rewind().unwrap();
    read(form, file)
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(48))]

    #[test]
    fn rows_come_back_equal_in_every_form(rows in prop::collection::vec(row(), 0..30)) {
        for form in Form::ALL {
            let file = written(form, &rows);
            let found: Vec<Row> = open(form, &file).unwrap().map(Result::unwrap).collect();
            prop_assert_eq!(&found, &rows, "{:?}", form);
        }
    }

    #[test]
    fn damaged_files_are_refused_or_read_but_never_take_the_program_down(
        rows in prop::collection::vec(row(), 1..8),
        at: prop::sample::Index,
        byte: u8,
    ) {
        for form in Form::ALL {
            let mut file = written(form, &rows);
            let place = at.index(file.len());
            file[place] = byte;
            if let Ok(found) = open(form, &file) {
                let _ = found.take(100).collect::<Vec<_>>();
            }
        }
    }
}

#[test]
fn many_rows_are_written_in_pieces() {
    let row = |n: i64| Row { offset: n, value: Some(Bytes::from(format!("weight {n}").repeat(9))), ..Row::default() };
    for form in Form::ALL {
        let mut writer = Writer::begin(form, [7; 16]).unwrap();
        let (mut file, mut largest) = (Vec::new(), 0);
        for n in 0..120_000 {
            let mut piece = Vec::new();
            writer.row(&row(n), &mut piece).unwrap();
            largest = largest.max(piece.len());
            file.extend(piece);
        }
        writer.finish(&mut file).unwrap();
        assert!(largest < file.len() / 2, "{form:?} waits with all of it");
        assert!(open(form, &file).unwrap().zip(0..).all(|(found, n)| found.unwrap() == row(n)), "{form:?}");
    }
}

#[test]
fn what_cannot_be_read_is_said_with_its_row() {
    let csv = "value,weight\nx,1\n";
    let cases: [(Form, &str, &str); 10] = [
        (Form::Avro, "PAR1", "does not begin like an Avro object container file"),
        (Form::Parquet, "Obj\u{1}", "cannot be read as parquet"),
        (Form::Csv, csv, "there is no column \"weight\""),
        (Form::Csv, "value,key,timestamp,offset\nx,,0,1\ny,,0,two\n", "row 1: offset is \"two\": give a whole number"),
        (Form::Csv, "key\nx\n", "no column \"value\""),
        (Form::Csv, "value,timestamp\nx,0\n", "no column \"key\""),
        (Form::Csv, "value,key_base64\nx,AA==\n", "no column \"timestamp\""),
        (Form::Csv, "value,key,timestamp\nx,a,0\ny,b,\n", "row 1: timestamp is empty"),
        (Form::JsonLines, "{\"timestamp\":0}\n{\"timestamp\":\"noon\"}\n", "row 1: \"noon\" is not a time"),
        (Form::JsonLines, "{\"timestamp\":0,\"valu\":1}", "row 0: unknown field `valu`"),
    ];
    for (form, text, expected) in cases {
        let error = match open(form, text.as_bytes()) {
            Err(error) => error.to_string(),
            Ok(rows) => rows.filter_map(Result::err).map(|e| e.to_string()).next().unwrap(),
        };
        assert!(error.contains(expected), "{error}");
    }
    let orchard = "{\"type\":\"record\",\"name\":\"Bin\",\"fields\":[]}";
    let other = gonvel_core::avro::container::header(orchard, gonvel_core::avro::container::Codec::Null, &[0; 16]);
    assert!(open(Form::Avro, &other).err().unwrap().to_string().contains("not those of an export"));
    assert!("xlsx".parse::<Form>().unwrap_err().to_string().contains("take avro, parquet, jsonl or csv"));
}
