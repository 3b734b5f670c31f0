//! Whether every value that one schema lets through is let through by another, keyword by keyword.
//!
//! What a schema leaves open by saying nothing of further properties counts as not written: by the letter, a new optional
//! property could never be added to such a schema. What it opens on purpose (`additionalProperties` as true or a schema)
//! counts as written. Keywords that cannot be compared must be the same on both sides.

use std::collections::HashSet;
use std::sync::OnceLock;

use jsonschema::{Draft, Validator};
use serde_json::{Map, Value as Json};

use super::JsonSchema;
use super::keywords::required;
use crate::schemas::Misfit;

/// All that keeps a reader's schema from letting through whatever a writer's does.
#[must_use]
pub fn misfits(reader: &JsonSchema, writer: &JsonSchema) -> Vec<Misfit> {
    let mut check = Check {
        reader: Side::new(&reader.root),
        writer: Side::new(&writer.root),
        one_root: reader.root == writer.root,
        pairs: HashSet::new(),
        left: MOST_STEPS,
        found: Vec::new(),
    };
    check.accepts(&reader.root, Written::Schema(&writer.root), "$", 0);
    check.found
}

/// How many references are followed on one way down.
const DEEPEST: usize = 200;
/// Comparisons of two parts made at most.
const MOST_STEPS: usize = 200_000;
/// Misfits told at most.
const MOST: usize = 200;

/// A schema with what its references lead to.
#[derive(Clone, Copy)]
pub(super) struct Side<'s> {
    root: &'s Json,
}

impl<'s> Side<'s> {
    pub(super) fn new(root: &'s Json) -> Self {
        Self { root }
    }

    fn is_draft_7(self) -> bool {
        self.root.get("$schema").and_then(Json::as_str).is_some_and(|s| s.contains("draft-07"))
    }

    /// Checks values by a schema that refers to nothing, in the draft of the whole.
    pub(super) fn checker(self, schema: &Json) -> Option<Validator> {
        let draft = if self.is_draft_7() { Draft::Draft7 } else { Draft::Draft202012 };
        super::options(draft).build(schema).ok()
    }

    pub(super) fn target(self, reference: &str) -> Option<&'s Json> {
        let (resource, pointer) = reference.split_once('#').unwrap_or((reference, ""));
        let defs = ["$defs", "definitions"].into_iter().filter_map(|key| self.root.get(key)?.as_object());
        let resource = if resource.is_empty() || self.root.get("$id").and_then(Json::as_str) == Some(resource) {
            self.root
        } else {
            defs.flat_map(|d| d.iter())
                .find(|(name, s)| s.get("$id").map_or(name.as_str() == resource, |id| id == resource))?
                .1
        };
        if pointer.is_empty() || pointer.starts_with('/') {
            return resource.pointer(&percent_encoding::percent_decode_str(pointer).decode_utf8().ok()?);
        }
        let defs = ["$defs", "definitions"].into_iter().filter_map(|key| resource.get(key)?.as_object());
        defs.flat_map(|d| d.values()).find(|s| s.get("$anchor").is_some_and(|a| a == pointer))
    }

    /// The schema itself, or what it refers to when that is all it does.
    pub(super) fn resolve(self, mut schema: &'s Json) -> &'s Json {
        for _ in 0..DEEPEST {
            let Some(object) = schema.as_object() else { return schema };
            let only = object.keys().all(|k| k == "$ref" || is_annotation(k));
            let Some(reference) = object.get("$ref").and_then(Json::as_str).filter(|_| only) else { return schema };
            let Some(target) = self.target(reference) else { return schema };
            schema = target;
        }
        schema
    }
}

fn is_annotation(keyword: &str) -> bool {
    matches!(
        keyword,
        "title"
            | "description"
            | "$comment"
            | "default"
            | "examples"
            | "deprecated"
            | "readOnly"
            | "writeOnly"
            | "$schema"
            | "$id"
            | "$defs"
            | "definitions"
            | "$anchor"
            | "$vocabulary"
            | "format"
            | "contentEncoding"
            | "contentMediaType"
            | "contentSchema"
    )
}

const TYPES: [&str; 7] = ["null", "boolean", "integer", "number", "string", "array", "object"];

/// The types a schema lets through by `type`; a number includes the integers.
pub(super) fn types(schema: &Map<String, Json>) -> Vec<&str> {
    match schema.get("type") {
        Some(Json::String(one)) => vec![one],
        Some(Json::Array(several)) => several.iter().filter_map(Json::as_str).collect(),
        _ => TYPES.into_iter().filter(|t| *t != "integer").collect(),
    }
}

