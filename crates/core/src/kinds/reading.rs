//! Settings of a connection as they are given, read by what their kind says of them.

use std::collections::BTreeMap;

use serde_json::{Map, Value};

use super::{About, OnlyIf, Setting, SettingType};
use crate::nearest::perhaps;

/// What is wrong with a setting.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SettingFault {
    /// Its name, as it was given or as it is missing.
    pub setting: String,
    /// Whether its value is wrong; else it is the name, or that it stands there or not.
    pub value: bool,
    /// What was found, and what fits. Never a secret.
    pub finding: String,
}

impl SettingFault {
    /// That a setting hangs on another one which is not as it has to be; none of one that hangs on none.
    fn of_no_use(setting: &Setting) -> Option<Self> {
        let OnlyIf { setting: other, is } = setting.only_if.as_ref()?;
        let finding = match is.is_empty() {
            true => format!("{} is of no use without {other}: give that, or take it out", setting.name),
            false => {
                format!("{} is of no use unless {other} is {}: set that, or take it out", setting.name, is.join(" or "))
            }
        };
        Some(Self { setting: setting.name.to_string(), value: false, finding })
    }
}

/// Settings that were read, in the order of their kind.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Settings<S> {
    /// Those that are no secrets, but for those that are as usual.
    pub plain: Map<String, Value>,
    /// Secrets that are in force.
    pub secrets: BTreeMap<String, S>,
}

impl About {
    /// A setting by its name.
    #[must_use]
    pub fn setting(&self, name: &str) -> Option<&Setting> {
        self.settings.iter().find(|setting| setting.name == name)
    }

    /// Reads settings; `secret` reads one that is a secret, and says what is wrong with it without repeating it. What is empty is not given.
    ///
    /// # Errors
    /// All that is wrong.
    pub fn read<S>(
        &self,
        given: &Map<String, Value>,
        secret: impl Fn(&Value) -> Result<S, String>,
    ) -> Result<Settings<S>, Vec<SettingFault>> {
        let mut faults = Vec::new();
        for name in given.keys().filter(|name| self.setting(name).is_none()) {
            let names = self.settings.iter().map(|setting| setting.name.as_ref());
            let finding = format!("{} has no setting {name}{}", self.name, perhaps(name, names.clone()));
            let finding = format!("{finding}: it has {}", names.collect::<Vec<_>>().join(", "));
            faults.push(SettingFault { setting: name.clone(), value: false, finding });
        }
        let mut read = Settings { plain: Map::new(), secrets: BTreeMap::new() };
        for setting in &self.settings {
            let mut fault = |value, finding| faults.push(SettingFault { setting: setting.name.to_string(), value, finding });
            match given.get(setting.name.as_ref()).filter(|value| !is_nothing(value)) {
                None if setting.needed => {
                    let stands = given.contains_key(setting.name.as_ref());
                    let is = if stands { "is empty: fill it in" } else { "is missing: give it" };
                    fault(stands, format!("the {} {is}", setting.name));
                }
                None => {}
                Some(value) if setting.secret => match secret(value) {
                    Ok(secret) => {
                        read.secrets.insert(setting.name.to_string(), secret);
                    }
                    Err(finding) => fault(true, finding),
                },
                Some(value) => match setting.takes.fault(value) {
                    Some(finding) => fault(true, format!("{} {finding}", setting.name)),
                    None if setting.goes_without_saying(value) => {}
                    None => {
                        read.plain.insert(setting.name.to_string(), value.clone());
                    }
                },
            }
        }
        if !faults.is_empty() {
            return Err(faults);
        }
        let is_given = |setting: &&Setting| given.get(setting.name.as_ref()).is_some_and(|value| !is_nothing(value));
        let idle = self.settings.iter().filter(is_given).filter(|setting| !self.in_force(setting, &read.plain));
        let faults: Vec<SettingFault> = idle.filter_map(SettingFault::of_no_use).collect();
        if faults.is_empty() { Ok(read) } else { Err(faults) }
    }

    /// Whether a setting is of use, by what others are.
    #[must_use]
    pub fn in_force(&self, setting: &Setting, given: &Map<String, Value>) -> bool {
        let Some(OnlyIf { setting: other, is }) = &setting.only_if else { return true };
        let usual = || self.setting(other)?.usual_value();
        let value = given.get(other.as_ref()).cloned().or_else(usual);
        match is.is_empty() {
            false => value.is_some_and(|value| is.iter().any(|is| value == is.as_ref())),
            true => given.contains_key(other.as_ref()),
        }
    }
}

fn is_nothing(value: &Value) -> bool {
    match value {
        Value::Null => true,
        Value::String(text) => text.trim().is_empty(),
        Value::Object(pairs) => pairs.is_empty(),
        _ => false,
    }
}

impl Setting {
    /// Whether a value need not be said: it is nothing, or what is usual where nothing is said.
    #[must_use]
    pub fn goes_without_saying(&self, value: &Value) -> bool {
        !self.needed && (is_nothing(value) || self.is_usual(value))
    }

    /// Its usual value, as its type has it; none where it has none.
    #[must_use]
    pub fn usual_value(&self) -> Option<Value> {
        let usual = self.usual.as_deref()?;
        match self.takes {
            SettingType::Whole { .. } => usual.parse::<i64>().ok().map(Value::from),
            _ => Some(usual.into()),
        }
    }

    fn is_usual(&self, value: &Value) -> bool {
        self.usual_value().as_ref() == Some(value)
    }
}

