//! Where a secret comes from: it never stands in a manifest itself.

use std::fmt;

use serde::de::{Error, MapAccess, Visitor};
use serde::ser::SerializeMap;
use serde::{Deserialize, Deserializer, Serialize, Serializer};

/// Where whoever applies a manifest takes a secret from.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum SecretFrom {
    /// A variable of the environment.
    Env(String),
    /// A file, without the end of its last line.
    File(String),
    /// The person who applies it.
    Ask,
}

const TAKEN: &str = "say where it comes from: {env: NAME}, {file: PATH} or {ask: true}";

impl fmt::Display for SecretFrom {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Env(name) => write!(f, "the environment's {name}"),
            Self::File(path) => write!(f, "the file {path}"),
            Self::Ask => f.write_str("whoever applies it"),
        }
    }
}

impl Serialize for SecretFrom {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        let mut map = serializer.serialize_map(Some(1))?;
        match self {
            Self::Env(name) => map.serialize_entry("env", name)?,
            Self::File(path) => map.serialize_entry("file", path)?,
            Self::Ask => map.serialize_entry("ask", &true)?,
        }
        map.end()
    }
}

impl<'de> Deserialize<'de> for SecretFrom {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        deserializer.deserialize_any(Source)
    }
}

/// Reads it; what may be the secret itself is never repeated.
struct Source;

/// What stands there instead, without being told.
fn secret<E: Error>() -> E {
    E::custom(format!("a secret stands in the text: take it out, change it where it is used, and {TAKEN}"))
}

impl<'de> Visitor<'de> for Source {
    type Value = SecretFrom;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("where a secret comes from")
    }

    fn visit_str<E: Error>(self, _: &str) -> Result<SecretFrom, E> {
        Err(secret())
    }

    fn visit_i64<E: Error>(self, _: i64) -> Result<SecretFrom, E> {
        Err(secret())
    }

    fn visit_u64<E: Error>(self, _: u64) -> Result<SecretFrom, E> {
        Err(secret())
    }

    fn visit_f64<E: Error>(self, _: f64) -> Result<SecretFrom, E> {
        Err(secret())
    }

    fn visit_bool<E: Error>(self, _: bool) -> Result<SecretFrom, E> {
        Err(secret())
    }

    fn visit_unit<E: Error>(self) -> Result<SecretFrom, E> {
        Err(E::custom(format!("nothing stands there: {TAKEN}")))
    }

    fn visit_map<A: MapAccess<'de>>(self, mut map: A) -> Result<SecretFrom, A::Error> {
        let mut found = None;
        while let Some(key) = map.next_key::<String>()? {
            let one = match key.as_str() {
                "env" => SecretFrom::Env(map.next_value()?),
                "file" => SecretFrom::File(map.next_value()?),
                "ask" if map.next_value()? => SecretFrom::Ask,
                "ask" => return Err(A::Error::custom(TAKEN)),
                // the key may be the secret
                _ => return Err(A::Error::custom(format!("it does not say where the secret comes from: {TAKEN}"))),
            };
            if found.replace(one).is_some() {
                return Err(A::Error::custom(format!("it comes from one place: {TAKEN}")));
            }
        }
        found.ok_or_else(|| A::Error::custom(TAKEN))
    }
}
