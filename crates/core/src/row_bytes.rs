//! Values one after another as bytes, for tables that are kept in memory: a tag, and the value without its column's type.

use crate::avro::binary::DecodeError;
use crate::column::Value;

const NULL: u8 = 0;
const FALSE: u8 = 1;
const TRUE: u8 = 2;
const INT: u8 = 3;
const LONG: u8 = 4;
const FLOAT: u8 = 5;
const DOUBLE: u8 = 6;
const DECIMAL: u8 = 7;
const TEXT: u8 = 8;
const BYTES: u8 = 9;
const DATE: u8 = 10;
const TIMESTAMP: u8 = 11;

/// Appends a value.
pub fn write(value: Value<'_>, out: &mut Vec<u8>) {
    let sized = |tag: u8, bytes: &[u8], out: &mut Vec<u8>| {
        out.push(tag);
        out.extend_from_slice(&u32::try_from(bytes.len()).unwrap_or(u32::MAX).to_le_bytes());
        out.extend_from_slice(bytes);
    };
    let fixed = |tag: u8, bytes: &[u8], out: &mut Vec<u8>| {
        out.push(tag);
        out.extend_from_slice(bytes);
    };
    match value {
        Value::Null => out.push(NULL),
        Value::Boolean(v) => out.push(if v { TRUE } else { FALSE }),
        Value::Int(v) => fixed(INT, &v.to_le_bytes(), out),
        Value::Long(v) => fixed(LONG, &v.to_le_bytes(), out),
        Value::Float(v) => fixed(FLOAT, &v.to_le_bytes(), out),
        Value::Double(v) => fixed(DOUBLE, &v.to_le_bytes(), out),
        Value::Decimal(v) => fixed(DECIMAL, &v.to_le_bytes(), out),
        Value::Text(v) => sized(TEXT, v.as_bytes(), out),
        Value::Bytes(v) => sized(BYTES, v, out),
        Value::Date(v) => fixed(DATE, &v.to_le_bytes(), out),
        Value::Timestamp(v) => fixed(TIMESTAMP, &v.to_le_bytes(), out),
    }
}

fn take<'a>(bytes: &mut &'a [u8], count: usize) -> Result<&'a [u8], DecodeError> {
    let (taken, rest) = bytes.split_at_checked(count).ok_or(DecodeError::Short)?;
    *bytes = rest;
    Ok(taken)
}

fn fixed<const N: usize>(bytes: &mut &[u8]) -> Result<[u8; N], DecodeError> {
    take(bytes, N)?.try_into().map_err(|_| DecodeError::Short)
}

fn sized<'a>(bytes: &mut &'a [u8]) -> Result<&'a [u8], DecodeError> {
    let length = u32::from_le_bytes(fixed(bytes)?);
    take(bytes, usize::try_from(length).map_err(|_| DecodeError::Short)?)
}

/// Takes the value that stands first.
///
/// # Errors
/// [`DecodeError`] if the bytes are none that [`write`] made.
pub fn read<'a>(bytes: &mut &'a [u8]) -> Result<Value<'a>, DecodeError> {
    Ok(match take(bytes, 1)?[0] {
        NULL => Value::Null,
        FALSE => Value::Boolean(false),
        TRUE => Value::Boolean(true),
        INT => Value::Int(i32::from_le_bytes(fixed(bytes)?)),
        LONG => Value::Long(i64::from_le_bytes(fixed(bytes)?)),
        FLOAT => Value::Float(f32::from_le_bytes(fixed(bytes)?)),
        DOUBLE => Value::Double(f64::from_le_bytes(fixed(bytes)?)),
        DECIMAL => Value::Decimal(i128::from_le_bytes(fixed(bytes)?)),
        TEXT => Value::Text(std::str::from_utf8(sized(bytes)?).map_err(|_| DecodeError::Number)?),
        BYTES => Value::Bytes(sized(bytes)?),
        DATE => Value::Date(i32::from_le_bytes(fixed(bytes)?)),
        TIMESTAMP => Value::Timestamp(i64::from_le_bytes(fixed(bytes)?)),
        _ => return Err(DecodeError::Number),
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn values_come_back_one_after_another() {
        let values = [
            Value::Null,
            Value::Boolean(true),
            Value::Int(-7),
            Value::Long(i64::MIN),
            Value::Double(0.5),
            Value::Decimal(i128::MIN),
            Value::Text("Süß"),
            Value::Bytes(&[0, 255]),
            Value::Date(20_000),
            Value::Timestamp(1),
        ];
        let mut bytes = Vec::new();
        values.iter().for_each(|v| write(*v, &mut bytes));
        let mut rest = &bytes[..];
        for value in values {
            assert_eq!(read(&mut rest), Ok(value));
        }
        assert!(rest.is_empty() && read(&mut rest).is_err());
        // cut off within a number, and a tag that there is not
        assert!(read(&mut &bytes[2..5]).is_err() && read(&mut &[77][..]).is_err());
    }
}
