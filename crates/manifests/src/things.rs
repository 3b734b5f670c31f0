//! What an installation consists of, as it stands in manifests. What is as it usually is need not stand there.

use std::collections::{BTreeMap, BTreeSet};

use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};

use super::SecretFrom;
use crate::connector_text::ConnectorText;
use gonvel_core::kinds::{About, Settings};
use gonvel_core::own_function::{FunctionExample, OwnFunction, Parameter};
use gonvel_core::schemas::{Language, Rule, SchemaReference};
use gonvel_core::topic_settings::{DAY_MS, Keep, TopicSettings};

fn is_usual<T: Default + PartialEq>(value: &T) -> bool {
    *value == T::default()
}

/// A kind of thing, in the order in which they are made: each refers only to things of its own kind and of those before it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize, utoipa::ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum ThingKind {
    /// A connection.
    Connection,
    /// A function of one's own.
    Function,
    /// A schema.
    Schema,
    /// A topic.
    Topic,
    /// A connector.
    Connector,
    /// A reader.
    Reader,
}

impl ThingKind {
    /// All of them.
    pub const ALL: [Self; 6] = [Self::Connection, Self::Function, Self::Schema, Self::Topic, Self::Connector, Self::Reader];

    /// The word that a manifest of it begins with.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Connection => "connection",
            Self::Function => "function",
            Self::Schema => "schema",
            Self::Topic => "topic",
            Self::Connector => "connector",
            Self::Reader => "reader",
        }
    }
}

/// A connection.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct ConnectionText {
    /// Its name.
    pub connection: String,
    /// The kind of system.
    pub kind: String,
    /// Its settings, in the order of the kind's; of a secret where it comes from.
    #[serde(flatten)]
    pub settings: Map<String, Value>,
    /// The same of the secrets alone; without one a kept one stays.
    #[serde(skip)]
    pub secrets: BTreeMap<String, SecretFrom>,
}

impl ConnectionText {
    /// A connection with settings as its kind reads them.
    ///
    /// # Panics
    /// Never: where a secret comes from is text.
    #[must_use]
    pub fn of(connection: &str, about: &About, read: Settings<SecretFrom>) -> Self {
        let mut settings = Map::new();
        for setting in &about.settings {
            let name = setting.name.as_ref();
            // what was kept before it had to be of use is not written
            let said = |value: &&Value| !setting.goes_without_saying(value) && about.in_force(setting, &read.plain);
            if let Some(value) = read.plain.get(name).filter(said) {
                settings.insert(name.into(), value.clone());
            } else if let Some(from) = read.secrets.get(name) {
                settings.insert(name.into(), serde_json::to_value(from).expect("text"));
            }
        }
        Self { connection: connection.into(), kind: about.kind.to_string(), settings, secrets: read.secrets }
    }

    /// Its settings without its secrets.
    #[must_use]
    pub fn plain(&self) -> Map<String, Value> {
        let plain = self.settings.iter().filter(|(name, _)| !self.secrets.contains_key(*name));
        plain.map(|(name, value)| (name.clone(), value.clone())).collect()
    }
}

/// A function of one's own.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct FunctionText {
    /// Its name.
    pub function: String,
    /// What it is for.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub description: String,
    /// Its parameters.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub parameters: Vec<Parameter>,
    /// The type that it gives.
    pub gives: String,
    /// The expression.
    pub value: String,
    /// Examples.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub examples: Vec<FunctionExample>,
}

impl From<FunctionText> for OwnFunction {
    fn from(text: FunctionText) -> Self {
        let FunctionText { function: name, description, parameters, gives, value, examples } = text;
        Self { name, parameters, gives, value, description, examples }
    }
}

impl From<OwnFunction> for FunctionText {
    fn from(function: OwnFunction) -> Self {
        let OwnFunction { name, parameters, gives, value, description, examples } = function;
        Self { function: name, description, parameters, gives, value, examples }
    }
}

/// A version of a schema.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct VersionText {
    /// Its text.
    pub text: String,
    /// The versions it names types of.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub references: Vec<SchemaReference>,
}

/// A schema. The last of its versions is the one that it is to have; those before it are registered only where it is new.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct SchemaText {
    /// Its name.
    pub schema: String,
    /// The language of all its versions.
    pub language: Language,
    /// What it is for.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub description: String,
    /// Who answers for it.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub owner: String,
    /// Words to find it by.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub labels: Vec<String>,
    /// Its rule.
    #[serde(default, skip_serializing_if = "is_usual")]
    pub rule: Rule,
    /// Whether it takes no more versions.
    #[serde(default, skip_serializing_if = "is_usual")]
    pub retired: bool,
    /// Its versions, the oldest first.
    pub versions: Vec<VersionText>,
}

/// A schema that a topic's keys or values are bound to.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct BoundText {
    /// The schema.
    pub schema: String,
    /// Whether records that do not fit are refused.
    #[serde(default, skip_serializing_if = "is_usual")]
    pub required: bool,
}

/// What a manifest says of a topic's keys or values.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Binding {
    /// That they are bound to nothing: the word `none`.
    Nothing,
    /// To what.
    To(BoundText),
}

const NONE: &str = "none";

impl Serialize for Binding {
    fn serialize<S: serde::Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        match self {
            Self::Nothing => serializer.serialize_str(NONE),
            Self::To(bound) => bound.serialize(serializer),
        }
    }
}

impl<'de> Deserialize<'de> for Binding {
    fn deserialize<D: serde::Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        struct Bound;

