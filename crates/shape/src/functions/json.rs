//! JSON: values are kept as text; `json` as it was written, `jsonb` in PostgreSQL's normal form (names in order of length, then of
//! bytes, the last of each; a space after colons and commas).

use std::borrow::Cow;

use gonvel_core::column::Value;
use serde_json::value::RawValue;

use super::{Entry, Gives, TEXT, Take, array, int, number, t, way};
use crate::cast::text_of;
use crate::expr::{Fault, Scope};
use crate::json_text::{fields, items, normal, quoted, string};
use crate::ty::Ty;
use crate::value::Given;

/// What stands at a name or a place (from 0, from the end if negative).
fn step<'a>(text: &'a str, by: &str) -> Option<&'a str> {
    match text.trim_start().as_bytes().first()? {
        b'{' => fields(text)?.into_iter().rev().find(|(name, _)| name == by).map(|(_, value)| value.get()),
        b'[' => {
            let all = items(text)?;
            let place: i64 = by.parse().ok()?;
            let place = if place < 0 { place + i64::try_from(all.len()).ok()? } else { place };
            all.get(usize::try_from(place).ok()?).map(|v| v.get())
        }
        _ => None,
    }
}

/// A step by name goes only into objects, one by place only into arrays.
fn at<'a>(s: Scope<'_>, a: &[Value<'a>]) -> Option<&'a str> {
    let text = t(a, 0);
    let is_array = text.trim_start().starts_with('[');
    match a[1] {
        Value::Text(name) if !is_array => step(text, name),
        Value::Text(_) => None,
        _ if is_array => step(text, &int(a, 1).to_string()),
        // a single value of jsonb counts as an array of itself
        _ if s.args[0] == Ty::Jsonb && !text.starts_with('{') && matches!(int(a, 1), 0 | -1) => Some(text),
        _ => None,
    }
}

fn along<'a>(text: &'a str, path: &str) -> Result<Option<&'a str>, Fault> {
    let path = array::elements(path).ok_or_else(|| Fault::from("the path is not an array such as {a,0}"))?;
    let mut here = Some(text);
    for part in path {
        let Some(part) = part else { return Ok(None) };
        here = here.and_then(|text| step(text, &part));
    }
    Ok(here)
}

fn as_text(found: Option<&str>) -> Given<'_> {
    match found {
        None | Some("null") => Given::Null,
        Some(text) if text.starts_with('"') => string(text).map_or(Given::Null, Given::text),
        Some(text) => Given::Text(Cow::Borrowed(text)),
    }
}

fn as_json(found: Option<&str>) -> Given<'_> {
    found.map_or(Given::Null, |text| Given::Text(Cow::Borrowed(text)))
}

fn kind(text: &str) -> &'static str {
    match text.trim_start().as_bytes().first() {
        Some(b'{') => "object",
        Some(b'[') => "array",
        Some(b'"') => "string",
        Some(b't' | b'f') => "boolean",
        Some(b'n') => "null",
        _ => "number",
    }
}

/// Any value as JSON.
fn json_of(ty: &Ty, value: Value<'_>) -> String {
    match value {
        Value::Null => "null".into(),
        Value::Boolean(v) => v.to_string(),
        Value::Text(text) if matches!(ty, Ty::Json | Ty::Jsonb) => text.to_owned(),
        Value::Text(text) if matches!(ty, Ty::Array(_)) => {
            let Ty::Array(of) = ty else { return "null".into() };
            let all = array::elements(text).unwrap_or_default();
            let one = |e: &Option<String>| match e {
                None => "null".to_owned(),
                Some(e) if of.is_number() => e.clone(),
                Some(e) => quoted(e),
            };
            format!("[{}]", all.iter().map(one).collect::<Vec<_>>().join(","))
        }
        Value::Int(_) | Value::Long(_) | Value::Decimal(_) | Value::Float(_) | Value::Double(_) => {
            let text = text_of(ty, value);
            let finite = text.bytes().all(|b| b.is_ascii_digit() || matches!(b, b'-' | b'+' | b'.' | b'e'));
            if finite { text.into_owned() } else { quoted(&text) }
        }
        // times in JSON have a T
        Value::Timestamp(_) => {
            let text = text_of(ty, value).replacen(' ', "T", 1);
            quoted(&if *ty == Ty::TimestampTz { text.replacen("+00", "+00:00", 1) } else { text })
        }
        value => quoted(&text_of(ty, value)),
    }
}

