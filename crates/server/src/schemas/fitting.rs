//! Records that come for a topic whose keys or values are bound to a schema.

use std::collections::HashMap;
use std::sync::{Arc, Mutex};

use bytes::Bytes;
use gonvel_core::naming::{SchemaId, TopicName};
use gonvel_core::record::{Header, Record};
use gonvel_core::schemas::Language;
use gonvel_core::schemas::values::{SCHEMA_HEADER, ValueSchema};
use gonvel_storage::catalog::schemas::SchemaVersion;
use serde_json::Value as Json;

use crate::problems::Refusal;
use crate::state::ServerState;

/// The schema that keys or values are bound to: its latest version by which they are written, and the earlier ones.
pub(crate) struct Bound {
    id: SchemaId,
    schema: ValueSchema,
    language: Language,
    said: String,
    required: bool,
    /// Earlier versions' texts; parsed when a record of theirs comes.
    earlier: HashMap<SchemaId, String>,
    parsed: Mutex<HashMap<SchemaId, Arc<ValueSchema>>>,
}

/// What a topic's keys and values are bound to.
#[derive(Default)]
pub(crate) struct Fitting {
    pub(crate) key: Option<Bound>,
    pub(crate) value: Option<Bound>,
}

fn latest(versions: &[SchemaVersion], role: &str) -> Result<Option<Bound>, Refusal> {
    let Some(version) = versions.iter().filter(|v| v.role == role).max_by_key(|v| v.version) else { return Ok(None) };
    let unreadable =
        |e| Refusal::invalid("schema", format!("version {} of {} cannot be read: {e}", version.version, version.name));
    Ok(Some(Bound {
        id: SchemaId(version.id),
        schema: ValueSchema::new(version.language, &version.text).map_err(unreadable)?,
        language: version.language,
        said: format!("{}:{}", version.name, version.version),
        required: version.required,
        earlier: versions
            .iter()
            .filter(|v| v.role == role && v.id != version.id)
            .map(|v| (SchemaId(v.id), v.text.clone()))
            .collect(),
        parsed: Mutex::default(),
    }))
}

impl Bound {
    /// The bytes of what was given as JSON.
    pub(crate) fn write(&self, json: &str) -> Result<(Bytes, Option<SchemaId>), String> {
        let value: Json = serde_json::from_str(json).map_err(|e| e.to_string())?;
        Ok((self.schema.write(&value)?, Some(self.id)))
    }

    /// An earlier version, if a record says that it follows it.
    fn earlier(&self, id: SchemaId) -> Option<Arc<ValueSchema>> {
        let text = self.earlier.get(&id)?;
        let mut parsed = self.parsed.lock().ok()?;
        if let Some(known) = parsed.get(&id) {
            return Some(known.clone());
        }
        let schema = Arc::new(ValueSchema::new(self.language, text).ok()?);
        parsed.insert(id, schema.clone());
        Some(schema)
    }

    fn take(&self, part: &mut Option<Bytes>, id: &mut Option<SchemaId>) -> Result<(), String> {
        let Some(bytes) = part.as_ref() else { return Ok(()) };
        if let Some(earlier) = id.and_then(|id| self.earlier(id)) {
            return earlier.take(bytes).map(|taken| *part = Some(taken));
        }
        *part = Some(self.schema.take(bytes)?);
        *id = Some(self.id);
        Ok(())
    }
}

impl Fitting {
    pub(crate) async fn of(state: &ServerState, topic: &TopicName) -> Result<Self, Refusal> {
        let versions = state.database.schemas_of(topic).await?;
        Ok(Self { key: latest(&versions, "key")?, value: latest(&versions, "value")? })
    }

    /// Whether values have to fit.
    pub(crate) fn requires_value(&self) -> bool {
        self.value.as_ref().is_some_and(|bound| bound.required)
    }

    /// Makes a record fit where that is required: the version it says it was written with, else the latest.
    ///
    /// # Errors
    /// What does not fit, with its path.
    pub(crate) fn fit(&self, record: &mut Record) -> Result<(), String> {
        if let Some(bound) = self.key.as_ref().filter(|b| b.required) {
            bound
                .take(&mut record.key, &mut record.key_schema)
                .map_err(|e| format!("the key does not fit {}: {e}", bound.said))?;
        }
        if let Some(bound) = self.value.as_ref().filter(|b| b.required) {
            bound
                .take(&mut record.value, &mut record.schema)
                .map_err(|e| format!("the value does not fit {}: {e}", bound.said))?;
        }
        // text does not say by itself what it follows
        if let Some(bound) = self.value.as_ref().filter(|b| b.language == Language::JsonSchema)
            && record.schema == Some(bound.id)
            && !record.headers.iter().any(|h| h.name == SCHEMA_HEADER)
        {
            record.headers.push(Header { name: SCHEMA_HEADER.to_owned(), value: bound.said.clone().into() });
        }
        Ok(())
    }
}
