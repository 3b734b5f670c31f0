//! What the references of a schema lead to: by pointers, anchors and the identifiers of schemas within it ("Schema Identification" in
//! the specification's core, draft 2020-12; "Schema References With $ref" in draft-07).

use std::collections::HashMap;

use jsonschema::{Draft, Validator};
use serde_json::{Map, Value as Json};
use url::Url;

use super::options::options;

/// The base of what has no identifier of its own.
const BASE: &str = "json-schema:///";
/// How many references are followed on one way down.
pub(super) const DEEPEST: usize = 200;

/// What a keyword holds.
pub(super) enum Holds<'s> {
    One(&'s Json),
    List(&'s Vec<Json>),
    Named(&'s Map<String, Json>),
    Nothing,
}

/// What a keyword holds; of one that is not known, what it looks like: a reference may lead there.
pub(super) fn holds<'s>(keyword: &str, value: &'s Json) -> Holds<'s> {
    match (keyword, value) {
        ("enum" | "const" | "default" | "examples" | "required" | "type" | "dependentRequired", _) => Holds::Nothing,
        (
            "properties" | "patternProperties" | "dependentSchemas" | "dependencies" | "$defs" | "definitions",
            Json::Object(named),
        ) => Holds::Named(named),
        (_, Json::Array(list)) => Holds::List(list),
        (_, Json::Object(_)) => Holds::One(value),
        _ => Holds::Nothing,
    }
}

/// A schema with what its references lead to.
#[derive(Debug)]
pub(super) struct Side<'s> {
    pub(super) is_draft_7: bool,
    /// By the places of the schemas that refer; those that lead nowhere here are left out.
    targets: HashMap<*const Map<String, Json>, &'s Json>,
}

/// Schemas by their identifiers, as a walk over the whole finds them.
struct Index<'s> {
    is_draft_7: bool,
    resources: HashMap<String, &'s Json>,
    anchors: HashMap<(String, String), &'s Json>,
    /// Who refers, with the base that counts there.
    referring: Vec<(&'s Map<String, Json>, Url)>,
}

fn without_fragment(url: &Url) -> String {
    let mut url = url.clone();
    url.set_fragment(None);
    url.into()
}

impl<'s> Index<'s> {
    fn walk(&mut self, schema: &'s Json, base: &Url) {
        let Json::Object(object) = schema else { return };
        let mut base = base.clone();
        let refers = object.get("$ref").is_some_and(Json::is_string);
        // beside a reference nothing counts in draft-07, not even an identifier
        if let Some(id) = object.get("$id").and_then(Json::as_str).filter(|_| !(self.is_draft_7 && refers)) {
            match id.strip_prefix('#') {
                Some(anchor) if self.is_draft_7 => {
                    self.anchors.insert((without_fragment(&base), anchor.to_owned()), schema);
                }
                _ => {
                    if let Ok(joined) = base.join(id) {
                        base = joined;
                        self.resources.insert(without_fragment(&base), schema);
                    }
                }
            }
        }
        for anchor in ["$anchor", "$dynamicAnchor"].into_iter().filter_map(|key| object.get(key)?.as_str()) {
            self.anchors.insert((without_fragment(&base), anchor.to_owned()), schema);
        }
        if refers {
            self.referring.push((object, base.clone()));
        }
        for (keyword, value) in object {
            match holds(keyword, value) {
                Holds::One(inner) => self.walk(inner, &base),
                Holds::List(list) => list.iter().for_each(|inner| self.walk(inner, &base)),
                Holds::Named(named) => named.values().for_each(|inner| self.walk(inner, &base)),
                Holds::Nothing => {}
            }
        }
    }

    fn target(&self, reference: &str, base: &Url) -> Option<&'s Json> {
        let url = base.join(reference).ok()?;
        let resource = without_fragment(&url);
        let fragment = percent_encoding::percent_decode_str(url.fragment().unwrap_or("")).decode_utf8().ok()?;
        let schema = *self.resources.get(&resource)?;
        if fragment.is_empty() || fragment.starts_with('/') {
            return schema.pointer(&fragment);
        }
        self.anchors.get(&(resource, fragment.into_owned())).copied()
    }
}

