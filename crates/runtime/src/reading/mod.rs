//! From blocks to rounds of changes: what a sink applies in one transaction.

mod going_on;
mod handed;
pub(crate) mod missed;
mod shaped;
pub(crate) mod together;
mod transactions;
pub(crate) mod truncates;

use std::collections::HashMap;
use std::sync::Arc;

use bytes::Bytes;
use gonvel_core::avro::single_object;
use gonvel_core::block::RecordRef;
use gonvel_core::change::{ChangeBatch, ChangeBatchBuilder, ChangeKind};
use gonvel_core::failure;
use gonvel_core::fold;
use gonvel_core::naming::{Offset, SchemaId, TopicPartition};
use gonvel_core::ports::systems::{ConnectorError, Delivered, Round, RowBefore, TopicChanges};
use gonvel_core::ports::{BadRecord, PortError, SchemaStore, Step, StoredBlock, Topic, TopicLog, Watch};
use gonvel_core::record_form::ReadForm;
use gonvel_core::schemas::Language;
use gonvel_core::table::TableSchema;
use gonvel_core::trail::Seen;
use gonvel_core::truncate::Mark;
use gonvel_events::{Came, EventSchema};
use tokio::time::Instant;

use self::missed::PassedOver;
use self::together::Together;
use crate::events::{EventSchemas, Events, Sort};
use crate::failing::{Failure, NewFields};
use crate::fetching::records_at;
use crate::fits::Fits;
use crate::handed_on::{Following, HandedOn};
use crate::shaping::Shared;
use crate::whole::Whole;

/// Bytes (before compression) read of a partition for one round.
const PARTITION_BYTES: i64 = 1 << 20;
/// Changes in a round.
const MOST_CHANGES: usize = 20_000;
/// Events are gathered together whatever schemas they have: their columns are the connector's.
const EVENTS: SchemaId = SchemaId(-1);
/// Records in a round that cannot be read.
const MOST_BAD: usize = 500;

/// One partition being read.
#[derive(Clone, Copy)]
struct Cursor {
    at: TopicPartition,
    topic: usize,
    delivered: Delivered,
    /// The next record empties the table: it waits until all the topic's partitions have come to that.
    at_truncate: Option<Mark>,
    /// The first offset that is not to be read yet.
    limit: i64,
    /// The offset after the last that was looked at.
    seen: i64,
}

/// Reads a sink's topics in rounds.
pub(crate) struct Reader {
    log: Arc<dyn TopicLog>,
    schemas: Arc<dyn SchemaStore>,
    cursors: Vec<Cursor>,
    forms: HashMap<SchemaId, Arc<ReadForm>>,
    /// Which partition is read first in the next round, so that none is left behind.
    turn: usize,
    /// What other processes append is learnt as long as this is held.
    _watch: Watch,
    /// Where a source's transactions are to be delivered whole.
    whole: Option<Whole>,
    /// The topics' names, where records that cannot be read are put aside; none where they end the reading.
    aside: Option<Vec<String>>,
    /// What happens to rows on their way.
    shaping: Option<Shared>,
    /// What lanes of this process hand on.
    following: Option<Following>,
    /// Whether rows of which only a part came are refused: what is written to cannot say whether they are there.
    whole_rows: bool,
    /// How records of topics become rows that are events and no changes.
    events: Events,
    event_schemas: EventSchemas,
    /// The keys of the rows of the record that is being read.
    row_keys: Vec<Bytes>,
    /// Where rows are to fit schemas.
    fits: Option<Fits>,
    /// The log's ground that the positions were found on.
    ground: u64,
    /// Whether what it reads is delivered, so that nothing may be passed over.
    delivers: bool,
    /// Where it is told what was passed over; none where that ends it.
    passes_over: Option<PassedOver>,
    /// Partitions whose truncate is carried out together with other lanes.
    together: Option<Arc<Together>>,
    /// The topics as they were when the lane began.
    known: Vec<Topic>,
    looked_for_ends: Instant,
}

/// A round with what is worth knowing of it.
pub(crate) struct ReadRound {
    pub(crate) round: Round,
    /// Latest commit time in it.
    pub(crate) latest_us: Option<i64>,
    /// Changes in it.
    pub(crate) changes: usize,
    /// What came besides its changes.
    pub(crate) beside: Beside,
    /// The partitions that stand at a truncate, each at its offset, where this round is one.
    pub(crate) truncate: Vec<(TopicPartition, i64)>,
}

