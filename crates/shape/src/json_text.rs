//! JSON as text: `json` as it was written, `jsonb` in PostgreSQL's normal form (names in order of length, then of bytes, the last of each; a
//! space after colons and commas).

use std::collections::BTreeMap;

use serde_json::value::RawValue;

use crate::fault::Fault;

/// How deep values may be nested.
pub(crate) const DEEPEST: usize = 100;

/// Whether a text is JSON.
///
/// # Errors
/// If it is not.
pub fn check(text: &str) -> Result<(), Fault> {
    serde_json::from_str::<serde::de::IgnoredAny>(text).map(|_| ()).map_err(|_| "it is not JSON".into())
}

/// A value's normal form.
///
/// # Errors
/// If it is not JSON, or nested too deeply.
pub fn normal(text: &str) -> Result<String, Fault> {
    check(text)?;
    let mut out = String::new();
    write(text.trim(), &mut out, 0)?;
    Ok(out)
}

struct Fields<'a>(Vec<(String, &'a RawValue)>);

impl<'de> serde::Deserialize<'de> for Fields<'de> {
    fn deserialize<D: serde::Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        struct Visitor;
        impl<'de> serde::de::Visitor<'de> for Visitor {
            type Value = Fields<'de>;
            fn expecting(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
                f.write_str("an object")
            }
            fn visit_map<A: serde::de::MapAccess<'de>>(self, mut map: A) -> Result<Fields<'de>, A::Error> {
                let mut out = Vec::new();
                while let Some(entry) = map.next_entry::<String, &RawValue>()? {
                    out.push(entry);
                }
                Ok(Fields(out))
            }
        }
        deserializer.deserialize_map(Visitor)
    }
}

pub(crate) fn fields(text: &str) -> Option<Vec<(String, &RawValue)>> {
    serde_json::from_str::<Fields<'_>>(text).ok().map(|f| f.0)
}

pub(crate) fn items(text: &str) -> Option<Vec<&RawValue>> {
    serde_json::from_str(text).ok()
}

pub(crate) fn string(text: &str) -> Option<String> {
    serde_json::from_str(text).ok()
}

/// A text in JSON's quotes, as PostgreSQL escapes it.
pub(crate) fn quoted(text: &str) -> String {
    let mut out = String::from("\"");
    for c in text.chars() {
        match c {
            '"' => out.push_str("\\\""),
            '\\' => out.push_str("\\\\"),
            '\n' => out.push_str("\\n"),
            '\r' => out.push_str("\\r"),
            '\t' => out.push_str("\\t"),
            '\u{8}' => out.push_str("\\b"),
            '\u{c}' => out.push_str("\\f"),
            c if u32::from(c) < 0x20 => out.push_str(&format!("\\u{:04x}", u32::from(c))),
            c => out.push(c),
        }
    }
    out.push('"');
    out
}

/// A number without an exponent, its digits after the point as they are.
pub(crate) fn plain_number(text: &str) -> String {
    let Some(at) = text.find(['e', 'E']) else {
        return if text == "-0" { "0".into() } else { text.to_owned() };
    };
    let (mantissa, exponent) = (&text[..at], text[at + 1..].parse::<i32>().unwrap_or(0));
    if exponent.unsigned_abs() > 1_000 {
        return text.to_owned();
    }
    let (sign, mantissa) = mantissa.strip_prefix('-').map_or(("", mantissa), |rest| ("-", rest));
    let (before, after) = mantissa.split_once('.').unwrap_or((mantissa, ""));
    let digits = format!("{before}{after}");
    let point = i32::try_from(before.len()).unwrap_or(0) + exponent;
    let body = match usize::try_from(point) {
        Ok(point) if point >= digits.len() => {
            let all = format!("{digits}{}", "0".repeat(point - digits.len()));
            let all = all.trim_start_matches('0');
            if all.is_empty() { "0".to_owned() } else { all.to_owned() }
        }
        Ok(point) if point > 0 => format!("{}.{}", &digits[..point], &digits[point..]),
        _ => format!("0.{}{digits}", "0".repeat(usize::try_from(-point).unwrap_or(0))),
    };
    format!("{sign}{body}")
}

pub(crate) fn write(text: &str, out: &mut String, depth: usize) -> Result<(), Fault> {
    if depth > DEEPEST {
        return Err("it is nested too deeply".into());
    }
    match text.as_bytes().first() {
        Some(b'{') => {
            let mut sorted: BTreeMap<(usize, String), &RawValue> = BTreeMap::new();
            for (name, value) in fields(text).unwrap_or_default() {
                sorted.insert((name.len(), name), value);
            }
            out.push('{');
            for (n, ((_, name), value)) in sorted.iter().enumerate() {
                if n > 0 {
                    out.push_str(", ");
                }
                out.push_str(&quoted(name));
                out.push_str(": ");
                write(value.get().trim(), out, depth + 1)?;
            }
            out.push('}');
        }
        Some(b'[') => {
            out.push('[');
            for (n, value) in items(text).unwrap_or_default().into_iter().enumerate() {
                if n > 0 {
                    out.push_str(", ");
                }
                write(value.get().trim(), out, depth + 1)?;
            }
            out.push(']');
        }
        Some(b'"') => out.push_str(&quoted(&string(text).unwrap_or_default())),
        Some(b't' | b'f' | b'n') => out.push_str(text),
        _ => out.push_str(&plain_number(text)),
    }
    Ok(())
}