impl<'s> Side<'s> {
    pub(super) fn new(root: &'s Json) -> Self {
        let is_draft_7 = root.get("$schema").and_then(Json::as_str).is_some_and(|s| s.contains("draft-07"));
        let (resources, anchors) = (HashMap::new(), HashMap::new());
        let mut index = Index { is_draft_7, resources, anchors, referring: Vec::new() };
        let mut targets = HashMap::new();
        if let Ok(base) = Url::parse(BASE) {
            index.resources.insert(BASE.to_owned(), root);
            index.walk(root, &base);
            for (object, base) in &index.referring {
                let reference = object.get("$ref").and_then(Json::as_str).unwrap_or_default();
                if let Some(target) = index.target(reference, base) {
                    targets.insert(std::ptr::from_ref::<Map<String, Json>>(object), target);
                }
            }
        }
        Self { is_draft_7, targets }
    }

    /// Checks values by a schema that refers to nothing, in the draft of the whole.
    pub(super) fn checker(&self, schema: &Json) -> Option<Validator> {
        let draft = if self.is_draft_7 { Draft::Draft7 } else { Draft::Draft202012 };
        options(draft).build(schema).ok()
    }

    /// What a schema's reference leads to; none where it has none, or one that leads nowhere here.
    pub(super) fn target(&self, schema: &Map<String, Json>) -> Option<&'s Json> {
        self.targets.get(&std::ptr::from_ref(schema)).copied()
    }

    /// The schema itself, or what it refers to when that is all it does.
    pub(super) fn resolve(&self, mut schema: &'s Json) -> &'s Json {
        for _ in 0..DEEPEST {
            let Some(object) = schema.as_object() else { return schema };
            let only = self.is_draft_7 || object.keys().all(|k| k == "$ref" || is_annotation(k));
            let Some(target) = self.target(object).filter(|_| only) else { return schema };
            schema = target;
        }
        schema
    }
}

/// Whether a keyword says nothing of values.
pub(super) fn is_annotation(keyword: &str) -> bool {
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
            | "$dynamicAnchor"
            | "$vocabulary"
            | "contentEncoding"
            | "contentMediaType"
            | "contentSchema"
    )
}

/// Whether something in a schema refers to elsewhere.
pub(super) fn refers(schema: &Json) -> bool {
    match schema {
        Json::Object(object) => {
            ["$ref", "$dynamicRef", "$recursiveRef"].into_iter().any(|key| object.contains_key(key))
                || object.values().any(refers)
        }
        Json::Array(items) => items.iter().any(refers),
        _ => false,
    }
}

#[cfg(test)]
mod tests {
    use serde_json::json;

    use super::*;

    fn leads(root: &Json, from: &str) -> Option<String> {
        let side = Side::new(root);
        let target = side.target(root.pointer(from)?.as_object()?)?;
        Some(target.get("title")?.as_str()?.to_owned())
    }

    #[test]
    fn references_lead_where_the_specification_says() {
        let root = json!({
            "$id": "https://example.com/loads", "title": "root",
            "$defs": {
                "kg": {"$anchor": "weight", "title": "kg"},
                "bin": {"$id": "bins/bin", "title": "bin", "$defs": {"kg": {"title": "own kg"}},
                    "properties": {"local": {"$ref": "#/$defs/kg"}, "up": {"$ref": "../loads#weight"}, "self": {"$ref": "#"}}},
                "a b": {"title": "spaced"}
            },
            "properties": {
                "a": {"$ref": "#/$defs/kg"}, "b": {"$ref": "#weight"}, "c": {"$ref": "https://example.com/bins/bin"},
                "d": {"$ref": "bins/bin#/$defs/kg"}, "e": {"$ref": "#/$defs/a%20b"}, "f": {"$ref": "#nowhere"},
                "$ref": {"title": "a property of this name"}
            },
            "enum": [{"$ref": "#weight"}]
        });
        let at = |name: &str| leads(&root, &format!("/properties/{name}"));
        let found = ["a", "b", "c", "d", "e", "f"].map(at);
        let expected = [Some("kg"), Some("kg"), Some("bin"), Some("own kg"), Some("spaced"), None];
        assert_eq!(found.iter().map(Option::as_deref).collect::<Vec<_>>(), expected);
        let within = |name: &str| leads(&root, &format!("/$defs/bin/properties/{name}"));
        assert_eq!(["local", "up", "self"].map(within), ["own kg", "kg", "bin"].map(|t| Some(t.to_owned())));
        assert_eq!(leads(&root, "/properties"), None);
        let old = json!({"$schema": "http://json-schema.org/draft-07/schema#", "definitions": {"kg": {"$id": "#weight", "title": "kg"}},
            "properties": {"a": {"$ref": "#weight"}}});
        assert_eq!(leads(&old, "/properties/a").as_deref(), Some("kg"));
    }
}
