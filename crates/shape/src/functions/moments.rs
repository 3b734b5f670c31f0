//! Moments and weeks, as functions of times and templates read them.

use chrono::NaiveDateTime;
use gonvel_core::civil::{civil_from_days, days_from_civil};

use crate::expr::Fault;

pub(super) fn infinite(us: i64) -> bool {
    us == i64::MAX || us == i64::MIN
}

pub(super) fn out_of_range() -> Fault {
    "the time is out of range".into()
}

/// Monday of the week, and the year and number of the week (ISO 8601).
pub(super) fn week(days: i64) -> (i64, i64, i64) {
    let weekday = (days + 3).rem_euclid(7);
    let thursday = days - weekday + 3;
    let (year, ..) = civil_from_days(thursday);
    (days - weekday, year, (thursday - days_from_civil(year, 1, 1)) / 7 + 1)
}

pub(super) fn utc(us: i64) -> Result<NaiveDateTime, Fault> {
    chrono::DateTime::from_timestamp_micros(us).map(|t| t.naive_utc()).ok_or_else(out_of_range)
}
