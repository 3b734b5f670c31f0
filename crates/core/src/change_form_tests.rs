use proptest::prelude::*;

use super::*;
use crate::connector::{Encoding, ValueForm, Values};
use crate::record_form::{ReadForm, RecordForm};

fn column(name: &str, ty: ColumnType, source_type: &str, key: bool) -> Column {
    Column { name: name.into(), ty, source_type: source_type.into(), key }
}

fn bins() -> Arc<TableSchema> {
    Arc::new(TableSchema {
        system: "packhouse".into(),
        schema: "public".into(),
        table: "bins".into(),
        columns: vec![
            column("id", ColumnType::Int64, "bigint", true),
            column("part", ColumnType::Decimal { precision: 9, scale: 2 }, "numeric(9,2)", true),
            column("weight kg", ColumnType::Decimal { precision: 7, scale: 1 }, "numeric(7,1)", false),
            column("grade", ColumnType::Text, "text", false),
            column("picked_at", ColumnType::TimestampTz, "timestamp with time zone", false),
            column("packed_at", ColumnType::Timestamp, "timestamp without time zone", false),
            column("on", ColumnType::Date, "date", false),
            column("ok", ColumnType::Boolean, "boolean", false),
            column("small", ColumnType::Int16, "smallint", false),
            column("room", ColumnType::Int32, "integer", false),
            column("f", ColumnType::Float32, "real", false),
            column("d", ColumnType::Float64, "double precision", false),
            column("photo", ColumnType::Bytes, "bytea", false),
            column("span", ColumnType::Verbatim, "interval", false),
        ],
    })
}

#[derive(Debug, Clone)]
enum Owned {
    Null,
    Text(String),
    Bytes(Vec<u8>),
    Plain(Value<'static>),
}

impl Owned {
    fn borrow(&self) -> Value<'_> {
        match self {
            Self::Null => Value::Null,
            Self::Text(t) => Value::Text(t),
            Self::Bytes(b) => Value::Bytes(b),
            Self::Plain(v) => *v,
        }
    }
}

fn value_of(ty: ColumnType) -> BoxedStrategy<Owned> {
    let plain = |v: Value<'static>| Owned::Plain(v);
    match ty {
        ColumnType::Boolean => any::<bool>().prop_map(move |v| plain(Value::Boolean(v))).boxed(),
        ColumnType::Int16 => any::<i16>().prop_map(move |v| plain(Value::Int(v.into()))).boxed(),
        ColumnType::Int32 => any::<i32>().prop_map(move |v| plain(Value::Int(v))).boxed(),
        ColumnType::Int64 => any::<i64>().prop_map(move |v| plain(Value::Long(v))).boxed(),
        ColumnType::Float32 => (-1e9_f32..1e9).prop_map(move |v| plain(Value::Float(v))).boxed(),
        ColumnType::Float64 => (-1e99_f64..1e99).prop_map(move |v| plain(Value::Double(v))).boxed(),
        ColumnType::Decimal { .. } => prop_oneof![
            8 => (-9_999_999_i128..10_000_000).prop_map(move |v| plain(Value::Decimal(v))),
            1 => Just(plain(Value::Decimal(NOT_A_NUMBER)))
        ]
        .boxed(),
        ColumnType::Text | ColumnType::Verbatim => any::<String>().prop_map(Owned::Text).boxed(),
        ColumnType::Bytes => any::<Vec<u8>>().prop_map(Owned::Bytes).boxed(),
        ColumnType::Date => any::<i32>().prop_map(move |v| plain(Value::Date(v))).boxed(),
        ColumnType::Timestamp | ColumnType::TimestampTz => {
            any::<i64>().prop_map(move |v| plain(Value::Timestamp(v))).boxed()
        }
    }
}

fn row() -> impl Strategy<Value = Vec<Owned>> {
    bins()
        .columns
        .iter()
        .map(|c| {
            let present = value_of(c.ty);
            if c.key { present } else { prop_oneof![3 => present, 1 => Just(Owned::Null)].boxed() }
        })
        .collect::<Vec<_>>()
}

#[derive(Debug, Clone)]
struct Change {
    kind: ChangeKind,
    new: Vec<Owned>,
    old: Vec<Owned>,
    image: u8,
    unchanged: bool,
    origin: (u64, u64, u64, i64),
}

fn change() -> impl Strategy<Value = Change> {
    let kind = prop::sample::select(&ChangeKind::ALL[..]);
    (kind, row(), row(), 0_u8..3, any::<bool>(), any::<(u64, u64, u64, i64)>())
        .prop_map(|(kind, new, old, image, unchanged, origin)| Change { kind, new, old, image, unchanged, origin })
}

