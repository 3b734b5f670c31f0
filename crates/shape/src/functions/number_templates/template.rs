//! What a template for numbers consists of, and what it asks for.

use crate::expr::Fault;

/// The words of a template, the longer before those they begin with. All but the last two may be written in small letters too.
const WORDS: [&str; 19] =
    ["EEEE", "FM", "MI", "PL", "PR", "SG", "SP", ",", ".", "0", "9", "B", "C", "D", "G", "L", "S", "V", "TH"];

/// The longest template that is read, in bytes.
const LONGEST: usize = 200;

#[derive(Debug, Clone, Copy, PartialEq)]
pub(super) enum Piece {
    Word(&'static str),
    Th(&'static str),
    Roman { small: bool },
    Plain(char),
}

#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub(super) enum Sign {
    #[default]
    None,
    Before,
    After,
}

/// What a template asks for, read once.
#[derive(Debug, Clone, Default)]
pub(super) struct Template {
    pub(super) pieces: Vec<Piece>,
    /// Places before the point, after it, and those that multiply.
    pub(super) pre: usize,
    pub(super) post: usize,
    pub(super) multi: usize,
    /// The place that zeros fill up from, if any does.
    pub(super) zero: Option<usize>,
    /// The place behind the last zero.
    pub(super) zero_end: usize,
    pub(super) sign: Sign,
    /// Places before the sign.
    pub(super) before_sign: usize,
    pub(super) tight: bool,
    pub(super) point: bool,
    pub(super) multiplies: bool,
    pub(super) plus: bool,
    pub(super) minus: bool,
    pub(super) bracket: bool,
    pub(super) blank: bool,
    pub(super) roman: bool,
    pub(super) exponent: bool,
}

fn pieces(format: &str) -> Vec<Piece> {
    let mut out = Vec::new();
    let mut rest = format;
    while let Some(first) = rest.chars().next() {
        if let Some(inside) = rest.strip_prefix('"') {
            let mut chars = inside.chars();
            while let Some(c) = chars.next() {
                match c {
                    '"' => break,
                    '\\' => out.extend(chars.next().map(Piece::Plain)),
                    c => out.push(Piece::Plain(c)),
                }
            }
            rest = chars.as_str();
            continue;
        }
        if let Some(after) = rest.strip_prefix("\\\"") {
            out.push(Piece::Plain('"'));
            rest = after;
            continue;
        }
        let begins = |word: &str| rest.starts_with(word) || rest.starts_with(&word.to_ascii_lowercase());
        let (piece, length) = if rest.starts_with("RN") || rest.starts_with("rn") {
            (Piece::Roman { small: rest.starts_with('r') }, 2)
        } else if rest.starts_with("th") {
            (Piece::Th("th"), 2)
        } else {
            match WORDS.into_iter().find(|word| if *word == "TH" { rest.starts_with("TH") } else { begins(word) }) {
                Some("TH") => (Piece::Th("TH"), 2),
                Some(word) => (Piece::Word(word), word.len()),
                None => (Piece::Plain(first), first.len_utf8()),
            }
        };
        out.push(piece);
        rest = &rest[length..];
    }
    out
}

impl Template {
    pub(super) fn read(format: &str) -> Result<Self, Fault> {
        if format.len() > LONGEST {
            return Err(format!("a template has at most {LONGEST} bytes").into());
        }
        let mut out = Self { pieces: pieces(format), ..Self::default() };
        for piece in out.pieces.clone() {
            out.take(piece)?;
        }
        Ok(out)
    }

    fn take(&mut self, piece: Piece) -> Result<(), Fault> {
        let two = |a: &str, b: &str| Err(Fault::from(format!("a template has not both {a} and {b}")));
        let word = match piece {
            Piece::Word(word) => word,
            Piece::Roman { .. } => "RN",
            Piece::Th(_) => "TH",
            Piece::Plain(_) => return Ok(()),
        };
        if self.exponent && word != "EEEE" {
            return Err("EEEE is the last of a template".into());
        }
        match word {
            "9" | "0" if self.bracket => return Err("digits stand before PR".into()),
            "9" if self.multiplies => self.multi += 1,
            "9" | "0" => {
                if word == "0" && self.zero.is_none() && !self.point {
                    self.zero = Some(self.pre);
                }
                *if self.point { &mut self.post } else { &mut self.pre } += 1;
                if word == "0" {
                    self.zero_end = self.pre + self.post;
                }
            }
            "." | "D" => {
                if self.point {
                    return Err("a template has one decimal point".into());
                }
                if self.multiplies {
                    return two("V", "a decimal point");
                }
                self.point = true;
            }
            "FM" => self.tight = true,
            "S" => {
                if self.sign != Sign::None {
                    return Err("a template has one S".into());
                }
                if self.plus || self.minus || self.bracket {
                    return two("S", "PL, MI, SG or PR");
                }
                self.sign = if self.point { Sign::After } else { Sign::Before };
                self.before_sign = self.pre;
            }
            "MI" | "PL" | "SG" => {
                if self.sign != Sign::None {
                    return two("S", word);
                }
                self.minus |= word != "PL";
                self.plus |= word != "MI";
            }
            "PR" => {
                if self.sign != Sign::None || self.plus || self.minus {
                    return two("PR", "S, PL, MI or SG");
                }
                self.bracket = true;
            }
            "RN" => self.roman = true,
            "B" => self.blank |= self.pre + self.post == 0 && self.zero.is_none(),
            "V" => {
                if self.point {
                    return two("V", "a decimal point");
                }
                self.multiplies = true;
            }
            "EEEE" => {
                if self.exponent {
                    return Err("a template has one EEEE".into());
                }
                let other = self.tight || self.sign != Sign::None || self.bracket || self.minus || self.plus;
                if other || self.roman || self.multiplies || self.blank {
                    return Err("EEEE goes with digits and a point only".into());
                }
                self.exponent = true;
            }
            _ => {}
        }
        Ok(())
    }
}
