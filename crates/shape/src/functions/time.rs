//! Dates and times. Moments with a zone are shown and cut in UTC unless a zone is named.

use chrono::{Offset, TimeZone};
use chrono_tz::Tz;
use gonvel_core::civil::{DAY_US, civil_from_days, days_from_civil};
use gonvel_core::column::Value;

use super::moments::{infinite, out_of_range, utc, week};
use super::{
    DOUBLE, Entry, Gives, INT, LONG, Signature, TEXT, Take, d, int, number_templates, t, template_reading, templates, way,
};
use crate::cast::begin_of;
use crate::decimal;
use crate::expr::{Fault, Run, Scope};
use crate::interval::{Interval, age, days_of_month};
use crate::ty::Ty;
use crate::value::{Given, Owned};

const DATE: Take = Take::Is(Ty::Date);
const STAMP: Take = Take::Is(Ty::Timestamp);
const ZONED: Take = Take::Is(Ty::TimestampTz);
const SPAN: Take = Take::Is(Ty::Interval);
const CLOCK: Take = Take::Is(Ty::Time);

/// The last year whose moments have room in microseconds since 1970.
const LAST_YEAR: i64 = 294_246;

fn no_field() -> Fault {
    "this part of a time is not known: use year, quarter, month, week, day, hour, minute, second, dow, doy, epoch, …".into()
}

