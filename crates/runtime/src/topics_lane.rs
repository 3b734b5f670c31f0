//! The lane of a connector between topics: rounds of changes are shaped and appended, together with the positions they bring.

use std::collections::{BTreeMap, HashMap};
use std::time::Duration;

use gonvel_core::change::{ChangeBatch, KindCounts};
use gonvel_core::connector::{BadRecords, Definition, State};
use gonvel_core::naming::{PartitionId, TopicPartition};
use gonvel_core::ports::systems::{ConnectorError, Delivered, Round, TableChanges, TopicChanges};
use gonvel_core::ports::{Level, Settled, TableProgress, Topic};
use gonvel_core::shape::Fact;
use tokio::time::Instant;

use crate::aside::{Aside, Book, Keeps};
use crate::carrying_again::{Again, Sought};
use crate::events::{Events, first_places, forms};
use crate::failing::Failure;
use crate::fits::FitTargets;
use crate::lag::Lag;
use crate::outgoing::{Blocks, ensure_topic};
use crate::passed_over;
use crate::reading::{ReadRound, Reader};
use crate::services::Services;
use crate::shaping::{Shaping, Shared, Ways};
use crate::sink_lane::topics_there;
use crate::stands::Stands;
use crate::starting::offsets_at;
use crate::work::{Ending, Work, asked_to_end};
use crate::writing::{Writer, append};

/// How long the lane does other things after carrying rows again, in times of what that took.
const RESTS: u32 = 10;
/// And at most.
const LONGEST_REST: Duration = Duration::from_secs(60);
/// Changes in a round from which on the next one is read while it is appended.
const AHEAD: usize = 1_000;
/// Longest wait for new records before looking again.
const LOOK: Duration = Duration::from_millis(500);

/// Where what is carried goes.
struct Outputs<'o> {
    services: &'o Services,
    partitions: i32,
    writer: Writer,
    shaping: Option<Shared>,
    /// The writer's place of each place that changes come with: those of the topics that are read, then the ways.
    places: Vec<usize>,
    /// The headers of the records of each.
    headers: Vec<Vec<(String, Fact)>>,
}

impl Outputs<'_> {
    /// Changes as blocks.
    async fn write(&mut self, topics: Vec<TopicChanges>) -> Result<Blocks, Failure> {
        let found = match &self.shaping {
            Some(shaping) => shaping.lock().await.ways().found(),
            None => Vec::new(),
        };
        for (of, name) in found {
            self.headers.push(self.headers[of].clone());
            let place = match self.writer.way(&name) {
                Some(known) => known,
                None => self.writer.add_way(ensure_topic(self.services, &name, self.partitions).await?),
            };
            self.places.push(place);
        }
        let mut parts = Vec::new();
        for changes in topics {
            let place = self.places[changes.topic];
            let rows: usize = changes.batches.iter().map(ChangeBatch::len).sum();
            // all that is in a batch goes on, as this lane takes none that others share; but for rows that do not fit a schema
            let only = (!changes.is_truncate() && changes.changes.len() < rows).then_some(&changes.changes);
            for (number, batch) in changes.batches.into_iter().enumerate() {
                let rows = only.map(|only| {
                    only.iter().filter(|((of, _), _)| *of == number).map(|((_, row), _)| *row).collect::<Vec<_>>()
                });
                let all = TableChanges { table: changes.topic, batch, rows };
                parts
                    .extend(self.writer.write(place, &all, &self.headers[changes.topic], &mut KindCounts::default()).await?);
            }
        }
        Ok(parts)
    }
}

