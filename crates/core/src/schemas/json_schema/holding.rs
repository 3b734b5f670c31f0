//! Whether one value fits a part of a schema, with what its references lead to. Unlike the validator, which checks by whole schemas, this
//! says so where it does not know.

use std::cell::{Cell, RefCell};
use std::collections::HashMap;

use jsonschema::Validator;
use serde_json::{Map, Value as Json};

use super::keywords::{items, patterns, required, says_of};
use super::likeness::is_like;
use super::resolving::{DEEPEST, Side};

/// Parts that are looked at for one value.
const MOST: usize = 10_000;

/// A part with what checks by it.
type Ready<'c> = (&'c Map<String, Json>, Option<Validator>);

/// Checks values by parts of one schema; what a part says by itself is made ready once for all values.
pub(super) struct Holding<'c, 's> {
    side: &'c Side<'s>,
    left: Cell<usize>,
    /// By the places of the parts, which are held on to; none where a part cannot be checked by.
    ready: RefCell<HashMap<*const Map<String, Json>, Ready<'c>>>,
}

/// Whether all of some hold: none where one is not known and none fails.
fn all(found: impl IntoIterator<Item = Option<bool>>) -> Option<bool> {
    let mut known = Some(true);
    for one in found {
        match one {
            Some(false) => return Some(false),
            Some(true) => {}
            None => known = None,
        }
    }
    known
}

/// How many of some hold at least and at most.
fn count(found: impl IntoIterator<Item = Option<bool>>) -> (usize, usize) {
    found.into_iter().fold((0, 0), |(least, most), one| match one {
        Some(true) => (least + 1, most + 1),
        Some(false) => (least, most),
        None => (least, most + 1),
    })
}

/// Keywords that say something of a value by themselves, without those of others beside them.
fn is_plain(keyword: &str) -> bool {
    matches!(
        keyword,
        "type"
            | "enum"
            | "const"
            | "minimum"
            | "maximum"
            | "exclusiveMinimum"
            | "exclusiveMaximum"
            | "multipleOf"
            | "minLength"
            | "maxLength"
            | "pattern"
            | "format"
            | "minItems"
            | "maxItems"
            | "uniqueItems"
            | "minProperties"
            | "maxProperties"
            | "required"
            | "dependentRequired"
    )
}

impl<'c, 's> Holding<'c, 's> {
    pub(super) fn new(side: &'c Side<'s>) -> Self {
        Self { side, left: Cell::new(MOST), ready: RefCell::default() }
    }

    /// Parts that the last value was held against.
    pub(super) fn took(&self) -> usize {
        MOST - self.left.get()
    }

    /// Whether a value fits; none if it cannot be told here.
    pub(super) fn holds(&self, schema: &'c Json, value: &Json) -> Option<bool> {
        self.left.set(MOST);
        self.at(schema, value, 0)
    }

    fn at(&self, schema: &'c Json, value: &Json, depth: usize) -> Option<bool> {
        let object = match schema {
            Json::Bool(yes) => return Some(*yes),
            Json::Object(object) => object,
            _ => return None,
        };
        if depth > DEEPEST || self.left.get() == 0 {
            return None;
        }
        self.left.set(self.left.get() - 1);
        let referred = object.contains_key("$ref").then(|| self.at(self.side.target(object)?, value, depth + 1));
        if self.side.is_draft_7
            && let Some(referred) = referred
        {
            return referred;
        }
        let unknown = ["$dynamicRef", "$recursiveRef", "unevaluatedProperties", "unevaluatedItems"];
        let unknown = unknown.into_iter().any(|key| object.get(key).is_some_and(|v| *v != Json::Bool(true))).then_some(None);
        let parts = [self.plain(object, value), self.combined(object, value, depth), self.within(object, value, depth)];
        all(parts.into_iter().chain(referred).chain(unknown))
    }

