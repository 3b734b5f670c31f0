//! Parsing Canonical Form and CRC-64-AVRO fingerprints ("Parsing Canonical Form for Schemas" and "Schema Fingerprints" in
//! the specification).

use std::fmt::Write as _;

use serde_json::Value as Json;
use sha2::{Digest, Sha256};

use super::parsing::read_json;
use super::schema::{SchemaError, full_name, namespace_of};

const EMPTY: u64 = 0xc15d_213a_a4d7_a795;

const fn table() -> [u64; 256] {
    let mut table = [0; 256];
    let mut i = 0;
    while i < 256 {
        let mut value = i as u64;
        let mut bit = 0;
        while bit < 8 {
            value = (value >> 1) ^ (EMPTY & (0_u64.wrapping_sub(value & 1)));
            bit += 1;
        }
        table[i] = value;
        i += 1;
    }
    table
}

static TABLE: [u64; 256] = table();

/// CRC-64-AVRO of bytes.
#[must_use]
pub fn crc64(bytes: &[u8]) -> u64 {
    bytes.iter().fold(EMPTY, |sum, &byte| (sum >> 8) ^ TABLE[usize::from(sum.to_le_bytes()[0] ^ byte)])
}

/// The fingerprint of a schema's text.
///
/// # Errors
/// [`SchemaError::Json`] if the text is not JSON.
pub fn fingerprint(schema_text: &str) -> Result<u64, SchemaError> {
    canonical_form(schema_text).map(|text| crc64(text.as_bytes()))
}

/// SHA-256 of an Avro schema's canonical form, or of any text, in hexadecimal digits.
#[must_use]
pub fn sha256(avro: bool, text: &str) -> String {
    let form = if avro { canonical_form(text).ok() } else { None };
    let sum = Sha256::digest(form.as_deref().unwrap_or(text).as_bytes());
    sum.iter().fold(String::with_capacity(64), |mut out, byte| {
        let _ = write!(out, "{byte:02x}");
        out
    })
}

/// The Parsing Canonical Form of a schema's text.
///
/// # Errors
/// [`SchemaError::Json`] if the text is not JSON.
pub fn canonical_form(schema_text: &str) -> Result<String, SchemaError> {
    let json = read_json(schema_text)?;
    let mut out = String::with_capacity(schema_text.len());
    write(&json, "", &mut out);
    Ok(out)
}

const PRIMITIVES: [&str; 8] = ["null", "boolean", "int", "long", "float", "double", "bytes", "string"];

fn quoted(text: &str, out: &mut String) {
    out.push_str(&Json::from(text).to_string());
}

fn joined<'a>(items: impl IntoIterator<Item = &'a Json>, out: &mut String, mut one: impl FnMut(&'a Json, &mut String)) {
    out.push('[');
    for (i, item) in items.into_iter().enumerate() {
        if i > 0 {
            out.push(',');
        }
        one(item, out);
    }
    out.push(']');
}

fn write(json: &Json, namespace: &str, out: &mut String) {
    match json {
        Json::String(name) if PRIMITIVES.contains(&name.as_str()) => quoted(name, out),
        Json::String(name) => quoted(&full_name(name, namespace), out),
        Json::Array(branches) => joined(branches, out, |branch, out| write(branch, namespace, out)),
        Json::Object(object) => {
            let ty = object.get("type").unwrap_or(&Json::Null);
            let Some(word) = ty.as_str() else { return write(ty, namespace, out) };
            let own = object.get("namespace").and_then(Json::as_str).unwrap_or(namespace);
            let name = object.get("name").and_then(Json::as_str).map(|n| full_name(n, own));
            match word {
                "record" | "enum" | "fixed" => {
                    let name = name.unwrap_or_default();
                    out.push_str("{\"name\":");
                    quoted(&name, out);
                    out.push_str(",\"type\":");
                    quoted(word, out);
                    named_rest(word, object, namespace_of(&name), out);
                    out.push('}');
                }
                "array" | "map" => {
                    let key = if word == "array" { "items" } else { "values" };
                    let _ = write!(out, "{{\"type\":\"{word}\",\"{key}\":");
                    write(object.get(key).unwrap_or(&Json::Null), namespace, out);
                    out.push('}');
                }
                _ => write(ty, namespace, out),
            }
        }
        other => out.push_str(&other.to_string()),
    }
}

fn named_rest(word: &str, object: &serde_json::Map<String, Json>, namespace: &str, out: &mut String) {
    let none = Vec::new();
    let list = |key: &str| object.get(key).and_then(Json::as_array).unwrap_or(&none);
    match word {
        "enum" => {
            out.push_str(",\"symbols\":");
            joined(list("symbols"), out, |s, out| quoted(s.as_str().unwrap_or_default(), out));
        }
        "fixed" => {
            let _ = write!(out, ",\"size\":{}", object.get("size").and_then(Json::as_u64).unwrap_or(0));
        }
        _ => {
            out.push_str(",\"fields\":");
            joined(list("fields"), out, |field, out| {
                out.push_str("{\"name\":");
                quoted(field.get("name").and_then(Json::as_str).unwrap_or_default(), out);
                out.push_str(",\"type\":");
                write(field.get("type").unwrap_or(&Json::Null), namespace, out);
                out.push('}');
            });
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_primitive_with_attributes_becomes_its_name() {
        let text = r#"["null",{"type":"bytes","logicalType":"decimal","precision":7,"scale":1}]"#;
        assert_eq!(canonical_form(text).unwrap(), r#"["null","bytes"]"#);
    }

    #[test]
    fn canonical_form_and_fingerprint_agree_with_an_independent_library() {
        let cases = [
            r#""int""#,
            r#"{"type":"record","name":"Bin","namespace":"packhouse","doc":"x","fields":[
                {"name":"id","type":"long","default":1},
                {"name":"grade","type":{"type":"enum","name":"Grade","symbols":["A","B"]}},
                {"name":"before","type":["null","Grade"]},
                {"name":"tags","type":{"type":"array","items":"string"}},
                {"name":"sum","type":{"type":"fixed","name":"other.Sum","size":16}},
                {"name":"more","type":{"type":"map","values":{"type":"record","name":"M","fields":[]}}}]}"#,
        ];
        for text in cases {
            let other = apache_avro::Schema::parse_str(text).unwrap();
            assert_eq!(canonical_form(text).unwrap(), other.canonical_form(), "{text}");
            let theirs = other.fingerprint::<apache_avro::rabin::Rabin>().bytes;
            assert_eq!(fingerprint(text).unwrap().to_le_bytes().to_vec(), theirs, "{text}");
        }
    }
}
