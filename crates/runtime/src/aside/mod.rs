//! Records that a lane cannot handle: put into quarantine, overtaken by newer ones, and tried again when that is asked for.

mod book;
mod sink;
pub(crate) mod source;
mod topics;

use std::collections::{HashMap, HashSet};

pub(crate) use book::Book;
use book::{AT_A_TIME, BESIDE, Failed};
use bytes::Bytes;
use gonvel_core::change::{ChangeKind, KindCounts};
use gonvel_core::failure;
use gonvel_core::naming::{Offset, TopicPartition};
use gonvel_core::ports::systems::{self, Delivered, Refused, Round, TopicChanges};
use gonvel_core::ports::{AskedRecord, BadRecord, Settled, Step};
use gonvel_core::record::Record;
use gonvel_events::Came;

use crate::events::{EventSchemas, Events};
use crate::failing::Failure;
use crate::fetching::records_at;
use crate::reading::{Place, Reader, key_data};

/// What a lane knows of its records in quarantine.
pub(crate) struct Aside {
    book: Book,
    /// Topics by their places in the definition, with their names.
    topics: Vec<String>,
    /// The place of each partition's topic.
    place_of: HashMap<TopicPartition, usize>,
    keeps: Keeps,
    /// What waits, by its key.
    waiting: HashMap<(TopicPartition, Bytes), Vec<(i64, i64)>>,
    /// What was counted as delivered and was not.
    refused: HashMap<TopicPartition, KindCounts>,
    reader: Reader,
    /// How records of its topics become rows that are events.
    events: Events,
    schemas: EventSchemas,
}

/// What of a target makes a record void that waits.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Keeps {
    /// A newer record of its key: the target holds what is last said of a row.
    pub(crate) rows: bool,
    /// A truncate of its topic.
    pub(crate) emptied: bool,
    /// The record itself, once it is carried again. Not where one place may refuse what another takes of it.
    pub(crate) itself: bool,
}

/// What is held in memory of records that wait.
#[derive(Debug, Default)]
pub(super) struct Held {
    bytes: usize,
    records: usize,
}

impl Held {
    /// One more, with a key of this length.
    pub(super) fn note(&mut self, book: &Book, key: usize) -> Result<(), Failure> {
        self.records += 1;
        self.bytes += key + BESIDE;
        book.fits(self.bytes, self.records)
    }
}

impl Aside {
    /// Of a lane that begins at these positions: what waits at or after them is to be delivered yet, and comes out.
    pub(crate) async fn new(
        book: Book,
        keeps: Keeps,
        topics: Vec<String>,
        positions: &[(TopicPartition, usize, i64)],
        events: Events,
    ) -> Result<Self, Failure> {
        let from: Vec<(TopicPartition, Offset)> = positions.iter().map(|(at, _, next)| (*at, Offset(*next))).collect();
        let services = &book.services;
        services.quarantine.take_back(book.held, &from).await?;
        let reader = Reader::new(services.log.clone(), services.schemas.clone(), []).events(&events);
        let mut aside = Self {
            book,
            topics,
            place_of: positions.iter().map(|(at, place, _)| (*at, *place)).collect(),
            keeps,
            waiting: HashMap::new(),
            refused: HashMap::new(),
            reader,
            events,
            schemas: EventSchemas::default(),
        };
        aside.learn().await?;
        Ok(aside)
    }

    /// The same, with what is tried again read and shaped as all else is.
    pub(crate) fn read(mut self, as_by: impl FnOnce(Reader) -> Reader) -> Self {
        self.reader = as_by(self.reader);
        self
    }

    fn places(&self) -> Vec<TopicPartition> {
        self.place_of.keys().copied().collect()
    }

