//! Topics whose records are events: how they become rows, and the schemas they are read by.

use std::collections::HashMap;
use std::sync::Arc;

use bytes::Bytes;
use gonvel_core::connector::ReadTopic;
use gonvel_core::naming::SchemaId;
use gonvel_core::ports::systems::ConnectorError;
use gonvel_core::ports::{PortError, SchemaStore};
use gonvel_events::{Came, EventForm, EventSchema};

use crate::failing::Failure;

/// A topic's records of one type, or all of them.
#[derive(Debug)]
pub(crate) struct Sort {
    /// Its place in the definition.
    pub(crate) place: usize,
    /// How its records become rows.
    pub(crate) form: EventForm,
}

/// How the records of one topic become rows, by their types where there are several.
#[derive(Debug, Default)]
pub(crate) struct Sorts(Vec<Sort>);

impl Sorts {
    /// Of which a record is; none if it is of none that is taken.
    ///
    /// # Errors
    /// Why its type cannot be told.
    pub(crate) fn of(&self, came: &Came<'_>, schema: Option<&EventSchema>) -> Result<Option<&Sort>, String> {
        let Some(first) = self.0.first() else { return Ok(None) };
        // all types of a topic are told by the same part: it is read once
        let ty = first.form.told(came, schema)?;
        Ok(self.0.iter().find(|sort| sort.form.takes_type(ty.as_deref())))
    }

    /// The key of a record's row; none if it cannot be read.
    pub(crate) fn key(&self, came: &Came<'_>, schema: Option<&EventSchema>) -> Option<Bytes> {
        self.of(came, schema).ok()??.form.key(came, schema)
    }
}

/// What becomes of topics whose records are events, by the first place of each in the definition.
pub(crate) type Events = Arc<HashMap<usize, Sorts>>;

/// The place of each topic that is read: the first of those where it stands.
pub(crate) fn first_places(read: &[ReadTopic<'_>]) -> Vec<usize> {
    let mut first = HashMap::new();
    read.iter().enumerate().map(|(place, of)| *first.entry(of.topic).or_insert(place)).collect()
}

/// The forms of a definition's topics.
pub(crate) fn forms(read: &[ReadTopic<'_>]) -> Result<Events, Failure> {
    let mut forms: HashMap<usize, Sorts> = HashMap::new();
    for (place, (of, first)) in read.iter().zip(first_places(read)).enumerate() {
        let Some(rows) = of.rows else { continue };
        let form = EventForm::new(of.topic, rows).map_err(|finding| {
            ConnectorError::settings(Some("topics"), format!("{}: {finding}", of.name), "change how its records become rows")
        })?;
        forms.entry(first).or_default().0.push(Sort { place, form });
    }
    Ok(Arc::new(forms))
}

/// Schemas by which values of events are read, each read once.
#[derive(Default)]
pub(crate) struct EventSchemas(HashMap<SchemaId, Option<Arc<EventSchema>>>);

impl EventSchemas {
    /// The schema of a value; none where it says none, or one that is not there any more: the value then says itself what it is.
    pub(crate) async fn of(
        &mut self,
        store: &dyn SchemaStore,
        schema: Option<SchemaId>,
    ) -> Result<Option<Arc<EventSchema>>, PortError> {
        let Some(id) = schema else { return Ok(None) };
        if let Some(known) = self.0.get(&id) {
            return Ok(known.clone());
        }
        let found = match store.schema_in(id).await {
            Ok((language, text)) => EventSchema::new(language, &text).ok().map(Arc::new),
            Err(PortError::NotFound { .. }) => None,
            Err(error) => return Err(error),
        };
        self.0.insert(id, found.clone());
        Ok(found)
    }
}
