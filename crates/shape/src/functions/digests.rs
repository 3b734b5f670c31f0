//! Hashes, encodings, and the keyed functions that hide values.

use std::borrow::Cow;

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use gonvel_core::column::Value;
use md5::Digest as _;

use super::{BYTES, Entry, INT, LONG, TEXT, Take, int, number, t, way};
use crate::expr::{Fault, Scope};
use crate::tools::MaskKey;
use crate::ty::Ty;
use crate::value::Given;

fn bytes<'a>(a: &[Value<'a>], n: usize) -> &'a [u8] {
    match a.get(n) {
        Some(Value::Bytes(bytes)) => bytes,
        Some(Value::Text(text)) => text.as_bytes(),
        _ => &[],
    }
}

/// Hexadecimal digits.
#[must_use]
pub fn hex(bytes: &[u8]) -> String {
    const DIGITS: &[u8; 16] = b"0123456789abcdef";
    let digits = bytes.iter().flat_map(|byte| [DIGITS[usize::from(byte >> 4)], DIGITS[usize::from(byte & 15)]]);
    String::from_utf8(digits.collect()).unwrap_or_default()
}

fn encode(a: &[Value<'_>]) -> Result<Given<'static>, Fault> {
    let data = bytes(a, 0);
    Ok(Given::text(match t(a, 1).to_ascii_lowercase().as_str() {
        "hex" => hex(data),
        "base64" => {
            let all = STANDARD.encode(data);
            // lines of 76 characters, as RFC 2045 has them
            let lines: Vec<&str> = all.as_bytes().chunks(76).map(|l| std::str::from_utf8(l).unwrap_or_default()).collect();
            lines.join("\n")
        }
        "escape" => {
            let one = |b: &u8| match b {
                0 | 0x80.. => format!("\\{b:03o}"),
                b'\\' => "\\\\".to_owned(),
                b => char::from(*b).to_string(),
            };
            data.iter().map(one).collect()
        }
        _ => return Err("encodings are hex, base64 and escape".into()),
    }))
}

fn decode(a: &[Value<'_>]) -> Result<Given<'static>, Fault> {
    let text = t(a, 0);
    let found = match t(a, 1).to_ascii_lowercase().as_str() {
        "hex" => {
            let digits: Vec<u32> = text
                .chars()
                .filter(|c| !c.is_whitespace())
                .map(|c| c.to_digit(16))
                .collect::<Option<_>>()
                .unwrap_or(vec![0]);
            let pair = |p: &[u32]| (p.len() == 2).then(|| u8::try_from(p[0] << 4 | p[1]).ok())?;
            digits.chunks(2).map(pair).collect::<Option<Vec<u8>>>()
        }
        "base64" => STANDARD.decode(text.split_whitespace().collect::<String>()).ok(),
        "escape" => crate::cast::read_text(text, &Ty::Bytes).ok().and_then(|g| match g {
            Given::Bytes(bytes) => Some(bytes.into_owned()),
            _ => None,
        }),
        _ => return Err("encodings are hex, base64 and escape".into()),
    };
    found.map(|bytes| Given::Bytes(Cow::Owned(bytes))).ok_or_else(|| "the text is not in this encoding".into())
}

/// The letters of a token.
const LETTERS: &[u8; 32] = b"abcdefghijkmnpqrstuvwxyz23456789";

/// A short text that stands for another: equal ones get equal tokens, and 125 bits make it as good as certain that different ones
/// do not.
fn token(key: &MaskKey, text: &str) -> String {
    let signed = key.sign(&[b"token\0", text.as_bytes()]);
    let mut bits = u128::from_be_bytes(signed[..16].try_into().unwrap_or_default());
    let letter = |bits: &mut u128| {
        let letter = LETTERS[usize::try_from(*bits & 31).unwrap_or(0)];
        *bits >>= 5;
        char::from(letter)
    };
    (0..25).map(|_| letter(&mut bits)).collect()
}

/// A whole number that stands for another: a network of six rounds (Luby and Rackoff) over its bits, so no two numbers share one.
fn whole_token(key: &MaskKey, value: u64, half_bits: u32) -> u64 {
    let mask = (1_u64 << half_bits) - 1;
    let (mut left, mut right) = (value >> half_bits & mask, value & mask);
    for round in 0..6_u8 {
        let signed = key.sign(&[b"whole\0", &[round, u8::try_from(half_bits).unwrap_or(0)], &right.to_be_bytes()]);
        let mixed = u64::from_be_bytes(signed[..8].try_into().unwrap_or_default()) & mask;
        (left, right) = (right, left ^ mixed);
    }
    left << half_bits | right
}

fn token_of(s: Scope<'_>, a: &[Value<'_>]) -> Given<'static> {
    let key = s.tools.key();
    match a[0] {
        Value::Text(text) => Given::text(token(key, text)),
        Value::Int(v) if *s.ty == Ty::Int2 => {
            let bits = whole_token(key, u64::from(i16::try_from(v).unwrap_or(0).cast_unsigned()), 8);
            Given::Int(i32::from(u16::try_from(bits).unwrap_or(0).cast_signed()))
        }
        Value::Int(v) => {
            let bits = whole_token(key, u64::from(v.cast_unsigned()), 16);
            Given::Int(u32::try_from(bits).unwrap_or(0).cast_signed())
        }
        Value::Long(v) => Given::Long(whole_token(key, v.cast_unsigned(), 32).cast_signed()),
        _ => Given::Null,
    }
}

pub(super) fn all() -> Vec<Entry> {
    macro_rules! digest {
        ($hash:ty) => {{
            let run: crate::expr::Run = |_, a| Ok(Given::Bytes(Cow::Owned(<$hash>::digest(bytes(a, 0)).to_vec())));
            vec![way(&[BYTES], Ty::Bytes, run)]
        }};
    }
    let md5: crate::expr::Run = |_, a| Ok(Given::text(hex(&md5::Md5::digest(bytes(a, 0)))));
    vec![
        (
            "md5",
            vec![way(&[TEXT], Ty::Text, md5), way(&[BYTES], Ty::Text, md5)],
            "The MD5 hash in hexadecimal digits.",
            "md5('ripe')",
            "f3f1e19bebcc591ae51d97c59abab647",
        ),
        ("sha224", digest!(sha2::Sha224), "The SHA-224 hash.", "left(encode(sha224('a'), 'hex'), 8)", "abd37534"),
        ("sha256", digest!(sha2::Sha256), "The SHA-256 hash.", "left(encode(sha256('a'), 'hex'), 8)", "ca978112"),
        ("sha384", digest!(sha2::Sha384), "The SHA-384 hash.", "left(encode(sha384('a'), 'hex'), 8)", "54a59b9f"),
        ("sha512", digest!(sha2::Sha512), "The SHA-512 hash.", "left(encode(sha512('a'), 'hex'), 8)", "1f40fc92"),
        (
            "encode",
            vec![way(&[BYTES, TEXT], Ty::Text, |_, a| encode(a))],
            "Bytes as text: hex, base64 or escape.",
            "encode('ab', 'hex')",
            "6162",
        ),
        (
            "decode",
            vec![way(&[TEXT, TEXT], Ty::Bytes, |_, a| decode(a))],
            "The bytes of a text in hex, base64 or escape.",
            "decode('6162', 'hex')",
            "\\x6162",
        ),
        (
            "convert_to",
            vec![way(&[TEXT, TEXT], Ty::Bytes, |_, a| match t(a, 1).to_ascii_uppercase().as_str() {
                "UTF8" | "UTF-8" => Ok(Given::Bytes(Cow::Owned(t(a, 0).as_bytes().to_vec()))),
                "LATIN1" | "ISO-8859-1" => {
                    let all: Option<Vec<u8>> = t(a, 0).chars().map(|c| u8::try_from(u32::from(c)).ok()).collect();
                    all.map(|b| Given::Bytes(Cow::Owned(b))).ok_or_else(|| "a character is not in this encoding".into())
                }
                _ => Err("encodings of text are UTF8 and LATIN1".into()),
            })],
            "The bytes of a text.",
            "convert_to('Süß', 'LATIN1')",
            "\\x53fcdf",
        ),
        (
            "convert_from",
            vec![way(&[BYTES, TEXT], Ty::Text, |_, a| match t(a, 1).to_ascii_uppercase().as_str() {
                _ if bytes(a, 0).contains(&0) => Err("text cannot hold a zero byte".into()),
                "UTF8" | "UTF-8" => {
                    std::str::from_utf8(bytes(a, 0)).map(Given::text).map_err(|_| "the bytes are not text in UTF-8".into())
                }
                "LATIN1" | "ISO-8859-1" => Ok(Given::text(bytes(a, 0).iter().map(|b| char::from(*b)).collect::<String>())),
                _ => Err("encodings of text are UTF8 and LATIN1".into()),
            })],
            "The text of bytes.",
            "convert_from('\\x53fcdf', 'LATIN1')",
            "Süß",
        ),
        (
            "get_byte",
            vec![way(&[BYTES, INT], Ty::Int4, |_, a| {
                let place = usize::try_from(int(a, 1)).ok();
                place
                    .and_then(|p| bytes(a, 0).get(p))
                    .map(|b| number(usize::from(*b)))
                    .ok_or_else(|| "there is no such byte".into())
            })],
            "One byte by its place from 0.",
            "get_byte('\\x61', 0)",
            "97",
        ),
        (
            "keyed_hash",
            vec![way(&[TEXT], Ty::Text, |s, a| Ok(Given::text(hex(&s.tools.key().sign(&[t(a, 0).as_bytes()])))))],
            "HMAC-SHA-256 with Gonvel's secret (RFC 2104), in hexadecimal digits.",
            "length(keyed_hash('0161 496 0018'))",
            "64",
        ),
        (
            "token",
            vec![
                way(&[Take::Is(Ty::Int2)], Ty::Int2, |s, a| Ok(token_of(s, a))),
                way(&[INT], Ty::Int4, |s, a| Ok(token_of(s, a))),
                way(&[LONG], Ty::Int8, |s, a| Ok(token_of(s, a))),
                way(&[TEXT], Ty::Text, |s, a| Ok(token_of(s, a))),
            ],
            "What stands for a value: equal ones get equal tokens, different ones different ones. Whole numbers stay whole numbers.",
            "length(token('0161 496 0018'))",
            "25",
        ),
    ]
}
