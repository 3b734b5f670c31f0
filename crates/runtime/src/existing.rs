//! Rows that are in a source's topics before their tables are loaded: they stay, go first, or are compared with what comes.

use std::collections::HashSet;
use std::sync::Arc;

use gonvel_core::change::{ChangeBatchBuilder, ChangeKind, Origin};
use gonvel_core::connector::{CapturedTable, Definition, ExistingRows};
use gonvel_core::loading::Snapshot;
use gonvel_core::ports::Level;
use gonvel_core::ports::systems::{SourceSession, SourceSettings, TableChanges};
use gonvel_core::shape::Shapes;

use crate::before::Before;
use crate::comparing::{Comparing, HELD, ends};
use crate::failing::Failure;
use crate::outgoing::{Blocks, Out};
use crate::services::Services;
use crate::source_position::Position;
use crate::status::{Board, now_us};
use crate::work::Work;

/// Does with the rows that are in the topics of some tables as was said; gives what tells it. What the log brings late, of what had ended
/// when the load was asked for, is `seen`.
pub(crate) async fn begin_over(
    work: &Work<'_>,
    out: &mut Out<'_>,
    session: &dyn SourceSession,
    settings: &SourceSettings,
    position: &mut Position,
    (existing, seen): (ExistingRows, Option<&Snapshot>),
    these: &(dyn Fn(&CapturedTable) -> bool + Sync),
) -> Result<Blocks, Failure> {
    let Definition::Source(definition) = work.assignment.connector.definition() else { return Ok(Vec::new()) };
    if existing == ExistingRows::Keep {
        // what an earlier load is to look for goes on to be looked for
        return Ok(Vec::new());
    }
    let mut emptied = HashSet::new();
    for table in settings.tables.iter().filter(|table| these(table)) {
        let name = table.qualified();
        position.comparing.remove(&name);
        position.before.remove(&name);
        let empties = existing == ExistingRows::Empty;
        // a truncate that the topic's form cannot tell is none
        if empties && settings.whole_rows {
            continue;
        }
        let (ends, records) = ends(&*work.services.log, table, &definition.shape).await?;
        // where only some rows are loaded, what did not come is not gone
        let before = Before::new(seen.filter(|_| table.load_where.is_none()).cloned(), empties);
        if records > 0 {
            let facts =
                [("table", name.clone().into()), ("records", records.into()), ("existing_rows", existing.word().into())];
            work.board.say(Level::Info, existing.told(), facts);
            if empties {
                emptied.insert(name.clone());
            }
        }
        // what is not in the topics yet may come late, and be gone
        if before.seen.is_some() || (records > 0 && !empties) {
            position.comparing.insert(name.clone(), ends);
            position.before.insert(name, before);
        }
    }
    empty(out, session, settings, position, |table| emptied.contains(&table.qualified())).await
}

/// Tells which rows of a table are gone: those that its topics held before it was loaded, and that have not come since.
pub(crate) async fn compare(
    (services, board, shape): (&Services, &Board, &Shapes),
    out: &mut Out<'_>,
    tables: &[CapturedTable],
    position: &mut Position,
    name: &str,
) -> Result<Blocks, Failure> {
    let Some(ends) = position.comparing.remove(name) else { return Ok(Vec::new()) };
    let as_was = position.before.remove(name).unwrap_or_default();
    let Some(number) = tables.iter().position(|table| table.qualified() == name) else { return Ok(Vec::new()) };
    let origin = Origin { position: position.source.complete_to(), commit_time_us: now_us(), ..Origin::default() };
    let counts = position.counts.entry(name.to_owned()).or_default();
    let told = counts.delete;
    let ports = (services.log.clone(), services.schemas.clone());
    let mut comparing = Comparing::new(ports, &tables[number], shape, (&ends, &as_was), HELD).await?;
    let mut parts = Vec::new();
    while let Some(found) = comparing.next(origin).await? {
        for gone in found {
            parts.extend(out.write_gone(number, gone, counts).await?);
        }
    }
    let gone = counts.delete - told;
    if gone > 0 || !as_was.emptied {
        let facts = [("table", name.into()), ("gone", gone.into())];
        board.say(Level::Info, "the topic's rows were compared with those that were loaded", facts);
    }
    Ok(parts)
}

/// A truncate of tables, as their topics tell it.
async fn empty(
    out: &mut Out<'_>,
    session: &dyn SourceSession,
    settings: &SourceSettings,
    position: &mut Position,
    these: impl Fn(&CapturedTable) -> bool,
) -> Result<Blocks, Failure> {
    let mut parts = Vec::new();
    for (number, table) in settings.tables.iter().enumerate().filter(|(_, table)| these(table)) {
        let shape = Arc::new(session.describe(table).await?);
        let mut builder = ChangeBatchBuilder::new(shape);
        let origin = Origin { position: position.source.complete_to(), commit_time_us: now_us(), ..Origin::default() };
        builder.begin(ChangeKind::Truncate, origin);
        builder.no_new();
        builder.no_old();
        let changes = TableChanges { table: number, batch: builder.finish(), rows: None };
        let counts = position.counts.entry(table.qualified()).or_default();
        parts.extend(out.write(&changes, counts).await?);
    }
    Ok(parts)
}
