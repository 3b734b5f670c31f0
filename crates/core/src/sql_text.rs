//! Values between PostgreSQL's text form and column batches.
//!
//! Text is read as PostgreSQL writes it with `DateStyle` ISO, time zone UTC and `bytea_output` hex, which every session of
//! ours sets.

use crate::avro::json::decimal_text;
use crate::civil::{DAY_US, days_from_civil, write_date, write_time};
use crate::column::{ColumnType, NOT_A_NUMBER, Value};

/// A value that is not written as its type is.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{text:?} is not a value of type {ty:?}")]
pub struct BadValue {
    /// What was found, cut to 80 characters.
    pub text: String,
    /// What was expected.
    pub ty: ColumnType,
}

/// Reads a value's text. `scratch` lends room for values that are not a slice of the text.
///
/// # Errors
/// [`BadValue`].
#[inline]
pub fn read<'a>(ty: ColumnType, text: &'a [u8], scratch: &'a mut Vec<u8>) -> Result<Value<'a>, BadValue> {
    let found = match ty {
        ColumnType::Boolean => Some(Value::Boolean(text == b"t")),
        ColumnType::Int16 | ColumnType::Int32 => integer(text).and_then(|v| i32::try_from(v).ok()).map(Value::Int),
        ColumnType::Int64 => integer(text).map(Value::Long),
        ColumnType::Float32 => utf8(text).and_then(|t| t.parse().ok()).map(Value::Float),
        ColumnType::Float64 => utf8(text).and_then(|t| t.parse().ok()).map(Value::Double),
        ColumnType::Decimal { scale, .. } => decimal(text, scale).map(Value::Decimal),
        ColumnType::Text | ColumnType::Verbatim => utf8(text).map(Value::Text),
        ColumnType::Bytes => unhex(text, scratch).then_some(()).map(|()| Value::Bytes(scratch)),
        ColumnType::Date => date(text).map(Value::Date),
        ColumnType::Timestamp | ColumnType::TimestampTz => timestamp(text).map(Value::Timestamp),
    };
    found.ok_or_else(|| BadValue { text: String::from_utf8_lossy(text).chars().take(80).collect(), ty })
}

fn utf8(text: &[u8]) -> Option<&str> {
    std::str::from_utf8(text).ok()
}

#[inline]
fn integer(text: &[u8]) -> Option<i64> {
    let (negative, digits) = match text.split_first() {
        Some((b'-', rest)) => (true, rest),
        _ => (false, text),
    };
    if digits.is_empty() || digits.len() > 19 {
        return None;
    }
    let mut value = 0_i64;
    for &digit in digits {
        let digit = digit.checked_sub(b'0').filter(|d| *d < 10)?;
        // counted downwards, so that the least number has room
        value = value.checked_mul(10)?.checked_sub(i64::from(digit))?;
    }
    if negative { Some(value) } else { value.checked_neg() }
}

fn decimal(text: &[u8], scale: u8) -> Option<i128> {
    if text == b"NaN" {
        return Some(NOT_A_NUMBER);
    }
    let (negative, digits) = match text.split_first() {
        Some((b'-', rest)) => (true, rest),
        _ => (false, text),
    };
    let mut value = 0_i128;
    let mut after = None::<u8>;
    for &byte in digits {
        if byte == b'.' && after.is_none() {
            after = Some(0);
            continue;
        }
        let digit = byte.checked_sub(b'0').filter(|d| *d < 10)?;
        value = value.checked_mul(10)?.checked_add(i128::from(digit))?;
        after = after.map(|n| n + 1);
    }
    for _ in after.unwrap_or(0)..scale {
        value = value.checked_mul(10)?;
    }
    (after.unwrap_or(0) <= scale).then_some(if negative { -value } else { value })
}

fn unhex(text: &[u8], out: &mut Vec<u8>) -> bool {
    out.clear();
    let Some(digits) = text.strip_prefix(b"\\x") else { return false };
    let nibble = |b: u8| char::from(b).to_digit(16).and_then(|d| u8::try_from(d).ok());
    for pair in digits.chunks(2) {
        match pair {
            [high, low] => match (nibble(*high), nibble(*low)) {
                (Some(high), Some(low)) => out.push(high << 4 | low),
                _ => return false,
            },
            _ => return false,
        }
    }
    true
}

