//! Values in PostgreSQL's binary form, as its types' send and receive functions have it: no text is made or read on either
//! side, which for numbers and times is most of the work.

use bytes::BufMut;
use gonvel_core::column::{ColumnType, NOT_A_NUMBER, Value};
use gonvel_core::sql_text::BadValue;
use gonvel_core::table::TableSchema;

use super::replication::EPOCH_US;

/// Days from 1970-01-01 to 2000-01-01, from which PostgreSQL counts.
const EPOCH_DAYS: i32 = 10_957;
const NUMERIC_NEGATIVE: u16 = 0x4000;
const NUMERIC_NAN: u16 = 0xC000;

/// Whether every value of a table's columns can be read in this form: those that travel as their text cannot.
#[must_use]
pub fn reads(table: &TableSchema) -> bool {
    table.columns.iter().all(|column| column.ty != ColumnType::Verbatim)
}

/// Whether a column's values can be given to a target's type in this form.
#[must_use]
pub fn fits(ty: ColumnType, target: &str) -> bool {
    match ty {
        ColumnType::Boolean => target == "boolean",
        ColumnType::Int16 => target == "smallint",
        ColumnType::Int32 => target == "integer",
        ColumnType::Int64 => target == "bigint",
        ColumnType::Float32 => target == "real",
        ColumnType::Float64 => target == "double precision",
        ColumnType::Decimal { .. } => target == "numeric" || target.starts_with("numeric("),
        ColumnType::Text => target == "text" || target.starts_with("character varying") || target.starts_with("character("),
        ColumnType::Bytes => target == "bytea",
        ColumnType::Date => target == "date",
        ColumnType::Timestamp => target.starts_with("timestamp") && target.ends_with("without time zone"),
        ColumnType::TimestampTz => target.starts_with("timestamp") && target.ends_with("with time zone"),
        ColumnType::Verbatim => false,
    }
}

/// Reads a value.
///
/// # Errors
/// [`BadValue`].
#[inline]
pub fn read(ty: ColumnType, bytes: &[u8]) -> Result<Value<'_>, BadValue> {
    let found = match ty {
        ColumnType::Boolean => bytes.first().map(|b| Value::Boolean(*b != 0)),
        ColumnType::Int16 => fixed(bytes).map(|b| Value::Int(i16::from_be_bytes(b).into())),
        ColumnType::Int32 => fixed(bytes).map(|b| Value::Int(i32::from_be_bytes(b))),
        ColumnType::Int64 => fixed(bytes).map(|b| Value::Long(i64::from_be_bytes(b))),
        ColumnType::Float32 => fixed(bytes).map(|b| Value::Float(f32::from_be_bytes(b))),
        ColumnType::Float64 => fixed(bytes).map(|b| Value::Double(f64::from_be_bytes(b))),
        ColumnType::Decimal { scale, .. } => numeric(bytes, scale).map(Value::Decimal),
        ColumnType::Text => std::str::from_utf8(bytes).ok().map(Value::Text),
        ColumnType::Bytes => Some(Value::Bytes(bytes)),
        ColumnType::Date => fixed(bytes).map(i32::from_be_bytes).and_then(|days| match days {
            i32::MAX | i32::MIN => Some(Value::Date(days)),
            days => days.checked_add(EPOCH_DAYS).map(Value::Date),
        }),
        ColumnType::Timestamp | ColumnType::TimestampTz => fixed(bytes).map(i64::from_be_bytes).and_then(|us| match us {
            i64::MAX | i64::MIN => Some(Value::Timestamp(us)),
            us => us.checked_add(EPOCH_US).map(Value::Timestamp),
        }),
        ColumnType::Verbatim => None,
    };
    found.ok_or_else(|| BadValue { text: bytes.iter().take(40).map(|b| format!("{b:02x}")).collect(), ty })
}

fn fixed<const N: usize>(bytes: &[u8]) -> Option<[u8; N]> {
    bytes.try_into().ok()
}