impl SettingType {
    /// Why a value is none that it takes.
    fn fault(&self, value: &Value) -> Option<String> {
        match (self, value) {
            (Self::Text | Self::Lines, Value::String(_)) => None,
            (Self::Text | Self::Lines, other @ (Value::Number(_) | Value::Bool(_))) => {
                Some(format!("takes text, not {other}: put it in quotes"))
            }
            (Self::Text | Self::Lines, _) => Some("takes text".into()),
            (Self::Whole { least, most }, value) => {
                let fits = value.as_i64().is_some_and(|number| (*least..=*most).contains(&number));
                (!fits).then(|| format!("takes a whole number from {least} to {most}, not {}", short(value)))
            }
            (Self::Choice { choices }, value) => {
                let words: Vec<&str> = choices.iter().map(|choice| choice.value.as_ref()).collect();
                let text = value.as_str().unwrap_or_default();
                let meant = perhaps(text, words.iter().copied());
                let fits = value.as_str().is_some_and(|text| words.contains(&text));
                (!fits).then(|| format!("takes {}, not {}{meant}", words.join(", "), short(value)))
            }
            (Self::Pairs, Value::Object(pairs)) => {
                let other = pairs.iter().find(|(_, value)| !value.is_string());
                other.map(|(name, value)| {
                    format!("takes text for each name, and {name} is {}: put it in quotes", short(value))
                })
            }
            (Self::Pairs, other) => Some(format!("takes values by name, not {}", short(other))),
        }
    }
}

/// A value as it is told.
fn short(value: &Value) -> String {
    match value {
        Value::Array(_) => "a list".into(),
        Value::Object(_) => "values by name".into(),
        other => other.to_string().chars().take(60).collect(),
    }
}

#[cfg(test)]
mod tests {
    use serde_json::json;

    use super::*;
    use crate::kinds::example::cold_room;

    fn read(given: Value) -> Result<Settings<String>, Vec<(String, bool, String)>> {
        let given = given.as_object().unwrap().clone();
        let secret = |value: &Value| value.as_str().map(str::to_owned).ok_or_else(|| "a secret is text".to_owned());
        let faults = |all: Vec<SettingFault>| all.into_iter().map(|f| (f.setting, f.value, f.finding)).collect();
        cold_room().read(&given, secret).map_err(faults)
    }

    #[test]
    fn what_is_given_is_kept_in_order_but_for_what_is_as_usual() {
        let all = json!({"settings": {"a": "b"}, "log_password": "g", "log_user": "J", "tls": "verify", "password": "k", "ca": "C", "port": 5432, "host": "db"});
        let found = read(all).unwrap();
        let kept = r#"{"host":"db","port":5432,"tls":"verify","ca":"C","log_user":"J","settings":{"a":"b"}}"#;
        assert_eq!(Value::from(found.plain).to_string(), kept);
        assert_eq!(
            found.secrets.into_iter().collect::<Vec<_>>(),
            [("log_password", "g"), ("password", "k")].map(|(n, s)| (n.to_owned(), s.to_owned()))
        );
        let usual = json!({"host": "db", "port": 1, "tls": "prefer", "ca": "", "settings": {}});
        assert_eq!(Value::from(read(usual).unwrap().plain).to_string(), r#"{"host":"db","port":1}"#);
    }

    #[test]
    fn all_that_is_wrong_is_told_and_no_secret() {
        for (given, setting, value, part) in [
            (json!({"host": "n"}), "port", false, "the port is missing"),
            (json!({"host": " ", "port": 1}), "host", true, "the host is empty: fill it in"),
            (json!({"host": 7, "port": 1}), "host", true, "host takes text, not 7: put it in quotes"),
            (json!({"host": ["n"], "port": 1}), "host", true, "host takes text"),
            (json!({"host": "n", "port": 65_536}), "port", true, "a whole number from 1 to 65535, not 65536"),
            (json!({"host": "n", "port": "4"}), "port", true, "a whole number from 1 to 65535, not \"4\""),
            (json!({"host": "n", "port": 4.5}), "port", true, "not 4.5"),
            (json!({"host": "n", "port": 1, "tls": "verfy"}), "tls", true, "not \"verfy\", perhaps verify is meant"),
            (json!({"host": "n", "port": 1, "log_usr": "J"}), "log_usr", false, "perhaps log_user is meant: it has host,"),
            (json!({"host": "n", "port": 1, "settings": {"a": 5}}), "settings", true, "a is 5: put it in quotes"),
            (json!({"host": "n", "port": 1, "settings": "a=b"}), "settings", true, "values by name, not \"a=b\""),
            (
                json!({"host": "n", "port": 1, "log_password": "hunter2"}),
                "log_password",
                false,
                "of no use without log_user",
            ),
            (json!({"host": "n", "port": 1, "tls": "prefer", "ca": "C"}), "ca", false, "of no use unless tls is verify"),
            (json!({"host": "n", "port": 1, "ca": "C"}), "ca", false, "of no use unless tls is verify"),
            (json!({"host": "n", "port": 1, "password": {"hunter2": 1}}), "password", true, "a secret is text"),
        ] {
            let faults = read(given.clone()).unwrap_err();
            let [(found, at, finding)] = &faults[..] else { panic!("{given}: {faults:?}") };
            assert_eq!((found.as_str(), *at), (setting, value), "{given}: {finding}");
            assert!(finding.contains(part) && !finding.contains("hunter2"), "{given}: {finding}");
        }
        assert_eq!(read(json!({"door": 1, "port": 0})).unwrap_err().len(), 3);
    }
}
