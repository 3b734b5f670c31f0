//! A sink connector's lane: rounds of changes go into the target together with the position they bring.

use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;
use std::time::Duration;

use gonvel_core::connector::{BadRecords, Definition, DeliveredTopic, State};
use gonvel_core::naming::{PartitionId, TopicId, TopicName, TopicPartition};
use gonvel_core::ports::systems::{Comes, ConnectorError, Delivered, Round, Sink, SinkSettings};
use gonvel_core::ports::{PortError, TableProgress, Topic, TopicLog};
use tokio::sync::{Semaphore, mpsc};
use tokio::time::Instant;

use crate::aside::{Aside, Book};
use crate::events::{first_places, forms};
use crate::failing::Failure;
use crate::first_time::FirstTime;
use crate::lag::{COUNT_LAG, Lag};
use crate::passed_over;
use crate::reading::together::Together;
use crate::reading::truncates::LOOK_FOR_ENDS;
use crate::reading::{ReadRound, Reader};
use crate::shaping::{Shaping, Ways};
use crate::target::Target;
use crate::watching::{Watched, watched};
use crate::whole::Whole;
use crate::work::{Ending, Work, asked_to_end};

/// Longest wait for new records before looking again.
const LOOK: Duration = Duration::from_millis(500);
/// How long to wait before looking again whether a transaction is there as a whole.
const WHOLE: Duration = Duration::from_millis(15);
/// Changes in a round from which on the next one is read while it is applied. After a smaller one nothing waits: what is read
/// once it is applied is newer, and holds what came meanwhile.
const AHEAD: usize = 1_000;

