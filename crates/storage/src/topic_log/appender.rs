//! Appending: requests that wait at the same time go into one transaction (group commit).

use std::collections::{BTreeMap, HashMap};
use std::panic::AssertUnwindSafe;
use std::sync::Arc;
use std::time::Duration;

use diesel::prelude::*;
use diesel::result::Error;
use diesel::sql_types::{Array, Binary, Int4, Int8};
use diesel_async::pooled_connection::PoolableConnection;
use diesel_async::{AsyncConnection, AsyncPgConnection, RunQueryDsl, SimpleAsyncConnection};
use futures::FutureExt;
use gonvel_core::block::{EncodedBlock, UNPACKED_LIMIT};
use gonvel_core::naming::{Offset, PartitionId, TopicId, TopicPartition};
use gonvel_core::ports::{AppendBatch, Landed, OTHER_GROUND, PortError};
use tokio::sync::{mpsc, oneshot};

use super::ends::Ends;
use super::identity::{self, Known};
use super::landing::{Answer, End};
use super::plain;
use crate::codes::{Helps, gave_way, helps};
use crate::failing::failed;
use crate::ground::Ground;
use crate::reaching::{Address, reach};
use crate::schema::lanes;

/// Requests that go into one transaction at most.
const GROUP: usize = 64;
/// Bytes of blocks after which no more go into one: what is larger goes alone.
const GROUP_BYTES: usize = 16 << 20;
/// Plans are made once, not for every append: each statement has one good plan, by the keys.
const PLANS: &str = "SET plan_cache_mode = force_generic_plan; SET enable_hashjoin = off; SET enable_mergejoin = off; \
                     SET enable_seqscan = off";
/// Longest wait for producers that were just answered.
const PATIENCE: Duration = Duration::from_millis(1);
/// How often a group gives way to another transaction.
const MOST_WAYS_GIVEN: u32 = 3;
/// After so many waits in vain, one in 64 commits waits.
const MOST_IN_VAIN: u32 = 6;

struct Request {
    batch: AppendBatch,
    answer: oneshot::Sender<Answer>,
}

impl Request {
    fn bytes(&self) -> usize {
        self.batch.parts.iter().flat_map(|part| &part.blocks).map(|block| block.body.len()).sum()
    }
}

/// Requests that go into one transaction.
#[derive(Default)]
struct Group {
    requests: Vec<Request>,
    bytes: usize,
}

impl Group {
    /// Takes a request, or gives it back where it would be too much.
    fn take(&mut self, request: Request) -> Option<Request> {
        let bytes = self.bytes.saturating_add(request.bytes());
        if !self.requests.is_empty() && bytes > GROUP_BYTES {
            return Some(request);
        }
        self.bytes = bytes;
        self.requests.push(request);
        None
    }
}

/// Requests that wait, of which one may have been too much for the last group.
struct Line {
    waiting: mpsc::Receiver<Request>,
    kept: Option<Request>,
}

impl Line {
    fn len(&self) -> usize {
        self.waiting.len() + usize::from(self.kept.is_some())
    }

    /// Waits for a request and takes those that wait as well; none if there will be no more.
    async fn next(&mut self) -> Option<Group> {
        let mut group = Group::default();
        let first = match self.kept.take() {
            Some(kept) => kept,
            None => self.waiting.recv().await?,
        };
        self.kept = group.take(first);
        while group.requests.len() < GROUP && self.kept.is_none() {
            let Ok(request) = self.waiting.try_recv() else { break };
            self.kept = group.take(request);
        }
        Some(group)
    }

    /// Waits for more until there are as many as were expected, or it is enough.
    ///
    /// Cancel safety: dropped, nothing that came is lost.
    async fn fill(&mut self, group: &mut Group, expected: usize) {
        while group.requests.len() < expected && self.kept.is_none() {
            let Some(request) = self.waiting.recv().await else { return };
            self.kept = group.take(request);
        }
    }
}

