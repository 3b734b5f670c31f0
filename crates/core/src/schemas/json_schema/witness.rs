//! A value that shows that one schema lets through what another does not: tried out, where comparing cannot tell.

use std::cell::Cell;
use std::collections::HashSet;

use serde_json::{Map, Value as Json};

use super::JsonSchema;
use super::keywords::{items, listed, patterns, required, types};
use super::likeness::is_like;
use super::resolving::Side;

/// Values of one part that are tried.
const OF_A_PART: usize = 120;
/// Values that are tried in all.
const MOST: usize = 6_000;
/// Values that are tried by a schema whose steps are counted, and steps for each: one of them may take long.
const MOST_COUNTED: usize = 300;
const STEPS_OF_A_VALUE: u64 = 10_000;
/// Parts that all values are held against by a large schema, and values that are tried even so.
const MOST_PARTS: u64 = 5_000_000;
const FEWEST: usize = 20;
/// Parts of values that are made in all.
const MOST_MADE: usize = 1_000_000;
/// Members of an object that are left out and put in one by one, beside those that it needs.
const VARIED: usize = 24;
/// Deepest way down.
const DEEPEST: usize = 6;
/// Longest list and text that is made.
const LONGEST: usize = 12;

/// A value that a writer's schema lets through and a reader's does not, if one is found.
pub(super) fn witness(reader: &JsonSchema, writer: &JsonSchema) -> Option<Json> {
    let (read, written) = (Side::new(&reader.root), Side::new(&writer.root));
    // what the reader speaks of is what it may refuse
    let mut tried = Trying::new(&written).values(&writer.root, 0);
    let of_reader = Trying::new(&read).values(&reader.root, 0);
    let merged: Vec<Json> =
        tried.iter().take(OF_A_PART).flat_map(|a| of_reader.iter().filter_map(|b| merged(a, b))).collect();
    tried.extend(of_reader);
    tried.extend(merged);
    let mut seen = HashSet::new();
    let known = Names::of(&writer.root);
    let holds = |schema: &JsonSchema, value: &Json| schema.holds_within(value, STEPS_OF_A_VALUE);
    let fits =
        |value: &Json| known.describe(value) && holds(writer, value) == Some(true) && holds(reader, value) == Some(false);
    let size = reader.unfolded.size.max(writer.unfolded.size).max(1);
    let by_size = usize::try_from(MOST_PARTS / size).unwrap_or(MOST).clamp(FEWEST, MOST);
    let most = if reader.unfolded.is_counted() || writer.unfolded.is_counted() { MOST_COUNTED } else { by_size };
    tried.into_iter().filter(|value| seen.insert(value.to_string())).take(most).find(fits)
}

/// The names that a schema speaks of: what it leaves open by saying nothing is not written.
#[derive(Default)]
struct Names {
    named: HashSet<String>,
    open: bool,
}

impl Names {
    fn of(schema: &Json) -> Self {
        let mut names = Self::default();
        names.gather(schema);
        names
    }

    fn gather(&mut self, schema: &Json) {
        match schema {
            Json::Object(object) => {
                self.named.extend(required(object).into_iter().map(str::to_owned));
                if let Some(Json::Object(properties)) = object.get("properties") {
                    self.named.extend(properties.keys().cloned());
                }
                let more = ["additionalProperties", "unevaluatedProperties"].into_iter().filter_map(|key| object.get(key));
                self.open |= object.contains_key("patternProperties")
                    || object.contains_key("enum")
                    || object.contains_key("const")
                    || more.into_iter().any(|more| *more != Json::Bool(false));
                object.values().for_each(|inner| self.gather(inner));
            }
            Json::Array(list) => list.iter().for_each(|inner| self.gather(inner)),
            _ => {}
        }
    }

    fn describe(&self, value: &Json) -> bool {
        match value {
            Json::Object(members) => {
                members.iter().all(|(name, value)| (self.open || self.named.contains(name)) && self.describe(value))
            }
            Json::Array(list) => list.iter().all(|item| self.describe(item)),
            _ => true,
        }
    }
}

/// Two objects as one, the second over the first.
fn merged(a: &Json, b: &Json) -> Option<Json> {
    let (Json::Object(a), Json::Object(b)) = (a, b) else { return None };
    let mut both = a.clone();
    both.extend(b.iter().map(|(name, value)| (name.clone(), value.clone())));
    Some(both.into())
}

struct Trying<'c, 's> {
    side: &'c Side<'s>,
    left: Cell<usize>,
}

