//! A source connector's lane: captured changes go into the topics together with the position they bring.

use std::time::Duration;

use gonvel_connectors::kinds;
use gonvel_core::civil::read_rfc3339;
use gonvel_core::connector::{BadRecords, CapturedTable, Definition, ExistingRows, SourceDefinition, Start, ValueForm};
use gonvel_core::naming::ConnectorId;
use gonvel_core::ports::systems::{
    Beginning, Captured, Captures, ConnectorError, SourceSession, SourceSettings, TableChanges,
};
use gonvel_core::ports::{Level, Reload, Settled, Step, Topic};
use tokio::time::{Instant, MissedTickBehavior, sleep_until};

use crate::aside::Book;
use crate::aside::source::RowsAside;
use crate::columns_known::{ColumnsKnown, came};
use crate::existing::{begin_over, compare};
use crate::failing::Failure;
use crate::gathered::{Gathered, UnderWay, finished};
use crate::handed_on::Turns;
use crate::outgoing::{Blocks, Out, ensure_topic};
use crate::services::Services;
use crate::shaping::Shaping;
use crate::source_position::{Anew, Position, enter, progress, read_stored, show};
use crate::status::{Board, now_us};
use crate::taking_in::{over_void, show_missing, take_in};
use crate::topic_keys::with_keys;
use crate::work::{Ending, Work, asked_to_end};
use crate::writing::{Writer, append};

/// How often tables are looked for that were made since.
const LOOK_FOR_TABLES: Duration = Duration::from_secs(3);
/// How often it is looked whether the tables are still those that are published.
const LOOK_AFTER_TABLES: Duration = Duration::from_secs(10);
/// How many times as long as it takes is waited before the columns of all tables are looked at again.
const RARELY: u32 = 100;

fn beginning(start: Option<&Start>) -> Result<Option<Beginning>, Failure> {
    let unreadable = || ConnectorError::Defect("a start position that was not checked".into());
    Ok(match start {
        None | Some(Start::Latest {} | Start::Offsets { .. }) => None,
        Some(Start::Earliest {}) => Some(Beginning::Earliest),
        Some(Start::Time { time }) => Some(Beginning::Time(read_rfc3339(time).ok_or_else(unreadable)?)),
        Some(Start::Position { position }) => Some(Beginning::Position(position.clone())),
        Some(Start::Connector { connector }) => Some(Beginning::Connector(ConnectorId(*connector))),
    })
}

async fn ensure_topics(services: &Services, tables: &[CapturedTable], partitions: i32) -> Result<Vec<Topic>, Failure> {
    let mut topics = Vec::with_capacity(tables.len());
    for table in tables {
        topics.push(ensure_topic(services, &table.topic, partitions).await?);
    }
    Ok(topics)
}