/// Hands batches to the one task that commits them.
#[derive(Clone)]
pub(crate) struct Appender {
    requests: mpsc::Sender<Request>,
}

impl Appender {
    /// Appends over a connection of its own, which is made anew when it breaks.
    pub(crate) fn start(address: Arc<Address>, ends: Arc<Ends>, ground: Ground) -> Self {
        let (requests, waiting) = mpsc::channel::<Request>(GROUP);
        tokio::spawn(async move {
            let mut line = Line { waiting, kept: None };
            let mut connection = None;
            let mut gathering = Gathering::default();
            while let Some(mut group) = line.next().await {
                gathering.gather(&mut line, &mut group).await;
                let answered = group.requests.len();
                let to = (&*address, &ground);
                let committing = commit(to, &mut connection, &ends, group.requests, &line);
                match AssertUnwindSafe(committing).catch_unwind().await {
                    Ok(waits) => gathering.expected = answered + waits,
                    Err(_) => {
                        // who waited was told that it is gone, and tries again; the next group begins on a fresh connection
                        tracing::error!("the appender panicked; it goes on with the next appends");
                        gonvel_tending::note("appender");
                        connection = None;
                    }
                }
            }
        });
        Self { requests }
    }

    /// Cancel safety: once handed over, the batch is committed or refused whole whether or not anyone awaits the answer.
    pub(crate) async fn append(&self, batch: AppendBatch) -> Answer {
        if batch.progress.is_some() && batch.identity.is_some() {
            return Err(PortError::Refused(
                "a lane's progress makes its batch known already: give it no other identity".into(),
            ));
        }
        let largest = batch.parts.iter().flat_map(|part| &part.blocks).map(|block| block.unpacked).max().unwrap_or(0);
        if largest > UNPACKED_LIMIT {
            return Err(PortError::Refused(format!(
                "a record takes {largest} bytes with its headers, and {UNPACKED_LIMIT} can be read again: keep large values elsewhere and append where they are"
            )));
        }
        let (answer, answered) = oneshot::channel();
        let gone = || PortError::TryAgain { during: "appending", cause: "the appender has stopped".into() };
        self.requests.send(Request { batch, answer }).await.map_err(|_| gone())?;
        answered.await.map_err(|_| gone())?
    }
}

/// Producers that wait for their answers come again a moment after they have them: those who were just answered are waited for
/// shortly, or they would go into every second commit only. Where that was in vain, it is not done for a while.
#[derive(Default)]
struct Gathering {
    /// Who was answered last, and who came meanwhile.
    expected: usize,
    in_vain: u32,
    rests: u32,
}

impl Gathering {
    async fn gather(&mut self, line: &mut Line, group: &mut Group) {
        let expected = self.expected.min(GROUP);
        if self.rests > 0 {
            self.rests -= 1;
        } else if group.requests.len() < expected {
            let came = tokio::time::timeout(PATIENCE, line.fill(group, expected)).await.is_ok();
            self.in_vain = if came { 0 } else { (self.in_vain + 1).min(MOST_IN_VAIN) };
            self.rests = if came { 0 } else { 1 << self.in_vain };
        }
    }
}

/// A connection with the ground that it reaches.
type Reaching = (AsyncPgConnection, u64);

async fn connected<'c>(
    (address, ground): (&Address, &Ground),
    connection: &'c mut Option<Reaching>,
) -> Result<&'c mut Reaching, String> {
    // also one that reaches a server which is not the present one any more
    if connection.as_mut().is_none_or(|(connection, reached)| connection.is_broken() || *reached != ground.now()) {
        let mut made = reach(address).await.map_err(|e| e.to_string())?;
        made.batch_execute(PLANS).await.map_err(|e| e.to_string())?;
        let reached = ground.reached(&mut made).await.map_err(|e| e.to_string())?;
        *connection = Some((made, reached));
    }
    connection.as_mut().ok_or_else(|| "no connection".to_owned())
}

