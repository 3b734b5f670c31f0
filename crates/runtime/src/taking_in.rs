//! Tables that a source takes in or lets go of, after its definition changed or because of their names.

use gonvel_core::connector::{CapturedTable, Definition};
use gonvel_core::naming::Epoch;
use gonvel_core::ports::Level;
use gonvel_core::ports::systems::{ConnectorError, Differences, SourceSession, SourceSettings, TakenIn};

use crate::existing::begin_over;
use crate::failing::Failure;
use crate::outgoing::Out;
use crate::source_position::{Position, progress};
use crate::status::Board;
use crate::work::Work;
use crate::writing::append;

/// What to do where another holder of the lane's lease was at work in the source: one that this log never knew, because it was rolled
/// back, stops nobody.
pub(crate) async fn over_void(
    work: &Work<'_>,
    settings: SourceSettings,
    error: ConnectorError,
) -> Result<SourceSettings, Failure> {
    let ConnectorError::Later { epoch } = error else { return Err(error.into()) };
    if epoch <= work.services.fleet.latest_term().await?.0 {
        return Err(ConnectorError::Fenced.into());
    }
    Ok(SourceSettings { void: Some(Epoch(epoch)), ..settings })
}

/// Takes in tables that came since the last start and lets go of those that went. What is being taken in is noted first: a
/// crash in between takes it in again. One that was captured before is another table by now, or was not sent for a while: it is
/// emptied and loaded. Gives the tables that are missing.
pub(crate) async fn take_in(
    work: &Work<'_>,
    out: &mut Out<'_>,
    session: &dyn SourceSession,
    settings: &SourceSettings,
    position: &mut Position,
) -> Result<Vec<String>, Failure> {
    let found = session.differences(settings, &*position.source).await?;
    let Differences { mut new, gone, missing, kinds, numbers } = found;
    position.source.note_numbers(numbers);
    let wanted = |name: &String| settings.tables.iter().any(|t| t.qualified() == *name);
    // one that was dropped before its load was done has nothing more to load
    let loads: Vec<String> = position.source.loading().into_iter().map(str::to_owned).filter(|name| !wanted(name)).collect();
    loads.iter().for_each(|table| position.source.loaded(table));
    new.extend(position.coming.iter().filter(|name| wanted(name) && !new.contains(name)).cloned().collect::<Vec<_>>());
    if new.is_empty() && gone.is_empty() && !kinds {
        return Ok(missing);
    }
    let coming: Vec<&CapturedTable> = settings.tables.iter().filter(|t| new.contains(&t.qualified())).collect();
    session.refuse_hindered(&coming).await?;
    position.coming.clone_from(&new);
    append(work.services, Vec::new(), progress(work, position)?).await?;
    // where its rows are not loaded, or a truncate is not told, what was carried stays
    let empties = settings.load.rows && !settings.whole_rows;
    let back: Vec<String> = new.iter().filter(|name| position.counts.contains_key(*name)).cloned().collect();
    let void = if empties { back.as_slice() } else { &[] };
    let tables = TakenIn { new: &new, gone: &gone, void };
    let seen = match session.take_in(settings, &mut *position.source, tables).await {
        Err(error) => {
            let settings = over_void(work, settings.clone(), error).await?;
            session.take_in(&settings, &mut *position.source, tables).await?
        }
        seen => seen?,
    };
    position.counts.retain(|name, _| !gone.contains(name));
    position.comparing.retain(|name, _| !gone.contains(name));
    position.before.retain(|name, _| !gone.contains(name));
    position.columns.retain(|name, _| !gone.contains(name) && !new.contains(name));
    for table in &back {
        let says = "the table was made anew, or was not published for a while: what was carried of it may be void";
        let facts = [("table", table.clone().into()), ("emptied", empties.into()), ("loaded", settings.load.rows.into())];
        work.board.say(Level::Warning, says, facts);
    }
    let mut parts = Vec::new();
    if let (Definition::Source(definition), true) = (work.assignment.connector.definition(), settings.load.rows) {
        let existing = definition.existing_rows.unwrap_or_default();
        let first = |table: &CapturedTable| new.contains(&table.qualified()) && !back.contains(&table.qualified());
        parts.extend(begin_over(work, out, session, settings, position, (existing, seen.as_ref()), &first).await?);
    }
    position.coming.clear();
    append(work.services, parts, progress(work, position)?).await?;
    Ok(missing)
}

/// Says which tables are not there any more, beside what else there is to note.
pub(crate) fn show_missing(board: &Board, notes: &[String], missing: &[String]) {
    let gone = missing.iter().map(|table| {
        format!("{table} is not in the database any more, so nothing of it comes: take it out, or bring it back")
    });
    let notes: Vec<String> = notes.iter().cloned().chain(gone).collect();
    board.write(|status| status.notes = notes);
}
