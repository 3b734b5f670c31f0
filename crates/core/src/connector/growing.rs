//! Columns that a connector gets by itself, for fields of its events that were never seen before.

use super::{CarriedTopic, Definition, DeliveredTopic};
use crate::event_rows::{EventColumn, EventRows};

impl EventRows {
    /// The same with more columns; those whose field a column takes already are left out.
    ///
    /// # Errors
    /// Why they cannot be added, and what to choose.
    pub fn grown(&self, columns: &[EventColumn]) -> Result<Self, String> {
        let mut grown = self.clone();
        for column in columns {
            if !grown.columns.iter().any(|known| (known.part, &known.path) == (column.part, &column.path)) {
                grown.columns.push(column.clone());
            }
        }
        grown.check()?;
        Ok(grown)
    }
}

impl Definition {
    /// The same with more columns for the events of what is read at a place.
    ///
    /// # Errors
    /// Why they cannot be added; where no events are read there too.
    pub fn grown(&self, place: usize, columns: &[EventColumn]) -> Result<Self, String> {
        let mut grown = self.clone();
        let rows = match &mut grown {
            Self::Sink(sink) => sink.topics.get_mut(place).map(|DeliveredTopic { rows, .. }| rows),
            Self::Topics(topics) => topics.carries.get_mut(place).map(|CarriedTopic { rows, .. }| rows),
            Self::Source(_) => None,
        };
        let Some(rows) = rows.and_then(Option::as_mut) else { return Err("no events are read there".into()) };
        *rows = rows.grown(columns)?;
        Ok(grown)
    }
}

#[cfg(test)]
mod tests {
    use uuid::Uuid;

    use super::*;
    use crate::connector::SinkDefinition;
    use crate::event_rows::Part;

    #[test]
    fn columns_are_added_once_and_only_where_events_are_read() {
        let id = EventColumn::of(Part::Key, "id", "text").as_key();
        let rows = EventRows { columns: vec![id], ..EventRows::default() };
        let topic = |rows: Option<EventRows>| DeliveredTopic {
            topic: "readings".into(),
            schema: "public".into(),
            table: "readings".into(),
            rows,
        };
        let sink = |rows| Definition::from(SinkDefinition::of(Uuid::nil(), vec![topic(rows)]));
        let celsius = EventColumn::field(&["celsius"], "celsius", "numeric");
        let grown = sink(Some(rows.clone())).grown(0, std::slice::from_ref(&celsius)).unwrap();
        let read = grown.read_topics();
        assert_eq!(read[0].rows.unwrap().columns.len(), 2);
        // another lane was first, with a name of its own
        let again = EventColumn { name: "celsius_2".into(), ..celsius.clone() };
        assert_eq!(grown.grown(0, &[again]).unwrap(), grown);
        // another field of that name is refused as it is when a person asks for it
        let other = EventColumn { path: vec!["CELSIUS".into()], ..celsius.clone() };
        assert!(grown.grown(0, &[other]).unwrap_err().contains("two columns are called celsius"));
        assert!(
            sink(None).grown(0, std::slice::from_ref(&celsius)).is_err() && sink(Some(rows)).grown(1, &[celsius]).is_err()
        );
    }
}