/// Whether no value that a schema's own keywords let through fits another: by their types, or by a property that both need and
/// that holds other values in each.
fn apart(other: &Json, writer: &Map<String, Json>) -> bool {
    let other = match other {
        Json::Bool(false) => return true,
        Json::Object(other) => other,
        _ => return false,
    };
    let kinds = |schema: &Map<String, Json>| -> Vec<String> {
        let kinds: Vec<&str> = match listed(schema) {
            Some(values) => values.iter().map(|v| type_of(v)).collect(),
            None => types(schema),
        };
        kinds.into_iter().map(|k| if k == "integer" { "number" } else { k }.to_owned()).collect()
    };
    let theirs = kinds(other);
    if !kinds(writer).iter().any(|k| theirs.contains(k)) {
        return true;
    }
    let needed = required(writer);
    types(other) == ["object"]
        && types(writer) == ["object"]
        && required(other).into_iter().filter(|name| needed.contains(name)).any(|name| {
            let values = |schema: &Map<String, Json>| -> Option<Vec<Json>> {
                Some(listed(schema.get("properties")?.get(name)?.as_object()?)?.into_iter().cloned().collect())
            };
            values(other).zip(values(writer)).is_some_and(|(a, b)| !a.iter().any(|v| b.contains(v)))
        })
}

/// Whether something in a schema refers to elsewhere.
pub(super) fn refers(schema: &Json) -> bool {
    match schema {
        Json::Object(object) => {
            object.contains_key("$ref") || object.contains_key("$dynamicRef") || object.values().any(refers)
        }
        Json::Array(items) => items.iter().any(refers),
        _ => false,
    }
}

pub(super) fn is_combining(keyword: &str) -> bool {
    matches!(keyword, "allOf" | "anyOf" | "oneOf" | "$ref")
}

/// The values a schema lists, by `enum` or `const`.
pub(super) fn listed(schema: &Map<String, Json>) -> Option<Vec<&Json>> {
    schema.get("const").map(|one| vec![one]).or_else(|| Some(schema.get("enum")?.as_array()?.iter().collect()))
}

pub(super) fn type_of(value: &Json) -> &'static str {
    match value {
        Json::Null => "null",
        Json::Bool(_) => "boolean",
        Json::Number(n) if n.is_i64() || n.is_u64() || n.as_f64().is_some_and(|f| f.fract() == 0.0) => "integer",
        Json::Number(_) => "number",
        Json::String(_) => "string",
        Json::Array(_) => "array",
        Json::Object(_) => "object",
    }
}

pub(super) struct Check<'s> {
    pub(super) reader: Side<'s>,
    writer: Side<'s>,
    /// Whether references mean the same on both sides.
    one_root: bool,
    /// Pairs that are being compared or were found to fit, by their places in memory.
    pairs: HashSet<(usize, usize, bool)>,
    /// Comparisons left: schemas can be written for which there is no end of them.
    pub(super) left: usize,
    found: Vec<Misfit>,
}

