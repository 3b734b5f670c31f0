//! Values as they stand in records, and what each becomes in a column.

use std::borrow::Cow;

use base64::Engine as _;
use base64::engine::general_purpose::{STANDARD, STANDARD_NO_PAD, URL_SAFE, URL_SAFE_NO_PAD};
use gonvel_core::avro::json::decimal_text;
use gonvel_core::civil::{DAY_US, write_time};
use gonvel_core::column::Value;
use gonvel_shape::cast::{read_array, read_text, text_of};
use gonvel_shape::decimal;
use gonvel_shape::expr::Fault;
use gonvel_shape::functions::array;
use gonvel_shape::ty::Ty;
use gonvel_shape::value::Given;
use serde_json::value::RawValue;

/// A value as it stands in a record.
#[derive(Debug, Clone, PartialEq)]
pub(crate) enum Cell<'a> {
    /// There is no such field.
    Absent,
    /// It is null.
    Null,
    /// True or false.
    Boolean(bool),
    /// A whole number.
    Whole(i128),
    /// A number as JSON writes it.
    Number(&'a str),
    /// Single precision.
    Float(f32),
    /// Double precision.
    Double(f64),
    /// Unscaled, with its digits after the point.
    Decimal(i128, u8),
    /// Text.
    Text(Cow<'a, str>),
    /// Bytes.
    Bytes(Cow<'a, [u8]>),
    /// Days since 1970-01-01.
    Date(i32),
    /// Microseconds since 1970-01-01.
    Timestamp(i64),
    /// Microseconds of the day.
    OfDay(i64),
    /// An object or an array, as JSON text.
    Json(Cow<'a, str>),
}

impl<'a> Cell<'a> {
    /// What it is, in a word.
    fn word(&self) -> &'static str {
        match self {
            Self::Absent => "nothing",
            Self::Null => "null",
            Self::Boolean(_) => "true or false",
            Self::Whole(_) | Self::Number(_) | Self::Float(_) | Self::Double(_) | Self::Decimal(..) => "a number",
            Self::Text(_) => "a text",
            Self::Bytes(_) => "bytes",
            Self::Date(_) => "a date",
            Self::Timestamp(_) => "a time",
            Self::OfDay(_) => "a time of day",
            Self::Json(text) if text.starts_with('[') => "an array",
            Self::Json(_) => "an object",
        }
    }

    /// The value of a column of this type; what is absent is null there.
    ///
    /// # Errors
    /// What was found and what was expected, without the value.
    pub(crate) fn into_given(self, ty: &Ty) -> Result<Given<'a>, Fault> {
        let word = self.word();
        let no = || -> Fault { format!("{word} is not taken for {}", ty.name()).into() };
        Ok(match (self, ty) {
            (Self::Absent | Self::Null, _) => Given::Null,
            (Self::Text(text), Ty::Text) => Given::Text(text),
            (Self::Text(text), Ty::Json | Ty::Jsonb) => Given::text(serde_json::Value::from(text.as_ref()).to_string()),
            (Self::Text(text), Ty::Bytes) => Given::Bytes(Cow::Owned(bytes(&text)?)),
            (Self::Text(text), _) => read_text(&text, ty)?,
            (Self::Boolean(truth), Ty::Boolean) => Given::Boolean(truth),
            (Self::Boolean(truth), Ty::Text | Ty::Json | Ty::Jsonb) => Given::text(if truth { "true" } else { "false" }),
            (Self::Whole(number), Ty::Int2 | Ty::Int4 | Ty::Int8) => integer(number, ty)?,
            (Self::Number(text), Ty::Int2 | Ty::Int4 | Ty::Int8) => match text.parse::<i64>() {
                Ok(number) => integer(number.into(), ty)?,
                Err(_) => integer(whole(text)?, ty)?,
            },
            (Self::Double(number), Ty::Int2 | Ty::Int4 | Ty::Int8) => integer(whole(&number.to_string())?, ty)?,
            (Self::Float(number), Ty::Int2 | Ty::Int4 | Ty::Int8) => integer(whole(&number.to_string())?, ty)?,
            (Self::Decimal(number, scale), Ty::Int2 | Ty::Int4 | Ty::Int8) => {
                integer(whole(&decimal_text(number, usize::from(scale)))?, ty)?
            }
            (Self::Number(text), Ty::Float4 | Ty::Float8) => read_text(text, ty)?,
            (Self::Double(number), Ty::Float8) => Given::Double(number),
            (Self::Float(number), Ty::Float8) => Given::Double(number.into()),
            (Self::Float(number), Ty::Float4) => Given::Float(number),
            (cell @ (Self::Whole(_) | Self::Double(_) | Self::Decimal(..)), Ty::Float4 | Ty::Float8) => {
                read_text(&cell.number_text(), ty)?
            }
            (Self::Number(text), Ty::Numeric { .. }) => Given::Decimal(decimal::read(text, ty)?),
            (Self::Decimal(number, scale), Ty::Numeric { .. }) => Given::Decimal(decimal::rescale((number, scale), ty)?),
            (cell @ Self::Whole(_), Ty::Numeric { .. }) => Given::Decimal(decimal::read(&cell.number_text(), ty)?),
            (Self::Double(number), Ty::Numeric { .. }) => Given::Decimal(decimal::of_double(number, 15, ty)?),
            (Self::Float(number), Ty::Numeric { .. }) => Given::Decimal(decimal::of_double(number.into(), 6, ty)?),
            (Self::Number(text), Ty::Text | Ty::Json) => Given::Text(Cow::Borrowed(text)),
            (Self::Number(text), Ty::Jsonb) => read_text(text, ty)?,
            (
                cell @ (Self::Whole(_) | Self::Double(_) | Self::Float(_) | Self::Decimal(..)),
                Ty::Text | Ty::Json | Ty::Jsonb,
            ) => Given::text(cell.number_text()),
            (Self::Bytes(bytes), Ty::Bytes) => Given::Bytes(bytes),
            (Self::Date(days), Ty::Date) => Given::Date(days),
            (Self::Timestamp(us), Ty::Timestamp | Ty::TimestampTz) => Given::Timestamp(us),
            (Self::Timestamp(us), Ty::Date) => Given::Date(match us {
                i64::MAX => i32::MAX,
                i64::MIN => i32::MIN,
                us => i32::try_from(us.div_euclid(DAY_US)).map_err(|_| Fault::from("the date is out of range"))?,
            }),
            (Self::Date(days), Ty::Timestamp | Ty::TimestampTz) => Given::Timestamp(match days {
                i32::MAX => i64::MAX,
                i32::MIN => i64::MIN,
                days => i64::from(days).checked_mul(DAY_US).ok_or(Fault::from("the time is out of range"))?,
            }),
            (Self::OfDay(us), Ty::Time | Ty::Text) => Given::text(of_day(us)),
            (Self::Date(days), Ty::Text) => Given::text(text_of(&Ty::Date, Value::Date(days))),
            (Self::Timestamp(us), Ty::Text) => Given::text(text_of(&Ty::TimestampTz, Value::Timestamp(us))),
            (Self::Json(text), Ty::Json | Ty::Text) => Given::Text(text),
            (Self::Json(text), Ty::Jsonb) => read_text(&text, ty)?,
            (Self::Json(text), Ty::Array(of)) if text.starts_with('[') => list(&text, of)?,
            _ => return Err(no()),
        })
    }

    /// The same of its own. A number is then a whole one or text that is read as one.
    pub(crate) fn owned(self) -> Cell<'static> {
        match self {
            Self::Absent => Cell::Absent,
            Self::Null => Cell::Null,
            Self::Boolean(truth) => Cell::Boolean(truth),
            Self::Whole(number) => Cell::Whole(number),
            Self::Number(text) => match (text.parse(), text.parse()) {
                (Ok(whole), _) => Cell::Whole(whole),
                (_, Ok(double)) => Cell::Double(double),
                _ => Cell::Null,
            },
            Self::Float(number) => Cell::Float(number),
            Self::Double(number) => Cell::Double(number),
            Self::Decimal(number, scale) => Cell::Decimal(number, scale),
            Self::Text(text) => Cell::Text(Cow::Owned(text.into_owned())),
            Self::Bytes(bytes) => Cell::Bytes(Cow::Owned(bytes.into_owned())),
            Self::Date(days) => Cell::Date(days),
            Self::Timestamp(us) => Cell::Timestamp(us),
            Self::OfDay(us) => Cell::OfDay(us),
            Self::Json(text) => Cell::Json(Cow::Owned(text.into_owned())),
        }
    }

    /// A number's text.
    fn number_text(&self) -> String {
        match self {
            Self::Whole(number) => number.to_string(),
            Self::Decimal(number, scale) => decimal_text(*number, usize::from(*scale)),
            Self::Float(number) => text_of(&Ty::Float4, Value::Float(*number)).into_owned(),
            Self::Double(number) => text_of(&Ty::Float8, Value::Double(*number)).into_owned(),
            Self::Number(text) => (*text).to_owned(),
            _ => String::new(),
        }
    }
}