fn build_object(scope: Scope<'_>, a: &[Value<'_>]) -> Result<Given<'static>, Fault> {
    if !a.len().is_multiple_of(2) {
        return Err("names and values come in pairs".into());
    }
    let mut out = String::from("{");
    for n in (0..a.len()).step_by(2) {
        if a[n] == Value::Null {
            return Err("a name cannot be null".into());
        }
        if n > 0 {
            out.push_str(", ");
        }
        out.push_str(&quoted(&text_of(&scope.args[n], a[n])));
        out.push_str(" : ");
        out.push_str(&json_of(&scope.args[n + 1], a[n + 1]));
    }
    out.push('}');
    Ok(Given::text(out))
}

fn build_array(scope: Scope<'_>, a: &[Value<'_>]) -> String {
    let all: Vec<String> = a.iter().zip(scope.args).map(|(v, ty)| json_of(ty, *v)).collect();
    format!("[{}]", all.join(", "))
}

/// Two values in normal form one after the other: the fields of both objects, the second's where both have one; else all items.
pub(super) fn merged(first: &str, second: &str) -> Result<String, Fault> {
    if let (Some(mut all), Some(more)) = (fields(first), fields(second)) {
        all.extend(more);
        let body: Vec<String> = all.iter().map(|(name, value)| format!("{}: {}", quoted(name), value.get())).collect();
        return normal(&format!("{{{}}}", body.join(", ")));
    }
    let list = |text: &str| match items(text) {
        Some(all) => all.into_iter().map(|v| v.get().to_owned()).collect(),
        None => vec![text.to_owned()],
    };
    normal(&format!("[{}]", [list(first), list(second)].concat().join(", ")))
}

/// Whether two scalars are one value, both in normal form: numbers whatever digits they are written with.
fn one_scalar(a: &str, b: &str) -> bool {
    if kind(a) != "number" || kind(b) != "number" {
        return a == b;
    }
    let plain = |text: &str| {
        let text = if text.contains('.') { text.trim_end_matches('0').trim_end_matches('.') } else { text };
        if text == "-0" { "0".to_owned() } else { text.to_owned() }
    };
    plain(a) == plain(b)
}

/// Whether a value in normal form contains another: an object the fields, an array the items.
fn contains(all: &str, part: &str) -> bool {
    let (all, part) = (all.trim(), part.trim());
    match (kind(all), kind(part)) {
        ("object", "object") => {
            let all = fields(all).unwrap_or_default();
            let value = |name: &str| all.iter().rev().find(|(n, _)| n == name).map(|(_, v)| v.get());
            let within = |(name, part): &(String, &RawValue)| value(name).is_some_and(|all| contains(all, part.get()));
            fields(part).unwrap_or_default().iter().all(within)
        }
        ("array", "array") => {
            let all = items(all).unwrap_or_default();
            let one = |part: &&RawValue| {
                let nested = matches!(kind(part.get()), "object" | "array");
                all.iter().any(|v| {
                    if nested {
                        contains(v.get(), part.get())
                    } else {
                        kind(v.get()) != "object" && one_scalar(v.get().trim(), part.get().trim())
                    }
                })
            };
            items(part).unwrap_or_default().iter().all(one)
        }
        ("object" | "array", _) | (_, "object" | "array") => false,
        _ => one_scalar(all, part),
    }
}

/// The same of whole values: an array contains a scalar that is one of its items.
fn holds(all: &str, part: &str) -> Given<'static> {
    let scalar = !matches!(kind(part), "object" | "array");
    if scalar && kind(all) == "array" {
        return Given::Boolean(contains(all, &format!("[{part}]")));
    }
    Given::Boolean(contains(all, part))
}

/// Whether a text is a name of an object, an item of an array, or the value.
fn has(text: &str, name: &str) -> bool {
    match kind(text) {
        "object" => fields(text).is_some_and(|f| f.iter().any(|(n, _)| n == name)),
        "array" => items(text).is_some_and(|i| i.iter().any(|v| string(v.get()).as_deref() == Some(name))),
        _ => string(text).as_deref() == Some(name),
    }
}

fn names<'a>(text: &str, list: &'a str) -> Result<impl Iterator<Item = bool> + use<'a>, Fault> {
    let list = array::elements(list).ok_or_else(|| Fault::from("it is not an array of one dimension"))?;
    let text = text.to_owned();
    Ok(list.into_iter().flatten().map(move |name| has(&text, &name)))
}

/// Without a field, or without the items that are a text.
pub(super) fn without(text: &str, name: &str) -> Result<String, Fault> {
    if let Some(all) = fields(text) {
        let kept = all.iter().filter(|(n, _)| n != name).map(|(n, v)| format!("{}: {}", quoted(n), v.get()));
        return normal(&format!("{{{}}}", kept.collect::<Vec<_>>().join(", ")));
    }
    let all = items(text).ok_or_else(|| Fault::from("nothing can be taken out of a single value"))?;
    let kept = all.iter().filter(|v| string(v.get()).as_deref() != Some(name)).map(|v| v.get());
    normal(&format!("[{}]", kept.collect::<Vec<_>>().join(", ")))
}

