//! Columns for fields that no column takes yet, where those are to be added.

use gonvel_core::event_rows::{EventColumn, Part};
use serde_json::Value as Json;

use crate::proposing::{Declared, declared, name_for};
use crate::schema::EventSchema;

/// Columns for the fields of a JSON object that no column takes: the schema says the type of each, else it is one that takes whatever
/// comes there later of its kind. A field that is null says nothing yet.
pub(crate) fn columns_for(rest: &str, schema: Option<&EventSchema>, there: &[EventColumn]) -> Vec<EventColumn> {
    let Ok(Json::Object(fields)) = serde_json::from_str(rest) else { return Vec::new() };
    let mut adding = Adding { declared: declared(schema), columns: there.to_vec() };
    let mut path = Vec::new();
    fields.iter().for_each(|(name, value)| adding.field(name, value, &mut path));
    adding.columns.split_off(there.len())
}

struct Adding {
    declared: Declared,
    columns: Vec<EventColumn>,
}

impl Adding {
    fn field(&mut self, name: &str, value: &Json, path: &mut Vec<String>) {
        path.push(name.to_owned());
        let declared = self.declared.iter().find(|(known, _)| known == path).map(|(_, ty)| ty.clone());
        match (declared, value) {
            (_, Json::Null) => {}
            (Some(Some(ty)), _) => self.add(path, ty),
            (_, Json::Object(fields)) if !fields.is_empty() => {
                fields.iter().for_each(|(name, value)| self.field(name, value, path));
            }
            (_, value) => self.add(path, widest(value).to_owned()),
        }
        path.pop();
    }

    fn add(&mut self, path: &[String], ty: String) {
        let name = name_for(path, &self.columns);
        self.columns.push(EventColumn { name, ty, path: path.to_vec(), ..EventColumn::of(Part::Field, "", "") });
    }
}

/// The type that takes whatever may come where a value stood that no schema declares.
fn widest(value: &Json) -> &'static str {
    match value {
        Json::Bool(_) => "boolean",
        Json::Number(_) => "numeric",
        Json::String(_) => "text",
        Json::Null | Json::Array(_) | Json::Object(_) => "jsonb",
    }
}
