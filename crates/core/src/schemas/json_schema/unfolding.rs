//! How much checking a value takes. A chain of schemas that each use the one before twice doubles with every link, and one that comes
//! back to itself in two ways doubles with every level of the value: a schema that unfolds to too much is refused, and where a
//! schema comes back to itself every check of a value counts its steps.

use std::cell::Cell;
use std::collections::HashMap;
use std::panic::{AssertUnwindSafe, catch_unwind, resume_unwind};

use jsonschema::{Keyword, ValidationError, ValidationOptions};
use serde_json::{Map, Value as Json};

use super::resolving::{Holds, Side, holds};

/// Schemas that one may unfold to, each counted as often as it is used.
const MOST: u64 = 100_000;
/// Longest way down, over references and parts.
const DEEPEST: u64 = 4_000;
/// Steps of checking one value.
pub(super) const MOST_STEPS: u64 = 200_000;
/// The keyword that counts a step.
const STEP: &str = "gonvel:step";
/// Stack for schemas and values that lead far down, in bytes, and what each step down may take of it where a value goes on from it.
const STACK: usize = 256 << 20;
const OF_A_STEP: usize = 192 << 10;
/// Ways down that any stack has room for.
const SHALLOW: u64 = 60;

/// What a schema unfolds to.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Unfolded {
    /// Schemas, each as often as it is used on the way down.
    pub(super) size: u64,
    /// The longest way down.
    pub(super) depth: u64,
    /// Whether one comes back to itself.
    pub(super) comes_back: bool,
}

impl Unfolded {
    /// Why it is refused, if it is.
    pub(super) fn too_much(self) -> Option<String> {
        // where one comes back to itself steps are counted instead
        if self.size > MOST && !self.comes_back {
            return Some(format!(
                "the schema unfolds to more than {MOST} schemas, each counted as often as it is used: use fewer of them twice"
            ));
        }
        let deep = self.depth > DEEPEST;
        deep.then(|| {
            format!("the schema leads more than {DEEPEST} schemas down: use fewer references that lead to references")
        })
    }

    /// Whether checking counts its steps.
    pub(super) fn is_counted(self) -> bool {
        self.comes_back
    }

    /// Does something that goes as deep as the schema, or as schema and value together.
    pub(super) fn with_stack<T>(self, work: impl FnOnce() -> T) -> T {
        if self.depth <= SHALLOW && !self.comes_back {
            return work();
        }
        let of_value = if self.comes_back { usize::try_from(self.depth).unwrap_or(0) * OF_A_STEP } else { 0 };
        stacker::grow(STACK + of_value, work)
    }
}

/// Measures a schema.
pub(super) fn unfold(root: &Json) -> Unfolded {
    let mut measuring = Measuring { side: Side::new(root), known: HashMap::new(), comes_back: false };
    // a text has few levels of its own: what leads further are references, and those are counted on the way
    let (size, depth) = stacker::grow(STACK, || measuring.schema(root, 0));
    Unfolded { size, depth, comes_back: measuring.comes_back }
}

struct Measuring<'s> {
    side: Side<'s>,
    /// Sizes and depths by the places of schemas; none of those that are being measured.
    known: HashMap<*const Json, Option<(u64, u64)>>,
    comes_back: bool,
}

impl<'s> Measuring<'s> {
    fn schema(&mut self, schema: &'s Json, way: u64) -> (u64, u64) {
        let Json::Object(object) = schema else { return (1, 0) };
        match self.known.get(&std::ptr::from_ref(schema)) {
            Some(Some(known)) => return *known,
            Some(None) => {
                self.comes_back = true;
                return (1, 0);
            }
            None => {}
        }
        if way > DEEPEST {
            return (1, DEEPEST);
        }
        self.known.insert(std::ptr::from_ref(schema), None);
        let (mut size, mut depth) = (1_u64, 0);
        let mut add = |(inner, below): (u64, u64)| {
            size = size.saturating_add(inner);
            depth = depth.max(below + 1);
        };
        for (keyword, value) in object {
            match (keyword.as_str(), value) {
                ("$ref", Json::String(_)) => match self.side.target(object) {
                    Some(target) => add(self.schema(target, way + 1)),
                    None => self.comes_back = true,
                },
                // where it leads depends on the way there
                ("$dynamicRef" | "$recursiveRef", _) => self.comes_back = true,
                // what is defined counts where it is used
                ("$defs" | "definitions", _) => {}
                (keyword, value) => match holds(keyword, value) {
                    Holds::One(inner) => add(self.schema(inner, way + 1)),
                    Holds::List(list) => list.iter().for_each(|inner| add(self.schema(inner, way + 1))),
                    Holds::Named(named) => named.values().for_each(|inner| add(self.schema(inner, way + 1))),
                    Holds::Nothing => {}
                },
            }
        }
        self.known.insert(std::ptr::from_ref(schema), Some((size, depth)));
        (size, depth)
    }
}

