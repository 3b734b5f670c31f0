//! How a system is reached, whatever kind of system it is.

use std::collections::BTreeMap;

use serde_json::{Map, Value};

use crate::kinds::reaching::ONLY_WHERE;
use crate::planning::Labels;
use crate::secret::Secret;

/// How a system is reached: its kind, and that kind's settings. A secret leaves only through [`Secret::expose`].
#[derive(Debug, Clone, PartialEq)]
pub struct Address {
    /// The kind of system, by its word.
    pub kind: String,
    /// Settings by name, as the kind takes them; none that is a secret.
    pub settings: Map<String, Value>,
    /// Secrets by the names of their settings.
    pub secrets: BTreeMap<String, Secret<String>>,
    /// Keys of topics that its kind picks from ([`super::Kind::picks_from`]), by topic, as whoever has the log read them; of one that is not there
    /// or holds no keys there is nothing.
    pub keys: BTreeMap<String, Vec<Value>>,
}

impl Address {
    /// A system without settings.
    #[must_use]
    pub fn new(kind: &str) -> Self {
        Self { kind: kind.into(), settings: Map::new(), secrets: BTreeMap::new(), keys: BTreeMap::new() }
    }

    /// The same with a setting.
    #[must_use]
    pub fn with(mut self, name: &str, value: impl Into<Value>) -> Self {
        self.settings.insert(name.into(), value.into());
        self
    }

    /// Labels of the runners that reach it; none for all. A kind that is on a network has a setting for it.
    #[must_use]
    pub fn only_where(&self) -> Labels {
        self.settings.get(ONLY_WHERE).and_then(|labels| serde_json::from_value(labels.clone()).ok()).unwrap_or_default()
    }

    /// The same with a secret.
    #[must_use]
    pub fn with_secret(mut self, name: &str, secret: &str) -> Self {
        self.secrets.insert(name.into(), Secret::new(secret.into()));
        self
    }
}
