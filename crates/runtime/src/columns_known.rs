//! Which columns a source's tables had as their rows were carried. A server tells a change of them with the next row, and nothing of what
//! the change did to rows that were carried before: a column that came with a default has it there too.

use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;

use gonvel_connectors::postgres::client::Client;
use gonvel_connectors::postgres::source::TableChanges;
use gonvel_connectors::postgres::tables::filled;
use gonvel_core::avro::fingerprint::crc64;
use gonvel_core::ports::Topic;
use gonvel_core::schema_changes::{ColumnChange, differences, differing};
use gonvel_core::table::TableSchema;
use serde::{Deserialize, Serialize};

use crate::fleet::Services;
use crate::lane::Failure;
use crate::writing::latest_shape;

/// Marks of the columns that a table had when a row of it was last carried.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct Mark {
    /// By a change.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    change: Option<u64>,
    /// By a load, which reads rows as the table is then: changes from before may come after it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    load: Option<u64>,
}

/// By `schema.table`; stored with the position.
pub(crate) type Marks = BTreeMap<String, Mark>;

/// The columns themselves, as far as this session saw them, by the table's place and whether a load brought them.
#[derive(Default)]
pub(crate) struct ColumnsKnown {
    shapes: HashMap<(usize, bool), Arc<TableSchema>>,
}

fn mark(shape: &TableSchema) -> u64 {
    let columns: Vec<(&str, &str)> = shape.columns.iter().map(|c| (c.name.as_str(), c.source_type.as_str())).collect();
    crc64(serde_json::json!(columns).to_string().as_bytes())
}

impl ColumnsKnown {
    /// Notes the columns of changes, or of rows of a load. Gives those that may hold other values in rows from before than were
    /// carried. `topic` has the rows as they were captured; none if they are shaped on their way.
    pub(crate) async fn note(
        &mut self,
        services: &Services,
        client: &Client,
        topic: Option<&Topic>,
        changes: &TableChanges,
        marks: &mut Marks,
    ) -> Result<Vec<String>, Failure> {
        let (shape, loaded) = (&changes.batch.table, changes.rows.is_some());
        if self.shapes.get(&(changes.table, loaded)).is_some_and(|known| known == shape) {
            return Ok(Vec::new());
        }
        let (now, marked) = (mark(shape), marks.entry(shape.qualified()).or_default());
        let known = if loaded { marked.load } else { marked.change.or(marked.load) };
        if loaded {
            marked.load = Some(now);
        } else {
            marked.change = Some(now);
        }
        let seen = self.shapes.insert((changes.table, loaded), shape.clone());
        let seen = seen.or_else(|| self.shapes.get(&(changes.table, true)).filter(|_| !loaded).cloned());
        let Some(known) = known.filter(|known| *known != now) else { return Ok(Vec::new()) };
        let before = match (seen, topic, changes.batch.origins.first()) {
            (Some(seen), ..) => Some(seen),
            (None, Some(topic), Some(origin)) => {
                latest_shape(&*services.log, &*services.schemas, topic, origin.commit_time_us).await?
            }
            _ => None,
        };
        let changed = match before.filter(|before| mark(before) == known) {
            Some(before) => differences(&before, shape),
            // what they were is not known any more: any of them may have come
            None => shape.columns.iter().cloned().map(ColumnChange::Added).collect(),
        };
        let filled = filled(client, shape).await?;
        let differing = differing(&changed, |column| filled.contains(column));
        if !differing.is_empty() {
            // what is loaded again is of these columns
            marks.entry(shape.qualified()).or_default().load = Some(now);
        }
        Ok(differing)
    }
}