fn span(a: &[Value<'_>], n: usize) -> Result<Interval, Fault> {
    Interval::parse(t(a, n)).ok_or_else(|| "it is not an interval".into())
}

/// The beginning of the part of time that a moment is in.
fn truncated(field: &str, us: i64) -> Result<i64, Fault> {
    if infinite(us) {
        return Ok(us);
    }
    let days = us.div_euclid(DAY_US);
    let (year, month, _) = civil_from_days(days);
    let day = |days: i64| days.checked_mul(DAY_US).ok_or_else(out_of_range);
    let begin = |year: i64, month: i64| day(days_from_civil(year, month, 1));
    // centuries and millennia begin with their first year
    let era = |years: i64| begin((year - 1).div_euclid(years) * years + 1, 1);
    let cut = |micros: i64| us.div_euclid(micros).checked_mul(micros).ok_or_else(out_of_range);
    match field.to_ascii_lowercase().as_str() {
        "microseconds" | "microsecond" => Ok(us),
        "milliseconds" | "millisecond" => cut(1_000),
        "second" | "seconds" => cut(1_000_000),
        "minute" | "minutes" => cut(60_000_000),
        "hour" | "hours" => cut(3_600_000_000),
        "day" | "days" => day(days),
        "week" | "weeks" => day(week(days).0),
        "month" | "months" => begin(year, month),
        "quarter" => begin(year, (month - 1) / 3 * 3 + 1),
        "year" | "years" => begin(year, 1),
        "decade" => begin(year.div_euclid(10) * 10, 1),
        "century" => era(100),
        "millennium" => era(1_000),
        _ => Err(no_field()),
    }
}

fn truncated_span(field: &str, i: Interval) -> Result<Interval, Fault> {
    let cut = |micros: i64| Interval { micros: i.micros / micros * micros, ..i };
    let none = Interval { months: 0, days: 0, micros: 0 };
    Ok(match field.to_ascii_lowercase().as_str() {
        "microseconds" => i,
        "milliseconds" => cut(1_000),
        "second" => cut(1_000_000),
        "minute" => cut(60_000_000),
        "hour" => cut(3_600_000_000),
        "day" => Interval { micros: 0, ..i },
        "month" => Interval { months: i.months, ..none },
        "quarter" => Interval { months: i.months / 3 * 3, ..none },
        "year" => Interval { months: i.months / 12 * 12, ..none },
        _ => return Err(no_field()),
    })
}

/// A part of a moment, in millionths.
fn part(field: &str, us: i64) -> Result<i128, Fault> {
    let days = us.div_euclid(DAY_US);
    let of_day = us.rem_euclid(DAY_US);
    let (year, month, day) = civil_from_days(days);
    // the year before 1 is -1
    let counted = |y: i64| if y <= 0 { y - 1 } else { y };
    let era = |years: i64| if year > 0 { (year - 1) / years + 1 } else { -((-year) / years + 1) };
    let whole = match field.to_ascii_lowercase().as_str() {
        "year" | "years" => counted(year),
        "isoyear" => counted(week(days).1),
        "quarter" => (month - 1) / 3 + 1,
        "month" | "months" => month,
        "week" | "weeks" => week(days).2,
        "day" | "days" => day,
        "hour" | "hours" => of_day / 3_600_000_000,
        "minute" | "minutes" => of_day / 60_000_000 % 60,
        "dow" => (days + 4).rem_euclid(7),
        "isodow" => (days + 3).rem_euclid(7) + 1,
        "doy" => days - days_from_civil(year, 1, 1) + 1,
        "decade" => year.div_euclid(10),
        "century" => era(100),
        "millennium" => era(1_000),
        "timezone" | "timezone_hour" | "timezone_minute" => 0,
        "second" | "seconds" => return Ok(i128::from(of_day % 60_000_000)),
        "millisecond" | "milliseconds" => return Ok(i128::from(of_day % 60_000_000) * 1_000),
        "microsecond" | "microseconds" => return Ok(i128::from(of_day % 60_000_000) * 1_000_000),
        "epoch" => return Ok(i128::from(us)),
        _ => return Err(no_field()),
    };
    Ok(i128::from(whole) * 1_000_000)
}

fn part_of_span(field: &str, i: Interval) -> Result<i128, Fault> {
    let whole = match field.to_ascii_lowercase().as_str() {
        "year" | "years" => i64::from(i.months / 12),
        "quarter" => i64::from(i.months % 12 / 3 + 1),
        "month" | "months" => i64::from(i.months % 12),
        "day" | "days" => i64::from(i.days),
        "hour" | "hours" => i.micros / 3_600_000_000,
        "minute" | "minutes" => i.micros / 60_000_000 % 60,
        "second" | "seconds" => return Ok(i128::from(i.micros % 60_000_000)),
        "millisecond" | "milliseconds" => return Ok(i128::from(i.micros % 60_000_000) * 1_000),
        "microsecond" | "microseconds" => return Ok(i128::from(i.micros % 60_000_000) * 1_000_000),
        "epoch" => {
            // a year is 365.25 days, a month of what is left 30
            let days = i128::from(i.months / 12) * 36_525 + i128::from(i.months % 12) * 3_000 + i128::from(i.days) * 100;
            return Ok(days * i128::from(DAY_US) / 100 + i128::from(i.micros));
        }
        _ => return Err(no_field()),
    };
    Ok(i128::from(whole) * 1_000_000)
}

/// The moment of a value that is one.
fn moment(value: Value<'_>) -> Result<i64, Fault> {
    match value {
        Value::Date(days) => begin_of(days),
        Value::Timestamp(us) => Ok(us),
        _ => Ok(0),
    }
}

fn clock(text: &str) -> i64 {
    Interval::parse(text).map_or(0, |i| i.micros)
}

fn millionths(s: Scope<'_>, a: &[Value<'_>]) -> Result<Option<i128>, Fault> {
    let field = t(a, 0);
    match (&s.args[1], a[1]) {
        (Ty::Interval, _) => part_of_span(field, span(a, 1)?).map(Some),
        (Ty::Time, _) => part(field, clock(t(a, 1))).map(Some),
        (_, value) => match moment(value)? {
            us if infinite(us) => Err("an infinite time has no parts".into()),
            us => part(field, us).map(Some),
        },
    }
}

fn parts(run: Run, gives: &Ty) -> Vec<Signature> {
    [STAMP, ZONED, DATE, SPAN, CLOCK].into_iter().map(|take| way(&[TEXT, take], gives.clone(), run)).collect()
}

#[allow(clippy::cast_precision_loss, reason = "what date_part gives is a double")]
fn date_part(s: Scope<'_>, a: &[Value<'_>]) -> Result<Given<'static>, Fault> {
    Ok(millionths(s, a)?.map_or(Given::Null, |m| Given::Double(m as f64 / 1e6)))
}

