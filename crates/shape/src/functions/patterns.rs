//! Regular expressions and LIKE. Patterns are those of Rust's `regex` crate with PostgreSQL's escapes for words; `.` also fits a
//! line's end. They take time in proportion to the text, whatever the pattern.

use std::borrow::Cow;

use gonvel_core::column::Value;
use regex::Regex;

use super::{Entry, Gives, TEXT, number, t, way};
use crate::expr::{Fault, Scope};
use crate::functions::array;
use crate::ty::Ty;
use crate::value::Given;

/// A pattern as PostgreSQL writes it, in the crate's words.
fn translated(pattern: &str) -> String {
    pattern.replace("\\m", "\\b").replace("\\M", "\\b").replace("\\y", "\\b").replace("\\Y", "\\B").replace("\\Z", "\\z")
}

fn read(scope: Scope<'_>, pattern: &str, flags: &str) -> Result<Regex, Fault> {
    let mut any_case = false;
    let mut before = String::new();
    for flag in flags.chars() {
        match flag {
            'i' => any_case = true,
            'c' => any_case = false,
            'g' | 's' => {}
            'n' | 'm' => before.push_str("(?m-s)"),
            'x' => before.push_str("(?x)"),
            _ => return Err("flags of regular expressions are i, c, g, n, s and x".into()),
        }
    }
    scope.tools.pattern(&(before + &translated(pattern)), any_case)
}

/// What fits first: its first group if there is one.
pub(super) fn first<'a>(scope: Scope<'_>, text: &'a str, pattern: &str) -> Result<Given<'a>, Fault> {
    let pattern = read(scope, pattern, "")?;
    let group = usize::from(pattern.captures_len() > 1);
    let found = pattern.captures(text).and_then(|c| c.get(group));
    Ok(found.map_or(Given::Null, |m| Given::Text(Cow::Borrowed(m.as_str()))))
}

/// The part `\1`, the whole `\&`.
fn replaced(template: &str, captures: &regex::Captures<'_>, out: &mut String) {
    let mut rest = template.chars();
    while let Some(c) = rest.next() {
        if c != '\\' {
            out.push(c);
            continue;
        }
        match rest.next() {
            Some('&') => out.push_str(&captures[0]),
            Some(digit @ '1'..='9') => {
                let group = digit.to_digit(10).unwrap_or(0) as usize;
                out.push_str(captures.get(group).map_or("", |m| m.as_str()));
            }
            Some('\\') | None => out.push('\\'),
            Some(other) => {
                out.push('\\');
                out.push(other);
            }
        }
    }
}

fn replace(scope: Scope<'_>, a: &[Value<'_>]) -> Result<Given<'static>, Fault> {
    let flags = t(a, 3);
    let pattern = read(scope, t(a, 1), flags)?;
    let most = if flags.contains('g') { 0 } else { 1 };
    let with = |captures: &regex::Captures<'_>| {
        let mut out = String::new();
        replaced(t(a, 2), captures, &mut out);
        out
    };
    Ok(Given::text(pattern.replacen(t(a, 0), most, with)))
}

/// Whether a text fits a pattern of LIKE: `%` for any characters, `_` for one, `\` before one that is meant itself.
#[must_use]
pub fn like(text: &str, pattern: &str, escape: Option<char>) -> Option<bool> {
    enum Piece {
        Any,
        One,
        Is(char),
    }
    let mut pieces = Vec::new();
    let mut rest = pattern.chars();
    while let Some(c) = rest.next() {
        pieces.push(match c {
            c if Some(c) == escape => Piece::Is(rest.next()?),
            '%' => Piece::Any,
            '_' => Piece::One,
            c => Piece::Is(c),
        });
    }
    let text: Vec<char> = text.chars().collect();
    let (mut p, mut n, mut back) = (0, 0, None);
    while n < text.len() {
        match pieces.get(p) {
            Some(Piece::Any) => {
                back = Some((p, n));
                p += 1;
                continue;
            }
            Some(Piece::One) => {
                (p, n) = (p + 1, n + 1);
                continue;
            }
            Some(Piece::Is(c)) if *c == text[n] => {
                (p, n) = (p + 1, n + 1);
                continue;
            }
            _ => {}
        }
        let Some((star, reached)) = back else { return Some(false) };
        (p, n, back) = (star + 1, reached + 1, Some((star, reached + 1)));
    }
    Some(pieces[p..].iter().all(|piece| matches!(piece, Piece::Any)))
}