pub(crate) async fn run(mut work: Work<'_>) -> Result<Ending, Failure> {
    let Definition::Topics(definition) = work.assignment.connector.definition() else {
        return Err(ConnectorError::Defect("a lane between topics for another connector".into()).into());
    };
    let carries = &definition.carries;
    let read_topics = work.assignment.connector.definition().read_topics();
    let names: Vec<String> = carries.iter().map(|c| c.topic.clone()).collect();
    let shaped: Vec<String> = read_topics.iter().map(|read| read.name.clone()).collect();
    let Some(topics) = topics_there(&mut work, &names).await? else {
        return Ok(asked_to_end(&mut work.stopped).await);
    };
    let first = match &definition.start {
        Some(start) if work.lease.position.is_null() => offsets_at(&*work.services.log, start, &topics).await?,
        _ => HashMap::new(),
    };
    let mut stands = Stands::read(&work.lease.position)?;
    let mut starts = Vec::new();
    let read_once = first_places(&read_topics);
    for (number, topic) in topics.iter().enumerate().filter(|(number, _)| read_once[*number] == *number) {
        for partition in 0..topic.partitions {
            let at = TopicPartition { topic: topic.id, partition: PartitionId(partition) };
            let begin = || Delivered { next: first.get(&at).copied().unwrap_or(0), ..Delivered::default() };
            starts.push((at, number, *stands.delivered.entry(at).or_insert_with(begin)));
        }
    }
    let mut written = Vec::with_capacity(carries.len());
    for carried in carries {
        written.push(ensure_topic(work.services, &carried.to, definition.partitions).await?);
    }
    let name = work.assignment.connector.name().as_str();
    let fits = FitTargets::of(work.services, carries, &written).await?;
    let writer = Writer::new(work.services, name, written, definition.values, None).await?.fitting(fits.clone());
    let shaping = Shaping::noting(work.services, &definition.shape, shaped.clone(), &stands.followed).await?;
    let shaping = shaping.map(|shaping| shaping.shared(Ways::growing(carries.len())));
    let mut out = Outputs {
        services: work.services,
        partitions: definition.partitions,
        writer,
        shaping: shaping.clone(),
        places: (0..carries.len()).collect(),
        headers: shaped.iter().map(|name| definition.shape.headers(name)).collect(),
    };
    let log = work.services.log.clone();
    let events = forms(&read_topics)?;
    let read = |reader: Reader| reader.shaped(shaping.clone()).events(&events).whole_rows().fitting(fits.clone());
    let passed = passed_over::told(&definition.failing);
    let reader = Reader::new(log.clone(), work.services.schemas.clone(), starts.clone());
    let reader = reader.delivering(work.lease.ground).knowing(&topics).passing_over(passed.clone());
    let mut reader = read(reader);
    let mut aside = None;
    // what was appended before a crash is not appended again
    work.services.quarantine.settle(work.held(), &stands.retried, &Settled::Delivered).await?;
    if definition.failing.records == BadRecords::Quarantine {
        reader = reader.aside(names.clone());
        let positions: Vec<_> = starts.iter().map(|(at, number, delivered)| (*at, *number, delivered.next)).collect();
        let keeps = Keeps { rows: true, emptied: true, itself: true };
        aside = Some(Aside::new(Book::of(&work), keeps, names.clone(), &positions, events.clone()).await?.read(read));
    }
    work.board.enter(State::Following, None, None);
    show(&work, &topics, &stands.delivered);
    let mut lag = Lag::default();
    // what was asked for before the lane began
    let mut again = aside.is_some().then(Instant::now);
    let follows = !definition.shape.followed().is_empty();
    let mut ahead = None;
    // when rows may be carried again: what that costs is a small part of the lane's time
    let mut rested = Instant::now();
    loop {
        tokio::select! {
            biased;
            ending = asked_to_end(&mut work.stopped) => return Ok(ending),
            () = std::future::ready(()) => {}
        }
        if let Some(aside) = aside.as_mut().filter(|_| again.is_some_and(|at| at <= Instant::now())) {
            again = retry(&work, aside, &mut out, &mut stands).await?.map(|wait| Instant::now() + wait);
        }
        let mut ends = reader.ends();
        let mut waits_for = None;
        if let Some(shaping) = shaping.as_ref().filter(|_| follows) {
            let changed = {
                let mut shaping = shaping.lock().await;
                shaping.catch_up().await?;
                ends.extend(shaping.references().ends());
                shaping.has_changed()
            };
            if changed && rested <= Instant::now() {
                let begun = Instant::now();
                let mut carrying = Carrying { work: &work, names: &names, starts: &starts, shaping, events: &events };
                carrying.again(&mut reader, &mut aside, &mut out, &mut stands).await?;
                rested = Instant::now() + (begun.elapsed() * RESTS).min(LONGEST_REST);
                continue;
            }
            waits_for = changed.then_some(rested);
        }
        let read = match ahead.take() {
            Some(read) => read,
            None => reader.next().await,
        }?;
        let Some(ReadRound { mut round, latest_us, beside, changes, .. }) = read else {
            Lag::none(work.board);
            tokio::select! {
                biased;
                ending = asked_to_end(&mut work.stopped) => return Ok(ending),
                Ok(()) = work.mending.changed(), if aside.is_some() => again = Some(Instant::now()),
                () = tokio::time::sleep_until(again.unwrap_or_else(Instant::now)), if again.is_some() => {}
                () = tokio::time::sleep_until(waits_for.unwrap_or_else(Instant::now)), if waits_for.is_some() => {}
                came = log.wait_for(&ends, LOOK) => came?,
            }
            continue;
        };
        passed_over::note(&work, passed.as_ref(), &topics).await?;
        if aside.is_some() && work.mending.has_changed().unwrap_or(false) {
            work.mending.mark_unchanged();
            again = Some(Instant::now());
        }
        let taken = match &mut aside {
            Some(aside) => Some(aside.take(&mut round, beside).await?),
            None => None,
        };
        let parts = out.write(round.topics).await?;
        stands.delivered.extend(round.delivered);
        stands.retried.clear();
        if let Some(shaping) = shaping.as_ref().filter(|_| follows) {
            shaping.lock().await.note_followed(&mut stands.followed);
        }
        let appended = append(work.services, parts, stands.progress(&work)?);
        // where much waits the next round is read meanwhile, unless its rows may have to be carried again before they are written
        if changes >= AHEAD && !follows {
            let (appended, next) = tokio::join!(appended, reader.next());
            appended?;
            ahead = Some(next);
        } else {
            appended.await?;
        }
        if let (Some(aside), Some(taken)) = (&mut aside, taken) {
            aside.taken(&taken);
        }
        work.board.note_moved();
        show(&work, &topics, &stands.delivered);
        lag.note(work.board, &*log, &stands.delivered, latest_us).await?;
    }
}

