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
const ROMAN: [&str; 12] = ["I", "II", "III", "IV", "V", "VI", "VII", "VIII", "IX", "X", "XI", "XII"];
const DAYS: [&str; 7] = ["Sunday", "Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday"];

/// Words that stand for a number, in capitals or in small letters.
const NUMBERS: [&str; 40] = [
    "Y,YYY", "SSSSS", "HH24", "HH12", "YYYY", "IYYY", "IDDD", "SSSS", "DDD", "YYY", "IYY", "FF1", "FF2", "FF3", "FF4",
    "FF5", "FF6", "TZH", "TZM", "HH", "MI", "SS", "MS", "US", "YY", "IY", "MM", "DD", "IW", "WW", "ID", "CC", "OF", "Q",
    "D", "J", "Y", "I", "W", "FX",
];
/// Words that stand for a text, written as they are here.
const NAMES: [&str; 31] = [
    "MONTH", "Month", "month", "A.D.", "a.d.", "B.C.", "b.c.", "A.M.", "a.m.", "P.M.", "p.m.", "DAY", "Day", "day", "MON",
    "Mon", "mon", "TZ", "tz", "AD", "ad", "BC", "bc", "AM", "PM", "am", "pm", "Dy", "DY", "dy", "RM",
];

/// How a word is to be written.
#[derive(Clone, Copy, Default)]
struct Manner {
    /// Without blanks and zeros that fill it up.
    tight: bool,
    /// The same of names alone.
    tight_name: bool,
    /// With the ending of a number that counts: `th` or, in capitals, `TH`.
    ending: Option<&'static str>,
}

enum Piece<'f> {
    Word(&'static str, Manner),
    Plain(&'f str),
}

/// The longest word that a text begins with, and its length.
fn word(text: &str) -> Option<(&'static str, usize)> {
    let number =
        |word: &&'static str| text.get(..word.len()).is_some_and(|head| head == *word || head == word.to_ascii_lowercase());
    let numbers = NUMBERS.iter().filter(|w| number(w)).map(|w| (*w, w.len()));
    let names = NAMES.iter().filter(|w| text.starts_with(**w)).map(|w| (*w, w.len()));
    let roman = text.starts_with("rm").then_some(("rm", 2));
    numbers.chain(names).chain(roman).max_by_key(|(_, length)| *length)
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
        let (mut manner, mut after) = (Manner::default(), rest);
        loop {
            if let Some(inner) = ["FM", "fm"].iter().find_map(|prefix| after.strip_prefix(prefix)) {
                (manner.tight, after) = (true, inner);
            } else if let Some(inner) = ["TM", "tm"].iter().find_map(|prefix| after.strip_prefix(prefix)) {
                // names have no other language here
                (manner.tight_name, after) = (true, inner);
            } else {
                break;
            }
        }
        match word(after) {
            Some((found, length)) => {
                rest = &after[length..];
                for ending in ["TH", "th", "SP", "sp"] {
                    if let Some(next) = rest.strip_prefix(ending) {
                        rest = next;
                        manner.ending = ["TH", "th"].into_iter().find(|e| *e == ending);
                        break;
                    }
                }
                // how strictly texts are read is said once for all
                if found != "FX" {
                    out.push(Piece::Word(found, manner));
                }
            }
            None if after.len() < rest.len() => rest = after,
            None => {
                let step = rest.chars().next().map_or(1, char::len_utf8);
                out.push(Piece::Plain(&rest[..step]));
                rest = &rest[step..];
            }
        }
    }
    out
}

/// What a number ends in when it counts: `1st`, `12th`.
fn ordinal(number: i64, ending: &str) -> String {
    let number = number.abs();
    let small = match (number % 100, number % 10) {
        (11..=13, _) => "th",
        (_, 1) => "st",
        (_, 2) => "nd",
        (_, 3) => "rd",
        _ => "th",
    };
    if ending == "TH" { small.to_uppercase() } else { small.to_owned() }
}

