//! A schema that names types of other schemas, made into one that stands by itself.

use std::collections::{HashMap, HashSet};

use serde_json::{Map, Value as Json};

use super::parsing::read_json;
use super::schema::{SchemaError, full_name, namespace_of};

/// The schema's text with every type of the references that it uses written out at its first use. Without references it is
/// the text itself.
///
/// # Errors
/// [`SchemaError::Json`] if a text is not JSON. What a name does not lead to is left for [`super::schema::Schema::parse`] to say.
pub fn standalone(text: &str, references: &[&str]) -> Result<String, SchemaError> {
    let json = read_json(text)?;
    if references.is_empty() {
        return Ok(text.to_owned());
    }
    let mut known = HashMap::new();
    for reference in references {
        definitions(&read_json(reference)?, "", &mut known, 0);
    }
    let mut own = HashMap::new();
    definitions(&json, "", &mut own, 0);
    let mut written: HashSet<String> = HashSet::new();
    let out = write(&json, "", &known, &own, &mut written, 0);
    Ok(serde_json::to_string_pretty(&out).unwrap_or_else(|_| text.to_owned()))
}

const DEEPEST: usize = 64;

/// The named types that a schema defines, with full names.
fn definitions(json: &Json, namespace: &str, found: &mut HashMap<String, Json>, depth: usize) {
    if depth > DEEPEST {
        return;
    }
    match json {
        Json::Array(branches) => branches.iter().for_each(|b| definitions(b, namespace, found, depth + 1)),
        Json::Object(object) => {
            let full = defined(object, namespace);
            let inner = full.as_deref().map_or(namespace, namespace_of).to_owned();
            if let Some(full) = full {
                let mut definition = object.clone();
                definition.insert("name".to_owned(), full.clone().into());
                definition.shift_remove("namespace");
                found.insert(full, definition.into());
            }
            for key in ["type", "items", "values"] {
                object.get(key).into_iter().for_each(|inside| definitions(inside, &inner, found, depth + 1));
            }
            for field in object.get("fields").and_then(Json::as_array).into_iter().flatten() {
                field.get("type").into_iter().for_each(|ty| definitions(ty, &inner, found, depth + 1));
            }
        }
        _ => {}
    }
}

fn defined(object: &Map<String, Json>, namespace: &str) -> Option<String> {
    let word = object.get("type")?.as_str()?;
    let name = object.get("name")?.as_str()?;
    let own = object.get("namespace").and_then(Json::as_str).unwrap_or(namespace);
    ["record", "error", "enum", "fixed"].contains(&word).then(|| full_name(name, own))
}

fn write(
    json: &Json,
    namespace: &str,
    known: &HashMap<String, Json>,
    own: &HashMap<String, Json>,
    written: &mut HashSet<String>,
    depth: usize,
) -> Json {
    if depth > DEEPEST {
        return json.clone();
    }
    match json {
        Json::String(name) => {
            let full = full_name(name, namespace);
            let Some(full) = [full, name.clone()].into_iter().find(|n| own.contains_key(n) || known.contains_key(n)) else {
                return json.clone();
            };
            match known.get(&full) {
                Some(definition) if !own.contains_key(&full) && written.insert(full.clone()) => {
                    write(definition, namespace_of(&full), known, own, written, depth + 1)
                }
                _ => full.into(),
            }
        }
        Json::Array(branches) => {
            branches.iter().map(|b| write(b, namespace, known, own, written, depth + 1)).collect::<Vec<_>>().into()
        }
        Json::Object(object) => {
            let full = defined(object, namespace);
            let inner = full.as_deref().map_or(namespace, namespace_of).to_owned();
            let names_itself = full.is_some();
            written.extend(full);
            let mut out = object.clone();
            for key in ["type", "items", "values"] {
                if let Some(inside) =
                    object.get(key).filter(|i| !(key == "type" && (names_itself || i.as_str().is_some_and(is_word))))
                {
                    out.insert(key.to_owned(), write(inside, &inner, known, own, written, depth + 1));
                }
            }
            if let Some(fields) = object.get("fields").and_then(Json::as_array) {
                let field = |field: &Json| {
                    let mut field = field.clone();
                    if let Some(ty) = field.get("type").cloned() {
                        field["type"] = write(&ty, &inner, known, own, written, depth + 1);
                    }
                    field
                };
                out.insert("fields".to_owned(), fields.iter().map(field).collect::<Vec<_>>().into());
            }
            out.into()
        }
        other => other.clone(),
    }
}

fn is_word(text: &str) -> bool {
    ["array", "map", "null", "boolean", "int", "long", "float", "double", "bytes", "string"].contains(&text)
}

#[cfg(test)]
mod tests {
    use super::super::fingerprint::canonical_form;
    use super::super::schema::Schema;
    use super::*;

    #[test]
    fn types_of_other_schemas_are_written_out_where_they_are_first_used() {
        let grade = r#"{"type":"enum","name":"Grade","namespace":"averling","symbols":["A","B"]}"#;
        let lot = r#"{"type":"record","name":"Lot","namespace":"averling.cold","fields":[
            {"name":"grade","type":"averling.Grade"},{"name":"parts","type":{"type":"array","items":"Lot"}}]}"#;
        let text = r#"{"type":"record","name":"Offer","namespace":"averling","fields":[
            {"name":"lot","type":["null","averling.cold.Lot"]},{"name":"wanted","type":"Grade"}]}"#;
        assert!(Schema::parse(text).unwrap_err().to_string().contains("there is no type averling.cold.Lot"));
        let whole = standalone(text, &[grade, lot]).unwrap();
        let by_hand = r#"{"type":"record","name":"Offer","namespace":"averling","fields":[
            {"name":"lot","type":["null",{"type":"record","name":"averling.cold.Lot","fields":[
                {"name":"grade","type":{"type":"enum","name":"averling.Grade","symbols":["A","B"]}},
                {"name":"parts","type":{"type":"array","items":"averling.cold.Lot"}}]}]},
            {"name":"wanted","type":"averling.Grade"}]}"#;
        assert_eq!(canonical_form(&whole).unwrap(), canonical_form(by_hand).unwrap());
        assert_eq!(Schema::parse(&whole).unwrap(), Schema::parse(by_hand).unwrap());
    }
}