pub(crate) async fn run(mut work: Work<'_>) -> Result<Ending, Failure> {
    let Definition::Sink(definition) = work.assignment.connector.definition() else {
        return Err(ConnectorError::Defect("a sink lane for a source".into()).into());
    };
    // what was handed on before the log's database was another one is not in it for sure
    work.services.handed.begin(work.lease.ground);
    let wanted = &definition.topics;
    let read = work.assignment.connector.definition().read_topics();
    let first = first_places(&read);
    let address = work.services.fleet.address(definition.connection).await?;
    let names: Vec<String> = wanted.iter().map(|t| t.topic.clone()).collect();
    let Some(topics) = topics_there(&mut work, &names).await? else {
        return Ok(asked_to_end(&mut work.stopped).await);
    };
    let mut tables: Vec<(TopicId, DeliveredTopic)> = topics.iter().map(|t| t.id).zip(wanted.iter().cloned()).collect();
    // tables that rows are routed to stand after those of the topics
    let mut ways = HashMap::new();
    for (place, topic) in wanted.iter().enumerate() {
        for way in definition.shape.ways(&read[place].name) {
            ways.insert((place, way.to_owned()), tables.len());
            tables.push((topics[place].id, topic.routed(way)));
        }
    }
    let settings =
        SinkSettings { connector: work.connector(), lane: work.lane(), topics: tables, writes: definition.writes };
    let partitions: Vec<(TopicPartition, usize)> = topics
        .iter()
        .enumerate()
        // a topic whose records are of several types is read once
        .filter(|(place, _)| first[*place] == *place)
        .flat_map(|(place, t)| {
            (0..t.partitions).map(move |p| (TopicPartition { topic: t.id, partition: PartitionId(p) }, place))
        })
        .enumerate()
        .filter(|(number, _)| lane_of(*number, definition.placing.lanes) == work.lane())
        .map(|(_, partition)| partition)
        .collect();
    let all: Vec<TopicPartition> = partitions.iter().map(|(at, _)| *at).collect();
    let shaped: Vec<String> = read.iter().map(|read| read.name.clone()).collect();
    let shaping =
        Shaping::of(work.services, &definition.shape, shaped).await?.map(|shaping| shaping.shared(Ways::known(ways)));
    let events = forms(&read)?;
    let first_time = FirstTime {
        existing: definition.existing_rows.unwrap_or_default(),
        places: first.clone(),
        shaping: shaping.clone(),
        events: events.clone(),
    };
    let (mut target, delivered) =
        Target::start(&work, &address, settings, &all, &topics, definition.start.as_ref(), &first_time).await?;
    let place_of: BTreeMap<TopicPartition, usize> = partitions.iter().copied().collect();
    let mut ends = vec![String::new(); wanted.len()];
    for (topic, place) in wanted.iter().zip(&first) {
        let end = &mut ends[*place];
        *end = if end.is_empty() { topic.table_name() } else { format!("{end}, {}", topic.table_name()) };
    }
    let mut progress = Progress { delivered, place_of, ends };
    let session = target.sink().blocked();
    progress.show(&work);
    work.board.enter(State::Following, None, None);
    let names: Vec<String> = target.sink().topics().iter().map(|(_, t)| t.topic.clone()).collect();
    let positions: Vec<(TopicPartition, usize, i64)> =
        partitions.iter().map(|(at, place)| (*at, *place, progress.delivered.get(at).map_or(0, |d| d.next))).collect();
    let quarantines = definition.failing.records == BadRecords::Quarantine && !definition.writes.whole_transactions;
    let mut aside = if quarantines {
        let keeps = definition.writes.into();
        let aside = Aside::new(Book::of(&work), keeps, names.clone(), &positions, events.clone()).await?;
        Some(aside.read(|reader| reader.shaped(shaping.clone())))
    } else {
        None
    };
    let starts = partitions.iter().map(|(at, place)| (*at, *place, progress.delivered.get(at).copied().unwrap_or_default()));
    let passed = passed_over::told(&definition.failing);
    let mut reader = Reader::new(work.services.log.clone(), work.services.schemas.clone(), starts)
        .shaped(shaping)
        .events(&events)
        .delivering(work.lease.ground)
        .knowing(&topics)
        .passing_over(passed.clone())
        .following(&work.services.handed);
    let together = (definition.placing.lanes > 1).then(Arc::<Together>::default);
    reader = reader.together(together.clone());
    if quarantines {
        reader = reader.aside(names.clone());
    }
    if definition.writes.whole_transactions {
        reader = reader.whole(Whole::of(work.services.fleet.clone(), &names).await?);
    }
    let (send, mut rounds) = mpsc::channel(1);
    let wanted = Arc::new(Semaphore::new(1));
    let reading = read_on(reader, work.services.clone(), wanted.clone(), together.clone(), send);
    let _reading = AbortOnDrop(tokio::spawn(reading));
    // truncates that other lanes have not come to yet
    let mut due: Vec<Due> = Vec::new();
    let mut look = Instant::now();
    // what was asked for before the lane began
    let mut again = aside.is_some().then(Instant::now);
    let mut lag = Lag::default();
    loop {
        if let (Some(together), false) = (&together, due.is_empty() || look > Instant::now()) {
            let carrying_out = carry_out(target.sink_mut(), (&*work.services.log, work.lease.ground), &all, &mut due);
            let done = match watched(work.board, &mut work.stopped, &*session, carrying_out).await? {
                Watched::Done(done) => done,
                Watched::Ended(ending) => return Ok(ending),
            };
            for Due { round, at, .. } in done {
                progress.delivered.extend(round.delivered.iter().copied());
                together.go_on(&at);
                work.board.note_moved();
                progress.show(&work);
            }
            look = Instant::now() + TOGETHER;
        }
        let round = tokio::select! {
            biased;
            ending = asked_to_end(&mut work.stopped) => return Ok(ending),
            Ok(()) = work.mending.changed(), if aside.is_some() => {
                again = Some(Instant::now());
                continue;
            }
            // a moment, not a span: rounds that come meanwhile do not put it off
            () = tokio::time::sleep_until(again.unwrap_or_else(Instant::now)), if again.is_some() => {
                if let Some(aside) = &mut aside {
                    again = aside.retry(&mut target, &progress.delivered).await?.map(|wait| Instant::now() + wait);
                }
                continue;
            }
            () = tokio::time::sleep_until(look), if !due.is_empty() => continue,
            round = tokio::time::timeout(COUNT_LAG, rounds.recv()) => round,
        };
        let Ok(round) = round else {
            // nothing for a while: there is no lag, but for what waits for other lanes
            if due.is_empty() {
                Lag::none(work.board);
            }
            continue;
        };
        let ReadRound { mut round, latest_us, changes, beside, truncate } =
            round.ok_or_else(|| ConnectorError::try_again("the reading ended", "it starts again by itself"))??;
        if changes >= AHEAD {
            wanted.add_permits(1);
        }
        passed_over::note(&work, passed.as_ref(), &topics).await?;
        if together.is_some() && !truncate.is_empty() {
            if let Some(aside) = &mut aside {
                aside.before_truncate(&mut round).await?;
            }
            let topic = truncate.first().map(|(at, _)| at.topic);
            let partitions = topics.iter().find(|t| Some(t.id) == topic).map_or(0, |t| t.partitions);
            due.push(Due { round, at: truncate, partitions, ends: HashMap::new(), looked: Instant::now() });
            look = Instant::now();
            wanted.add_permits(1);
            continue;
        }
        let delivering = async {
            match &mut aside {
                Some(aside) => aside.deliver(&mut target, &mut round, beside).await,
                None => target.apply(&round).await,
            }
        };
        if let Watched::Ended(ending) = watched(work.board, &mut work.stopped, &*session, delivering).await? {
            return Ok(ending);
        }
        work.board.note_moved();
        for (at, delivered) in &round.delivered {
            progress.delivered.insert(*at, *delivered);
        }
        if changes < AHEAD {
            wanted.add_permits(1);
        }
        let notes = target.sink().notes();
        work.board.write(|status| status.notes = notes);
        progress.show(&work);
        lag.note(work.board, &*work.services.log, &progress.delivered, latest_us).await?;
    }
}