pub(crate) async fn run(mut work: Work<'_>) -> Result<Ending, Failure> {
    let given = work.assignment.connector.definition();
    let Definition::Source(SourceDefinition { connection, .. }) = given else {
        return Err(ConnectorError::Defect("a source lane for a sink".into()).into());
    };
    let Services { fleet, log, schemas, .. } = work.services;
    let address = with_keys(log.as_ref(), schemas.as_ref(), fleet.address(*connection).await?).await?;
    let kind = kinds::source(&address)?;
    let settled = kinds::kind(&address.kind)?.about().settled(given);
    let Definition::Source(definition) = &settled else {
        return Err(ConnectorError::Defect("a source that became another".into()).into());
    };
    let session = kind.open(&address).await?;
    let mut choice = session.choose(definition).await?;
    let mut tables = Vec::with_capacity(choice.tables.len());
    for table in &choice.tables {
        tables.push(if definition.load.rows { session.understood(table).await? } else { table.clone() });
    }
    let settings = SourceSettings {
        connector: work.connector(),
        epoch: work.lease.epoch,
        void: None,
        tables: tables.clone(),
        patterns: definition.patterns.clone(),
        schema_changes: definition.schema_changes.clone(),
        load: definition.load,
        whole_rows: definition.values.form == ValueForm::Row,
        fetches_unsent: !definition.shape.is_nothing(),
        start: beginning(definition.start.as_ref())?,
    };
    let topics = ensure_topics(work.services, &tables, definition.partitions).await?;
    let told = match &definition.schema_changes {
        Some(topic) => Some(ensure_topic(work.services, topic, 1).await?),
        None => None,
    };
    let name = work.assignment.connector.name().as_str();
    // what was appended before a crash is not tried again
    let retried = read_stored(kind, &work.lease.position).map(|p| p.retried).unwrap_or_default();
    work.services.quarantine.settle(work.held(), &retried, &Settled::Delivered).await?;
    let aside = match definition.failing.records {
        BadRecords::Quarantine => Some(RowsAside::new(Book::of(&work), topics.clone()).await?),
        BadRecords::Halt => None,
    };
    let writer = Writer::new(work.services, name, topics, definition.values, told).await?;
    let names = tables.iter().map(CapturedTable::qualified).collect();
    let shaping = Shaping::of(work.services, &definition.shape, names).await?;
    let mut out = Out::new(work.services, definition.partitions, writer, shaping, aside);
    let anew = serde_json::from_value::<Anew>(work.lease.position.clone()).ok().filter(|anew| anew.anew);
    let mut position = if work.lease.position.is_null() || anew.is_some() {
        let anew = anew.unwrap_or_default();
        // where it once began is behind it
        let start = if anew.anew { None } else { settings.start.clone() };
        let existing = if anew.anew { anew.existing_rows() } else { definition.existing_rows.unwrap_or_default() };
        let begins = SourceSettings { start, ..settings.clone() };
        let source = match session.prepare(&begins).await {
            Err(error) => session.prepare(&over_void(&work, begins, error).await?).await?,
            made => made?,
        };
        let mut first = Position::first(source, anew.counts, anew.reloaded);
        let parts = begin_over(&work, &mut out, &*session, &settings, &mut first, (existing, None), &|_| true).await?;
        // stored before anything is captured: a crash before this line makes the slot anew, one after it keeps it
        append(work.services, parts, progress(&work, &first)?).await?;
        first
    } else {
        read_stored(kind, &work.lease.position)?
    };
    for (number, table) in tables.iter().enumerate() {
        if let Some(mark) = position.columns.get(&table.qualified()) {
            out.set_known(number, mark.written);
        }
    }
    let mut missing = take_in(&work, &mut out, &*session, &settings, &mut position).await?;
    show_missing(work.board, &choice.notes, &missing);
    for Reload { number, tables: again, existing_rows } in
        work.services.fleet.reloads(work.connector(), position.reloaded).await?
    {
        let void = existing_rows != ExistingRows::Keep;
        let seen = session.load_again(&settings, &mut *position.source, &again, void).await?;
        let asked = |table: &CapturedTable| again.contains(&table.qualified());
        let existing = (existing_rows, seen.as_ref());
        let parts = begin_over(&work, &mut out, &*session, &settings, &mut position, existing, &asked).await?;
        position.reloaded = number;
        position.columns.iter_mut().filter(|(name, _)| again.contains(name)).for_each(|(_, mark)| mark.forget());
        append(work.services, parts, progress(&work, &position)?).await?;
    }
    look_for_columns(work.board, definition, &*session, &tables, &mut position).await?;
    if !position.load_again.is_empty() {
        let again = std::mem::take(&mut position.load_again);
        session.load_again(&settings, &mut *position.source, &again, false).await?;
        append(work.services, Vec::new(), progress(&work, &position)?).await?;
    }
    show(work.board, &tables, &position);
    let mut source = session.begin(&settings, &*position.source).await?;
    enter(work.board, &position);
    let mut known = ColumnsKnown::default();
    let often = if definition.patterns.is_some() { LOOK_FOR_TABLES } else { LOOK_AFTER_TABLES };
    let mut look = tokio::time::interval(often);
    look.set_missed_tick_behavior(MissedTickBehavior::Delay);
    look.reset();
    let mut columns_next = Instant::now();
    let mut under_way: Option<UnderWay> = None;
    let mut turns = Turns::new(&work.services.handed);
    let mut gathered = Gathered::default();
    position.retried.clear();
    // what was asked for before the lane began
    let mut again = out.aside().is_some().then(Instant::now);
    // whether rows that are tried again are being appended
    let mut retrying = false;
    loop {
        if under_way.is_none() && gathered.has_some {
            let taken = std::mem::take(&mut gathered);
            let (services, progress) = (work.services.clone(), progress(&work, &position)?);
            turns.appended(taken.followed);
            let append = tokio::spawn(async move { append(&services, taken.parts, progress).await });
            under_way = Some(UnderWay { append, brings: position.clone(), latest_us: taken.latest_us });
            position.retried.clear();
            if taken.last {
                settle(&work, &mut out, &tables, &*source, finished(&mut under_way).await?).await?;
                return Ok(Ending::Restart);
            }
        }
        if let Some(name) = position.to_compare().filter(|_| under_way.is_none()).cloned() {
            // everything that came with the load, and since, is in the topics by now
            let parts = tokio::select! {
                parts = compare((work.services, work.board, &definition.shape), &mut out, &tables, &mut position, &name) => parts?,
                ending = asked_to_end(&mut work.stopped) => return Ok(ending),
            };
            enter(work.board, &position);
            gathered.add(parts, None, false);
            continue;
        }
        let compares = position.to_compare().is_some();
        let captured = tokio::select! {
            biased;
            done = finished(&mut under_way), if under_way.is_some() => {
                retrying &= !settle(&work, &mut out, &tables, &*source, done?).await?;
                continue;
            }
            ending = asked_to_end(&mut work.stopped) => {
                if under_way.is_some() {
                    settle(&work, &mut out, &tables, &*source, finished(&mut under_way).await?).await?;
                }
                return Ok(ending);
            }
            Ok(()) = work.mending.changed(), if again.is_none() && out.aside().is_some() => {
                again = Some(Instant::now());
                continue;
            }
            () = sleep_until(again.unwrap_or_else(Instant::now)), if again.is_some() && !retrying => {
                let (parts, wait) = retry(&mut out, &*session, &tables, &mut position).await?;
                again = wait.map(|wait| Instant::now() + wait);
                if !position.retried.is_empty() {
                    retrying = true;
                    gathered.add(parts, None, false);
                }
                continue;
            }
            captured = turns.after_others(source.next()), if !gathered.is_enough() && !compares => captured,
            _ = look.tick() => {
                let other = session.is_other(&mut choice, definition).await?;
                let found = session.differences(&settings, &*position.source).await?;
                if found.missing != missing {
                    missing = found.missing;
                    show_missing(work.board, &choice.notes, &missing);
                }
                if !other && found.new.is_empty() {
                    if position.load_again.is_empty() && Instant::now() >= columns_next {
                        let start = Instant::now();
                        look_for_columns(work.board, definition, &*session, &settings.tables, &mut position).await?;
                        columns_next = Instant::now() + LOOK_FOR_TABLES.max(start.elapsed() * RARELY);
                        if !position.load_again.is_empty() {
                            gathered.add(Vec::new(), None, true);
                        }
                    }
                    continue;
                }
                // other tables: from where it stands
                if under_way.is_some() {
                    settle(&work, &mut out, &tables, &*source, finished(&mut under_way).await?).await?;
                }
                return Ok(Ending::Restart);
            }
        };
        let captured =
            captured.ok_or_else(|| ConnectorError::try_again("the source ended", "it starts again by itself"))??;
        for found in &captured.found {
            out.add(found, ensure_topic(work.services, &found.topic, definition.partitions).await?);
            tables.push(found.clone());
        }
        let (parts, latest_us) = write(&mut out, &captured, &tables, &mut position).await?;
        for changes in &captured.changes {
            let topic = out.topic_unshaped(changes.table);
            let other = known.note(work.services, &*session, topic, changes, &mut position.columns).await?;
            note_other(work.board, definition, &tables[changes.table], &other, &mut position.load_again);
            let mark = position.columns.entry(tables[changes.table].qualified()).or_default();
            mark.written = out.known(changes.table);
        }
        // whoever goes on from here loads those again first
        gathered.add(parts, latest_us, captured.last || !position.load_again.is_empty());
        position.source = captured.position;
    }
}

