//! The references that lookups look into: read from their topics when a lane begins, and kept current while it runs.

use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;
use std::time::{Duration, Instant};

use gonvel_connectors::kinds;
use gonvel_core::change::{ChangeBatch, ChangeBatchBuilder};
use gonvel_core::connector::CapturedTable;
use gonvel_core::naming::{Offset, PartitionId, SchemaId, TopicName, TopicPartition};
use gonvel_core::ports::systems::ConnectorError;
use gonvel_core::ports::{Address, FleetStore, PortError, SchemaStore, Topic, TopicLog, Watch};
use gonvel_core::record_form::ReadForm;
use gonvel_core::shape::Shapes;
use gonvel_core::table::TableSchema;
use gonvel_shape::reference::Reference;
use uuid::Uuid;

use crate::failing::Failure;
use crate::topic_keys::with_keys;
use crate::writing::latest_shape;

/// Bytes (before compression) read of a partition at a time.
const PARTITION_BYTES: i64 = 4 << 20;

/// One reference topic being read.
struct Followed {
    topic: Topic,
    next: Vec<(TopicPartition, i64)>,
    /// From which offsets on it is noted what changes; none where rows are not carried again because of it.
    noted_from: Option<HashMap<PartitionId, i64>>,
    /// A record of another shape came, perhaps a newer one.
    other_shape: bool,
    _watch: Watch,
}

/// One table that is looked into.
struct LookedInto {
    name: String,
    address: Address,
    table: CapturedTable,
    columns: Vec<String>,
    every: Duration,
    read_at: Instant,
}

impl LookedInto {
    /// Reads all of it.
    async fn read(&mut self, most_bytes: usize, into: &mut HashMap<String, Reference>) -> Result<(), Failure> {
        let mut reference: Option<Reference> = None;
        let room = room(most_bytes, into, &self.name);
        let mut take = |batch: &ChangeBatch| {
            let reference = reference.get_or_insert_with(|| empty(batch.table.clone(), &self.columns));
            reference.apply(batch);
            fits_in(room, (&self.name, reference))
        };
        kinds::tables(&self.address)?.all_rows(&self.address, &self.table, &self.columns, &mut take).await?;
        into.extend(reference.map(|reference| (self.name.clone(), reference)));
        self.read_at = Instant::now();
        Ok(())
    }
}

/// Where references are read from.
#[derive(Clone)]
pub(crate) struct ReadFrom {
    pub(crate) log: Arc<dyn TopicLog>,
    pub(crate) schemas: Arc<dyn SchemaStore>,
    pub(crate) fleet: Arc<dyn FleetStore>,
    /// Bytes that all of them may take.
    pub(crate) most_bytes: usize,
}

/// The references of one lane.
pub(crate) struct References {
    log: Arc<dyn TopicLog>,
    schemas: Arc<dyn SchemaStore>,
    most_bytes: usize,
    followed: Vec<Followed>,
    tables: Vec<LookedInto>,
    /// Tables that could not be read at first, and why.
    unread: Vec<(String, Failure)>,
    forms: HashMap<SchemaId, Option<Arc<ReadForm>>>,
}

/// Bytes that references take but for one, and what is left for that one.
fn room(most_bytes: usize, into: &HashMap<String, Reference>, for_one: &str) -> usize {
    let others = into.iter().filter(|(name, _)| *name != for_one).map(|(_, reference)| reference.size());
    most_bytes.saturating_sub(others.sum())
}

/// Refuses a reference that has outgrown its room.
fn fits_in(room: usize, (name, reference): (&str, &Reference)) -> Result<(), ConnectorError> {
    if reference.size() <= room {
        return Ok(());
    }
    Err(ConnectorError::settings(
        Some("shape"),
        format!(
            "the rows that this connector looks up do not fit in the memory that a lane may take for them: of {name}, {} rows take {} MiB, and {} MiB are free",
            reference.len(),
            reference.size().div_ceil(1 << 20),
            room >> 20
        ),
        "look up fewer columns, divide the lookups among connectors, or start the runners with more (--lane-memory, in MiB)",
    ))
}

