//! Whether the topic log still has the history that a target's positions came from.

use std::collections::HashMap;
use std::collections::hash_map::Entry;

use futures::{StreamExt, TryStreamExt, stream};
use gonvel_core::connector::Definition;
use gonvel_core::naming::{ConnectorId, Offset, TopicId, TopicPartition};
use gonvel_core::ports::systems::{ConnectorError, Stand};
use gonvel_core::ports::{Errands, FleetStore, PartitionBounds, PortError, Topic, TopicLog};
use gonvel_core::trail::{Found, Seen, Trail, Verdict};

use crate::failing::Failure;
use crate::work::ONLY;

/// Partitions that are looked at side by side.
const BESIDE: usize = 8;

/// A partition of which a target has other records than the log.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Parted {
    /// The partition.
    pub at: TopicPartition,
    /// Where the target stands.
    pub next: i64,
    /// The offset after the log's last record.
    pub end: i64,
    /// The offset up to which both have the same records, as far as is known: from there on nothing is left out.
    pub agree_to: i64,
    /// A record that the target has, and the log has another in its place.
    pub seen: Option<Seen>,
}

/// The partitions of which a target has other records than the log, in order. What was forgotten or superseded tells nothing.
///
/// # Errors
/// [`PortError`] if the log does not answer.
pub async fn parted(log: &dyn TopicLog, stands: HashMap<TopicPartition, Stand>) -> Result<Vec<Parted>, PortError> {
    let mut bounds: HashMap<TopicId, Vec<PartitionBounds>> = HashMap::new();
    for at in stands.keys() {
        if let Entry::Vacant(place) = bounds.entry(at.topic) {
            place.insert(log.bounds(at.topic).await?);
        }
    }
    let judged = stream::iter(stands).map(|(at, stand)| {
        let held = bounds[&at.topic].iter().find(|b| b.partition == at.partition).copied();
        async move { judge(log, at, held, &stand).await }
    });
    let parted: Vec<Option<Parted>> = judged.buffered(BESIDE).try_collect().await?;
    let mut parted: Vec<Parted> = parted.into_iter().flatten().collect();
    parted.sort_unstable_by_key(|parted| parted.at);
    Ok(parted)
}

async fn judge(
    log: &dyn TopicLog,
    at: TopicPartition,
    held: Option<PartitionBounds>,
    stand: &Stand,
) -> Result<Option<Parted>, PortError> {
    let (first, end) = held.map_or((0, 0), |held| (held.first.0, held.next.0));
    let (next, trail) = (stand.delivered.next, &stand.trail);
    let found = found(log, at, first..end, trail).await?;
    Ok(match trail.judge(next, end, &found) {
        Verdict::Same => None,
        Verdict::Parted { agree_to, seen } => {
            let agree_to = agree_to.unwrap_or(first).clamp(first, end);
            Some(Parted { at, next, end, agree_to, seen })
        }
    })
}

/// What the log has at the places of a trail, the newest first, up to the first record that both have.
async fn found(
    log: &dyn TopicLog,
    at: TopicPartition,
    held: std::ops::Range<i64>,
    trail: &Trail,
) -> Result<Vec<Found>, PortError> {
    let mut out = Vec::new();
    for seen in trail.newest_first() {
        let here = if held.contains(&seen.offset) { time_at(log, at, seen.offset).await? } else { None };
        out.push(here.map_or(Found::Nothing, |time_us| Found::Record { time_us }));
        if here == Some(seen.time_us) {
            break;
        }
    }
    Ok(out)
}

/// The time of the record at an offset; none if there is no record any more.
async fn time_at(log: &dyn TopicLog, at: TopicPartition, offset: i64) -> Result<Option<i64>, PortError> {
    let Some(block) = log.read(at, Offset(offset), 1).await?.into_iter().next() else { return Ok(None) };
    for record in block.open(at)?.records() {
        let (Offset(here), record) = record?;
        if here == offset {
            return Ok(Some(record.timestamp_us));
        }
    }
    Ok(None)
}

