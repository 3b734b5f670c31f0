//! A comparison of JSON Schemas that finds nothing promises that everything fits: random schemas and values try to show
//! otherwise, before a validator of others.

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
    let bound = || {
        let near = [9_007_199_254_740_992_i64, 9_007_199_254_740_993, 9_007_199_254_740_994].map(Json::from);
        prop::option::of(prop_oneof![
            12 => (-3..6_i64).prop_map(Json::from),
            2 => (-3..6_i32).prop_map(|n| json!(f64::from(n))),
            1 => prop::sample::select(near.to_vec())
        ])
    };
    let step = prop::sample::select(vec![json!(1), json!(2), json!(3), json!(0.5), json!(1.5), json!(2.0)]);
    let number = (bound(), bound(), any::<bool>(), any::<bool>(), prop::option::weighted(0.3, step));
    let number = number.prop_map(|(low, high, whole, excluded, step)| {
        let plain = json!({"type": if whole { "integer" } else { "number" }});
        let low = if excluded { ("exclusiveMinimum", low) } else { ("minimum", low) };
        with(plain, [low, ("exclusiveMaximum", high), ("multipleOf", step)])
    });
    let pattern = prop::option::weighted(0.3, prop::sample::select(vec!["^x", "y$", "^$"]));
    let format = prop::option::weighted(0.2, prop::sample::select(vec!["date", "ipv4", "x-own"]));
    let text = (prop::option::of(0..3_u64), prop::option::of(0..4_u64), pattern, format);
    let text = text.prop_map(|(least, most, pattern, format)| {
        let text = with(json!({"type": "string"}), [("minLength", least), ("maxLength", most)]);
        with(text, [("pattern", pattern), ("format", format)])
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
    let asked = prop::option::weighted(0.1, (prop::sample::select(vec!["a", "c"]), inner.clone(), any::<bool>()));
    let names = prop::option::weighted(0.1, prop::sample::select(vec!["^[ab]$", "^[abc]$"]));
    let left_over = prop::option::weighted(0.08, Just(false));
    let object = (named, any::<u8>(), prop::option::of(inner.clone()), like, (few(), few()), (asked, names, left_over));
    let object = object.prop_map(|(named, which, more, like, (least, most), (asked, names, left_over))| {
        // also names that nothing else is said of
        let required: Vec<&str> =
            (0..).zip(["a", "b", "c"]).filter(|(n, _)| which >> (2 * n) & 3 == 3).map(|(_, k)| k).collect();
        let more = more.unwrap_or(json!(false));
        let object = json!({"type": "object", "properties": named, "required": required, "additionalProperties": more});
        let like = like.map(|(pattern, schema)| json!({pattern: schema}));
        let object = with(with(object, [("minProperties", least), ("maxProperties", most)]), [("patternProperties", like)]);
        let object = match asked {
            Some((name, schema, true)) => with(object, [("dependentSchemas", Some(json!({name: schema})))]),
            Some((name, _, false)) => with(object, [("dependentRequired", Some(json!({name: ["b"]})))]),
            None => object,
        };
        let names = names.map(|pattern| json!({"pattern": pattern}));
        with(with(object, [("propertyNames", names)]), [("unevaluatedProperties", left_over)])
    });
    let contained = prop::option::weighted(0.1, (inner.clone(), prop::option::of(0..3_u64), prop::option::of(1..3_u64)));
    let unique = prop::option::weighted(0.2, Just(true));
    let list = (prop::collection::vec(inner.clone(), 0..2), inner.clone(), few(), few(), unique, contained);
    let list = list.prop_map(|(front, rest, least, most, unique, contained)| {
        let front = Some(front).filter(|f| !f.is_empty());
        let list = with(json!({"type": "array", "items": rest}), [("minItems", least), ("maxItems", most)]);
        let list = with(with(list, [("prefixItems", front)]), [("uniqueItems", unique)]);
        let Some((contained, least, most)) = contained else { return list };
        with(with(list, [("contains", Some(contained))]), [("minContains", least), ("maxContains", most)])
    });
    // conditions beside each other: names that one lists another says nothing of
    let beside =
        (object.clone(), prop::sample::select(vec!["allOf", "anyOf", "oneOf"]), prop::collection::vec(object.clone(), 1..3));
    let beside = beside.prop_map(|(mut object, key, others)| {
        object["additionalProperties"] = json!(true);
        with(object, [(key, Some(others))])
    });
    let chosen = (schema(depth - 1), schema(depth - 1), prop::option::of(schema(depth - 1)));
    let chosen = chosen.prop_map(|(condition, then, other)| with(json!({"if": condition, "then": then}), [("else", other)]));
    let several = |key: &'static str| prop::collection::vec(schema(depth - 1), 1..3).prop_map(move |b| json!({key: b}));
    let denied = schema(depth - 1).prop_map(|s| json!({"not": s}));
    prop_oneof![3 => leaf, 3 => object, 2 => list, 1 => several("anyOf"), 1 => several("oneOf"), 1 => several("allOf"), 1 => denied, 1 => beside, 1 => chosen]
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
            ("properties" | "patternProperties" | "dependentSchemas", Json::Object(all)) => {
                all.values_mut().for_each(&mut *change);
            }
            ("prefixItems" | "anyOf" | "oneOf" | "allOf", Json::Array(all)) => all.iter_mut().for_each(&mut *change),
            ("additionalProperties" | "items" | "not" | "if" | "then" | "else" | "contains" | "propertyNames", inner) => {
                change(inner);
            }
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
        _ if matches!(
            key.as_str(),
            "anyOf" | "oneOf" | "allOf" | "not" | "items" | "const" | "if" | "then" | "contains"
        ) => {}
        _ => drop(object.shift_remove(key)),
    }
}

