//! Times read by templates, as `to_date` and `to_timestamp` read them: what a template does not name is the beginning of its time, and
//! without a year the year before year 1.

use gonvel_core::civil::{DAY_US, civil_from_days, days_from_civil};

use super::moments::week;
use super::templates::{DAYS, MONTHS, Manner, Piece, ROMAN, pieces};
use crate::expr::Fault;
use crate::interval::days_of_month;

/// 2000-01-01 in microseconds since 1970.
const YEAR_2000_US: i64 = 946_684_800_000_000;

/// The Julian day of 1970-01-01.
const JULIAN_1970: i64 = 2_440_588;

/// What was read.
pub(super) struct Read {
    /// Days since 1970-01-01.
    days: i64,
    /// Microseconds of the day.
    of_day: i64,
    /// Microseconds that its clock is ahead of UTC.
    ahead: i64,
    /// Digits of a second that it has.
    fraction: Option<u32>,
}

impl Read {
    /// The day, whatever the clock says.
    pub(super) fn day(&self) -> i64 {
        self.days
    }

    /// The moment in microseconds.
    pub(super) fn moment(&self) -> Option<i64> {
        let us = self.days.checked_mul(DAY_US)?.checked_add(self.of_day)?.checked_sub(self.ahead)?;
        let Some(digits) = self.fraction else { return Some(us) };
        // rounded away from 2000-01-01, from where the database counts
        let (unit, from) = (10_i64.pow(6_u32.saturating_sub(digits)), YEAR_2000_US);
        let since = us.checked_sub(from)?;
        let rounded = (since.abs().checked_add(unit / 2)? / unit).checked_mul(unit)?;
        from.checked_add(rounded.checked_mul(since.signum())?)
    }
}

/// The years that the number of their week, or of their day, goes by.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
enum Calendar {
    #[default]
    Any,
    Months,
    Weeks,
}

/// Fields that were read; zero is one that was not.
#[derive(Default)]
struct Fields {
    calendar: Calendar,
    year: i64,
    year_digits: usize,
    century: i64,
    before_christ: bool,
    month: i64,
    day: i64,
    day_of_year: i64,
    /// From Sunday, 1.
    weekday: i64,
    week: i64,
    week_of_month: i64,
    julian: i64,
    hour: i64,
    minute: i64,
    second: i64,
    millis: i64,
    micros: i64,
    of_day: i64,
    half_days: bool,
    afternoon: bool,
    zone_sign: i64,
    zone_hour: i64,
    zone_minute: i64,
    /// Digits of a second that are asked for.
    fraction: Option<u32>,
}

fn wrong(word: &str) -> Fault {
    format!("the text has not what {word} of the template stands for").into()
}

/// Sets a field, once.
fn set(field: &mut i64, value: i64, word: &str) -> Result<(), Fault> {
    if *field != 0 && *field != value {
        return Err(format!("the text has two values for {word}").into());
    }
    *field = value;
    Ok(())
}

/// Years of fewer digits are those next to 2020.
fn near_2020(year: i64) -> i64 {
    match year {
        ..70 | 100..520 => year + 2_000,
        70..100 => year + 1_900,
        520..1_000 => year + 1_000,
        _ => year,
    }
}

fn digits_follow(word: &str) -> bool {
    matches!(word, "CC" | "DDD" | "DD" | "D" | "J" | "MI" | "MM" | "MS" | "Q" | "US" | "WW" | "W" | "TZM")
        || word.starts_with(['H', 'Y', 'I'])
        || word.starts_with("SS")
        || word.starts_with("FF")
}

struct Reader<'t> {
    text: &'t str,
    at: usize,
}