/// Reads `digits` of a run up to a byte that is none; gives the number and the rest.
fn number(text: &[u8]) -> Option<(i64, &[u8])> {
    let end = text.iter().position(|b| !b.is_ascii_digit()).unwrap_or(text.len());
    integer(&text[..end]).map(|n| (n, &text[end..]))
}

fn civil(text: &[u8]) -> Option<(i64, i64, i64, &[u8])> {
    let (year, rest) = number(text)?;
    let (month, rest) = number(rest.strip_prefix(b"-")?)?;
    let (day, rest) = number(rest.strip_prefix(b"-")?)?;
    Some((year, month, day, rest))
}

fn days(text: &[u8]) -> Option<(i64, &[u8])> {
    let (year, month, day, rest) = civil(text)?;
    let (year, rest) = match rest.strip_suffix(b" BC") {
        Some(rest) => (1 - year, rest),
        None => (year, rest),
    };
    Some((days_from_civil(year, month, day), rest))
}

fn date(text: &[u8]) -> Option<i32> {
    match text {
        b"infinity" => Some(i32::MAX),
        b"-infinity" => Some(i32::MIN),
        _ => days(text).filter(|(_, rest)| rest.is_empty()).and_then(|(days, _)| i32::try_from(days).ok()),
    }
}

fn timestamp(text: &[u8]) -> Option<i64> {
    match text {
        b"infinity" => return Some(i64::MAX),
        b"-infinity" => return Some(i64::MIN),
        _ => {}
    }
    let (days, rest) = days(text)?;
    let (hour, rest) = number(rest.strip_prefix(b" ")?)?;
    let (minute, rest) = number(rest.strip_prefix(b":")?)?;
    let (second, rest) = number(rest.strip_prefix(b":")?)?;
    let (micros, rest) = match rest.strip_prefix(b".") {
        Some(fraction) => {
            let end = fraction.iter().position(|b| !b.is_ascii_digit()).unwrap_or(fraction.len());
            let missing = 6_u32.checked_sub(u32::try_from(end).ok()?)?;
            (integer(&fraction[..end])? * 10_i64.pow(missing), &fraction[end..])
        }
        None => (0, rest),
    };
    if !(rest.is_empty() || rest == b"+00") {
        return None;
    }
    let of_day = ((hour * 60 + minute) * 60 + second) * 1_000_000 + micros;
    days.checked_mul(DAY_US)?.checked_add(of_day)
}

fn write_integer(value: i64, out: &mut Vec<u8>) {
    let mut digits = [0_u8; 20];
    let mut at = digits.len();
    let mut left = value.unsigned_abs();
    loop {
        at -= 1;
        digits[at] = b'0' + u8::try_from(left % 10).unwrap_or(0);
        left /= 10;
        if left == 0 {
            break;
        }
    }
    if value < 0 {
        out.push(b'-');
    }
    out.extend_from_slice(&digits[at..]);
}

fn write_decimal(value: i128, scale: u8, out: &mut Vec<u8>) {
    match i64::try_from(value) {
        // the common case without an allocation
        Ok(small) if scale < 18 => {
            if small < 0 {
                out.push(b'-');
            }
            let unit = 10_u64.pow(u32::from(scale));
            let whole = small.unsigned_abs() / unit;
            write_integer(whole.cast_signed(), out);
            if scale > 0 {
                out.push(b'.');
                let fraction = small.unsigned_abs() % unit;
                let start = out.len();
                write_integer((fraction + unit).cast_signed(), out);
                out.remove(start);
            }
        }
        _ => out.extend_from_slice(decimal_text(value, usize::from(scale)).as_bytes()),
    }
}

