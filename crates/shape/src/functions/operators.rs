//! Operators between values: arithmetic, texts one after another, dates and spans.

use gonvel_core::civil::DAY_US;
use gonvel_core::column::Value;

use super::{DOUBLE, Entry, Gives, INT, LONG, Signature, Take, TypeOf, d, int, json, t, unscaled, way};
use crate::cast::{begin_of, text_of};
use crate::decimal::{self, QUOTIENT_SCALE};
use crate::expr::{Fault, Run, Scope};
use crate::functions::array;
use crate::interval::Interval;
use crate::ty::Ty;
use crate::value::{Given, Owned};

const SMALL: Take = Take::Is(Ty::Int2);
const SINGLE: Take = Take::Is(Ty::Float4);
const NUMERIC: Take = Take::Numeric;
const DATE: Take = Take::Is(Ty::Date);
const STAMP: Take = Take::Is(Ty::Timestamp);
const ZONED: Take = Take::Is(Ty::TimestampTz);
const SPAN: Take = Take::Is(Ty::Interval);
const CLOCK: Take = Take::Is(Ty::Time);
const JSONB: Take = Take::Is(Ty::Jsonb);

pub(super) fn power(a: f64, b: f64, ty: &Ty) -> Result<Given<'static>, Fault> {
    if a < 0.0 && b.is_finite() && b.fract() != 0.0 {
        return Err("a negative number has no power with a fraction".into());
    }
    if a == 0.0 && b < 0.0 {
        return Err("zero has no negative power".into());
    }
    let v = a.powf(b);
    if v.is_infinite() && a.is_finite() && b.is_finite() || v == 0.0 && a != 0.0 && a.is_finite() && b.is_finite() {
        return Err(range(ty));
    }
    Ok(Given::Double(v))
}

pub(super) fn range(ty: &Ty) -> Fault {
    format!("the number is out of the range of {}", ty.name()).into()
}

fn small(v: i64, ty: &Ty) -> Result<Given<'static>, Fault> {
    match ty {
        Ty::Int2 => i16::try_from(v).map(|v| Given::Int(i32::from(v))).map_err(|_| range(ty)),
        _ => i32::try_from(v).map(Given::Int).map_err(|_| range(ty)),
    }
}

fn long(v: Option<i64>, ty: &Ty) -> Result<Given<'static>, Fault> {
    v.map(Given::Long).ok_or_else(|| range(ty))
}

fn double(v: f64, a: f64, b: f64, ty: &Ty) -> Result<Given<'static>, Fault> {
    if v.is_infinite() && a.is_finite() && b.is_finite() { Err(range(ty)) } else { Ok(Given::Double(v)) }
}

#[allow(clippy::cast_possible_truncation, reason = "the operands are single")]
fn single(v: f64, a: f64, b: f64, ty: &Ty) -> Result<Given<'static>, Fault> {
    let narrow = v as f32;
    if narrow.is_infinite() && a.is_finite() && b.is_finite() { Err(range(ty)) } else { Ok(Given::Float(narrow)) }
}

pub(super) fn scaled(s: Scope<'_>, a: &[Value<'_>], n: usize) -> decimal::Scaled {
    (unscaled(a, n), s.args[n].scale())
}

fn digits(types: &[Ty]) -> ((u8, u8), (u8, u8)) {
    let of = |n: usize| types.get(n).and_then(Ty::as_numeric).unwrap_or((38, 0));
    (of(0), of(1))
}

fn sum_type(types: &[Ty], _: &[Option<&Owned>]) -> Result<Ty, Fault> {
    let ((p0, s0), (p1, s1)) = digits(types);
    let scale = s0.max(s1);
    Ok(Ty::numeric((p0 - s0).max(p1 - s1) + 1 + scale, scale))
}

fn product_type(types: &[Ty], _: &[Option<&Owned>]) -> Result<Ty, Fault> {
    let ((p0, s0), (p1, s1)) = digits(types);
    if s0 + s1 > 38 {
        return Err("the product has more than 38 digits after the point: round one of the factors".into());
    }
    Ok(Ty::numeric(p0.saturating_add(p1), s0 + s1))
}

fn quotient_type(types: &[Ty], _: &[Option<&Owned>]) -> Result<Ty, Fault> {
    let ((_, s0), (_, s1)) = digits(types);
    Ok(Ty::numeric(38, s0.max(s1).max(QUOTIENT_SCALE)))
}

pub(super) fn remainder_type(types: &[Ty], _: &[Option<&Owned>]) -> Result<Ty, Fault> {
    let ((p0, s0), (p1, s1)) = digits(types);
    let scale = s0.max(s1);
    Ok(Ty::numeric((p0 - s0).max(p1 - s1) + scale, scale))
}