impl<'t> Reader<'t> {
    fn rest(&self) -> &'t str {
        &self.text[self.at..]
    }

    fn next(&self) -> Option<char> {
        self.rest().chars().next()
    }

    fn step(&mut self) {
        self.at += self.next().map_or(0, char::len_utf8);
    }

    /// Goes over white space, and says how much there was.
    fn blanks(&mut self) -> i64 {
        let mut over = 0;
        while self.next().is_some_and(|c| c.is_ascii_whitespace() || c == '\u{b}') {
            self.at += 1;
            over += 1;
        }
        over
    }

    /// A whole number of so many characters; of as many as there are where what follows is no digit. Gives how many they were.
    fn number(&mut self, length: usize, open: bool, word: &str) -> Result<(i64, usize), Fault> {
        // blanks before it count as places of it
        let before = usize::try_from(self.blanks()).unwrap_or(0);
        let rest = self.rest();
        let within = if open {
            rest
        } else {
            rest.get(..length).ok_or_else(|| Fault::from(format!("the text is too short for {word} of the template")))?
        };
        let signed = within.trim_start_matches(|c: char| c.is_ascii_whitespace());
        let blank = within.len() - signed.len();
        let sign = usize::from(signed.starts_with(['-', '+']));
        let digits = signed[sign..].bytes().take_while(u8::is_ascii_digit).count();
        let used = if digits == 0 { 0 } else { blank + sign + digits };
        if used == 0 || !open && used < length {
            return Err(wrong(word));
        }
        let value = signed[..sign + digits].parse::<i32>().map_err(|_| wrong(word))?;
        self.at += used;
        Ok((i64::from(value), before + used))
    }

    /// The place of the first of the names that stands here, whatever its letters' case.
    fn name<'n>(&mut self, names: impl IntoIterator<Item = &'n str>, word: &str) -> Result<i64, Fault> {
        let rest = self.rest();
        for (place, name) in names.into_iter().enumerate() {
            if rest.get(..name.len()).is_some_and(|head| head.eq_ignore_ascii_case(name)) {
                self.at += name.len();
                return i64::try_from(place).map_err(|_| wrong(word));
            }
        }
        Err(wrong(word))
    }
}

fn separates(c: char) -> bool {
    c.is_ascii_graphic() && !c.is_ascii_alphanumeric()
}

/// Whether digits may go on to whatever is no digit.
fn open(manner: Manner, next: Option<&Piece<'_>>) -> bool {
    manner.tight
        || manner.ending.is_some()
        || match next {
            None => true,
            Some(Piece::Word(word, _)) => !digits_follow(word),
            Some(Piece::Plain(text)) => !text.starts_with(|c: char| c.is_ascii_digit()),
            Some(Piece::Quoted(text)) => !text.starts_with(|c: char| c.is_ascii_digit()),
        }
}

/// Reads a text by a template.
pub(super) fn read(text: &str, format: &str) -> Result<Read, Fault> {
    let pieces = pieces(format);
    let mut reader = Reader { text, at: 0 };
    let mut fields = Fields::default();
    // characters gone over beyond those of the template
    let mut extra = 0_i64;
    let mut exact = false;
    for (number, piece) in pieces.iter().enumerate() {
        if reader.next().is_none() {
            break;
        }
        if !exact && (number == 0 || matches!(piece, Piece::Word(..))) {
            extra += reader.blanks();
        }
        match piece {
            Piece::Word("FX", _) => exact = true,
            Piece::Word(word, manner) => {
                let open = open(*manner, pieces.get(number + 1));
                fields.read(&mut reader, word, *manner, open, extra)?;
                if !exact {
                    extra = reader.blanks();
                }
            }
            Piece::Plain(text) if exact => text.chars().for_each(|_| reader.step()),
            Piece::Quoted(text) if exact => text.chars().for_each(|_| reader.step()),
            Piece::Plain(text) if text.starts_with(|c: char| separates(c) || c.is_ascii_whitespace()) => {
                extra -= 1;
                if reader.next().is_some_and(|c| separates(c) || c.is_ascii_whitespace()) {
                    reader.step();
                    extra += 1;
                }
            }
            Piece::Plain(text) | Piece::Quoted(text) => {
                for _ in text.chars() {
                    if extra > 0 {
                        extra -= 1;
                    } else {
                        reader.step();
                    }
                }
            }
        }
    }
    fields.moment()
}

