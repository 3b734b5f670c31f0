//! Numbers written by templates.

use std::fmt::Write as _;

use gonvel_core::column::Value;

use super::template::{Piece, Sign, Template};
use crate::decimal;
use crate::expr::{Fault, Scope};
use crate::functions::operators::range;
use crate::functions::templates::ordinal;
use crate::functions::{d, int, unscaled};
use crate::ty::Ty;
use crate::value::Given;

/// Digits that a double, and a single, holds for sure.
const DIGITS: [usize; 2] = [15, 6];

/// A number as digits with a point at most, and what its kind of number has room for.
struct Digits {
    negative: bool,
    text: String,
    /// Blanks before it.
    spaces: usize,
}

impl Digits {
    /// Digits as a template has room for them: `#` for each where it has not.
    fn fitted(text: &str, template: &Template) -> Self {
        let (negative, text) = match text.strip_prefix('-') {
            Some(text) => (true, text),
            None => (false, text),
        };
        let before = text.find('.').unwrap_or(text.len());
        let text = if before > template.pre {
            format!("{}.{}", "#".repeat(template.pre), "#".repeat(template.post))
        } else {
            text.to_owned()
        };
        Self { negative, text, spaces: template.pre.saturating_sub(before) }
    }
}

/// The writing of one number.
struct Writing<'t> {
    template: &'t Template,
    number: &'t [u8],
    /// Where the next digit is.
    at: usize,
    /// The last digit after the point that is worth writing, where blanks and zeros are left out.
    last: Option<usize>,
    negative: bool,
    sign: Sign,
    bracket: bool,
    signed: bool,
    spaces: usize,
    count: usize,
    current: usize,
    inside: bool,
    out: String,
    /// Where it ended before the template did.
    ended: Option<usize>,
    /// Whether something that is no number was to be counted.
    uncounted: bool,
}

impl<'t> Writing<'t> {
    fn new(template: &'t Template, digits: &'t Digits) -> Self {
        let number = digits.text.as_bytes();
        let mut bracket = template.bracket;
        let mut sign = template.sign;
        let signed = if template.plus || template.minus {
            template.minus
        } else {
            if !digits.negative && template.tight {
                bracket = false;
            }
            if sign == Sign::Before && template.pre == template.before_sign {
                sign = Sign::After;
            }
            !digits.negative && template.tight && sign == Sign::None
        };
        let last = digits.text.find('.').filter(|_| template.tight && template.point).map(|point| {
            let last = digits.text.trim_end_matches('0').len() - 1;
            let zeros = template.zero_end.saturating_sub(digits.spaces).min(number.len() - 1);
            last.max(point).max(zeros)
        });
        let places = (template.pre + template.post).wrapping_sub(1);
        let count = if !signed && digits.spaces == 0 { places.wrapping_add(1) } else { places };
        Self {
            template,
            number,
            at: 0,
            last,
            negative: digits.negative,
            sign,
            bracket,
            signed,
            spaces: digits.spaces,
            count,
            current: 0,
            inside: false,
            out: String::new(),
            ended: None,
            uncounted: false,
        }
    }

    fn sign(&self) -> char {
        if self.negative { '-' } else { '+' }
    }

    /// Whether the next digit is the zero before the point, which `9.9` leaves out.
    fn leading_zero(&self) -> bool {
        self.template.zero.is_none() && self.at == 0 && self.number.first() == Some(&b'0') && self.template.post != 0
    }

    fn last_is_point(&self) -> bool {
        self.last.is_some_and(|last| self.number.get(last) == Some(&b'.'))
    }

    fn write_sign(&mut self) {
        let begins = self.template.zero == Some(self.current);
        if self.signed || !(self.current >= self.spaces || begins) || self.leading_zero() && !self.last_is_point() {
            return;
        }
        if self.sign != Sign::None {
            if self.sign == Sign::Before {
                self.out.push(self.sign());
                self.signed = true;
            }
        } else {
            if self.bracket {
                self.out.push(if self.negative { '<' } else { ' ' });
            } else if self.negative {
                self.out.push('-');
            } else if !self.template.tight {
                self.out.push(' ');
            }
            self.signed = true;
        }
    }

    fn write_digit(&mut self, zero: bool) {
        if self.current < self.spaces {
            if self.template.zero.is_some_and(|begin| begin <= self.current) {
                self.out.push('0');
                self.inside = true;
            } else if !self.template.tight {
                self.out.push(' ');
            }
            return;
        }
        let digit = self.number.get(self.at).copied();
        if digit == Some(b'.') {
            self.out.push('.');
        } else if self.last.is_some_and(|last| self.at > last) && !zero {
        } else if self.leading_zero() {
            if !self.template.tight {
                self.out.push(' ');
            } else if self.last_is_point() {
                self.out.push('0');
            }
        } else if let Some(digit) = digit {
            self.out.push(char::from(digit));
            self.inside = true;
        } else {
            // more places than digits: nothing is written any more
            self.ended.get_or_insert(self.out.len());
            return;
        }
        self.at += usize::from(digit.is_some());
    }

