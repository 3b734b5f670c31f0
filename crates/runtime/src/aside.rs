//! Records that a sink cannot handle: put into quarantine, overtaken by newer ones, and tried again when that is asked for.

use std::collections::{BTreeMap, HashMap};
use std::time::Duration;

use bytes::Bytes;
use gonvel_connectors::error::ConnectorError;
use gonvel_connectors::postgres::sifting::Refused;
use gonvel_connectors::postgres::sink::{Delivered, PgSink, Round};
use gonvel_core::bad_records::BadRecords;
use gonvel_core::change::KindCounts;
use gonvel_core::connector::{Deletes, Failing, TargetRows, Writes};
use gonvel_core::failure;
use gonvel_core::naming::{ConnectorId, Offset, TopicPartition};
use gonvel_core::ports::{BadRecord, Level, Settled, Step};
use gonvel_core::record::Record;
use tokio::time::Instant;

use crate::fetching::records_at;
use crate::fleet::Services;
use crate::lane::Failure;
use crate::reading::{Reader, Ways, key_data};
use crate::shaping::Shared;
use crate::status::Board;

/// Records that are tried again at a time.
const AT_A_TIME: i64 = 500;
/// Records put into quarantine that are told one by one in the log; more of a round are counted.
const TOLD: usize = 5;

/// What a lane knows of its records in quarantine.
pub(crate) struct Aside {
    services: Services,
    board: Board,
    connector: ConnectorId,
    version: i32,
    failing: Failing,
    /// Topics by their places in the definition, with their names.
    topics: Vec<String>,
    /// The place of each partition's topic.
    place_of: HashMap<TopicPartition, usize>,
    /// Whether a newer record of a key makes an older one that waits void.
    overtakes: bool,
    /// Whether a truncate makes all that waits of its topic void.
    empties: bool,
    /// What waits, by its key.
    waiting: HashMap<(TopicPartition, Bytes), Vec<(i64, i64)>>,
    /// What was counted as delivered and was not.
    refused: HashMap<TopicPartition, KindCounts>,
    bad: BadRecords,
    began: Instant,
    reader: Reader,
}

impl Aside {
    /// Of a lane that begins at these positions: what waits at or after them is to be delivered yet, and comes out.
    pub(crate) async fn new(
        services: &Services,
        board: &Board,
        (connector, version): (ConnectorId, i32),
        failing: &Failing,
        writes: Writes,
        topics: Vec<String>,
        positions: &[(TopicPartition, usize, i64)],
    ) -> Result<Self, Failure> {
        let from: Vec<(TopicPartition, Offset)> = positions.iter().map(|(at, _, next)| (*at, Offset(*next))).collect();
        services.quarantine.take_back(connector, &from).await?;
        let mut aside = Self {
            services: services.clone(),
            board: board.clone(),
            connector,
            version,
            failing: failing.clone(),
            topics,
            place_of: positions.iter().map(|(at, place, _)| (*at, *place)).collect(),
            overtakes: matches!(writes.rows, TargetRows::Current | TargetRows::History),
            empties: writes.deletes != Deletes::Ignored,
            waiting: HashMap::new(),
            refused: HashMap::new(),
            bad: BadRecords::default(),
            began: Instant::now(),
            reader: Reader::new(services.log.clone(), services.schemas.clone(), []),
        };
        aside.learn().await?;
        Ok(aside)
    }

    /// The same, with what is tried again shaped as all else is.
    pub(crate) fn shaped(mut self, shaping: Option<Shared>, ways: Ways) -> Self {
        self.reader = self.reader.shaped(shaping, ways);
        self
    }

    fn places(&self) -> Vec<TopicPartition> {
        self.place_of.keys().copied().collect()
    }

    async fn learn(&mut self) -> Result<(), Failure> {
        self.waiting.clear();
        if !self.overtakes {
            return Ok(());
        }
        for waiting in self.services.quarantine.waiting_keys(self.connector, &self.places()).await? {
            if let Some(key) = waiting.key {
                self.waiting.entry((waiting.at, key_data(&key))).or_default().push((waiting.id, waiting.offset.0));
            }
        }
        Ok(())
    }

    /// What of a round's counts is not to be counted.
    pub(crate) fn correct(&self, delivered: &mut [(TopicPartition, Delivered)]) {
        for (at, delivered) in delivered {
            if let Some(refused) = self.refused.get(at) {
                delivered.counts = delivered.counts.without(*refused);
            }
        }
    }