impl Fields {
    fn goes_by(&mut self, calendar: Calendar) -> Result<(), Fault> {
        if calendar == Calendar::Any || self.calendar == calendar {
            return Ok(());
        }
        if self.calendar != Calendar::Any {
            return Err("the template mixes years of months with years of weeks".into());
        }
        self.calendar = calendar;
        Ok(())
    }

    fn read(
        &mut self,
        reader: &mut Reader<'_>,
        word: &'static str,
        manner: Manner,
        open: bool,
        extra: i64,
    ) -> Result<(), Fault> {
        self.goes_by(match word {
            "IYYY" | "IYY" | "IY" | "I" | "IW" | "ID" | "IDDD" => Calendar::Weeks,
            "Y,YYY" | "YYYY" | "YYY" | "YY" | "Y" | "MM" | "DD" | "DDD" | "D" | "W" | "WW" | "RM" | "rm" => Calendar::Months,
            name if name.to_ascii_uppercase().starts_with("MON") => Calendar::Months,
            _ => Calendar::Any,
        })?;
        match word {
            "A.M." | "P.M." | "a.m." | "p.m." => {
                (self.half_days, self.afternoon) = (true, reader.name(["a.m.", "p.m."], word)? == 1);
                return Ok(());
            }
            "AM" | "PM" | "am" | "pm" => {
                (self.half_days, self.afternoon) = (true, reader.name(["am", "pm"], word)? == 1);
                return Ok(());
            }
            "A.D." | "B.C." | "a.d." | "b.c." => {
                self.before_christ = reader.name(["a.d.", "b.c."], word)? == 1;
                return Ok(());
            }
            "AD" | "BC" | "ad" | "bc" => {
                self.before_christ = reader.name(["ad", "bc"], word)? == 1;
                return Ok(());
            }
            "MONTH" | "Month" | "month" => return set(&mut self.month, reader.name(MONTHS, word)? + 1, word),
            "MON" | "Mon" | "mon" => {
                return set(&mut self.month, reader.name(MONTHS.iter().map(|m| &m[..3]), word)? + 1, word);
            }
            "RM" | "rm" => {
                let backwards = ROMAN.iter().rev().copied();
                return set(&mut self.month, 12 - reader.name(backwards, word)?, word);
            }
            "DAY" | "Day" | "day" | "DY" | "Dy" | "dy" => {
                let short = word.len() == 2;
                let place = reader.name(DAYS.iter().map(|day| if short { &day[..3] } else { *day }), word)?;
                // counted from 0 until now: the same day twice is refused too
                set(&mut self.weekday, place, word)?;
                self.weekday += 1;
                return Ok(());
            }
            "TZ" | "tz" | "OF" => return Err(format!("{word} only writes times: TZH and TZM read a zone").into()),
            "Y,YYY" => {
                let rest = reader.rest().trim_start();
                let (thousands, after) = rest.split_once(',').ok_or_else(|| wrong(word))?;
                let width = after.bytes().take(3).take_while(u8::is_ascii_digit).count();
                let thousands: i64 = thousands.parse().map_err(|_| wrong(word))?;
                let rest_of_it: i64 = after[..width].parse().map_err(|_| wrong(word))?;
                if thousands > 300 {
                    return Err(wrong(word));
                }
                set(&mut self.year, thousands * 1_000 + rest_of_it, word)?;
                self.year_digits = 4;
                reader.at = reader.text.len() - after.len() + width;
            }
            "TZH" => {
                match reader.next() {
                    Some(c @ ('+' | '-' | ' ')) => {
                        self.zone_sign = if c == '-' { -1 } else { 1 };
                        reader.step();
                    }
                    // a minus may have been taken for what stands between two fields
                    _ => {
                        let minus = extra > 0 && reader.text[..reader.at].ends_with('-');
                        self.zone_sign = if minus { -1 } else { 1 };
                    }
                }
                let (hours, _) = reader.number(2, open, word)?;
                return set(&mut self.zone_hour, hours, word);
            }
            "TZM" => {
                if self.zone_sign == 0 {
                    self.zone_sign = 1;
                }
                let (minutes, _) = reader.number(2, open, word)?;
                return set(&mut self.zone_minute, minutes, word);
            }
            _ => {
                let length = match word {
                    "HH" | "HH12" | "HH24" | "FF2" => 2,
                    "MS" | "FF3" | "IDDD" => 3,
                    "FF1" => 1,
                    "FF4" => 4,
                    "FF5" => 5,
                    "US" | "FF6" => 6,
                    "ID" => 1,
                    word => word.len(),
                };
                let (value, used) = reader.number(length, open, word)?;
                self.number(word, value, used)?;
            }
        }
        if manner.ending.is_some() {
            reader.step();
            reader.step();
        }
        Ok(())
    }

