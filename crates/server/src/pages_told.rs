//! Pages of lists as they stand in the document: each by a name of its own, with its items by theirs.

use serde_json::{Value, json};

const AT: &str = "#/components/schemas/";
/// What begins the name of a page, before that of its items.
const PAGE: &str = "Page_";

/// Gives pages and their items names.
pub(crate) fn name_pages(document: &mut Value) {
    let Some(schemas) = document["components"]["schemas"].as_object_mut() else { return };
    let pages: Vec<String> = schemas.keys().filter_map(|name| name.strip_prefix(PAGE)).map(str::to_owned).collect();
    for item in pages {
        let Some(mut page) = schemas.remove(&format!("{PAGE}{item}")) else { continue };
        let within = page["properties"]["items"]["items"].take();
        page["properties"]["items"]["items"] = json!({"$ref": format!("{AT}{item}")});
        schemas.entry(item.as_str()).or_insert(within);
        schemas.insert(format!("{item}Page"), page);
    }
    schemas.sort_keys();
    refer(document);
}

fn refer(part: &mut Value) {
    match part {
        Value::Object(fields) => {
            for (name, field) in fields {
                let item = field.as_str().filter(|_| name == "$ref").and_then(|to| to.strip_prefix(AT)?.strip_prefix(PAGE));
                match item.map(|item| format!("{AT}{item}Page")) {
                    Some(to) => *field = to.into(),
                    None => refer(field),
                }
            }
        }
        Value::Array(items) => items.iter_mut().for_each(refer),
        _ => {}
    }
}