fn zero() -> Fault {
    "division by zero".into()
}

fn arithmetic(whole: [Run; 2], floats: [Run; 2], exact: Run, ty: TypeOf) -> Vec<Signature> {
    vec![
        way(&[SMALL, SMALL], Ty::Int2, whole[0]),
        way(&[INT, INT], Ty::Int4, whole[0]),
        way(&[LONG, LONG], Ty::Int8, whole[1]),
        way(&[NUMERIC, NUMERIC], Ty::Text, exact).giving(Gives::By(ty)),
        way(&[DOUBLE, DOUBLE], Ty::Float8, floats[0]),
        way(&[SINGLE, SINGLE], Ty::Float4, floats[1]),
    ]
}

fn span(a: &[Value<'_>], n: usize) -> Result<Interval, Fault> {
    Interval::parse(t(a, n)).ok_or_else(|| "it is not an interval".into())
}

fn opposite(span: Interval) -> Result<Interval, Fault> {
    span.negated().ok_or_else(|| "the interval is out of range".into())
}

/// A moment moved; the infinities stay.
fn moved(a: &[Value<'_>], moment: usize, by: Interval) -> Result<Given<'static>, Fault> {
    let us = match a[moment] {
        Value::Date(days) => begin_of(days)?,
        _ => int(a, moment),
    };
    if us == i64::MAX || us == i64::MIN {
        return Ok(Given::Timestamp(us));
    }
    by.after(us).map(Given::Timestamp).ok_or_else(|| "the time is out of range".into())
}

/// Microseconds of a time of day.
fn of_day(a: &[Value<'_>], n: usize) -> Result<i64, Fault> {
    span(a, n).map(|i| i.micros)
}

/// A time of day moved by the clock of a span, round and round.
fn turned(clock: i64, by: i64) -> Given<'static> {
    let mut out = Vec::new();
    gonvel_core::civil::write_time((clock % DAY_US + by % DAY_US).rem_euclid(DAY_US), &mut out);
    Given::text(String::from_utf8(out).unwrap_or_default())
}

/// A date's time of day.
fn at_clock(a: &[Value<'_>], date: usize, clock: usize) -> Result<Given<'static>, Fault> {
    let Value::Date(days) = a[date] else { return Ok(Given::Null) };
    match begin_of(days)? {
        us @ (i64::MAX | i64::MIN) => Ok(Given::Timestamp(us)),
        us => us.checked_add(of_day(a, clock)?).map(Given::Timestamp).ok_or_else(|| "the time is out of range".into()),
    }
}

/// A span so many times as long: what months and days have no room for goes over into days and the clock.
#[allow(clippy::cast_possible_truncation, clippy::cast_precision_loss, reason = "checked before")]
fn times(span: Interval, factor: f64, divided: bool) -> Result<Given<'static>, Fault> {
    let out_of_range = || Fault::from("the interval is out of range");
    let by = |v: f64| if divided { v / factor } else { v * factor };
    let whole = |v: f64| -> Result<i32, Fault> {
        if v.is_nan() || v > f64::from(i32::MAX) || v < f64::from(i32::MIN) { Err(out_of_range()) } else { Ok(v as i32) }
    };
    let micro = |v: f64| (v * 1e6).round_ties_even() / 1e6;
    let (months, mut days) = (whole(by(f64::from(span.months)))?, whole(by(f64::from(span.days)))?);
    let rest_days = micro((by(f64::from(span.months)) - f64::from(months)) * 30.0);
    let mut seconds = micro((by(f64::from(span.days)) - f64::from(days) + rest_days - rest_days.trunc()) * 86_400.0);
    if seconds.abs() >= 86_400.0 {
        days = days.checked_add((seconds / 86_400.0) as i32).ok_or_else(out_of_range)?;
        seconds -= (seconds / 86_400.0).trunc() * 86_400.0;
    }
    days = days.checked_add(rest_days as i32).ok_or_else(out_of_range)?;
    let micros = (by(span.micros as f64) + seconds * 1e6).round_ties_even();
    if micros.is_nan() || micros.abs() >= 9_223_372_036_854_775_807.0 {
        return Err(out_of_range());
    }
    Ok(Given::text(Interval { months, days, micros: micros as i64 }.text()))
}

fn days(from: i64, by: i64) -> Result<Given<'static>, Fault> {
    if from == i64::from(i32::MAX) || from == i64::from(i32::MIN) {
        return i32::try_from(from).map(Given::Date).map_err(|_| "the date is out of range".into());
    }
    i32::try_from(from + by).map(Given::Date).map_err(|_| "the date is out of range".into())
}

fn between(later: i64, earlier: i64) -> Result<Given<'static>, Fault> {
    let infinite = |us: i64| us == i64::MAX || us == i64::MIN;
    if infinite(later) || infinite(earlier) {
        return Err("infinite times cannot be subtracted".into());
    }
    let us = later.checked_sub(earlier).ok_or("the interval is out of range")?;
    let days = i32::try_from(us / DAY_US).map_err(|_| Fault::from("the interval is out of range"))?;
    Ok(Given::text(Interval { months: 0, days, micros: us % DAY_US }.text()))
}

fn joined(s: Scope<'_>, a: &[Value<'_>]) -> Given<'static> {
    Given::text(format!("{}{}", text_of(&s.args[0], a[0]), text_of(&s.args[1], a[1])))
}

