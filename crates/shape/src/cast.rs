//! How a value of one type becomes one of another.

use std::borrow::Cow;

use gonvel_core::civil::{DAY_US, days_from_civil};
use gonvel_core::column::Value;
use gonvel_core::sql_text;

use crate::array_text::{dimensions, elements, owned};
use crate::decimal;
use crate::expr::{Fault, Run, Scope};
use crate::interval::{Interval, days_of_month};
use crate::json_text;
use crate::ty::Ty;
use crate::value::Given;

/// The function that casts between two types; none if there is no such cast. The function's scope names both.
#[must_use]
pub fn cast(from: &Ty, to: &Ty) -> Option<Run> {
    use Ty as T;
    let number = |ty: &Ty| ty.is_number();
    Some(match (from, to) {
        (T::Json, T::Jsonb) => |_, a| Ok(Given::text(json_text::normal(text(a)?)?)),
        (T::Jsonb, T::Json) => same,
        (T::Interval | T::Time | T::Json | T::Jsonb | T::Array(_), T::Text) => same,
        (T::Timestamp | T::TimestampTz, T::Time) => |_, a| clock_of(a),
        (T::Array(_), T::Array(_)) => same,
        (f, T::Text) if f.is_textual() => same,
        (_, T::Text) => to_text,
        (f, T::Other(_)) if f.is_textual() => same,
        (f, _) if f.is_textual() => from_text,
        (T::Jsonb | T::Json, T::Boolean) => from_json,
        (T::Jsonb | T::Json, t) if number(t) => from_json,
        (T::Boolean, T::Int4) => |_, a| Ok(Given::Int(i32::from(a[0] == Value::Boolean(true)))),
        (T::Int4, T::Boolean) => |_, a| Ok(Given::Boolean(a[0] != Value::Int(0))),
        (f, t) if number(f) && number(t) => numbers,
        (T::Date, T::Timestamp | T::TimestampTz) => |_, a| match a[0] {
            Value::Date(days) => begin_of(days).map(Given::Timestamp),
            _ => Ok(Given::Null),
        },
        (T::Timestamp | T::TimestampTz, T::Date) => |_, a| match a[0] {
            Value::Timestamp(i64::MAX) => Ok(Given::Date(i32::MAX)),
            Value::Timestamp(i64::MIN) => Ok(Given::Date(i32::MIN)),
            Value::Timestamp(us) => {
                let days = i32::try_from(us.div_euclid(DAY_US)).map_err(|_| Fault::from("the date is out of range"))?;
                Ok(Given::Date(days))
            }
            _ => Ok(Given::Null),
        },
        // a timestamp without a zone is taken as UTC
        (T::Timestamp, T::TimestampTz) | (T::TimestampTz, T::Timestamp) => same,
        _ => return None,
    })
}

/// The moment that a date begins at, in microseconds since 1970-01-01; the infinities stay.
pub(crate) fn begin_of(days: i32) -> Result<i64, Fault> {
    match days {
        i32::MAX => Ok(i64::MAX),
        i32::MIN => Ok(i64::MIN),
        days => i64::from(days).checked_mul(DAY_US).ok_or_else(|| "the time is out of range".into()),
    }
}

fn same<'a>(_: Scope<'_>, a: &[Value<'a>]) -> Result<Given<'a>, Fault> {
    Ok(a[0].into())
}

fn text<'a>(a: &[Value<'a>]) -> Result<&'a str, Fault> {
    if let Value::Text(text) = a[0] { Ok(text) } else { Err("it is not held as text".into()) }
}

fn clock_of<'a>(a: &[Value<'a>]) -> Result<Given<'a>, Fault> {
    let Value::Timestamp(us) = a[0] else { return Ok(Given::Null) };
    if us == i64::MAX || us == i64::MIN {
        return Err("an infinite time has no time of day".into());
    }
    let mut out = Vec::new();
    gonvel_core::civil::write_time(us.rem_euclid(DAY_US), &mut out);
    Ok(Given::text(String::from_utf8(out).unwrap_or_default()))
}

/// Any value's text, as PostgreSQL writes it.
#[must_use]
pub fn text_of<'a>(ty: &Ty, value: Value<'a>) -> Cow<'a, str> {
    match value {
        Value::Text(text) => Cow::Borrowed(text),
        Value::Boolean(v) => Cow::Borrowed(if v { "true" } else { "false" }),
        Value::Float(v) => Cow::Owned(float_text(f64::from(v), &format!("{v:e}"), 6)),
        Value::Double(v) => Cow::Owned(float_text(v, &format!("{v:e}"), 15)),
        value => {
            let mut out = Vec::new();
            sql_text::write(ty.column_type(), value, &mut out);
            Cow::Owned(String::from_utf8(out).unwrap_or_default())
        }
    }
}