    fn number(&mut self, word: &'static str, value: i64, used: usize) -> Result<(), Fault> {
        let year = |fields: &mut Self, value: i64, digits: usize| {
            set(&mut fields.year, value, word)?;
            fields.year_digits = digits;
            Ok(())
        };
        match word {
            "YYYY" | "IYYY" => return year(self, value, 4),
            "YYY" | "IYY" | "YY" | "IY" | "Y" | "I" => {
                set(&mut self.year, value, word)?;
                if used < 4 {
                    self.year = near_2020(self.year);
                }
                self.year_digits = word.len();
                return Ok(());
            }
            "Q" => return Ok(()),
            "ID" => {
                set(&mut self.weekday, value, word)?;
                self.weekday = if self.weekday >= 7 { 1 } else { self.weekday + 1 };
                return Ok(());
            }
            "HH" | "HH12" => self.half_days = true,
            _ => {}
        }
        let scaled = |width: u32| {
            let missing = width.saturating_sub(u32::try_from(used).unwrap_or(width));
            value.checked_mul(10_i64.pow(missing)).ok_or_else(|| wrong(word))
        };
        match word {
            "HH" | "HH12" | "HH24" => set(&mut self.hour, value, word),
            "MI" => set(&mut self.minute, value, word),
            "SS" => set(&mut self.second, value, word),
            "MS" => {
                set(&mut self.millis, value, word)?;
                self.millis = scaled(3)?;
                Ok(())
            }
            "US" | "FF1" | "FF2" | "FF3" | "FF4" | "FF5" | "FF6" => {
                set(&mut self.micros, value, word)?;
                self.micros = scaled(6)?;
                if let Some(digits) = word.strip_prefix("FF") {
                    self.fraction = digits.parse().ok();
                }
                Ok(())
            }
            "SSSS" | "SSSSS" => set(&mut self.of_day, value, word),
            "MM" => set(&mut self.month, value, word),
            "DD" => set(&mut self.day, value, word),
            "DDD" | "IDDD" => set(&mut self.day_of_year, value, word),
            "D" => set(&mut self.weekday, value, word),
            "WW" | "IW" => set(&mut self.week, value, word),
            "W" => set(&mut self.week_of_month, value, word),
            "CC" => set(&mut self.century, value, word),
            _ => set(&mut self.julian, value, word),
        }
    }

    /// The year as it is counted from 1, 0 being the one before it; and whether it was said.
    fn whole_year(&self) -> (i64, bool) {
        let century = if self.before_christ { -self.century } else { self.century };
        if self.year != 0 {
            if century != 0 && self.year_digits <= 2 {
                let short = self.year % 100;
                let year = match (short, century >= 0) {
                    (0, _) => century * 100 + i64::from(century < 0),
                    (short, true) => short + (century - 1) * 100,
                    (short, false) => (century + 1) * 100 - short + 1,
                };
                return (year, true);
            }
            let year = if self.before_christ { -self.year } else { self.year };
            return (if year < 0 { year + 1 } else { year }, true);
        }
        if century != 0 {
            return (if century >= 0 { (century - 1) * 100 + 1 } else { century * 100 + 1 }, true);
        }
        (0, false)
    }