/// What a writer may write: all that a schema lets through, or all that its own keywords do, without those that combine others.
#[derive(Clone, Copy)]
pub(super) enum Written<'s> {
    Schema(&'s Json),
    Own(&'s Map<String, Json>),
}

/// One of the conditions that hold together in a schema.
#[derive(Clone, Copy)]
enum Part<'s> {
    /// Its own keywords.
    Own(&'s Map<String, Json>),
    /// A member of `allOf`, or what `$ref` leads to.
    Schema(&'s Json),
    /// `anyOf`.
    Any(&'s Json),
    /// `oneOf`.
    One(&'s Json),
}

fn nothing_said<'s>() -> &'s Map<String, Json> {
    static NOTHING: OnceLock<Map<String, Json>> = OnceLock::new();
    NOTHING.get_or_init(Map::new)
}

fn parts<'s>(side: Side<'s>, schema: &'s Map<String, Json>) -> Vec<Part<'s>> {
    let target = schema.get("$ref").and_then(Json::as_str).and_then(|r| side.target(r));
    // what stands beside a reference counts for nothing in draft-07
    if let Some(target) = target.filter(|_| side.is_draft_7()) {
        return vec![Part::Schema(target)];
    }
    let mut out = vec![Part::Own(schema)];
    out.extend(target.map(Part::Schema));
    out.extend(schema.get("allOf").and_then(Json::as_array).into_iter().flatten().map(Part::Schema));
    out.extend(schema.get("anyOf").map(Part::Any));
    out.extend(schema.get("oneOf").map(Part::One));
    out
}

fn branches(group: &Json) -> impl Iterator<Item = &Json> {
    group.as_array().into_iter().flatten()
}

fn place_of<T>(thing: &T) -> usize {
    std::ptr::from_ref(thing).addr()
}

impl<'s> Check<'s> {
    pub(super) fn misfit(
        &mut self,
        path: &str,
        rule: &'static str,
        finding: impl Into<String>,
        remedy: impl Into<String>,
    ) -> bool {
        if self.found.len() < MOST {
            self.found.push(Misfit { path: path.to_owned(), rule, finding: finding.into(), remedy: remedy.into() });
        }
        false
    }

    /// Tries without telling.
    fn would(&mut self, work: impl FnOnce(&mut Self) -> bool) -> bool {
        let told = self.found.len();
        let fits = work(self);
        self.found.truncate(told);
        fits
    }

    /// Whether both are the same text that means the same.
    pub(super) fn same(&self, reader: &Json, writer: &Json) -> bool {
        reader == writer && (self.one_root || !refers(reader))
    }

    pub(super) fn accepts(&mut self, reader: &'s Json, written: Written<'s>, path: &str, depth: usize) -> bool {
        let reader = self.reader.resolve(reader);
        let written = match written {
            Written::Schema(schema) => match self.writer.resolve(schema) {
                Json::Bool(false) => return true,
                Json::Bool(true) => Written::Own(nothing_said()),
                schema if self.same(reader, schema) => return true,
                schema => Written::Schema(schema),
            },
            own @ Written::Own(_) => own,
        };
        let reader = match reader {
            Json::Object(reader) => reader,
            Json::Bool(false) => {
                return self.misfit(
                    path,
                    "false: nothing is let through",
                    "data may stand here, and nothing is let through",
                    "let it through, or stop writing it first",
                );
            }
            _ => return true,
        };
        if depth > DEEPEST || self.left == 0 {
            return self.misfit(
                path,
                "schemas: both can be compared",
                "the schemas are too entangled to be compared",
                "write them with fewer references and branches",
            );
        }
        let pair = match written {
            Written::Schema(schema) => (place_of(reader), place_of(schema), false),
            Written::Own(own) => (place_of(reader), place_of(own), true),
        };
        // within itself: as good as the rest of it
        if !self.pairs.insert(pair) {
            return true;
        }
        let mut all = true;
        for part in parts(self.reader, reader) {
            all &= self.part_accepts(part, written, path, depth + 1);
        }
        if !all {
            // what was taken to fit within this pair did so only if this pair does
            self.pairs.clear();
        }
        all
    }

    /// Whether one condition of the reader's holds for all that is written: it does if it follows from one of the writer's.
    fn part_accepts(&mut self, part: Part<'s>, written: Written<'s>, path: &str, depth: usize) -> bool {
        let object = match written {
            Written::Own(own) => return self.follows(part, Part::Own(own), path, depth),
            Written::Schema(Json::Object(object)) => object,
            Written::Schema(_) => return true,
        };
        let conditions = parts(self.writer, object);
        if conditions.iter().any(|&condition| self.would(|c| c.follows(part, condition, path, depth))) {
            return true;
        }
        // the condition that says most is told of
        let own = conditions
            .iter()
            .find(|c| matches!(c, Part::Own(own) if own.keys().any(|k| !is_annotation(k) && !is_combining(k))));
        let told = own.or_else(|| conditions.get(1)).or_else(|| conditions.first());
        if let Some(&told) = told {
            self.follows(part, told, path, depth);
        }
        false
    }

    fn follows(&mut self, part: Part<'s>, condition: Part<'s>, path: &str, depth: usize) -> bool {
        self.left = self.left.saturating_sub(1);
        match (part, condition) {
            (Part::Any(a), Part::Any(b)) | (Part::One(a), Part::One(b)) if self.same(a, b) => true,
            (_, Part::Schema(schema)) => match self.writer.resolve(schema) {
                Json::Bool(false) => true,
                Json::Bool(true) => self.part_accepts(part, Written::Own(nothing_said()), path, depth + 1),
                schema if depth <= DEEPEST && self.left > 0 => {
                    self.part_accepts(part, Written::Schema(schema), path, depth + 1)
                }
                _ => self.misfit(
                    path,
                    "schemas: both can be compared",
                    "the schemas are too entangled to be compared",
                    "write them with fewer references and branches",
                ),
            },
            (_, Part::Any(group) | Part::One(group)) => {
                let mut all = true;
                for branch in branches(group) {
                    all &= self.follows(part, Part::Schema(branch), path, depth + 1);
                }
                all
            }
            (Part::Own(reader), Part::Own(writer)) => self.keywords(reader, writer, path, depth),
            (Part::Schema(schema), Part::Own(writer)) => self.accepts(schema, Written::Own(writer), path, depth + 1),
            (Part::Any(group), Part::Own(writer)) => {
                branches(group).any(|b| self.would(|c| c.accepts(b, Written::Own(writer), path, depth + 1)))
                    || self.misfit(
                        path,
                        "anyOf: some branch lets it through",
                        "data fits none of the branches for certain",
                        "keep a branch that lets earlier data through",
                    )
            }
            (Part::One(group), Part::Own(writer)) => {
                let fits = branches(group).enumerate().any(|(place, branch)| {
                    let others = branches(group).enumerate().filter(|(other, _)| *other != place);
                    self.would(|c| c.accepts(branch, Written::Own(writer), path, depth + 1))
                        && others.into_iter().all(|(_, other)| apart(self.reader.resolve(other), writer))
                });
                fits || self.misfit(
                    path,
                    "oneOf: exactly one branch lets it through",
                    "data fits none of the branches for certain, or more than one",
                    "keep a branch that lets earlier data through, and keep the others apart from it by their types",
                )
            }
        }
    }
}