    /// Delivers a round: what was put aside while it was read and what the target refuses goes into quarantine, all else into
    /// the target, with the position.
    pub(crate) async fn deliver(
        &mut self,
        sink: &mut PgSink,
        round: &mut Round,
        bad: Vec<BadRecord>,
    ) -> Result<(), Failure> {
        self.correct(&mut round.delivered);
        if bad.is_empty() {
            let overtaken = self.overtaken(round, &[]);
            match sink.write(round).await {
                Ok(()) => {
                    self.supersede(&overtaken).await?;
                    sink.commit().await?;
                    self.forget(&overtaken);
                    // nothing is bad: whatever row there was has ended
                    let good = round.topics.iter().map(|t| t.changes.len()).sum();
                    return self.count(std::iter::repeat_n(false, good), None);
                }
                Err(ConnectorError::BadRecord { .. }) => sink.roll_back().await?,
                Err(error) => return Err(error.into()),
            }
        }
        let refused = sink.sift(round).await?;
        let mut all = self.described(round, &refused).await?;
        all.extend(bad);
        all.sort_by_key(|record| (record.at, record.offset));
        self.count(in_order(round, &all).into_iter(), all.first())?;
        // first quarantine, then the position: what is in neither place would be lost
        let kept = Duration::from_secs(u64::from(self.failing.kept_days) * 86_400);
        self.services.quarantine.put(self.connector, self.version, &all, kept).await?;
        self.learn().await?;
        let overtaken = self.overtaken(round, &refused);
        self.supersede(&overtaken).await?;
        for refused in &refused {
            let changes = &round.topics[refused.part];
            let mut one = KindCounts::default();
            one.add(changes.kind(refused.change));
            let at = changes.from[refused.change].0;
            let before = self.refused.entry(at).or_default();
            *before = before.with(one);
            if let Some((_, delivered)) = round.delivered.iter_mut().find(|(place, _)| *place == at) {
                delivered.counts = delivered.counts.without(one);
            }
        }
        sink.finish(round).await?;
        self.forget(&overtaken);
        self.tell(&all);
        Ok(())
    }

    /// Before a truncate that other lanes have to come to as well: what waits of its topic is void. Said before this lane says
    /// that it has come, so that none of it can be tried after the table was emptied.
    pub(crate) async fn before_truncate(&mut self, round: &mut Round) -> Result<(), Failure> {
        self.correct(&mut round.delivered);
        let overtaken = self.overtaken(round, &[]);
        self.supersede(&overtaken).await?;
        self.forget(&overtaken);
        Ok(())
    }

    /// Refused changes with their records, as they stand in their topics.
    async fn described(&self, round: &Round, refused: &[Refused]) -> Result<Vec<BadRecord>, Failure> {
        let places: Vec<_> = refused.iter().map(|r| round.topics[r.part].from[r.change]).collect();
        let records = records_at(&*self.services.log, &places).await?;
        let bad = |((refused, (at, offset)), record): ((&Refused, (TopicPartition, i64)), Record)| {
            let (step, finding) = (Step::Write, refused.finding.clone());
            let cause = failure::cause(step.word(), &finding);
            let topic = self.topics[round.topics[refused.part].topic].clone();
            BadRecord { at, topic, offset: Offset(offset), record, step, finding, cause }
        };
        Ok(refused.iter().zip(places).zip(records).map(bad).collect())
    }

    /// Halts the lane when too much is bad: a disk full of quarantine helps nobody.
    fn count(&mut self, records: impl Iterator<Item = bool>, first: Option<&BadRecord>) -> Result<(), Failure> {
        let counted = self.bad.count(records, self.began.elapsed(), &self.failing);
        let Err(too_many) = counted else { return Ok(()) };
        let example = first.map(|r| format!("; the first of them: {}", r.finding)).unwrap_or_default();
        Err(ConnectorError::settings(
            Some("failing"),
            format!("{too_many}{example}"),
            "mend what they have in common, then start the connector; it goes on where it stands",
        )
        .into())
    }

    /// Records that wait whose key a round brings again, later in the topic, or whose table it empties.
    fn overtaken(&self, round: &Round, refused: &[Refused]) -> Vec<(i64, (TopicPartition, Bytes))> {
        if self.waiting.is_empty() {
            return Vec::new();
        }
        let mut out = Vec::new();
        for changes in round.topics.iter().filter(|t| self.empties && t.is_truncate()) {
            // all of it was read before: a partition waits at a truncate until the others have come to it
            let of_topic = self
                .waiting
                .iter()
                .filter(|((at, _), _)| changes.from.first().is_some_and(|(from, _)| from.topic == at.topic));
            out.extend(of_topic.flat_map(|(place, waiting)| waiting.iter().map(|(id, _)| (*id, place.clone()))));
        }
        for (part, changes) in round.topics.iter().enumerate() {
            for (change, (at, offset)) in changes.from.iter().enumerate() {
                let place = (*at, changes.record_key(change).clone());
                let Some(waiting) = self.waiting.get(&place) else { continue };
                if refused.iter().any(|r| (r.part, r.change) == (part, change)) {
                    continue;
                }
                out.extend(waiting.iter().filter(|(_, waits)| waits < offset).map(|(id, _)| (*id, place.clone())));
            }
        }
        out
    }