fn build(changes: &[Change]) -> ChangeBatch {
    let table = bins();
    let mut builder = ChangeBatchBuilder::new(table.clone());
    for change in changes {
        let (position, transaction, sequence, commit_time_us) = change.origin;
        builder.begin(change.kind, Origin { position, transaction, sequence, commit_time_us });
        if matches!(change.kind, ChangeKind::Delete | ChangeKind::Truncate) {
            builder.no_new();
        } else {
            for (i, value) in change.new.iter().enumerate() {
                if change.unchanged && i == 3 {
                    builder.new_unchanged(i);
                } else {
                    builder.new_value(i, value.borrow()).unwrap();
                }
            }
        }
        if change.image == 0 {
            builder.no_old();
        } else {
            builder.begin_old(if change.image == 1 { OldImage::Row } else { OldImage::Key });
            for (i, value) in change.old.iter().enumerate() {
                let known = change.image == 1 || table.columns[i].key;
                builder.old_value(i, if known { value.borrow() } else { Value::Null }).unwrap();
            }
        }
    }
    builder.finish()
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(64))]

    #[test]
    fn what_was_written_is_read_back_and_another_library_reads_it(changes in prop::collection::vec(change(), 1..6)) {
        let batch = build(&changes);
        let form = ChangeForm::of(batch.table.clone());
        let read_form = ChangeForm::from_value_text(&form.value_text).unwrap();
        prop_assert_eq!(&read_form.table, &form.table);
        prop_assert_eq!(&read_form.value_text, &form.value_text);
        let theirs = apache_avro::Schema::parse_str(&form.value_text).unwrap();
        let reader = apache_avro::reader::datum::GenericDatumReader::builder(&theirs).build().unwrap();

        let mut builder = ChangeBatchBuilder::new(read_form.table.clone());
        for row in 0..batch.len() {
            let mut out = Vec::new();
            form.write_change(&batch, row, &mut out);
            let (fingerprint_found, data) = single_object::split(&out).unwrap();
            prop_assert_eq!(fingerprint_found, fingerprint(&form.value_text).unwrap());
            read_form.read_change(data, &mut builder).unwrap();
            prop_assert_eq!(read_form.position(data).unwrap(), batch.origins[row].position);
            let mut left = data;
            let other = reader.read_value(&mut left).unwrap();
            prop_assert!(left.is_empty());
            let apache_avro::types::Value::Record(fields) = other else { panic!("not a record") };
            prop_assert_eq!(&fields[0].1, &apache_avro::types::Value::Enum(
                u32::try_from(ChangeKind::ALL.iter().position(|k| *k == batch.kinds[row]).unwrap()).unwrap(), batch.kinds[row].word().into()));
        }
        let again = builder.finish();
        prop_assert_eq!(&again.kinds, &batch.kinds);
        prop_assert_eq!(&again.origins, &batch.origins);
        prop_assert_eq!(&again.unchanged, &batch.unchanged);
        prop_assert_eq!(&again.old_images, &batch.old_images);
        for row in 0..batch.len() {
            for column in 0..batch.table.columns.len() {
                prop_assert_eq!(again.new[column].value(row), batch.new[column].value(row));
                if batch.old_images[row] != OldImage::None {
                    prop_assert_eq!(again.old[column].value(row), batch.old[column].value(row));
                }
            }
        }
    }

    #[test]
    fn records_of_every_form_and_encoding_are_read_back(changes in prop::collection::vec(change(), 1..4)) {
        let batch = build(&changes);
        for (form, encoding) in [ValueForm::Change, ValueForm::Row].into_iter().flat_map(|f| [(f, Encoding::Avro), (f, Encoding::Json)]) {
            let written = RecordForm::of(batch.table.clone(), Values { form, encoding });
            let read = ReadForm::from_value_text(written.value_text()).unwrap();
            prop_assert_eq!(read.table(), &batch.table);
            let mut builder = ChangeBatchBuilder::new(read.table().clone());
            let mut rows = Vec::new();
            for row in 0..batch.len() {
                let kind = batch.kinds[row];
                if kind == ChangeKind::Truncate || (form == ValueForm::Row && kind == ChangeKind::Delete && batch.old_images[row] == OldImage::None) {
                    continue;
                }
                let (mut key, mut value) = (Vec::new(), Vec::new());
                if batch.old_images[row] != OldImage::None || kind != ChangeKind::Delete {
                    written.write_key(batch.identifying(row), row, &mut key);
                }
                let there = written.write_value(&batch, row, &mut value);
                prop_assert_eq!(there, form == ValueForm::Change || kind != ChangeKind::Delete);
                if encoding == Encoding::Json && there {
                    prop_assert!(serde_json::from_slice::<Json>(&value).unwrap().is_object());
                }
                let time = batch.origins[row].commit_time_us;
                let found = read.read(&key, there.then_some(&value[..]), time, &mut builder).unwrap();
                if there {
                    let says = match kind {
                        ChangeKind::Delete => Says::Gone,
                        _ if form == ValueForm::Change && batch.unchanged.contains_key(&row) => Says::Part,
                        _ => Says::Whole,
                    };
                    prop_assert_eq!(read.says(&value).unwrap(), says);
                }
                prop_assert_eq!(found == ChangeKind::Delete, kind == ChangeKind::Delete);
                rows.push(row);
            }
            let again = builder.finish();
            for (n, &row) in rows.iter().enumerate() {
                prop_assert_eq!(again.origins[n].commit_time_us, batch.origins[row].commit_time_us);
                for (column, described) in batch.table.columns.iter().enumerate() {
                    if batch.kinds[row] != ChangeKind::Delete {
                        prop_assert_eq!(again.new[column].value(n), batch.new[column].value(row));
                    } else if described.key && batch.old_images[row] != OldImage::None {
                        prop_assert_eq!(again.old[column].value(n), batch.old[column].value(row));
                    }
                }
            }
        }
    }

    #[test]
    fn damaged_bytes_are_refused_without_a_panic(changes in prop::collection::vec(change(), 1..2), at: prop::sample::Index, byte: u8) {
        let batch = build(&changes);
        let form = ChangeForm::of(batch.table.clone());
        let mut out = Vec::new();
        form.write_change(&batch, 0, &mut out);
        let place = at.index(out.len());
        out[place] = byte;
        let mut builder = ChangeBatchBuilder::new(form.table.clone());
        let _ = form.read_change(&out[10.min(out.len())..], &mut builder);
        let schema = Schema::parse(&form.value_text).unwrap();
        let _ = crate::avro::json::read(&schema, &mut Reader::new(&out[10..]));
        let cut = form.read_change(&out[10..out.len() - 1], &mut ChangeBatchBuilder::new(form.table.clone()));
        prop_assert!(cut.is_err() || place >= 10);
    }
}

