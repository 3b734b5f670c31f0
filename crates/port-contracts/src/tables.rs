//! What every kind of system keeps that has tables.

use std::collections::BTreeMap;

use gonvel_core::change::ChangeKind;
use gonvel_core::column::Value;
use gonvel_core::connector::{CapturedTable, Values};
use gonvel_core::ports::Address;
use gonvel_core::ports::systems::{ConnectorError, Tables};

/// A table is listed, described, sampled and read alike; `name` is one that is there and has rows, with a key of one whole number.
///
/// # Panics
/// If the contract is broken.
pub async fn rows_are_read_alike(tables: &dyn Tables, address: &Address, (schema, table): (&str, &str)) {
    let listed = tables.list(address).await.unwrap();
    let found = listed.iter().find(|listed| listed.schema == schema && listed.table == table).expect("it is not listed");
    let wanted = CapturedTable::whole(schema, table, "rows");
    let shape = tables.describe(address, &wanted).await.unwrap();
    assert_eq!((shape.schema.as_str(), shape.table.as_str()), (schema, table));
    assert_eq!(shape.columns.len() as i64, found.columns);
    let key: Vec<String> = shape.key_columns().into_iter().map(|column| shape.columns[column].name.clone()).collect();
    assert_eq!(key, found.key);

    let sample = tables.sample(address, &wanted, Values::default()).await.unwrap();
    let names = |captured: bool| sample.columns.iter().filter(move |c| c.captured == captured).map(|c| c.name.clone());
    assert!(names(true).eq(shape.columns.iter().map(|column| column.name.clone())) && names(false).next().is_none());
    assert!(!sample.rows.is_empty() && sample.rows.iter().all(|row| row.cells.len() == sample.columns.len()));

    let rows = tables.rows(address, &wanted, 3).await.unwrap();
    assert!((1..=3).contains(&rows.len()) && rows.kinds.iter().all(|kind| *kind == ChangeKind::Load));
    assert_eq!(*rows.table, shape);
    let [number] = shape.key_columns()[..] else { panic!("a key of one column is wanted") };
    let of = |row: usize| match rows.new[number].value(row) {
        Value::Int(number) => i64::from(number),
        Value::Long(number) => number,
        other => panic!("a whole number is wanted, not {other:?}"),
    };
    let mut asked: Vec<BTreeMap<String, String>> =
        (0..rows.len()).map(|row| BTreeMap::from([(key[0].clone(), of(row).to_string())])).collect();
    // one that is not there
    asked.push(BTreeMap::from([(key[0].clone(), "-7".to_owned())]));
    let again = tables.rows_by_key(address, &wanted, &asked).await.unwrap();
    assert_eq!(again.len(), rows.len());

    // without a column, and with a column that is not there
    let other = shape.columns.iter().find(|column| !column.key).expect("a column beside the key is wanted").name.clone();
    let fewer = CapturedTable { leave_out: vec![other.clone()], ..wanted.clone() };
    let shape = tables.describe(address, &fewer).await.unwrap();
    assert!(shape.columns.iter().all(|column| column.name != other));
    let sample = tables.sample(address, &fewer, Values::default()).await.unwrap();
    assert!(sample.columns.iter().any(|column| column.name == other && !column.captured));
    let nowhere = tables.describe(address, &CapturedTable::whole(schema, "nowhere", "rows")).await;
    assert!(matches!(&nowhere, Err(ConnectorError::Settings { field: Some("tables"), .. })), "{nowhere:?}");
}