fn of_day(us: i64) -> String {
    let mut out = Vec::new();
    write_time(us.clamp(0, DAY_US), &mut out);
    String::from_utf8(out).unwrap_or_default()
}

fn integer(value: i128, ty: &Ty) -> Result<Given<'static>, Fault> {
    let wrong = |_| Fault::from(format!("the number is out of the range of {}", ty.name()));
    Ok(match ty {
        Ty::Int2 => Given::Int(i16::try_from(value).map_err(wrong)?.into()),
        Ty::Int4 => Given::Int(i32::try_from(value).map_err(wrong)?),
        _ => Given::Long(i64::try_from(value).map_err(wrong)?),
    })
}

/// A number that is whole, whatever way it is written: `3`, `3.0`, `3e2`.
fn whole(text: &str) -> Result<i128, Fault> {
    const WIDE: Ty = Ty::Numeric { precision: 38, scale: 10 };
    const UNIT: i128 = 10_000_000_000;
    let number = decimal::read(text, &WIDE)?;
    let exact = number % UNIT == 0 && !text.to_ascii_lowercase().contains("e-") && fraction_is_zero(text);
    if exact { Ok(number / UNIT) } else { Err("the number is not whole".into()) }
}

/// Whether all digits after the point are zeros, unless an exponent moves them before it.
fn fraction_is_zero(text: &str) -> bool {
    text.contains(['e', 'E']) || text.split_once('.').is_none_or(|(_, digits)| digits.bytes().all(|digit| digit == b'0'))
}

