//! The functions of expressions: by their PostgreSQL names and meaning, with a signature, a line and an example each.

use std::collections::HashMap;
use std::sync::LazyLock;

pub(crate) use self::entry::{BYTES, DOUBLE, Entry, INT, LONG, TEXT, d, int, number, t, unscaled, way};
pub use self::entry::{Gives, Signature, Take, TypeOf};

pub mod array;
pub mod digests;
mod entry;
pub mod json;
mod moments;
pub mod number;
mod number_templates;
pub mod operators;
pub mod patterns;
mod template_reading;
mod templates;
pub mod text;
pub mod time;

/// What a function is about.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Group {
    /// Text.
    Text,
    /// Regular expressions.
    Patterns,
    /// Numbers.
    Numbers,
    /// Dates and times.
    Times,
    /// JSON.
    Json,
    /// Arrays.
    Arrays,
    /// Hashes and encodings.
    Hashes,
    /// Conditions.
    Conditions,
    /// Operators, which are written between or before their arguments.
    Operators,
}

impl Group {
    /// The word for it.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Text => "text",
            Self::Patterns => "regular expressions",
            Self::Numbers => "numbers",
            Self::Times => "dates and times",
            Self::Json => "JSON",
            Self::Arrays => "arrays",
            Self::Hashes => "hashes and encodings",
            Self::Conditions => "conditions",
            Self::Operators => "operators",
        }
    }
}

/// A function.
#[derive(Clone)]
pub struct Function {
    /// Its name.
    pub name: &'static str,
    /// What it is about.
    pub group: Group,
    /// The ways to call it.
    pub signatures: Vec<Signature>,
    /// What it does, in a line.
    pub line: &'static str,
    /// An expression.
    pub example: &'static str,
    /// What that gives, as text.
    pub result: &'static str,
}

static ALL: LazyLock<Vec<Function>> = LazyLock::new(|| {
    let groups = [
        (Group::Operators, operators::all()),
        (Group::Text, text::all()),
        (Group::Patterns, patterns::all()),
        (Group::Numbers, number::all()),
        (Group::Times, time::all()),
        (Group::Json, json::all()),
        (Group::Arrays, array::all()),
        (Group::Hashes, digests::all()),
    ];
    let of = |(group, entries): (Group, Vec<Entry>)| {
        entries.into_iter().map(move |(name, signatures, line, example, result)| Function {
            name,
            group,
            signatures,
            line,
            example,
            result,
        })
    };
    groups.into_iter().flat_map(of).collect()
});

static BY_NAME: LazyLock<HashMap<&'static str, &'static Function>> =
    LazyLock::new(|| ALL.iter().map(|f| (f.name, f)).collect());

/// Every function, by group.
#[must_use]
pub fn all() -> &'static [Function] {
    &ALL
}

/// A function by its name in small letters.
#[must_use]
pub fn by_name(name: &str) -> Option<&'static Function> {
    BY_NAME.get(name).copied()
}