/// Commits a group and answers it; gives how many more wait, from just before the answers.
async fn commit(
    to: (&Address, &Ground),
    connection: &mut Option<Reaching>,
    ends: &Ends,
    group: Vec<Request>,
    line: &Line,
) -> usize {
    let (batches, answers): (Vec<_>, Vec<_>) = group.into_iter().map(|r| (r.batch, r.answer)).unzip();
    let outcome = match connected(to, connection).await {
        Ok((connection, ground)) => match tried_again(connection, &batches, *ground).await {
            // one of them cannot go in whoever it comes with: the others do without it
            Err(error) if helps(&error) != Helps::TryingAgain && !connection.is_broken() => {
                let mut outcomes = Vec::with_capacity(batches.len());
                for batch in &batches {
                    let alone = written(connection, std::slice::from_ref(batch), *ground).await;
                    outcomes.push(alone.map_err(failed("appending")).and_then(|mut one| one.remove(0)));
                }
                Ok((outcomes, *ground))
            }
            outcomes => outcomes.map(|outcomes| (outcomes, *ground)).map_err(|e| e.to_string()),
        },
        Err(error) => Err(error),
    };
    let waits = line.len();
    match outcome {
        Ok((outcomes, ground)) => {
            let committed = batches.iter().zip(&outcomes);
            ends.announce(ground, committed.filter_map(|(batch, outcome)| Some((batch, outcome.as_deref().ok()?))));
            for (answer, outcome) in answers.into_iter().zip(outcomes) {
                let _ = answer.send(outcome);
            }
        }
        Err(error) => {
            // whatever state it is in, the next group begins on a fresh one
            *connection = None;
            for answer in answers {
                let _ = answer.send(Err(PortError::TryAgain { during: "appending", cause: error.clone().into() }));
            }
        }
    }
    waits
}

/// Writes batches, once more where the database let another transaction go first: that is no one's fault of the group.
async fn tried_again(
    connection: &mut AsyncPgConnection,
    batches: &[AppendBatch],
    ground: u64,
) -> Result<Vec<Answer>, Error> {
    let mut tries = 0;
    loop {
        match written(connection, batches, ground).await {
            Err(error) if tries < MOST_WAYS_GIVEN && gave_way(&error) => tries += 1,
            done => return done,
        }
    }
}

/// What a lane brings that began on another ground is refused: the log may not have what came before it.
async fn written(connection: &mut AsyncPgConnection, batches: &[AppendBatch], ground: u64) -> Result<Vec<Answer>, Error> {
    let is_from_before = |b: &AppendBatch| b.progress.as_ref().is_some_and(|lane| lane.ground != ground);
    if batches.iter().any(is_from_before) {
        let from_before = || Err(PortError::TryAgain { during: "appending for a lane", cause: OTHER_GROUND.into() });
        let others: Vec<AppendBatch> = batches.iter().filter(|b| !is_from_before(b)).cloned().collect();
        let mut outcomes = Vec::new();
        if !others.is_empty() {
            outcomes = Box::pin(written(connection, &others, ground)).await?;
        }
        let mut outcomes = outcomes.into_iter();
        let answers = batches.iter().map(|b| if is_from_before(b) { Some(from_before()) } else { outcomes.next() });
        return Ok(answers.flatten().collect());
    }
    let is_plain = |b: &AppendBatch| b.identity.is_none() && (b.progress.is_some() || !b.parts.is_empty());
    if batches.iter().all(is_plain) {
        match plain::write(connection, batches).await {
            // which batches it concerns, and what of the group may go in, is found out one by one
            Err(error) if plain::is_of_a_part(&error) => {}
            done => return done,
        }
    }
    connection.transaction::<Vec<Answer>, Error, _>(async |c| write(c, batches).await).await
}

#[derive(QueryableByName)]
struct Locked {
    #[diesel(sql_type = Int8)]
    topic_id: i64,
    #[diesel(sql_type = Int4)]
    partition: i32,
    #[diesel(sql_type = Int8)]
    next_offset: i64,
    #[diesel(sql_type = Int8)]
    reach_us: i64,
}