/// How many parts a value has.
fn weight(value: &Json) -> usize {
    match value {
        Json::Array(items) => 1 + items.iter().map(weight).sum::<usize>(),
        Json::Object(members) => 1 + members.values().map(weight).sum::<usize>(),
        _ => 1,
    }
}

fn thinned(mut values: Vec<Json>) -> Vec<Json> {
    let mut seen = HashSet::new();
    values.retain(|value| seen.insert(value.to_string()));
    if values.len() > OF_A_PART {
        // some of every sort
        let step = values.len().div_ceil(OF_A_PART);
        values = values.into_iter().step_by(step).collect();
    }
    values
}

impl<'c, 's> Trying<'c, 's> {
    fn new(side: &'c Side<'s>) -> Self {
        Self { side, left: Cell::new(MOST_MADE) }
    }

    fn spend(&self, work: usize) {
        self.left.set(self.left.get().saturating_sub(work));
    }

    /// Values that a schema may let through, and some near it.
    fn values(&self, schema: &Json, depth: usize) -> Vec<Json> {
        let any = || -> Vec<Json> {
            let texts = ["", "x", "xy"].map(Json::from);
            let others = [Json::Null, true.into(), 0.into(), 2.into(), 1.5.into(), Json::Array(vec![]), Map::new().into()];
            others.into_iter().chain(texts).collect()
        };
        let Json::Object(object) = schema else { return any() };
        if depth > DEEPEST || self.left.get() == 0 {
            return any();
        }
        self.spend(1);
        let mut out: Vec<Json> = listed(object).into_iter().flatten().cloned().collect();
        if out.is_empty() {
            for ty in types(object) {
                match ty {
                    "null" => out.push(Json::Null),
                    "boolean" => out.extend([true, false].map(Json::from)),
                    "integer" | "number" => out.extend(numbers(object)),
                    "string" => out.extend(texts(object)),
                    "array" => out.extend(self.lists(object, depth)),
                    _ => out.extend(self.objects(object, depth)),
                }
            }
        }
        let mut inner: Vec<&Json> = object.get("$ref").and_then(|_| self.side.target(object)).into_iter().collect();
        for key in ["allOf", "anyOf", "oneOf"] {
            inner.extend(object.get(key).and_then(Json::as_array).into_iter().flatten());
        }
        inner.extend(["if", "then", "else", "not"].into_iter().filter_map(|key| object.get(key)));
        let named = ["dependentSchemas", "dependencies"].into_iter().filter_map(|key| object.get(key)?.as_object());
        inner.extend(named.flat_map(Map::values).filter(|schema| !schema.is_array()));
        for schema in inner {
            let more = self.values(schema, depth + 1);
            let both: Vec<Json> =
                out.iter().take(6).flat_map(|a| more.iter().take(6).filter_map(|b| merged(a, b))).collect();
            self.spend(both.iter().chain(&more).map(weight).sum());
            out.extend(more);
            out.extend(both);
            if self.left.get() == 0 {
                break;
            }
        }
        self.spend(out.iter().map(weight).sum());
        thinned(out)
    }

    fn lists(&self, object: &Map<String, Json>, depth: usize) -> Vec<Json> {
        let (front, rest) = items(object, self.side.is_draft_7);
        let least = object.get("minItems").and_then(Json::as_u64).and_then(|n| usize::try_from(n).ok()).unwrap_or(0);
        let at = |place: usize| match front.get(place).copied().or(rest) {
            Some(schema) => self.values(schema, depth + 1),
            None => vec![0.into(), "x".into()],
        };
        let mut out = vec![Json::Array(vec![])];
        for length in [least, least + 1, front.len(), front.len() + 1, 1].into_iter().filter(|n| *n <= LONGEST) {
            let of: Vec<Vec<Json>> = (0..length).map(at).collect();
            if of.iter().any(Vec::is_empty) {
                continue;
            }
            for turn in 0..8 {
                out.push(of.iter().enumerate().map(|(place, of)| of[(turn + place) % of.len()].clone()).collect());
                out.push(of.iter().map(|of| of[turn % of.len()].clone()).collect());
            }
        }
        if let Some(contained) = object.get("contains") {
            let found = self.values(contained, depth + 1);
            out.extend(found.iter().map(|one| Json::Array(vec![one.clone()])));
            out.extend(found.iter().map(|one| Json::Array(vec![one.clone(), one.clone(), one.clone()])));
        }
        out
    }