/// The shortest digits that read back as the same number; with an exponent from so many digits before the point on.
fn float_text(value: f64, scientific: &str, digits: i32) -> String {
    if value.is_nan() {
        return "NaN".into();
    }
    if value.is_infinite() {
        return if value > 0.0 { "Infinity".into() } else { "-Infinity".into() };
    }
    let (mantissa, exponent) = scientific.split_once('e').unwrap_or((scientific, "0"));
    let exponent: i32 = exponent.parse().unwrap_or(0);
    if value != 0.0 && !(-4..digits).contains(&exponent) {
        let sign = if exponent < 0 { '-' } else { '+' };
        return format!("{mantissa}e{sign}{:02}", exponent.abs());
    }
    // the digits, with the point moved
    let (negative, mantissa) = match mantissa.strip_prefix('-') {
        Some(rest) => ("-", rest),
        None => ("", mantissa),
    };
    let digits: String = mantissa.chars().filter(|c| *c != '.').collect();
    let point = exponent + 1;
    let body = match usize::try_from(point) {
        Ok(point) if point >= digits.len() => format!("{digits}{}", "0".repeat(point - digits.len())),
        Ok(point) if point > 0 => format!("{}.{}", &digits[..point], &digits[point..]),
        _ => format!("0.{}{digits}", "0".repeat(usize::try_from(-point).unwrap_or(0))),
    };
    format!("{negative}{body}")
}

fn to_text<'a>(scope: Scope<'_>, a: &[Value<'a>]) -> Result<Given<'a>, Fault> {
    Ok(Given::Text(text_of(&scope.args[0], a[0])))
}

fn not_a(ty: &Ty) -> Fault {
    format!("it is not a value of type {}", ty.name()).into()
}

fn out_of_range(ty: &Ty) -> Fault {
    format!("it is out of the range of {}", ty.name()).into()
}

/// A value read from text, as people write it.
///
/// # Errors
/// If it is none of the type.
pub fn read_text(text: &str, ty: &Ty) -> Result<Given<'static>, Fault> {
    let trimmed = text.trim();
    Ok(match ty {
        Ty::Boolean => Given::Boolean(boolean(trimmed).ok_or_else(|| not_a(ty))?),
        Ty::Int2 | Ty::Int4 | Ty::Int8 => {
            let plain = trimmed.strip_prefix('+').unwrap_or(trimmed);
            let digits = plain.strip_prefix('-').unwrap_or(plain);
            if digits.is_empty()
                || !digits.bytes().all(|b| b.is_ascii_digit())
                || plain.len() < trimmed.len() && plain.starts_with('-')
            {
                return Err(not_a(ty));
            }
            integer(plain.parse().map_err(|_| out_of_range(ty))?, ty)?
        }
        Ty::Float4 | Ty::Float8 => float(trimmed, ty)?,
        Ty::Numeric { .. } => Given::Decimal(decimal::read(trimmed, ty)?),
        Ty::Bytes => Given::Bytes(Cow::Owned(bytes(text).ok_or_else(|| not_a(ty))?)),
        Ty::Date => match endless(trimmed) {
            Some(us) => Given::Date(if us > 0 { i32::MAX } else { i32::MIN }),
            None => {
                let (days, ..) = civil(trimmed).ok_or_else(|| not_a(ty))?;
                Given::Date(i32::try_from(days).map_err(|_| out_of_range(ty))?)
            }
        },
        Ty::Timestamp => Given::Timestamp(moment(trimmed, false).ok_or_else(|| not_a(ty))?),
        Ty::TimestampTz => Given::Timestamp(moment(trimmed, true).ok_or_else(|| not_a(ty))?),
        Ty::Time => {
            let (us, rest) = clock(trimmed).ok_or_else(|| not_a(ty))?;
            if !rest.is_empty() || us > DAY_US {
                return Err(not_a(ty));
            }
            let mut out = Vec::new();
            gonvel_core::civil::write_time(us, &mut out);
            Given::text(String::from_utf8(out).unwrap_or_default())
        }
        Ty::Interval => Given::text(Interval::parse(trimmed).ok_or_else(|| not_a(ty))?.text()),
        Ty::Json => {
            json_text::check(text)?;
            Given::text(text)
        }
        Ty::Jsonb => Given::text(json_text::normal(text)?),
        Ty::Array(of) => Given::text(read_array(text, of)?),
        Ty::Text | Ty::Unknown => Given::text(text),
        Ty::Other(name) if name == "uuid" => Given::text(uuid(trimmed).ok_or_else(|| not_a(ty))?),
        Ty::Other(_) => Given::text(text),
    })
}