/// Rows to insert, column by column.
#[derive(Default)]
struct Rows<'a> {
    topic: Vec<i64>,
    partition: Vec<i32>,
    first: Vec<i64>,
    records: Vec<i32>,
    earliest: Vec<i64>,
    latest: Vec<i64>,
    unpacked: Vec<i32>,
    reach: Vec<i64>,
    body: Vec<&'a [u8]>,
}

impl<'a> Rows<'a> {
    fn push(&mut self, to: TopicPartition, end: &mut End, block: &'a EncodedBlock) {
        self.first.push(end.next);
        end.take(block);
        self.topic.push(to.topic.0);
        self.partition.push(to.partition.0);
        self.records.push(i32::try_from(block.records).unwrap_or(i32::MAX));
        self.earliest.push(block.earliest_us);
        self.latest.push(block.latest_us);
        self.unpacked.push(i32::try_from(block.unpacked).unwrap_or(i32::MAX));
        self.reach.push(end.reach_us);
        self.body.push(&block.body);
    }
}

/// Locks are taken in one order, so that two processes never wait for each other: partitions, sessions, keys, lanes, each in
/// the order of their keys. The partition rows stay locked to the commit: this is what makes offsets dense and visible in
/// order.
async fn write(connection: &mut AsyncPgConnection, batches: &[AppendBatch]) -> Result<Vec<Answer>, Error> {
    let mut ends = lock(connection, batches).await?;
    let mut answers: Vec<Option<Answer>> = batches
        .iter()
        .map(|batch| {
            let missing = batch.parts.iter().find(|p| !ends.contains_key(&p.to))?;
            let what = format!("partition {} of topic {}", missing.to.partition.0, missing.to.topic.0);
            Some(Err(PortError::NotFound { what }))
        })
        .collect();
    let known = Known::look_up(connection, batches, &mut answers).await?;
    progress(connection, batches, &mut answers).await?;

    let mut rows = Rows::default();
    for (number, batch) in batches.iter().enumerate() {
        if answers[number].is_some() {
            continue;
        }
        if let Some(answer) = known.first_of(batch, number, &answers) {
            answers[number] = Some(answer);
            continue;
        }
        let mut landed = Vec::with_capacity(batch.parts.len());
        for part in &batch.parts {
            let Some(end) = ends.get_mut(&part.to) else { continue };
            let first = end.next;
            part.blocks.iter().for_each(|block| rows.push(part.to, end, block));
            landed.push(Landed { to: part.to, first: Offset(first), records: end.next - first });
        }
        answers[number] = Some(Ok(landed));
    }
    insert(connection, &rows, &ends).await?;
    let answers: Vec<Answer> = answers.into_iter().flatten().collect();
    identity::store(connection, batches, &answers, &known).await?;
    Ok(answers)
}

async fn lock(connection: &mut AsyncPgConnection, batches: &[AppendBatch]) -> Result<BTreeMap<TopicPartition, End>, Error> {
    let wanted: BTreeMap<TopicPartition, ()> = batches.iter().flat_map(|b| b.parts.iter().map(|p| (p.to, ()))).collect();
    if wanted.is_empty() {
        return Ok(BTreeMap::new());
    }
    let rows: Vec<Locked> = diesel::sql_query(
        "SELECT p.topic_id, p.partition, p.next_offset, p.reach_us FROM topic_partitions p \
         JOIN unnest($1, $2) AS a(topic_id, partition) USING (topic_id, partition) ORDER BY 1, 2 FOR UPDATE OF p",
    )
    .bind::<Array<Int8>, _>(wanted.keys().map(|k| k.topic.0).collect::<Vec<_>>())
    .bind::<Array<Int4>, _>(wanted.keys().map(|k| k.partition.0).collect::<Vec<_>>())
    .load(connection)
    .await?;
    let end = |r: Locked| {
        let at = TopicPartition { topic: TopicId(r.topic_id), partition: PartitionId(r.partition) };
        (at, End { next: r.next_offset, reach_us: r.reach_us, bytes: 0, small: 0 })
    };
    Ok(rows.into_iter().map(end).collect())
}