/// The type of a part: parts that are counted are whole, others have the digits of their unit.
fn extracted(types: &[Ty], literals: &[Option<&Owned>]) -> Result<Ty, Fault> {
    let Some(Some(Given::Text(field))) = literals.first() else { return Ok(Ty::numeric(38, 6)) };
    let scale = match field.to_ascii_lowercase().as_str() {
        "julian" if types.get(1) == Some(&Ty::Date) => 0,
        "julian" if matches!(types.get(1), Some(Ty::Timestamp | Ty::TimestampTz)) => JULIAN_SCALE,
        "epoch" if types.get(1) == Some(&Ty::Date) => 0,
        "second" | "seconds" | "epoch" => 6,
        "millisecond" | "milliseconds" => 3,
        _ => 0,
    };
    Ok(Ty::numeric(38, scale))
}

/// Digits of a Julian day after the point: what a microsecond is of a day has this many.
const JULIAN_SCALE: u8 = 28;

/// The Julian day, and what of the day is over.
fn julian(us: i64, ty: &Ty) -> Result<i128, Fault> {
    let day = decimal::rescale((i128::from(us.div_euclid(DAY_US) + 2_440_588), 0), ty)?;
    let over = decimal::quotient((i128::from(us.rem_euclid(DAY_US)), 0), (i128::from(DAY_US), 0), ty)?;
    decimal::within(day + over, ty)
}

fn extract(s: Scope<'_>, a: &[Value<'_>]) -> Result<Given<'static>, Fault> {
    if s.ty.scale() == JULIAN_SCALE || t(a, 0).eq_ignore_ascii_case("julian") {
        return match moment(a[1])? {
            _ if matches!(s.args[1], Ty::Interval | Ty::Time) => Err(no_field()),
            us if infinite(us) => Err("an infinite time has no parts".into()),
            us => julian(us, s.ty).map(Given::Decimal),
        };
    }
    let Some(found) = millionths(s, a)? else { return Ok(Given::Null) };
    decimal::rescale((found, 6), s.ty).map(Given::Decimal)
}

pub(super) fn civil(year: i64, month: i64, day: i64) -> Result<i64, Fault> {
    if year == 0 {
        return Err("there is no year 0".into());
    }
    let year = if year < 0 { year + 1 } else { year };
    if !(1..=12).contains(&month)
        || !(1..=days_of_month(year, month)).contains(&day)
        || !(-4_712..=LAST_YEAR).contains(&year)
    {
        return Err("there is no such date".into());
    }
    Ok(days_from_civil(year, month, day))
}

