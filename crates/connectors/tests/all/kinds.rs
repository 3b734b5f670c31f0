//! What a kind says of its settings is what its connections take: no more, no less, and what is usual.

use gonvel_connectors::kinds::kinds;
use gonvel_core::installation::ConnectionText;
use gonvel_core::kinds::{Setting, SettingType};
use serde_json::{Map, Value, json};

/// A value that a setting takes, which is not its usual one.
fn sample(setting: &Setting) -> Value {
    match &setting.takes {
        _ if setting.secret => json!({"env": "SECRET"}),
        SettingType::Text | SettingType::Lines => json!("text"),
        SettingType::Whole { least, most } => {
            let middle = (least + most) / 2;
            json!(middle)
        }
        SettingType::Choice { choices } => {
            json!(choices.iter().map(|c| &c.value).find(|value| Some(*value) != setting.usual.as_ref()).unwrap())
        }
        SettingType::Pairs => json!({"name": "value"}),
    }
}

fn read(settings: &Map<String, Value>, kind: &str) -> Result<Value, String> {
    let mut whole = settings.clone();
    whole.insert("connection".into(), json!("packhouse"));
    whole.insert("kind".into(), json!(kind));
    let text: ConnectionText = serde_json::from_value(whole.into()).map_err(|e| e.to_string())?;
    let mut written = serde_json::to_value(text).unwrap();
    let fields = written.as_object_mut().unwrap();
    fields.remove("connection");
    fields.remove("kind");
    Ok(written)
}

#[test]
fn settings_are_described_as_they_are_taken() {
    let all = kinds();
    assert!(!all.is_empty());
    for about in all {
        let kind = about.kind.as_ref();
        let whole: Map<String, Value> = about.settings.iter().map(|s| (s.name.to_string(), sample(s))).collect();
        assert_eq!(whole.len(), about.settings.len(), "{kind}: a setting stands twice");
        assert_eq!(read(&whole, kind), Ok(Value::Object(whole.clone())), "{kind}: all that is described is taken and kept");
        for setting in &about.settings {
            let mut without = whole.clone();
            without.remove(setting.name.as_ref());
            let taken = read(&without, kind);
            assert_eq!(taken.is_err(), setting.needed, "{kind}: {}", setting.name);
            let mut other = whole.clone();
            other.insert(setting.name.to_string(), json!([true]));
            assert!(read(&other, kind).is_err(), "{kind}: {} takes a list", setting.name);
            if let (Some(usual), false) = (&setting.usual, setting.needed) {
                let mut usually = whole.clone();
                usually.insert(setting.name.to_string(), json!(usual));
                assert_eq!(read(&usually, kind), taken, "{kind}: {} is usually {usual}", setting.name);
            }
            if let SettingType::Choice { choices } = &setting.takes {
                for choice in choices {
                    let mut chosen = whole.clone();
                    chosen.insert(setting.name.to_string(), json!(choice.value));
                    assert!(read(&chosen, kind).is_ok(), "{kind}: {} is {}", setting.name, choice.value);
                }
            }
            if let Some(only) = &setting.only_if {
                assert!(about.settings.iter().any(|s| s.name == only.setting), "{kind}: there is no {}", only.setting);
            }
        }
        let mut more = whole.clone();
        more.insert("colour".into(), json!("red"));
        assert!(read(&more, kind).is_err());
    }
}
