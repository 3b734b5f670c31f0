//! Values by a schema of any language: Avro in single-object encoding, JSON as text, Protocol Buffers as one message.

use bytes::Bytes;
use serde_json::Value as Json;
use serde_json::value::RawValue;

use super::{Language, Parsed, TextFault, parse_standalone};
use crate::avro::binary::Reader;
use crate::avro::resolving::Resolver;
use crate::avro::{fingerprint, from_json, json, single_object};
use crate::digits;

/// The header that says which schema a value in JSON text follows, as name and version.
pub const SCHEMA_HEADER: &str = "gonvel-schema";

/// A schema version by which values are written and read.
#[derive(Debug, Clone)]
pub struct ValueSchema {
    parsed: Parsed,
    fingerprint: u64,
}

impl ValueSchema {
    /// From the text by which values are read ([`super::Standalone::text`]).
    ///
    /// # Errors
    /// [`TextFault`].
    pub fn new(language: Language, standalone: &str) -> Result<Self, TextFault> {
        let parsed = parse_standalone(language, standalone)?;
        let fingerprint = if language == Language::Avro { fingerprint::fingerprint(standalone)? } else { 0 };
        Ok(Self { parsed, fingerprint })
    }

    /// The schema.
    #[must_use]
    pub fn parsed(&self) -> &Parsed {
        &self.parsed
    }

    /// The value's bytes of what was given as JSON.
    ///
    /// # Errors
    /// What does not fit, with its path.
    pub fn write(&self, value: &Json) -> Result<Bytes, String> {
        match &self.parsed {
            Parsed::Avro(schema) => {
                let mut out = Vec::new();
                single_object::header(self.fingerprint, &mut out);
                from_json::write(schema, value, &mut out).map_err(|e| e.to_string())?;
                Ok(out.into())
            }
            Parsed::JsonSchema(schema) => {
                schema.validate(value).map_err(|e| e.to_string())?;
                Ok(value.to_string().into())
            }
            Parsed::Protobuf(schema) => schema.from_json(value).map(Bytes::from),
        }
    }

    /// The same of JSON text, whose numbers keep their digits.
    ///
    /// # Errors
    /// As [`Self::write`], also where the text is not JSON.
    pub fn write_text(&self, text: &str) -> Result<Bytes, String> {
        match &self.parsed {
            Parsed::Avro(schema) => {
                let mut out = Vec::new();
                single_object::header(self.fingerprint, &mut out);
                from_json::write_text(schema, text, &mut out).map_err(|e| e.to_string())?;
                Ok(out.into())
            }
            Parsed::JsonSchema(schema) => {
                let value: Json = serde_json::from_str(text).map_err(|e| e.to_string())?;
                schema.validate(&value).map_err(|e| e.to_string())?;
                Ok(Bytes::copy_from_slice(text.as_bytes()))
            }
            Parsed::Protobuf(schema) => {
                let value: Json = serde_json::from_str(text).map_err(|e| e.to_string())?;
                schema.from_json(&value).map(Bytes::from)
            }
        }
    }

    /// Whether checking a value may take long.
    #[must_use]
    pub fn takes_long(&self, value: &Bytes) -> bool {
        value.len() >= 64 << 10 || matches!(&self.parsed, Parsed::JsonSchema(schema) if schema.may_take_long())
    }

    /// Takes a value as it came: bytes that are one already stay as they are, JSON text becomes one.
    ///
    /// # Errors
    /// What does not fit, with its path.
    pub fn take(&self, value: &Bytes) -> Result<Bytes, String> {
        match &self.parsed {
            Parsed::Avro(schema) => {
                if let Some((print, data)) = single_object::split(value)
                    && print == self.fingerprint
                {
                    let mut reader = Reader::new(data);
                    json::read(schema, &mut reader).map_err(|e| e.to_string())?;
                    return match reader.remaining() {
                        0 => Ok(value.clone()),
                        left => Err(format!("{left} bytes are left over after the value")),
                    };
                }
                as_json(value, "a value in Avro single-object encoding")?;
                self.write_text(std::str::from_utf8(value).map_err(|e| e.to_string())?)
            }
            Parsed::JsonSchema(schema) => {
                schema.validate(&as_json(value, "JSON")?).map_err(|e| e.to_string())?;
                Ok(value.clone())
            }
            Parsed::Protobuf(schema) => {
                if let Ok(json) = serde_json::from_slice::<Json>(value)
                    && json.is_object()
                {
                    return schema.from_json(&json).map(Bytes::from);
                }
                schema.check(value)?;
                Ok(value.clone())
            }
        }
    }

