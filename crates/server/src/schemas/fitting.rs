//! Records that come for a topic whose keys or values are bound to a schema.

use std::sync::Arc;
use std::time::{Duration, Instant};

use bytes::Bytes;
use gonvel_core::naming::{SchemaId, TopicName};
use gonvel_core::ports::PortError;
use gonvel_core::record::{Header, Record};
use gonvel_core::schemas::Language;
use gonvel_core::schemas::values::{SCHEMA_HEADER, ValueSchema};
use gonvel_storage::catalog::schemas::SchemaVersion;

use super::bound::{Bound, Fitting};
use crate::apart::apart;
use crate::problems::Refusal;
use crate::state::ServerState;

/// How long it is taken to be known what a topic is bound to.
const FITTING_KEPT: Duration = Duration::from_secs(1);
/// Topics of which that is remembered before all are forgotten.
const MOST_FITTINGS: usize = 5_000;

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
        versions: versions.iter().filter(|v| v.role == role).map(|v| SchemaId(v.id)).collect(),
    }))
}

impl Bound {
    async fn take(&self, state: &ServerState, part: &mut Option<Bytes>, id: &mut Option<SchemaId>) -> Result<(), NotFit> {
        let Some(bytes) = part.as_ref() else { return Ok(()) };
        let said = id.filter(|id| self.versions.contains(id) && *id != self.id);
        let earlier = match said {
            Some(id) => state.schema(id).await?,
            None => None,
        };
        let by = earlier.as_deref().unwrap_or(&self.schema);
        let taken = apart(by.takes_long(bytes), || by.take(bytes));
        *part = Some(taken.map_err(|e| NotFit::Record(format!("does not fit {}: {e}", self.said)))?);
        *id = said.or(Some(self.id));
        Ok(())
    }
}

/// Why a record is not taken.
pub(crate) enum NotFit {
    /// What does not fit, with its path.
    Record(String),
    /// It cannot be told now.
    Port(PortError),
}

impl From<PortError> for NotFit {
    fn from(error: PortError) -> Self {
        Self::Port(error)
    }
}

impl Fitting {
    pub(crate) async fn of(state: &ServerState, topic: &TopicName) -> Result<Self, Refusal> {
        let versions = state.database.schemas_of(topic).await?;
        Ok(Self { key: latest(&versions, "key")?, value: latest(&versions, "value")? })
    }

    /// Makes a record fit where that is required: the version it says it was written with, else the latest.
    ///
    /// # Errors
    /// [`NotFit`].
    pub(crate) async fn fit(&self, state: &ServerState, record: &mut Record) -> Result<(), NotFit> {
        let named = |part: &str| {
            let part = part.to_owned();
            move |e| if let NotFit::Record(finding) = e { NotFit::Record(format!("the {part} {finding}")) } else { e }
        };
        if let Some(bound) = self.key.as_ref().filter(|b| b.required) {
            bound.take(state, &mut record.key, &mut record.key_schema).await.map_err(named("key"))?;
        }
        if let Some(bound) = self.value.as_ref().filter(|b| b.required) {
            bound.take(state, &mut record.value, &mut record.schema).await.map_err(named("value"))?;
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

impl ServerState {
    /// What a topic's keys and values are bound to. What another server changed is known within a second.
    pub(crate) async fn fitting(&self, topic: &TopicName) -> Result<Arc<Fitting>, Refusal> {
        let known = self.fittings.lock().ok().and_then(|f| f.get(topic).cloned());
        if let Some((_, fitting)) = known.filter(|(since, _)| since.elapsed() < FITTING_KEPT) {
            return Ok(fitting);
        }
        let fitting = Arc::new(Fitting::of(self, topic).await?);
        if let Ok(mut fittings) = self.fittings.lock() {
            if fittings.len() >= MOST_FITTINGS {
                fittings.clear();
            }
            fittings.insert(topic.clone(), (Instant::now(), fitting.clone()));
        }
        Ok(fitting)
    }

    /// After schemas or bindings were changed here.
    pub(crate) fn forget_fittings(&self) {
        if let Ok(mut fittings) = self.fittings.lock() {
            fittings.clear();
        }
    }
}