    fn objects(&self, object: &Map<String, Json>, depth: usize) -> Vec<Json> {
        let mut members: Vec<(String, Vec<Json>)> = Vec::new();
        for (name, schema) in object.get("properties").and_then(Json::as_object).into_iter().flatten() {
            members.push((name.clone(), self.values(schema, depth + 1)));
        }
        let more = object.get("additionalProperties").map(|schema| self.values(schema, depth + 1));
        let needed = required(object);
        let asked = ["dependentRequired", "dependencies"].into_iter().filter_map(|key| object.get(key)?.as_object());
        let asked = asked.flat_map(Map::values).filter_map(Json::as_array).flatten().filter_map(Json::as_str);
        for name in needed.iter().copied().chain(asked) {
            if !members.iter().any(|(known, _)| known == name) {
                members.push((name.to_owned(), more.clone().unwrap_or_else(|| vec![0.into(), "x".into()])));
            }
        }
        // names of the sort that patterns look for
        for name in ["a", "b", "c", "x"] {
            let by_pattern =
                patterns(object).into_iter().find(|(pattern, _)| is_like(pattern, name)).map(|(_, schema)| schema);
            let open = more.clone().filter(|_| object.get("additionalProperties") != Some(&Json::Bool(false)));
            let values = by_pattern.map(|schema| self.values(schema, depth + 1)).or(open);
            if let Some(values) = values.filter(|_| !members.iter().any(|(known, _)| known == name)) {
                members.push((name.to_owned(), values));
            }
        }
        members.retain(|(_, values)| !values.is_empty());
        members.sort_by_key(|(name, _)| !needed.contains(&name.as_str()));
        members.truncate(needed.len() + VARIED);
        let varied = members.len().min(VARIED);
        let with = |chosen: &dyn Fn(usize) -> bool, turn: usize| -> Json {
            let chosen = members.iter().enumerate().filter(|(place, _)| chosen(*place));
            chosen.map(|(place, (name, values))| (name.clone(), values[(turn + place) % values.len()].clone())).collect()
        };
        let is_needed = |place: usize| needed.contains(&members[place].0.as_str());
        let mut out = vec![Json::Object(Map::new())];
        let mut made = |chosen: &dyn Fn(usize) -> bool, turn: usize| {
            if self.left.get() > 0 {
                let object = with(chosen, turn);
                self.spend(weight(&object));
                out.push(object);
            }
        };
        for turn in 0..6 {
            made(&is_needed, turn);
            made(&|_| true, turn);
            for one in 0..varied {
                made(&|place| is_needed(place) || place == one, turn);
                made(&|place| place != one, turn);
            }
        }
        for (one, (name, values)) in members.iter().enumerate().take(varied) {
            for value in values.iter().take_while(|_| self.left.get() > 0) {
                let mut object = with(&|place| is_needed(place) && place != one, one);
                object[name] = value.clone();
                self.spend(weight(&object));
                out.push(object);
            }
        }
        out
    }
}

fn numbers(object: &Map<String, Json>) -> Vec<Json> {
    let mut out: Vec<Json> = [0, 1, -1, 2, 3].map(Json::from).to_vec();
    for key in ["minimum", "maximum", "exclusiveMinimum", "exclusiveMaximum", "multipleOf"] {
        let Some(bound) = object.get(key) else { continue };
        out.push(bound.clone());
        if let Some(whole) = bound.as_i64() {
            out.extend([whole.saturating_add(1), whole.saturating_sub(1), whole.saturating_mul(2)].map(Json::from));
        }
        if let Some(real) = bound.as_f64() {
            out.extend([real + 0.5, real - 0.5, real * 3.0].map(Json::from));
        }
    }
    out.push(0.5.into());
    out
}

fn texts(object: &Map<String, Json>) -> Vec<Json> {
    let count = |key: &str| object.get(key).and_then(Json::as_u64).and_then(|n| usize::try_from(n).ok());
    let mut lengths = vec![0, 1, 2];
    lengths.extend(["minLength", "maxLength"].into_iter().filter_map(count).filter(|n| *n <= LONGEST));
    let mut out: Vec<Json> = lengths.iter().map(|length| "x".repeat(*length).into()).collect();
    out.extend(lengths.iter().map(|length| Json::from("y".repeat(*length))));
    out.extend(["2026-11-25", "2026-11-25T09:30:00Z", "192.0.2.1", "xy", "yx"].map(Json::from));
    out
}
