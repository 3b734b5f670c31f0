//! Spans of time as SQL has them: months, days and microseconds apart, since a month has no fixed number of days, nor a day of hours.

use std::fmt::Write as _;

use gonvel_core::civil::{DAY_US, civil_from_days, days_from_civil, write_time};

/// A span of time.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Interval {
    /// Months; a year is twelve.
    pub months: i32,
    /// Days.
    pub days: i32,
    /// Microseconds.
    pub micros: i64,
}

const HOUR_US: i64 = 3_600_000_000;

impl Interval {
    /// Reads a span as people write it: `1 day 02:00:00`, `90 minutes`, `-3 mons`.
    #[must_use]
    pub fn parse(text: &str) -> Option<Self> {
        let mut out = Self::default();
        let mut words = text.split_whitespace().peekable();
        words.peek()?;
        while let Some(word) = words.next() {
            if word.contains(':') {
                out.micros = out.micros.checked_add(clock(word)?)?;
                continue;
            }
            // `3days` is `3 days`
            let cut = word.find(|c: char| c.is_ascii_alphabetic()).unwrap_or(word.len());
            let (number, unit) =
                if cut < word.len() { word.split_at(cut) } else { (word, words.next().unwrap_or("second")) };
            out.add(number, unit)?;
        }
        Some(out)
    }

    #[allow(clippy::cast_precision_loss, reason = "a day's microseconds are few")]
    fn add(&mut self, number: &str, unit: &str) -> Option<()> {
        let unit = unit.to_ascii_lowercase();
        let unit = unit.trim_end_matches(',');
        let amount: f64 = number.parse().ok().filter(|a: &f64| a.is_finite())?;
        let whole = amount.trunc();
        let part = amount - whole;
        let (months, days, micros): (f64, f64, f64) = match unit {
            "microsecond" | "microseconds" | "us" => (0.0, 0.0, 1.0),
            "millisecond" | "milliseconds" | "ms" => (0.0, 0.0, 1e3),
            "second" | "seconds" | "sec" | "secs" | "s" => (0.0, 0.0, 1e6),
            "minute" | "minutes" | "min" | "mins" | "m" => (0.0, 0.0, 6e7),
            "hour" | "hours" | "hr" | "hrs" | "h" => (0.0, 0.0, 3.6e9),
            "day" | "days" | "d" => (0.0, 1.0, 0.0),
            "week" | "weeks" | "w" => (0.0, 7.0, 0.0),
            "month" | "months" | "mon" | "mons" => (1.0, 0.0, 0.0),
            "year" | "years" | "yr" | "yrs" | "y" => (12.0, 0.0, 0.0),
            _ => return None,
        };
        if months > 0.0 {
            // a part of a year is months, a part of a month days of thirty
            let all = amount * months;
            let all = if (all - all.round()).abs() < 1e-9 { all.round() } else { all };
            self.months = self.months.checked_add(whole_number(all.trunc())?)?;
            if months < 2.0 {
                self.days = self.days.checked_add(whole_number(((all - all.trunc()) * 30.0).round())?)?;
            }
        } else if days > 0.0 {
            let all = whole * days;
            self.days = self.days.checked_add(whole_number(all)?)?;
            let rest = part * days;
            self.days = self.days.checked_add(whole_number(rest.trunc())?)?;
            self.micros = self.micros.checked_add(whole_number(((rest - rest.trunc()) * DAY_US as f64).round())?)?;
        } else {
            // a whole number is multiplied as one: a double has no room for all its digits
            let more = match number.parse::<i64>() {
                Ok(number) => number.checked_mul(whole_number(micros)?)?,
                Err(_) => whole_number((amount * micros).round())?,
            };
            self.micros = self.micros.checked_add(more)?;
        }
        Some(())
    }

    /// As PostgreSQL writes it: `1 year 2 mons 3 days 04:05:06.5`.
    #[must_use]
    pub fn text(self) -> String {
        let mut out = String::new();
        let mut negative_before = false;
        let mut unit = |out: &mut String, n: i32, word: &str| {
            if n == 0 {
                return;
            }
            if !out.is_empty() {
                out.push(' ');
            }
            let plus = if negative_before && n > 0 { "+" } else { "" };
            let _ = write!(out, "{plus}{n} {word}{}", if n == 1 { "" } else { "s" });
            negative_before = n < 0;
        };
        unit(&mut out, self.months / 12, "year");
        unit(&mut out, self.months % 12, "mon");
        unit(&mut out, self.days, "day");
        if self.micros != 0 || out.is_empty() {
            if !out.is_empty() {
                out.push(' ');
            }
            if self.micros < 0 {
                out.push('-');
            } else if negative_before {
                out.push('+');
            }
            let mut clock = Vec::new();
            write_time(self.micros.saturating_abs(), &mut clock);
            out.push_str(std::str::from_utf8(&clock).unwrap_or_default());
        }
        out
    }

    /// How long it is for comparing: a month as thirty days, a day as 24 hours.
    #[must_use]
    pub fn length(self) -> i128 {
        (i128::from(self.months) * 30 + i128::from(self.days)) * i128::from(DAY_US) + i128::from(self.micros)
    }