async fn insert(
    connection: &mut AsyncPgConnection,
    rows: &Rows<'_>,
    ends: &BTreeMap<TopicPartition, End>,
) -> Result<(), Error> {
    if rows.first.is_empty() {
        return Ok(());
    }
    let grown: Vec<(&TopicPartition, &End)> = ends.iter().filter(|(_, e)| e.bytes > 0).collect();
    // one statement for both tables: a round trip less for an append of one record
    diesel::sql_query(
        "WITH stored AS ( \
           INSERT INTO blocks (topic_id, partition, first_offset, records, span, earliest_us, latest_us, unpacked, reach_us, body) \
           SELECT t, p, f, r, r, e, l, u, x, b FROM unnest($1, $2, $3, $4, $5, $6, $7, $8, $9) AS a(t, p, f, r, e, l, u, x, b)) \
         UPDATE topic_partitions p SET next_offset = a.next_offset, bytes = p.bytes + a.bytes, reach_us = a.reach_us, \
           small_blocks = p.small_blocks + a.small \
         FROM unnest($10, $11, $12, $13, $14, $15) AS a(topic_id, partition, next_offset, bytes, reach_us, small) \
         WHERE p.topic_id = a.topic_id AND p.partition = a.partition",
    )
    .bind::<Array<Int8>, _>(&rows.topic)
    .bind::<Array<Int4>, _>(&rows.partition)
    .bind::<Array<Int8>, _>(&rows.first)
    .bind::<Array<Int4>, _>(&rows.records)
    .bind::<Array<Int8>, _>(&rows.earliest)
    .bind::<Array<Int8>, _>(&rows.latest)
    .bind::<Array<Int4>, _>(&rows.unpacked)
    .bind::<Array<Int8>, _>(&rows.reach)
    .bind::<Array<Binary>, _>(&rows.body)
    .bind::<Array<Int8>, _>(grown.iter().map(|(k, _)| k.topic.0).collect::<Vec<_>>())
    .bind::<Array<Int4>, _>(grown.iter().map(|(k, _)| k.partition.0).collect::<Vec<_>>())
    .bind::<Array<Int8>, _>(grown.iter().map(|(_, e)| e.next).collect::<Vec<_>>())
    .bind::<Array<Int8>, _>(grown.iter().map(|(_, e)| e.bytes).collect::<Vec<_>>())
    .bind::<Array<Int8>, _>(grown.iter().map(|(_, e)| e.reach_us).collect::<Vec<_>>())
    .bind::<Array<Int4>, _>(grown.iter().map(|(_, e)| e.small).collect::<Vec<_>>())
    .execute(connection)
    .await?;
    Ok(())
}

/// Writes each batch's lane progress, where its epoch is still the lane's; refuses the others as fenced.
async fn progress(
    connection: &mut AsyncPgConnection,
    batches: &[AppendBatch],
    answers: &mut [Option<Answer>],
) -> Result<(), Error> {
    let mut order: Vec<usize> =
        (0..batches.len()).filter(|&n| answers[n].is_none() && batches[n].progress.is_some()).collect();
    order.sort_by_key(|&n| batches[n].progress.as_ref().map(|p| (p.connector, p.lane)));
    let mut fenced: HashMap<usize, PortError> = HashMap::new();
    for number in order {
        let Some(lane) = &batches[number].progress else { continue };
        // epochs only grow, so a holder that is refused here is refused for the rest of the group as well
        let written = diesel::update(lanes::table.find((lane.connector.0, lane.lane)).filter(lanes::epoch.eq(lane.epoch.0)))
            .set(lanes::position.eq(&lane.position))
            .execute(connection)
            .await?;
        if written == 0 {
            fenced.insert(number, PortError::Fenced { connector: lane.connector, lane: lane.lane });
        }
    }
    for (number, error) in fenced {
        answers[number] = Some(Err(error));
    }
    Ok(())
}