/// A reference without rows yet, of which some columns are kept.
fn empty(table: Arc<TableSchema>, wanted: &[String]) -> Reference {
    let kept = wanted.iter().filter_map(|w| table.columns.iter().position(|c| c.name == *w)).collect();
    Reference::new(table, kept)
}

impl References {
    /// Reads all references that a shape looks into. Of those that rows are carried again for it is noted what changed from these
    /// offsets on; where there are none, from now on.
    ///
    /// # Errors
    /// [`ConnectorError::TryAgain`] if one is not there yet or holds no rows.
    pub(crate) async fn read(
        from: ReadFrom,
        shapes: &Shapes,
        noted_from: &BTreeMap<TopicPartition, i64>,
        into: &mut HashMap<String, Reference>,
    ) -> Result<Self, Failure> {
        let mut references = Self::read_noting(from, shapes, noted_from, into).await?;
        if let Some((_, failure)) = references.unread.pop() {
            return Err(failure);
        }
        if let Some(missing) = shapes.references().into_iter().find(|reference| !into.contains_key(&reference.name)) {
            let finding = format!("the reference topic {} is not there yet, or holds no rows of a table", missing.name);
            let remedy = "start the source that writes it; this connector goes on by itself";
            return Err(ConnectorError::try_again(finding, remedy).into());
        }
        Ok(references)
    }

    /// Reads those of the references that are there.
    pub(crate) async fn read_those_there(
        from: ReadFrom,
        shapes: &Shapes,
        into: &mut HashMap<String, Reference>,
    ) -> Result<Self, Failure> {
        Self::read_noting(from, shapes, &BTreeMap::new(), into).await
    }

    async fn read_noting(
        from: ReadFrom,
        shapes: &Shapes,
        noted_from: &BTreeMap<TopicPartition, i64>,
        into: &mut HashMap<String, Reference>,
    ) -> Result<Self, Failure> {
        let ReadFrom { log, schemas, fleet, most_bytes } = from;
        let mut references = Self {
            log,
            schemas,
            most_bytes,
            followed: Vec::new(),
            tables: Vec::new(),
            unread: Vec::new(),
            forms: HashMap::new(),
        };
        for reference in shapes.references() {
            let name = reference.name;
            if let Some(table) = reference.table {
                let Ok(connection) = Uuid::parse_str(&table.connection) else { continue };
                if table.table.is_empty() {
                    continue;
                }
                let mut captured = CapturedTable::whole(&table.schema, &table.table, "");
                captured.key = reference.keys;
                let mut looked_into = LookedInto {
                    name,
                    address: with_keys(
                        references.log.as_ref(),
                        references.schemas.as_ref(),
                        fleet.address(connection).await?,
                    )
                    .await?,
                    table: captured,
                    columns: reference.columns,
                    every: Duration::from_secs(u64::from(table.every_seconds)),
                    read_at: Instant::now(),
                };
                match looked_into.read(most_bytes, into).await {
                    Ok(()) => references.tables.push(looked_into),
                    Err(failure) => references.unread.push((looked_into.name, failure)),
                }
                continue;
            }
            let Ok(parsed) = TopicName::parse(name.clone()) else { continue };
            let topic = match references.log.topic(&parsed).await {
                Err(PortError::NotFound { .. }) => continue,
                found => found?,
            };
            let shape = latest_shape(&*references.log, &*references.schemas, &topic, i64::MAX).await?;
            let Some(table) = shape else { continue };
            let places: Vec<TopicPartition> =
                (0..topic.partitions).map(|p| TopicPartition { topic: topic.id, partition: PartitionId(p) }).collect();
            let watch = references.log.watch(&places);
            let noted = |at: &TopicPartition| (at.partition, noted_from.get(at).copied().unwrap_or(i64::MAX));
            let followed = shapes.followed().contains(&name.as_str());
            let noted_from = followed.then(|| places.iter().map(noted).collect());
            let next = places.into_iter().map(|at| (at, 0)).collect();
            into.insert(name.clone(), empty(table, &reference.columns));
            references.followed.push(Followed { topic, next, noted_from, other_shape: false, _watch: watch });
        }
        references.catch_up(shapes, into).await?;
        for followed in &mut references.followed {
            let next: HashMap<PartitionId, i64> = followed.next.iter().map(|(at, next)| (at.partition, *next)).collect();
            let from = followed.noted_from.iter_mut().flatten();
            from.for_each(|(partition, from)| *from = (*from).min(next.get(partition).copied().unwrap_or(0)));
        }
        Ok(references)
    }

