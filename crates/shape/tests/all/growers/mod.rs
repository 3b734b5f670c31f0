//! A table of growers, its life as changes, and the rows that changes leave.
#![allow(dead_code, reason = "each test program uses a part of it")]

use std::collections::BTreeMap;
use std::sync::Arc;

use gonvel_core::change::{ChangeBatch, ChangeBatchBuilder, ChangeKind, OldImage, Origin};
use gonvel_core::column::{ColumnType, Value};
use gonvel_core::table::{Column, TableSchema};
use gonvel_shape::run::Shaped;
use gonvel_shape::tools::{MaskKey, Tools};

pub fn growers() -> Arc<TableSchema> {
    let column =
        |name: &str, ty, source: &str| Column { name: name.into(), ty, source_type: source.into(), key: name == "id" };
    let columns = vec![
        column("id", ColumnType::Int64, "bigint"),
        column("name", ColumnType::Text, "text"),
        column("phone", ColumnType::Text, "text"),
        column("bins", ColumnType::Int32, "integer"),
    ];
    Arc::new(TableSchema { system: "packhouse".into(), schema: "public".into(), table: "growers".into(), columns })
}

pub fn tools() -> Tools {
    Tools::new(MaskKey::of(b"orchard"))
}

pub type Row = (i64, String, String, i32);

#[derive(Debug, Clone)]
pub struct Change {
    pub kind: ChangeKind,
    pub new: Option<Row>,
    pub old: Option<Row>,
    pub image: OldImage,
}

pub fn changes(changes: &[Change]) -> ChangeBatch {
    changes_without(changes, &[])
}

/// The same, where updates do not bring some columns.
pub fn changes_without(changes: &[Change], unsent: &[usize]) -> ChangeBatch {
    let mut builder = ChangeBatchBuilder::new(growers());
    for (n, change) in changes.iter().enumerate() {
        builder.begin(change.kind, Origin { position: n as u64 + 1, ..Origin::default() });
        let cells = |row: &Row| [Value::Long(row.0), Value::Null, Value::Null, Value::Int(row.3)];
        match &change.new {
            None => builder.no_new(),
            Some(row) => {
                let mut values = cells(row);
                (values[1], values[2]) = (Value::Text(&row.1), Value::Text(&row.2));
                for (column, value) in values.iter().enumerate() {
                    if change.kind == ChangeKind::Update && unsent.contains(&column) {
                        builder.new_unchanged(column);
                    } else {
                        builder.new_value(column, *value).unwrap();
                    }
                }
            }
        }
        match (&change.old, change.image) {
            (None, _) | (_, OldImage::None) => builder.no_old(),
            (Some(row), image) => {
                builder.begin_old(image);
                let mut values = cells(row);
                if image == OldImage::Row {
                    (values[1], values[2]) = (Value::Text(&row.1), Value::Text(&row.2));
                } else {
                    values[3] = Value::Null;
                }
                values.iter().enumerate().for_each(|(c, v)| builder.old_value(c, *v).unwrap());
            }
        }
    }
    builder.finish()
}

/// A table's life as changes, each with as much of the old row as an identity gives.
pub fn life(acts: &[(u8, i64, i32)], image: OldImage) -> (Vec<Change>, BTreeMap<i64, Row>) {
    let mut table: BTreeMap<i64, Row> = BTreeMap::new();
    let mut out = Vec::new();
    for (act, id, bins) in acts {
        let row = (*id, format!("grower {id}"), format!("0161 496 {id:04}"), *bins);
        let before = table.get(id).cloned();
        match (act % 3, before) {
            (0 | 1, None) => {
                out.push(Change { kind: ChangeKind::Insert, new: Some(row.clone()), old: None, image: OldImage::None })
            }
            (0 | 1, Some(old)) => {
                // without a whole identity, an update that keeps its key says nothing of the old row
                let image = if image == OldImage::Row { image } else { OldImage::None };
                out.push(Change { kind: ChangeKind::Update, new: Some(row.clone()), old: Some(old), image });
            }
            (_, None) => continue,
            (_, Some(old)) => {
                out.push(Change { kind: ChangeKind::Delete, new: None, old: Some(old), image });
                table.remove(id);
                continue;
            }
        }
        table.insert(*id, row);
    }
    (out, table)
}

pub type Places = BTreeMap<String, BTreeMap<String, String>>;

/// The rows that changes leave, by key, as the values of their columns.
pub fn folded(shaped: &Shaped, into: &mut Places) {
    for part in &shaped.parts {
        let rows = into.entry(part.to.clone().unwrap_or_default()).or_default();
        let (batch, columns) = (&part.batch, part.batch.table.columns.len());
        assert!(batch.new.len() == columns && (batch.old.is_empty() || batch.old.len() == columns));
        assert!(batch.new.iter().chain(&batch.old).all(|c| c.len() == batch.len()));
        let keys = part.batch.table.key_columns();
        for row in 0..part.batch.len() {
            if part.batch.kinds[row] == ChangeKind::Truncate {
                rows.clear();
                continue;
            }
            let image = part.batch.identifying(row);
            let key: Vec<String> = keys.iter().map(|&c| format!("{:?}", image[c].value(row))).collect();
            if part.batch.kinds[row] == ChangeKind::Delete {
                rows.remove(&key.concat());
            } else {
                let values: Vec<String> = part.batch.new.iter().map(|c| format!("{:?}", c.value(row))).collect();
                rows.insert(key.concat(), values.join(" "));
            }
        }
    }
}
