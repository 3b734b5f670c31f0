//! The types of columns and the Arrow arrays that hold their values.

use std::sync::Arc;

use arrow_array::builder::{
    BinaryBuilder, BooleanBuilder, Date32Builder, Decimal128Builder, Float32Builder, Float64Builder, Int16Builder,
    Int32Builder, Int64Builder, StringBuilder, TimestampMicrosecondBuilder,
};
use arrow_array::{
    Array, ArrayRef, BinaryArray, BooleanArray, Date32Array, Decimal128Array, Float32Array, Float64Array, Int16Array,
    Int32Array, Int64Array, StringArray, TimestampMicrosecondArray,
};
use serde::{Deserialize, Serialize};

/// How a column's values are carried. Every type of a source maps to one of these; those with no closer one travel as the
/// text the system writes for them.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum ColumnType {
    /// True or false.
    Boolean,
    /// 16-bit integer.
    Int16,
    /// 32-bit integer.
    Int32,
    /// 64-bit integer.
    Int64,
    /// IEEE 754 single precision.
    Float32,
    /// IEEE 754 double precision.
    Float64,
    /// Fixed-point number of at most 38 digits. *Not a number* is [`NOT_A_NUMBER`].
    Decimal {
        /// Digits in all, 1 to 38.
        precision: u8,
        /// Digits after the point, 0 to the precision.
        scale: u8,
    },
    /// Text.
    Text,
    /// Bytes.
    Bytes,
    /// Days since 1970-01-01; the infinities are the two ends of `i32`.
    Date,
    /// Microseconds since 1970-01-01 in no zone; the infinities are the two ends of `i64`.
    Timestamp,
    /// Microseconds since 1970-01-01 UTC; the infinities are the two ends of `i64`.
    TimestampTz,
    /// Any other type, as the text its system writes.
    Verbatim,
}

/// The decimal that stands for *not a number*: outside the range of 38 digits, so no number is taken for it.
pub const NOT_A_NUMBER: i128 = i128::MIN;