    fn plain(&self, object: &'c Map<String, Json>, value: &Json) -> Option<bool> {
        if !object.keys().any(|key| is_plain(key)) {
            return Some(true);
        }
        let mut ready = self.ready.borrow_mut();
        let (_, validator) = ready.entry(std::ptr::from_ref(object)).or_insert_with(|| {
            let own = object.iter().filter(|(key, _)| is_plain(key)).map(|(k, v)| (k.clone(), v.clone())).collect();
            (object, self.side.checker(&Json::Object(own)))
        });
        Some(validator.as_ref()?.is_valid(value))
    }

    fn combined(&self, object: &'c Map<String, Json>, value: &Json, depth: usize) -> Option<bool> {
        let each = |key: &str| -> Option<Vec<Option<bool>>> {
            Some(object.get(key)?.as_array()?.iter().map(|one| self.at(one, value, depth + 1)).collect())
        };
        let one = |key: &str| object.get(key).map(|schema| self.at(schema, value, depth + 1));
        let any = each("anyOf").map(|found| match count(found) {
            (1.., _) => Some(true),
            (0, 0) => Some(false),
            _ => None,
        });
        let single = each("oneOf").map(|found| match count(found) {
            (1, 1) => Some(true),
            (0, 0) | (2.., _) => Some(false),
            _ => None,
        });
        let chosen = one("if").map(|holds| match holds {
            Some(true) => one("then").unwrap_or(Some(true)),
            Some(false) => one("else").unwrap_or(Some(true)),
            None => all([one("then").unwrap_or(Some(true)), one("else").unwrap_or(Some(true))]).filter(|both| *both),
        });
        let denied = one("not").map(|holds| holds.map(|holds| !holds));
        all(each("allOf").map(all).into_iter().chain(any).chain(single).chain(chosen).chain(denied))
    }

    fn within(&self, object: &'c Map<String, Json>, value: &Json, depth: usize) -> Option<bool> {
        match value {
            Json::Array(list) => {
                let (front, rest) = items(object, self.side.is_draft_7);
                let item = |(place, item): (usize, &Json)| match front.get(place).copied().or(rest) {
                    Some(schema) => self.at(schema, item, depth + 1),
                    None => Some(true),
                };
                let contains = object.get("contains").map(|schema| {
                    let bounded = !self.side.is_draft_7;
                    let number = |key: &str| {
                        object.get(key).filter(|_| bounded).and_then(Json::as_u64).and_then(|n| usize::try_from(n).ok())
                    };
                    let (least, most) = (number("minContains").unwrap_or(1), number("maxContains").unwrap_or(usize::MAX));
                    let (surely, perhaps) = count(list.iter().map(|item| self.at(schema, item, depth + 1)));
                    match (surely >= least && perhaps <= most, perhaps < least || surely > most) {
                        (true, _) => Some(true),
                        (_, true) => Some(false),
                        _ => None,
                    }
                });
                all(list.iter().enumerate().map(item).chain(contains))
            }
            Json::Object(members) => {
                let member = |(name, value): (&String, &Json)| {
                    all(says_of(object, name).into_iter().map(|schema| self.at(schema, value, depth + 1)))
                };
                let names = object
                    .get("propertyNames")
                    .into_iter()
                    .flat_map(|schema| members.keys().map(|name| self.at(schema, &Json::from(name.as_str()), depth + 1)));
                let depending =
                    ["dependentSchemas", "dependencies"].into_iter().filter_map(|key| object.get(key)?.as_object());
                let depending =
                    depending.flatten().filter(|(name, _)| members.contains_key(*name)).map(|(_, then)| match then {
                        Json::Array(names) => {
                            Some(names.iter().filter_map(Json::as_str).all(|name| members.contains_key(name)))
                        }
                        schema => self.at(schema, value, depth + 1),
                    });
                all(members.iter().map(member).chain(names).chain(depending))
            }
            _ => Some(true),
        }
    }
}

/// A name that a value has, of those that it is known to have.
pub(super) fn is_known_name(object: &Map<String, Json>, name: &str) -> bool {
    required(object).contains(&name)
        || object.get("properties").is_some_and(|p| p.get(name).is_some())
        || patterns(object).iter().any(|(pattern, _)| is_like(pattern, name))
}
