//! A source connector's lane: captured changes go into the topics together with the position they bring.

use std::collections::BTreeMap;

use gonvel_connectors::error::ConnectorError;
use gonvel_connectors::postgres::position::PgPosition;
use gonvel_connectors::postgres::slot::{load_again, prepare};
use gonvel_connectors::postgres::source::{Captured, PgSource, SourceSettings};
use gonvel_core::change::KindCounts;
use gonvel_core::change_form::position_text;
use gonvel_core::connector::{CapturedTable, Definition, State};
use gonvel_core::naming::TopicName;
use gonvel_core::ports::{AppendBatch, Assignment, LaneProgress, PortError, TableProgress, Topic};
use gonvel_core::topic_settings::TopicSettings;
use serde::{Deserialize, Serialize};
use tokio::task::JoinHandle;

use crate::fleet::Services;
use crate::lane::{Ending, Failure, ONLY, Work, asked_to_end};
use crate::status::{Board, now_us};
use crate::writing::Writer;

/// What is stored as the lane's position.
#[derive(Debug, Clone, Serialize, Deserialize)]
struct Position {
    source: PgPosition,
    #[serde(default)]
    counts: BTreeMap<String, KindCounts>,
    /// The last request to load tables again that was taken up.
    #[serde(default)]
    reloaded: i64,
}

fn stored(position: &Position) -> Result<serde_json::Value, Failure> {
    serde_json::to_value(position).map_err(|e| ConnectorError::Defect(e.to_string()).into())
}

fn show(board: &Board, tables: &[CapturedTable], position: &Position) {
    let progress = tables.iter().map(|table| {
        let name = format!("{}.{}", table.schema, table.table);
        let counts = position.counts.get(&name).copied().unwrap_or_default();
        let load = position.source.loads.get(&name);
        let load_total = load.map(|l| l.as_ref().map_or(0, |l| l.expected));
        let load_done = load.map(|l| l.as_ref().map_or(0, |l| l.rows));
        (name, TableProgress { counts, load_total, load_done, other_end: table.topic.clone() })
    });
    let progress = progress.collect();
    board.write(|status| {
        status.tables = progress;
        status.position = Some(position_text(position.source.lsn));
    });
}

/// Shows a stored position while the lane does not run.
pub(crate) fn show_position(assignment: &Assignment, position: &serde_json::Value, board: &Board) {
    if let (Definition::Source { tables, .. }, Ok(position)) =
        (assignment.connector.definition(), serde_json::from_value::<Position>(position.clone()))
    {
        show(board, tables, &position);
    }
}

async fn ensure_topics(services: &Services, tables: &[CapturedTable], partitions: i32) -> Result<Vec<Topic>, Failure> {
    let mut topics = Vec::with_capacity(tables.len());
    for table in tables {
        let name = TopicName::parse(table.topic.clone()).map_err(|e| PortError::Refused(e.to_string()))?;
        let topic = match services.log.create_topic(&name, partitions, &TopicSettings::default()).await {
            Err(PortError::Exists { .. }) => services.log.topic(&name).await?,
            made => made?,
        };
        topics.push(topic);
    }
    Ok(topics)
}

/// An append under way, and what it brings.
type UnderWay = (JoinHandle<Result<Vec<gonvel_core::ports::Landed>, PortError>>, Position, Option<i64>);