    /// Tables that could not be read, and why.
    pub(crate) fn unread(&self) -> Vec<(String, String)> {
        let why = |failure: &Failure| match failure {
            Failure::Port(error) => error.to_string(),
            Failure::Connector(error) => error.to_string(),
            Failure::NewFields(_) => failure.message(),
        };
        self.unread.iter().map(|(name, failure)| (name.clone(), why(failure))).collect()
    }

    /// Where each partition was read to.
    pub(crate) fn ends(&self) -> Vec<(TopicPartition, Offset)> {
        self.followed.iter().flat_map(|f| &f.next).map(|(at, next)| (*at, Offset(*next))).collect()
    }

    /// Where each partition was read to of the references that rows are carried again for.
    pub(crate) fn followed_to(&self) -> BTreeMap<TopicPartition, i64> {
        self.followed.iter().filter(|f| f.noted_from.is_some()).flat_map(|f| f.next.iter().copied()).collect()
    }

    /// What changed up to these offsets is done with.
    pub(crate) fn done(&mut self, to: &BTreeMap<TopicPartition, i64>) {
        for followed in &mut self.followed {
            for (at, _) in &followed.next {
                if let (Some(from), Some(to)) = (&mut followed.noted_from, to.get(at)) {
                    from.insert(at.partition, *to);
                }
            }
        }
    }

    /// Takes in what the references' topics hold that was not read yet. Where the columns that are kept have become others, the
    /// reference is read anew; whether one was.
    pub(crate) async fn catch_up(
        &mut self,
        shapes: &Shapes,
        into: &mut HashMap<String, Reference>,
    ) -> Result<bool, Failure> {
        let mut anew = false;
        for table in self.tables.iter_mut().filter(|table| table.read_at.elapsed() >= table.every) {
            let before = into.get(&table.name).map(|known| known.table().clone());
            table.read(self.most_bytes, into).await?;
            anew |= into.get(&table.name).map(|now| now.table()) != before.as_ref();
        }
        loop {
            self.read_on(into).await?;
            let Some(place) = self.followed.iter().position(|f| f.other_shape) else { return Ok(anew) };
            self.followed[place].other_shape = false;
            let topic = self.followed[place].topic.clone();
            let Some(table) = latest_shape(&*self.log, &*self.schemas, &topic, i64::MAX).await? else { continue };
            let name = topic.name.as_str().to_owned();
            let wanted = shapes.references().into_iter().find(|reference| reference.name == name);
            let newest = empty(table, &wanted.map(|wanted| wanted.columns).unwrap_or_default());
            if into
                .get(&name)
                .is_some_and(|known| known.kept().len() != newest.kept().len() || !newest.is_like(known.table()))
            {
                into.insert(name, newest);
                self.followed[place].next.iter_mut().for_each(|(_, next)| *next = 0);
                anew = true;
            }
        }
    }

    async fn read_on(&mut self, into: &mut HashMap<String, Reference>) -> Result<(), Failure> {
        for place in 0..self.followed.len() {
            let ends: Vec<_> = self.followed[place].next.iter().map(|(at, next)| (*at, Offset(*next))).collect();
            let name = self.followed[place].topic.name.as_str().to_owned();
            for (number, more) in self.log.may_have(&ends).into_iter().enumerate() {
                let room = room(self.most_bytes, into, &name);
                if let (true, Some(reference)) = (more, into.get_mut(&name)) {
                    self.partition((place, number), reference, room).await?;
                }
            }
        }
        Ok(())
    }