/// Looks for columns that came since, whether or not a row has told of them.
async fn look_for_columns(
    board: &Board,
    definition: &SourceDefinition,
    session: &dyn SourceSession,
    tables: &[CapturedTable],
    position: &mut Position,
) -> Result<(), Failure> {
    for (table, columns) in came(session, tables, &position.load_again, &mut position.columns).await? {
        note_other(board, definition, &tables[table], &columns, &mut position.load_again);
    }
    Ok(())
}

/// Notes that columns of rows that were carried may hold other values by now: their table is loaded again, where rows are loaded.
fn note_other(
    board: &Board,
    definition: &SourceDefinition,
    table: &CapturedTable,
    columns: &[String],
    load_again: &mut Vec<String>,
) {
    if columns.is_empty() {
        return;
    }
    let facts = [("table", table.qualified().into()), ("columns", columns.join(", ").into())];
    if definition.load.rows {
        load_again.push(table.qualified());
        board.say(Level::Info, "a change of columns gave rows from before it other values: they are loaded again", facts);
    } else {
        let says = "a change of columns gave rows from before it other values: load the table if they are wanted";
        board.say(Level::Warning, says, facts);
    }
}

async fn write(
    out: &mut Out<'_>,
    captured: &Captured,
    tables: &[CapturedTable],
    position: &mut Position,
) -> Result<(Blocks, Option<i64>), Failure> {
    let mut parts = Vec::new();
    let mut latest_us = None;
    for changes in &captured.changes {
        let name = tables[changes.table].qualified();
        if let Some(before) = position.before.get_mut(&name) {
            before.note(&changes.batch);
        }
        let counts = position.counts.entry(name).or_default();
        parts.extend(out.write(changes, counts).await?);
        if let Some(origin) = changes.batch.origins.last() {
            latest_us = latest_us.max(Some(origin.commit_time_us));
        }
    }
    Ok((parts, latest_us))
}

