//! JSON text as cells. Numbers keep their digits: they are read as the text they are.

use std::borrow::Cow;

use serde::de::{DeserializeSeed, Error as _, MapAccess, Visitor};
use serde_json::value::RawValue;

use crate::beside::Beside;
use crate::cell::Cell;
use crate::tree::{Node, Path};

/// Deepest nesting of objects whose fields are looked at.
const DEEPEST: usize = 64;

/// Reads a value into cells; gives the fields that no column takes, as a JSON object, where that is asked for.
pub(crate) fn read<'a>(
    text: &'a str,
    root: &Node,
    beside: Beside,
    cells: &mut [Cell<'a>],
) -> Result<Option<String>, String> {
    object(text, root, &Path::ROOT, beside, cells, 0)
}

/// What a JSON text is, in a word.
fn word(text: &str) -> &'static str {
    match text.as_bytes().first() {
        Some(b'{') => "an object",
        Some(b'[') => "an array",
        Some(b'"') => "a text",
        Some(b't' | b'f') => "true or false",
        Some(b'n') => "null",
        _ => "a number",
    }
}

fn object<'a>(
    text: &'a str,
    node: &Node,
    path: &Path<'_>,
    beside: Beside,
    cells: &mut [Cell<'a>],
    depth: usize,
) -> Result<Option<String>, String> {
    if depth > DEEPEST {
        return Err(format!("at {path}: it nests deeper than {DEEPEST} levels: take an object above it whole, as jsonb"));
    }
    let mut found = Fields { node, path, beside, cells, depth, rest: String::new(), wrong: None };
    let mut reader = serde_json::Deserializer::from_str(text);
    let read = Fill(&mut found).deserialize(&mut reader).and_then(|()| reader.end());
    if let Some(wrong) = found.wrong {
        return Err(wrong);
    }
    let rest = found.rest;
    read.map_err(|error| {
        let trimmed = text.trim_start();
        if serde_json::from_str::<serde::de::IgnoredAny>(text).is_ok() {
            path.no_object(word(trimmed))
        } else {
            let (line, column) = (error.line(), error.column());
            format!("at {path}: the value is not JSON (line {line}, column {column}): mend the record, or take the value whole as text or bytea")
        }
    })?;
    if rest.is_empty() {
        return Ok(None);
    }
    Ok(Some(format!("{{{rest}}}")))
}

struct Fields<'f, 'a> {
    node: &'f Node,
    path: &'f Path<'f>,
    beside: Beside,
    cells: &'f mut [Cell<'a>],
    depth: usize,
    /// Members that no column takes.
    rest: String,
    /// What is wrong within, if anything.
    wrong: Option<String>,
}

impl<'a> Fields<'_, 'a> {
    fn keep(&mut self, name: &str, raw: &str) {
        if !self.rest.is_empty() {
            self.rest.push(',');
        }
        self.rest.push_str(&serde_json::Value::from(name).to_string());
        self.rest.push(':');
        self.rest.push_str(raw);
    }

    fn take(&mut self, name: &str, raw: &'a str, hint: &mut usize) -> Result<(), String> {
        let Some(child) = self.node.child(name, hint) else {
            match self.beside {
                Beside::LeftOut => {}
                Beside::Kept => self.keep(name, raw),
                Beside::Refused => return Err(self.path.down(name).unknown()),
            }
            return Ok(());
        };
        let null = raw == "null";
        if !child.columns.is_empty() {
            let cell = cell(raw);
            child.columns.iter().for_each(|&column| self.cells[column] = cell.clone());
        }
        if !child.goes_on() {
            return Ok(());
        }
        let path = self.path.down(name);
        if null {
            child.null_below(self.cells);
        } else if raw.starts_with('{') {
            let beside = self.beside.below(child);
            if let Some(rest) = object(raw, child, &path, beside, self.cells, self.depth + 1)? {
                self.keep(name, &rest);
            }
        } else {
            return Err(path.no_object(word(raw)));
        }
        Ok(())
    }
}

impl Path<'_> {
    /// The refusal of a field that no column takes.
    pub(crate) fn unknown(&self) -> String {
        format!("at {self}: no column takes this field: give it one, keep the rest in a column, or leave unknown fields out")
    }
}

/// The texts of an array's elements.
pub(crate) fn items(text: &str) -> Result<Vec<&str>, String> {
    let items: Vec<&RawValue> = serde_json::from_str(text).map_err(|_| "the array is not JSON".to_owned())?;
    Ok(items.into_iter().map(RawValue::get).collect())
}

/// The cell of a member's text.
pub(crate) fn cell(raw: &str) -> Cell<'_> {
    match raw.as_bytes().first() {
        Some(b'n') => Cell::Null,
        Some(b't') => Cell::Boolean(true),
        Some(b'f') => Cell::Boolean(false),
        Some(b'{' | b'[') => Cell::Json(Cow::Borrowed(raw)),
        Some(b'"') => {
            let inner = &raw[1..raw.len() - 1];
            if inner.contains('\\') {
                // the text was read once already
                Cell::Text(Cow::Owned(serde_json::from_str(raw).unwrap_or_default()))
            } else {
                Cell::Text(Cow::Borrowed(inner))
            }
        }
        _ => Cell::Number(raw),
    }
}

/// Fills cells from an object.
struct Fill<'s, 'f, 'a>(&'s mut Fields<'f, 'a>);

impl<'a> DeserializeSeed<'a> for Fill<'_, '_, 'a> {
    type Value = ();
    fn deserialize<D: serde::Deserializer<'a>>(self, deserializer: D) -> Result<(), D::Error> {
        deserializer.deserialize_map(self)
    }
}

impl<'a> Visitor<'a> for Fill<'_, '_, 'a> {
    type Value = ();

    fn expecting(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("an object")
    }

    fn visit_map<A: MapAccess<'a>>(self, mut map: A) -> Result<(), A::Error> {
        let mut hint = 0;
        while let Some(Name(name)) = map.next_key::<Name<'a>>()? {
            let raw = map.next_value::<&'a RawValue>()?;
            if let Err(wrong) = self.0.take(&name, raw.get(), &mut hint) {
                self.0.wrong = Some(wrong);
                return Err(A::Error::custom("a field does not fit"));
            }
        }
        Ok(())
    }
}

/// A member's name: borrowed unless something in it is escaped.
struct Name<'a>(Cow<'a, str>);

impl<'a> serde::Deserialize<'a> for Name<'a> {
    fn deserialize<D: serde::Deserializer<'a>>(deserializer: D) -> Result<Self, D::Error> {
        struct Text;
        impl<'a> Visitor<'a> for Text {
            type Value = Name<'a>;
            fn expecting(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
                f.write_str("a name")
            }
            fn visit_borrowed_str<E>(self, text: &'a str) -> Result<Name<'a>, E> {
                Ok(Name(Cow::Borrowed(text)))
            }
            fn visit_str<E>(self, text: &str) -> Result<Name<'a>, E> {
                Ok(Name(Cow::Owned(text.to_owned())))
            }
        }
        deserializer.deserialize_str(Text)
    }
}
