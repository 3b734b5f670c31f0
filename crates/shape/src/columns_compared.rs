//! Whole columns compared, for the types whose order is SQL's: a loop of its own for each type and comparison.

use arrow_array::types::ArrowPrimitiveType;
use arrow_array::{Array, BooleanArray, Decimal128Array, PrimitiveArray};
use arrow_buffer::{BooleanBuffer, NullBuffer};
use arrow_schema::DataType;
use gonvel_core::column::{ColumnArray, NOT_A_NUMBER};

use crate::expr::Comparison;
use crate::ty::Ty;
use crate::value::{Given, Owned, Vector};

/// Both sides compared, unless their values must be looked at one by one: floats, where SQL has one zero and one largest NaN,
/// numerics of two scales or with NaN, spans of time, which are equal by their length, and types that differ.
pub(crate) fn compared(how: Comparison, types: (&Ty, &Ty), left: &Vector, right: &Vector) -> Option<BooleanArray> {
    if *types.0 == Ty::Interval || *types.1 == Ty::Interval {
        return None;
    }
    match (left, right) {
        (Vector::Column(left), Vector::Column(right)) => with_column(how, left, right),
        (Vector::Column(left), Vector::Constant(right)) => with_constant(how, left, right, types.1.scale()),
        (Vector::Constant(left), Vector::Column(right)) => with_constant(how.turned(), right, left, types.0.scale()),
        (Vector::Constant(_), Vector::Constant(_)) => None,
    }
}

fn with_column(how: Comparison, left: &ColumnArray, right: &ColumnArray) -> Option<BooleanArray> {
    fn both<T: ArrowPrimitiveType>(
        how: Comparison,
        left: &PrimitiveArray<T>,
        right: &PrimitiveArray<T>,
    ) -> Option<BooleanArray>
    where
        T::Native: PartialOrd,
    {
        let (l, r) = (left.values(), right.values());
        let same = left.data_type() == right.data_type();
        same.then(|| found(loops(how, l.len(), |row| l[row], |row| r[row]), left.nulls(), right.nulls()))
    }
    match (left, right) {
        (ColumnArray::Int16(l), ColumnArray::Int16(r)) => both(how, l, r),
        (ColumnArray::Int32(l), ColumnArray::Int32(r)) => both(how, l, r),
        (ColumnArray::Int64(l), ColumnArray::Int64(r)) => both(how, l, r),
        (ColumnArray::Date(l), ColumnArray::Date(r)) => both(how, l, r),
        (ColumnArray::Timestamp(l), ColumnArray::Timestamp(r)) => both(how, l, r),
        (ColumnArray::Decimal(l), ColumnArray::Decimal(r)) if numbers(l) && numbers(r) => both(how, l, r),
        (ColumnArray::Text(l), ColumnArray::Text(r)) => {
            Some(found(loops(how, l.len(), |row| l.value(row), |row| r.value(row)), l.nulls(), r.nulls()))
        }
        _ => None,
    }
}

/// A column compared with one value, a numeric of this scale if it is one.
fn with_constant(how: Comparison, left: &ColumnArray, right: &Owned, scale: u8) -> Option<BooleanArray> {
    fn one<T: ArrowPrimitiveType>(how: Comparison, left: &PrimitiveArray<T>, right: T::Native) -> BooleanArray
    where
        T::Native: PartialOrd,
    {
        let values = left.values();
        found(loops(how, values.len(), |row| values[row], |_| right), left.nulls(), None)
    }
    Some(match (left, right) {
        (ColumnArray::Int16(l), Given::Int(r)) => one(how, l, i16::try_from(*r).ok()?),
        (ColumnArray::Int32(l), Given::Int(r)) => one(how, l, *r),
        (ColumnArray::Int64(l), Given::Long(r)) => one(how, l, *r),
        (ColumnArray::Date(l), Given::Date(r)) => one(how, l, *r),
        (ColumnArray::Timestamp(l), Given::Timestamp(r)) => one(how, l, *r),
        (ColumnArray::Decimal(l), Given::Decimal(r)) if numbers(l) => one(how, l, scaled(*r, scale, l.data_type())?),
        (ColumnArray::Decimal(l), Given::Int(r)) if numbers(l) => one(how, l, scaled((*r).into(), 0, l.data_type())?),
        (ColumnArray::Text(l), Given::Text(r)) => {
            found(loops(how, l.len(), |row| l.value(row), |_| r.as_ref()), l.nulls(), None)
        }
        _ => return None,
    })
}

/// What is no number is the largest in SQL, and stands for itself as the smallest here.
fn numbers(array: &Decimal128Array) -> bool {
    !array.values().contains(&NOT_A_NUMBER)
}

/// A number as one of a decimal column's type, if it is one.
fn scaled(value: i128, scale: u8, ty: &DataType) -> Option<i128> {
    let DataType::Decimal128(_, to) = ty else { return None };
    if value == NOT_A_NUMBER {
        return None;
    }
    let by = i32::from(*to) - i32::from(scale);
    let power = 10_i128.checked_pow(by.unsigned_abs())?;
    if by >= 0 { value.checked_mul(power) } else { (value % power == 0).then_some(value / power) }
}

/// What was found; null where either side is.
fn found(values: BooleanBuffer, left: Option<&NullBuffer>, right: Option<&NullBuffer>) -> BooleanArray {
    BooleanArray::new(values, NullBuffer::union(left, right))
}

fn loops<T: PartialOrd>(how: Comparison, rows: usize, l: impl Fn(usize) -> T, r: impl Fn(usize) -> T) -> BooleanBuffer {
    match how {
        Comparison::Equal => BooleanBuffer::collect_bool(rows, |row| l(row) == r(row)),
        Comparison::Unequal => BooleanBuffer::collect_bool(rows, |row| l(row) != r(row)),
        Comparison::Less => BooleanBuffer::collect_bool(rows, |row| l(row) < r(row)),
        Comparison::AtMost => BooleanBuffer::collect_bool(rows, |row| l(row) <= r(row)),
        Comparison::Greater => BooleanBuffer::collect_bool(rows, |row| l(row) > r(row)),
        Comparison::AtLeast => BooleanBuffer::collect_bool(rows, |row| l(row) >= r(row)),
    }
}