/// Writes a value as PostgreSQL reads it; false for null, which has no text.
#[inline]
pub fn write(ty: ColumnType, value: Value<'_>, out: &mut Vec<u8>) -> bool {
    match value {
        Value::Null => return false,
        Value::Boolean(v) => out.push(if v { b't' } else { b'f' }),
        Value::Int(v) => write_integer(i64::from(v), out),
        Value::Long(v) => write_integer(v, out),
        Value::Float(v) => out.extend_from_slice(v.to_string().as_bytes()),
        Value::Double(v) => out.extend_from_slice(v.to_string().as_bytes()),
        Value::Decimal(NOT_A_NUMBER) => out.extend_from_slice(b"NaN"),
        Value::Decimal(v) => {
            let scale = if let ColumnType::Decimal { scale, .. } = ty { scale } else { 0 };
            write_decimal(v, scale, out);
        }
        Value::Text(v) => out.extend_from_slice(v.as_bytes()),
        Value::Bytes(v) => {
            out.extend_from_slice(b"\\x");
            for byte in v {
                out.push(b"0123456789abcdef"[usize::from(byte >> 4)]);
                out.push(b"0123456789abcdef"[usize::from(byte & 15)]);
            }
        }
        Value::Date(i32::MAX) | Value::Timestamp(i64::MAX) => out.extend_from_slice(b"infinity"),
        Value::Date(i32::MIN) | Value::Timestamp(i64::MIN) => out.extend_from_slice(b"-infinity"),
        Value::Date(v) => {
            if write_date(i64::from(v), out) {
                out.extend_from_slice(b" BC");
            }
        }
        Value::Timestamp(v) => {
            let before = write_date(v.div_euclid(DAY_US), out);
            out.push(b' ');
            write_time(v.rem_euclid(DAY_US), out);
            if ty == ColumnType::TimestampTz {
                out.extend_from_slice(b"+00");
            }
            if before {
                out.extend_from_slice(b" BC");
            }
        }
    }
    true
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    const DECIMAL: ColumnType = ColumnType::Decimal { precision: 38, scale: 3 };

    #[test]
    fn what_postgresql_writes_is_read_and_written_the_same() {
        let cases: &[(ColumnType, &str, Value<'_>)] = &[
            (ColumnType::Boolean, "t", Value::Boolean(true)),
            (ColumnType::Int32, "-2147483648", Value::Int(i32::MIN)),
            (ColumnType::Int64, "-9223372036854775808", Value::Long(i64::MIN)),
            (DECIMAL, "-0.050", Value::Decimal(-50)),
            (
                DECIMAL,
                "12345678901234567890123456789012345.678",
                Value::Decimal(12_345_678_901_234_567_890_123_456_789_012_345_678),
            ),
            (DECIMAL, "NaN", Value::Decimal(NOT_A_NUMBER)),
            (ColumnType::Date, "2026-11-24", Value::Date(20_781)),
            (ColumnType::Date, "0044-03-15 BC", Value::Date(-735_160)),
            (ColumnType::Date, "infinity", Value::Date(i32::MAX)),
            (ColumnType::Date, "12026-01-01", Value::Date(3_672_879)),
            (ColumnType::TimestampTz, "1969-12-31 23:59:59.999999+00", Value::Timestamp(-1)),
            (ColumnType::Timestamp, "1970-01-01 00:00:01.5", Value::Timestamp(1_500_000)),
            (ColumnType::TimestampTz, "-infinity", Value::Timestamp(i64::MIN)),
            (ColumnType::Bytes, "\\xcafe", Value::Bytes(&[0xca, 0xfe])),
        ];
        for (ty, text, value) in cases {
            let mut scratch = Vec::new();
            assert_eq!(read(*ty, text.as_bytes(), &mut scratch).as_ref(), Ok(value), "{text}");
            let mut out = Vec::new();
            assert!(write(*ty, *value, &mut out));
            assert_eq!(String::from_utf8(out).unwrap(), *text);
        }
    }

    #[test]
    fn what_no_type_writes_is_refused() {
        for (ty, text) in [
            (ColumnType::Int16, "12a"),
            (ColumnType::Int64, "9223372036854775808"),
            (DECIMAL, "1.2345"),
            (ColumnType::Date, "24.11.2026"),
            (ColumnType::TimestampTz, "2026-11-24 10:00:00+02"),
            (ColumnType::Bytes, "\\xc"),
            (ColumnType::Int32, ""),
        ] {
            assert!(read(ty, text.as_bytes(), &mut Vec::new()).is_err(), "{text}");
        }
    }

    proptest! {
        #[test]
        fn numbers_and_times_come_back(long: i64, decimal in -(10_i128.pow(37))..10_i128.pow(37), us in -60_000_000_000_000_000_i64..250_000_000_000_000_000, d: f64) {
            for (ty, value) in [
                (ColumnType::Int64, Value::Long(long)),
                (DECIMAL, Value::Decimal(decimal)),
                (ColumnType::TimestampTz, Value::Timestamp(us)),
                (ColumnType::Float64, Value::Double(d)),
            ] {
                let (mut out, mut scratch) = (Vec::new(), Vec::new());
                write(ty, value, &mut out);
                prop_assert_eq!(read(ty, &out, &mut scratch).unwrap(), value);
            }
        }
    }
}
