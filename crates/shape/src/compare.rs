//! The order of values, as SQL has it.

use std::cmp::Ordering;

use arrow_buffer::i256;
use gonvel_core::column::{NOT_A_NUMBER, Value};

use crate::expr::Comparison;
use crate::interval::Interval;
use crate::ty::Ty;

/// Whether an order is what a comparison asks for.
#[must_use]
pub fn holds(how: Comparison, order: Ordering) -> bool {
    match how {
        Comparison::Equal => order.is_eq(),
        Comparison::Unequal => order.is_ne(),
        Comparison::Less => order.is_lt(),
        Comparison::AtMost => order.is_le(),
        Comparison::Greater => order.is_gt(),
        Comparison::AtLeast => order.is_ge(),
    }
}

/// The order of two values that are not null, of one kind of type: texts by their bytes, numerics whatever their scales, NaN the
/// largest and equal to itself.
#[must_use]
pub fn compare((left, right): (&Ty, &Ty), a: Value<'_>, b: Value<'_>) -> Ordering {
    match (a, b) {
        (Value::Boolean(a), Value::Boolean(b)) => a.cmp(&b),
        (Value::Int(a), Value::Int(b)) => a.cmp(&b),
        (Value::Long(a), Value::Long(b)) => a.cmp(&b),
        (Value::Float(a), Value::Float(b)) => floats(f64::from(a), f64::from(b)),
        (Value::Double(a), Value::Double(b)) => floats(a, b),
        (Value::Decimal(a), Value::Decimal(b)) => decimals((a, left.scale()), (b, right.scale())),
        (Value::Text(a), Value::Text(b)) if *left == Ty::Interval => match (Interval::parse(a), Interval::parse(b)) {
            (Some(a), Some(b)) => a.length().cmp(&b.length()),
            _ => a.cmp(b),
        },
        (Value::Text(a), Value::Text(b)) => a.cmp(b),
        (Value::Bytes(a), Value::Bytes(b)) => a.cmp(b),
        (Value::Date(a), Value::Date(b)) => a.cmp(&b),
        (Value::Timestamp(a), Value::Timestamp(b)) => a.cmp(&b),
        _ => Ordering::Equal,
    }
}

fn floats(a: f64, b: f64) -> Ordering {
    match (a.is_nan(), b.is_nan()) {
        (true, true) => Ordering::Equal,
        (true, false) => Ordering::Greater,
        (false, true) => Ordering::Less,
        (false, false) => a.partial_cmp(&b).unwrap_or(Ordering::Equal),
    }
}

fn decimals((a, a_scale): (i128, u8), (b, b_scale): (i128, u8)) -> Ordering {
    match (a == NOT_A_NUMBER, b == NOT_A_NUMBER) {
        (true, true) => return Ordering::Equal,
        (true, false) => return Ordering::Greater,
        (false, true) => return Ordering::Less,
        (false, false) if a_scale == b_scale => return a.cmp(&b),
        (false, false) => {}
    }
    let up = |v: i128, by: u8| i256::from_i128(v).wrapping_mul(i256::from_i128(10_i128.pow(u32::from(by.min(38)))));
    let scale = a_scale.max(b_scale);
    up(a, scale - a_scale).cmp(&up(b, scale - b_scale))
}
