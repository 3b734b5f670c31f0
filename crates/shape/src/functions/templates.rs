//! Times written and read by templates, as `to_char`, `to_date` and `to_timestamp` have them.

use std::fmt::Write as _;

use chrono::{Datelike, Timelike};
use gonvel_core::civil::DAY_US;

use super::time::{civil, infinite, utc};
use crate::expr::Fault;
use crate::value::Given;

const MONTHS: [&str; 12] = [
    "January",
    "February",
    "March",
    "April",
    "May",
    "June",
    "July",
    "August",
    "September",
    "October",
    "November",
    "December",
];
const DAYS: [&str; 7] = ["Sunday", "Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday"];

/// The words of a template, the longest first.
const WORDS: [&str; 38] = [
    "HH24", "HH12", "YYYY", "IYYY", "MONTH", "Month", "month", "DDD", "DAY", "Day", "day", "MON", "Mon", "mon", "SSSS",
    "TZ", "HH", "MI", "SS", "MS", "US", "AM", "PM", "am", "pm", "YY", "MM", "DD", "IW", "WW", "ID", "Dy", "DY", "dy", "CC",
    "Q", "D", "J",
];

enum Piece<'f> {
    Word(&'static str, bool),
    Plain(&'f str),
}

/// A template cut into its words and what stands between them.
fn pieces(format: &str) -> Vec<Piece<'_>> {
    let mut out = Vec::new();
    let mut rest = format;
    while !rest.is_empty() {
        if let Some(after) = rest.strip_prefix('"') {
            let end = after.find('"').unwrap_or(after.len());
            out.push(Piece::Plain(&after[..end]));
            rest = after.get(end + 1..).unwrap_or("");
            continue;
        }
        let (tight, word) = rest.strip_prefix("FM").map_or((false, rest), |after| (true, after));
        match WORDS.iter().find(|w| word.starts_with(**w)) {
            Some(found) => {
                out.push(Piece::Word(found, tight));
                rest = &word[found.len()..];
            }
            None => {
                let step = rest.chars().next().map_or(1, char::len_utf8);
                out.push(Piece::Plain(&rest[..step]));
                rest = &rest[step..];
            }
        }
    }
    out
}

pub(super) fn shown(us: i64, format: &str, zoned: bool) -> Result<Given<'static>, Fault> {
    if infinite(us) {
        return Ok(Given::Null);
    }
    let at = utc(us)?;
    let mut out = String::new();
    for piece in pieces(format) {
        let (word, tight) = match piece {
            Piece::Plain(text) => {
                out.push_str(text);
                continue;
            }
            Piece::Word(word, tight) => (word, tight),
        };
        let mut number = |value: i64, width: usize| {
            let _ = if tight { write!(out, "{value}") } else { write!(out, "{value:0width$}") };
        };
        let year = i64::from(if at.year() <= 0 { 1 - at.year() } else { at.year() });
        let day = at.weekday().num_days_from_sunday();
        let (month, weekday) = (MONTHS[at.month0() as usize], DAYS[day as usize]);
        let named = |name: &str, word: &str, short: bool| {
            let name = if short { &name[..3] } else { name };
            let cased = match word.as_bytes() {
                [_, second, ..] if second.is_ascii_uppercase() => name.to_uppercase(),
                [first, ..] if first.is_ascii_uppercase() => name.to_owned(),
                _ => name.to_lowercase(),
            };
            if short || tight { cased } else { format!("{cased:9}") }
        };
        match word {
            "YYYY" => number(year, 4),
            "YY" => number(year % 100, 2),
            "IYYY" => number(i64::from(at.iso_week().year()), 4),
            "CC" => number((year - 1) / 100 + 1, 2),
            "Q" => number(i64::from(at.month0() / 3 + 1), 1),
            "MM" => number(i64::from(at.month()), 2),
            "DD" => number(i64::from(at.day()), 2),
            "DDD" => number(i64::from(at.ordinal()), 3),
            "D" => number(i64::from(day) + 1, 1),
            "ID" => number(i64::from(at.weekday().number_from_monday()), 1),
            "IW" => number(i64::from(at.iso_week().week()), 2),
            "WW" => number(i64::from(at.ordinal0() / 7 + 1), 2),
            "J" => number(us.div_euclid(DAY_US) + 2_440_588, 1),
            "HH24" => number(i64::from(at.hour()), 2),
            "HH" | "HH12" => number(i64::from((at.hour() + 11) % 12 + 1), 2),
            "MI" => number(i64::from(at.minute()), 2),
            "SS" => number(i64::from(at.second()), 2),
            "SSSS" => number(i64::from(at.num_seconds_from_midnight()), 1),
            "MS" => number(us.rem_euclid(1_000_000) / 1_000, 3),
            "US" => number(us.rem_euclid(1_000_000), 6),
            "TZ" => out.push_str(if zoned { "UTC" } else { "" }),
            "AM" | "PM" => out.push_str(if at.hour() < 12 { "AM" } else { "PM" }),
            "am" | "pm" => out.push_str(if at.hour() < 12 { "am" } else { "pm" }),
            "MONTH" | "Month" | "month" => out.push_str(&named(month, word, false)),
            "MON" | "Mon" | "mon" => out.push_str(&named(month, word, true)),
            "DAY" | "Day" | "day" => out.push_str(&named(weekday, word, false)),
            _ => out.push_str(&named(weekday, word, true)),
        }
    }
    Ok(Given::text(out))
}