pub(crate) async fn run(mut work: Work<'_>) -> Result<Ending, Failure> {
    let Definition::Source { tables, partitions, connection, load } = work.assignment.connector.definition() else {
        return Err(ConnectorError::Defect("a source lane for a sink".into()).into());
    };
    let address = work.services.fleet.address(*connection).await?;
    let settings = SourceSettings { connector: work.connector(), address, tables: tables.clone(), load: *load };
    let topics = ensure_topics(work.services, tables, *partitions).await?;
    let mut position = if work.lease.position.is_null() {
        let first = Position { source: prepare(&settings).await?, counts: BTreeMap::new(), reloaded: 0 };
        // stored before anything is captured: a crash before this line makes the slot anew, one after it keeps it
        append(&work, AppendBatch { progress: Some(progress(&work, &first)?), ..AppendBatch::default() }).await?;
        first
    } else {
        serde_json::from_value(work.lease.position.clone())
            .map_err(|e| ConnectorError::Defect(format!("the stored position cannot be read: {e}")))?
    };
    for (number, again) in work.services.fleet.reloads(work.connector(), position.reloaded).await? {
        load_again(&settings, &mut position.source, &again).await?;
        position.reloaded = number;
        append(&work, AppendBatch { progress: Some(progress(&work, &position)?), ..AppendBatch::default() }).await?;
    }
    show(work.board, tables, &position);
    let mut source = PgSource::start(settings, position.source.clone()).await?;
    enter(work.board, &position);
    let mut writer = Writer::new(work.services.schemas.clone(), topics);
    let mut under_way: Option<UnderWay> = None;
    loop {
        let captured = tokio::select! {
            biased;
            done = finished(&mut under_way), if under_way.is_some() => {
                settle(&work, tables, &source, done?);
                continue;
            }
            ending = asked_to_end(&mut work.stopped) => {
                if under_way.is_some() {
                    settle(&work, tables, &source, finished(&mut under_way).await?);
                }
                return Ok(ending);
            }
            captured = source.next() => captured,
        };
        let captured =
            captured.ok_or_else(|| ConnectorError::try_again("the source ended", "it starts again by itself"))??;
        let (parts, latest_us) = write(&mut writer, &captured, tables, &mut position).await?;
        position.source = captured.position;
        if under_way.is_some() {
            settle(&work, tables, &source, finished(&mut under_way).await?);
        }
        let batch = AppendBatch { parts, progress: Some(progress(&work, &position)?), identity: None };
        let log = work.services.log.clone();
        under_way = Some((tokio::spawn(async move { log.append(batch).await }), position.clone(), latest_us));
    }
}

fn enter(board: &Board, position: &Position) {
    let state = if position.source.loads.is_empty() { State::Following } else { State::Loading };
    board.enter(state, None, None);
}

fn progress(work: &Work<'_>, position: &Position) -> Result<LaneProgress, Failure> {
    let (connector, epoch) = (work.connector(), work.lease.epoch);
    Ok(LaneProgress { connector, lane: ONLY, epoch, position: stored(position)? })
}

async fn append(work: &Work<'_>, batch: AppendBatch) -> Result<(), Failure> {
    work.services.log.append(batch).await?;
    Ok(())
}

type Blocks = Vec<gonvel_core::ports::PartitionBlocks>;

async fn write(
    writer: &mut Writer,
    captured: &Captured,
    tables: &[CapturedTable],
    position: &mut Position,
) -> Result<(Blocks, Option<i64>), Failure> {
    let mut parts = Vec::new();
    let mut latest_us = None;
    for changes in &captured.changes {
        let table = &tables[changes.table];
        let counts = position.counts.entry(format!("{}.{}", table.schema, table.table)).or_default();
        parts.extend(writer.write(changes, counts).await?);
        if let Some(origin) = changes.batch.origins.last() {
            latest_us = latest_us.max(Some(origin.commit_time_us));
        }
    }
    Ok((parts, latest_us))
}

/// Cancel safety: dropped while waiting, the append stays under way.
async fn finished(under_way: &mut Option<UnderWay>) -> Result<(Position, Option<i64>), Failure> {
    let Some((handle, ..)) = under_way else { return std::future::pending().await };
    let outcome = handle.await;
    let Some((_, position, latest_us)) = under_way.take() else { return std::future::pending().await };
    match outcome {
        Ok(Ok(_)) => Ok((position, latest_us)),
        Ok(Err(error)) => Err(error.into()),
        Err(error) => Err(ConnectorError::Defect(error.to_string()).into()),
    }
}

/// The append is durable: the server may forget what it holds, and people may see it.
fn settle(work: &Work<'_>, tables: &[CapturedTable], source: &PgSource, done: (Position, Option<i64>)) {
    let (position, latest_us) = done;
    source.confirm(&position.source);
    show(work.board, tables, &position);
    enter(work.board, &position);
    if let Some(latest_us) = latest_us {
        #[allow(clippy::cast_precision_loss, reason = "milliseconds for people")]
        let behind_ms = ((now_us() - latest_us).max(0) as f64 / 100.0).round() / 10.0;
        work.board.write(|status| status.latency_ms = Some(behind_ms));
    }
}
