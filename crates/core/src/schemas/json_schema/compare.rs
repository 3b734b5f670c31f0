//! Whether every value that one schema lets through is let through by another.
//!
//! What may be written is taken apart into cases, each a list of keywords that hold together ([`Case`]). Each condition of the reader's
//! must follow from all keywords of each case.
//!
//! What a schema leaves open by saying nothing of further properties counts as not written: by the letter, a new optional
//! property could never be added to such a schema. What it opens on purpose (`additionalProperties` as true or a schema)
//! counts as written. Where it cannot be known whether a condition follows, that is said, and nothing is promised.

use std::cell::Cell;
use std::collections::HashSet;

use serde_json::{Map, Value as Json};

use super::JsonSchema;
use super::alike::{MOST_ALIKE, alike};
use super::cases::{Case, branches, cases, narrowed, only_not};
use super::holding::Holding;
use super::keywords::{equal, required, type_of, types};
use super::likeness;
use super::resolving::{DEEPEST, Side, refers};
use super::witness::witness;
use crate::schemas::Misfit;

/// All that keeps a reader's schema from letting through whatever a writer's does, or from knowing that it does.
#[must_use]
pub fn misfits(reader: &JsonSchema, writer: &JsonSchema) -> Vec<Misfit> {
    let (reader_side, writer_side) = (Side::new(&reader.root), Side::new(&writer.root));
    let mut check = Check {
        reader: &reader_side,
        writer: &writer_side,
        one_root: reader.root == writer.root,
        by_the_letter: false,
        pairs: HashSet::new(),
        left: Cell::new(MOST_STEPS),
        found: Vec::new(),
    };
    stacker::grow(STACK, || check.accepts(&reader.root, &[&writer.root], "$", 0));
    let mut found = check.found;
    // where nothing is known to be wrong, a value may show that something is
    if !found.is_empty()
        && found.iter().all(|misfit| misfit.unknown)
        && let Some(value) = witness(reader, writer)
    {
        let (finding, remedy) = (format!("data may be {}, which does not fit", short(&value)), "let it through".to_owned());
        found.insert(0, Misfit { path: "$".to_owned(), rule: "what was written fits", finding, remedy, unknown: false });
    }
    likeness::forget();
    found
}

fn short(value: &Json) -> String {
    let text = value.to_string();
    match text.char_indices().nth(120) {
        Some((end, _)) => format!("{}…", &text[..end]),
        None => text,
    }
}

/// Steps at most: a comparison of two parts is one, and what takes longer is several.
const MOST_STEPS: usize = 50_000;
/// Misfits told at most.
const MOST: usize = 200;
/// Stack for schemas that lead far down, in bytes.
const STACK: usize = 64 << 20;

pub(super) const CANNOT: &str = "what cannot be compared is the same on both sides";

pub(super) struct Check<'c, 's> {
    pub(super) reader: &'c Side<'s>,
    pub(super) writer: &'c Side<'s>,
    /// Whether references mean the same on both sides.
    one_root: bool,
    /// Whether what is left open by saying nothing counts as written after all.
    pub(super) by_the_letter: bool,
    /// Pairs that are being compared or were found to fit, by their places in memory.
    pairs: HashSet<(usize, Vec<usize>)>,
    /// Steps left: schemas can be written for which there is no end of them.
    left: Cell<usize>,
    found: Vec<Misfit>,
}

/// Keywords and properties of a schema: what looking at it takes goes by them.
fn size(map: &Map<String, Json>) -> usize {
    map.len() + map.get("properties").and_then(Json::as_object).map_or(0, Map::len)
}

fn place_of<T>(thing: &T) -> usize {
    std::ptr::from_ref(thing).addr()
}

impl<'c, 's> Check<'c, 's> {
    pub(super) fn misfit(
        &mut self,
        path: &str,
        rule: &'static str,
        finding: impl Into<String>,
        remedy: impl Into<String>,
    ) -> bool {
        self.tell(path, rule, finding.into(), remedy.into(), false)
    }

    /// What cannot be known.
    pub(super) fn unsure(&mut self, path: &str, finding: impl Into<String>, remedy: impl Into<String>) -> bool {
        self.tell(path, CANNOT, finding.into(), remedy.into(), true)
    }

    fn tell(&mut self, path: &str, rule: &'static str, finding: String, remedy: String, unknown: bool) -> bool {
        if self.found.len() < MOST {
            self.found.push(Misfit { path: path.to_owned(), rule, finding, remedy, unknown });
        }
        false
    }

    fn entangled(&mut self, path: &str) -> bool {
        let remedy = "write them with fewer references and branches";
        self.unsure(path, "the schemas are too entangled to be compared", remedy)
    }

