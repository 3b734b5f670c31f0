//! Numbers read by templates.

use super::template::{Piece, Sign, Template};
use crate::decimal;
use crate::expr::Fault;
use crate::ty::Ty;
use crate::value::{Given, Owned};

/// The reading of one text.
struct Reading<'t> {
    template: &'t Template,
    text: &'t [char],
    at: usize,
    negative: Option<bool>,
    digits: String,
    pre: usize,
    post: usize,
    point: bool,
}

impl Reading<'_> {
    fn next(&self) -> Option<char> {
        self.text.get(self.at).copied()
    }

    /// A sign that stands here.
    fn sign_here(&self) -> Option<bool> {
        match self.next() {
            Some('-') => Some(true),
            Some('+') => Some(false),
            _ => None,
        }
    }

    fn read(&self) -> usize {
        self.pre + self.post
    }

    fn place(&mut self, digit: bool) {
        if self.next() == Some(' ') {
            self.at += 1;
        }
        if self.next().is_none() {
            return;
        }
        let sign = self.template.sign;
        if self.negative.is_none() && digit && self.read() == 0 {
            if sign == Sign::Before {
                if let Some(negative) = self.sign_here() {
                    self.negative = Some(negative);
                    self.at += 1;
                }
            } else if self.template.bracket && self.next() == Some('<') {
                self.negative = Some(true);
                self.at += 1;
            } else if let Some(negative) = self.sign_here() {
                self.negative = Some(negative);
                self.at += 1;
            }
        }
        let Some(here) = self.next() else { return };
        let mut found = false;
        if here.is_ascii_digit() {
            if self.point && self.post == self.template.post {
                return;
            }
            self.digits.push(here);
            *if self.point { &mut self.post } else { &mut self.pre } += 1;
            found = true;
        } else if self.template.point && !self.point && here == '.' {
            self.digits.push('.');
            self.point = true;
            found = true;
        }
        // a sign behind the last digit
        if self.negative.is_none() && self.read() > 0 {
            if sign != Sign::None {
                let after = self.text.get(self.at + 1);
                if found && after.is_some_and(|c| !c.is_ascii_digit()) {
                    self.at += 1;
                    match self.sign_here() {
                        Some(negative) => self.negative = Some(negative),
                        None => self.at -= 1,
                    }
                }
            } else if !found && (self.template.plus || self.template.minus) {
                self.negative = self.sign_here();
            }
        }
    }

    /// Leaves out what stands in the place of a word of so many characters.
    fn skip(&mut self, count: usize) {
        for _ in 0..count {
            match self.next() {
                Some(c) if !c.is_ascii_digit() && !matches!(c, '.' | ',' | '+' | '-') => self.at += 1,
                _ => break,
            }
        }
    }

    fn piece(&mut self, piece: Piece) {
        match piece {
            Piece::Word(word @ ("9" | "0" | "." | "D")) => {
                self.place(matches!(word, "9" | "0"));
                self.at += 1;
            }
            Piece::Word("," | "G") if !self.template.tight && self.next() == Some(',') => self.at += 1,
            Piece::Word("L") => self.skip(1),
            Piece::Th(_) if !self.template.point => self.skip(2),
            Piece::Word(word @ ("MI" | "PL" | "SG")) => match self.sign_here() {
                Some(negative) if word == "SG" || (word == "MI") == negative => {
                    self.negative = Some(negative);
                    self.at += 1;
                }
                _ => self.skip(1),
            },
            Piece::Plain(_) => self.at += 1,
            _ => {}
        }
    }
}

/// A number read by a template.
pub(in crate::functions) fn read(text: &str, format: &str, ty: &Ty) -> Result<Given<'static>, Fault> {
    if format.is_empty() {
        return Ok(Given::Null);
    }
    let template = Template::read(format)?;
    if template.exponent || template.roman {
        return Err("EEEE and RN only write numbers".into());
    }
    let text: Vec<char> = text.chars().collect();
    let mut reading = Reading {
        template: &template,
        text: &text,
        at: 0,
        negative: None,
        digits: String::new(),
        pre: 0,
        post: 0,
        point: false,
    };
    for piece in &template.pieces {
        if reading.next().is_none() {
            break;
        }
        reading.piece(*piece);
    }
    let sign = if reading.negative == Some(true) { "-" } else { "" };
    let number = format!("{sign}{}", reading.digits.trim_end_matches('.'));
    let places = template.pre + template.multi;
    let whole = reading.digits.split('.').next().unwrap_or_default().trim_start_matches('0').len();
    if whole > places {
        return Err(format!("the number has more than {places} digits before the point").into());
    }
    let exponent = if template.multi > 0 { format!("{number}e-{}", template.multi) } else { number };
    decimal::read(&exponent, ty).map(Given::Decimal).map_err(|_| "the text has no number where the template has one".into())
}

/// The type of a number that is read: the template's digits, where it is a constant.
pub(in crate::functions) fn read_type(_: &[Ty], literals: &[Option<&Owned>]) -> Result<Ty, Fault> {
    let Some(Some(Given::Text(format))) = literals.get(1) else { return Ok(Ty::numeric(38, 10)) };
    let template = Template::read(format)?;
    let places = |n: usize| u8::try_from(n.min(38)).unwrap_or(38);
    let scale = places(template.post + template.multi);
    Ok(Ty::numeric(places(template.pre + template.multi + template.post + template.multi).max(1), scale))
}