/// Whether a connector goes on from where it stands without a gap, and without taking other records for delivered: asked of its
/// system, as its lanes ask when they start.
///
/// # Errors
/// What a lane would halt with; what kept it from being asked.
pub async fn check(services: &Judges<'_>, id: ConnectorId, definition: &Definition) -> Result<(), Disagreement> {
    match definition {
        Definition::Source(source) => {
            let address = services.fleet.address(source.connection).await?;
            let position = services.fleet.position(id, ONLY).await?.unwrap_or_default();
            Ok(services.errands.goes_on(&address, id, &position).await?)
        }
        Definition::Sink(sink) if sink.writes.guarantee.in_target() => {
            let address = services.fleet.address(sink.connection).await?;
            let (stands, topics) = (services.errands.stands(&address, id).await?, services.log.topics().await?);
            let delivers = |at: &TopicPartition| {
                let topic = topics.iter().find(|topic| topic.id == at.topic);
                topic.is_some_and(|topic| sink.topics.iter().any(|delivered| delivered.topic == topic.name.as_str()))
            };
            let stands: HashMap<_, _> = stands.into_iter().filter(|(at, _)| delivers(at)).collect();
            let (later, latest) = (stands.values().map(|stand| stand.epoch.0).max(), services.fleet.latest_term().await?.0);
            let parted = parted(services.log, stands).await?;
            if !parted.is_empty() {
                return Err(told(&parted, &topics).into());
            }
            match later.filter(|later| *later > latest) {
                Some(later) => Err(written_later(later, latest).into()),
                None => Ok(()),
            }
        }
        // what Gonvel keeps came back together with the records
        Definition::Sink(_) | Definition::Topics(_) => Ok(()),
    }
}

/// What is asked besides the connectors' systems.
pub struct Judges<'a> {
    /// The log.
    pub log: &'a dyn TopicLog,
    /// The fleet.
    pub fleet: &'a dyn FleetStore,
    /// Who asks the systems.
    pub errands: &'a dyn Errands,
}

/// Why a connector does not go on from where it stands.
#[derive(Debug)]
pub struct Disagreement {
    /// What was found, and what to do.
    pub finding: String,
    /// Whether it could not be asked.
    pub unknown: bool,
}

impl<E: Into<Failure>> From<E> for Disagreement {
    fn from(error: E) -> Self {
        let failure: Failure = error.into();
        let unknown = !matches!(failure, Failure::Connector(ConnectorError::Settings { .. }));
        Self { finding: failure.message(), unknown }
    }
}

/// What a sink says that has other records than the log.
pub(crate) fn told(parted: &[Parted], topics: &[Topic]) -> ConnectorError {
    let name = |at: TopicPartition| {
        let topic = topics.iter().find(|t| t.id == at.topic).map_or_else(|| at.topic.0.to_string(), |t| t.name.to_string());
        format!("partition {} of {topic}", at.partition.0)
    };
    let places: Vec<String> = parted.iter().take(3).map(|parted| place(&name(parted.at), parted)).collect();
    let more = parted.len().saturating_sub(places.len());
    let more = if more > 0 { format!("; and {more} more partitions") } else { String::new() };
    ConnectorError::settings(
        None,
        format!(
            "the topic log was rolled back (a restore or a failover), and this target is ahead of it: {}{more}. New records at \
             these offsets would be skipped as delivered",
            places.join("; ")
        ),
        "let the sources of these topics begin anew; then pause this connector and move it to where target and log agree, which \
         delivers some records twice, or to the end, which skips what came since",
    )
}

/// What a sink says whose target was written under a later lease than this log ever gave.
pub(crate) fn written_later(later: i64, latest: i64) -> ConnectorError {
    ConnectorError::settings(
        None,
        format!(
            "the target was written under lease {later}, but this log has given none after {latest}: it was rolled back, or a second \
             installation with a copy of it writes to the same target"
        ),
        "stop the second installation if there is one; then pause this connector and move it to where target and log agree",
    )
}

fn place(name: &str, parted: &Parted) -> String {
    let agree = format!("both agree up to {}", parted.agree_to);
    match parted.seen {
        Some(seen) => format!("{name} has another record at offset {} ({agree})", seen.offset),
        None => format!("{name} was delivered up to offset {} and ends at {} ({agree})", parted.next, parted.end),
    }
}