/// The same schema, each part of which counts a step.
pub(super) fn counted(schema: &Json) -> Json {
    let Json::Object(object) = schema else { return schema.clone() };
    let mut out = Map::new();
    out.insert(STEP.to_owned(), true.into());
    for (keyword, value) in object {
        let value = match holds(keyword, value) {
            Holds::One(inner) => counted(inner),
            Holds::List(list) => list.iter().map(counted).collect(),
            Holds::Named(named) => Json::Object(named.iter().map(|(name, inner)| (name.clone(), counted(inner))).collect()),
            Holds::Nothing => value.clone(),
        };
        out.insert(keyword.clone(), value);
    }
    out.into()
}

thread_local! {
    static LEFT: Cell<u64> = const { Cell::new(0) };
}

struct OutOfSteps;

struct Step;

impl Step {
    fn count() {
        let left = LEFT.get();
        if left == 0 {
            // ends the whole check at once, and says nothing to whoever listens for panics
            resume_unwind(Box::new(OutOfSteps));
        }
        LEFT.set(left - 1);
    }
}

impl<'i> Keyword<'i> for Step {
    fn validate(&self, _: &'i Json) -> Result<(), ValidationError<'i>> {
        Self::count();
        Ok(())
    }

    fn is_valid(&self, _: &'i Json) -> bool {
        Self::count();
        true
    }
}

/// Options by which a [`counted`] schema counts.
pub(super) fn counting(options: ValidationOptions<'static>) -> ValidationOptions<'static> {
    options.with_keyword(STEP, |_, _, _| Ok(Box::new(Step) as Box<dyn for<'i> Keyword<'i>>))
}

/// What a check comes to; none if it takes more steps.
pub(super) fn within_steps<T>(steps: u64, check: impl FnOnce() -> T) -> Option<T> {
    LEFT.set(steps);
    match catch_unwind(AssertUnwindSafe(check)) {
        Ok(done) => Some(done),
        Err(ended) if ended.is::<OutOfSteps>() => None,
        Err(other) => resume_unwind(other),
    }
}

#[cfg(test)]
mod tests {
    use std::time::{Duration, Instant};

    use serde_json::json;

    use super::super::JsonSchema;
    use super::*;

    fn chain(links: usize, uses: usize) -> Json {
        let mut defs = Map::new();
        for n in 0..links {
            let next = json!({"$ref": format!("#/$defs/a{}", n + 1)});
            defs.insert(format!("a{n}"), json!({"allOf": vec![next; uses]}));
        }
        defs.insert(format!("a{links}"), json!({"type": "object"}));
        json!({"$ref": "#/$defs/a0", "$defs": defs})
    }

    #[test]
    fn what_doubles_with_every_link_is_refused_and_what_is_only_long_is_not() {
        assert_eq!(
            unfold(&json!({"properties": {"a": {"enum": [{"b": {}}]}}})),
            Unfolded { size: 2, depth: 1, comes_back: false }
        );
        for (schema, refused) in [
            (chain(40, 2), Some("more than 100000 schemas")),
            (chain(14, 2), None),
            (chain(400, 1), None),
            (chain(20_000, 1), Some("more than 4000 schemas down")),
        ] {
            let start = Instant::now();
            let parsed = JsonSchema::parse(&schema.to_string());
            assert!(start.elapsed() < Duration::from_secs(20));
            match refused {
                None => assert_eq!(parsed.unwrap().holds(&json!({})), Some(true)),
                Some(part) => assert!(parsed.unwrap_err().to_string().contains(part)),
            }
        }
    }

    #[test]
    fn what_doubles_with_every_level_of_the_value_is_given_up_in_time() {
        let schema = JsonSchema::parse(r##"{"properties": {"a": {"allOf": [{"$ref": "#"}, {"$ref": "#"}]}}}"##).unwrap();
        let nested = |levels: usize| (0..levels).fold(json!({}), |inner, _| json!({"a": inner}));
        schema.validate(&nested(10)).unwrap();
        let start = Instant::now();
        let refused = schema.validate(&nested(60)).unwrap_err().to_string();
        assert!(refused.contains("200000 steps") && start.elapsed() < Duration::from_secs(20), "{refused}");
        let start = Instant::now();
        let _ = schema.holds(&nested(60));
        assert!(start.elapsed() < Duration::from_secs(20));
        // what comes back to itself once goes as deep as any value
        let list = JsonSchema::parse(r##"{"properties": {"a": {"$ref": "#"}, "n": {"type": "integer"}}}"##).unwrap();
        list.validate(&nested(120)).unwrap();
        assert!(list.validate(&json!({"a": {"a": {"n": "x"}}})).is_err());
        // the same on a small stack, through many references at each level
        let mut long = chain(900, 1);
        long["$defs"]["a900"] = json!({"properties": {"a": {"$ref": "#/$defs/a0"}}});
        let long = JsonSchema::parse(&long.to_string()).unwrap();
        std::thread::Builder::new()
            .stack_size(512 << 10)
            .spawn(move || long.validate(&nested(100)).unwrap())
            .unwrap()
            .join()
            .unwrap();
    }

    #[test]
    fn schemas_that_come_back_to_themselves_in_many_ways_are_read_and_compared_in_time() {
        let object =
            json!({"type": "object", "properties": {"x": {"$ref": "#"}}, "patternProperties": {"^a": {"minimum": 1}}});
        let branching = |key: &str, ways: usize, last: &Json| {
            let mut branches = vec![json!({"$ref": "#/$defs/a"}); ways];
            branches.extend([json!({"says": "nothing"}), last.clone()]);
            json!({"$defs": {"a": {key: branches}}, "allOf": [{"$ref": "#/$defs/a"}], "maxItems": ways})
        };
        let names = |ways: usize, ty: &str| {
            let all: Map<String, Json> = (0..ways).map(|n| (format!("p{n}"), json!({"$ref": "#"}))).collect();
            json!({"properties": all, "patternProperties": {"^n": {"type": ty}}})
        };
        let listed = json!({"enum": (0..900).collect::<Vec<_>>()});
        let mut all = vec![names(2, "string"), names(100, "integer"), listed];
        for key in ["anyOf", "oneOf", "allOf"] {
            all.push(branching(key, 30, &object));
        }
        let parsed = |schema: &Json| JsonSchema::parse(&schema.to_string()).unwrap();
        let all: Vec<JsonSchema> = all.iter().map(parsed).collect();
        let many = parsed(&branching("anyOf", 3_000, &object));
        let compare = |one: &JsonSchema, other: &JsonSchema| {
            let start = Instant::now();
            assert!(super::super::field_paths(one).len() <= 20_000);
            let _ = one.holds(&json!({"a": 1, "x": {"x": {}}}));
            let _ = super::super::misfits(one, other);
            let _ = super::super::changes(one, other);
            let told = |schema: &JsonSchema| schema.root().to_string().chars().take(60).collect::<String>();
            assert!(start.elapsed() < Duration::from_secs(30), "{:?}: {} by {}", start.elapsed(), told(other), told(one));
        };
        let (before, after) = (parsed(&names(100, "string")), parsed(&names(100, "integer")));
        let told = super::super::changes(&before, &after);
        assert!(told.last().is_some_and(|last| last.words.contains("more changes than are told")));
        for one in all.iter().chain([&many]) {
            compare(one, &all[0]);
            compare(&all[0], one);
        }
    }
}
