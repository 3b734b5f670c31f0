//! Functions of text. Positions count characters from 1.

use std::borrow::Cow;

use gonvel_core::column::Value;

use super::{Entry, INT, LONG, TEXT, Take, int, number, t, way};
use crate::cast::text_of;
use crate::expr::{Fault, Scope};
use crate::parse;
use crate::ty::Ty;
use crate::value::Given;

/// Characters a function may make.
const MOST: usize = 1 << 20;

fn chars(text: &str) -> usize {
    if text.is_ascii() { text.len() } else { text.chars().count() }
}

/// Characters from one place up to another, from 0.
fn slice(text: &str, from: usize, to: usize) -> &str {
    if text.is_ascii() {
        return &text[from.min(text.len())..to.clamp(from.min(text.len()), text.len())];
    }
    let place = |n: usize| text.char_indices().nth(n).map_or(text.len(), |(at, _)| at);
    let (from, to) = (place(from), place(to));
    &text[from..to.max(from)]
}

fn size(n: i64) -> usize {
    usize::try_from(n).unwrap_or(0)
}

/// Part of a text from a place, which may be before its beginning, for so many characters.
fn part(text: &str, from: i64, count: Option<i64>) -> Result<Given<'_>, Fault> {
    if count.is_some_and(|n| n < 0) {
        return Err("the length of a part cannot be negative".into());
    }
    let end = count.map_or(i64::MAX, |n| from.saturating_add(n));
    let (first, end) = (size(from.max(1) - 1), size(end.max(1) - 1));
    Ok(Given::Text(Cow::Borrowed(slice(text, first, end))))
}

fn one_letter(c: char, mut to: impl Iterator<Item = char>) -> char {
    // a letter that has no single counterpart stays
    match (to.next(), to.next()) {
        (Some(one), None) => one,
        _ => c,
    }
}

fn lower(text: &str) -> String {
    text.chars().map(|c| one_letter(c, c.to_lowercase())).collect()
}

fn upper(text: &str) -> String {
    text.chars().map(|c| one_letter(c, c.to_uppercase())).collect()
}

fn initial(text: &str) -> String {
    let mut inside = false;
    let letter = |c: char| {
        let out = if inside { one_letter(c, c.to_lowercase()) } else { one_letter(c, c.to_uppercase()) };
        inside = c.is_alphanumeric();
        out
    };
    text.chars().map(letter).collect()
}

fn trim<'a>(text: &'a str, what: &str, first: bool, last: bool) -> Given<'a> {
    let within = |c: char| what.contains(c);
    let text = if first { text.trim_start_matches(within) } else { text };
    Given::Text(Cow::Borrowed(if last { text.trim_end_matches(within) } else { text }))
}

fn what<'a>(a: &[Value<'a>]) -> &'a str {
    if a.len() > 1 { t(a, 1) } else { " " }
}

fn pad(a: &[Value<'_>], left: bool) -> Result<Given<'static>, Fault> {
    let (text, wanted) = (t(a, 0), size(int(a, 1)));
    let fill = if a.len() > 2 { t(a, 2) } else { " " };
    if wanted > MOST {
        return Err("the text would have more than 1,048,576 characters".into());
    }
    let have = chars(text);
    if have >= wanted || fill.is_empty() {
        return Ok(Given::text(slice(text, 0, wanted)));
    }
    let filling: String = fill.chars().cycle().take(wanted - have).collect();
    Ok(Given::text(if left { filling + text } else { text.to_owned() + &filling }))
}

fn split_part<'a>(text: &'a str, by: &str, n: i64) -> Result<Given<'a>, Fault> {
    let borrowed = |part: &'a str| Ok(Given::Text(Cow::Borrowed(part)));
    match n {
        0 => Err("the number of a part cannot be zero".into()),
        1 | -1 if by.is_empty() => borrowed(text),
        _ if by.is_empty() => borrowed(""),
        n if n > 0 => borrowed(text.split(by).nth(size(n) - 1).unwrap_or("")),
        n => {
            let parts: Vec<&str> = text.split(by).collect();
            borrowed(parts.len().checked_sub(size(-n)).and_then(|at| parts.get(at).copied()).unwrap_or(""))
        }
    }
}