/// Where a record stands.
pub(crate) type Place = (TopicPartition, i64);

/// What came of records besides changes that go on.
#[derive(Default)]
pub(crate) struct Beside {
    /// Records that cannot be read or shaped, in order.
    pub(crate) bad: Vec<BadRecord>,
    /// Records that the shape leaves out, with their keys.
    pub(crate) left_out: Vec<(Place, Bytes)>,
}

/// Changes of one topic and shape that are being gathered: in batches that are there, and in one that is being built.
struct Open {
    topic: usize,
    schema: SchemaId,
    batches: Vec<ChangeBatch>,
    /// The batches that were handed on, with their numbers among all.
    handed: Vec<(Arc<ChangeBatch>, usize)>,
    builder: ChangeBatchBuilder,
    /// How many changes the builder has as a whole.
    built: usize,
    changes: Vec<(fold::Place, Bytes)>,
    from: Vec<(TopicPartition, i64)>,
}

impl Open {
    fn new(topic: usize, schema: SchemaId, table: Arc<TableSchema>) -> Self {
        let builder = ChangeBatchBuilder::new(table);
        let (batches, handed, changes, from) = (Vec::new(), Vec::new(), Vec::new(), Vec::new());
        Self { topic, schema, batches, handed, builder, built: 0, changes, from }
    }

    /// Notes the change that the builder got last.
    fn built(&mut self, key: Bytes, from: Place) {
        self.changes.push(((self.batches.len(), self.built), key));
        self.from.push(from);
        self.built += 1;
    }

    /// Ends the batch that is being built.
    fn end_batch(&mut self) {
        if self.built > 0 {
            self.batches.push(self.builder.finish());
            self.built = 0;
        }
    }
}

struct Gathering {
    topics: Vec<TopicChanges>,
    open: Option<Open>,
    /// Of the other types of records that the topic of the open one holds.
    beside_it: Vec<Open>,
    changes: usize,
    /// Changes of one partition, where they are handed on.
    share: usize,
    latest_us: Option<i64>,
    beside: Beside,
}

impl Gathering {
    fn new() -> Self {
        Self {
            topics: Vec::new(),
            open: None,
            beside_it: Vec::new(),
            changes: 0,
            share: MOST_CHANGES,
            latest_us: None,
            beside: Beside::default(),
        }
    }

    /// What is being gathered of a topic under a schema.
    fn open(&mut self, topic: usize, schema: SchemaId, table: &Arc<TableSchema>) -> &mut Open {
        if self.open.as_ref().is_none_or(|open| (open.topic, open.schema) != (topic, schema)) {
            self.close();
        }
        self.open.get_or_insert_with(|| Open::new(topic, schema, table.clone()))
    }

    /// What is being gathered of one type of a topic's events: the types take turns, and each has a table of its own.
    fn open_of_type(&mut self, place: usize, table: &Arc<TableSchema>) -> &mut Open {
        if let Some(other) = self.open.take_if(|open| open.topic != place) {
            let known = self.beside_it.iter().position(|open| open.topic == place);
            self.open = known.map(|known| self.beside_it.swap_remove(known));
            self.beside_it.push(other);
        }
        self.open.get_or_insert_with(|| Open::new(place, EVENTS, table.clone()))
    }

    fn close(&mut self) {
        let open = self.beside_it.drain(..).chain(self.open.take());
        for mut open in open {
            open.end_batch();
            let Open { topic, batches, changes, from, .. } = open;
            if !changes.is_empty() {
                let (record_keys, row_before) = (None, RowBefore::Known);
                self.topics.push(TopicChanges { topic, batches, changes, from, record_keys, row_before });
            }
        }
    }
}

