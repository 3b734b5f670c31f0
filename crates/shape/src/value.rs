//! Values while expressions are worked out: owned ones, and columns or constants of them.

use std::borrow::Cow;

use gonvel_core::column::{ColumnArray, ColumnBuilder, ColumnType, Value, WrongColumn};

/// A value that a function gives: borrowed from its arguments where it can be.
#[derive(Debug, Clone, PartialEq)]
pub enum Given<'a> {
    /// SQL's null.
    Null,
    /// `boolean`
    Boolean(bool),
    /// `smallint`, `integer`
    Int(i32),
    /// `bigint`
    Long(i64),
    /// `real`
    Float(f32),
    /// `double precision`
    Double(f64),
    /// `numeric`, unscaled
    Decimal(i128),
    /// Text, and types that are held as text.
    Text(Cow<'a, str>),
    /// `bytea`
    Bytes(Cow<'a, [u8]>),
    /// `date`
    Date(i32),
    /// `timestamp`, `timestamptz`
    Timestamp(i64),
}

/// A value of its own.
pub type Owned = Given<'static>;

impl<'a> Given<'a> {
    /// Text of its own.
    #[must_use]
    pub fn text(text: impl Into<String>) -> Self {
        Self::Text(Cow::Owned(text.into()))
    }

    /// The value, borrowed.
    #[must_use]
    pub fn value(&self) -> Value<'_> {
        match self {
            Self::Null => Value::Null,
            Self::Boolean(v) => Value::Boolean(*v),
            Self::Int(v) => Value::Int(*v),
            Self::Long(v) => Value::Long(*v),
            Self::Float(v) => Value::Float(*v),
            Self::Double(v) => Value::Double(*v),
            Self::Decimal(v) => Value::Decimal(*v),
            Self::Text(v) => Value::Text(v),
            Self::Bytes(v) => Value::Bytes(v),
            Self::Date(v) => Value::Date(*v),
            Self::Timestamp(v) => Value::Timestamp(*v),
        }
    }

    /// The value, its own.
    #[must_use]
    pub fn owned(self) -> Owned {
        match self {
            Self::Null => Given::Null,
            Self::Boolean(v) => Given::Boolean(v),
            Self::Int(v) => Given::Int(v),
            Self::Long(v) => Given::Long(v),
            Self::Float(v) => Given::Float(v),
            Self::Double(v) => Given::Double(v),
            Self::Decimal(v) => Given::Decimal(v),
            Self::Text(v) => Given::Text(Cow::Owned(v.into_owned())),
            Self::Bytes(v) => Given::Bytes(Cow::Owned(v.into_owned())),
            Self::Date(v) => Given::Date(v),
            Self::Timestamp(v) => Given::Timestamp(v),
        }
    }
}

impl<'a> From<Value<'a>> for Given<'a> {
    fn from(value: Value<'a>) -> Self {
        match value {
            Value::Null => Self::Null,
            Value::Boolean(v) => Self::Boolean(v),
            Value::Int(v) => Self::Int(v),
            Value::Long(v) => Self::Long(v),
            Value::Float(v) => Self::Float(v),
            Value::Double(v) => Self::Double(v),
            Value::Decimal(v) => Self::Decimal(v),
            Value::Text(v) => Self::Text(Cow::Borrowed(v)),
            Value::Bytes(v) => Self::Bytes(Cow::Borrowed(v)),
            Value::Date(v) => Self::Date(v),
            Value::Timestamp(v) => Self::Timestamp(v),
        }
    }
}

/// What an expression gives for the rows of a batch.
#[derive(Debug, Clone)]
pub enum Vector {
    /// The same for all.
    Constant(Owned),
    /// One for each.
    Column(ColumnArray),
}

impl Vector {
    /// The value in a row.
    #[must_use]
    #[inline]
    pub fn value(&self, row: usize) -> Value<'_> {
        match self {
            Self::Constant(value) => value.value(),
            Self::Column(column) => column.value(row),
        }
    }

    /// A column of so many rows.
    ///
    /// # Errors
    /// [`WrongColumn`] if the constant is of another type: our own mistake.
    pub fn column(self, ty: ColumnType, rows: usize) -> Result<ColumnArray, WrongColumn> {
        match self {
            Self::Column(column) => Ok(column),
            Self::Constant(value) => {
                let mut builder = ColumnBuilder::new(ty);
                for _ in 0..rows {
                    builder.push(value.value())?;
                }
                Ok(builder.finish())
            }
        }
    }
}