/// The same in draft-07, the schemas of objects behind references beside which nothing counts.
fn in_draft_7(schema: &Json) -> Json {
    fn moved(schema: &mut Json, definitions: &mut Map<String, Json>) {
        each_inner(schema, &mut |inner| moved(inner, definitions));
        let Json::Object(object) = schema else { return };
        // listed values are different ones there, and 1.0 is 1
        if let Some(Json::Array(listed)) = object.get_mut("enum") {
            let mut seen = std::collections::HashSet::new();
            listed.retain(|value| seen.insert(value.to_string().replace(".0", "")));
        }
        let mut asked = Map::new();
        for key in ["dependentRequired", "dependentSchemas"] {
            if let Some(Json::Object(some)) = object.shift_remove(key) {
                asked.extend(some);
            }
        }
        if !asked.is_empty() {
            object.insert("dependencies".into(), asked.into());
        }
        for key in ["minContains", "maxContains", "unevaluatedProperties", "unevaluatedItems"] {
            object.shift_remove(key);
        }
        if let Some(front) = object.shift_remove("prefixItems")
            && let Some(rest) = object.insert("items".into(), front)
        {
            object.insert("additionalItems".into(), rest);
        }
        if object.get("type") == Some(&json!("object")) {
            let name = format!("d{}", definitions.len());
            let by_name = definitions.len().is_multiple_of(2);
            let reference = if by_name { format!("#{name}") } else { format!("#/definitions/{name}") };
            let mut moved = std::mem::replace(schema, json!({"$ref": reference, "minProperties": 3, "not": true}));
            if by_name {
                moved["$id"] = format!("#{name}").into();
            }
            definitions.insert(name, moved);
        }
    }
    let (mut inner, mut definitions) = (schema.clone(), Map::new());
    moved(&mut inner, &mut definitions);
    json!({"$schema": "http://json-schema.org/draft-07/schema#", "definitions": definitions, "allOf": [inner]})
}