    /// Noted before what overtakes it is committed: never the other way round, or an old record could still be tried.
    async fn supersede(&self, overtaken: &[(i64, (TopicPartition, Bytes))]) -> Result<(), Failure> {
        if overtaken.is_empty() {
            return Ok(());
        }
        let ids: Vec<i64> = overtaken.iter().map(|(id, _)| *id).collect();
        Ok(self.services.quarantine.settle(&ids, &Settled::Superseded).await?)
    }

    fn forget(&mut self, settled: &[(i64, (TopicPartition, Bytes))]) {
        for (id, place) in settled {
            if let Some(waiting) = self.waiting.get_mut(place) {
                waiting.retain(|(known, _)| known != id);
                if waiting.is_empty() {
                    self.waiting.remove(place);
                }
            }
        }
    }

    fn tell(&self, bad: &[BadRecord]) {
        for record in bad.iter().take(TOLD) {
            let facts = [
                ("topic", record.topic.as_str().into()),
                ("partition", record.at.partition.0.into()),
                ("offset", record.offset.0.into()),
            ];
            self.board.say(Level::Warning, &format!("a record went into quarantine: {}", record.finding), facts);
        }
        if bad.len() > TOLD {
            let says = format!("{} more records went into quarantine", bad.len() - TOLD);
            self.board.say(Level::Warning, &says, []);
        }
    }

    /// Tries records again that are asked for; gives how long to wait before the next ones, if there may be more.
    pub(crate) async fn retry(
        &mut self,
        sink: &mut PgSink,
        delivered: &BTreeMap<TopicPartition, Delivered>,
    ) -> Result<Option<Duration>, Failure> {
        let quarantine = self.services.quarantine.clone();
        let mut asked = quarantine.asked_for(self.connector, &self.places(), AT_A_TIME).await?;
        let pace = asked.iter().filter_map(|a| a.pace).min();
        let most = pace.map_or(asked.len(), |pace| usize::try_from(pace.max(1)).unwrap_or(usize::MAX));
        let more = asked.len() > most || i64::try_from(asked.len()).unwrap_or(i64::MAX) >= AT_A_TIME;
        asked.truncate(most);
        if asked.is_empty() {
            return Ok(None);
        }
        // what was delivered before a crash is not delivered twice
        let ids: Vec<i64> = asked.iter().map(|a| a.id).collect();
        let before = sink.retried(&ids).await?;
        asked.retain(|a| !before.contains(&a.id));
        let placed: Vec<_> = asked.iter().filter_map(|a| Some((*self.place_of.get(&a.at)?, a.clone()))).collect();
        let (topics, unread) = self.reader.read_again(&placed).await?;
        let mut failed: Vec<(i64, Step, String)> = unread;
        let mut touched: Vec<TopicPartition> = asked.iter().map(|a| a.at).collect();
        touched.sort_unstable();
        touched.dedup();
        // the positions are written as they are: only the holder of the lease can do so
        let positions = touched.iter().filter_map(|at| Some((*at, *delivered.get(at)?)));
        let round = Round { topics, delivered: positions.collect(), more: false };
        let refused = sink.sift(&round).await?;
        for refused in refused {
            let place = round.topics[refused.part].from[refused.change];
            if let Some(asked) = asked.iter().find(|a| (a.at, a.offset.0) == place) {
                failed.push((asked.id, Step::Write, refused.finding));
            }
        }
        let done: Vec<i64> = asked.iter().map(|a| a.id).filter(|id| !failed.iter().any(|(f, ..)| f == id)).collect();
        sink.note_retried(&done).await?;
        sink.finish(&round).await?;
        let settled: Vec<i64> = done.iter().chain(&before).copied().collect();
        quarantine.settle(&settled, &Settled::Delivered).await?;
        sink.forget_retried(&settled).await?;
        for (id, step, finding) in &failed {
            let cause = failure::cause(step.word(), finding);
            quarantine.settle(&[*id], &Settled::Failed { step: *step, finding: finding.clone(), cause }).await?;
        }
        self.learn().await?;
        let facts = [("delivered", settled.len().into()), ("failed again", failed.len().into())];
        let level = if failed.is_empty() { Level::Info } else { Level::Warning };
        self.board.say(level, "records of the quarantine were tried again", facts);
        Ok(more.then(|| if pace.is_some() { Duration::from_secs(1) } else { Duration::ZERO }))
    }
}

/// For every record of a round, in order by partition and offset, whether it is bad.
fn in_order(round: &Round, bad: &[BadRecord]) -> Vec<bool> {
    let mut places: Vec<(TopicPartition, i64)> = round.topics.iter().flat_map(|t| t.from.iter().copied()).collect();
    places.extend(bad.iter().map(|b| (b.at, b.offset.0)));
    places.sort_unstable();
    places.dedup();
    let is_bad = |place: &(TopicPartition, i64)| bad.binary_search_by_key(place, |b| (b.at, b.offset.0)).is_ok();
    places.iter().map(is_bad).collect()
}