#[test]
fn a_change_reads_well_as_json() {
    let mut builder = ChangeBatchBuilder::new(bins());
    builder.begin(
        ChangeKind::Update,
        Origin { position: 0x1_0000_00a0, transaction: 7, sequence: 2, commit_time_us: 1_000_000 },
    );
    for (i, column) in bins().columns.iter().enumerate() {
        let value = match i {
            0 => Value::Long(5),
            1 => Value::Decimal(-123),
            2 => Value::Decimal(NOT_A_NUMBER),
            6 => Value::Date(i32::MAX),
            12 => Value::Bytes(&[0xca, 0xfe]),
            _ => Value::Null,
        };
        if column.name == "grade" { builder.new_unchanged(i) } else { builder.new_value(i, value).unwrap() }
    }
    builder.no_old();
    let batch = builder.finish();
    let form = ChangeForm::of(bins());
    let mut out = Vec::new();
    form.write_change(&batch, 0, &mut out);
    let json = crate::avro::json::read(&Schema::parse(&form.value_text).unwrap(), &mut Reader::new(&out[10..])).unwrap();
    assert_eq!(json["change"], "update");
    assert_eq!(json["new"]["part"], "-1.23");
    assert_eq!(json["new"]["weight kg"], "NaN");
    assert_eq!(json["new"]["on"], "infinity");
    assert_eq!(json["new"]["photo"], "\\xcafe");
    assert_eq!(json["old"], Json::Null);
    assert_eq!(json["unchanged"], json!(["grade"]));
    assert_eq!(json["origin"]["position"], "1/A0");
    assert_eq!(json["origin"]["commit_time"], "1970-01-01T00:00:01Z");
}

#[test]
fn keys_that_their_database_takes_for_equal_are_written_alike() {
    let column = |ty, source_type: &str| column("key", ty, source_type, true);
    let key = |column: &Column, value: Value<'_>| {
        let table = Arc::new(TableSchema { columns: vec![column.clone()], ..(*bins()).clone() });
        let mut builder = ChangeBatchBuilder::new(table.clone());
        builder.begin(ChangeKind::Insert, Origin::default());
        builder.new_value(0, value).unwrap();
        builder.no_old();
        let mut out = Vec::new();
        ChangeForm::of(table).write_key(&builder.finish().new, 0, &mut out);
        out
    };
    let numeric = column(ColumnType::Verbatim, "numeric");
    for (some, same) in [("1", "1.00"), ("1.5", "1.50"), ("-0.10", "-0.1"), ("0", "0.000"), ("100", "100.0")] {
        assert_eq!(key(&numeric, Value::Text(some)), key(&numeric, Value::Text(same)), "{some} {same}");
    }
    for (some, other) in [("1", "10"), ("1.05", "1.5"), ("NaN", "Infinity"), ("100", "1")] {
        assert_ne!(key(&numeric, Value::Text(some)), key(&numeric, Value::Text(other)), "{some} {other}");
    }
    // what is only text is left as it is
    let text = column(ColumnType::Text, "text");
    assert_ne!(key(&text, Value::Text("1")), key(&text, Value::Text("1.0")));
    let double = column(ColumnType::Float64, "double precision");
    assert_eq!(key(&double, Value::Double(0.0)), key(&double, Value::Double(-0.0)));
    assert_ne!(key(&double, Value::Double(1.0)), key(&double, Value::Double(-1.0)));
}