/// A moment read by a template.
pub(super) fn read(text: &str, format: &str) -> Result<i64, Fault> {
    let wrong = || Fault::from("the text does not follow the template");
    let (mut year, mut month, mut day, mut of_day, mut hour12, mut afternoon) = (1, 1, 1, 0_i64, None, false);
    let mut rest = text.trim_start();
    for piece in pieces(format) {
        let word = match piece {
            Piece::Plain(plain) => {
                // one separator stands for another; white space for any amount of it
                for c in plain.chars() {
                    if c.is_whitespace() {
                        rest = rest.trim_start();
                    } else if let Some(first) = rest.chars().next()
                        && (c.is_alphanumeric() || !first.is_alphanumeric())
                    {
                        rest = &rest[first.len_utf8()..];
                    }
                }
                continue;
            }
            Piece::Word(word, _) => word,
        };
        let mut number = |width: usize| -> Result<i64, Fault> {
            rest = rest.trim_start();
            let end = rest.find(|c: char| !c.is_ascii_digit()).unwrap_or(rest.len()).min(width);
            let found = rest[..end].parse().map_err(|_| wrong())?;
            rest = &rest[end..];
            Ok(found)
        };
        match word {
            "YYYY" => year = number(4)?,
            "YY" => {
                let short = number(2)?;
                year = if short < 70 { 2_000 + short } else { 1_900 + short };
            }
            "MM" => month = number(2)?,
            "DD" => day = number(2)?,
            "HH24" => of_day += number(2).and_then(|h| if h < 24 { Ok(h) } else { Err(wrong()) })? * 3_600_000_000,
            "HH" | "HH12" => {
                hour12 = Some(number(2).and_then(|h| if (1..=12).contains(&h) { Ok(h) } else { Err(wrong()) })?)
            }
            "MI" => of_day += number(2).and_then(|m| if m < 60 { Ok(m) } else { Err(wrong()) })? * 60_000_000,
            "SS" => of_day += number(2).and_then(|s| if s < 60 { Ok(s) } else { Err(wrong()) })? * 1_000_000,
            "MS" | "US" => {
                let width = if word == "MS" { 3 } else { 6 };
                let end = rest.find(|c: char| !c.is_ascii_digit()).unwrap_or(rest.len()).min(width);
                let digits: String = rest[..end].chars().chain("000000".chars()).take(6).collect();
                of_day += digits.parse::<i64>().map_err(|_| wrong())?;
                rest = &rest[end..];
            }
            "AM" | "PM" | "am" | "pm" => {
                afternoon = rest.to_ascii_lowercase().starts_with("pm");
                rest = rest.get(2..).unwrap_or("");
            }
            "MONTH" | "Month" | "month" | "MON" | "Mon" | "mon" => {
                let long = word.len() > 3;
                let lower = rest.to_ascii_lowercase();
                let name = |m: &str| if long { m.to_lowercase() } else { m[..3].to_lowercase() };
                let at = MONTHS.iter().position(|m| lower.starts_with(&name(m))).ok_or_else(wrong)?;
                rest = &rest[name(MONTHS[at]).len()..];
                month = i64::try_from(at).unwrap_or(0) + 1;
            }
            _ => {
                return Err(
                    "templates to read times know YYYY, YY, MM, Mon, Month, DD, HH24, HH12, MI, SS, MS, US, AM and PM"
                        .into(),
                );
            }
        }
    }
    if let Some(hour) = hour12 {
        of_day += (hour % 12 + if afternoon { 12 } else { 0 }) * 3_600_000_000;
    }
    Ok(civil(year, month, day)? * DAY_US + of_day)
}