    /// The opposite, if there is one: the smallest number has none.
    #[must_use]
    pub fn negated(self) -> Option<Self> {
        let (months, days) = (self.months.checked_neg()?, self.days.checked_neg()?);
        Some(Self { months, days, micros: self.micros.checked_neg()? })
    }

    /// Both together.
    #[must_use]
    pub fn plus(self, other: Self) -> Option<Self> {
        Some(Self {
            months: self.months.checked_add(other.months)?,
            days: self.days.checked_add(other.days)?,
            micros: self.micros.checked_add(other.micros)?,
        })
    }

    /// A moment so much later: months first, a day that the month does not have becomes its last, then days, then the clock.
    #[must_use]
    pub fn after(self, moment_us: i64) -> Option<i64> {
        let mut days = moment_us.div_euclid(DAY_US);
        let of_day = moment_us.rem_euclid(DAY_US);
        if self.months != 0 {
            let (year, month, day) = civil_from_days(days);
            let months = year * 12 + month - 1 + i64::from(self.months);
            let (year, month) = (months.div_euclid(12), months.rem_euclid(12) + 1);
            days = days_from_civil(year, month, day.min(days_of_month(year, month)));
        }
        days = days.checked_add(i64::from(self.days))?;
        days.checked_mul(DAY_US)?.checked_add(of_day)?.checked_add(self.micros)
    }
}

/// A number without a part, if the type has room for it.
#[allow(clippy::cast_possible_truncation, reason = "bounded before")]
fn whole_number<N: TryFrom<i64>>(number: f64) -> Option<N> {
    const BEYOND: f64 = 9_223_372_036_854_775_808.0;
    N::try_from((number.abs() < BEYOND).then_some(number as i64)?).ok()
}

/// Days of a month.
#[must_use]
pub fn days_of_month(year: i64, month: i64) -> i64 {
    let (next_year, next) = if month == 12 { (year + 1, 1) } else { (year, month + 1) };
    days_from_civil(next_year, next, 1) - days_from_civil(year, month, 1)
}

/// Microseconds of `[-]HH:MM[:SS[.ffffff]]`.
fn clock(text: &str) -> Option<i64> {
    let (negative, text) = match text.strip_prefix('-') {
        Some(rest) => (true, rest),
        None => (false, text.strip_prefix('+').unwrap_or(text)),
    };
    let mut parts = text.split(':');
    let hours: i64 = parts.next()?.parse().ok().filter(|h| (0..100_000_000).contains(h))?;
    let minutes: i64 = parts.next()?.parse().ok().filter(|m| (0..60).contains(m))?;
    let seconds = match parts.next() {
        None => 0,
        Some(text) => {
            let (whole, part) = text.split_once('.').unwrap_or((text, ""));
            let whole: i64 = whole.parse().ok().filter(|s| (0..60).contains(s))?;
            let digits: String = part.chars().chain("000000".chars()).take(6).collect();
            whole * 1_000_000 + digits.parse::<i64>().ok()?
        }
    };
    if parts.next().is_some() {
        return None;
    }
    let all = hours * HOUR_US + minutes * 60_000_000 + seconds;
    Some(if negative { -all } else { all })
}

/// What lies between two moments in years, months, days and clock, as `age` gives it.
#[must_use]
pub fn age(later: i64, earlier: i64) -> Interval {
    if later < earlier {
        let i = age(earlier, later);
        return Interval { months: -i.months, days: -i.days, micros: -i.micros };
    }
    let split = |us: i64| {
        let (year, month, day) = civil_from_days(us.div_euclid(DAY_US));
        (year, month, day, us.rem_euclid(DAY_US))
    };
    let ((y1, m1, d1, t1), (y0, m0, d0, t0)) = (split(later), split(earlier));
    let (mut years, mut months, mut days, mut micros) = (y1 - y0, m1 - m0, d1 - d0, t1 - t0);
    if micros < 0 {
        micros += DAY_US;
        days -= 1;
    }
    if days < 0 {
        // days of the earlier month
        days += days_of_month(y0, m0);
        months -= 1;
    }
    if months < 0 {
        months += 12;
        years -= 1;
    }
    let int = |n: i64| i32::try_from(n).unwrap_or(0);
    Interval { months: int(years * 12 + months), days: int(days), micros }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn spans_are_read_and_written_as_postgresql_does() {
        let cases = [
            ("1 day", "1 day"),
            ("90 minutes", "01:30:00"),
            ("1 year 2 mons 3 days 04:05:06.5", "1 year 2 mons 3 days 04:05:06.5"),
            ("-1 day 02:00", "-1 days +02:00:00"),
            ("2 weeks", "14 days"),
            ("1.5 hours", "01:30:00"),
            ("1.5 years", "1 year 6 mons"),
            ("-13 months", "-1 years -1 mons"),
            ("0 days", "00:00:00"),
            ("1 mon -1 days", "1 mon -1 days"),
        ];
        for (text, written) in cases {
            assert_eq!(Interval::parse(text).map(Interval::text).as_deref(), Some(written), "{text}");
        }
        assert_eq!(Interval::parse("a while"), None);
        assert_eq!(Interval::parse(""), None);
    }
}