impl Reader {
    /// A reader of these partitions (with the place of their topic), from where each is delivered to.
    pub(crate) fn new(
        log: Arc<dyn TopicLog>,
        schemas: Arc<dyn SchemaStore>,
        partitions: impl IntoIterator<Item = (TopicPartition, usize, Delivered)>,
    ) -> Self {
        let cursor = |(at, topic, delivered)| Cursor { at, topic, delivered, at_truncate: None, limit: i64::MAX, seen: 0 };
        let cursors: Vec<Cursor> = partitions.into_iter().map(cursor).collect();
        let ground = log.ground();
        let watch = log.watch(&cursors.iter().map(|c| c.at).collect::<Vec<_>>());
        Self {
            log,
            schemas,
            cursors,
            forms: HashMap::new(),
            turn: 0,
            _watch: watch,
            whole: None,
            aside: None,
            shaping: None,
            following: None,
            whole_rows: false,
            events: Events::default(),
            event_schemas: EventSchemas::default(),
            row_keys: Vec::new(),
            fits: None,
            ground,
            delivers: false,
            passes_over: None,
            together: None,
            known: Vec::new(),
            looked_for_ends: Instant::now(),
        }
    }

    /// A reader of what one partition, of a topic by its place, holds from one offset to another. Who looks through topics again reads them so:
    /// what counts is where a record stands in its own partition, and a truncate stands in each. Read together they wait for one another at
    /// it, and one that was added later lacks those from before.
    pub(crate) fn of_one(
        log: Arc<dyn TopicLog>,
        schemas: Arc<dyn SchemaStore>,
        (at, topic): (TopicPartition, usize),
        (from, to): (i64, i64),
    ) -> Self {
        let start = (at, topic, Delivered { next: from, ..Delivered::default() });
        Self::new(log, schemas, [start]).up_to(&HashMap::from([(at, to)]))
    }

    /// The same, with the transactions of sources delivered whole.
    pub(crate) fn whole(mut self, whole: Whole) -> Self {
        self.whole = Some(whole);
        self
    }

    /// The same, with records that cannot be read put aside instead of ending it.
    pub(crate) fn aside(mut self, topics: Vec<String>) -> Self {
        self.aside = Some(topics);
        self
    }

    /// The same, with rows shaped on their way.
    pub(crate) fn shaped(mut self, shaping: Option<Shared>) -> Self {
        self.shaping = shaping;
        self
    }

    /// The same, with what lanes of this process hand on taken as it is instead of being read again. Where rows are shaped on their way
    /// they are read: shaping wants one batch with nothing else in it. So are events, whose columns are their own.
    pub(crate) fn following(mut self, handed: &HandedOn) -> Self {
        let follow = || handed.follow(self.cursors.iter().map(|c| (c.at, c.delivered.next)));
        self.following = (self.shaping.is_none() && self.events.is_empty()).then(follow);
        self
    }

    /// The same, with records of topics that are events read as rows.
    pub(crate) fn events(mut self, events: &Events) -> Self {
        self.events = events.clone();
        self
    }

    /// The same, with rows refused that do not fit the schemas that they are to be written under.
    pub(crate) fn fitting(mut self, fits: Option<Fits>) -> Self {
        self.fits = fits;
        self
    }

    /// The same, read up to an offset of each partition.
    pub(crate) fn up_to(mut self, limits: &HashMap<TopicPartition, i64>) -> Self {
        for cursor in &mut self.cursors {
            cursor.limit = limits.get(&cursor.at).copied().unwrap_or(i64::MAX);
        }
        self
    }

    /// The same, with updates refused that bring a part of a row which may not be there yet.
    pub(crate) fn whole_rows(mut self) -> Self {
        self.whole_rows = true;
        self
    }

    /// The offsets that were not looked at yet.
    pub(crate) fn ends(&self) -> Vec<(TopicPartition, Offset)> {
        // of what waits at a truncate there is more, which is not to be read yet
        let reads = self.cursors.iter().filter(|c| c.at_truncate.is_none() && !self.waits_for_others(c.at));
        reads.map(|c| (c.at, Offset(c.delivered.next.max(c.seen)))).collect()
    }

    /// Whether records that were looked at wait for the end of their transaction.
    pub(crate) fn waits(&self) -> bool {
        self.cursors.iter().any(|c| c.seen > c.delivered.next)
    }

    /// The next round; none if there is nothing to read right now.
    ///
    /// Cancel safety: none; the reader is to be made anew after a cancelled call.
    pub(crate) async fn next(&mut self) -> Result<Option<ReadRound>, Failure> {
        let Some(mut whole) = self.whole.take() else { return self.round().await };
        let next = self.whole_round(&mut whole).await;
        self.whole = Some(whole);
        next
    }