fn joined<'a>(scope: Scope<'_>, parts: &[Value<'a>], first: usize, by: &str) -> Given<'a> {
    let mut out = String::new();
    let mut any = false;
    for (n, value) in parts.iter().enumerate().skip(first).filter(|(_, v)| **v != Value::Null) {
        if any {
            out.push_str(by);
        }
        // in text, truth is written t and f
        match value {
            Value::Boolean(truth) => out.push(if *truth { 't' } else { 'f' }),
            value => out.push_str(&text_of(&scope.args[n], *value)),
        }
        any = true;
    }
    Given::text(out)
}

fn quoted(text: &str) -> String {
    let doubled = text.replace('\'', "''");
    if doubled.contains('\\') { format!("E'{}'", doubled.replace('\\', "\\\\")) } else { format!("'{doubled}'") }
}

fn format(scope: Scope<'_>, a: &[Value<'_>]) -> Result<Given<'static>, Fault> {
    if a[0] == Value::Null {
        return Ok(Given::Null);
    }
    let mut out = String::new();
    let mut rest = t(a, 0).chars();
    let mut next = 1;
    while let Some(c) = rest.next() {
        if c != '%' {
            out.push(c);
            continue;
        }
        let kind = rest.next().ok_or_else(|| Fault::from("the format ends with %"))?;
        if kind == '%' {
            out.push('%');
            continue;
        }
        let value = *a.get(next).ok_or_else(|| Fault::from("the format asks for more values than there are"))?;
        let text = if value == Value::Null { Cow::Borrowed("") } else { text_of(&scope.args[next], value) };
        match kind {
            's' => out.push_str(&text),
            'I' if value == Value::Null => return Err("null cannot be a name".into()),
            'I' => out.push_str(&parse::name(&text)),
            'L' if value == Value::Null => out.push_str("NULL"),
            'L' => out.push_str(&quoted(&text)),
            _ => return Err("the format knows %s, %I, %L and %%".into()),
        }
        next += 1;
    }
    Ok(Given::text(out))
}