/// The unscaled value of a numeric at a scale; none if it has more digits after the point, or is infinite.
fn numeric(bytes: &[u8], scale: u8) -> Option<i128> {
    let (head, digits) = bytes.split_at_checked(8)?;
    let short = |at: usize| u16::from_be_bytes([head[at], head[at + 1]]);
    let (count, weight, sign) = (usize::from(short(0)), short(2).cast_signed(), short(4));
    if sign == NUMERIC_NAN {
        return Some(NOT_A_NUMBER);
    }
    if digits.len() != count * 2 || (sign != 0 && sign != NUMERIC_NEGATIVE) {
        return None;
    }
    // each digit of four stands for a power of ten beyond the scale: the first for this one
    let mut power = i32::from(weight) * 4 + i32::from(scale);
    let (mut value, mut lowest) = (0_i128, 0);
    for digit in digits.chunks_exact(2) {
        let digit = i128::from(u16::from_be_bytes([digit[0], digit[1]]));
        if power >= 0 {
            value = value.checked_mul(10_000)?.checked_add(digit)?;
            lowest = power;
        } else {
            // only a part of the last digit is before the scale's end, and nothing may be after it
            let beyond = 10_i128.pow(power.unsigned_abs().min(4));
            if digit % beyond != 0 {
                return None;
            }
            value = value.checked_mul(10_000 / beyond)?.checked_add(digit / beyond)?;
            lowest = 0;
        }
        power -= 4;
    }
    let value = if value == 0 { 0 } else { value.checked_mul(10_i128.checked_pow(lowest.unsigned_abs())?)? };
    Some(if sign == NUMERIC_NEGATIVE { -value } else { value })
}

fn sized(bytes: &[u8], out: &mut Vec<u8>) {
    out.put_i32(i32::try_from(bytes.len()).unwrap_or(i32::MAX));
    out.extend_from_slice(bytes);
}

/// Appends a value with its length before it, or the mark of null.
pub(super) fn write(ty: ColumnType, value: Value<'_>, out: &mut Vec<u8>) {
    match value {
        Value::Null => out.put_i32(-1),
        Value::Boolean(v) => sized(&[u8::from(v)], out),
        Value::Int(v) if ty == ColumnType::Int16 => sized(&i16::try_from(v).unwrap_or(0).to_be_bytes(), out),
        Value::Int(v) => sized(&v.to_be_bytes(), out),
        Value::Long(v) => sized(&v.to_be_bytes(), out),
        Value::Float(v) => sized(&v.to_be_bytes(), out),
        Value::Double(v) => sized(&v.to_be_bytes(), out),
        Value::Bytes(v) => sized(v, out),
        Value::Text(v) => sized(v.as_bytes(), out),
        Value::Date(v @ (i32::MAX | i32::MIN)) => sized(&v.to_be_bytes(), out),
        Value::Date(v) => sized(&(v - EPOCH_DAYS).to_be_bytes(), out),
        Value::Timestamp(v @ (i64::MAX | i64::MIN)) => sized(&v.to_be_bytes(), out),
        Value::Timestamp(v) => sized(&(v - EPOCH_US).to_be_bytes(), out),
        Value::Decimal(v) => {
            let scale = if let ColumnType::Decimal { scale, .. } = ty { scale } else { 0 };
            write_numeric(v, scale, out);
        }
    }
}

fn write_numeric(value: i128, scale: u8, out: &mut Vec<u8>) {
    // lowest first; 38 digits make at most eleven groups of four around a point
    let mut groups = [0_u16; 12];
    let (mut count, mut left) = (0_usize, value.unsigned_abs());
    if value == NOT_A_NUMBER {
        left = 0;
    }
    let part = scale % 4;
    if part > 0 {
        let power = 10_u128.pow(u32::from(part));
        groups[0] = u16::try_from(left % power).unwrap_or(0) * 10_u16.pow(u32::from(4 - part));
        (count, left) = (1, left / power);
    }
    while left > 0 && count < groups.len() {
        groups[count] = u16::try_from(left % 10_000).unwrap_or(0);
        (count, left) = (count + 1, left / 10_000);
    }
    let after_point = usize::from(scale.div_ceil(4));
    while count > 0 && groups[count - 1] == 0 {
        count -= 1;
    }
    let first = groups[..count].iter().position(|g| *g > 0).unwrap_or(count);
    let short = |n: usize| i16::try_from(n).unwrap_or(i16::MAX);
    let weight = if count == 0 { 0 } else { short(count) - short(after_point) - 1 };
    let sign = if value == NOT_A_NUMBER {
        NUMERIC_NAN
    } else if value < 0 {
        NUMERIC_NEGATIVE
    } else {
        0
    };
    out.put_i32(8 + 2 * i32::from(short(count - first)));
    out.put_i16(short(count - first));
    out.put_i16(weight);
    out.put_u16(sign);
    out.put_u16(if value == NOT_A_NUMBER { 0 } else { u16::from(scale) });
    for group in groups[first..count].iter().rev() {
        out.put_u16(*group);
    }
}