/// As good as the same, with some of it behind references of all sorts and the rest beside them.
fn behind_references(schema: &Json, random: &mut TestRng) -> Json {
    fn moved(schema: &mut Json, definitions: &mut Map<String, Json>, random: &mut TestRng) {
        each_inner(schema, &mut |inner| moved(inner, definitions, random));
        let pick = random.next_u32();
        let Json::Object(object) = schema else { return };
        if !pick.is_multiple_of(4) || object.contains_key("unevaluatedProperties") {
            return;
        }
        let name = format!("d{}", definitions.len());
        // all of it, some that changes nothing, or any: then what looks at what stands beside it may stand apart
        let goes = |(place, key): &(usize, &String)| match (pick >> 8) % 3 {
            0 => true,
            1 => matches!(key.as_str(), "type" | "enum" | "const" | "allOf" | "anyOf" | "not"),
            _ => (pick >> (12 + place % 20)).is_multiple_of(2),
        };
        let gone: Vec<String> = object.keys().enumerate().filter(goes).map(|(_, key)| key.clone()).collect();
        let mut inner: Map<String, Json> = gone.into_iter().filter_map(|key| object.remove_entry(&key)).collect();
        let reference = match pick % 5 {
            0 => format!("{ROOT}#/$defs/{name}"),
            1 => {
                inner.insert("$anchor".into(), name.clone().into());
                format!("{ROOT}#{name}")
            }
            2 => {
                inner.insert("$id".into(), format!("https://example.com/{name}").into());
                format!("https://example.com/{name}")
            }
            3 => {
                // a reference to its own root, below an identifier of its own
                inner = Map::from_iter([("$defs".to_owned(), json!({"own": inner}))]);
                inner.insert("$id".into(), format!("https://example.com/parts/{name}").into());
                inner.insert("$ref".into(), "#/$defs/own".into());
                format!("https://example.com/parts/{name}")
            }
            _ => format!("https://example.com/judged#/%24defs/{name}"),
        };
        object.insert("$ref".to_owned(), reference.into());
        definitions.insert(name, inner.into());
    }
    let (mut inner, mut definitions) = (schema.clone(), Map::new());
    moved(&mut inner, &mut definitions, random);
    if let Json::Object(object) = &mut inner {
        object.insert("$id".to_owned(), ROOT.into());
        object.insert("$defs".to_owned(), definitions.into());
    }
    inner
}

/// Where schemas are said to be; parts that have an identifier of their own refer to it from there.
const ROOT: &str = "https://example.com/judged";

/// A validator of others.
struct Judge {
    schemas: boon::Schemas,
    schema: boon::SchemaIndex,
}

impl Judge {
    fn of(text: &Json) -> Self {
        let (mut schemas, mut compiler) = (boon::Schemas::new(), boon::Compiler::new());
        compiler.add_resource(ROOT, text.clone()).unwrap();
        let schema = compiler.compile(ROOT, &mut schemas).unwrap_or_else(|e| panic!("{text}: {e:#}"));
        Self { schemas, schema }
    }

    fn is_valid(&self, value: &Json) -> bool {
        self.schemas.validate(value, self.schema).is_ok()
    }
}

