//! The newest records of a topic as changes of a table.

use gonvel_core::change::{ChangeBatch, ChangeBatchBuilder};
use gonvel_core::ports::{PortError, SchemaStore, Topic};
use gonvel_core::record::StoredRecord as Placed;
use gonvel_core::record_form::ReadForm;

use super::Newest;
use crate::state::ServerState;

/// Changes, in order of their times, with their records.
pub(crate) struct NewestChanges {
    pub(crate) batch: ChangeBatch,
    pub(crate) records: Vec<Placed>,
}

/// Why there are none.
pub(crate) enum NoChanges {
    /// The topic is empty.
    Empty,
    /// Its records are something else.
    Other(&'static str),
}

/// About the newest so many records of the shape that records have now.
pub(crate) async fn newest_changes(
    state: &ServerState,
    topic: &Topic,
    most: usize,
) -> Result<Result<NewestChanges, NoChanges>, PortError> {
    let mut newest: Vec<Placed> = Vec::new();
    let mut pieces = Newest::of_each(state, topic.id, most).await?;
    while let Some((_, piece)) = pieces.piece(state).await? {
        newest.extend(piece);
    }
    newest.sort_by_key(|placed| std::cmp::Reverse((placed.record.timestamp_us, placed.offset)));
    newest.truncate(most);
    newest.reverse();
    let not_a_change = "its records are neither changes nor rows of a table";
    let Some(last) = newest.last() else { return Ok(Err(NoChanges::Empty)) };
    // of the shape that records have now
    let schema = last.record.schema;
    newest.retain(|placed| placed.record.schema == schema);
    let Some(schema) = schema else { return Ok(Err(NoChanges::Other(not_a_change))) };
    let text = state.database.schema_text(schema).await?;
    let Ok(form) = ReadForm::from_value_text(&text) else { return Ok(Err(NoChanges::Other(not_a_change))) };
    let mut builder = ChangeBatchBuilder::new(form.table().clone());
    for Placed { record, .. } in &newest {
        let key = record.key.as_deref().unwrap_or_default();
        if form.read(key, record.value.as_deref(), record.timestamp_us, &mut builder).is_err() {
            return Ok(Err(NoChanges::Other("a record cannot be read by the schema it names")));
        }
    }
    Ok(Ok(NewestChanges { batch: builder.finish(), records: newest }))
}