/// Where the rows of COPY's binary form begin; none while its head is not there as a whole.
pub(super) fn header(data: &[u8]) -> Option<usize> {
    // eleven bytes of signature, four of flags, the length of what else there is
    let further = u32::from_be_bytes(data.get(15..19)?.try_into().ok()?);
    let length = 19 + usize::try_from(further).ok()?;
    (data.len() >= length).then_some(length)
}

/// Finds the fields of the next row of COPY's binary form, none for null, and gives its length; without a field it is the end.
/// None while the row is not there as a whole.
pub(super) fn tuple(data: &[u8], places: &mut Vec<Option<(usize, usize)>>) -> Option<usize> {
    places.clear();
    let count = i16::from_be_bytes(data.get(..2)?.try_into().ok()?);
    let mut at = 2;
    for _ in 0..count {
        let length = i32::from_be_bytes(data.get(at..at + 4)?.try_into().ok()?);
        at += 4;
        match usize::try_from(length) {
            Err(_) => places.push(None),
            Ok(length) => {
                data.get(at..at + length)?;
                places.push(Some((at, at + length)));
                at += length;
            }
        }
    }
    Some(at)
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn back(ty: ColumnType, value: Value<'_>) -> Vec<u8> {
        let mut out = Vec::new();
        write(ty, value, &mut out);
        let length = usize::try_from(i32::from_be_bytes(out[..4].try_into().unwrap())).unwrap();
        assert_eq!(length, out.len() - 4);
        out.split_off(4)
    }

    #[test]
    fn numerics_are_written_as_the_server_writes_them() {
        // of `SELECT numeric_send(…)`
        for (value, scale, hex) in [
            (0, 1, "0000000000000001"),
            (2501, 1, "000200000000000100fa03e8"),
            (-1, 2, "0001ffff400000020064"),
            (10_000, 0, "00010001000000000001"),
            (123_456_789, 3, "0003000100000003000c0d801ed2"),
            (NOT_A_NUMBER, 4, "00000000c0000000"),
        ] {
            let ty = ColumnType::Decimal { precision: 38, scale };
            let found: String = back(ty, Value::Decimal(value)).iter().map(|b| format!("{b:02x}")).collect();
            assert_eq!(found, hex, "{value} at {scale}");
        }
    }

    proptest! {
        #[test]
        fn what_is_written_is_read_back(
            long: i64, int: i32, double in any::<f64>().prop_filter("equal to itself", |d| !d.is_nan()), text: String,
            unscaled in -(10_i128.pow(38) - 1)..10_i128.pow(38), small in -99_999_i128..99_999, scale in 0_u8..=38,
            us in -100_000_000_000_000_000_i64..100_000_000_000_000_000, days in -2_000_000_i32..2_000_000,
        ) {
            let decimal = ColumnType::Decimal { precision: 38, scale };
            for (ty, value) in [
                (ColumnType::Int64, Value::Long(long)),
                (ColumnType::Int32, Value::Int(int)),
                (ColumnType::Int16, Value::Int(int % 30_000)),
                (ColumnType::Float64, Value::Double(double)),
                (ColumnType::Text, Value::Text(&text)),
                (ColumnType::Bytes, Value::Bytes(text.as_bytes())),
                (ColumnType::Boolean, Value::Boolean(int > 0)),
                (decimal, Value::Decimal(unscaled)),
                (decimal, Value::Decimal(small)),
                (decimal, Value::Decimal(NOT_A_NUMBER)),
                (ColumnType::TimestampTz, Value::Timestamp(us)),
                (ColumnType::Timestamp, Value::Timestamp(i64::MAX)),
                (ColumnType::Date, Value::Date(days)),
                (ColumnType::Date, Value::Date(i32::MIN)),
            ] {
                let bytes = back(ty, value);
                prop_assert_eq!(read(ty, &bytes), Ok(value));
            }
        }

        #[test]
        fn other_bytes_are_refused_without_a_panic(bytes: Vec<u8>, scale in 0_u8..=38) {
            for ty in [ColumnType::Int64, ColumnType::Date, ColumnType::TimestampTz, ColumnType::Decimal { precision: 38, scale }, ColumnType::Text] {
                let _ = read(ty, &bytes);
            }
        }
    }
}