    async fn round(&mut self) -> Result<Option<ReadRound>, Failure> {
        self.same_ground()?;
        let mut gathering = Gathering::new();
        // what is due comes first: behind records without end it would wait for ever
        let mut truncated = self.truncate(&mut gathering).await?;
        let mut moved = if truncated.is_empty() { self.gather(&mut gathering).await? } else { Vec::new() };
        gathering.close();
        if moved.is_empty() && truncated.is_empty() {
            // perhaps all came to one just now
            truncated = self.truncate(&mut gathering).await?;
        }
        let truncate: Vec<_> = truncated.iter().map(|&p| (self.cursors[p].at, self.cursors[p].delivered.next - 1)).collect();
        if let Some(together) = &self.together {
            together.wait(truncate.iter().map(|(at, _)| *at));
        }
        moved.append(&mut truncated);
        if moved.is_empty() {
            return Ok(None);
        }
        self.shape(&mut gathering).await?;
        if let Some(following) = &self.following {
            following.stands(moved.iter().map(|&place| (self.cursors[place].at, self.cursors[place].delivered.next)));
        }
        let delivered = moved.iter().map(|&place| (self.cursors[place].at, self.cursors[place].delivered)).collect();
        let round = Round { topics: gathering.topics, delivered, more: false };
        let Gathering { latest_us, changes, beside, .. } = gathering;
        Ok(Some(ReadRound { round, latest_us, changes, beside, truncate }))
    }

    /// Takes what partitions have, one after the other, up to what a round holds; gives those that moved.
    async fn gather(&mut self, gathering: &mut Gathering) -> Result<Vec<usize>, Failure> {
        let mut moved = Vec::new();
        let count = self.cursors.len();
        let worth = self.worth_reading();
        gathering.share = MOST_CHANGES / worth.iter().filter(|worth| **worth).count().max(1);
        for step in 0..count {
            if gathering.changes >= MOST_CHANGES || gathering.beside.bad.len() >= MOST_BAD {
                break;
            }
            let place = (self.turn + step) % count;
            let Cursor { at, at_truncate, limit, delivered: Delivered { next: before, .. }, .. } = self.cursors[place];
            if worth[place] && at_truncate.is_none() && !self.waits_for_others(at) && before < limit {
                self.partition(place, gathering).await?;
            }
            if self.cursors[place].delivered.next > before {
                moved.push(place);
            }
        }
        self.turn = (self.turn + 1) % count.max(1);
        Ok(moved)
    }

    /// The partitions that may have something.
    fn worth_reading(&self) -> Vec<bool> {
        let after: Vec<_> = self.cursors.iter().map(|c| (c.at, Offset(c.delivered.next))).collect();
        let mut worth = self.log.may_have(&after);
        // where a limit was found, records up to it were seen
        worth.iter_mut().zip(&self.cursors).for_each(|(worth, cursor)| *worth |= cursor.limit < i64::MAX);
        worth
    }

    /// What comes in a partition from an offset on: at hand if it was just appended, else from the database.
    async fn blocks(&self, at: TopicPartition, from: i64) -> Result<Vec<StoredBlock>, PortError> {
        let blocks = match self.log.recent(at, Offset(from), PARTITION_BYTES) {
            Some(blocks) => blocks,
            None => self.log.read(at, Offset(from), PARTITION_BYTES).await?,
        };
        self.same_ground()?;
        Ok(blocks)
    }

