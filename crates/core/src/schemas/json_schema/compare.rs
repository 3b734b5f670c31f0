//! Whether every value that one schema lets through is let through by another, keyword by keyword.
//!
//! What a schema leaves open by saying nothing of further properties counts as not written: by the letter, a new optional
//! property could never be added to such a schema. What it opens on purpose (`additionalProperties` as true or a schema)
//! counts as written. Keywords that cannot be compared must be the same on both sides.

use std::collections::HashSet;
use std::sync::OnceLock;

use serde_json::{Map, Value as Json};

use super::JsonSchema;
use crate::schemas::Misfit;

/// All that keeps a reader's schema from letting through whatever a writer's does.
#[must_use]
pub fn misfits(reader: &JsonSchema, writer: &JsonSchema) -> Vec<Misfit> {
    let mut check = Check {
        reader: Side::new(&reader.root),
        writer: Side::new(&writer.root),
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

    fn target(self, reference: &str) -> Option<&'s Json> {
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

fn is_combining(keyword: &str) -> bool {
    matches!(keyword, "allOf" | "anyOf" | "oneOf" | "$ref")
}

/// The values a schema lists, by `enum` or `const`.
fn listed(schema: &Map<String, Json>) -> Option<Vec<&Json>> {
    schema.get("const").map(|one| vec![one]).or_else(|| Some(schema.get("enum")?.as_array()?.iter().collect()))
}

fn type_of(value: &Json) -> &'static str {
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

struct Check<'s> {
    reader: Side<'s>,
    writer: Side<'s>,
    /// Pairs that are being compared or were found to fit, by their places in memory.
    pairs: HashSet<(usize, usize, bool)>,
    /// Comparisons left: schemas can be written for which there is no end of them.
    left: usize,
    found: Vec<Misfit>,
}

/// What a writer may write: all that a schema lets through, or all that its own keywords do, without those that combine others.
#[derive(Clone, Copy)]
enum Written<'s> {
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
    let mut out = vec![Part::Own(schema)];
    out.extend(schema.get("$ref").and_then(Json::as_str).and_then(|r| side.target(r)).map(Part::Schema));
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
    fn misfit(&mut self, path: &str, rule: &'static str, finding: impl Into<String>, remedy: impl Into<String>) -> bool {
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
    fn same(&self, reader: &Json, writer: &Json) -> bool {
        let refers = |schema: &Json| {
            let text = schema.to_string();
            text.contains("$ref\"") || text.contains("$dynamicRef\"")
        };
        reader == writer && (self.reader.root == self.writer.root || !refers(reader))
    }

    fn accepts(&mut self, reader: &'s Json, written: Written<'s>, path: &str, depth: usize) -> bool {
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

    fn keywords(&mut self, reader: &'s Map<String, Json>, writer: &'s Map<String, Json>, path: &str, depth: usize) -> bool {
        let mut all = self.kinds(reader, writer, path);
        let written = listed(writer);
        let may_be = |ty: &str| match &written {
            Some(values) => values.iter().any(|v| type_of(v) == ty || (ty == "number" && type_of(v) == "integer")),
            None => types(writer).contains(&ty) || (ty == "number" && types(writer).contains(&"integer")),
        };
        let takes = |ty: &str| types(reader).contains(&ty) || (ty == "number" && types(reader).contains(&"integer"));
        let both = |ty: &str| may_be(ty) && takes(ty);
        if both("number") {
            all &= self.numbers(reader, writer, written.as_deref(), path);
        }
        if both("string") {
            all &= self.texts(reader, writer, written.as_deref(), path);
        }
        if both("array") && written.is_none() {
            all &= self.lists(reader, writer, path, depth);
        }
        if both("object") && written.is_none() {
            all &= self.objects(reader, writer, path, depth);
        }
        for key in [
            "not",
            "if",
            "then",
            "else",
            "dependentSchemas",
            "dependentRequired",
            "dependencies",
            "contains",
            "minContains",
            "maxContains",
            "propertyNames",
            "unevaluatedProperties",
            "unevaluatedItems",
            "$dynamicRef",
        ] {
            if reader.contains_key(key) && reader.get(key) != writer.get(key) {
                all = self.misfit(
                    path,
                    "keywords that cannot be compared are the same on both sides",
                    format!("\"{key}\" is not the same on both sides"),
                    format!("keep \"{key}\" as it is"),
                );
            }
        }
        all
    }

    fn kinds(&mut self, reader: &'s Map<String, Json>, writer: &'s Map<String, Json>, path: &str) -> bool {
        let (read, written) = (types(reader), types(writer));
        let values = listed(writer);
        let lacking: Vec<&str> = match &values {
            Some(values) => values
                .iter()
                .map(|v| type_of(v))
                .filter(|t| !(read.contains(t) || (*t == "integer" && read.contains(&"number"))))
                .collect(),
            None => written
                .iter()
                .copied()
                .filter(|t| !(read.contains(t) || (*t == "integer" && read.contains(&"number"))))
                .collect(),
        };
        if let Some(first) = lacking.first() {
            let finding = format!("data may be {}, {} is expected", lacking.join(" or "), read.join(" or "));
            return self.misfit(
                path,
                "type: the value's type is among the listed",
                finding,
                format!("keep {first} among the types"),
            );
        }
        let Some(known) = listed(reader) else { return true };
        match values {
            Some(values) => {
                let unknown: Vec<String> = values.iter().filter(|v| !known.contains(v)).map(ToString::to_string).collect();
                if unknown.is_empty() {
                    return true;
                }
                let finding = format!("data may be {}, which is not listed", unknown.join(", "));
                self.misfit(
                    path,
                    "enum, const: the value is among the listed",
                    finding,
                    format!("keep {} in the list", unknown.join(", ")),
                )
            }
            None => self.misfit(
                path,
                "enum, const: the value is among the listed",
                "data may be a value that is not listed",
                "leave out the list, or list the values earlier",
            ),
        }
    }

    fn numbers(
        &mut self,
        reader: &Map<String, Json>,
        writer: &Map<String, Json>,
        values: Option<&[&Json]>,
        path: &str,
    ) -> bool {
        let number = |schema: &Map<String, Json>, key: &str| schema.get(key).and_then(Json::as_f64);
        // the least a bound lets through, and whether it itself is let through
        let low = |s: &Map<String, Json>| match (number(s, "minimum"), number(s, "exclusiveMinimum")) {
            (Some(a), Some(b)) => Some(if b >= a { (b, false) } else { (a, true) }),
            (Some(a), None) => Some((a, true)),
            (None, b) => b.map(|b| (b, false)),
        };
        let high = |s: &Map<String, Json>| match (number(s, "maximum"), number(s, "exclusiveMaximum")) {
            (Some(a), Some(b)) => Some(if b <= a { (b, false) } else { (a, true) }),
            (Some(a), None) => Some((a, true)),
            (None, b) => b.map(|b| (b, false)),
        };
        let numbers: Option<Vec<f64>> = values.map(|v| v.iter().filter_map(|v| v.as_f64()).collect());
        let mut all = true;
        if let Some((bound, itself)) = low(reader) {
            let fits = match &numbers {
                Some(numbers) => numbers.iter().all(|n| *n > bound || (itself && *n >= bound)),
                None => low(writer).is_some_and(|(b, i)| b > bound || (b >= bound && (itself || !i))),
            };
            if !fits {
                let finding = match low(writer) {
                    Some((b, _)) => format!("data may be as low as {b}, at least {bound} is expected"),
                    None => format!("data may be below {bound}"),
                };
                all = self.misfit(path, "minimum: the value is not below it", finding, "leave the lower bound as it was");
            }
        }
        if let Some((bound, itself)) = high(reader) {
            let fits = match &numbers {
                Some(numbers) => numbers.iter().all(|n| *n < bound || (itself && *n <= bound)),
                None => high(writer).is_some_and(|(b, i)| b < bound || (b <= bound && (itself || !i))),
            };
            if !fits {
                let finding = match high(writer) {
                    Some((b, _)) => format!("data may be as high as {b}, at most {bound} is expected"),
                    None => format!("data may be above {bound}"),
                };
                all = self.misfit(path, "maximum: the value is not above it", finding, "leave the upper bound as it was");
            }
        }
        if let Some(step) = number(reader, "multipleOf") {
            let fits = match &numbers {
                Some(numbers) => numbers.iter().all(|n| (n / step).fract() == 0.0),
                None => number(writer, "multipleOf").is_some_and(|w| (w / step).fract() == 0.0),
            };
            if !fits {
                all = self.misfit(
                    path,
                    "multipleOf: the value is a multiple of it",
                    format!("data may be no multiple of {step}"),
                    "leave \"multipleOf\" as it was",
                );
            }
        }
        all
    }

    fn texts(
        &mut self,
        reader: &Map<String, Json>,
        writer: &Map<String, Json>,
        values: Option<&[&Json]>,
        path: &str,
    ) -> bool {
        let length = |schema: &Map<String, Json>, key: &str| schema.get(key).and_then(Json::as_u64);
        let lengths: Option<Vec<u64>> =
            values.map(|v| v.iter().filter_map(|v| v.as_str()).map(|t| t.chars().count() as u64).collect());
        let mut all = true;
        if let Some(least) = length(reader, "minLength").filter(|n| *n > 0) {
            let fits = lengths
                .as_ref()
                .map_or_else(|| length(writer, "minLength").is_some_and(|n| n >= least), |l| l.iter().all(|n| *n >= least));
            if !fits {
                all = self.misfit(
                    path,
                    "minLength: the text is not shorter",
                    format!("data may be shorter than {least} characters"),
                    "leave the least length as it was",
                );
            }
        }
        if let Some(most) = length(reader, "maxLength") {
            let fits = lengths
                .as_ref()
                .map_or_else(|| length(writer, "maxLength").is_some_and(|n| n <= most), |l| l.iter().all(|n| *n <= most));
            if !fits {
                all = self.misfit(
                    path,
                    "maxLength: the text is not longer",
                    format!("data may be longer than {most} characters"),
                    "leave the greatest length as it was",
                );
            }
        }
        if let Some(pattern) = reader.get("pattern").filter(|p| values.is_none() && writer.get("pattern") != Some(p)) {
            all = self.misfit(
                path,
                "pattern: the text matches it",
                format!("data may not match {pattern}"),
                "leave the pattern as it was, or take it out",
            );
        }
        all
    }

    fn lists(&mut self, reader: &'s Map<String, Json>, writer: &'s Map<String, Json>, path: &str, depth: usize) -> bool {
        let count = |schema: &Map<String, Json>, key: &str| schema.get(key).and_then(Json::as_u64);
        let mut all = true;
        if let Some(least) = count(reader, "minItems").filter(|n| *n > 0 && count(writer, "minItems").is_none_or(|w| w < *n))
        {
            all = self.misfit(
                path,
                "minItems: the list is not shorter",
                format!("data may have fewer than {least} items"),
                "leave the least number as it was",
            );
        }
        if let Some(most) = count(reader, "maxItems").filter(|n| count(writer, "maxItems").is_none_or(|w| w > *n)) {
            all = self.misfit(
                path,
                "maxItems: the list is not longer",
                format!("data may have more than {most} items"),
                "leave the greatest number as it was",
            );
        }
        if reader.get("uniqueItems") == Some(&Json::Bool(true)) && writer.get("uniqueItems") != Some(&Json::Bool(true)) {
            all = self.misfit(
                path,
                "uniqueItems: no two items are the same",
                "data may have an item twice",
                "leave out \"uniqueItems\"",
            );
        }
        // the items at the front have schemas of their own, the rest have one
        let (front, rest) = items(reader);
        let (written_front, written_rest) = items(writer);
        for place in 0..front.len().max(written_front.len()) {
            let read = front.get(place).or(rest.as_ref()).copied();
            let written = written_front.get(place).or(written_rest.as_ref()).copied();
            if let Some(read) = read {
                all &= self.accepts(
                    read,
                    Written::Schema(written.unwrap_or(&Json::Bool(true))),
                    &format!("{path}[{place}]"),
                    depth + 1,
                );
            }
        }
        if let Some(read) = rest
            && count(writer, "maxItems").is_none_or(|most| most > written_front.len() as u64)
        {
            all &= self.accepts(
                read,
                Written::Schema(written_rest.unwrap_or(&Json::Bool(true))),
                &format!("{path}[]"),
                depth + 1,
            );
        }
        all
    }

    fn objects(&mut self, reader: &'s Map<String, Json>, writer: &'s Map<String, Json>, path: &str, depth: usize) -> bool {
        let count = |schema: &Map<String, Json>, key: &str| schema.get(key).and_then(Json::as_u64);
        let mut all = true;
        let required = required(writer);
        for name in self::required(reader) {
            if !required.contains(&name) {
                let at = format!("{path}.{name}");
                all = self.misfit(
                    &at,
                    "required: the property is there",
                    format!("data may be without {name}, which is required"),
                    format!("leave {name} out of \"required\""),
                );
            }
        }
        if let Some(least) = count(reader, "minProperties").filter(|n| {
            usize::try_from(*n).unwrap_or(usize::MAX) > required.len()
                && count(writer, "minProperties").is_none_or(|w| w < *n)
        }) {
            all = self.misfit(
                path,
                "minProperties: there are not fewer",
                format!("data may have fewer than {least} properties"),
                "leave the least number as it was",
            );
        }
        if let Some(most) = count(reader, "maxProperties").filter(|n| count(writer, "maxProperties").is_none_or(|w| w > *n))
        {
            all = self.misfit(
                path,
                "maxProperties: there are not more",
                format!("data may have more than {most} properties"),
                "leave the greatest number as it was",
            );
        }
        let none = Map::new();
        let props = |schema: &'s Map<String, Json>| schema.get("properties").and_then(Json::as_object);
        let mut names: Vec<&String> = props(writer).into_iter().flat_map(Map::keys).collect();
        names.extend(
            props(reader).into_iter().flat_map(Map::keys).filter(|n| !props(writer).unwrap_or(&none).contains_key(*n)),
        );
        for name in names {
            // nothing is written under a name that is neither listed nor opened on purpose
            let Some(written) = property(writer, name) else { continue };
            let at = format!("{path}.{name}");
            match property(reader, name) {
                None => {}
                Some(Json::Bool(false)) if *written != Json::Bool(false) => {
                    all = self.misfit(
                        &at,
                        "additionalProperties: only listed properties are let through",
                        format!("data may have {name}, which is not let through"),
                        format!("keep {name} among the properties"),
                    );
                }
                Some(read) => all &= self.accepts(read, Written::Schema(written), &at, depth + 1),
            }
        }
        if let (Some(read), Some(written)) = (reader.get("additionalProperties"), writer.get("additionalProperties")) {
            all &= self.accepts(read, Written::Schema(written), &format!("{path}.*"), depth + 1);
        }
        if let Some(Json::Object(patterns)) = reader.get("patternProperties") {
            for (pattern, read) in patterns {
                let written = writer
                    .get("patternProperties")
                    .and_then(|p| p.get(pattern))
                    .or_else(|| writer.get("additionalProperties"));
                if let Some(written) = written {
                    all &= self.accepts(read, Written::Schema(written), &format!("{path}./{pattern}/"), depth + 1);
                }
            }
        }
        all
    }
}

pub(super) fn required(schema: &Map<String, Json>) -> Vec<&str> {
    schema.get("required").and_then(Json::as_array).into_iter().flatten().filter_map(Json::as_str).collect()
}

/// What a schema says of a property: its own schema, else that of names like it, else that of further ones.
fn property<'s>(schema: &'s Map<String, Json>, name: &str) -> Option<&'s Json> {
    if let Some(own) = schema.get("properties").and_then(|p| p.get(name)) {
        return Some(own);
    }
    let matching = schema.get("patternProperties").and_then(Json::as_object).into_iter().flatten();
    let mut matching = matching.filter(|(pattern, _)| regex::Regex::new(pattern).is_ok_and(|p| p.is_match(name)));
    matching.next().map(|(_, schema)| schema).or_else(|| schema.get("additionalProperties"))
}

/// The schemas of the items at the front, and that of the rest.
fn items(schema: &Map<String, Json>) -> (Vec<&Json>, Option<&Json>) {
    match (schema.get("prefixItems"), schema.get("items")) {
        (Some(Json::Array(front)), rest) => (front.iter().collect(), rest),
        (_, Some(Json::Array(front))) => (front.iter().collect(), schema.get("additionalItems")),
        (_, rest) => (Vec::new(), rest),
    }
}