#[test]
fn what_a_schema_is_said_to_read_it_lets_through() {
    let mut runner = TestRunner::new_with_rng(Config::default(), TestRng::from_seed(RngAlgorithm::ChaCha, &[25; 32]));
    let mut random = TestRng::from_seed(RngAlgorithm::ChaCha, &[7; 32]);
    let (mut promised, mut tried, mut refused, mut unknown) = (0, 0, 0, 0);
    let mut unknown_by: std::collections::BTreeMap<String, usize> = std::collections::BTreeMap::new();
    // `make chaos` tries more of them
    let pairs: u32 = std::env::var("GONVEL_PAIRS").ok().and_then(|n| n.parse().ok()).unwrap_or(2_500);
    for round in 0..pairs {
        let mut draw = || schema(2).new_tree(&mut runner).unwrap().current();
        let writer = draw();
        // two of one origin promise more often
        let mut reader = if round.is_multiple_of(8) { draw() } else { writer.clone() };
        if !round.is_multiple_of(8) {
            (0..round % 3 + 1).for_each(|_| nearly(&mut reader, &mut random));
        }
        let mut form = |schema: &Json| match round % 3 {
            0 => in_draft_7(schema),
            1 => behind_references(schema, &mut random),
            _ => schema.clone(),
        };
        let (reader, writer) = (form(&reader), form(&writer));
        let parsed = |text: &Json| JsonSchema::parse(&text.to_string()).unwrap_or_else(|e| panic!("{text}: {e}"));
        let (read, written) = (parsed(&reader), parsed(&writer));
        assert!(misfits(&written, &written).is_empty(), "{writer} reads itself");
        let found = misfits(&read, &written);
        if !found.is_empty() {
            if found.iter().all(|misfit| misfit.unknown) {
                unknown += 1;
                *unknown_by.entry(found[0].finding.clone()).or_default() += 1;
            } else {
                refused += 1;
            }
            continue;
        }
        promised += 1;
        let (read, written) = (Judge::of(&reader), Judge::of(&writer));
        for value in (0..60).map(|_| value(2).new_tree(&mut runner).unwrap().current()).filter(|v| written.is_valid(v)) {
            tried += 1;
            assert!(read.is_valid(&value), "{value} passes {writer} and not {reader}");
        }
    }
    println!("{promised} promised, {refused} refused, {unknown} not known, {tried} tried: {unknown_by:#?}");
    let all = pairs / 10;
    assert!(
        promised > 3 * all && refused > 3 * all && tried > 40 * all,
        "{promised} promised, {refused} refused, {tried} tried"
    );
    assert!(unknown <= pairs / 20, "{unknown} cannot be judged: {unknown_by:#?}");
}