        impl<'de> serde::de::Visitor<'de> for Bound {
            type Value = Binding;

            fn expecting(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
                f.write_str("a schema, as in {schema: cold.Reading}, or none")
            }

            fn visit_str<E: serde::de::Error>(self, word: &str) -> Result<Binding, E> {
                if word == NONE {
                    Ok(Binding::Nothing)
                } else {
                    Err(E::invalid_value(serde::de::Unexpected::Str(word), &self))
                }
            }

            fn visit_map<A: serde::de::MapAccess<'de>>(self, map: A) -> Result<Binding, A::Error> {
                BoundText::deserialize(serde::de::value::MapAccessDeserializer::new(map)).map(Binding::To)
            }
        }

        deserializer.deserialize_any(Bound)
    }
}

impl Binding {
    /// What it is bound to, if anything.
    #[must_use]
    pub fn schema(&self) -> Option<&BoundText> {
        match self {
            Self::Nothing => None,
            Self::To(bound) => Some(bound),
        }
    }

    /// What was said of one that was bound before: what is not said stays.
    #[must_use]
    pub fn after(was: Option<&Self>, said: Option<&Self>) -> Option<Self> {
        said.or(was).filter(|now| **now != Self::Nothing).cloned()
    }
}

fn a_day() -> i64 {
    DAY_MS
}

#[allow(clippy::trivially_copy_pass_by_ref, reason = "serde calls it with a reference")]
fn is_a_day(ms: &i64) -> bool {
    *ms == DAY_MS
}

/// A topic.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct TopicText {
    /// Its name.
    pub topic: String,
    /// Partitions.
    pub partitions: i32,
    /// Which records of a key it keeps.
    #[serde(default, skip_serializing_if = "is_usual")]
    pub keep: Keep,
    /// Records are forgotten this long after their time, in milliseconds.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub forget_after_ms: Option<i64>,
    /// The oldest are forgotten while it is larger, in bytes as stored.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub most_bytes: Option<i64>,
    /// How long a key's delete stays when only the latest is kept, in milliseconds.
    #[serde(default = "a_day", skip_serializing_if = "is_a_day")]
    pub deletes_kept_ms: i64,
    /// Older blocks move to object storage, in milliseconds.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub hot_span_ms: Option<i64>,
    /// The schema of its keys; without it that stays as it is.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub keys: Option<Binding>,
    /// The schema of its values; without it that stays as it is.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub values: Option<Binding>,
}

impl TopicText {
    /// What it keeps.
    #[must_use]
    pub fn settings(&self) -> TopicSettings {
        TopicSettings {
            keep: self.keep,
            forget_after_ms: self.forget_after_ms,
            most_bytes: self.most_bytes,
            deletes_kept_ms: self.deletes_kept_ms,
            hot_span_ms: self.hot_span_ms,
        }
    }

    /// A topic as it is, bound to nothing.
    #[must_use]
    pub fn of(topic: &str, partitions: i32, settings: &TopicSettings) -> Self {
        Self {
            topic: topic.into(),
            partitions,
            keep: settings.keep,
            forget_after_ms: settings.forget_after_ms,
            most_bytes: settings.most_bytes,
            deletes_kept_ms: settings.deletes_kept_ms,
            hot_span_ms: settings.hot_span_ms,
            keys: None,
            values: None,
        }
    }

    /// The schemas that its keys and values are bound to.
    pub fn bound(&self) -> impl Iterator<Item = (&'static str, &BoundText)> {
        let said = [("key", &self.keys), ("value", &self.values)];
        said.into_iter().filter_map(|(role, bound)| Some((role, bound.as_ref()?.schema()?)))
    }
}

/// A reader.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ReaderText {
    /// Its name.
    pub reader: String,
    /// The topics it reads.
    pub topics: Vec<String>,
}

/// One thing of an installation.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Thing {
    /// A connection.
    Connection(ConnectionText),
    /// A function.
    Function(FunctionText),
    /// A schema.
    Schema(SchemaText),
    /// A topic.
    Topic(TopicText),
    /// A connector.
    Connector(Box<ConnectorText>),
    /// A reader.
    Reader(ReaderText),
}

impl Thing {
    /// Its kind.
    #[must_use]
    pub fn kind(&self) -> ThingKind {
        match self {
            Self::Connection(_) => ThingKind::Connection,
            Self::Function(_) => ThingKind::Function,
            Self::Schema(_) => ThingKind::Schema,
            Self::Topic(_) => ThingKind::Topic,
            Self::Connector(_) => ThingKind::Connector,
            Self::Reader(_) => ThingKind::Reader,
        }
    }

    /// Its name.
    #[must_use]
    pub fn name(&self) -> &str {
        match self {
            Self::Connection(text) => &text.connection,
            Self::Function(text) => &text.function,
            Self::Schema(text) => &text.schema,
            Self::Topic(text) => &text.topic,
            Self::Connector(text) => &text.connector,
            Self::Reader(text) => &text.reader,
        }
    }

    /// What it is found by.
    #[must_use]
    pub fn key(&self) -> (ThingKind, &str) {
        (self.kind(), self.name())
    }
}

/// An installation as it is.
#[derive(Debug, Clone, Default)]
pub struct Installation {
    /// What it has.
    pub things: Vec<Thing>,
    /// The topics that connectors write for tables which they found by their names, by connector.
    pub written: BTreeMap<String, Vec<String>>,
    /// Secrets of connections that are to be others than those that are kept, by connection and field.
    pub other_secrets: BTreeSet<(String, String)>,
}