/// An array read as people write it, its elements as those of a type.
///
/// # Errors
/// If it is none.
pub fn read_array(text: &str, of: &Ty) -> Result<String, Fault> {
    let found = match elements(text) {
        Some(found) => found,
        // what has more dimensions is carried as it is written
        None if dimensions(text).is_some_and(|sizes| sizes.len() > 1) => return Ok(text.trim().to_owned()),
        None => return Err("it is not an array".into()),
    };
    let mut out = Vec::with_capacity(found.len());
    for element in found {
        out.push(match element {
            Some(text) => {
                let given = read_text(&text, of)?;
                Some(element_text(of, given.value()).into_owned())
            }
            None => None,
        });
    }
    Ok(owned(&out))
}

/// A value as an element of an array: truth is written t and f there.
pub(crate) fn element_text<'a>(ty: &Ty, value: Value<'a>) -> Cow<'a, str> {
    match value {
        Value::Boolean(truth) => Cow::Borrowed(if truth { "t" } else { "f" }),
        value => text_of(ty, value),
    }
}

fn from_text<'a>(scope: Scope<'_>, a: &[Value<'a>]) -> Result<Given<'a>, Fault> {
    read_text(text(a)?, scope.ty)
}

/// A number or truth in JSON.
fn from_json<'a>(scope: Scope<'_>, a: &[Value<'a>]) -> Result<Given<'a>, Fault> {
    let text = text(a)?.trim();
    let fits = match scope.ty {
        Ty::Boolean => matches!(text, "true" | "false"),
        _ => text.starts_with(|c: char| c == '-' || c.is_ascii_digit()),
    };
    if !fits {
        return Err(not_a(scope.ty));
    }
    match scope.ty {
        Ty::Int2 | Ty::Int4 | Ty::Int8 => {
            let whole = decimal::read(text, &Ty::Numeric { precision: 38, scale: 0 })?;
            integer(whole, scope.ty)
        }
        ty => read_text(text, ty),
    }
}

fn boolean(text: &str) -> Option<bool> {
    let lower = text.to_ascii_lowercase();
    let begins = |word: &str, least: usize| lower.len() >= least && word.starts_with(&lower);
    match lower.as_str() {
        "" => None,
        "1" | "on" => Some(true),
        "0" => Some(false),
        _ if begins("true", 1) || begins("yes", 1) => Some(true),
        _ if begins("false", 1) || begins("no", 1) || begins("off", 2) => Some(false),
        _ => None,
    }
}

fn integer(value: i128, ty: &Ty) -> Result<Given<'static>, Fault> {
    let wrong = |_| out_of_range(ty);
    Ok(match ty {
        Ty::Int2 => Given::Int(i32::from(i16::try_from(value).map_err(wrong)?)),
        Ty::Int4 => Given::Int(i32::try_from(value).map_err(wrong)?),
        _ => Given::Long(i64::try_from(value).map_err(wrong)?),
    })
}

fn float(text: &str, ty: &Ty) -> Result<Given<'static>, Fault> {
    let lower = text.to_ascii_lowercase();
    let plain = lower.trim_start_matches(['+', '-']);
    if !plain.starts_with(|c: char| c.is_ascii_digit() || c == '.') && !matches!(plain, "nan" | "infinity" | "inf") {
        return Err(not_a(ty));
    }
    let infinite = plain.starts_with("inf");
    if *ty == Ty::Float4 {
        let value: f32 = lower.parse().map_err(|_| not_a(ty))?;
        return if value.is_infinite() && !infinite { Err(out_of_range(ty)) } else { Ok(Given::Float(value)) };
    }
    let value: f64 = lower.parse().map_err(|_| not_a(ty))?;
    if value.is_infinite() && !infinite { Err(out_of_range(ty)) } else { Ok(Given::Double(value)) }
}