/// What carrying rows again needs to know of the lane.
struct Carrying<'c> {
    work: &'c Work<'c>,
    names: &'c [String],
    starts: &'c [(TopicPartition, usize, Delivered)],
    shaping: &'c Shared,
    events: &'c Events,
}

impl Carrying<'_> {
    /// Carries rows again that look up what changed. That is done with once the last of them is appended: a crash before that
    /// begins it anew.
    async fn again(
        &mut self,
        reader: &mut Reader,
        aside: &mut Option<Aside>,
        out: &mut Outputs<'_>,
        stands: &mut Stands,
    ) -> Result<(), Failure> {
        let (changed, done) = {
            let mut shaping = self.shaping.lock().await;
            (shaping.take_changed(), shaping.references().followed_to())
        };
        let upto = |(at, place, _): &(TopicPartition, usize, Delivered)| {
            (*at, *place, stands.delivered.get(at).map_or(0, |delivered| delivered.next))
        };
        let read: Vec<_> = self.starts.iter().map(upto).collect();
        let (services, shaping, names, events) = (self.work.services, self.shaping, self.names, self.events);
        let sought = Sought { services, shaping, names, events, read: &read, changed: changed.clone() };
        let (mut count, mut parts_read, mut found) = (0, 0_u64, Again::of(sought));
        while let Some(rows) = found.next().await? {
            parts_read += 1;
            for changes in rows {
                count += changes.from.len();
                let (topics, beside) = reader.shape_again(vec![changes]).await?;
                let mut round = Round { topics, delivered: Vec::new(), more: false };
                let taken = match aside {
                    Some(aside) => Some(aside.take(&mut round, beside).await?),
                    None => None,
                };
                let parts = out.write(round.topics).await?;
                append(services, parts, stands.progress(self.work)?).await?;
                if let (Some(aside), Some(taken)) = (aside.as_mut(), taken) {
                    aside.taken(&taken);
                }
            }
        }
        self.shaping.lock().await.references().done(&done);
        stands.followed = done;
        append(self.work.services, Vec::new(), stands.progress(self.work)?).await?;
        let mut topics: Vec<&String> = changed.keys().collect();
        topics.sort_unstable();
        let facts = [("references", serde_json::json!(topics)), ("rows", count.into()), ("parts", parts_read.into())];
        self.work.board.say(Level::Info, "what rows look up changed: they were carried again", facts);
        Ok(())
    }
}

/// Tries records of the quarantine again that are asked for; gives how long to wait before the next ones, if there may be more.
async fn retry(
    work: &Work<'_>,
    aside: &mut Aside,
    out: &mut Outputs<'_>,
    stands: &mut Stands,
) -> Result<Option<Duration>, Failure> {
    let (again, wait) = aside.again().await?;
    if let Some(mut again) = again {
        let parts = out.write(std::mem::take(&mut again.topics)).await?;
        stands.retried.clone_from(&again.delivered);
        append(work.services, parts, stands.progress(work)?).await?;
        aside.done(&again).await?;
    }
    Ok(wait)
}

fn show(work: &Work<'_>, topics: &[Topic], delivered: &BTreeMap<TopicPartition, Delivered>) {
    let Definition::Topics(definition) = work.assignment.connector.definition() else { return };
    let mut tables: BTreeMap<String, TableProgress> = BTreeMap::new();
    for (topic, carried) in topics.iter().zip(&definition.carries) {
        let table = tables.entry(carried.topic.clone()).or_default();
        if !table.other_end.is_empty() {
            table.other_end.push_str(", ");
        }
        table.other_end.push_str(&carried.to);
        let of = delivered.iter().filter(|(at, _)| at.topic == topic.id);
        table.counts = of.fold(KindCounts::default(), |sum, (_, d)| sum.with(d.counts));
    }
    work.board.write(|status| status.tables = tables);
}
