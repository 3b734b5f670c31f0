//! Times written by templates, as `to_char` has them; and what a template consists of.

use std::fmt::Write as _;

use chrono::{Datelike, Timelike};
use gonvel_core::civil::DAY_US;

use super::moments::{infinite, utc};
use crate::expr::Fault;
use crate::value::Given;

pub(super) const MONTHS: [&str; 12] = [
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
pub(super) const ROMAN: [&str; 12] = ["I", "II", "III", "IV", "V", "VI", "VII", "VIII", "IX", "X", "XI", "XII"];
pub(super) const DAYS: [&str; 7] = ["Sunday", "Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday"];

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
pub(super) struct Manner {
    /// Without blanks and zeros that fill it up.
    pub(super) tight: bool,
    /// The same of names alone.
    tight_name: bool,
    /// With the ending of a number that counts: `th` or, in capitals, `TH`.
    pub(super) ending: Option<&'static str>,
}

/// A piece of a template.
#[derive(Clone, Copy)]
pub(super) enum Piece<'f> {
    Word(&'static str, Manner),
    /// A character that means itself.
    Plain(&'f str),
    /// What stands in quotes.
    Quoted(&'f str),
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
pub(super) fn pieces(format: &str) -> Vec<Piece<'_>> {
    let mut out = Vec::new();
    let mut rest = format;
    while !rest.is_empty() {
        if let Some(after) = rest.strip_prefix('"') {
            let end = after.find('"').unwrap_or(after.len());
            out.push(Piece::Quoted(&after[..end]));
            rest = after.get(end + 1..).unwrap_or("");
            continue;
        }
        let (mut manner, mut after) = (Manner::default(), rest);
        // one of them at most
        if let Some(inner) = ["FM", "fm"].iter().find_map(|prefix| after.strip_prefix(prefix)) {
            (manner.tight, after) = (true, inner);
        } else if let Some(inner) = ["TM", "tm"].iter().find_map(|prefix| after.strip_prefix(prefix)) {
            // names have no other language here
            (manner.tight_name, after) = (true, inner);
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
                out.push(Piece::Word(found, manner));
            }
            None => {
                // a prefix of nothing is gone
                rest = after;
                if rest.is_empty() || rest.starts_with('"') {
                    continue;
                }
                let step = rest.chars().next().map_or(1, char::len_utf8);
                out.push(Piece::Plain(&rest[..step]));
                rest = &rest[step..];
            }
        }
    }
    out
}

/// What a number ends in when it counts: `1st`, `12th`.
pub(super) fn ordinal(number: i64, ending: &str) -> String {
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
            Piece::Plain(text) | Piece::Quoted(text) => {
                out.push_str(text);
                continue;
            }
            // how strictly texts are read
            Piece::Word("FX", _) => continue,
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