    /// Tries without telling.
    pub(super) fn would(&mut self, work: impl FnOnce(&mut Self) -> bool) -> bool {
        let told = self.found.len();
        let fits = work(self);
        self.found.truncate(told);
        fits
    }

    /// Whether both are the same text that means the same, references followed.
    pub(super) fn same(&self, reader: &'s Json, writer: &'s Json) -> bool {
        if self.reader.is_draft_7 != self.writer.is_draft_7 {
            return false;
        }
        reader == writer && (self.one_root || !refers(reader)) || {
            let mut left = MOST_ALIKE;
            let alike = alike((self.reader, reader), (self.writer, writer), &mut left);
            self.spend((MOST_ALIKE - left) / 16);
            alike
        }
    }

    fn spend(&self, steps: usize) {
        self.left.set(self.left.get().saturating_sub(steps));
    }

    fn is_over(&self) -> bool {
        self.left.get() == 0
    }

    /// Whether all that a reader's schema lets through, a writer's does: the other way round, and by the letter, since what is said
    /// of neither may be written all the same.
    fn within(&mut self, reader: &'s Json, writer: &'s Json) -> bool {
        if self.same(reader, writer) {
            return true;
        }
        let mut other = Check {
            reader: self.writer,
            writer: self.reader,
            one_root: self.one_root,
            by_the_letter: true,
            pairs: HashSet::new(),
            left: Cell::new(self.left.get() / 4),
            found: Vec::new(),
        };
        let before = other.left.get();
        let within = other.accepts(writer, &[reader], "$", 0);
        self.spend(before - other.left.get() + 1);
        within
    }

