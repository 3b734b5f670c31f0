//! What a connection is given, as the document says it: for each kind the settings that it describes.

use gonvel_core::kinds::{About, Setting, SettingType};
use gonvel_runtime::systems;
use serde_json::{Map, Value, json};
use utoipa::openapi::OpenApi;

const REQUEST: &str = "ConnectionRequest";

/// Puts the kinds' own settings in the place of what is said of any.
pub(crate) fn tell_kinds(document: &mut OpenApi) {
    let first = systems::first_kind().about().kind;
    let kinds: Vec<Value> = systems::kinds().iter().map(|about| request(about, about.kind == first)).collect();
    let told = json!({
        "description": "A way to reach a system. A secret goes in but never comes out; when a connection is changed, one that is not given stays.",
        "oneOf": kinds,
    });
    let Some(components) = &mut document.components else { return };
    if let Ok(told) = serde_json::from_value(told) {
        components.schemas.insert(REQUEST.to_owned(), told);
    }
}

/// A connection of one kind. The first one's need not say which it is.
fn request(about: &About, first: bool) -> Value {
    let mut fields = Map::new();
    fields.insert("name".into(), json!({"type": "string", "description": "Its name: letters, digits, `.`, `-`, `_`."}));
    fields.insert("kind".into(), json!({"type": "string", "enum": [about.kind], "description": "The kind of system."}));
    fields.extend(about.settings.iter().map(|setting| (setting.name.to_string(), taken(setting))));
    let mut required = vec!["name"];
    required.extend((!first).then_some("kind"));
    required.extend(about.settings.iter().filter(|setting| setting.needed).map(|setting| setting.name.as_ref()));
    json!({
        "type": "object", "title": about.name, "description": about.says, "required": required, "properties": fields,
        "additionalProperties": false,
    })
}

fn taken(setting: &Setting) -> Value {
    let text = [setting.label.as_ref(), setting.help.as_ref()].join(". ");
    let mut schema = match &setting.takes {
        SettingType::Text | SettingType::Lines => json!({"type": "string"}),
        SettingType::Whole { least, most } => json!({"type": "integer", "minimum": least, "maximum": most}),
        SettingType::Choice { choices } => {
            json!({"type": "string", "enum": choices.iter().map(|choice| &choice.value).collect::<Vec<_>>()})
        }
        SettingType::Pairs => json!({"type": "object", "additionalProperties": {"type": "string"}}),
    };
    schema["description"] = text.trim_end_matches(['.', ' ']).into();
    if setting.secret {
        schema["format"] = "password".into();
        schema["writeOnly"] = true.into();
    }
    schema
}