/// One value, borrowed.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Value<'a> {
    /// SQL's null.
    Null,
    /// See [`ColumnType::Boolean`].
    Boolean(bool),
    /// See [`ColumnType::Int16`] and [`ColumnType::Int32`].
    Int(i32),
    /// See [`ColumnType::Int64`].
    Long(i64),
    /// See [`ColumnType::Float32`].
    Float(f32),
    /// See [`ColumnType::Float64`].
    Double(f64),
    /// Unscaled; see [`ColumnType::Decimal`].
    Decimal(i128),
    /// See [`ColumnType::Text`] and [`ColumnType::Verbatim`].
    Text(&'a str),
    /// See [`ColumnType::Bytes`].
    Bytes(&'a [u8]),
    /// See [`ColumnType::Date`].
    Date(i32),
    /// See [`ColumnType::Timestamp`] and [`ColumnType::TimestampTz`].
    Timestamp(i64),
}

/// A value that does not belong in its column: our own mistake, never the data's.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("a value of another type was put in a column of type {column:?}: this is a defect in Gonvel, please report it")]
pub struct WrongColumn {
    /// The column's type.
    pub column: ColumnType,
}

/// Collects the values of one column.
#[derive(Debug)]
pub enum ColumnBuilder {
    /// See [`ColumnType::Boolean`].
    Boolean(BooleanBuilder),
    /// See [`ColumnType::Int16`].
    Int16(Int16Builder),
    /// See [`ColumnType::Int32`].
    Int32(Int32Builder),
    /// See [`ColumnType::Int64`].
    Int64(Int64Builder),
    /// See [`ColumnType::Float32`].
    Float32(Float32Builder),
    /// See [`ColumnType::Float64`].
    Float64(Float64Builder),
    /// See [`ColumnType::Decimal`].
    Decimal(Decimal128Builder, ColumnType),
    /// See [`ColumnType::Text`].
    Text(StringBuilder, ColumnType),
    /// See [`ColumnType::Bytes`].
    Bytes(BinaryBuilder),
    /// See [`ColumnType::Date`].
    Date(Date32Builder),
    /// See [`ColumnType::Timestamp`].
    Timestamp(TimestampMicrosecondBuilder, ColumnType),
}

impl ColumnBuilder {
    /// An empty column.
    #[must_use]
    pub fn new(ty: ColumnType) -> Self {
        match ty {
            ColumnType::Boolean => Self::Boolean(BooleanBuilder::new()),
            ColumnType::Int16 => Self::Int16(Int16Builder::new()),
            ColumnType::Int32 => Self::Int32(Int32Builder::new()),
            ColumnType::Int64 => Self::Int64(Int64Builder::new()),
            ColumnType::Float32 => Self::Float32(Float32Builder::new()),
            ColumnType::Float64 => Self::Float64(Float64Builder::new()),
            ColumnType::Decimal { .. } => Self::Decimal(Decimal128Builder::new(), ty),
            ColumnType::Text | ColumnType::Verbatim => Self::Text(StringBuilder::new(), ty),
            ColumnType::Bytes => Self::Bytes(BinaryBuilder::new()),
            ColumnType::Date => Self::Date(Date32Builder::new()),
            ColumnType::Timestamp | ColumnType::TimestampTz => Self::Timestamp(TimestampMicrosecondBuilder::new(), ty),
        }
    }

    /// Adds one value.
    ///
    /// # Errors
    /// [`WrongColumn`] if the value is of another type.
    #[inline]
    pub fn push(&mut self, value: Value<'_>) -> Result<(), WrongColumn> {
        match (self, value) {
            (builder, Value::Null) => builder.push_null(),
            (Self::Boolean(b), Value::Boolean(v)) => b.append_value(v),
            (Self::Int16(b), Value::Int(v)) => {
                b.append_value(i16::try_from(v).map_err(|_| WrongColumn { column: ColumnType::Int16 })?);
            }
            (Self::Int32(b), Value::Int(v)) => b.append_value(v),
            (Self::Int64(b), Value::Long(v)) => b.append_value(v),
            (Self::Float32(b), Value::Float(v)) => b.append_value(v),
            (Self::Float64(b), Value::Double(v)) => b.append_value(v),
            (Self::Decimal(b, _), Value::Decimal(v)) => b.append_value(v),
            (Self::Text(b, _), Value::Text(v)) => b.append_value(v),
            (Self::Bytes(b), Value::Bytes(v)) => b.append_value(v),
            (Self::Date(b), Value::Date(v)) => b.append_value(v),
            (Self::Timestamp(b, _), Value::Timestamp(v)) => b.append_value(v),
            (builder, _) => return Err(WrongColumn { column: builder.ty() }),
        }
        Ok(())
    }

    /// Adds a null.
    #[inline]
    pub fn push_null(&mut self) {
        match self {
            Self::Boolean(b) => b.append_null(),
            Self::Int16(b) => b.append_null(),
            Self::Int32(b) => b.append_null(),
            Self::Int64(b) => b.append_null(),
            Self::Float32(b) => b.append_null(),
            Self::Float64(b) => b.append_null(),
            Self::Decimal(b, _) => b.append_null(),
            Self::Text(b, _) => b.append_null(),
            Self::Bytes(b) => b.append_null(),
            Self::Date(b) => b.append_null(),
            Self::Timestamp(b, _) => b.append_null(),
        }
    }

    fn ty(&self) -> ColumnType {
        match self {
            Self::Boolean(_) => ColumnType::Boolean,
            Self::Int16(_) => ColumnType::Int16,
            Self::Int32(_) => ColumnType::Int32,
            Self::Int64(_) => ColumnType::Int64,
            Self::Float32(_) => ColumnType::Float32,
            Self::Float64(_) => ColumnType::Float64,
            Self::Decimal(_, ty) | Self::Text(_, ty) | Self::Timestamp(_, ty) => *ty,
            Self::Bytes(_) => ColumnType::Bytes,
            Self::Date(_) => ColumnType::Date,
        }
    }

    /// The column as an array, leaving the builder empty.
    pub fn finish(&mut self) -> ColumnArray {
        match self {
            Self::Boolean(b) => ColumnArray::Boolean(b.finish()),
            Self::Int16(b) => ColumnArray::Int16(b.finish()),
            Self::Int32(b) => ColumnArray::Int32(b.finish()),
            Self::Int64(b) => ColumnArray::Int64(b.finish()),
            Self::Float32(b) => ColumnArray::Float32(b.finish()),
            Self::Float64(b) => ColumnArray::Float64(b.finish()),
            Self::Decimal(b, ty) => {
                let array = b.finish();
                let array = match *ty {
                    ColumnType::Decimal { precision, scale } => array
                        .with_precision_and_scale(precision, i8::try_from(scale).expect("at most 38"))
                        .expect("precision and scale were checked when the column was described"),
                    _ => array,
                };
                ColumnArray::Decimal(array)
            }
            Self::Text(b, _) => ColumnArray::Text(b.finish()),
            Self::Bytes(b) => ColumnArray::Bytes(b.finish()),
            Self::Date(b) => ColumnArray::Date(b.finish()),
            Self::Timestamp(b, ty) => {
                let array = b.finish();
                ColumnArray::Timestamp(if *ty == ColumnType::TimestampTz { array.with_timezone_utc() } else { array })
            }
        }
    }
}

/// A finished column: an Arrow array whose concrete type is known.
#[derive(Debug, Clone)]
pub enum ColumnArray {
    /// See [`ColumnType::Boolean`].
    Boolean(BooleanArray),
    /// See [`ColumnType::Int16`].
    Int16(Int16Array),
    /// See [`ColumnType::Int32`].
    Int32(Int32Array),
    /// See [`ColumnType::Int64`].
    Int64(Int64Array),
    /// See [`ColumnType::Float32`].
    Float32(Float32Array),
    /// See [`ColumnType::Float64`].
    Float64(Float64Array),
    /// See [`ColumnType::Decimal`].
    Decimal(Decimal128Array),
    /// See [`ColumnType::Text`].
    Text(StringArray),
    /// See [`ColumnType::Bytes`].
    Bytes(BinaryArray),
    /// See [`ColumnType::Date`].
    Date(Date32Array),
    /// See [`ColumnType::Timestamp`].
    Timestamp(TimestampMicrosecondArray),
}

impl ColumnArray {
    /// Bytes that it takes in memory.
    #[must_use]
    pub fn size(&self) -> usize {
        match self {
            Self::Boolean(a) => a.get_array_memory_size(),
            Self::Int16(a) => a.get_array_memory_size(),
            Self::Int32(a) => a.get_array_memory_size(),
            Self::Int64(a) => a.get_array_memory_size(),
            Self::Float32(a) => a.get_array_memory_size(),
            Self::Float64(a) => a.get_array_memory_size(),
            Self::Decimal(a) => a.get_array_memory_size(),
            Self::Text(a) => a.get_array_memory_size(),
            Self::Bytes(a) => a.get_array_memory_size(),
            Self::Date(a) => a.get_array_memory_size(),
            Self::Timestamp(a) => a.get_array_memory_size(),
        }
    }

    /// The value in a row.
    ///
    /// # Panics
    /// If the row is past the end.
    #[must_use]
    #[inline]
    pub fn value(&self, row: usize) -> Value<'_> {
        macro_rules! at {
            ($array:expr, $make:expr) => {
                if $array.is_null(row) { Value::Null } else { $make($array.value(row)) }
            };
        }
        match self {
            Self::Boolean(a) => at!(a, Value::Boolean),
            Self::Int16(a) => at!(a, |v: i16| Value::Int(i32::from(v))),
            Self::Int32(a) => at!(a, Value::Int),
            Self::Int64(a) => at!(a, Value::Long),
            Self::Float32(a) => at!(a, Value::Float),
            Self::Float64(a) => at!(a, Value::Double),
            Self::Decimal(a) => at!(a, Value::Decimal),
            Self::Text(a) => at!(a, Value::Text),
            Self::Bytes(a) => at!(a, Value::Bytes),
            Self::Date(a) => at!(a, Value::Date),
            Self::Timestamp(a) => at!(a, Value::Timestamp),
        }
    }

    /// The same array, its concrete type behind Arrow's own pointer.
    #[must_use]
    pub fn to_arrow(&self) -> ArrayRef {
        match self {
            Self::Boolean(a) => Arc::new(a.clone()),
            Self::Int16(a) => Arc::new(a.clone()),
            Self::Int32(a) => Arc::new(a.clone()),
            Self::Int64(a) => Arc::new(a.clone()),
            Self::Float32(a) => Arc::new(a.clone()),
            Self::Float64(a) => Arc::new(a.clone()),
            Self::Decimal(a) => Arc::new(a.clone()),
            Self::Text(a) => Arc::new(a.clone()),
            Self::Bytes(a) => Arc::new(a.clone()),
            Self::Date(a) => Arc::new(a.clone()),
            Self::Timestamp(a) => Arc::new(a.clone()),
        }
    }

    /// Rows in the column.
    #[must_use]
    pub fn len(&self) -> usize {
        self.to_arrow().len()
    }

    /// Whether the column holds no row.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }
}
