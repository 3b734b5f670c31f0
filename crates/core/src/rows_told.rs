//! Rows of a table, as loads bring them, told as text and read again: value by value the same.

use std::sync::Arc;

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use serde::{Deserialize, Serialize};
use serde_json::{Value as Json, json};

use crate::change::{ChangeBatch, ChangeBatchBuilder, ChangeKind, Origin};
use crate::column::{ColumnType, Value};
use crate::table::TableSchema;

/// Rows of a table.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct RowsTold {
    table: TableSchema,
    /// Values by row and column; null for null.
    rows: Vec<Vec<Json>>,
    origins: Vec<Origin>,
}

/// Tells rows; of the changes of a batch what they bring.
#[must_use]
pub fn told(batch: &ChangeBatch) -> RowsTold {
    let cells = |row: usize| batch.new.iter().map(|column| cell(column.value(row))).collect();
    RowsTold { table: (*batch.table).clone(), rows: (0..batch.len()).map(cells).collect(), origins: batch.origins.clone() }
}

/// Reads told rows, as those of a load.
///
/// # Errors
/// What does not fit its column.
pub fn taken(told: RowsTold) -> Result<ChangeBatch, String> {
    let table = Arc::new(told.table);
    let mut batch = ChangeBatchBuilder::new(table.clone());
    for (row, origin) in told.rows.iter().zip(told.origins) {
        batch.begin(ChangeKind::Load, origin);
        if row.len() != table.columns.len() {
            return Err(format!("a row of {} columns in a table of {}", row.len(), table.columns.len()));
        }
        for (place, (column, cell)) in table.columns.iter().zip(row).enumerate() {
            let bytes = match (column.ty, cell.as_str()) {
                (ColumnType::Bytes, Some(text)) => STANDARD.decode(text).ok(),
                _ => None,
            };
            let wrong = || format!("{cell} in the column {} of type {:?}", column.name, column.ty);
            let value = value(column.ty, cell, bytes.as_deref()).ok_or_else(wrong)?;
            batch.new_value(place, value).map_err(|e| e.to_string())?;
        }
        batch.no_old();
    }
    Ok(batch.finish())
}

fn cell(value: Value<'_>) -> Json {
    match value {
        Value::Null => Json::Null,
        Value::Boolean(value) => json!(value),
        Value::Int(value) | Value::Date(value) => json!(value),
        Value::Long(value) | Value::Timestamp(value) => json!(value),
        // as bits: text has no sign of what is no number, and numbers of JSON are none such
        Value::Float(value) => json!(value.to_bits()),
        Value::Double(value) => json!(value.to_bits()),
        Value::Decimal(value) => json!(value.to_string()),
        Value::Text(text) => json!(text),
        Value::Bytes(bytes) => json!(STANDARD.encode(bytes)),
    }
}

fn value<'a>(ty: ColumnType, cell: &'a Json, bytes: Option<&'a [u8]>) -> Option<Value<'a>> {
    if cell.is_null() {
        return Some(Value::Null);
    }
    let int = || i32::try_from(cell.as_i64()?).ok();
    Some(match ty {
        ColumnType::Boolean => Value::Boolean(cell.as_bool()?),
        ColumnType::Int16 | ColumnType::Int32 => Value::Int(int()?),
        ColumnType::Int64 => Value::Long(cell.as_i64()?),
        ColumnType::Float32 => Value::Float(f32::from_bits(u32::try_from(cell.as_u64()?).ok()?)),
        ColumnType::Float64 => Value::Double(f64::from_bits(cell.as_u64()?)),
        ColumnType::Decimal { .. } => Value::Decimal(cell.as_str()?.parse().ok()?),
        ColumnType::Text | ColumnType::Verbatim => Value::Text(cell.as_str()?),
        ColumnType::Bytes => Value::Bytes(bytes?),
        ColumnType::Date => Value::Date(int()?),
        ColumnType::Timestamp | ColumnType::TimestampTz => Value::Timestamp(cell.as_i64()?),
    })
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::table::Column;

    const TYPES: [ColumnType; 13] = [
        ColumnType::Boolean,
        ColumnType::Int16,
        ColumnType::Int32,
        ColumnType::Int64,
        ColumnType::Float32,
        ColumnType::Float64,
        ColumnType::Decimal { precision: 38, scale: 4 },
        ColumnType::Text,
        ColumnType::Bytes,
        ColumnType::Date,
        ColumnType::Timestamp,
        ColumnType::TimestampTz,
        ColumnType::Verbatim,
    ];

    fn table() -> Arc<TableSchema> {
        let column = |(place, ty): (usize, &ColumnType)| Column {
            name: format!("c{place}"),
            ty: *ty,
            source_type: "any".into(),
            key: place == 0,
        };
        let columns = TYPES.iter().enumerate().map(column).collect();
        Arc::new(TableSchema { system: "packhouse".into(), schema: "public".into(), table: "bins".into(), columns })
    }

    proptest! {
        #[test]
        fn rows_are_read_as_they_were_told(rows in prop::collection::vec(any::<(bool, i16, i64, u32, u64, i128, String, Vec<u8>, u16)>(), 0..9)) {
            let mut batch = ChangeBatchBuilder::new(table());
            for (place, (yes, short, long, single, double, number, text, bytes, nulls)) in rows.iter().enumerate() {
                let origin = Origin { position: *double, transaction: 7, sequence: place as u64, commit_time_us: *long };
                batch.begin(ChangeKind::Load, origin);
                let values = [
                    Value::Boolean(*yes), Value::Int((*short).into()), Value::Int(i32::MIN), Value::Long(*long),
                    Value::Float(f32::from_bits(*single)), Value::Double(f64::from_bits(*double)), Value::Decimal(*number),
                    Value::Text(text), Value::Bytes(bytes), Value::Date(i32::MAX), Value::Timestamp(*long),
                    Value::Timestamp(i64::MIN), Value::Text("{1,2}"),
                ];
                for (column, value) in values.into_iter().enumerate() {
                    let value = if nulls & (1 << column) > 0 { Value::Null } else { value };
                    batch.new_value(column, value).unwrap();
                }
                batch.no_old();
            }
            let batch = batch.finish();
            let text = serde_json::to_string(&told(&batch)).unwrap();
            let read = taken(serde_json::from_str(&text).unwrap()).unwrap();
            prop_assert_eq!((read.len(), &read.table, &read.origins), (batch.len(), &batch.table, &batch.origins));
            for row in 0..batch.len() {
                for (was, is) in batch.new.iter().zip(&read.new) {
                    // what is no number is not equal to itself
                    prop_assert_eq!(format!("{:?}", was.value(row)), format!("{:?}", is.value(row)));
                }
            }
        }
    }
}