/// The topics of these names. One that is not there yet is waited for: that is no failure, and the lane says what it waits for. None if
/// the lane is asked to end before all are there.
pub(crate) async fn topics_there(work: &mut Work<'_>, names: &[String]) -> Result<Option<Vec<Topic>>, Failure> {
    let mut topics = Vec::new();
    for name in names {
        let name = TopicName::parse(name.as_str()).map_err(|e| PortError::Refused(e.to_string()))?;
        loop {
            match work.services.log.topic(&name).await {
                Ok(topic) => {
                    topics.push(topic);
                    break;
                }
                Err(PortError::NotFound { .. }) => {}
                Err(error) => return Err(error.into()),
            }
            let reason = format!(
                "the topic {name} is not there yet: start the source that writes it; this connector goes on by itself"
            );
            work.board.enter(State::Starting, Some(reason), None);
            tokio::select! {
                () = tokio::time::sleep(LOOK) => {}
                _ = asked_to_end(&mut work.stopped) => return Ok(None),
            }
        }
    }
    Ok(Some(topics))
}

/// How long to wait before looking again whether all lanes have come to a truncate.
const TOGETHER: Duration = Duration::from_millis(50);

/// A truncate that a lane has come to, of a topic that other lanes read as well.
struct Due {
    round: Round,
    /// The lane's partitions, each with the truncate's offset.
    at: Vec<(TopicPartition, i64)>,
    /// How many the topic has.
    partitions: i32,
    /// The offsets after the last record of all its partitions, once that was looked for.
    ends: HashMap<i32, i64>,
    looked: Instant,
}

/// Says of truncates that this lane has come to them, and gives those that were carried out: by this lane or by another, once all had.
async fn carry_out(
    sink: &mut dyn Sink,
    (log, ground): (&dyn TopicLog, u64),
    lane: &[TopicPartition],
    due: &mut Vec<Due>,
) -> Result<Vec<Due>, Failure> {
    let mut done = Vec::new();
    for mut one in std::mem::take(due) {
        let Some(topic) = one.at.first().map(|(at, _)| at.topic) else { continue };
        if one.looked.elapsed() > LOOK_FOR_ENDS {
            one.ends = log.bounds(topic).await?.iter().map(|bounds| (bounds.partition.0, bounds.next.0)).collect();
            one.looked = Instant::now();
            if log.ground() != ground {
                // a log that was rolled back has other ends: whoever begins anew looks whether it is the one it knew
                return Err(
                    ConnectorError::try_again("the log's database is another one now", "it starts again by itself").into()
                );
            }
        }
        let own: Vec<i32> = lane.iter().filter(|at| at.topic == topic).map(|at| at.partition.0).collect();
        let comes = Comes { at: &one.at, own: &own, ends: &one.ends, partitions: one.partitions };
        if sink.truncate_together(&one.round, &comes).await? { done.push(one) } else { due.push(one) }
    }
    Ok(done)
}

/// Which of a sink's lanes delivers a partition, by its number among all of the sink's partitions.
fn lane_of(number: usize, lanes: u32) -> i32 {
    i32::try_from(number % usize::try_from(lanes.max(1)).unwrap_or(1)).unwrap_or(0)
}

struct AbortOnDrop<T>(tokio::task::JoinHandle<T>);

impl<T> Drop for AbortOnDrop<T> {
    fn drop(&mut self) {
        self.0.abort();
    }
}

/// Reads a round for every permit.
async fn read_on(
    mut reader: Reader,
    services: crate::Services,
    wanted: Arc<Semaphore>,
    together: Option<Arc<Together>>,
    send: mpsc::Sender<Result<ReadRound, Failure>>,
) {
    while let Ok(permit) = wanted.acquire().await {
        let next = match reader.next().await {
            Ok(Some(round)) => Ok(round),
            Ok(None) => {
                if reader.waits() {
                    tokio::time::sleep(WHOLE).await;
                    continue;
                }
                let carried_out = async {
                    match &together {
                        Some(together) => together.carried_out().await,
                        None => std::future::pending().await,
                    }
                };
                let ends = reader.ends();
                let came = tokio::select! {
                    came = services.log.wait_for(&ends, LOOK) => came,
                    () = carried_out => continue,
                };
                if let Err(error) = came {
                    let _ = send.send(Err(error.into())).await;
                    return;
                }
                continue;
            }
            Err(failure) => Err(failure),
        };
        permit.forget();
        let failed = next.is_err();
        if send.send(next).await.is_err() || failed {
            return;
        }
    }
}

struct Progress {
    delivered: BTreeMap<TopicPartition, Delivered>,
    place_of: BTreeMap<TopicPartition, usize>,
    /// The tables of what is read, by the first place of its topic; the places of its other types have none.
    ends: Vec<String>,
}

impl Progress {
    fn show(&self, work: &Work<'_>) {
        let Definition::Sink(definition) = work.assignment.connector.definition() else { return };
        let mut tables: BTreeMap<String, TableProgress> = BTreeMap::new();
        for (at, delivered) in &self.delivered {
            let Some(&place) = self.place_of.get(at) else { continue };
            let table = tables.entry(definition.topics[place].topic.clone()).or_default();
            table.other_end.clone_from(&self.ends[place]);
            table.counts = table.counts.with(delivered.counts);
        }
        work.board.write(|status| status.tables = tables);
    }
}
