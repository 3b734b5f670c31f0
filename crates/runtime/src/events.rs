//! Topics whose records are events: how they become rows, and the schemas they are read by.

use std::collections::HashMap;
use std::sync::Arc;

use gonvel_connectors::error::ConnectorError;
use gonvel_core::event_rows::EventRows;
use gonvel_core::naming::SchemaId;
use gonvel_core::ports::{PortError, SchemaStore};
use gonvel_events::{EventForm, EventSchema};

use crate::lane::Failure;

/// The forms of topics whose records are events, by their places in the definition.
pub(crate) type Events = Arc<HashMap<usize, EventForm>>;

/// The forms of a definition's topics.
pub(crate) fn forms<'t>(topics: impl Iterator<Item = (&'t String, Option<&'t EventRows>)>) -> Result<Events, Failure> {
    let mut forms = HashMap::new();
    for (place, (topic, rows)) in topics.enumerate() {
        let Some(rows) = rows else { continue };
        let form = EventForm::new(topic, rows).map_err(|finding| {
            ConnectorError::settings(Some("topics"), format!("{topic}: {finding}"), "change how its records become rows")
        })?;
        forms.insert(place, form);
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