    async fn partition(
        &mut self,
        (place, number): (usize, usize),
        reference: &mut Reference,
        room: usize,
    ) -> Result<(), Failure> {
        let (at, mut next) = self.followed[place].next[number];
        let noted = self.followed[place].noted_from.as_ref();
        let noted = noted.map_or(i64::MAX, |from| from.get(&at.partition).copied().unwrap_or(i64::MAX));
        let apply = |reference: &mut Reference, changes: &ChangeBatch, last: i64| {
            reference.take_in(changes, at.partition.0, last >= noted);
        };
        loop {
            let blocks = match self.log.recent(at, Offset(next), PARTITION_BYTES) {
                Some(blocks) => blocks,
                None => self.log.read(at, Offset(next), PARTITION_BYTES).await?,
            };
            if blocks.is_empty() {
                if self.log.may_have(&[(at, Offset(next))])[0] {
                    next = self.log.nothing_from(at, Offset(next)).await?.map_or(next, |end| end.0);
                }
                break;
            }
            for block in blocks {
                let open = block.open(at)?;
                let mut builder: Option<(SchemaId, ChangeBatchBuilder)> = None;
                let mut last = next;
                for record in open.records() {
                    let (Offset(offset), record) = record?;
                    let Some(schema) = record.schema.filter(|_| offset >= next) else { continue };
                    let first = !self.forms.contains_key(&schema);
                    let Some(form) = self.form(schema).await? else { continue };
                    self.followed[place].other_shape |= first && !reference.is_like(form.table());
                    let other = (last < noted) != (offset < noted);
                    if builder.as_ref().is_some_and(|(known, _)| *known != schema || other)
                        && let Some((_, mut full)) = builder.take()
                    {
                        apply(reference, &full.finish(), last);
                    }
                    last = offset;
                    let (_, open) = builder.get_or_insert_with(|| (schema, ChangeBatchBuilder::new(form.table().clone())));
                    let key = record.key.unwrap_or_default();
                    if form.read(key, record.value, record.timestamp_us, open).is_err() {
                        // what was read of the block before it is lost with it: read it alone
                        builder = None;
                        self.one_by_one(at, (block.first.0.max(next), offset), noted, reference).await?;
                    }
                }
                if let Some((_, mut full)) = builder {
                    apply(reference, &full.finish(), last);
                }
                fits_in(room, (self.followed[place].topic.name.as_str(), reference))?;
                next = next.max(block.end().0);
            }
        }
        self.followed[place].next[number].1 = next;
        Ok(())
    }

    /// The records of a span each on its own, without those that cannot be read.
    async fn one_by_one(
        &mut self,
        at: TopicPartition,
        (from, to): (i64, i64),
        noted: i64,
        reference: &mut Reference,
    ) -> Result<(), Failure> {
        for block in self.log.read(at, Offset(from), 1).await? {
            let open = block.open(at)?;
            for record in open.records() {
                let (Offset(offset), record) = record?;
                let Some(schema) = record.schema.filter(|_| (from..=to).contains(&offset)) else { continue };
                let Some(form) = self.form(schema).await? else { continue };
                let mut builder = ChangeBatchBuilder::new(form.table().clone());
                if form.read(record.key.unwrap_or_default(), record.value, record.timestamp_us, &mut builder).is_ok() {
                    reference.take_in(&builder.finish(), at.partition.0, offset >= noted);
                }
            }
        }
        Ok(())
    }

    async fn form(&mut self, schema: SchemaId) -> Result<Option<Arc<ReadForm>>, Failure> {
        if let Some(known) = self.forms.get(&schema) {
            return Ok(known.clone());
        }
        let text = self.schemas.schema_text(schema).await?;
        let form = ReadForm::from_value_text(&text).ok().map(Arc::new);
        self.forms.insert(schema, form.clone());
        Ok(form)
    }
}

/// The tables of references as they are, for working shapes out.
pub(crate) fn tables(references: &HashMap<String, Reference>) -> HashMap<String, Arc<TableSchema>> {
    references.iter().map(|(name, reference)| (name.clone(), reference.table().clone())).collect()
}