    fn place(&mut self, zero: bool) {
        self.inside = false;
        self.write_sign();
        self.write_digit(zero);
        let mut end = self.count.wrapping_add(usize::from(self.spaces > 0)).wrapping_add(usize::from(self.template.point));
        if self.last == Some(self.at) {
            end = self.current;
        }
        if self.current + 1 == end {
            if self.signed && self.bracket {
                self.out.push(if self.negative { '>' } else { ' ' });
            } else if self.sign == Sign::After {
                self.out.push(self.sign());
            }
        }
        self.current += 1;
    }

    fn piece(&mut self, piece: Piece) {
        let tight = self.template.tight;
        match piece {
            Piece::Plain(c) => self.out.push(c),
            Piece::Word("9" | "0" | "." | "D") => self.place(piece == Piece::Word("0")),
            Piece::Word("," | "G") if self.inside => self.out.push(','),
            Piece::Word("," | "G") if !tight => self.out.push(' '),
            Piece::Word("L") => self.out.push(' '),
            Piece::Word("MI") if self.negative => self.out.push('-'),
            Piece::Word("PL") if !self.negative => self.out.push('+'),
            Piece::Word("MI" | "PL") if !tight => self.out.push(' '),
            Piece::Word("SG") => self.out.push(self.sign()),
            Piece::Th(ending) => {
                let plain = !self.negative && !self.template.point && self.number.first() != Some(&b'#');
                let digits: String = self.number.iter().rev().take(2).rev().copied().map(char::from).collect();
                match digits.parse::<i64>() {
                    _ if !plain => {}
                    Ok(number) => self.out.push_str(&ordinal(number, ending)),
                    Err(_) => self.uncounted = true,
                }
            }
            Piece::Word(_) | Piece::Roman { .. } => {}
        }
    }
}

fn roman(number: i64) -> String {
    const PARTS: [(i64, &str); 13] = [
        (1_000, "M"),
        (900, "CM"),
        (500, "D"),
        (400, "CD"),
        (100, "C"),
        (90, "XC"),
        (50, "L"),
        (40, "XL"),
        (10, "X"),
        (9, "IX"),
        (5, "V"),
        (4, "IV"),
        (1, "I"),
    ];
    if !(1..=3_999).contains(&number) {
        return "#".repeat(15);
    }
    let mut rest = number;
    let mut out = String::new();
    for (value, letters) in PARTS {
        while rest >= value {
            rest -= value;
            out.push_str(letters);
        }
    }
    out
}

/// Digits with an exponent of two digits at least, a blank where there is no sign.
fn with_exponent(text: &str) -> String {
    let (mantissa, exponent) = text.split_once('e').unwrap_or((text, "0"));
    let exponent: i32 = exponent.parse().unwrap_or(0);
    let sign = if exponent < 0 { '-' } else { '+' };
    let blank = if mantissa.starts_with('-') { "" } else { " " };
    format!("{blank}{mantissa}e{sign}{:02}", exponent.abs())
}

/// A whole or exact number with an exponent, and so many digits after the point.
fn exact_exponent((value, scale): decimal::Scaled, post: usize) -> String {
    let digits = value.unsigned_abs().to_string();
    let sign = if value < 0 { "-" } else { "" };
    let exponent = if value == 0 { 0 } else { i64::try_from(digits.len()).unwrap_or(0) - 1 - i64::from(scale) };
    let mut kept: Vec<u8> = digits.bytes().chain(std::iter::repeat(b'0')).take(post + 1).collect();
    if value == 0 {
        kept.fill(b'0');
    }
    if digits.as_bytes().get(post + 1).is_some_and(|next| *next >= b'5') {
        let mut place = kept.len();
        loop {
            if place == 0 {
                // rounded up to ten, which the database leaves with its exponent
                kept.insert(0, b'1');
                break;
            }
            place -= 1;
            if kept[place] < b'9' {
                kept[place] += 1;
                break;
            }
            kept[place] = b'0';
        }
    }
    let kept = String::from_utf8(kept).unwrap_or_default();
    let (before, after) = kept.split_at(kept.len() - post);
    let point = if post > 0 { "." } else { "" };
    with_exponent(&format!("{sign}{before}{point}{after}e{exponent}"))
}

/// What stands for a number that has no digits, where an exponent is asked for.
fn no_digits(template: &Template) -> String {
    let mut out = "#".repeat(template.pre + template.post + 6);
    out.replace_range(0..1, " ");
    out.replace_range(template.pre + 1..template.pre + 2, ".");
    out
}

/// A number without a point of its own as digits, as many after the point as are asked for.
fn whole_digits(value: i64, template: &Template) -> String {
    if template.post > 0 { format!("{value}.{}", "0".repeat(template.post)) } else { value.to_string() }
}