/// Reads rows of the quarantine again that are asked for; gives those that can be shaped now, and how long to wait before the next
/// ones, if there may be more.
async fn retry(
    out: &mut Out<'_>,
    session: &dyn SourceSession,
    tables: &[CapturedTable],
    position: &mut Position,
) -> Result<(Blocks, Option<Duration>), Failure> {
    let Some(aside) = out.aside() else { return Ok((Vec::new(), None)) };
    let (asked, wait) = aside.again().await?;
    let (mut parts, mut gone, mut failed) = (Vec::new(), Vec::new(), Vec::new());
    for (number, mut asked) in asked {
        let table = &tables[number];
        let batch = session.rows_by_key(table, &asked.keys()).await?;
        let mut ids: Vec<Option<i64>> = (0..batch.len()).map(|row| asked.take(&batch, row)).collect();
        gone.extend(asked.left());
        let counts = position.counts.entry(table.qualified()).or_default();
        let (more, again) = out.write_again(&TableChanges { table: number, batch, rows: None }, counts).await?;
        for row in again {
            failed.extend(ids[row.row].take().map(|id| (id, Step::Shape, row.finding)));
        }
        parts.extend(more);
        position.retried.extend(ids.into_iter().flatten());
    }
    if let Some(aside) = out.aside().filter(|_| !gone.is_empty() || !failed.is_empty()) {
        aside.settle(&[], &gone, &failed).await?;
    }
    Ok((parts, wait))
}

/// The append is durable: the server may forget what it holds, and people may see it. Whether it brought rows that were tried
/// again.
async fn settle(
    work: &Work<'_>,
    out: &mut Out<'_>,
    tables: &[CapturedTable],
    source: &dyn Captures,
    (position, latest_us): (Position, Option<i64>),
) -> Result<bool, Failure> {
    source.confirm(&*position.source);
    work.board.note_moved();
    show(work.board, tables, &position);
    enter(work.board, &position);
    if let Some(latest_us) = latest_us {
        #[allow(clippy::cast_precision_loss, reason = "milliseconds for people")]
        let behind_ms = ((now_us() - latest_us).max(0) as f64 / 100.0).round() / 10.0;
        work.board.write(|status| status.latency_ms = Some(behind_ms));
    }
    match out.aside().filter(|_| !position.retried.is_empty()) {
        None => Ok(false),
        Some(aside) => aside.settle(&position.retried, &[], &[]).await.map(|()| true),
    }
}
