//! Days and clock times without a calendar library's cost: the hot path reads and writes millions of them.
//!
//! The calendar is the proleptic Gregorian one of ISO 8601 with a year 0; the algorithm is the well-known one of counting
//! days in 400-year eras that begin on 1 March.

/// Microseconds in a day.
pub const DAY_US: i64 = 86_400_000_000;

/// Days since 1970-01-01 of a date; the month from 1 to 12, the day from 1 to 31 (not checked against the month).
#[must_use]
pub fn days_from_civil(year: i64, month: i64, day: i64) -> i64 {
    let y = if month <= 2 { year - 1 } else { year };
    let era = y.div_euclid(400);
    let of_era = y.rem_euclid(400);
    let of_year = (153 * (if month > 2 { month - 3 } else { month + 9 }) + 2) / 5 + day - 1;
    era * 146_097 + of_era * 365 + of_era / 4 - of_era / 100 + of_year - 719_468
}

/// Year, month (1 to 12) and day (1 to 31) of a number of days since 1970-01-01.
#[must_use]
pub fn civil_from_days(days: i64) -> (i64, i64, i64) {
    let z = days + 719_468;
    let era = z.div_euclid(146_097);
    let of_era = z.rem_euclid(146_097);
    let year_of_era = (of_era - of_era / 1_460 + of_era / 36_524 - of_era / 146_096) / 365;
    let of_year = of_era - (365 * year_of_era + year_of_era / 4 - year_of_era / 100);
    let shifted = (5 * of_year + 2) / 153;
    let day = of_year - (153 * shifted + 2) / 5 + 1;
    let month = if shifted < 10 { shifted + 3 } else { shifted - 9 };
    let year = year_of_era + era * 400 + i64::from(month <= 2);
    (year, month, day)
}

fn push_padded(out: &mut Vec<u8>, value: i64, width: usize) {
    let mut digits = [b'0'; 20];
    let mut left = value.unsigned_abs();
    let mut at = digits.len();
    while left > 0 {
        at -= 1;
        digits[at] = b'0' + u8::try_from(left % 10).expect("one digit");
        left /= 10;
    }
    out.extend_from_slice(&digits[at.min(digits.len() - width)..]);
}

/// Appends `YYYY-MM-DD`; a year before 1 gets the suffix ` BC` by the caller, so the absolute year as PostgreSQL counts it is
/// written and true is returned for BC.
pub fn write_date(days: i64, out: &mut Vec<u8>) -> bool {
    let (year, month, day) = civil_from_days(days);
    let before_christ = year <= 0;
    push_padded(out, if before_christ { 1 - year } else { year }, 4);
    out.push(b'-');
    push_padded(out, month, 2);
    out.push(b'-');
    push_padded(out, day, 2);
    before_christ
}

/// Appends `HH:MM:SS` and up to six decimals without trailing zeros, of microseconds since midnight.
pub fn write_time(of_day_us: i64, out: &mut Vec<u8>) {
    let seconds = of_day_us / 1_000_000;
    push_padded(out, seconds / 3600, 2);
    out.push(b':');
    push_padded(out, seconds / 60 % 60, 2);
    out.push(b':');
    push_padded(out, seconds % 60, 2);
    let fraction = of_day_us % 1_000_000;
    if fraction > 0 {
        out.push(b'.');
        push_padded(out, fraction, 6);
        while out.last() == Some(&b'0') {
            out.pop();
        }
    }
}

/// `YYYY-MM-DDTHH:MM:SS.ffffffZ` of microseconds since 1970-01-01 UTC, as RFC 3339 has it for the years 1 to 9999.
#[must_use]
pub fn rfc3339(timestamp_us: i64) -> String {
    let mut out = Vec::with_capacity(32);
    let before = write_date(timestamp_us.div_euclid(DAY_US), &mut out);
    out.push(b'T');
    write_time(timestamp_us.rem_euclid(DAY_US), &mut out);
    out.push(b'Z');
    if before {
        out.extend_from_slice(b" BC");
    }
    String::from_utf8(out).expect("digits and punctuation")
}

/// Microseconds since 1970-01-01 UTC of a time in RFC 3339; none if it is not one.
#[must_use]
pub fn read_rfc3339(text: &str) -> Option<i64> {
    chrono::DateTime::parse_from_rfc3339(text).ok().map(|t| t.timestamp_micros())
}

#[cfg(test)]
mod tests {
    use super::*;
    use chrono::Datelike;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn dates_agree_with_a_calendar_library(days in -700_000_i32..2_900_000) {
            let date = chrono::NaiveDate::from_epoch_days(days).unwrap();
            let (year, month, day) = civil_from_days(i64::from(days));
            prop_assert_eq!((year, month, day), (i64::from(date.year()), i64::from(date.month()), i64::from(date.day())));
            prop_assert_eq!(days_from_civil(year, month, day), i64::from(days));
        }
    }

    #[test]
    fn times_are_written_without_needless_decimals() {
        let cases = [
            (0, "1970-01-01T00:00:00Z"),
            (1_500_000, "1970-01-01T00:00:01.5Z"),
            (-1, "1969-12-31T23:59:59.999999Z"),
            (1_790_000_000_000_120, "2026-09-21T14:13:20.00012Z"),
        ];
        for (us, text) in cases {
            assert_eq!(rfc3339(us), text);
        }
    }
}
