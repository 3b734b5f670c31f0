//! What may be written, taken apart into cases: keywords that hold together. What stands beside each other, in `allOf` and behind
//! references holds together; each branch of `anyOf`, `oneOf` and `if` is a case of its own.

use std::rc::Rc;
use std::sync::OnceLock;

use serde_json::{Map, Value as Json};

use super::holding::is_known_name;
use super::keywords::{TYPES, equal, required, says_of, type_of, types};
use super::resolving::{Side, is_annotation};

/// Cases that one place is taken apart into at most.
const MOST_CASES: usize = 64;

/// Keywords that hold together of what is written.
#[derive(Debug, Clone, Default)]
pub(super) struct Case<'s> {
    pub(super) maps: Vec<&'s Map<String, Json>>,
    /// Schemas that let none of it through.
    pub(super) denied: Vec<&'s Json>,
    /// All maps of all cases of the place: what one of them speaks of is not left open by the others.
    place: Rc<[&'s Map<String, Json>]>,
}

/// Schemas that hold in a case, and those that do not.
#[derive(Debug, Clone, Default)]
struct Choice<'s> {
    holds: Vec<&'s Json>,
    denied: Vec<&'s Json>,
}

pub(super) fn branches(group: &Json) -> impl Iterator<Item = &Json> {
    group.as_array().into_iter().flatten()
}

/// What a schema denies, where that is all it does.
pub(super) fn only_not(schema: &Json) -> Option<&Json> {
    let object = schema.as_object()?;
    object.keys().all(|key| key == "not" || is_annotation(key)).then(|| object.get("not"))?
}

/// A schema that lets through values of one type.
fn of_type(name: &str) -> Option<&'static Json> {
    static OF: OnceLock<Vec<(&'static str, Json)>> = OnceLock::new();
    let all = OF.get_or_init(|| TYPES.into_iter().map(|ty| (ty, serde_json::json!({"type": ty}))).collect());
    all.iter().find(|(ty, _)| *ty == name).map(|(_, schema)| schema)
}

impl<'s> Case<'s> {
    /// The values that may be written, where they are listed.
    pub(super) fn listed(&self) -> Option<Vec<&'s Json>> {
        let mut lists = self.maps.iter().filter_map(|map| super::keywords::listed(map));
        let mut first = lists.next()?;
        for other in lists {
            first.retain(|value| other.iter().any(|known| equal(value, known)));
        }
        Some(first)
    }

    /// The types that may be written; a number includes the integers.
    pub(super) fn types(&self) -> Vec<&'static str> {
        let of_values: Option<Vec<&str>> = self.listed().map(|values| values.into_iter().map(type_of).collect());
        let fits = |ty: &str| {
            self.maps.iter().all(|map| {
                let types = types(map);
                types.contains(&ty) || (ty == "integer" && types.contains(&"number"))
            })
        };
        let with_values = |ty: &&'static str| of_values.as_ref().is_none_or(|of| of.contains(ty));
        let mut found: Vec<&'static str> = TYPES.into_iter().filter(|ty| fits(ty)).filter(with_values).collect();
        found.retain(|ty| self.is_possible(ty));
        // whole numbers are numbers
        let whole = found.contains(&"number") && of_values.is_none();
        found.into_iter().filter(|ty| !(whole && *ty == "integer")).collect()
    }

    /// Whether there may be values of a type: its bounds leave room for some.
    fn is_possible(&self, ty: &str) -> bool {
        let number = |key: &str| -> std::vec::IntoIter<f64> {
            self.maps.iter().filter_map(|map| map.get(key)?.as_f64()).collect::<Vec<_>>().into_iter()
        };
        let room = |least: &str, most: &str, surely: usize| {
            #[allow(clippy::cast_precision_loss, reason = "counts of properties")]
            let least = number(least).fold(surely as f64, f64::max);
            number(most).all(|most| most >= least)
        };
        match ty {
            "string" => room("minLength", "maxLength", 0),
            "array" => room("minItems", "maxItems", 0),
            "integer" | "number" => {
                let low = number("minimum").chain(number("exclusiveMinimum")).fold(f64::NEG_INFINITY, f64::max);
                let beyond = |high: f64| high < low;
                let excluded = |high: f64| high <= low && low.abs() < 1e15;
                !(number("maximum").any(beyond) || number("exclusiveMaximum").any(excluded))
            }
            "object" => {
                let mut needed: Vec<&str> = self.maps.iter().flat_map(|map| required(map)).collect();
                needed.sort_unstable();
                needed.dedup();
                let never = |name: &&str| self.maps.iter().any(|map| says_of(map, name).contains(&&Json::Bool(false)));
                room("minProperties", "maxProperties", needed.len()) && !needed.iter().any(never)
            }
            _ => true,
        }
    }

    fn is_empty(&self) -> bool {
        self.types().is_empty()
    }

    /// Whether further names are opened on purpose, and by none of the maps closed.
    pub(super) fn is_open(&self) -> bool {
        let opens = |map: &&Map<String, Json>| {
            map.get("additionalProperties").is_some_and(|more| *more != Json::Bool(false))
                || map.get("unevaluatedProperties").is_some_and(|more| *more != Json::Bool(false))
        };
        let closes = |map: &&Map<String, Json>| map.get("additionalProperties") == Some(&Json::Bool(false));
        self.maps.iter().any(opens) && !self.maps.iter().any(closes)
    }

    /// Whether a property may be written: it is listed, required or of a pattern, in this case or another, or all are opened on purpose.
    pub(super) fn may_have(&self, name: &str) -> bool {
        self.is_open() || self.maps.iter().chain(&*self.place).any(|map| is_known_name(map, name))
    }
}