fn plus() -> Vec<Signature> {
    let mut out = arithmetic(
        [|s, a| small(int(a, 0) + int(a, 1), s.ty), |s, a| long(int(a, 0).checked_add(int(a, 1)), s.ty)],
        [|s, a| double(d(a, 0) + d(a, 1), d(a, 0), d(a, 1), s.ty), |s, a| single(d(a, 0) + d(a, 1), d(a, 0), d(a, 1), s.ty)],
        |s, a| decimal::add(scaled(s, a, 0), scaled(s, a, 1), false, s.ty).map(Given::Decimal),
        sum_type,
    );
    let later: Run = |_, a| moved(a, 0, span(a, 1)?);
    out.extend([
        way(&[DATE, INT], Ty::Date, |_, a| days(int(a, 0), int(a, 1))),
        way(&[INT, DATE], Ty::Date, |_, a| days(int(a, 1), int(a, 0))),
        way(&[DATE, SPAN], Ty::Timestamp, later),
        way(&[STAMP, SPAN], Ty::Timestamp, later),
        way(&[ZONED, SPAN], Ty::TimestampTz, later),
        way(&[DATE, CLOCK], Ty::Timestamp, |_, a| at_clock(a, 0, 1)),
        way(&[CLOCK, DATE], Ty::Timestamp, |_, a| at_clock(a, 1, 0)),
        way(&[CLOCK, SPAN], Ty::Time, |_, a| Ok(turned(of_day(a, 0)?, span(a, 1)?.micros))),
        way(&[SPAN, CLOCK], Ty::Time, |_, a| Ok(turned(of_day(a, 1)?, span(a, 0)?.micros))),
        way(&[SPAN, DATE], Ty::Timestamp, |_, a| moved(a, 1, span(a, 0)?)),
        way(&[SPAN, STAMP], Ty::Timestamp, |_, a| moved(a, 1, span(a, 0)?)),
        way(&[SPAN, ZONED], Ty::TimestampTz, |_, a| moved(a, 1, span(a, 0)?)),
        way(&[SPAN, SPAN], Ty::Interval, |_, a| {
            let all = span(a, 0)?.plus(span(a, 1)?);
            all.map(|i| Given::text(i.text())).ok_or_else(|| "the interval is out of range".into())
        }),
    ]);
    out
}

fn minus() -> Vec<Signature> {
    let mut out = arithmetic(
        [|s, a| small(int(a, 0) - int(a, 1), s.ty), |s, a| long(int(a, 0).checked_sub(int(a, 1)), s.ty)],
        [|s, a| double(d(a, 0) - d(a, 1), d(a, 0), d(a, 1), s.ty), |s, a| single(d(a, 0) - d(a, 1), d(a, 0), d(a, 1), s.ty)],
        |s, a| decimal::add(scaled(s, a, 0), scaled(s, a, 1), true, s.ty).map(Given::Decimal),
        sum_type,
    );
    let earlier: Run = |_, a| moved(a, 0, opposite(span(a, 1)?)?);
    out.extend([
        way(&[DATE, DATE], Ty::Int4, |s, a| {
            let infinite = |n: usize| int(a, n) == i64::from(i32::MAX) || int(a, n) == i64::from(i32::MIN);
            if infinite(0) || infinite(1) {
                Err("infinite dates cannot be subtracted".into())
            } else {
                small(int(a, 0) - int(a, 1), s.ty)
            }
        }),
        way(&[DATE, INT], Ty::Date, |_, a| days(int(a, 0), -int(a, 1))),
        way(&[STAMP, STAMP], Ty::Interval, |_, a| between(int(a, 0), int(a, 1))),
        way(&[ZONED, ZONED], Ty::Interval, |_, a| between(int(a, 0), int(a, 1))),
        way(&[CLOCK, SPAN], Ty::Time, |_, a| Ok(turned(of_day(a, 0)?, -(span(a, 1)?.micros % DAY_US)))),
        way(&[CLOCK, CLOCK], Ty::Interval, |_, a| {
            Ok(Given::text(Interval { months: 0, days: 0, micros: of_day(a, 0)? - of_day(a, 1)? }.text()))
        }),
        way(&[JSONB, Take::Is(Ty::Text)], Ty::Jsonb, |_, a| json::without(t(a, 0), t(a, 1)).map(Given::text)),
        way(&[DATE, SPAN], Ty::Timestamp, earlier),
        way(&[STAMP, SPAN], Ty::Timestamp, earlier),
        way(&[ZONED, SPAN], Ty::TimestampTz, earlier),
        way(&[SPAN, SPAN], Ty::Interval, |_, a| {
            let all = span(a, 0)?.plus(opposite(span(a, 1)?)?);
            all.map(|i| Given::text(i.text())).ok_or_else(|| "the interval is out of range".into())
        }),
    ]);
    out
}