    async fn partition(&mut self, place: usize, gathering: &mut Gathering) -> Result<(), Failure> {
        if self.handed_on(place, gathering) {
            return Ok(());
        }
        let (at, from, limit) = (self.cursors[place].at, self.cursors[place].delivered.next, self.cursors[place].limit);
        let blocks = self.blocks(at, from).await?;
        if blocks.is_empty() {
            // there may have been some, all of which were forgotten
            let kept_from = self.forgotten(place).await?;
            let end = match self.log.may_have(&[(at, Offset(from))])[0] {
                // or superseded: it is read past them, or it would be asked again and again
                true => self.log.nothing_from(at, Offset(from.max(kept_from))).await?,
                false => None,
            };
            self.same_ground()?;
            let delivered = &mut self.cursors[place].delivered;
            delivered.next = delivered.next.max(end.map_or(kept_from, |end| end.0).min(limit));
        }
        for block in blocks {
            let first = block.first.0;
            let next = self.cursors[place].delivered.next;
            if first > next {
                // what was between was forgotten, or superseded: that is what it is said to be kept for
                self.forgotten(place).await?;
                self.cursors[place].delivered.next = first;
            }
            let open = block.open(at)?;
            for record in open.records() {
                let (Offset(offset), record) = record?;
                if offset < self.cursors[place].delivered.next {
                    continue;
                }
                if offset >= limit {
                    self.cursors[place].delivered.next = limit;
                    return Ok(());
                }
                self.cursors[place].delivered.next = offset;
                if !self.record(place, offset, &record, gathering).await? {
                    return Ok(());
                }
            }
            // the block may end with offsets whose records are no longer kept
            let delivered = &mut self.cursors[place].delivered;
            delivered.next = delivered.next.max(block.end().0.min(limit));
            if gathering.changes >= MOST_CHANGES || gathering.beside.bad.len() >= MOST_BAD {
                return Ok(());
            }
        }
        Ok(())
    }

    /// Takes one record; false if it is a truncate, before which the partition waits.
    async fn record(
        &mut self,
        place: usize,
        offset: i64,
        record: &RecordRef<'_>,
        gathering: &mut Gathering,
    ) -> Result<bool, Failure> {
        let (topic, at) = (self.cursors[place].topic, self.cursors[place].at);
        let read = self.read(topic, (at, offset), record, gathering).await;
        let kind = match read {
            Ok(Some(ChangeKind::Truncate)) => {
                self.cursors[place].at_truncate = Some(self.mark((at, offset), record).await?);
                return Ok(false);
            }
            Ok(kind) => kind,
            Err(Failure::Connector(ConnectorError::BadRecord { finding, .. })) => {
                let Some(names) = &self.aside else { return Err(ConnectorError::bad_record(finding).into()) };
                let name = names[topic].clone();
                self.put_aside((at, offset), record, finding, name, gathering).await?;
                None
            }
            Err(failure) => return Err(failure),
        };
        let delivered = &mut self.cursors[place].delivered;
        delivered.next = offset + 1;
        delivered.last = Some(Seen { offset, time_us: record.timestamp_us });
        if let Some(kind) = kind {
            delivered.counts.add(kind);
        }
        Ok(true)
    }

    /// Reads one record into what is being gathered, unless it is a truncate; gives none where it is of no type that is read. After
    /// an error the open gathering is not to be used further.
    async fn read(
        &mut self,
        topic: usize,
        (at, offset): (TopicPartition, i64),
        record: &RecordRef<'_>,
        gathering: &mut Gathering,
    ) -> Result<Option<ChangeKind>, Failure> {
        if let Some(sorts) = self.events.get(&topic) {
            let schema = self.event_schemas.of(&*self.schemas, record.schema).await?;
            let came = Came { record: *record, partition: at.partition.0, offset };
            let not_a_row = |finding: String| not_a_row(at, offset, &finding);
            gathering.latest_us = gathering.latest_us.max(Some(record.timestamp_us));
            let Some(sort) = sorts.of(&came, schema.as_deref()).map_err(not_a_row)? else {
                // a record without a row is one that was looked at, too
                gathering.changes += 1;
                return Ok(None);
            };
            let open = gathering.open_of_type(sort.place, sort.form.table());
            let read = sort.form.read_all(&came, schema.as_deref(), &mut open.builder, &mut self.row_keys);
            let kind = read.map_err(|finding| grows(sort, &came, schema.as_deref(), finding).unwrap_or_else(not_a_row))?;
            let rows = self.row_keys.len();
            self.row_keys.drain(..).for_each(|key| open.built(key, (at, offset)));
            gathering.changes += rows.max(1);
            return Ok(Some(kind));
        }
        let Some(schema) = record.schema else { return Err(not_a_change(at, offset, NO_SCHEMA)) };
        let form = self.form(schema).await?;
        let Some(key) = record.key else {
            let mut builder = ChangeBatchBuilder::new(form.table().clone());
            return match form.read(&[], record.value, record.timestamp_us, &mut builder) {
                Ok(ChangeKind::Truncate) => Ok(Some(ChangeKind::Truncate)),
                Ok(_) => Err(not_a_change(at, offset, "only a truncate has no key")),
                Err(error) => Err(not_a_change(at, offset, &error.to_string())),
            };
        };
        let open = gathering.open(topic, schema, form.table());
        let read = form.read(key, record.value, record.timestamp_us, &mut open.builder);
        let kind = read.map_err(|e| not_a_change(at, offset, &e.to_string()))?;
        open.built(key_data(key), (at, offset));
        gathering.changes += 1;
        gathering.latest_us = gathering.latest_us.max(Some(record.timestamp_us));
        Ok(Some(kind))
    }