impl<'s> Choice<'s> {
    fn and(mut self, more: &Self) -> Self {
        self.holds.extend(&more.holds);
        self.denied.extend(&more.denied);
        self
    }
}

/// The cases of what several schemas together let through; what lets nothing through is none.
pub(super) fn cases<'s>(writer: &Side<'s>, written: &[&'s Json]) -> Result<Vec<Case<'s>>, &'static str> {
    let mut done = Vec::new();
    let mut open: Vec<(Case<'s>, Vec<&'s Json>)> = vec![(Case::default(), written.to_vec())];
    let draft_7 = writer.is_draft_7;
    'open: while let Some((mut case, mut todo)) = open.pop() {
        let mut groups: Vec<Vec<Choice<'s>>> = Vec::new();
        while let Some(schema) = todo.pop() {
            let object = match schema {
                Json::Bool(false) => continue 'open,
                Json::Object(object) => object,
                _ => continue,
            };
            if case.maps.iter().any(|map| std::ptr::eq(*map, object)) {
                continue;
            }
            if object.contains_key("$ref") {
                todo.push(writer.target(object).ok_or("what is written refers to what is not found here")?);
                if draft_7 {
                    continue;
                }
            }
            if object.contains_key("$dynamicRef") || object.contains_key("$recursiveRef") {
                return Err("where a reference of what is written leads depends on the way there");
            }
            case.maps.push(object);
            todo.extend(object.get("allOf").into_iter().flat_map(branches));
            match object.get("not").map(|denied| writer.resolve(denied)) {
                Some(Json::Bool(true)) => continue 'open,
                Some(denied) => match only_not(denied) {
                    Some(inner) => todo.push(inner),
                    None => case.denied.push(denied),
                },
                None => {}
            }
            let branch = |b| Choice { holds: vec![b], denied: Vec::new() };
            groups.extend(object.get("anyOf").map(|group| branches(group).map(branch).collect()));
            if let Some(group) = object.get("oneOf") {
                let one = |(place, b): (usize, &'s Json)| {
                    let others = branches(group).enumerate().filter(|(other, _)| *other != place);
                    Choice { holds: vec![b], denied: others.map(|(_, other)| other).collect() }
                };
                groups.push(branches(group).enumerate().map(one).collect());
            }
            if let Some(condition) = object.get("if") {
                let holds = std::iter::once(condition).chain(object.get("then")).collect();
                let otherwise = Choice { holds: object.get("else").into_iter().collect(), denied: vec![condition] };
                groups.push(vec![Choice { holds, denied: Vec::new() }, otherwise]);
            }
            let depending = ["dependentSchemas", "dependencies"].into_iter().filter_map(|key| object.get(key)?.as_object());
            for schema in depending.flat_map(Map::values).filter(|schema| !schema.is_array()) {
                groups.push(vec![branch(schema), Choice::default()]);
            }
        }
        if case.is_empty() {
            continue;
        }
        let Some(first) = groups.pop() else {
            done.push(case);
            if done.len() > MOST_CASES {
                return Err("what is written has too many cases to be compared");
            }
            continue;
        };
        if open.len() + first.len() > 4 * MOST_CASES {
            return Err("what is written has too many cases to be compared");
        }
        for option in first {
            let rest = groups.iter().cloned();
            open.extend(
                products(&case, option, rest.collect(), MOST_CASES)
                    .ok_or("what is written has too many cases to be compared")?,
            );
        }
    }
    let place: Rc<[_]> = done.iter().flat_map(|case| case.maps.iter().copied()).collect();
    done.iter_mut().for_each(|case| case.place = Rc::clone(&place));
    Ok(done)
}

/// A case together with all ways to choose from what is left to choose.
fn products<'s>(
    case: &Case<'s>,
    option: Choice<'s>,
    groups: Vec<Vec<Choice<'s>>>,
    most: usize,
) -> Option<Vec<(Case<'s>, Vec<&'s Json>)>> {
    let mut all = vec![option];
    for group in groups {
        if all.len() * group.len() > most {
            return None;
        }
        all = all.iter().flat_map(|before| group.iter().map(|more| before.clone().and(more))).collect();
    }
    let with = |option: Choice<'s>| {
        let mut case = case.clone();
        case.denied.extend(option.denied);
        (case, option.holds)
    };
    Some(all.into_iter().map(with).collect())
}

/// A case of one type only.
pub(super) fn narrowed<'s>(case: &Case<'s>, ty: &str) -> Option<Case<'s>> {
    let mut maps = case.maps.clone();
    maps.push(of_type(ty)?.as_object()?);
    Some(Case { maps, ..case.clone() })
}