    async fn learn(&mut self) -> Result<(), Failure> {
        self.waiting.clear();
        if !self.keeps.rows {
            return Ok(());
        }
        let mut held = Held::default();
        let (of_events, places): (Vec<_>, Vec<_>) = self
            .places()
            .into_iter()
            .partition(|at| self.place_of.get(at).is_some_and(|place| self.events.contains_key(place)));
        if !of_events.is_empty() {
            self.learn_of_events(&of_events, &mut held).await?;
        }
        let Self { book, waiting, .. } = self;
        book.waiting_keys(&places, |waits| {
            if let Some(key) = waits.key {
                held.note(book, key.len())?;
                waiting.entry((waits.at, key_data(&key))).or_default().push((waits.id, waits.offset.0));
            }
            Ok(())
        })
        .await
    }

    /// Events that wait, by the keys of their rows. One whose key cannot be read is overtaken by none.
    async fn learn_of_events(&mut self, places: &[TopicPartition], held: &mut Held) -> Result<(), Failure> {
        let services = &self.book.services;
        let mut after = 0;
        loop {
            let some = services.quarantine.waiting_records(self.book.held.connector, places, after, AT_A_TIME).await?;
            let Some(last) = some.last() else { return Ok(()) };
            after = last.id;
            for waits in some {
                let Some(sorts) = self.place_of.get(&waits.at).and_then(|place| self.events.get(place)) else { continue };
                let schema = self.schemas.of(&*services.schemas, waits.record.schema).await?;
                let headers = waits.record.encoded_headers();
                let record = waits.record.as_ref_with(&headers);
                let came = Came { record, partition: waits.at.partition.0, offset: waits.offset.0 };
                if let Some(key) = sorts.key(&came, schema.as_deref()) {
                    held.note(&self.book, key.len())?;
                    self.waiting.entry((waits.at, key)).or_default().push((waits.id, waits.offset.0));
                }
            }
        }
    }

    /// Notes that a change was counted as delivered and is not.
    fn not_delivered(&mut self, delivered: &mut [(TopicPartition, Delivered)], at: TopicPartition, kind: ChangeKind) {
        let mut one = KindCounts::default();
        one.add(kind);
        let before = self.refused.entry(at).or_default();
        *before = before.with(one);
        if let Some((_, delivered)) = delivered.iter_mut().find(|(place, _)| *place == at) {
            delivered.counts = delivered.counts.without(one);
        }
    }

    /// Changes that cannot be written, each with its topic's place and what was found, with their records as they stand in their topics.
    async fn unwritten(&self, found: Vec<(usize, Place, String)>) -> Result<Vec<BadRecord>, Failure> {
        let places: Vec<Place> = found.iter().map(|(_, place, _)| *place).collect();
        let records = records_at(&*self.book.services.log, &places).await?;
        let bad = |((topic, (at, offset), finding), record): ((usize, Place, String), Record)| {
            let (step, topic) = (Step::Write, self.topics[topic].clone());
            let cause = failure::cause(step.word(), &finding);
            BadRecord { at, topic, offset: Offset(offset), record, step, finding, cause }
        };
        Ok(found.into_iter().zip(records).map(bad).collect())
    }

    /// What of a round's counts is not to be counted.
    pub(crate) fn correct(&self, delivered: &mut [(TopicPartition, Delivered)]) {
        for (at, delivered) in delivered {
            if let Some(refused) = self.refused.get(at) {
                delivered.counts = delivered.counts.without(*refused);
            }
        }
    }