    /// Puts a record aside that cannot be read. What was gathered with it is read once more: a failed reading may have left a
    /// part of a row.
    async fn put_aside(
        &mut self,
        (at, offset): (TopicPartition, i64),
        record: &RecordRef<'_>,
        finding: String,
        name: String,
        gathering: &mut Gathering,
    ) -> Result<(), Failure> {
        let broken = gathering.open.take_if(|open| open.builder.len() != open.built);
        if let Some(broken) = broken {
            let form = self.form(broken.schema).await?;
            let mut whole = Open::new(broken.topic, broken.schema, form.table().clone());
            for (record, from) in records_at(&*self.log, &broken.from).await?.into_iter().zip(broken.from) {
                let key = record.key.as_deref().unwrap_or_default();
                let read = form.read(key, record.value.as_deref(), record.timestamp_us, &mut whole.builder);
                read.map_err(|e| ConnectorError::Defect(format!("a record was read and cannot be read again: {e}")))?;
                whole.built(key_data(key), from);
            }
            gathering.open = Some(whole);
            gathering.close();
        }
        let step = Step::Read;
        let cause = failure::cause(step.word(), &finding);
        let record = record.to_record();
        gathering.latest_us = gathering.latest_us.max(Some(record.timestamp_us));
        let offset = Offset(offset);
        gathering.beside.bad.push(BadRecord { at, topic: name, offset, record, step, finding, cause });
        Ok(())
    }

    async fn form(&mut self, schema: SchemaId) -> Result<Arc<ReadForm>, Failure> {
        if let Some(form) = self.forms.get(&schema) {
            return Ok(form.clone());
        }
        let (language, text) = self.schemas.schema_in(schema).await?;
        if language != Language::Avro {
            return Err(ConnectorError::bad_record(format!(
                "its values follow a schema in {}: {EVENTS_SAID}",
                language.word()
            ))
            .into());
        }
        let form = ReadForm::from_value_text(&text)
            .map_err(|e| ConnectorError::bad_record(format!("its values are no changes of a table ({e}): {EVENTS_SAID}")))?;
        let form = Arc::new(form);
        self.forms.insert(schema, form.clone());
        Ok(form)
    }
}

/// Columns for the fields that a record was refused for, where those are to become columns.
///
/// # Errors
/// What is found where they are not, or cannot.
fn grows(sort: &Sort, came: &Came<'_>, schema: Option<&EventSchema>, finding: String) -> Result<Failure, String> {
    let columns = sort.form.new_columns(came, schema);
    if columns.is_empty() {
        return Err(finding);
    }
    sort.form.rows().grown(&columns).map_err(|why| format!("{finding}, and it cannot become one: {why}"))?;
    Ok(Failure::NewFields(NewFields { place: sort.place, columns }))
}

/// A key's data, without what says how it is written.
pub(crate) fn key_data(key: &[u8]) -> Bytes {
    Bytes::copy_from_slice(single_object::split(key).map_or(key, |(_, data)| data))
}

/// What to do with records that are events.
const EVENTS_SAID: &str = "they are events; choose in the connector how they become rows";
const NO_SCHEMA: &str = "it has no schema: if it is an event, choose in the connector how events become rows";

fn not_a_row(at: TopicPartition, offset: i64, finding: &str) -> Failure {
    ConnectorError::bad_record(format!("{} is no row: {finding}", place_of(at, offset))).into()
}

fn not_a_change(at: TopicPartition, offset: i64, finding: &str) -> Failure {
    ConnectorError::bad_record(format!("{} is not a change ({finding})", place_of(at, offset))).into()
}

/// What a record is called.
pub(crate) fn place_of(at: TopicPartition, offset: i64) -> String {
    format!("offset {offset} of partition {}", at.partition.0)
}
