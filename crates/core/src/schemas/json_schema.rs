//! JSON Schema, drafts 2020-12 and 07: parsing, validation, and a comparison of two schemas of our own.

mod alike;
mod cases;
mod compare;
mod holding;
mod keyword_by_keyword;
mod keywords;
mod likeness;
mod options;
mod resolving;
mod unfolding;
mod walk;
mod witness;

use std::sync::Arc;

use jsonschema::{Draft, ValidationError, Validator};
use serde_json::{Value as Json, json};

use super::{Reference, TextFault};
use crate::avro::schema::LONGEST;
use crate::json_place::{Place, Step, locate};

use self::options::options;
use self::unfolding::Unfolded;

pub use compare::misfits;
pub use walk::{changes, field_paths};

/// A parsed schema.
#[derive(Debug, Clone)]
pub struct JsonSchema {
    pub(super) root: Arc<Json>,
    validator: Arc<Validator>,
    unfolded: Unfolded,
}

/// Where a value does not fit its schema.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("at {path}: {finding}")]
pub struct ValueFault {
    /// Where in the value, as a path of names.
    pub path: String,
    /// What was found and what fits.
    pub finding: String,
}

impl JsonSchema {
    /// Parses a schema's text.
    ///
    /// # Errors
    /// [`TextFault`] with line and column.
    pub fn parse(text: &str) -> Result<Self, TextFault> {
        let root = read(text)?;
        if !root.is_object() && !root.is_boolean() {
            return Err(TextFault::at(locate(text, &[]), "a schema is an object, true or false"));
        }
        let draft = match root.get("$schema").and_then(Json::as_str).map(|s| s.trim_end_matches('#')) {
            None | Some("https://json-schema.org/draft/2020-12/schema") => Draft::Draft202012,
            Some("http://json-schema.org/draft-07/schema" | "https://json-schema.org/draft-07/schema") => Draft::Draft7,
            Some(other) => {
                let place = locate(text, &[Step::Member("$schema".to_owned())]);
                return Err(TextFault::at(place, format!("{other:?} is neither draft 2020-12 nor draft-07 of JSON Schema")));
            }
        };
        let unfolded = unfolding::unfold(&root);
        if let Some(finding) = unfolded.too_much() {
            return Err(TextFault::at(locate(text, &[]), finding));
        }
        let validator = unfolded.with_stack(|| match unfolded.is_counted() {
            true => unfolding::counting(options(draft)).build(&unfolding::counted(&root)),
            false => options(draft).build(&root),
        });
        let validator = validator.map_err(|error| {
            let steps = steps(error.instance_path().as_str(), &root);
            TextFault::at(locate(text, &steps), said(&error))
        })?;
        Ok(Self { root: Arc::new(root), validator: Arc::new(validator), unfolded })
    }

    /// Checks a value.
    ///
    /// # Errors
    /// [`ValueFault`] with the first place that does not fit.
    pub fn validate(&self, value: &Json) -> Result<(), ValueFault> {
        let check = || {
            let fault = |error: ValidationError<'_>| ValueFault {
                path: shown(error.instance_path().as_str()),
                finding: said(&error),
            };
            self.validator.validate(value).map_err(fault)
        };
        self.within(unfolding::MOST_STEPS, check).unwrap_or_else(|| {
            let finding = format!(
                "checking the value takes more than {} steps: the schema comes back to itself in several ways",
                unfolding::MOST_STEPS
            );
            Err(ValueFault { path: "$".to_owned(), finding })
        })
    }

    /// What a check comes to; none if it takes too long.
    fn within<T>(&self, steps: u64, check: impl FnOnce() -> T) -> Option<T> {
        if !self.unfolded.is_counted() {
            return Some(self.unfolded.with_stack(check));
        }
        self.unfolded.with_stack(|| unfolding::within_steps(steps, check))
    }

    /// Whether a value fits; none if finding out takes too long.
    #[must_use]
    pub fn holds(&self, value: &Json) -> Option<bool> {
        self.holds_within(value, unfolding::MOST_STEPS)
    }

    fn holds_within(&self, value: &Json, steps: u64) -> Option<bool> {
        self.within(steps, || self.validator.is_valid(value))
    }

    /// Whether checking a small value may take long.
    #[must_use]
    pub fn may_take_long(&self) -> bool {
        self.unfolded.is_counted() || self.unfolded.size > 1_000
    }

    /// The schema as JSON.
    #[must_use]
    pub fn root(&self) -> &Json {
        &self.root
    }
}

fn read(text: &str) -> Result<Json, TextFault> {
    if text.len() > LONGEST {
        let finding = format!("the schema has {} bytes; at most {LONGEST} are taken", text.len());
        return Err(TextFault::at(Place { line: 1, column: 1 }, finding));
    }
    serde_json::from_str(text).map_err(|e| {
        let whole = e.to_string();
        let finding = whole.rfind(" at line ").map_or(whole.as_str(), |end| &whole[..end]);
        let place = Place { line: e.line().max(1), column: e.column().max(1) };
        TextFault::at(place, format!("the schema is not JSON: {finding}"))
    })
}

/// What is wrong, short enough to read.
fn said(error: &ValidationError<'_>) -> String {
    let text = error.to_string();
    if text.len() <= 300 {
        return text;
    }
    let end = (0..=297).rev().find(|&n| text.is_char_boundary(n)).unwrap_or(0);
    format!("{}…", &text[..end])
}

/// A JSON Pointer as the way into a text.
fn steps(pointer: &str, root: &Json) -> Vec<Step> {
    let mut at = Some(root);
    let mut out = Vec::new();
    for part in pointer.split('/').skip(1) {
        let name = part.replace("~1", "/").replace("~0", "~");
        let step = match (at, name.parse::<usize>()) {
            (Some(Json::Array(_)), Ok(place)) => Step::Element(place),
            _ => Step::Member(name),
        };
        at = at.and_then(|json| match &step {
            Step::Member(name) => json.get(name),
            Step::Element(place) => json.get(place),
        });
        out.push(step);
    }
    out
}

/// A JSON Pointer as people read it.
fn shown(pointer: &str) -> String {
    let part = |part: &str| {
        let name = part.replace("~1", "/").replace("~0", "~");
        if name.parse::<usize>().is_ok() { format!("[{name}]") } else { format!(".{name}") }
    };
    pointer.split('/').skip(1).map(part).fold("$".to_owned(), |path, part| path + &part)
}

/// The schema's text with the schemas it refers to by their names put beside its own definitions.
///
/// # Errors
/// [`TextFault`] if a text is not JSON.
pub fn standalone(text: &str, references: &[Reference]) -> Result<String, TextFault> {
    let mut root = read(text)?;
    if references.is_empty() {
        return Ok(text.to_owned());
    }
    let Json::Object(object) = &mut root else { return Ok(text.to_owned()) };
    let key = if object.contains_key("definitions") && !object.contains_key("$defs") { "definitions" } else { "$defs" };
    let defs = object.entry(key).or_insert_with(|| json!({}));
    for reference in references {
        let mut other = read(&reference.text)?;
        if let Json::Object(other) = &mut other {
            other.shift_remove("$schema");
            other.insert("$id".to_owned(), reference.name.clone().into());
        }
        if let Json::Object(defs) = defs {
            defs.entry(reference.name.clone()).or_insert(other);
        }
    }
    Ok(serde_json::to_string_pretty(&root).unwrap_or_else(|_| text.to_owned()))
}
