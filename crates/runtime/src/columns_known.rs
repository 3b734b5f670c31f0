//! Which columns a source's tables had as their rows were carried. A server tells a change of them with the next row, and nothing of what
//! the change did to rows that were carried before: a column that came with a default has it there too.

use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;

use gonvel_core::avro::fingerprint::crc64;
use gonvel_core::connector::CapturedTable;
use gonvel_core::ports::Topic;
use gonvel_core::ports::systems::{SourceSession, TableChanges};
use gonvel_core::schema_changes::{ColumnChange, differences, differing};
use gonvel_core::table::TableSchema;
use serde::{Deserialize, Serialize};

use crate::failing::Failure;
use crate::services::Services;
use crate::writing::{KnownColumns, latest_shape};

/// Marks of the columns that a table had when a row of it was last carried.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct Mark {
    /// By a change.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    change: Option<u64>,
    /// By a load, which reads rows as the table is then: changes from before may come after it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    load: Option<u64>,
    /// How many columns its catalog ever had when it was last looked at, and how many of those were gone.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    ever: Option<(i16, i64)>,
    /// The columns themselves, where rows go on as they were captured; else those that they were written with.
    #[serde(default, skip_serializing_if = "KnownColumns::is_nothing")]
    pub(crate) written: KnownColumns,
}

impl Mark {
    /// Before the table is loaded again: what rows had is not known any more; what was written of them stays so.
    pub(crate) fn forget(&mut self) {
        *self = Self { written: self.written, ..Self::default() };
    }
}

/// By `schema.table`; stored with the position.
pub(crate) type Marks = BTreeMap<String, Mark>;

/// The columns themselves, as far as this session saw them, by the table's place and whether a load brought them.
#[derive(Default)]
pub(crate) struct ColumnsKnown {
    shapes: HashMap<(usize, bool), Arc<TableSchema>>,
}

/// Looks at the catalog for columns that came since it was last looked at. No row need tell of them, and of one that came in place
/// of another with its name and type none can. Gives the tables in which rows from before may hold other values, and those columns;
/// `again` are loaded anyhow.
pub(crate) async fn came(
    session: &dyn SourceSession,
    tables: &[CapturedTable],
    again: &[String],
    marks: &mut Marks,
) -> Result<Vec<(usize, Vec<String>)>, Failure> {
    let known = |table: &CapturedTable| {
        let name = table.qualified();
        marks.get(&name).and_then(|mark| mark.ever).filter(|_| !again.contains(&name))
    };
    let known: Vec<Option<(i16, i64)>> = tables.iter().map(known).collect();
    let after = known.iter().map(|known| known.map_or(i16::MAX, |(had, _)| had));
    let found = session.columns_ever(&tables.iter().zip(after).collect::<Vec<_>>()).await?;
    let mut other = Vec::new();
    for (number, (found, known)) in found.into_iter().zip(known).enumerate() {
        let Some(found) = found else { continue };
        let mark = marks.entry(tables[number].qualified()).or_default();
        mark.ever = Some((found.had, found.gone));
        // one that went since may have had the name of one that came
        let replaced = known.is_some_and(|(_, gone)| found.gone_before > gone);
        let columns: Vec<String> =
            found.came.into_iter().filter(|(_, filled)| *filled || replaced).map(|(name, _)| name).collect();
        if !columns.is_empty() {
            // what is loaded again is of these columns
            (mark.change, mark.load) = (None, None);
            other.push((number, columns));
        }
    }
    Ok(other)
}

fn mark(shape: &TableSchema) -> u64 {
    let columns: Vec<_> = shape.columns.iter().map(|c| (&c.name, &c.source_type)).collect();
    crc64(serde_json::json!(columns).to_string().as_bytes())
}

impl ColumnsKnown {
    /// Notes the columns of changes, or of rows of a load. Gives those that may hold other values in rows from before than were
    /// carried. `topic` has the rows as they were captured; none if they are shaped on their way.
    pub(crate) async fn note(
        &mut self,
        services: &Services,
        session: &dyn SourceSession,
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
            (None, Some(topic), Some(origin)) => match marked.written.last(loaded, &*services.schemas).await? {
                Some(written) => Some(written),
                // a position from before this was stored
                None => latest_shape(&*services.log, &*services.schemas, topic, origin.commit_time_us).await?,
            },
            _ => None,
        };
        let changed = match before.filter(|before| mark(before) == known) {
            Some(before) => differences(&before, shape),
            // what they were is not known any more: any of them may have come
            None => shape.columns.iter().cloned().map(ColumnChange::Added).collect(),
        };
        let filled = session.filled(shape).await?;
        let differing = differing(&changed, |column| filled.contains(column));
        if !differing.is_empty() {
            // what is loaded again is of these columns
            marks.entry(shape.qualified()).or_default().load = Some(now);
        }
        Ok(differing)
    }
}