    /// Records that wait whose key comes again, later in the topic, or whose table is emptied: with changes, or left out by the
    /// shape. What is refused of them overtakes nothing, and what brings only a part of its row needs what waits.
    fn overtaken(
        &self,
        topics: &[TopicChanges],
        left_out: &[(Place, Bytes)],
        refused: &[Refused],
    ) -> Vec<(i64, (TopicPartition, Bytes))> {
        if self.waiting.is_empty() {
            return Vec::new();
        }
        let mut out = Vec::new();
        for changes in topics.iter().filter(|t| self.keeps.emptied && t.is_truncate()) {
            // all of it was read before: a partition waits at a truncate until the others have come to it
            let of_topic = self
                .waiting
                .iter()
                .filter(|((at, _), _)| changes.from.first().is_some_and(|(from, _)| from.topic == at.topic));
            out.extend(of_topic.flat_map(|(place, waiting)| waiting.iter().map(|(id, _)| (*id, place.clone()))));
        }
        let mut comes = |(at, offset): Place, key: &Bytes| {
            let place = (at, key.clone());
            if let Some(waiting) = self.waiting.get(&place) {
                out.extend(
                    waiting
                        .iter()
                        .filter(|(_, waits)| *waits < offset || self.keeps.itself && *waits == offset)
                        .map(|(id, _)| (*id, place.clone())),
                );
            }
        };
        // all of a record was refused, whichever of its changes was
        let refused: HashSet<_> = refused.iter().map(|r| (r.part, topics[r.part].from[r.change])).collect();
        for (part, changes) in topics.iter().enumerate() {
            for (change, from) in changes.from.iter().enumerate() {
                if !changes.is_part(change) && !refused.contains(&(part, *from)) {
                    comes(*from, changes.record_key(change));
                }
            }
        }
        left_out.iter().for_each(|(from, key)| comes(*from, key));
        out
    }

    /// What waits of the rows of which changes bring parts: here, but for some that are tried with them, and among what came with them
    /// and is bad.
    fn held(&self, topics: &[TopicChanges], bad: &[BadRecord], but: &[i64]) -> systems::Held {
        let mut held = systems::Held::default();
        if !self.keeps.rows || self.waiting.is_empty() && bad.is_empty() {
            return held;
        }
        let mut bad_of: HashMap<(TopicPartition, Bytes), Vec<i64>> = HashMap::new();
        for record in bad {
            if let Some(key) = &record.record.key {
                bad_of.entry((record.at, key_data(key))).or_default().push(record.offset.0);
            }
        }
        let mut known = HashSet::new();
        for changes in topics {
            for part in (0..changes.changes.len()).filter(|change| changes.is_part(*change)) {
                let place = (changes.from[part].0, changes.record_key(part).clone());
                if !known.insert(place.clone()) {
                    continue;
                }
                let waits = self.waiting.get(&place).into_iter().flatten();
                let waits = waits.filter(|(id, _)| !but.contains(id)).map(|(_, offset)| offset);
                waits
                    .chain(bad_of.get(&place).into_iter().flatten())
                    .for_each(|offset| held.note(place.0, &place.1, *offset));
            }
        }
        held
    }

    /// Noted before what overtakes it is committed: never the other way round, or an old record could still be tried.
    async fn supersede(&self, overtaken: &[(i64, (TopicPartition, Bytes))]) -> Result<(), Failure> {
        if overtaken.is_empty() {
            return Ok(());
        }
        let ids: Vec<i64> = overtaken.iter().map(|(id, _)| *id).collect();
        Ok(self.book.services.quarantine.settle(self.book.held, &ids, &Settled::Superseded).await?)
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

    /// Puts records into quarantine.
    async fn put(&mut self, bad: &[BadRecord]) -> Result<(), Failure> {
        self.book.put(bad).await?;
        self.learn().await
    }

    /// Notes what became of records that were tried again.
    async fn settle(&mut self, delivered: &[i64], failed: &[Failed]) -> Result<(), Failure> {
        self.book.settle(delivered, failed).await?;
        self.learn().await
    }

    /// Reads records again, each as what it is now shaped to; those that still cannot be read or shaped come with what was found.
    async fn read_again(&mut self, asked: &[AskedRecord]) -> Result<(Vec<TopicChanges>, Vec<Failed>), Failure> {
        let placed: Vec<_> = asked.iter().filter_map(|a| Some((*self.place_of.get(&a.at)?, a.clone()))).collect();
        self.reader.read_again(&placed).await
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