pub(super) fn shown(us: i64, format: &str, zoned: bool) -> Result<Given<'static>, Fault> {
    if infinite(us) {
        return Ok(Given::Null);
    }
    let at = utc(us)?;
    let mut out = String::new();
    for piece in pieces(format) {
        let (word, Manner { tight, tight_name, ending }) = match piece {
            Piece::Plain(text) => {
                out.push_str(text);
                continue;
            }
            Piece::Word(word, manner) => (word, manner),
        };
        let mut number = |value: i64, width: usize| {
            // digits of a second are as many as are asked for
            let fixed = matches!(word, "MS" | "US") || word.starts_with("FF");
            let _ = if tight && !fixed { write!(out, "{value}") } else { write!(out, "{value:0width$}") };
            out.extend(ending.map(|ending| ordinal(value, ending)));
        };
        let iso = at.iso_week();
        let iso_year = i64::from(if iso.year() <= 0 { 1 - iso.year() } else { iso.year() });
        let era = if at.year() <= 0 { ["BC", "bc", "B.C.", "b.c."] } else { ["AD", "ad", "A.D.", "a.d."] };
        let half = if at.hour() < 12 { ["AM", "am", "A.M.", "a.m."] } else { ["PM", "pm", "P.M.", "p.m."] };
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
            if short || tight || tight_name { cased } else { format!("{cased:9}") }
        };
        match word {
            "YYYY" => number(year, 4),
            "YY" => number(year % 100, 2),
            "YYY" => number(year % 1_000, 3),
            "Y" => number(year % 10, 1),
            "Y,YYY" => {
                let _ = write!(out, "{},{:03}", year / 1_000, year % 1_000);
                out.extend(ending.map(|ending| ordinal(year, ending)));
            }
            "IYYY" => number(iso_year, 4),
            "IYY" => number(iso_year % 1_000, 3),
            "IY" => number(iso_year % 100, 2),
            "I" => number(iso_year % 10, 1),
            "IDDD" => number(i64::from(iso.week0()) * 7 + i64::from(at.weekday().number_from_monday()), 3),
            "W" => number(i64::from((at.day() - 1) / 7 + 1), 1),
            "CC" if at.year() <= 0 => {
                // its sign stands before all digits
                out.push('-');
                let _ =
                    if tight { write!(out, "{}", (year - 1) / 100 + 1) } else { write!(out, "{:02}", (year - 1) / 100 + 1) };
                out.extend(ending.map(|ending| ordinal((year - 1) / 100 + 1, ending)));
            }
            "CC" => number((year - 1) / 100 + 1, 2),
            "Q" => number(i64::from(at.month0() / 3 + 1), 1),
            "MM" => number(i64::from(at.month()), 2),
            "DD" => number(i64::from(at.day()), 2),
            "DDD" => number(i64::from(at.ordinal()), 3),
            "D" => number(i64::from(day) + 1, 1),
            "ID" => number(i64::from(at.weekday().number_from_monday()), 1),
            "IW" => number(i64::from(iso.week()), 2),
            "WW" => number(i64::from(at.ordinal0() / 7 + 1), 2),
            "J" => number(us.div_euclid(DAY_US) + 2_440_588, 1),
            "HH24" => number(i64::from(at.hour()), 2),
            "HH" | "HH12" => number(i64::from((at.hour() + 11) % 12 + 1), 2),
            "MI" => number(i64::from(at.minute()), 2),
            "SS" => number(i64::from(at.second()), 2),
            "SSSS" | "SSSSS" => number(i64::from(at.num_seconds_from_midnight()), 1),
            "MS" => number(us.rem_euclid(1_000_000) / 1_000, 3),
            "US" => number(us.rem_euclid(1_000_000), 6),
            "FF1" => number(us.rem_euclid(1_000_000) / 100_000, 1),
            "FF2" => number(us.rem_euclid(1_000_000) / 10_000, 2),
            "FF3" => number(us.rem_euclid(1_000_000) / 1_000, 3),
            "FF4" => number(us.rem_euclid(1_000_000) / 100, 4),
            "FF5" => number(us.rem_euclid(1_000_000) / 10, 5),
            "FF6" => number(us.rem_euclid(1_000_000), 6),
            // all times are in UTC here
            "TZ" => out.push_str(if zoned { "UTC" } else { "" }),
            "tz" => out.push_str(if zoned { "utc" } else { "" }),
            "OF" if tight => out.push_str("+0"),
            "TZH" | "OF" => out.push_str("+00"),
            "TZM" => out.push_str("00"),
            "AD" | "BC" => out.push_str(era[0]),
            "ad" | "bc" => out.push_str(era[1]),
            "A.D." | "B.C." => out.push_str(era[2]),
            "a.d." | "b.c." => out.push_str(era[3]),
            "AM" | "PM" => out.push_str(half[0]),
            "am" | "pm" => out.push_str(half[1]),
            "A.M." | "P.M." => out.push_str(half[2]),
            "a.m." | "p.m." => out.push_str(half[3]),
            "RM" | "rm" => {
                let roman = ROMAN[at.month0() as usize];
                let roman = if word == "rm" { roman.to_lowercase() } else { roman.to_owned() };
                let _ = if tight { write!(out, "{roman}") } else { write!(out, "{roman:4}") };
            }
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
            "A.M." | "P.M." | "a.m." | "p.m." => {
                afternoon = rest.to_ascii_lowercase().starts_with("p.m.");
                rest = rest.get(4..).unwrap_or("");
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