fn escape(a: &[Value<'_>]) -> Option<char> {
    if a.len() > 2 { t(a, 2).chars().next() } else { Some('\\') }
}

fn alike(a: &[Value<'_>], any_case: bool) -> Result<Given<'static>, Fault> {
    let found = if any_case {
        like(&t(a, 0).to_lowercase(), &t(a, 1).to_lowercase(), escape(a))
    } else {
        like(t(a, 0), t(a, 1), escape(a))
    };
    found.map(Given::Boolean).ok_or_else(|| "the pattern ends with the character that escapes the next".into())
}

/// A pattern of SIMILAR TO as a regular expression.
fn similar(pattern: &str) -> String {
    let mut out = String::from("^(?:");
    let mut rest = pattern.chars();
    let mut within = false;
    while let Some(c) = rest.next() {
        match c {
            '\\' => {
                out.push('\\');
                out.extend(rest.next());
            }
            '[' => {
                within = true;
                out.push(c);
            }
            ']' => {
                within = false;
                out.push(c);
            }
            c if within => out.push(c),
            '%' => out.push_str(".*"),
            '_' => out.push('.'),
            '.' | '^' | '$' => {
                out.push('\\');
                out.push(c);
            }
            c => out.push(c),
        }
    }
    out.push_str(")$");
    out
}

pub(super) fn all() -> Vec<Entry> {
    let fits = |any_case: &'static str| {
        let run: crate::expr::Run = if any_case == "i" {
            |s, a| Ok(Given::Boolean(read(s, t(a, 1), "i")?.is_match(t(a, 0))))
        } else {
            |s, a| Ok(Given::Boolean(read(s, t(a, 1), "")?.is_match(t(a, 0))))
        };
        vec![way(&[TEXT, TEXT], Ty::Boolean, run)]
    };
    let texts = || Gives::Is(Ty::Array(Box::new(Ty::Text)));
    vec![
        ("~", fits(""), "Whether a regular expression fits somewhere in the text.", "'lot-7' ~ '[0-9]+'", "true"),
        ("~*", fits("i"), "The same, capital or small.", "'LOT' ~* 'lot'", "true"),
        (
            "like",
            vec![way(&[TEXT, TEXT, TEXT], Ty::Boolean, |_, a| alike(a, false)).optional(1)],
            "Whether a text fits a pattern of % and _.",
            "'lot-7' LIKE 'lot%'",
            "true",
        ),
        (
            "ilike",
            vec![way(&[TEXT, TEXT, TEXT], Ty::Boolean, |_, a| alike(a, true)).optional(1)],
            "The same, capital or small.",
            "'LOT-7' ILIKE 'lot%'",
            "true",
        ),
        (
            "similar to",
            vec![way(&[TEXT, TEXT], Ty::Boolean, |s, a| {
                Ok(Given::Boolean(s.tools.pattern(&similar(t(a, 1)), false)?.is_match(t(a, 0))))
            })],
            "Whether a text fits SQL's regular expression as a whole.",
            "'A1' SIMILAR TO '[A-C][0-9]'",
            "true",
        ),
        (
            "regexp_replace",
            vec![way(&[TEXT, TEXT, TEXT, TEXT], Ty::Text, |s, a| replace(s, a)).optional(1)],
            "What fits replaced: the first, or all with the flag g; \\1 is the first group.",
            "regexp_replace('a1b22', '[0-9]+', '#', 'g')",
            "a#b#",
        ),
        (
            "regexp_match",
            vec![
                way(&[TEXT, TEXT, TEXT], Ty::Text, |s, a| {
                    let pattern = read(s, t(a, 1), t(a, 2))?;
                    let Some(found) = pattern.captures(t(a, 0)) else { return Ok(Given::Null) };
                    let from = usize::from(found.len() > 1);
                    Ok(Given::text(array::write(found.iter().skip(from).map(|m| m.map(|m| m.as_str())))))
                })
                .optional(1)
                .giving(texts()),
            ],
            "The groups of what fits first, as an array.",
            "regexp_match('lot-7', '([a-z]+)-([0-9]+)')",
            "{lot,7}",
        ),
        (
            "regexp_substr",
            vec![way(&[TEXT, TEXT], Ty::Text, |s, a| {
                Ok(read(s, t(a, 1), "")?.find(t(a, 0)).map_or(Given::Null, |m| Given::Text(Cow::Borrowed(m.as_str()))))
            })],
            "What fits first.",
            "regexp_substr('lot-7', '[0-9]+')",
            "7",
        ),
        (
            "regexp_like",
            vec![
                way(&[TEXT, TEXT, TEXT], Ty::Boolean, |s, a| {
                    Ok(Given::Boolean(read(s, t(a, 1), t(a, 2))?.is_match(t(a, 0))))
                })
                .optional(1),
            ],
            "Whether a regular expression fits somewhere.",
            "regexp_like('LOT', 'lot', 'i')",
            "true",
        ),
        (
            "regexp_count",
            vec![way(&[TEXT, TEXT], Ty::Int4, |s, a| Ok(number(read(s, t(a, 1), "")?.find_iter(t(a, 0)).count())))],
            "How often it fits.",
            "regexp_count('a1b22', '[0-9]+')",
            "2",
        ),
        (
            "regexp_instr",
            vec![way(&[TEXT, TEXT], Ty::Int4, |s, a| {
                let found = read(s, t(a, 1), "")?.find(t(a, 0));
                Ok(number(found.map_or(0, |m| t(a, 0)[..m.start()].chars().count() + 1)))
            })],
            "Where it fits first; 0 if nowhere.",
            "regexp_instr('lot-7', '[0-9]')",
            "5",
        ),
        (
            "regexp_split_to_array",
            vec![
                way(&[TEXT, TEXT], Ty::Text, |s, a| {
                    let pattern = read(s, t(a, 1), "")?;
                    Ok(Given::text(array::write(pattern.split(t(a, 0)).map(Some))))
                })
                .giving(texts()),
            ],
            "The parts between what fits.",
            "regexp_split_to_array('a, b;c', '[,;] ?')",
            "{a,b,c}",
        ),
    ]
}
