//! Rows of a column by their places.

use arrow_array::builder::{GenericBinaryBuilder, GenericStringBuilder};
use arrow_array::types::ArrowPrimitiveType;
use arrow_array::{Array, BooleanArray, PrimitiveArray};
use arrow_buffer::{BooleanBuffer, NullBuffer, ScalarBuffer};
use gonvel_core::column::ColumnArray;

/// The values of a column in these rows, in their order. A row may be asked for more than once.
///
/// # Panics
/// If a row is past the end.
pub(crate) fn take(column: &ColumnArray, rows: &[usize]) -> ColumnArray {
    match column {
        ColumnArray::Boolean(array) => {
            let values = BooleanBuffer::collect_bool(rows.len(), |at| array.value(rows[at]));
            ColumnArray::Boolean(BooleanArray::new(values, nulls(array, rows)))
        }
        ColumnArray::Int16(array) => ColumnArray::Int16(primitive(array, rows)),
        ColumnArray::Int32(array) => ColumnArray::Int32(primitive(array, rows)),
        ColumnArray::Int64(array) => ColumnArray::Int64(primitive(array, rows)),
        ColumnArray::Float32(array) => ColumnArray::Float32(primitive(array, rows)),
        ColumnArray::Float64(array) => ColumnArray::Float64(primitive(array, rows)),
        ColumnArray::Decimal(array) => ColumnArray::Decimal(primitive(array, rows)),
        ColumnArray::Date(array) => ColumnArray::Date(primitive(array, rows)),
        ColumnArray::Timestamp(array) => ColumnArray::Timestamp(primitive(array, rows)),
        ColumnArray::Text(array) => {
            let bytes = rows.iter().map(|row| array.value(*row).len()).sum();
            let mut taken = GenericStringBuilder::<i32>::with_capacity(rows.len(), bytes);
            rows.iter().for_each(|row| taken.append_option(array.is_valid(*row).then(|| array.value(*row))));
            ColumnArray::Text(taken.finish())
        }
        ColumnArray::Bytes(array) => {
            let bytes = rows.iter().map(|row| array.value(*row).len()).sum();
            let mut taken = GenericBinaryBuilder::<i32>::with_capacity(rows.len(), bytes);
            rows.iter().for_each(|row| taken.append_option(array.is_valid(*row).then(|| array.value(*row))));
            ColumnArray::Bytes(taken.finish())
        }
    }
}

fn primitive<T: ArrowPrimitiveType>(array: &PrimitiveArray<T>, rows: &[usize]) -> PrimitiveArray<T> {
    let values = array.values();
    let taken: ScalarBuffer<T::Native> = rows.iter().map(|row| values[*row]).collect();
    PrimitiveArray::new(taken, nulls(array, rows)).with_data_type(array.data_type().clone())
}

fn nulls(array: &dyn Array, rows: &[usize]) -> Option<NullBuffer> {
    let nulls = array.nulls().filter(|nulls| nulls.null_count() > 0)?;
    Some(NullBuffer::new(BooleanBuffer::collect_bool(rows.len(), |at| nulls.is_valid(rows[at]))))
}
