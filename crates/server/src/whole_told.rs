//! Objects as they stand in the document: each whole, and each of several forms by a name of its own, so that makers of clients know what to
//! do with them.

use serde_json::{Map, Value, json};

const AT: &str = "#/components/schemas/";

/// Puts objects that are written in parts together, and gives each form of what has several a name.
pub(crate) fn tell_whole(document: &mut Value) {
    let Some(parts) = document["components"]["schemas"].as_object().cloned() else { return };
    for told in ["paths", "components"] {
        let whole = together(&document[told], &parts);
        document[told] = whole;
    }
    let Some(schemas) = document["components"]["schemas"].as_object_mut() else { return };
    let mut named = Map::new();
    for (name, schema) in schemas.iter_mut() {
        for forms in ["oneOf", "anyOf"] {
            for (number, form) in schema.get_mut(forms).and_then(Value::as_array_mut).into_iter().flatten().enumerate() {
                if form.get("properties").is_none() {
                    continue;
                }
                let own = format!("{name}{}", called(form).unwrap_or_else(|| (number + 1).to_string()));
                form.as_object_mut().map(|form| form.remove("title"));
                let form = std::mem::replace(form, json!({"$ref": format!("{AT}{own}")}));
                named.insert(own, form);
            }
        }
    }
    schemas.append(&mut named);
    schemas.sort_keys();
}

/// What a form of several is called by: its title, or the words that tell it from others.
fn called(form: &Value) -> Option<String> {
    if let Some(title) = form["title"].as_str() {
        return Some(capitals(title));
    }
    let words = form["properties"].as_object()?.values().filter_map(|field| match field["enum"].as_array()?.as_slice() {
        [word] => word.as_str(),
        _ => None,
    });
    Some(words.map(capitals).collect::<String>()).filter(|name| !name.is_empty())
}

/// Words as one, each with a capital.
fn capitals(text: &str) -> String {
    let words = text.split(|c: char| !c.is_ascii_alphanumeric()).filter(|word| !word.is_empty());
    words.map(|word| word[..1].to_uppercase() + &word[1..]).collect()
}

/// A part of the document in which nothing is written as several that all hold.
fn together(told: &Value, parts: &Map<String, Value>) -> Value {
    match told {
        Value::Object(fields) => {
            if let Some(all) = fields.get("allOf").and_then(Value::as_array) {
                return whole(fields, all, parts);
            }
            let mut fields: Map<String, Value> =
                fields.iter().map(|(name, field)| (name.clone(), together(field, parts))).collect();
            // forms of a form are forms of the whole
            for forms in ["oneOf", "anyOf"] {
                if let Some(each) = fields.get_mut(forms).and_then(Value::as_array_mut) {
                    *each = std::mem::take(each).into_iter().flat_map(forms_of).collect();
                }
            }
            Value::Object(fields)
        }
        Value::Array(items) => items.iter().map(|item| together(item, parts)).collect(),
        other => other.clone(),
    }
}

/// The forms that a schema has; itself where it has one.
fn forms_of(schema: Value) -> Vec<Value> {
    match schema.get("oneOf").and_then(Value::as_array) {
        Some(forms) => forms.clone(),
        None => vec![schema],
    }
}

/// Several schemas that all hold for an object, as one; in as many forms as their parts have.
fn whole(told: &Map<String, Value>, all: &[Value], parts: &Map<String, Value>) -> Value {
    let mut forms = vec![Map::new()];
    for part in all {
        let named = part["$ref"].as_str().and_then(|to| parts.get(to.strip_prefix(AT)?));
        let each = forms_of(together(named.unwrap_or(part), parts));
        let each: Vec<&Map<String, Value>> = each.iter().filter_map(Value::as_object).collect();
        forms = forms.iter().flat_map(|form| each.iter().map(move |part| joined(form, part))).collect();
    }
    for form in &mut forms {
        form.extend(told.iter().filter(|(name, _)| *name != "allOf").map(|(name, says)| (name.clone(), says.clone())));
    }
    match forms.len() {
        1 => forms.remove(0).into(),
        _ => json!({ "oneOf": forms }),
    }
}

/// An object of both. It is closed where one of them is: what neither of them knows is refused.
fn joined(one: &Map<String, Value>, other: &Map<String, Value>) -> Map<String, Value> {
    let mut both = one.clone();
    for (name, says) in other {
        match (both.get_mut(name), says) {
            (Some(Value::Object(known)), Value::Object(more)) => known.extend(more.clone()),
            (Some(Value::Array(known)), Value::Array(more)) => {
                known
                    .extend(more.iter().filter(|word| !one[name].as_array().is_some_and(|had| had.contains(word))).cloned());
            }
            _ => _ = both.insert(name.clone(), says.clone()),
        }
    }
    both
}