    /// Whether all that several schemas together let through is let through by a reader's.
    pub(super) fn accepts(&mut self, reader: &'s Json, written: &[&'s Json], path: &str, depth: usize) -> bool {
        let reader = self.reader.resolve(reader);
        if *reader == Json::Bool(true) || reader.as_object().is_some_and(Map::is_empty) {
            return true;
        }
        let written: Vec<&'s Json> = written.iter().map(|schema| self.writer.resolve(schema)).collect();
        if written.iter().any(|schema| **schema == Json::Bool(false) || self.same(reader, schema)) {
            return true;
        }
        if depth > DEEPEST || self.is_over() {
            return self.entangled(path);
        }
        self.spend(1);
        let mut places: Vec<usize> = written.iter().map(|schema| place_of(*schema)).collect();
        places.sort_unstable();
        places.dedup();
        // within itself: as good as the rest of it
        if !self.pairs.insert((place_of(reader), places)) {
            return true;
        }
        let mut all = true;
        match cases(self.writer, &written) {
            Ok(cases) => {
                self.spend(cases.iter().map(|case| case.maps.len()).sum::<usize>() / 8);
                for case in &cases {
                    all &= self.case(reader, case, path, depth + 1);
                }
            }
            Err(finding) => all = self.unsure(path, finding, "write it with references and branches that can be followed"),
        }
        if !all {
            // what was taken to fit within this pair did so only if this pair does
            self.pairs.clear();
        }
        all
    }

    pub(super) fn case(&mut self, reader: &'s Json, case: &Case<'s>, path: &str, depth: usize) -> bool {
        let reader = self.reader.resolve(reader);
        let object = match reader {
            Json::Bool(true) => return true,
            Json::Bool(false) => {
                return self.misfit(
                    path,
                    "false: nothing is let through",
                    "data may stand here, and nothing is let through",
                    "let it through, or stop writing it first",
                );
            }
            Json::Object(object) => object,
            _ => return true,
        };
        if case.maps.iter().any(|map| std::ptr::eq(*map, object) || (*map == object && self.same_map(object))) {
            return true;
        }
        if depth > DEEPEST || self.is_over() {
            return self.entangled(path);
        }
        self.spend(1 + (size(object) + case.maps.iter().map(|map| size(map)).sum::<usize>()) / 32);
        if let Some(values) = case.listed() {
            return self.values(reader, case, &values, path);
        }
        let mut all = true;
        if object.contains_key("$ref") {
            let Some(target) = self.reader.target(object) else {
                let remedy = "refer to what stands in the schema or among its references";
                return self.unsure(path, "the schema refers to what is not found here", remedy);
            };
            all &= self.case(target, case, path, depth + 1);
            if self.reader.is_draft_7 {
                return all;
            }
        }
        all &= self.keywords(object, case, path, depth);
        for schema in object.get("allOf").into_iter().flat_map(branches) {
            all &= self.case(schema, case, path, depth + 1);
        }
        if let Some(group) = object.get("anyOf") {
            all &= self.any(group, case, path, depth);
        }
        if let Some(group) = object.get("oneOf") {
            all &= self.one(group, case, path, depth);
        }
        if let Some(denied) = object.get("not") {
            all &= self.not(denied, case, path);
        }
        if let Some(condition) = object.get("if") {
            all &= self.chosen(condition, object, case, path, depth);
        }
        all
    }

    fn same_map(&self, object: &Map<String, Json>) -> bool {
        let refers = object.iter().any(|(key, value)| key == "$ref" || key == "$dynamicRef" || refers(value));
        (self.one_root || !refers) && self.reader.is_draft_7 == self.writer.is_draft_7
    }

    /// Whether a case has the same keyword, which then holds.
    pub(super) fn has_same(&self, case: &Case<'s>, key: &str, value: &'s Json) -> bool {
        case.maps.iter().any(|map| map.get(key).is_some_and(|written| self.same(value, written)))
    }

    fn any(&mut self, group: &'s Json, case: &Case<'s>, path: &str, depth: usize) -> bool {
        if self.has_same(case, "anyOf", group) || branches(group).any(|b| self.would(|c| c.case(b, case, path, depth + 1))) {
            return true;
        }
        if self.is_over() {
            return self.entangled(path);
        }
        // each type may find a branch of its own
        let types = case.types();
        if types.len() > 1 {
            let narrowed: Vec<Case<'s>> = types.into_iter().filter_map(|ty| narrowed(case, ty)).collect();
            if narrowed.iter().all(|one| branches(group).any(|b| self.would(|c| c.case(b, one, path, depth + 1)))) {
                return true;
            }
        }
        let near: Vec<&'s Json> = branches(group).filter(|branch| !self.apart(branch, case)).collect();
        match near[..] {
            [] => {
                let remedy = "keep a branch that lets earlier data through";
                return self.misfit(path, "anyOf: some branch lets it through", "data fits none of the branches", remedy);
            }
            // the others are out of the question
            [only] => return self.case(only, case, path, depth + 1),
            _ => {}
        }
        let remedy = "keep a branch that lets all earlier data through";
        self.unsure(path, "no branch of \"anyOf\" lets all of the data through for certain", remedy)
    }

    fn one(&mut self, group: &'s Json, case: &Case<'s>, path: &str, depth: usize) -> bool {
        if self.has_same(case, "oneOf", group) {
            return true;
        }
        let fits = |check: &mut Self, case: &Case<'s>| {
            branches(group).enumerate().any(|(place, branch)| {
                let others = branches(group).enumerate().filter(|(other, _)| *other != place).map(|(_, other)| other);
                check.would(|c| c.case(branch, case, path, depth + 1))
                    && others.into_iter().all(|other| check.apart(other, case))
            })
        };
        if fits(self, case) {
            return true;
        }
        if self.is_over() {
            return self.entangled(path);
        }
        let types = case.types();
        if types.len() > 1 && types.into_iter().filter_map(|ty| narrowed(case, ty)).all(|one| fits(self, &one)) {
            return true;
        }
        let remedy = "keep a branch that lets earlier data through, and keep the others apart from it by their types";
        let near: Vec<&'s Json> = branches(group).filter(|branch| !self.apart(branch, case)).collect();
        match near[..] {
            [] => {
                return self.misfit(
                    path,
                    "oneOf: exactly one branch lets it through",
                    "data fits none of the branches",
                    remedy,
                );
            }
            [only] => return self.case(only, case, path, depth + 1),
            _ => {}
        }
        let all = branches(group).filter(|b| self.would(|c| c.case(b, case, path, depth + 1))).count();
        if all > 1 {
            return self.misfit(path, "oneOf: exactly one branch lets it through", "data fits more than one branch", remedy);
        }
        self.unsure(path, "that exactly one branch of \"oneOf\" lets the data through is not certain", remedy)
    }

    fn not(&mut self, denied: &'s Json, case: &Case<'s>, path: &str) -> bool {
        if let Some(inner) = only_not(self.reader.resolve(denied)) {
            return self.case(inner, case, path, 0);
        }
        if self.has_same(case, "not", denied) || self.apart(denied, case) {
            return true;
        }
        if self.would(|c| c.case(denied, case, path, 0)) {
            let remedy = "let through what is denied, or stop writing it first";
            return self.misfit(path, "not: what is denied is not let through", "data is what \"not\" denies", remedy);
        }
        self.unsure(path, "whether data is what \"not\" denies cannot be told", "keep \"not\" as it is, or take it out")
    }

    fn chosen(
        &mut self,
        condition: &'s Json,
        object: &'s Map<String, Json>,
        case: &Case<'s>,
        path: &str,
        depth: usize,
    ) -> bool {
        let (then, other) = (object.get("then"), object.get("else"));
        let same = |map: &&&'s Map<String, Json>| {
            map.get("if").is_some_and(|written| self.same(condition, written))
                && [("then", then), ("else", other)]
                    .into_iter()
                    .all(|(key, read)| read.is_none_or(|read| map.get(key).is_some_and(|written| self.same(read, written))))
        };
        if case.maps.iter().find(same).is_some() {
            return true;
        }
        let holds = self.would(|c| c.case(condition, case, path, depth + 1));
        let never = self.apart(condition, case);
        let fits = |check: &mut Self, schema: Option<&'s Json>| {
            schema.is_none_or(|schema| check.would(|c| c.case(schema, case, path, depth + 1)))
        };
        match (holds, never) {
            (true, _) => then.is_none_or(|then| self.case(then, case, path, depth + 1)),
            (_, true) => other.is_none_or(|other| self.case(other, case, path, depth + 1)),
            _ if fits(self, then) && fits(self, other) => true,
            _ => self.unsure(
                path,
                "whether the condition of \"if\" holds cannot be told",
                "keep \"if\" as it is, or take it out",
            ),
        }
    }

    /// Listed values are not compared but checked, one by one.
    fn values(&mut self, reader: &'s Json, case: &Case<'s>, values: &[&'s Json], path: &str) -> bool {
        let without_list = |map: &&'s Map<String, Json>| {
            let said = map.iter().filter(|(key, _)| !matches!(key.as_str(), "enum" | "const"));
            Json::Object(said.map(|(key, value)| (key.clone(), value.clone())).collect())
        };
        let written: Vec<Json> = case.maps.iter().map(without_list).filter(|map| !refers(map)).collect();
        let (of_reader, of_writer) = (Holding::new(self.reader), Holding::new(self.writer));
        let mut all = true;
        for value in values {
            if self.is_over() {
                return self.entangled(path);
            }
            let holds = of_reader.holds(reader, value);
            let fits = holds == Some(true) || written.iter().any(|map| of_writer.holds(map, value) == Some(false));
            self.spend(1 + (of_reader.took() + of_writer.took()) / 64);
            if fits {
                continue;
            }
            all = match holds {
                Some(_) => {
                    let finding = format!("data may be {value}, which does not fit");
                    self.misfit(path, "enum, const: every listed value fits", finding, format!("let {value} through"))
                }
                None => {
                    let remedy = "write what is referred to in its place";
                    self.unsure(path, format!("whether {value} fits cannot be told here"), remedy)
                }
            };
        }
        all
    }

    /// Whether no value of a case fits a reader's schema: by types, or by what is listed, also of a property that both need.
    pub(super) fn apart(&mut self, schema: &'s Json, case: &Case<'s>) -> bool {
        if self.is_over() {
            return false;
        }
        self.spend(1 + case.maps.iter().map(|map| size(map)).sum::<usize>() / 32);
        if case.denied.clone().into_iter().any(|denied| self.within(schema, denied)) {
            return true;
        }
        let other = match self.reader.resolve(schema) {
            Json::Bool(yes) => return !yes,
            Json::Object(other) => other,
            _ => return false,
        };
        if self.reader.is_draft_7 && other.contains_key("$ref") {
            return false;
        }
        if let Some(values) = case.listed() {
            let holding = Holding::new(self.reader);
            return values.iter().all(|value| holding.holds(self.reader.resolve(schema), value) == Some(false));
        }
        if let Some(values) = super::keywords::listed(other) {
            let written = case.maps.iter().map(|map| Json::Object((*map).clone())).filter(|map| !refers(map));
            let written: Vec<Json> = written.collect();
            let holding = Holding::new(self.writer);
            if values.iter().all(|value| written.iter().any(|map| holding.holds(map, value) == Some(false))) {
                return true;
            }
        }
        let number = |ty: &str| if ty == "integer" { "number".to_owned() } else { ty.to_owned() };
        let theirs: Vec<String> = match super::keywords::listed(other) {
            Some(values) => values.into_iter().map(|v| number(type_of(v))).collect(),
            None => types(other).into_iter().map(number).collect(),
        };
        let ours = case.types();
        if !ours.iter().any(|ty| theirs.contains(&number(ty))) {
            return true;
        }
        if ours != ["object"] || theirs != ["object"] {
            return false;
        }
        let needed: Vec<&str> = case.maps.iter().flat_map(|map| required(map)).collect();
        required(other).into_iter().filter(|name| needed.contains(name)).any(|name| {
            let of = |map: &'s Map<String, Json>| super::keywords::listed(map.get("properties")?.get(name)?.as_object()?);
            let Some(theirs) = of(other) else { return false };
            let ours = case.maps.iter().find_map(|map| of(map));
            ours.is_some_and(|ours| !ours.iter().any(|value| theirs.iter().any(|other| equal(value, other))))
        })
    }
}
