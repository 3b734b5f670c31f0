//! A comparison of JSON Schemas that finds nothing promises that everything fits: random schemas and values try to show
//! otherwise.

use gonvel_core::schemas::json_schema::{JsonSchema, misfits};
use proptest::prelude::*;
use proptest::strategy::ValueTree;
use proptest::test_runner::{Config, RngAlgorithm, TestRng, TestRunner};
use serde_json::{Map, Value as Json, json};

fn with<T: Into<Json>>(mut schema: Json, keywords: impl IntoIterator<Item = (&'static str, Option<T>)>) -> Json {
    for (keyword, value) in keywords {
        if let Some(value) = value {
            schema[keyword] = value.into();
        }
    }
    schema
}

/// Schemas that say everything of the objects they let through: what is left open by saying nothing is taken not to be written.
fn schema(depth: u32) -> BoxedStrategy<Json> {
    let number = (prop::option::of(-3..6_i64), prop::option::of(-3..6_i64), any::<bool>(), prop::option::of(1..4_i64));
    let number = number.prop_map(|(low, high, whole, step)| {
        let plain = json!({"type": if whole { "integer" } else { "number" }});
        with(plain, [("minimum", low), ("exclusiveMaximum", high), ("multipleOf", step)])
    });
    let pattern = prop::option::weighted(0.3, prop::sample::select(vec!["^x", "y$", "^$"]));
    let text = (prop::option::of(0..3_u64), prop::option::of(0..4_u64), pattern).prop_map(|(least, most, pattern)| {
        with(with(json!({"type": "string"}), [("minLength", least), ("maxLength", most)]), [("pattern", pattern)])
    });
    let listed = prop::collection::vec(value(1), 1..4).prop_map(|values| json!({"enum": values}));
    let leaf = prop_oneof![
        number,
        text,
        listed,
        Just(json!(true)),
        Just(json!({"type": ["null", "boolean"]})),
        Just(json!({"const": 2}))
    ];
    if depth == 0 {
        return leaf.boxed();
    }
    let inner = schema(depth - 1);
    let few = || prop::option::weighted(0.2, 0..4_u64);
    let like = prop::option::weighted(0.3, (prop::sample::select(vec!["^[bc]$", "c"]), inner.clone()));
    let named = prop::collection::btree_map("[ab]", inner.clone(), 0..3);
    let object = (named, any::<u8>(), prop::option::of(inner.clone()), like, few(), few());
    let object = object.prop_map(|(named, which, more, like, least, most)| {
        // also names that nothing else is said of
        let required: Vec<&str> =
            (0..).zip(["a", "b", "c"]).filter(|(n, _)| which >> (2 * n) & 3 == 3).map(|(_, k)| k).collect();
        let more = more.unwrap_or(json!(false));
        let object = json!({"type": "object", "properties": named, "required": required, "additionalProperties": more});
        let like = like.map(|(pattern, schema)| json!({pattern: schema}));
        with(with(object, [("minProperties", least), ("maxProperties", most)]), [("patternProperties", like)])
    });
    let list = (prop::collection::vec(inner.clone(), 0..2), inner, few(), few(), prop::option::weighted(0.2, Just(true)));
    let list = list.prop_map(|(front, rest, least, most, unique)| {
        let front = Some(front).filter(|f| !f.is_empty());
        let list = with(json!({"type": "array", "items": rest}), [("minItems", least), ("maxItems", most)]);
        with(with(list, [("prefixItems", front)]), [("uniqueItems", unique)])
    });
    let several = |key: &'static str| prop::collection::vec(schema(depth - 1), 1..3).prop_map(move |b| json!({key: b}));
    let denied = schema(depth - 1).prop_map(|s| json!({"not": s}));
    prop_oneof![3 => leaf, 3 => object, 2 => list, 1 => several("anyOf"), 1 => several("oneOf"), 1 => several("allOf"), 1 => denied]
        .boxed()
}

fn value(depth: u32) -> BoxedStrategy<Json> {
    let leaf = prop_oneof![
        Just(Json::Null),
        any::<bool>().prop_map(Json::from),
        (-4..7_i64).prop_map(Json::from),
        (-4..7_i32).prop_map(|n| json!(f64::from(n) / 2.0)),
        "[xy]{0,4}".prop_map(Json::from),
    ];
    if depth == 0 {
        return leaf.boxed();
    }
    let inner = value(depth - 1);
    prop_oneof![
        2 => leaf,
        2 => prop::collection::btree_map("[abc]", inner.clone(), 0..4).prop_map(|m| json!(m)),
        1 => prop::collection::vec(inner, 0..4).prop_map(Json::from),
    ]
    .boxed()
}

/// The schemas directly within one.
fn each_inner(schema: &mut Json, change: &mut dyn FnMut(&mut Json)) {
    let Json::Object(object) = schema else { return };
    for (key, inner) in object.iter_mut() {
        match (key.as_str(), inner) {
            ("properties" | "patternProperties", Json::Object(all)) => all.values_mut().for_each(&mut *change),
            ("prefixItems" | "anyOf" | "oneOf" | "allOf", Json::Array(all)) => all.iter_mut().for_each(&mut *change),
            ("additionalProperties" | "items" | "not", inner) => change(inner),
            _ => {}
        }
    }
}

/// One small change somewhere: what was a promise to hold may be one still, or not.
fn nearly(schema: &mut Json, random: &mut TestRng) {
    let mut deeper = Vec::new();
    each_inner(schema, &mut |inner| deeper.push(inner.clone()));
    let pick = random.next_u32() as usize;
    if !deeper.is_empty() && !pick.is_multiple_of(3) {
        let (mut n, chosen) = (0, (pick / 3) % deeper.len());
        each_inner(schema, &mut |inner| {
            if n == chosen {
                nearly(inner, random);
            }
            n += 1;
        });
        return;
    }
    let Json::Object(object) = schema else {
        *schema = json!(pick.is_multiple_of(2));
        return;
    };
    let keys: Vec<String> = object.keys().filter(|k| !matches!(k.as_str(), "properties" | "type")).cloned().collect();
    let Some(key) = keys.get(pick % keys.len().max(1)) else { return };
    match &mut object[key] {
        Json::Number(n) => object[key] = (n.as_i64().unwrap_or(0) + i64::from(pick.is_multiple_of(2)) * 2 - 1).max(1).into(),
        Json::Array(items) if items.len() > 1 => drop(items.pop()),
        Json::Array(items) if key == "enum" => items.push(json!(pick % 5)),
        Json::Bool(yes) => object[key] = (!*yes).into(),
        _ if matches!(key.as_str(), "anyOf" | "oneOf" | "allOf" | "not" | "items" | "const") => {}
        _ => drop(object.shift_remove(key)),
    }
}

/// The same in draft-07, the schemas of objects behind references beside which nothing counts.
fn in_draft_7(schema: &Json) -> Json {
    fn moved(schema: &mut Json, definitions: &mut Map<String, Json>) {
        each_inner(schema, &mut |inner| moved(inner, definitions));
        let Json::Object(object) = schema else { return };
        if let Some(front) = object.shift_remove("prefixItems")
            && let Some(rest) = object.insert("items".into(), front)
        {
            object.insert("additionalItems".into(), rest);
        }
        if object.get("type") == Some(&json!("object")) {
            let name = format!("d{}", definitions.len());
            let reference = format!("#/definitions/{name}");
            definitions.insert(name, std::mem::replace(schema, json!({"$ref": reference, "minProperties": 3, "not": true})));
        }
    }
    let (mut inner, mut definitions) = (schema.clone(), Map::new());
    moved(&mut inner, &mut definitions);
    json!({"$schema": "http://json-schema.org/draft-07/schema#", "definitions": definitions, "allOf": [inner]})
}

#[test]
fn what_a_schema_is_said_to_read_it_lets_through() {
    let mut runner = TestRunner::new_with_rng(Config::default(), TestRng::from_seed(RngAlgorithm::ChaCha, &[25; 32]));
    let mut random = TestRng::from_seed(RngAlgorithm::ChaCha, &[7; 32]);
    let (mut promised, mut tried, mut refused) = (0, 0, 0);
    for round in 0..2_000_u32 {
        let mut draw = || schema(2).new_tree(&mut runner).unwrap().current();
        let writer = draw();
        // two of one origin promise more often
        let mut reader = if round.is_multiple_of(8) { draw() } else { writer.clone() };
        if !round.is_multiple_of(8) {
            (0..round % 3 + 1).for_each(|_| nearly(&mut reader, &mut random));
        }
        let parsed = |schema: &Json| {
            let text = if round.is_multiple_of(2) { in_draft_7(schema) } else { schema.clone() };
            JsonSchema::parse(&text.to_string()).unwrap_or_else(|e| panic!("{text}: {e}"))
        };
        let (reader, writer) = (parsed(&reader), parsed(&writer));
        assert!(misfits(&writer, &writer).is_empty(), "{} reads itself", writer.root());
        if !misfits(&reader, &writer).is_empty() {
            refused += 1;
            continue;
        }
        promised += 1;
        for value in (0..60).map(|_| value(2).new_tree(&mut runner).unwrap().current()).filter(|v| writer.is_valid(v)) {
            tried += 1;
            assert!(reader.is_valid(&value), "{value} passes {} and not {}", writer.root(), reader.root());
        }
    }
    assert!(promised > 300 && refused > 300 && tried > 3_000, "{promised} promised, {refused} refused, {tried} tried");
}

#[test]
fn schemas_that_refer_to_each_other_without_end_are_given_up_in_time() {
    // every branch leads to every definition again, and no two sides are alike
    let tangled = |limit: u32| {
        let branches: Vec<Json> = (0..12).map(|n| json!({"$ref": format!("#/$defs/d{n}")})).collect();
        let one = |n: u32| {
            let choice = json!({"anyOf": branches.clone(), "maxLength": limit + n});
            let inner = json!({"type": "object", "properties": {"a": choice.clone(), "b": {"oneOf": branches.clone()}}});
            (format!("d{n}"), inner)
        };
        let defs: Map<String, Json> = (0..12).map(one).collect();
        JsonSchema::parse(&json!({"$defs": defs, "allOf": branches}).to_string()).unwrap()
    };
    let found = misfits(&tangled(3), &tangled(9));
    assert!(!found.is_empty() && found.len() <= 200, "{}", found.len());
}