#[test]
fn what_only_looks_as_if_it_could_be_read_is_not() {
    const OLD: &str = "http://json-schema.org/draft-07/schema#";
    let whole = json!({"type": "integer"});
    let text = json!({"properties": {"a": {"type": "string"}}});
    let number = json!({"properties": {"a": {"type": "integer"}}});
    let refers = |to: &str, defs: Json| json!({"properties": {"a": {"$ref": to}}, "$defs": defs});
    let cases = [
        // conditions of the writer that do not stand at its top
        (json!({"allOf": [text]}), number.clone(), json!({"a": "x"})),
        (json!({"$ref": "#/$defs/x", "$defs": {"x": text}}), number.clone(), json!({"a": "x"})),
        (json!({"properties": {"b": {}}, "oneOf": [text]}), number.clone(), json!({"a": "x"})),
        (json!({"if": {"required": ["a"]}, "then": text}), number.clone(), json!({"a": "x"})),
        (json!({"dependentSchemas": {"a": text}}), number, json!({"a": "x"})),
        // what looks at what stands beside it does not look behind references, nor from there
        (
            json!({"properties": {"a": {}}, "additionalProperties": false}),
            json!({"$ref": "#/$defs/x", "additionalProperties": false, "$defs": {"x": {"properties": {"a": {}}}}}),
            json!({"a": 1}),
        ),
        (
            json!({"prefixItems": [{}], "items": false}),
            json!({"$ref": "#/$defs/x", "prefixItems": [{}], "$defs": {"x": {"items": false}}}),
            json!([1]),
        ),
        (
            json!({"properties": {"a": {}}, "unevaluatedProperties": false}),
            json!({"$ref": "#/$defs/x", "properties": {"a": {}}, "$defs": {"x": {"unevaluatedProperties": false}}}),
            json!({"a": 1}),
        ),
        // what another case speaks of
        (
            json!({"anyOf": [
                {"properties": {"a": {"type": "string"}}, "required": ["a"]},
                {"properties": {"b": {"type": "string"}}, "required": ["b"]}]}),
            json!({"properties": {"b": {"type": "string"}}}),
            json!({"a": "x", "b": 5}),
        ),
        // what is left over
        (
            json!({"properties": {"a": {}, "b": {}}, "unevaluatedProperties": false}),
            json!({"properties": {"a": {}}, "unevaluatedProperties": false}),
            json!({"b": 1}),
        ),
        (
            json!({"prefixItems": [{}, {}], "unevaluatedItems": false}),
            json!({"prefixItems": [{}], "unevaluatedItems": false}),
            json!([1, 2]),
        ),
        (json!({"contains": {"const": 1}, "minContains": 0}), json!({"contains": {"const": 1}}), json!([])),
        // where references lead
        (text.clone(), refers("#x", json!({"x": {"$anchor": "x", "type": "integer"}})), json!({"a": "x"})),
        (
            text.clone(),
            refers("https://example.com/x", json!({"x": {"$id": "https://example.com/x", "type": "integer"}})),
            json!({"a": "x"}),
        ),
        (
            json!({"$schema": OLD, "properties": {"a": {"type": "string"}}}),
            json!({"$schema": OLD, "properties": {"a": {"$ref": "#x"}}, "definitions": {"x": {"$id": "#x", "type": "integer"}}}),
            json!({"a": "x"}),
        ),
        (
            text,
            refers(
                "https://example.com/x",
                json!({
                "own": {"type": "string"},
                "x": {"$id": "https://example.com/x", "$ref": "#/$defs/own", "$defs": {"own": whole}}}),
            ),
            json!({"a": "x"}),
        ),
        // what draft-07 checks
        (json!({"$schema": OLD, "type": "string"}), json!({"$schema": OLD, "type": "string", "format": "date"}), json!("x")),
        // what draft-07 does not know
        (
            json!({"$schema": OLD, "contains": {"const": 1}, "maxContains": 1}),
            json!({"$schema": OLD, "items": {"const": 1}, "prefixItems": [true]}),
            json!([2, 1]),
        ),
        (
            json!({"$schema": OLD, "type": "array"}),
            json!({"$schema": OLD, "contains": {"const": 1}, "minContains": 0}),
            json!([]),
        ),
        // numbers that a double does not hold, and one that is written in two ways
        (
            json!({"type": "integer", "maximum": 9_007_199_254_740_993_i64}),
            json!({"maximum": 9_007_199_254_740_992_i64}),
            json!(9_007_199_254_740_993_i64),
        ),
        (
            json!({"type": "integer", "multipleOf": 9_007_199_254_740_993_i64}),
            json!({"multipleOf": 9_007_199_254_740_992_i64}),
            json!(9_007_199_254_740_993_i64),
        ),
        (json!({"const": 1}), json!({"oneOf": [{"const": 1}, {"const": 1.0}]}), json!(1)),
    ];
    for (writer, reader, value) in cases {
        let parsed = |text: &Json| JsonSchema::parse(&text.to_string()).unwrap_or_else(|e| panic!("{text}: {e}"));
        assert!(!misfits(&parsed(&reader), &parsed(&writer)).is_empty(), "{writer} is said to be read by {reader}");
        assert!(misfits(&parsed(&reader), &parsed(&reader)).is_empty(), "{reader} reads itself");
        assert!(Judge::of(&writer).is_valid(&value), "{value} by {writer}");
        let large = value.as_i64().is_some_and(|n| n > 1 << 53);
        assert!(large || !Judge::of(&reader).is_valid(&value), "{value} by {reader}");
    }
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

#[test]
fn a_list_of_thousands_is_compared_value_by_value() {
    let of = |count: i32| {
        let values: Vec<String> = (0..count).map(|n| format!("bin-{n}")).collect();
        JsonSchema::parse(&json!({"properties": {"bin": {"enum": values}}}).to_string()).unwrap()
    };
    let (fewer, more) = (of(5_000), of(5_001));
    assert_eq!(misfits(&more, &fewer), []);
    let found = misfits(&fewer, &more);
    assert_eq!(found.len(), 1);
    assert!(!found[0].unknown && found[0].finding.contains("bin-5000"), "{found:?}");
}