fn bytes(text: &str) -> Option<Vec<u8>> {
    if let Some(digits) = text.strip_prefix("\\x") {
        let digits: Vec<char> = digits.chars().filter(|c| !c.is_whitespace()).collect();
        let pair = |pair: &[char]| {
            let text: String = pair.iter().collect();
            (pair.len() == 2).then(|| u8::from_str_radix(&text, 16).ok())?
        };
        return digits.chunks(2).map(pair).collect();
    }
    // the other form: a backslash before three octal digits or another backslash
    let mut out = Vec::new();
    let mut rest = text.as_bytes();
    while let Some((&first, after)) = rest.split_first() {
        rest = after;
        if first != b'\\' {
            out.push(first);
        } else if let Some(after) = rest.strip_prefix(b"\\") {
            out.push(b'\\');
            rest = after;
        } else {
            let digits = std::str::from_utf8(rest.get(..3)?).ok()?;
            out.push(u8::from_str_radix(digits, 8).ok()?);
            rest = &rest[3..];
        }
    }
    Some(out)
}

fn uuid(text: &str) -> Option<String> {
    let plain = text.strip_prefix('{').and_then(|t| t.strip_suffix('}')).unwrap_or(text);
    let digits: String = plain.chars().filter(|c| *c != '-').collect::<String>().to_ascii_lowercase();
    if digits.len() != 32 || !digits.bytes().all(|b| b.is_ascii_hexdigit()) {
        return None;
    }
    Some([&digits[..8], &digits[8..12], &digits[12..16], &digits[16..20], &digits[20..]].join("-"))
}

fn digits(text: &str) -> Option<(i64, &str)> {
    let end = text.find(|c: char| !c.is_ascii_digit()).unwrap_or(text.len());
    if end == 0 || end > 9 { None } else { Some((text[..end].parse().ok()?, &text[end..])) }
}

/// Microseconds of `HH:MM[:SS[.ffffff]]`, and what follows.
fn clock(text: &str) -> Option<(i64, &str)> {
    let (hour, rest) = digits(text).filter(|(h, _)| *h <= 24)?;
    let (minute, rest) = digits(rest.strip_prefix(':')?).filter(|(m, _)| *m < 60)?;
    let Some(after) = rest.strip_prefix(':') else { return Some(((hour * 60 + minute) * 60_000_000, rest)) };
    let (second, rest) = digits(after).filter(|(s, _)| *s < 60)?;
    let (micros, rest) = match rest.strip_prefix('.') {
        None => (0, rest),
        Some(part) => {
            let end = part.find(|c: char| !c.is_ascii_digit()).unwrap_or(part.len());
            let mut six: String = part[..end].chars().chain("0000000".chars()).take(7).collect();
            let last = six.pop()?;
            (six.parse::<i64>().ok()? + i64::from(last >= '5'), &part[end..])
        }
    };
    Some((((hour * 60 + minute) * 60 + second) * 1_000_000 + micros, rest))
}

/// The moments that words stand for.
fn endless(text: &str) -> Option<i64> {
    match text.to_ascii_lowercase().as_str() {
        "infinity" => Some(i64::MAX),
        "-infinity" => Some(i64::MIN),
        _ => None,
    }
}

/// Days since 1970-01-01, microseconds of the day, and those that its zone is ahead of UTC, of a date or a date and a time as ISO
/// 8601 or PostgreSQL write it.
fn civil(text: &str) -> Option<(i64, i64, i64)> {
    if text.eq_ignore_ascii_case("epoch") {
        return Some((0, 0, 0));
    }
    let (text, before_christ) = match text.strip_suffix(" BC") {
        Some(rest) => (rest, true),
        None => (text, false),
    };
    let (year, rest) = digits(text)?;
    let (month, rest) = digits(rest.strip_prefix('-')?).filter(|(m, _)| (1..=12).contains(m))?;
    let (day, rest) = digits(rest.strip_prefix('-')?)?;
    let year = if before_christ { 1 - year } else { year };
    if year == 0 && !before_christ || !(1..=days_of_month(year, month)).contains(&day) {
        return None;
    }
    let rest = rest.trim_start();
    let rest = rest.strip_prefix(['T', 't']).unwrap_or(rest);
    let (of_day, rest) = if rest.starts_with(|c: char| c.is_ascii_digit()) { clock(rest)? } else { (0, rest) };
    Some((days_from_civil(year, month, day), of_day, shift(rest.trim())?))
}