/// Without fields whose value is null.
fn stripped(text: &str, out: &mut String) {
    match text.as_bytes().first() {
        Some(b'{') => {
            out.push('{');
            let kept = fields(text).unwrap_or_default().into_iter().filter(|(_, v)| v.get() != "null");
            for (n, (name, value)) in kept.enumerate() {
                out.push_str(if n > 0 { ", " } else { "" });
                out.push_str(&quoted(&name));
                out.push_str(": ");
                stripped(value.get(), out);
            }
            out.push('}');
        }
        Some(b'[') => {
            out.push('[');
            for (n, value) in items(text).unwrap_or_default().into_iter().enumerate() {
                out.push_str(if n > 0 { ", " } else { "" });
                stripped(value.get(), out);
            }
            out.push(']');
        }
        _ => out.push_str(text),
    }
}

pub(super) fn all() -> Vec<Entry> {
    const JSON: Take = Take::Is(Ty::Json);
    const JSONB: Take = Take::Is(Ty::Jsonb);
    let path = || Take::Is(Ty::Array(Box::new(Ty::Text)));
    let both = |second: Take, gives: Option<Ty>, run: crate::expr::Run| -> Vec<_> {
        let one = |first: Take| {
            let way = way(&[first, second.clone()], gives.clone().unwrap_or(Ty::Json), run);
            if gives.is_none() { way.giving(Gives::First) } else { way }
        };
        vec![one(JSONB), one(JSON)]
    };
    let mut arrow = both(TEXT, None, |s, a| Ok(as_json(at(s, a))));
    arrow.extend(both(Take::Is(Ty::Int4), None, |s, a| Ok(as_json(at(s, a)))));
    let mut arrow_text = both(TEXT, Some(Ty::Text), |s, a| Ok(as_text(at(s, a))));
    arrow_text.extend(both(Take::Is(Ty::Int4), Some(Ty::Text), |s, a| Ok(as_text(at(s, a)))));
    let length = |_: Scope<'_>, a: &[Value<'_>]| {
        items(t(a, 0)).map(|all| number(all.len())).ok_or_else(|| Fault::from("it is not a JSON array"))
    };
    let one_of = |takes: Take, gives: Ty, run: crate::expr::Run| way(&[takes], gives, run);
    vec![
        ("->", arrow, "What stands at a name or place, as JSON.", "('{\"a\": [1, 2]}'::json) -> 'a'", "[1, 2]"),
        ("->>", arrow_text, "What stands at a name or place, as text.", "('{\"a\": \"x\"}'::json) ->> 'a'", "x"),
        (
            "#>",
            both(path(), None, |_, a| Ok(as_json(along(t(a, 0), t(a, 1))?))),
            "What stands at the end of a path, as JSON.",
            "('{\"a\": [1, {\"b\": 2}]}'::jsonb) #> '{a,1}'",
            "{\"b\": 2}",
        ),
        (
            "#>>",
            both(path(), Some(Ty::Text), |_, a| Ok(as_text(along(t(a, 0), t(a, 1))?))),
            "What stands at the end of a path, as text.",
            "('{\"a\": [1, {\"b\": 2}]}'::jsonb) #>> '{a,1,b}'",
            "2",
        ),
        (
            "?",
            vec![way(&[JSONB, TEXT], Ty::Boolean, |_, a| Ok(Given::Boolean(has(t(a, 0), t(a, 1)))))],
            "Whether a name is there.",
            "('{\"a\": 1}'::jsonb) ? 'a'",
            "true",
        ),
        (
            "?|",
            vec![way(&[JSONB, path()], Ty::Boolean, |_, a| Ok(Given::Boolean(names(t(a, 0), t(a, 1))?.any(|has| has))))],
            "Whether one of several names is there.",
            "('{\"a\": 1}'::jsonb) ?| '{a,b}'",
            "true",
        ),
        (
            "?&",
            vec![way(&[JSONB, path()], Ty::Boolean, |_, a| Ok(Given::Boolean(names(t(a, 0), t(a, 1))?.all(|has| has))))],
            "Whether all of several names are there.",
            "('{\"a\": 1}'::jsonb) ?& '{a,b}'",
            "false",
        ),
        (
            "@>",
            vec![way(&[JSONB, JSONB], Ty::Boolean, |_, a| Ok(holds(t(a, 0), t(a, 1)))), array::containing()],
            "Whether JSON contains other JSON; an array all elements of another.",
            "('{\"a\": 1, \"b\": 2}'::jsonb) @> '{\"b\": 2}'",
            "true",
        ),
        (
            "<@",
            vec![way(&[JSONB, JSONB], Ty::Boolean, |_, a| Ok(holds(t(a, 1), t(a, 0)))), array::contained()],
            "Whether JSON is contained in other JSON; all elements of an array in another.",
            "('{\"b\": 2}'::jsonb) <@ '{\"a\": 1, \"b\": 2}'",
            "true",
        ),
        (
            "json_extract_path_text",
            vec![
                way(&[JSON, TEXT], Ty::Text, |_, a| {
                    let mut here = Some(t(a, 0));
                    (1..a.len()).for_each(|n| here = here.and_then(|text| step(text, t(a, n))));
                    Ok(as_text(here))
                })
                .more(),
            ],
            "What stands at the end of a path, as text.",
            "json_extract_path_text('{\"a\": {\"b\": 2}}', 'a', 'b')",
            "2",
        ),
        (
            "jsonb_extract_path_text",
            vec![
                way(&[JSONB, TEXT], Ty::Text, |_, a| {
                    let mut here = Some(t(a, 0));
                    (1..a.len()).for_each(|n| here = here.and_then(|text| step(text, t(a, n))));
                    Ok(as_text(here))
                })
                .more(),
            ],
            "What stands at the end of a path, as text.",
            "jsonb_extract_path_text('{\"a\": {\"b\": 2}}', 'a', 'b')",
            "2",
        ),
        (
            "json_typeof",
            vec![one_of(JSON, Ty::Text, |_, a| Ok(Given::Text(Cow::Borrowed(kind(t(a, 0))))))],
            "The kind of a JSON value.",
            "json_typeof('[1]')",
            "array",
        ),
        (
            "jsonb_typeof",
            vec![one_of(JSONB, Ty::Text, |_, a| Ok(Given::Text(Cow::Borrowed(kind(t(a, 0))))))],
            "The kind of a JSON value.",
            "jsonb_typeof('1.5')",
            "number",
        ),
        (
            "json_array_length",
            vec![one_of(JSON, Ty::Int4, length)],
            "How many values a JSON array has.",
            "json_array_length('[1, 2]')",
            "2",
        ),
        (
            "jsonb_array_length",
            vec![one_of(JSONB, Ty::Int4, length)],
            "How many values a JSON array has.",
            "jsonb_array_length('[1, 2]')",
            "2",
        ),
        (
            "to_json",
            vec![one_of(Take::Any, Ty::Json, |s, a| Ok(Given::text(json_of(&s.args[0], a[0]))))],
            "A value as JSON.",
            "to_json('ripe'::text)",
            "\"ripe\"",
        ),
        (
            "to_jsonb",
            vec![one_of(Take::Any, Ty::Jsonb, |s, a| Ok(Given::text(normal(&json_of(&s.args[0], a[0]))?)))],
            "A value as JSON.",
            "to_jsonb(7)",
            "7",
        ),
        (
            "json_build_object",
            vec![way(&[Take::Any, Take::Any], Ty::Json, |s, a| build_object(s, a)).optional(2).more().lenient()],
            "A JSON object of names and values.",
            "json_build_object('bin', 7)",
            "{\"bin\" : 7}",
        ),
        (
            "jsonb_build_object",
            vec![
                way(&[Take::Any, Take::Any], Ty::Jsonb, |s, a| {
                    let Given::Text(text) = build_object(s, a)? else { return Ok(Given::Null) };
                    Ok(Given::text(normal(&text)?))
                })
                .optional(2)
                .more()
                .lenient(),
            ],
            "A JSON object of names and values.",
            "jsonb_build_object('bin', 7)",
            "{\"bin\": 7}",
        ),
        (
            "json_build_array",
            vec![way(&[Take::Any], Ty::Json, |s, a| Ok(Given::text(build_array(s, a)))).optional(1).more().lenient()],
            "A JSON array of values.",
            "json_build_array(1, 'a')",
            "[1, \"a\"]",
        ),
        (
            "jsonb_build_array",
            vec![
                way(&[Take::Any], Ty::Jsonb, |s, a| Ok(Given::text(normal(&build_array(s, a))?)))
                    .optional(1)
                    .more()
                    .lenient(),
            ],
            "A JSON array of values.",
            "jsonb_build_array(1, 'a')",
            "[1, \"a\"]",
        ),
        (
            "jsonb_strip_nulls",
            vec![one_of(JSONB, Ty::Jsonb, |_, a| {
                let mut out = String::new();
                stripped(t(a, 0), &mut out);
                Ok(Given::text(out))
            })],
            "Without fields that are null.",
            "jsonb_strip_nulls('{\"a\": null, \"b\": 1}')",
            "{\"b\": 1}",
        ),
    ]
}