#[allow(clippy::cast_possible_truncation, reason = "what does not fit is no roman number")]
fn float_digits(value: f64, single: bool, template: &mut Template) -> Result<String, String> {
    let name = |v: f64| if v.is_nan() { "NaN" } else { "Infinity" };
    if template.roman {
        return Err(roman(value.round_ties_even() as i64));
    }
    if template.exponent {
        return Err(if value.is_finite() {
            with_exponent(&format!("{value:.*e}", template.post))
        } else {
            no_digits(template)
        });
    }
    let mut value = value;
    if template.multiplies {
        value *= 10_f64.powi(i32::try_from(template.multi).unwrap_or(i32::MAX));
        if single {
            value = f64::from(value as f32);
        }
        template.pre += template.multi;
    }
    let room = DIGITS[usize::from(single)];
    let whole = if value.is_finite() { format!("{:.0}", value.abs()).len() } else { name(value).len() };
    template.post = template.post.min(room.saturating_sub(whole));
    Ok(if value.is_finite() {
        format!("{value:.*}", template.post)
    } else {
        format!("{}{}", if value < 0.0 { "-" } else { "" }, name(value))
    })
}

/// A number written by a template.
pub(in crate::functions) fn shown(s: Scope<'_>, a: &[Value<'_>], format: &str) -> Result<Given<'static>, Fault> {
    if format.is_empty() {
        return Ok(Given::text(""));
    }
    let mut template = Template::read(format)?;
    let digits = match &s.args[0] {
        Ty::Float4 | Ty::Float8 => match float_digits(d(a, 0), s.args[0] == Ty::Float4, &mut template) {
            Ok(digits) => digits,
            Err(written) => written,
        },
        Ty::Numeric { scale, .. } => {
            let value = (unscaled(a, 0), *scale);
            let nothing = value.0 == gonvel_core::column::NOT_A_NUMBER;
            if template.roman {
                if nothing {
                    return Err("NaN is no roman number".into());
                }
                roman(i64::try_from(decimal::rescale(value, &Ty::numeric(38, 0))?).unwrap_or(0))
            } else if template.exponent {
                if nothing { no_digits(&template) } else { exact_exponent(value, template.post) }
            } else if nothing {
                template.pre += template.multi;
                "NaN".into()
            } else {
                let by = u8::try_from(template.multi).map_err(|_| range(&s.args[0]))?;
                template.pre += template.multi;
                let post = u8::try_from(template.post.min(38)).unwrap_or(38);
                // times ten for each place behind V is a point further to the right
                let moved = if by <= value.1 {
                    (value.0, value.1 - by)
                } else {
                    let times = 10_i128.checked_pow(u32::from(by - value.1)).and_then(|t| value.0.checked_mul(t));
                    (times.ok_or_else(|| range(&s.args[0]))?, 0)
                };
                // fewer digits than are asked for are filled up, more of them rounded
                let scale = moved.1.min(post);
                let kept = if scale < moved.1 { decimal::rescale(moved, &Ty::numeric(38, scale))? } else { moved.0 };
                let mut text = gonvel_core::avro::json::decimal_text(kept, usize::from(scale));
                if scale == 0 && template.post > 0 {
                    text.push('.');
                }
                text.push_str(&"0".repeat(template.post - usize::from(scale)));
                text
            }
        }
        ty => {
            let value = int(a, 0);
            if template.roman {
                roman(value)
            } else if template.exponent && *ty == Ty::Int8 {
                exact_exponent((i128::from(value), 0), template.post)
            } else if template.exponent {
                // a tie goes to the even digit, as it does for doubles
                with_exponent(&format!("{:.*e}", template.post, i32::try_from(value).map_or(0.0, f64::from)))
            } else {
                let power = u32::try_from(template.multi).ok().and_then(|by| 10_i64.checked_pow(by));
                let power = power.ok_or_else(|| range(ty))?;
                let value = match (ty, i32::try_from(value), i32::try_from(power)) {
                    (Ty::Int8, ..) => value.checked_mul(power).ok_or_else(|| range(ty))?,
                    // what is too large for an integer comes out round the corner in the database, and here too
                    (_, Ok(value), Ok(power)) => i64::from(value.wrapping_mul(power)),
                    _ => return Err(range(ty)),
                };
                template.pre += template.multi;
                whole_digits(value, &template)
            }
        }
    };
    if template.exponent {
        return Ok(Given::text(digits));
    }
    if template.roman {
        return Ok(Given::text(shown_roman(&template, &digits)));
    }
    let digits = Digits::fitted(&digits, &template);
    let mut writing = Writing::new(&template, &digits);
    template.pieces.iter().for_each(|piece| writing.piece(*piece));
    if writing.uncounted {
        return Err("TH counts a whole number, and there is none".into());
    }
    writing.out.truncate(writing.ended.unwrap_or(writing.out.len()));
    Ok(Given::text(writing.out))
}

fn shown_roman(template: &Template, roman: &str) -> String {
    let mut out = String::new();
    for piece in &template.pieces {
        match piece {
            Piece::Plain(c) => out.push(*c),
            Piece::Roman { small } => {
                let roman = if *small { roman.to_lowercase() } else { roman.to_owned() };
                let _ = if template.tight { write!(out, "{roman}") } else { write!(out, "{roman:>15}") };
            }
            Piece::Word("L") => out.push(' '),
            // a roman number has no sign, and nothing is written where it would stand
            Piece::Word("SG") => break,
            Piece::Word("," | "G" | "MI" | "PL") if !template.tight => out.push(' '),
            _ => {}
        }
    }
    out
}