/// Microseconds since 1970-01-01. A zone is taken into account where that is wanted, else passed over, as PostgreSQL does.
fn moment(text: &str, zoned: bool) -> Option<i64> {
    if let Some(endless) = endless(text) {
        return Some(endless);
    }
    let (days, of_day, shift) = civil(text)?;
    let local = days.checked_mul(DAY_US)?.checked_add(of_day)?;
    if zoned { local.checked_sub(shift) } else { Some(local) }
}

/// Microseconds that a zone is ahead of UTC.
fn shift(text: &str) -> Option<i64> {
    if text.is_empty() || text.eq_ignore_ascii_case("z") || text.eq_ignore_ascii_case("utc") {
        return Some(0);
    }
    let (sign, rest) = match text.as_bytes().first()? {
        b'+' => (1, &text[1..]),
        b'-' => (-1, &text[1..]),
        _ => return None,
    };
    let (hours, rest) = digits(rest)?;
    let (hours, minutes) = if rest.is_empty() && hours >= 100 { (hours / 100, hours % 100) } else { (hours, 0) };
    let minutes = match rest.strip_prefix(':') {
        Some(rest) => digits(rest).filter(|(_, rest)| rest.is_empty())?.0,
        None if rest.is_empty() => minutes,
        None => return None,
    };
    (hours < 16 && minutes < 60).then_some(sign * (hours * 60 + minutes) * 60_000_000)
}

#[allow(clippy::cast_possible_truncation, clippy::cast_precision_loss, reason = "checked against the range before")]
fn numbers<'a>(scope: Scope<'_>, a: &[Value<'a>]) -> Result<Given<'a>, Fault> {
    let (from, to) = (&scope.args[0], scope.ty);
    let whole = |value: f64| {
        let rounded = value.round_ties_even();
        if !(-9.3e18..9.3e18).contains(&rounded) { Err(out_of_range(to)) } else { integer(rounded as i128, to) }
    };
    let double = |value: f64| {
        let narrow = value as f32;
        match to {
            Ty::Float8 => Ok(Given::Double(value)),
            _ if narrow.is_infinite() && value.is_finite() => Err(out_of_range(to)),
            _ if narrow == 0.0 && value != 0.0 => Err(out_of_range(to)),
            _ => Ok(Given::Float(narrow)),
        }
    };
    match (a[0], to) {
        (Value::Int(v), Ty::Int2 | Ty::Int4 | Ty::Int8) => integer(i128::from(v), to),
        (Value::Long(v), Ty::Int2 | Ty::Int4 | Ty::Int8) => integer(i128::from(v), to),
        (Value::Int(v), Ty::Numeric { .. }) => decimal::rescale((i128::from(v), 0), to).map(Given::Decimal),
        (Value::Long(v), Ty::Numeric { .. }) => decimal::rescale((i128::from(v), 0), to).map(Given::Decimal),
        (Value::Int(v), Ty::Float4) => Ok(Given::Float(v as f32)),
        (Value::Int(v), _) => Ok(Given::Double(f64::from(v))),
        (Value::Long(v), Ty::Float4) => Ok(Given::Float(v as f32)),
        (Value::Long(v), _) => Ok(Given::Double(v as f64)),
        (Value::Float(v), Ty::Int2 | Ty::Int4 | Ty::Int8) => whole(f64::from(v)),
        (Value::Double(v), Ty::Int2 | Ty::Int4 | Ty::Int8) => whole(v),
        (Value::Float(v), Ty::Numeric { .. }) => decimal::of_double(f64::from(v), 6, to).map(Given::Decimal),
        (Value::Double(v), Ty::Numeric { .. }) => decimal::of_double(v, 15, to).map(Given::Decimal),
        (Value::Float(v), Ty::Float4) => Ok(Given::Float(v)),
        (Value::Float(v), _) => double(f64::from(v)),
        (Value::Double(v), _) => double(v),
        (Value::Decimal(v), Ty::Numeric { .. }) => decimal::rescale((v, from.scale()), to).map(Given::Decimal),
        (Value::Decimal(v), Ty::Int2 | Ty::Int4 | Ty::Int8) => {
            if v == gonvel_core::column::NOT_A_NUMBER {
                return Err(format!("NaN does not fit into {}", to.name()).into());
            }
            integer(decimal::rescale((v, from.scale()), &Ty::Numeric { precision: 38, scale: 0 })?, to)
        }
        (Value::Decimal(v), Ty::Float4) => {
            let text = text_of(from, Value::Decimal(v));
            float(&text, to)
        }
        (Value::Decimal(v), _) => Ok(Given::Double(decimal::to_double((v, from.scale())))),
        _ => Ok(Given::Null),
    }
}