fn overlay(a: &[Value<'_>]) -> Result<Given<'static>, Fault> {
    let (text, with, from) = (t(a, 0), t(a, 1), int(a, 2));
    let count = if a.len() > 3 { int(a, 3) } else { i64::try_from(chars(with)).unwrap_or(0) };
    if from < 1 {
        return Err("the length of a part cannot be negative".into());
    }
    let first = slice(text, 0, size(from - 1));
    let last = slice(text, size((from - 1 + count).max(0)), usize::MAX);
    Ok(Given::text(format!("{first}{with}{last}")))
}

pub(super) fn all() -> Vec<Entry> {
    let text = |takes: &[Take], run| way(takes, Ty::Text, run);
    let whole = |takes: &[Take], run| way(takes, Ty::Int4, run);
    let place = |_: Scope<'_>, a: &[Value<'_>]| {
        let found = t(a, 0).find(t(a, 1)).map_or(0, |at| chars(&t(a, 0)[..at]) + 1);
        Ok(number(found))
    };
    vec![
        (
            "length",
            vec![
                whole(&[TEXT], |_, a| Ok(number(chars(t(a, 0))))),
                whole(&[super::BYTES], |_, a| Ok(if let Value::Bytes(b) = a[0] { number(b.len()) } else { Given::Null })),
            ],
            "How many characters a text has, or bytes.",
            "length('Bin 7')",
            "5",
        ),
        (
            "char_length",
            vec![whole(&[TEXT], |_, a| Ok(number(chars(t(a, 0)))))],
            "How many characters a text has.",
            "char_length('Birne')",
            "5",
        ),
        (
            "character_length",
            vec![whole(&[TEXT], |_, a| Ok(number(chars(t(a, 0)))))],
            "How many characters a text has.",
            "character_length('Birne')",
            "5",
        ),
        (
            "octet_length",
            vec![
                whole(&[TEXT], |_, a| Ok(number(t(a, 0).len()))),
                whole(&[super::BYTES], |_, a| Ok(if let Value::Bytes(b) = a[0] { number(b.len()) } else { Given::Null })),
            ],
            "How many bytes a text has.",
            "octet_length('Süß')",
            "5",
        ),
        (
            "bit_length",
            vec![whole(&[TEXT], |_, a| Ok(number(t(a, 0).len() * 8)))],
            "How many bits a text has.",
            "bit_length('ab')",
            "16",
        ),
        (
            "lower",
            vec![text(&[TEXT], |_, a| Ok(Given::text(lower(t(a, 0)))))],
            "All letters small.",
            "lower('Grade A')",
            "grade a",
        ),
        (
            "upper",
            vec![text(&[TEXT], |_, a| Ok(Given::text(upper(t(a, 0)))))],
            "All letters capital.",
            "upper('gala')",
            "GALA",
        ),
        (
            "initcap",
            vec![text(&[TEXT], |_, a| Ok(Given::text(initial(t(a, 0)))))],
            "The first letter of each word capital.",
            "initcap('golden noble')",
            "Golden Noble",
        ),
        (
            "trim",
            vec![text(&[TEXT, TEXT], |_, a| Ok(trim(t(a, 0), what(a), true, true))).optional(1)],
            "Spaces, or other characters, taken off both ends.",
            "trim('  ripe ')",
            "ripe",
        ),
        (
            "btrim",
            vec![text(&[TEXT, TEXT], |_, a| Ok(trim(t(a, 0), what(a), true, true))).optional(1)],
            "Characters taken off both ends.",
            "btrim('--ripe-', '-')",
            "ripe",
        ),
        (
            "ltrim",
            vec![text(&[TEXT, TEXT], |_, a| Ok(trim(t(a, 0), what(a), true, false))).optional(1)],
            "Characters taken off the beginning.",
            "ltrim('007', '0')",
            "7",
        ),
        (
            "rtrim",
            vec![text(&[TEXT, TEXT], |_, a| Ok(trim(t(a, 0), what(a), false, true))).optional(1)],
            "Characters taken off the end.",
            "rtrim('7.50', '0')",
            "7.5",
        ),
        (
            "substring",
            vec![
                text(&[TEXT, INT, INT], |_, a| part(t(a, 0), int(a, 1), (a.len() > 2).then(|| int(a, 2)))).optional(1),
                text(&[TEXT, TEXT], |s, a| super::patterns::first(s, t(a, 0), t(a, 1))),
            ],
            "A part from a place on, or what fits a regular expression.",
            "substring('lot-2026-7' from 5 for 4)",
            "2026",
        ),
        (
            "substr",
            vec![text(&[TEXT, INT, INT], |_, a| part(t(a, 0), int(a, 1), (a.len() > 2).then(|| int(a, 2)))).optional(1)],
            "A part from a place on.",
            "substr('lot-7', 5)",
            "7",
        ),
        (
            "left",
            vec![text(&[TEXT, INT], |_, a| {
                let (text, n) = (t(a, 0), int(a, 1));
                let end = if n < 0 { chars(text).saturating_sub(size(-n)) } else { size(n) };
                Ok(Given::Text(Cow::Borrowed(slice(text, 0, end))))
            })],
            "The first characters; all but the last ones if negative.",
            "left('Gala', 2)",
            "Ga",
        ),
        (
            "right",
            vec![text(&[TEXT, INT], |_, a| {
                let (text, n) = (t(a, 0), int(a, 1));
                let from = if n < 0 { size(-n) } else { chars(text).saturating_sub(size(n)) };
                Ok(Given::Text(Cow::Borrowed(slice(text, from, usize::MAX))))
            })],
            "The last characters; all but the first ones if negative.",
            "right('0161 496 0018', 4)",
            "0018",
        ),
        (
            "position",
            vec![whole(&[TEXT, TEXT], place)],
            "Where one text stands in another; 0 if nowhere.",
            "position('-' in 'lot-7')",
            "4",
        ),
        (
            "strpos",
            vec![whole(&[TEXT, TEXT], place)],
            "Where the second text stands in the first; 0 if nowhere.",
            "strpos('lot-7', '-')",
            "4",
        ),
        (
            "replace",
            vec![text(&[TEXT, TEXT, TEXT], |_, a| {
                Ok(if t(a, 1).is_empty() {
                    Given::Text(Cow::Borrowed(t(a, 0)))
                } else {
                    Given::text(t(a, 0).replace(t(a, 1), t(a, 2)))
                })
            })],
            "Every occurrence of a text replaced.",
            "replace('a-b-c', '-', '')",
            "abc",
        ),
        (
            "translate",
            vec![text(&[TEXT, TEXT, TEXT], |_, a| {
                let to: Vec<char> = t(a, 2).chars().collect();
                let one = |c: char| t(a, 1).chars().position(|f| f == c).map_or(Some(c), |at| to.get(at).copied());
                Ok(Given::text(t(a, 0).chars().filter_map(one).collect::<String>()))
            })],
            "Characters replaced one by one.",
            "translate('1,234.5', ',.', '.,')",
            "1.234,5",
        ),
        (
            "lpad",
            vec![text(&[TEXT, INT, TEXT], |_, a| pad(a, true)).optional(1)],
            "Filled at the beginning up to a length.",
            "lpad('7', 3, '0')",
            "007",
        ),
        (
            "rpad",
            vec![text(&[TEXT, INT, TEXT], |_, a| pad(a, false)).optional(1)],
            "Filled at the end up to a length.",
            "rpad('ab', 4, '.')",
            "ab..",
        ),
        (
            "repeat",
            vec![text(&[TEXT, INT], |_, a| {
                let times = size(int(a, 1));
                if t(a, 0).len().saturating_mul(times) > MOST {
                    return Err("the text would have more than 1,048,576 bytes".into());
                }
                Ok(Given::text(t(a, 0).repeat(times)))
            })],
            "A text several times.",
            "repeat('*', 4)",
            "****",
        ),
        (
            "reverse",
            vec![text(&[TEXT], |_, a| Ok(Given::text(t(a, 0).chars().rev().collect::<String>())))],
            "The characters from the last to the first.",
            "reverse('abc')",
            "cba",
        ),
        (
            "split_part",
            vec![text(&[TEXT, TEXT, INT], |_, a| split_part(t(a, 0), t(a, 1), int(a, 2)))],
            "One of the parts that a separator makes; from the end if negative.",
            "split_part('north/7/b', '/', 2)",
            "7",
        ),
        (
            "concat",
            vec![text(&[Take::Any], |s, a| Ok(joined(s, a, 0, ""))).more().lenient()],
            "Texts one after another; null counts for nothing.",
            "concat('bin ', 7)",
            "bin 7",
        ),
        (
            "concat_ws",
            vec![
                text(&[TEXT, Take::Any], |s, a| {
                    Ok(if a[0] == Value::Null { Given::Null } else { joined(s, a, 1, t(a, 0)) })
                })
                .more()
                .lenient(),
            ],
            "Texts with a separator between them.",
            "concat_ws('/', 'north', 7)",
            "north/7",
        ),
        (
            "overlay",
            vec![text(&[TEXT, TEXT, INT, INT], |_, a| overlay(a)).optional(1)],
            "A part replaced by another text.",
            "overlay('lot-7' placing 'bin' from 1 for 3)",
            "bin-7",
        ),
        (
            "starts_with",
            vec![way(&[TEXT, TEXT], Ty::Boolean, |_, a| Ok(Given::Boolean(t(a, 0).starts_with(t(a, 1)))))],
            "Whether a text begins with another.",
            "starts_with('lot-7', 'lot')",
            "true",
        ),
        (
            "ascii",
            vec![whole(&[TEXT], |_, a| Ok(t(a, 0).chars().next().map_or(Given::Int(0), |c| number(c as usize))))],
            "The number of the first character.",
            "ascii('A')",
            "65",
        ),
        (
            "chr",
            vec![text(&[INT], |_, a| {
                let found = u32::try_from(int(a, 0)).ok().filter(|n| *n > 0).and_then(char::from_u32);
                found.map(|c| Given::text(c.to_string())).ok_or_else(|| "no character has this number".into())
            })],
            "The character of a number.",
            "chr(65)",
            "A",
        ),
        (
            "to_hex",
            vec![
                text(&[INT], |_, a| {
                    Ok(Given::text(if let Value::Int(v) = a[0] { std::format!("{v:x}") } else { String::new() }))
                }),
                text(&[LONG], |_, a| {
                    Ok(Given::text(if let Value::Long(v) = a[0] { std::format!("{v:x}") } else { String::new() }))
                }),
            ],
            "A whole number in hexadecimal digits.",
            "to_hex(255)",
            "ff",
        ),
        (
            "quote_literal",
            vec![text(&[TEXT], |_, a| Ok(Given::text(quoted(t(a, 0)))))],
            "A text as a constant of SQL.",
            "quote_literal('O''Hara')",
            "'O''Hara'",
        ),
        (
            "quote_ident",
            vec![text(&[TEXT], |_, a| Ok(Given::text(parse::name(t(a, 0)))))],
            "A text as a name of SQL.",
            "quote_ident('Bin Id')",
            "\"Bin Id\"",
        ),
        (
            "format",
            vec![text(&[TEXT, Take::Any], |s, a| format(s, a)).optional(1).more().lenient()],
            "Values put into a text: %s as they are, %I as names, %L as constants.",
            "format('%s of %s', 7, 'Gala')",
            "7 of Gala",
        ),
    ]
}