fn divide() -> Vec<Signature> {
    let mut out = arithmetic(
        [
            |s, a| if int(a, 1) == 0 { Err(zero()) } else { small(int(a, 0) / int(a, 1), s.ty) },
            |s, a| if int(a, 1) == 0 { Err(zero()) } else { long(int(a, 0).checked_div(int(a, 1)), s.ty) },
        ],
        [
            |s, a| if d(a, 1) == 0.0 { Err(zero()) } else { double(d(a, 0) / d(a, 1), d(a, 0), d(a, 1), s.ty) },
            |s, a| if d(a, 1) == 0.0 { Err(zero()) } else { single(d(a, 0) / d(a, 1), d(a, 0), d(a, 1), s.ty) },
        ],
        |s, a| decimal::quotient(scaled(s, a, 0), scaled(s, a, 1), s.ty).map(Given::Decimal),
        quotient_type,
    );
    out.push(way(&[SPAN, DOUBLE], Ty::Interval, |_, a| {
        if d(a, 1) == 0.0 { Err(zero()) } else { times(span(a, 0)?, d(a, 1), true) }
    }));
    out
}

fn concatenation() -> Vec<Signature> {
    let text = Take::Is(Ty::Text);
    vec![
        way(&[text.clone(), text.clone()], Ty::Text, |s, a| Ok(joined(s, a))),
        way(&[JSONB, JSONB], Ty::Jsonb, |_, a| json::merged(t(a, 0), t(a, 1)).map(Given::text)),
        array::joining(),
        array::appending(),
        array::prepending(),
        way(&[text.clone(), Take::Any], Ty::Text, |s, a| Ok(joined(s, a))),
        way(&[Take::Any, text], Ty::Text, |s, a| Ok(joined(s, a))),
    ]
}

/// Bits of whole numbers of one type.
fn bits(run: Run) -> Vec<Signature> {
    vec![way(&[SMALL, SMALL], Ty::Int2, run), way(&[INT, INT], Ty::Int4, run), way(&[LONG, LONG], Ty::Int8, run)]
}

/// Bits moved by a number of places, which is counted round and round the bits there are.
fn shifts(run: Run) -> Vec<Signature> {
    vec![way(&[SMALL, INT], Ty::Int2, run), way(&[INT, INT], Ty::Int4, run), way(&[LONG, INT], Ty::Int8, run)]
}

/// A whole number's lowest bits as one of the type.
#[allow(clippy::cast_possible_truncation, reason = "the bits above are those of its sign, or are to go")]
fn lowest(v: i64, ty: &Ty) -> Given<'static> {
    match ty {
        Ty::Int2 => Given::Int(i32::from(v as i16)),
        Ty::Int4 => Given::Int(v as i32),
        _ => Given::Long(v),
    }
}

