//! What changed between two JSON Schemas, in words, and the names of all properties.

use std::collections::{HashSet, VecDeque};

use serde_json::{Map, Value as Json};

use super::JsonSchema;
use super::keywords::{required, types};
use super::resolving::Side;
use crate::schemas::SchemaChange;

/// Deepest way down.
const DEEPEST: usize = 32;
/// Parts that are looked at most: a schema may come back to itself in many ways.
const MOST: usize = 20_000;

/// The changes from an earlier schema to a later one.
#[must_use]
pub fn changes(earlier: &JsonSchema, later: &JsonSchema) -> Vec<SchemaChange> {
    let mut walk = Walk { earlier: Side::new(&earlier.root), later: Side::new(&later.root), found: Vec::new(), left: MOST };
    walk.both(&earlier.root, &later.root, "$", 0);
    if walk.left == 0 {
        walk.say("$", "has more changes than are told: it comes back to itself in many ways, or is very long".to_owned());
    }
    walk.found
}

/// The paths of all properties, the nearest first where there are very many.
#[must_use]
pub fn field_paths(schema: &JsonSchema) -> Vec<String> {
    let side = Side::new(&schema.root);
    let mut open: VecDeque<(&Json, String, usize)> = VecDeque::from([(&*schema.root, String::new(), 0)]);
    let (mut seen, mut out) = (HashSet::new(), Vec::new());
    let mut left = MOST;
    while let Some((schema, path, depth)) = open.pop_front() {
        let Some(object) = side.resolve(schema).as_object().filter(|_| depth < 8) else { continue };
        // the same part may be come to in many ways
        if !seen.insert((std::ptr::from_ref(object), path.clone())) {
            continue;
        }
        let properties = object.get("properties").and_then(Json::as_object).into_iter().flatten();
        for (name, inner) in properties.take(left) {
            let at = if path.is_empty() { name.clone() } else { format!("{path}.{name}") };
            out.push(at.clone());
            open.push_back((inner, at, depth + 1));
            left -= 1;
        }
        let beside = ["items", "additionalProperties"].into_iter().filter_map(|key| object.get(key));
        let branches = ["allOf", "anyOf", "oneOf"].into_iter().filter_map(|key| object.get(key)?.as_array()).flatten();
        for inner in beside.chain(branches).take(left) {
            open.push_back((inner, path.clone(), depth + 1));
            left -= 1;
        }
    }
    out.sort_unstable();
    out.dedup();
    out
}

struct Walk<'s> {
    earlier: Side<'s>,
    later: Side<'s>,
    found: Vec<SchemaChange>,
    /// Parts that are looked at yet.
    left: usize,
}

fn said(schema: &Json) -> String {
    match schema.as_object() {
        Some(object) if object.contains_key("type") => types(object).join(" or "),
        Some(object) if object.contains_key("enum") || object.contains_key("const") => "listed values".to_owned(),
        _ => "anything".to_owned(),
    }
}

impl<'s> Walk<'s> {
    fn say(&mut self, path: &str, words: String) {
        self.found.push(SchemaChange { path: path.to_owned(), words });
    }

    fn both(&mut self, earlier: &'s Json, later: &'s Json, path: &str, depth: usize) {
        let (earlier, later) = (self.earlier.resolve(earlier), self.later.resolve(later));
        if depth > DEEPEST || self.left == 0 {
            return;
        }
        self.left -= 1;
        if earlier == later && depth > 0 {
            return;
        }
        let (Json::Object(a), Json::Object(b)) = (earlier, later) else {
            if earlier != later {
                self.say(path, format!("changed from {} to {}", said(earlier), said(later)));
            }
            return;
        };
        let (was, is) = (said(earlier), said(later));
        if was != is {
            self.say(path, format!("changed from {was} to {is}"));
        }
        self.lists(a, b, path);
        self.bounds(a, b, path);
        self.properties(a, b, path, depth);
        if let (Some(a), Some(b)) = (a.get("items"), b.get("items")) {
            self.both(a, b, &format!("{path}[]"), depth + 1);
        }
    }

    fn lists(&mut self, a: &Map<String, Json>, b: &Map<String, Json>, path: &str) {
        let list = |s: &Map<String, Json>| s.get("enum").and_then(Json::as_array).cloned().unwrap_or_default();
        let (was, is) = (list(a), list(b));
        if a.contains_key("enum") && b.contains_key("enum") {
            is.iter().filter(|v| !was.contains(v)).for_each(|v| self.say(path, format!("the value {v} was added")));
            was.iter().filter(|v| !is.contains(v)).for_each(|v| self.say(path, format!("the value {v} was removed")));
        } else if a.contains_key("enum") != b.contains_key("enum") {
            let words = if b.contains_key("enum") {
                "only listed values are let through now"
            } else {
                "values are no longer listed"
            };
            self.say(path, words.to_owned());
        }
    }

    fn bounds(&mut self, a: &Map<String, Json>, b: &Map<String, Json>, path: &str) {
        let compared = |key: &str| {
            matches!(
                key,
                "properties"
                    | "required"
                    | "type"
                    | "enum"
                    | "items"
                    | "$defs"
                    | "definitions"
                    | "title"
                    | "$schema"
                    | "$id"
                    | "$comment"
                    | "examples"
            )
        };
        let mut keys: Vec<&String> = a.keys().chain(b.keys()).filter(|k| !compared(k) && a.get(*k) != b.get(*k)).collect();
        keys.sort_unstable();
        keys.dedup();
        for key in keys {
            let words = match (a.get(key), b.get(key)) {
                _ if key == "description" => "is described in other words".to_owned(),
                (Some(was), Some(is)) if short(was) && short(is) => format!("{key} changed from {was} to {is}"),
                (None, Some(is)) if short(is) => format!("{key} {is} was added"),
                (Some(was), None) if short(was) => format!("{key} {was} was removed"),
                _ => format!("{key} changed"),
            };
            self.say(path, words);
        }
    }

    fn properties(&mut self, a: &'s Map<String, Json>, b: &'s Map<String, Json>, path: &str, depth: usize) {
        let none = Map::new();
        let props = |s: &'s Map<String, Json>| s.get("properties").and_then(Json::as_object);
        let (before, after) = (props(a), props(b));
        let (was, is) = (required(a), required(b));
        for (name, schema) in after.into_iter().flatten() {
            if self.left == 0 {
                return;
            }
            self.left -= 1;
            let at = format!("{path}.{name}");
            match before.and_then(|p| p.get(name)) {
                Some(earlier) => {
                    self.both(earlier, schema, &at, depth + 1);
                    match (was.contains(&name.as_str()), is.contains(&name.as_str())) {
                        (true, false) => self.say(&at, "is no longer required".to_owned()),
                        (false, true) => self.say(&at, "became required".to_owned()),
                        _ => {}
                    }
                }
                None => {
                    let how = if is.contains(&name.as_str()) { "required" } else { "optional" };
                    self.say(&at, format!("was added: {}, {how}", said(self.later.resolve(schema))));
                }
            }
        }
        for (name, schema) in before.into_iter().flatten().filter(|(n, _)| !after.unwrap_or(&none).contains_key(*n)) {
            if self.left == 0 {
                return;
            }
            self.left -= 1;
            self.say(&format!("{path}.{name}"), format!("was removed ({})", said(self.earlier.resolve(schema))));
        }
    }
}

fn short(value: &Json) -> bool {
    !value.is_object() && !value.is_array() && value.to_string().len() <= 60
}
