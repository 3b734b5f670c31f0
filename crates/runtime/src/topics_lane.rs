//! The lane of a connector between topics: rounds of changes are shaped and appended, together with the positions they bring.

use std::collections::{BTreeMap, HashMap};
use std::time::Duration;

use gonvel_connectors::error::ConnectorError;
use gonvel_connectors::postgres::sink::Delivered;
use gonvel_connectors::postgres::source::TableChanges;
use gonvel_core::change::KindCounts;
use gonvel_core::connector::{Definition, State};
use gonvel_core::naming::{PartitionId, TopicId, TopicPartition};
use gonvel_core::ports::{AppendBatch, LaneProgress, TableProgress, Topic, TopicLog};
use serde::{Deserialize, Serialize};

use crate::lag::Lag;
use crate::lane::{Ending, Failure, ONLY, Work, asked_to_end};
use crate::outgoing::{Out, ensure_topic};
use crate::reading::{ReadRound, Reader, place_of};
use crate::shaping::Shaping;
use crate::sink_lane::{offsets_at, topics_there};
use crate::status::Board;
use crate::writing::Writer;

/// Longest wait for new records before looking again.
const LOOK: Duration = Duration::from_millis(500);

/// What is stored as the lane's position.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
struct Position {
    #[serde(default)]
    places: Vec<Place>,
}

#[derive(Debug, Clone, Serialize, Deserialize)]
struct Place {
    topic: i64,
    partition: i32,
    next: i64,
    #[serde(default)]
    counts: KindCounts,
}

/// Where a lane stands by its stored position.
pub(crate) fn positions(position: &serde_json::Value) -> HashMap<TopicPartition, i64> {
    let stored: Position = serde_json::from_value(position.clone()).unwrap_or_default();
    stored.places.iter().map(|p| (place(p), p.next)).collect()
}

/// A stored position with partitions moved from where they stand to other offsets; none if one stands elsewhere.
pub(crate) fn moved(position: &serde_json::Value, moves: &[(TopicPartition, i64, i64)]) -> Option<serde_json::Value> {
    let mut stored: Position = serde_json::from_value(position.clone()).ok()?;
    for (at, from, to) in moves {
        stored.places.iter_mut().find(|p| place(p) == *at && p.next == *from)?.next = *to;
    }
    serde_json::to_value(stored).ok()
}

fn place(place: &Place) -> TopicPartition {
    TopicPartition { topic: TopicId(place.topic), partition: PartitionId(place.partition) }
}

/// The next round.
///
/// Cancel safety: none; the reader is to be made anew after a cancelled call.
async fn next(reader: &mut Reader, log: &dyn TopicLog, board: &Board) -> Result<ReadRound, Failure> {
    loop {
        if let Some(round) = reader.next().await? {
            return Ok(round);
        }
        Lag::none(board);
        log.wait_for(&reader.ends(), LOOK).await?;
    }
}

pub(crate) async fn run(mut work: Work<'_>) -> Result<Ending, Failure> {
    let Definition::Topics(definition) = work.assignment.connector.definition() else {
        return Err(ConnectorError::Defect("a lane between topics for another connector".into()).into());
    };
    let carries = &definition.carries;
    let names: Vec<String> = carries.iter().map(|c| c.topic.clone()).collect();
    let topics = topics_there(work.services, &names).await?;
    let first = match &definition.start {
        Some(start) if work.lease.position.is_null() => offsets_at(&*work.services.log, start, &topics).await?,
        _ => HashMap::new(),
    };
    let unreadable = |e| ConnectorError::Defect(format!("the stored position cannot be read: {e}"));
    let stored: Position = match &work.lease.position {
        position if position.is_null() => Position::default(),
        position => serde_json::from_value(position.clone()).map_err(unreadable)?,
    };
    let mut delivered: BTreeMap<TopicPartition, Delivered> =
        stored.places.iter().map(|p| (place(p), Delivered { next: p.next, counts: p.counts })).collect();
    let mut starts = Vec::new();
    for (number, topic) in topics.iter().enumerate() {
        for partition in 0..topic.partitions {
            let at = TopicPartition { topic: topic.id, partition: PartitionId(partition) };
            let begin = || Delivered { next: first.get(&at).copied().unwrap_or(0), counts: KindCounts::default() };
            starts.push((at, number, *delivered.entry(at).or_insert_with(begin)));
        }
    }
    let mut written = Vec::with_capacity(carries.len());
    for carried in carries {
        written.push(ensure_topic(work.services, &carried.to, definition.partitions).await?);
    }
    let name = work.assignment.connector.name().as_str();
    let writer = Writer::new(work.services, name, written, definition.values, None).await?;
    let shaping = Shaping::of(work.services, &definition.shape, names).await?;
    let mut out = Out::new(work.services, definition.partitions, writer, shaping);
    let log = work.services.log.clone();
    let mut reader = Reader::new(log.clone(), work.services.schemas.clone(), starts);
    work.board.enter(State::Following, None, None);
    show(&work, &topics, &delivered);
    let mut lag = Lag::default();
    loop {
        let round = tokio::select! {
            biased;
            ending = asked_to_end(&mut work.stopped) => return Ok(ending),
            round = next(&mut reader, &*log, work.board) => round?,
        };
        let mut parts = Vec::new();
        for changes in round.round.topics {
            let (from, place) = (changes.from, changes.topic);
            // one batch, with a record for every change
            let called = |row: usize| format!("{} of {}", place_of(from[row].0, from[row].1), carries[place].topic);
            for batch in changes.batches {
                let all = TableChanges { table: place, batch, rows: None };
                parts.extend(out.write(&all, &mut KindCounts::default(), called).await?);
            }
        }
        for (at, now) in &round.round.delivered {
            delivered.insert(*at, *now);
        }
        let places = delivered.iter().map(|(at, d)| Place {
            topic: at.topic.0,
            partition: at.partition.0,
            next: d.next,
            counts: d.counts,
        });
        let position = serde_json::to_value(Position { places: places.collect() })
            .map_err(|e| ConnectorError::Defect(e.to_string()))?;
        let (connector, epoch) = (work.connector(), work.lease.epoch);
        let progress = LaneProgress { connector, lane: ONLY, epoch, position };
        log.append(AppendBatch { parts, progress: Some(progress), identity: None }).await?;
        work.board.note_moved();
        show(&work, &topics, &delivered);
        lag.note(work.board, &*log, &delivered, round.latest_us).await?;
    }
}

fn show(work: &Work<'_>, topics: &[Topic], delivered: &BTreeMap<TopicPartition, Delivered>) {
    let Definition::Topics(definition) = work.assignment.connector.definition() else { return };
    let mut tables: BTreeMap<String, TableProgress> = BTreeMap::new();
    for (topic, carried) in topics.iter().zip(&definition.carries) {
        let table = tables.entry(carried.topic.clone()).or_default();
        table.other_end.clone_from(&carried.to);
        let of = delivered.iter().filter(|(at, _)| at.topic == topic.id);
        table.counts = of.fold(KindCounts::default(), |sum, (_, d)| sum.with(d.counts));
    }
    work.board.write(|status| status.tables = tables);
}