    /// The value as people read it; none if the bytes are no value of this schema.
    #[must_use]
    pub fn show(&self, value: &Bytes) -> Option<Json> {
        match &self.parsed {
            Parsed::Avro(schema) => {
                let (_, data) = single_object::split(value)?;
                json::read(schema, &mut Reader::new(data)).ok()
            }
            Parsed::JsonSchema(_) => serde_json::from_slice(value).ok(),
            Parsed::Protobuf(schema) => schema.to_json(value).ok(),
        }
    }

    /// The same as JSON text, in which numbers have the digits that they were written with.
    #[must_use]
    pub fn show_text(&self, value: &Bytes) -> Option<String> {
        if let Parsed::JsonSchema(_) = &self.parsed {
            let text = std::str::from_utf8(value).ok()?;
            return serde_json::from_str::<&RawValue>(text).ok().map(|raw| raw.get().to_owned());
        }
        self.show(value).map(|value| value.to_string())
    }

    /// As [`Self::show`], with all digits of numbers: those that a double cannot hold are texts.
    #[must_use]
    pub fn show_exact(&self, value: &Bytes) -> Option<Json> {
        match &self.parsed {
            Parsed::JsonSchema(_) => digits::read(std::str::from_utf8(value).ok()?).ok(),
            _ => self.show(value),
        }
    }

    /// Whether another version of the schema can read a value of this one.
    ///
    /// # Errors
    /// What it cannot read, with its path.
    pub fn read_by(&self, reader: &Parsed, value: &Bytes) -> Result<(), String> {
        match (&self.parsed, reader) {
            (Parsed::Avro(writer), Parsed::Avro(reader)) => {
                let (_, data) = single_object::split(value).ok_or("it is not in Avro single-object encoding")?;
                let resolver = Resolver::new(reader, writer);
                resolver.read(&mut Reader::new(data)).map(|_| ()).map_err(|e| e.to_string())
            }
            (_, Parsed::JsonSchema(reader)) => {
                let value = self.show(value).ok_or("it is not JSON")?;
                reader.validate(&value).map_err(|e| e.to_string())
            }
            (Parsed::Protobuf(_), Parsed::Protobuf(reader)) => reader.check(value),
            _ => Err("it is in another language".to_owned()),
        }
    }
}

/// Bytes as JSON for people: by their schema, else as the JSON or the text that they are, else in hexadecimal digits.
#[must_use]
pub fn shown(schema: Option<&ValueSchema>, bytes: &Bytes) -> Json {
    told(schema.and_then(|schema| schema.show(bytes)), bytes, |text| serde_json::from_str(text))
}

/// The same with all digits of numbers, for conditions: those that a double cannot hold are texts.
#[must_use]
pub fn shown_exact(schema: Option<&ValueSchema>, bytes: &Bytes) -> Json {
    told(schema.and_then(|schema| schema.show_exact(bytes)), bytes, digits::read)
}

fn told(by_schema: Option<Json>, bytes: &Bytes, plain: fn(&str) -> Result<Json, serde_json::Error>) -> Json {
    by_schema.unwrap_or_else(|| match std::str::from_utf8(bytes) {
        Ok(text) => plain(text).unwrap_or_else(|_| text.into()),
        Err(_) => bytes.iter().fold(String::from("\\x"), |text, byte| format!("{text}{byte:02x}")).into(),
    })
}

/// Whether a value that says no schema can be read by one: JSON text that fits, or a message.
///
/// # Errors
/// What does not fit, with its path.
pub fn read_plain(reader: &Parsed, value: &Bytes) -> Result<(), String> {
    match reader {
        Parsed::Avro(schema) => {
            let json = as_json(value, "a value in Avro single-object encoding")?;
            from_json::write(schema, &json, &mut Vec::new()).map_err(|e| e.to_string())
        }
        Parsed::JsonSchema(schema) => schema.validate(&as_json(value, "JSON")?).map_err(|e| e.to_string()),
        Parsed::Protobuf(schema) => schema.check(value),
    }
}

fn as_json(value: &Bytes, wanted: &str) -> Result<Json, String> {
    serde_json::from_slice(value).map_err(|_| format!("the value is neither {wanted} of this schema nor JSON text"))
}