#[allow(clippy::cast_possible_truncation, reason = "checked before")]
fn made(a: &[Value<'_>]) -> Result<Given<'static>, Fault> {
    let days = civil(int(a, 0), int(a, 1), int(a, 2))?;
    let (hour, minute, second) = (int(a, 3), int(a, 4), d(a, 5));
    if !(0..24).contains(&hour) || !(0..60).contains(&minute) || !(0.0..60.0).contains(&second) {
        return Err("there is no such time of day".into());
    }
    Ok(Given::Timestamp(days * DAY_US + (hour * 60 + minute) * 60_000_000 + (second * 1e6).round() as i64))
}

fn zone(name: &str) -> Result<Tz, Fault> {
    let known = name.parse().or_else(|_| {
        let like = chrono_tz::TZ_VARIANTS.iter().find(|tz| tz.name().eq_ignore_ascii_case(name));
        like.copied().ok_or(())
    });
    known.map_err(|()| "no time zone has this name".into())
}

/// A moment's clock in a zone.
fn local(us: i64, name: &str) -> Result<i64, Fault> {
    if infinite(us) {
        return Ok(us);
    }
    let shift = zone(name)?.offset_from_utc_datetime(&utc(us)?).fix().local_minus_utc();
    Ok(us + i64::from(shift) * 1_000_000)
}

/// The moment of a clock in a zone: of two the one in standard time; in a gap as if the clocks had not been put on.
fn moment_of(us: i64, name: &str) -> Result<i64, Fault> {
    if infinite(us) {
        return Ok(us);
    }
    let zone = zone(name)?;
    let naive = utc(us)?;
    let shift = match zone.offset_from_local_datetime(&naive) {
        chrono::LocalResult::Single(offset) => offset.fix().local_minus_utc(),
        chrono::LocalResult::Ambiguous(_, later) => later.fix().local_minus_utc(),
        chrono::LocalResult::None => {
            let before = utc(us - DAY_US)?;
            zone.offset_from_utc_datetime(&before).fix().local_minus_utc()
        }
    };
    Ok(us - i64::from(shift) * 1_000_000)
}

/// The beginning of the span that a moment is in, spans being counted from another moment.
fn binned(stride: Interval, us: i64, from: i64) -> Result<i64, Fault> {
    if stride.months != 0 {
        return Err("the span must not hold months or years".into());
    }
    let length = i128::from(stride.days) * i128::from(DAY_US) + i128::from(stride.micros);
    if length <= 0 {
        return Err("the span must be greater than zero".into());
    }
    if infinite(us) || infinite(from) {
        return Err("infinite times lie in no span".into());
    }
    let begin = i128::from(from) + (i128::from(us) - i128::from(from)).div_euclid(length) * length;
    i64::try_from(begin).map_err(|_| out_of_range())
}

/// The beginning of the part of time that a moment is in by the clock of a zone.
fn truncated_in(field: &str, us: i64, zone: &str) -> Result<i64, Fault> {
    let clock = local(us, zone)?;
    let begin = truncated(field, clock)?;
    // a day may begin at another distance from UTC than the moment has
    match field.to_ascii_lowercase().as_str() {
        "day" | "days" | "week" | "weeks" | "month" | "months" | "quarter" | "year" | "years" | "decade" | "century"
        | "millennium" => moment_of(begin, zone),
        _ => begin.checked_sub(clock).and_then(|back| us.checked_add(back)).ok_or_else(out_of_range),
    }
}

/// A span whose hours make days, whose days make months, and whose parts have one sign.
fn justified(span: Interval) -> Option<Interval> {
    let Interval { mut months, mut days, mut micros } = span;
    if days > 0 && micros > 0 || days < 0 && micros < 0 {
        months = months.checked_add(days / 30)?;
        days %= 30;
    }
    days = days.checked_add(i32::try_from(micros / DAY_US).ok()?)?;
    micros %= DAY_US;
    months = months.checked_add(days / 30)?;
    days %= 30;
    if months > 0 && (days < 0 || days == 0 && micros < 0) {
        (months, days) = (months - 1, days + 30);
    } else if months < 0 && (days > 0 || days == 0 && micros > 0) {
        (months, days) = (months + 1, days - 30);
    }
    if days > 0 && micros < 0 {
        (days, micros) = (days - 1, micros + DAY_US);
    } else if days < 0 && micros > 0 {
        (days, micros) = (days + 1, micros - DAY_US);
    }
    Some(Interval { months, days, micros })
}

pub(super) fn all() -> Vec<Entry> {
    let by_template: Run = |s, a| number_templates::shown(s, a, t(a, 1));
    let trunc: Run = |_, a| truncated(t(a, 0), int(a, 1)).map(Given::Timestamp);
    let zones = vec![
        way(&[TEXT, ZONED], Ty::Timestamp, |_, a| local(int(a, 1), t(a, 0)).map(Given::Timestamp)),
        way(&[TEXT, STAMP], Ty::TimestampTz, |_, a| moment_of(int(a, 1), t(a, 0)).map(Given::Timestamp)),
    ];
    vec![
        (
            "date_trunc",
            vec![
                way(&[TEXT, STAMP], Ty::Timestamp, trunc),
                way(&[TEXT, ZONED], Ty::TimestampTz, trunc),
                way(&[TEXT, DATE], Ty::TimestampTz, |_, a| truncated(t(a, 0), moment(a[1])?).map(Given::Timestamp)),
                way(&[TEXT, SPAN], Ty::Interval, |_, a| Ok(Given::text(truncated_span(t(a, 0), span(a, 1)?)?.text()))),
                way(&[TEXT, ZONED, TEXT], Ty::TimestampTz, |_, a| {
                    truncated_in(t(a, 0), int(a, 1), t(a, 2)).map(Given::Timestamp)
                }),
            ],
            "The beginning of the hour, day, week, … that a time is in; of a zone's, if one is named.",
            "date_trunc('month', TIMESTAMP '2026-11-25 06:00:00')",
            "2026-11-01 00:00:00",
        ),
        (
            "date_part",
            parts(date_part, &Ty::Float8),
            "A part of a time: year, month, week, hour, dow, epoch, …",
            "date_part('week', DATE '2026-11-25')",
            "48",
        ),
        (
            "extract",
            parts(extract, &Ty::Text).into_iter().map(|way| way.giving(Gives::By(extracted))).collect(),
            "A part of a time, exactly.",
            "extract(year from DATE '2026-11-25')",
            "2026",
        ),
        (
            "date_bin",
            vec![
                way(&[SPAN, STAMP, STAMP], Ty::Timestamp, |_, a| {
                    binned(span(a, 0)?, int(a, 1), int(a, 2)).map(Given::Timestamp)
                }),
                way(&[SPAN, ZONED, ZONED], Ty::TimestampTz, |_, a| {
                    binned(span(a, 0)?, int(a, 1), int(a, 2)).map(Given::Timestamp)
                }),
            ],
            "The beginning of the span that a time is in.",
            "date_bin('15 minutes', TIMESTAMP '2026-11-25 06:20:00', TIMESTAMP '2026-01-01')",
            "2026-11-25 06:15:00",
        ),
        (
            "age",
            {
                let run: Run = |_, a| {
                    if infinite(int(a, 0)) || infinite(int(a, 1)) {
                        Err("infinite times have no age".into())
                    } else {
                        Ok(Given::text(age(int(a, 0), int(a, 1)).text()))
                    }
                };
                vec![way(&[STAMP, STAMP], Ty::Interval, run), way(&[ZONED, ZONED], Ty::Interval, run)]
            },
            "What lies between two times, in years, months and days.",
            "age(TIMESTAMP '2026-11-25', TIMESTAMP '2024-03-01')",
            "2 years 8 mons 24 days",
        ),
        (
            "make_date",
            vec![way(&[INT, INT, INT], Ty::Date, |_, a| {
                let days = civil(int(a, 0), int(a, 1), int(a, 2))?;
                i32::try_from(days).map(Given::Date).map_err(|_| out_of_range())
            })],
            "A date of its parts.",
            "make_date(2026, 11, 25)",
            "2026-11-25",
        ),
        (
            "make_timestamp",
            vec![way(&[INT, INT, INT, INT, INT, DOUBLE], Ty::Timestamp, |_, a| made(a))],
            "A time of its parts.",
            "make_timestamp(2026, 11, 25, 6, 30, 15.5)",
            "2026-11-25 06:30:15.5",
        ),
        (
            "to_timestamp",
            vec![
                way(&[DOUBLE], Ty::TimestampTz, |_, a| {
                    let seconds = d(a, 0);
                    if seconds.is_infinite() {
                        return Ok(Given::Timestamp(if seconds > 0.0 { i64::MAX } else { i64::MIN }));
                    }
                    #[allow(clippy::cast_possible_truncation, reason = "checked before")]
                    if seconds.abs() < 9e12 {
                        Ok(Given::Timestamp((seconds * 1e6).round() as i64))
                    } else {
                        Err(out_of_range())
                    }
                }),
                way(&[TEXT, TEXT], Ty::TimestampTz, |_, a| {
                    template_reading::read(t(a, 0), t(a, 1))?.moment().map(Given::Timestamp).ok_or_else(out_of_range)
                }),
            ],
            "The time of seconds since 1970, or a text read by a template.",
            "to_timestamp('25.11.2026 06:30', 'DD.MM.YYYY HH24:MI')",
            "2026-11-25 06:30:00+00",
        ),
        (
            "to_date",
            vec![way(&[TEXT, TEXT], Ty::Date, |_, a| {
                let day = template_reading::read(t(a, 0), t(a, 1))?.day();
                i32::try_from(day).map(Given::Date).map_err(|_| out_of_range())
            })],
            "A text read by a template.",
            "to_date('25.11.2026', 'DD.MM.YYYY')",
            "2026-11-25",
        ),
        (
            "to_char",
            vec![
                way(&[STAMP, TEXT], Ty::Text, |_, a| templates::shown(int(a, 0), t(a, 1), false)),
                way(&[ZONED, TEXT], Ty::Text, |_, a| templates::shown(int(a, 0), t(a, 1), true)),
                way(&[INT, TEXT], Ty::Text, by_template),
                way(&[LONG, TEXT], Ty::Text, by_template),
                way(&[Take::Numeric, TEXT], Ty::Text, by_template),
                way(&[Take::Is(Ty::Float4), TEXT], Ty::Text, by_template),
                way(&[DOUBLE, TEXT], Ty::Text, by_template),
            ],
            "A time or a number written by a template.",
            "to_char(TIMESTAMP '2026-11-25 06:30:00', 'DD.MM.YYYY')",
            "25.11.2026",
        ),
        (
            "timezone",
            zones,
            "A moment's clock in a zone, or the moment of a zone's clock.",
            "TIMESTAMP '2026-07-01 12:00:00' AT TIME ZONE 'Europe/Berlin'",
            "2026-07-01 10:00:00+00",
        ),
        (
            "isfinite",
            vec![
                way(&[DATE], Ty::Boolean, |_, a| Ok(Given::Boolean(!matches!(a[0], Value::Date(i32::MAX | i32::MIN))))),
                way(&[STAMP], Ty::Boolean, |_, a| Ok(Given::Boolean(!infinite(int(a, 0))))),
                way(&[ZONED], Ty::Boolean, |_, a| Ok(Given::Boolean(!infinite(int(a, 0))))),
                way(&[SPAN], Ty::Boolean, |_, _| Ok(Given::Boolean(true))),
            ],
            "Whether a time is not infinite.",
            "isfinite(DATE 'infinity')",
            "false",
        ),
        (
            "justify_hours",
            vec![way(&[SPAN], Ty::Interval, |_, a| {
                let i = span(a, 0)?;
                let more = i32::try_from(i.micros / DAY_US).map_err(|_| out_of_range())?;
                let days = i.days.checked_add(more).ok_or_else(out_of_range)?;
                // both of one sign
                let (days, micros) = match (days, i.micros % DAY_US) {
                    (days, micros) if days > 0 && micros < 0 => (days - 1, micros + DAY_US),
                    (days, micros) if days < 0 && micros > 0 => (days + 1, micros - DAY_US),
                    both => both,
                };
                Ok(Given::text(Interval { days, micros, ..i }.text()))
            })],
            "24 hours become a day.",
            "justify_hours(INTERVAL '30 hours')",
            "1 day 06:00:00",
        ),
        (
            "justify_days",
            vec![way(&[SPAN], Ty::Interval, |_, a| {
                let i = span(a, 0)?;
                let months = i.months.checked_add(i.days / 30).ok_or_else(out_of_range)?;
                let (months, days) = match (months, i.days % 30) {
                    (months, days) if months > 0 && days < 0 => (months - 1, days + 30),
                    (months, days) if months < 0 && days > 0 => (months + 1, days - 30),
                    both => both,
                };
                Ok(Given::text(Interval { months, days, ..i }.text()))
            })],
            "30 days become a month.",
            "justify_days(INTERVAL '35 days')",
            "1 mon 5 days",
        ),
        (
            "justify_interval",
            vec![way(&[SPAN], Ty::Interval, |_, a| {
                justified(span(a, 0)?).map(|i| Given::text(i.text())).ok_or_else(out_of_range)
            })],
            "24 hours become a day, 30 days a month, all of one sign.",
            "justify_interval(INTERVAL '1 mon -1 hour')",
            "29 days 23:00:00",
        ),
    ]
}