#[allow(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "counted round and round")]
fn places(a: &[Value<'_>], ty: &Ty) -> u32 {
    let places = int(a, 1) as u32;
    places % if *ty == Ty::Int8 { 64 } else { 32 }
}

pub(super) fn all() -> Vec<Entry> {
    let modulo: Run = |s, a| if int(a, 1) == 0 { Err(zero()) } else { small(int(a, 0) % int(a, 1), s.ty) };
    let mut negate = vec![
        way(&[SMALL], Ty::Int2, |s, a| small(-int(a, 0), s.ty)),
        way(&[INT], Ty::Int4, |s, a| small(-int(a, 0), s.ty)),
        way(&[LONG], Ty::Int8, |s, a| long(int(a, 0).checked_neg(), s.ty)),
        way(&[NUMERIC], Ty::Text, |_, a| {
            let v = unscaled(a, 0);
            Ok(Given::Decimal(if v == gonvel_core::column::NOT_A_NUMBER { v } else { -v }))
        })
        .giving(Gives::First),
    ];
    negate.extend([
        way(&[DOUBLE], Ty::Float8, |_, a| Ok(Given::Double(-d(a, 0)))),
        way(&[SINGLE], Ty::Float4, |_, a| if let Value::Float(v) = a[0] { Ok(Given::Float(-v)) } else { Ok(Given::Null) }),
        way(&[SPAN], Ty::Interval, |_, a| Ok(Given::text(opposite(span(a, 0)?)?.text()))),
    ]);
    vec![
        ("+", plus(), "The sum; a time so much later.", "7 + 5", "12"),
        ("-", minus(), "The difference; a time so much earlier.", "7 - 5", "2"),
        (
            "*",
            {
                let mut out = arithmetic(
                    [|s, a| small(int(a, 0) * int(a, 1), s.ty), |s, a| long(int(a, 0).checked_mul(int(a, 1)), s.ty)],
                    [
                        |s, a| double(d(a, 0) * d(a, 1), d(a, 0), d(a, 1), s.ty),
                        |s, a| single(d(a, 0) * d(a, 1), d(a, 0), d(a, 1), s.ty),
                    ],
                    |s, a| decimal::multiply(scaled(s, a, 0), scaled(s, a, 1), s.ty).map(Given::Decimal),
                    product_type,
                );
                out.extend([
                    way(&[SPAN, DOUBLE], Ty::Interval, |_, a| times(span(a, 0)?, d(a, 1), false)),
                    way(&[DOUBLE, SPAN], Ty::Interval, |_, a| times(span(a, 1)?, d(a, 0), false)),
                ]);
                out
            },
            "The product.",
            "7 * 5",
            "35",
        ),
        ("/", divide(), "The quotient; of whole numbers without the rest.", "7 / 2", "3"),
        (
            "%",
            vec![
                way(&[SMALL, SMALL], Ty::Int2, modulo),
                way(&[INT, INT], Ty::Int4, modulo),
                way(&[LONG, LONG], Ty::Int8, |_, a| {
                    if int(a, 1) == 0 { Err(zero()) } else { Ok(Given::Long(int(a, 0).wrapping_rem(int(a, 1)))) }
                }),
                way(&[NUMERIC, NUMERIC], Ty::Text, |s, a| {
                    decimal::remainder(scaled(s, a, 0), scaled(s, a, 1), s.ty).map(Given::Decimal)
                })
                .giving(Gives::By(remainder_type)),
            ],
            "What a division leaves.",
            "7 % 2",
            "1",
        ),
        ("^", vec![way(&[DOUBLE, DOUBLE], Ty::Float8, |s, a| power(d(a, 0), d(a, 1), s.ty))], "A power.", "2 ^ 10", "1024"),
        ("&", bits(|s, a| Ok(lowest(int(a, 0) & int(a, 1), s.ty))), "Bits that both have.", "6 & 3", "2"),
        ("|", bits(|s, a| Ok(lowest(int(a, 0) | int(a, 1), s.ty))), "Bits that either has.", "6 | 3", "7"),
        (
            "#",
            bits(|s, a| Ok(lowest(int(a, 0) ^ int(a, 1), s.ty))),
            "Bits that one has and the other has not.",
            "6 # 3",
            "5",
        ),
        (
            "bits not",
            [SMALL, INT, LONG]
                .into_iter()
                .zip([Ty::Int2, Ty::Int4, Ty::Int8])
                .map(|(take, ty)| way(&[take], ty, |s, a| Ok(lowest(!int(a, 0), s.ty))))
                .collect(),
            "Bits that it has not; written ~ before a number.",
            "~ 6",
            "-7",
        ),
        (
            "<<",
            shifts(|s, a| Ok(lowest(int(a, 0).wrapping_shl(places(a, s.ty)), s.ty))),
            "Bits moved to the left.",
            "3 << 2",
            "12",
        ),
        (
            ">>",
            shifts(|s, a| Ok(lowest(int(a, 0).wrapping_shr(places(a, s.ty)), s.ty))),
            "Bits moved to the right.",
            "12 >> 2",
            "3",
        ),
        ("negative", negate, "The opposite.", "-(7)", "-7"),
        ("||", concatenation(), "Texts, arrays or JSON objects one after another.", "'bin ' || 7", "bin 7"),
    ]
}