    fn moment(mut self) -> Result<Read, Fault> {
        let no_date = || Fault::from("there is no such date");
        let no_time = || Fault::from("there is no such time of day");
        let (mut hour, mut minute, mut second) = (self.of_day / 3_600, self.of_day % 3_600 / 60, self.of_day % 3_600 % 60);
        for (field, said) in [(&mut hour, self.hour), (&mut minute, self.minute), (&mut second, self.second)] {
            if said != 0 {
                *field = said;
            }
        }
        if self.half_days {
            if !(1..=12).contains(&hour) {
                return Err("a clock of twelve hours has no such hour".into());
            }
            hour = hour % 12 + if self.afternoon { 12 } else { 0 };
        }
        let (mut year, mut said_year) = self.whole_year();
        let (mut month, mut day) = (1, 1);
        let (mut said_month, mut said_day) = (false, false);
        let civil = |days: i64| civil_from_days(days);
        if self.julian != 0 {
            (year, month, day) = civil(self.julian - JULIAN_1970);
            (said_year, said_month, said_day) = (true, true, true);
        }
        // Monday of the year's first week
        let first_week = |year: i64| week(days_from_civil(year, 1, 4)).0;
        if self.week != 0 {
            if self.calendar == Calendar::Weeks {
                let monday = first_week(year) + (self.week - 1) * 7;
                let days = match self.weekday {
                    0 => monday,
                    1 => monday + 6,
                    weekday => monday + weekday - 2,
                };
                (year, month, day) = civil(days);
                (said_year, said_month, said_day) = (true, true, true);
            } else {
                self.day_of_year = (self.week - 1) * 7 + 1;
            }
        }
        if self.week_of_month != 0 {
            self.day = (self.week_of_month - 1) * 7 + 1;
        }
        if self.day != 0 {
            (day, said_day) = (self.day, true);
        }
        if self.month != 0 {
            (month, said_month) = (self.month, true);
        }
        if self.day_of_year != 0 && (month <= 1 || day <= 1) {
            if year == 0 && !self.before_christ {
                return Err("a day of the year needs a year".into());
            }
            if self.calendar == Calendar::Weeks {
                (year, month, day) = civil(first_week(year) + self.day_of_year - 1);
            } else {
                let (mut of_month, mut rest) = (1, self.day_of_year);
                while of_month <= 12 && rest > days_of_month(year, of_month) {
                    rest -= days_of_month(year, of_month);
                    of_month += 1;
                }
                month = if month <= 1 { of_month } else { month };
                day = if day <= 1 { rest } else { day };
            }
            (said_month, said_day) = (true, true);
        }
        if !(1..=12).contains(&month) || !(1..=31).contains(&day) {
            return Err(no_date());
        }
        if said_year && said_month && said_day && day > days_of_month(year, month) {
            return Err(no_date());
        }
        let micros = self.millis.checked_mul(1_000).and_then(|m| m.checked_add(self.micros)).ok_or_else(no_time)?;
        if !(0..24).contains(&hour)
            || !(0..60).contains(&minute)
            || !(0..60).contains(&second)
            || !(0..1_000_000).contains(&micros)
        {
            return Err(no_time());
        }
        if self.zone_sign != 0 && (!(0..=15).contains(&self.zone_hour) || !(0..60).contains(&self.zone_minute)) {
            return Err("there is no such zone".into());
        }
        let out_of_range = || Fault::from("the time is out of range");
        if !(-4_713..=5_874_898).contains(&year) {
            return Err(out_of_range());
        }
        let days = days_from_civil(year, month, 1) + day - 1;
        if days < -JULIAN_1970 {
            return Err(out_of_range());
        }
        Ok(Read {
            days,
            of_day: ((hour * 60 + minute) * 60 + second) * 1_000_000 + micros,
            ahead: self.zone_sign * (self.zone_hour * 60 + self.zone_minute) * 60_000_000,
            fraction: self.fraction,
        })
    }
}