/// Bytes that a text stands for: hexadecimal digits behind `\x`, else base64.
fn bytes(text: &str) -> Result<Vec<u8>, Fault> {
    if text.starts_with("\\x") {
        return match read_text(text, &Ty::Bytes)? {
            Given::Bytes(bytes) => Ok(bytes.into_owned()),
            _ => Err("the text stands for no bytes".into()),
        };
    }
    [STANDARD, STANDARD_NO_PAD, URL_SAFE, URL_SAFE_NO_PAD]
        .iter()
        .find_map(|engine| engine.decode(text).ok())
        .ok_or_else(|| "the text is neither base64 nor hexadecimal digits behind \\x".into())
}

/// A list of single values as an array of a type.
fn list(text: &str, of: &Ty) -> Result<Given<'static>, Fault> {
    let items: Vec<&RawValue> = serde_json::from_str(text).map_err(|_| Fault::from("the array is not JSON"))?;
    let mut out = Vec::with_capacity(items.len());
    for item in items {
        let raw = item.get();
        out.push(match raw.as_bytes().first() {
            Some(b'n') => None,
            Some(b'[' | b'{') => return Err("the array holds arrays or objects: take it as jsonb".into()),
            Some(b'"') => Some(serde_json::from_str::<String>(raw).map_err(|_| Fault::from("the array is not JSON"))?),
            _ => Some(raw.to_owned()),
        });
    }
    // the elements are read as those of the type, and written as the database writes them
    read_array(&array::write(out.iter().map(Option::as_deref)), of).map(Given::text)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn becomes(cell: Cell<'_>, ty: &str) -> String {
        let ty = gonvel_shape::ty::parse_type(ty).unwrap();
        match cell.into_given(&ty) {
            Ok(Given::Null) => "null".into(),
            Ok(given) => text_of(&ty, given.value()).into_owned(),
            Err(fault) => format!("! {fault}"),
        }
    }

    #[test]
    fn a_value_becomes_what_the_column_holds_or_is_refused_without_being_shown() {
        let text = |text: &'static str| Cell::Text(Cow::Borrowed(text));
        let json = |text: &'static str| Cell::Json(Cow::Borrowed(text));
        let cases = [
            (Cell::Number("3"), "integer", "3"),
            (Cell::Number("3.0"), "integer", "3"),
            (Cell::Number("3e2"), "smallint", "300"),
            (Cell::Number("3.5"), "integer", "! the number is not whole"),
            (Cell::Number("3.00000000000001"), "bigint", "! the number is not whole"),
            (Cell::Number("1e-3"), "bigint", "! the number is not whole"),
            (Cell::Number("70000"), "smallint", "! the number is out of the range of smallint"),
            (Cell::Number("9223372036854775808"), "bigint", "! the number is out of the range of bigint"),
            (Cell::Number("9223372036854775807"), "bigint", "9223372036854775807"),
            (Cell::Number("18.505"), "numeric(7,2)", "18.51"),
            (Cell::Number("18.50"), "text", "18.50"),
            (Cell::Number("0.1"), "double precision", "0.1"),
            (Cell::Number("1"), "boolean", "! a number is not taken for boolean"),
            (Cell::Number("1"), "date", "! a number is not taken for date"),
            (Cell::Double(2.0), "integer", "2"),
            (Cell::Double(f64::NAN), "numeric(5,2)", "NaN"),
            (Cell::Whole(i128::from(i64::MAX)), "numeric(19,0)", "9223372036854775807"),
            (Cell::Decimal(1850, 2), "numeric(7,1)", "18.5"),
            (Cell::Decimal(1800, 2), "integer", "18"),
            (Cell::Boolean(true), "text", "true"),
            (Cell::Absent, "integer", "null"),
            (text("12"), "integer", "12"),
            (text("twelve"), "integer", "! it is not a value of type integer"),
            (text("2026-02-30"), "date", "! it is not a value of type date"),
            (text("2026-11-25T09:30:00+02:00"), "timestamptz", "2026-11-25 07:30:00+00"),
            (text("AP8="), "bytea", "\\x00ff"),
            (text("\\x00ff"), "bytea", "\\x00ff"),
            (text("no bytes!"), "bytea", "! the text is neither base64 nor hexadecimal digits behind \\x"),
            (text("a \"b\""), "jsonb", "\"a \\\"b\\\"\""),
            (json(r#"{"b":1,  "a":2}"#), "jsonb", r#"{"a": 2, "b": 1}"#),
            (json(r#"{"b":1}"#), "integer", "! an object is not taken for integer"),
            (json("[1,null,3]"), "integer[]", "{1,NULL,3}"),
            (json(r#"["a,b","c"]"#), "text[]", "{\"a,b\",c}"),
            (json("[[1]]"), "integer[]", "! the array holds arrays or objects: take it as jsonb"),
            (Cell::Date(20_000), "timestamptz", "2024-10-04 00:00:00+00"),
            (Cell::Timestamp(86_400_000_001), "date", "1970-01-02"),
            (Cell::OfDay(3_600_000_000), "time", "01:00:00"),
        ];
        for (cell, ty, expected) in cases {
            let said = format!("{cell:?} as {ty}");
            assert_eq!(becomes(cell, ty), expected, "{said}");
        }
    }
}
