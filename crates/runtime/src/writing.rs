//! From captured changes to blocks: keys decide partitions, rows become Avro values.

use std::collections::HashMap;
use std::collections::hash_map::Entry;
use std::sync::Arc;

use gonvel_core::avro::fingerprint::fingerprint;
use gonvel_core::avro::schema::Schema;
use gonvel_core::avro::{from_json, single_object};
use gonvel_core::block::BlockBuilder;
use gonvel_core::change::{ChangeKind, KindCounts};
use gonvel_core::connector::{Encoding, ValueForm, Values};
use gonvel_core::fitting::FitForm;
use gonvel_core::naming::{Offset, PartitionId, SchemaId, TopicPartition};
use gonvel_core::partitioning::partition_of;
use gonvel_core::ports::systems::TableChanges;
use gonvel_core::ports::{AppendBatch, LaneProgress, PartitionBlocks, PortError, SchemaStore, Topic, TopicLog};
use gonvel_core::record::Header;
use gonvel_core::record_form::{ReadForm, RecordForm};
use gonvel_core::schema_changes;
use gonvel_core::shape::Fact;
use gonvel_core::table::TableSchema;
use serde::{Deserialize, Serialize};

use crate::fits::{Fits, has_value};
use crate::handed_on::{self, Changes, HandedOn};
use crate::services::Services;

/// What goes into a partition.
pub(crate) struct Written {
    pub(crate) blocks: PartitionBlocks,
    /// The changes that its records tell, where someone here follows the partition.
    pub(crate) changes: Option<Changes>,
}

/// Appends what was written with a lane's progress, all or none, and hands it on once it is durable.
pub(crate) async fn append(services: &Services, written: Vec<Written>, progress: LaneProgress) -> Result<(), PortError> {
    let (parts, changes) = written.into_iter().map(|w| (w.blocks, w.changes)).unzip();
    let ground = progress.ground;
    let landed = services.log.append(AppendBatch { parts, progress: Some(progress), ..AppendBatch::default() }).await?;
    services.handed.note(ground, &landed, changes);
    Ok(())
}

struct Registered {
    form: RecordForm,
    value: SchemaId,
    key: SchemaId,
    /// Whether records are read back as exactly the changes that were written.
    reads_back: bool,
}

/// The columns that a table's rows were written with, as their schemas; stored with the position. What the newest records look like does
/// not say it: after a load they are rows of any shape.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct KnownColumns {
    /// Those that the last change had.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    change: Option<i64>,
    /// Those that the first load had, and when it read them: what is known until a change comes.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    load: Option<(i64, i64)>,
    /// Those that the last load had.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    loaded: Option<i64>,
}

impl KnownColumns {
    pub(crate) fn is_nothing(&self) -> bool {
        *self == Self::default()
    }

    /// The table as its last rows had it that came by a load, or by a change and before one by a load; none if that is not known.
    pub(crate) async fn last(
        &self,
        by_load: bool,
        schemas: &dyn SchemaStore,
    ) -> Result<Option<Arc<TableSchema>>, PortError> {
        let id = if by_load { self.loaded } else { self.change.or(self.loaded) };
        match id {
            Some(id) => table_of(id, schemas).await,
            None => Ok(None),
        }
    }
}

/// The table whose rows a schema describes.
async fn table_of(schema: i64, schemas: &dyn SchemaStore) -> Result<Option<Arc<TableSchema>>, PortError> {
    let form = ReadForm::from_value_text(&schemas.schema_text(SchemaId(schema)).await?);
    Ok(form.ok().map(|form| form.table().clone()))
}

/// Where changes of the tables' columns are told.
struct Told {
    topic: Topic,
    schema: SchemaId,
    form: Schema,
    fingerprint: u64,
}

/// Writes the changes of one connector's tables.
pub(crate) struct Writer {
    log: Arc<dyn TopicLog>,
    schemas: Arc<dyn SchemaStore>,
    handed: HandedOn,
    /// Who registers schemas: the connector.
    by: String,
    topics: Vec<Topic>,
    /// Which of the topics each captured table is written to.
    of_table: Vec<usize>,
    /// Which of the topics rows are routed to, by name.
    ways: HashMap<String, usize>,
    values: Values,
    told: Option<Told>,
    /// Where rows are written under a schema that is not their own.
    fits: Option<Fits>,
    forms: HashMap<(usize, Arc<TableSchema>), Registered>,
    /// The latest shape of each table that changes were written of.
    shapes: HashMap<usize, Arc<TableSchema>>,
    /// What is known of each table's columns.
    known: HashMap<usize, KnownColumns>,
    key: Vec<u8>,
    value: Vec<u8>,
}

impl Writer {
    /// A writer into these topics, one per captured table. Changes of columns go to a topic of their own, if there is one.
    pub(crate) async fn new(
        services: &Services,
        by: &str,
        topics: Vec<Topic>,
        values: Values,
        told: Option<Topic>,
    ) -> Result<Self, PortError> {
        let told = match told {
            None => None,
            Some(topic) => {
                let text = schema_changes::value_schema().to_string();
                let schema = services.schemas.register(&topic.name, "value", &text, by).await?;
                let defect = |e: String| PortError::Refused(e);
                let form = Schema::parse(&text).map_err(|e| defect(e.to_string()))?;
                let fingerprint = fingerprint(&text).map_err(|e| defect(e.to_string()))?;
                Some(Told { topic, schema, form, fingerprint })
            }
        };
        Ok(Self {
            log: services.log.clone(),
            schemas: services.schemas.clone(),
            handed: services.handed.clone(),
            by: by.to_owned(),
            of_table: (0..topics.len()).collect(),
            ways: HashMap::new(),
            topics,
            values,
            told,
            fits: None,
            forms: HashMap::new(),
            shapes: HashMap::new(),
            known: HashMap::new(),
            key: Vec::new(),
            value: Vec::new(),
        })
    }

    /// The same, with rows of some topics written under registered schemas.
    pub(crate) fn fitting(mut self, fits: Option<Fits>) -> Self {
        self.fits = fits;
        self
    }

    /// One more table, found in the stream.
    pub(crate) fn add(&mut self, topic: Topic) {
        self.of_table.push(self.topics.len());
        self.topics.push(topic);
    }

    /// The place of a captured table's topic.
    pub(crate) fn of_table(&self, table: usize) -> usize {
        self.of_table[table]
    }

    /// The topic at a place.
    pub(crate) fn topic(&self, place: usize) -> &Topic {
        &self.topics[place]
    }

    /// The place of a topic that rows are routed to, if it was added.
    pub(crate) fn way(&self, name: &str) -> Option<usize> {
        self.ways.get(name).copied()
    }

    /// A topic that rows are routed to.
    pub(crate) fn add_way(&mut self, topic: Topic) -> usize {
        let name = topic.name.as_str().to_owned();
        let known = self.topics.iter().position(|t| t.id == topic.id);
        let place = known.unwrap_or_else(|| {
            self.topics.push(topic);
            self.topics.len() - 1
        });
        self.ways.insert(name, place);
        place
    }

    /// What is known of the columns of the topic's table at a place.
    pub(crate) fn known(&self, place: usize) -> KnownColumns {
        self.known.get(&place).copied().unwrap_or_default()
    }

    /// The same, as it was stored.
    pub(crate) fn set_known(&mut self, place: usize, known: KnownColumns) {
        self.known.insert(place, known);
    }

    /// What changed in a table's columns since its last changes, as a record for the topic that tells it. Rows of a load tell
    /// nothing: they are read as the table is now, and changes from before may still come.
    async fn tell(
        &mut self,
        table: usize,
        changes: &TableChanges,
        SchemaId(schema): SchemaId,
    ) -> Result<Option<Written>, PortError> {
        let shape = &changes.batch.table;
        let Some(seen) = changes.batch.origins.first() else { return Ok(None) };
        let known = self.known.entry(table).or_default();
        if changes.rows.is_some() {
            known.load.get_or_insert((schema, seen.commit_time_us));
            known.loaded = Some(schema);
            return Ok(None);
        }
        let was = std::mem::replace(known, KnownColumns { change: Some(schema), ..*known });
        let seen_before = self.shapes.insert(table, shape.clone());
        let Some(told) = &self.told else { return Ok(None) };
        let before = match (seen_before, was.change, was.load) {
            (Some(before), ..) => Some(before),
            (None, Some(id), _) => table_of(id, &*self.schemas).await?,
            (None, None, Some((id, time_us))) if time_us <= seen.commit_time_us => table_of(id, &*self.schemas).await?,
            (None, None, Some(_)) => None,
            // a position from before this was stored
            (None, None, None) => latest_shape(&*self.log, &*self.schemas, &self.topics[table], seen.commit_time_us).await?,
        };
        let Some(before) = before.filter(|before| before != shape) else { return Ok(None) };
        let differences = schema_changes::differences(&before, shape);
        if differences.is_empty() {
            return Ok(None);
        }
        let mut value = Vec::new();
        single_object::header(told.fingerprint, &mut value);
        from_json::write(&told.form, &schema_changes::value(shape, &differences, seen), &mut value)
            .map_err(|e| PortError::Refused(e.to_string()))?;
        let key = shape.qualified();
        let partition = partition_of(Some(key.as_bytes()), told.topic.partitions);
        let mut block = BlockBuilder::default();
        block.push(Some(key.as_bytes()), Some(&value), &[], seen.commit_time_us, Some(told.schema), None);
        let blocks = block.finish().into_iter().collect();
        let blocks = PartitionBlocks { to: TopicPartition { topic: told.topic.id, partition }, blocks };
        Ok(Some(Written { blocks, changes: None }))
    }

    /// Writes changes into blocks for one of the topics and counts them. Each record gets these facts as its headers.
    pub(crate) async fn write(
        &mut self,
        place: usize,
        changes: &TableChanges,
        headers: &[(String, Fact)],
        counts: &mut KindCounts,
    ) -> Result<Vec<Written>, PortError> {
        let mut out = Vec::new();
        self.register(place, &changes.batch.table).await?;
        if self.shapes.get(&place) != Some(&changes.batch.table) {
            let value = self.forms[&(place, changes.batch.table.clone())].value;
            out.extend(self.tell(place, changes, value).await?);
        }
        out.extend(self.blocks(place, changes, headers, counts)?);
        Ok(out)
    }

    /// The place of a topic, which is added if it is not known.
    pub(crate) fn place_of(&mut self, topic: &Topic) -> usize {
        let known = self.topics.iter().position(|t| t.id == topic.id);
        known.unwrap_or_else(|| self.add_way(topic.clone()))
    }

    /// Writes changes as rows that are in the topic already have it: whatever columns those had, nothing of them is told.
    pub(crate) async fn write_as_known(
        &mut self,
        place: usize,
        changes: &TableChanges,
        headers: &[(String, Fact)],
        counts: &mut KindCounts,
    ) -> Result<Vec<Written>, PortError> {
        self.register(place, &changes.batch.table).await?;
        self.blocks(place, changes, headers, counts)
    }

    /// Has the schemas ready by which a table's rows are written.
    async fn register(&mut self, place: usize, table: &Arc<TableSchema>) -> Result<(), PortError> {
        let form_key = (place, table.clone());
        if self.forms.contains_key(&form_key) {
            return Ok(());
        }
        let fit = self.fit(place, table)?;
        let form = RecordForm::of(table.clone(), self.values);
        let topic = &self.topics[place].name;
        let value = match &fit {
            Some((id, _)) => *id,
            None => self.schemas.register(topic, "value", form.value_text(), &self.by).await?,
        };
        let key = self.schemas.register(topic, "key", form.key_text(), &self.by).await?;
        let whole = fit.is_none() && self.values == Values { form: ValueForm::Change, encoding: Encoding::Avro };
        let reads_back = whole && ReadForm::from_value_text(form.value_text()).is_ok_and(|f| *f.table() == form_key.1);
        self.forms.insert(form_key, Registered { form, value, key, reads_back });
        Ok(())
    }

    fn fit(&self, place: usize, table: &Arc<TableSchema>) -> Result<Option<(SchemaId, Arc<FitForm>)>, PortError> {
        let Some(fits) = &self.fits else { return Ok(None) };
        fits.form(place, table).map_err(|e| PortError::Refused(e.to_string()))
    }

    /// Blocks of changes whose schemas are ready.
    fn blocks(
        &mut self,
        place: usize,
        changes: &TableChanges,
        headers: &[(String, Fact)],
        counts: &mut KindCounts,
    ) -> Result<Vec<Written>, PortError> {
        let fit = self.fit(place, &changes.batch.table)?;
        let mut out = Vec::new();
        let registered = &self.forms[&(place, changes.batch.table.clone())];
        let topic = &self.topics[place];
        let partitions = usize::try_from(topic.partitions).unwrap_or(1);
        let mut builders: Vec<BlockBuilder> = (0..partitions).map(|_| BlockBuilder::default()).collect();
        let mut parts: Vec<Vec<_>> = vec![Vec::new(); partitions];
        let batch = &changes.batch;
        let hands_on = registered.reads_back && !batch.kinds.contains(&ChangeKind::Truncate);
        let followed = |partition| hands_on && self.handed.is_followed(TopicPartition { topic: topic.id, partition });
        let mut handed: Vec<Option<handed_on::Gathering>> =
            (0..topic.partitions).map(|number| followed(PartitionId(number)).then(Default::default)).collect();
        let mut unfit = None;
        let mut one = |row: usize| {
            let kind = batch.kinds[row];
            counts.add(kind);
            self.value.clear();
            let there = match &fit {
                None => registered.form.write_value(batch, row, &mut self.value),
                Some(_) if !has_value(kind) => false,
                Some((_, form)) => match form.value(batch, row) {
                    Ok(value) => {
                        self.value.extend_from_slice(&value);
                        true
                    }
                    // what reads refuses it before
                    Err(finding) => {
                        unfit.get_or_insert(finding);
                        return;
                    }
                },
            };
            let timestamp = batch.origins[row].commit_time_us;
            let header = |(name, fact): &(String, Fact)| {
                let value = fact.text(kind, &batch.origins[row], &batch.table).into();
                Header { name: name.clone(), value }
            };
            let headers: Vec<Header> = headers.iter().map(header).collect();
            let mut push = |partition: usize, key: Option<&[u8]>| {
                let key_schema = key.map(|_| registered.key);
                builders[partition].push(
                    key,
                    there.then_some(&self.value[..]),
                    &headers,
                    timestamp,
                    Some(registered.value),
                    key_schema,
                );
                if builders[partition].is_full() {
                    parts[partition].extend(builders[partition].finish());
                }
            };
            if kind == ChangeKind::Truncate {
                // it concerns every key, so it stands in every partition
                (0..partitions).for_each(|partition| push(partition, None));
            } else {
                self.key.clear();
                registered.form.write_key(batch.identifying(row), row, &mut self.key);
                let PartitionId(partition) = partition_of(Some(&self.key), topic.partitions);
                let partition = usize::try_from(partition).unwrap_or(0);
                push(partition, Some(&self.key));
                if let Some(handed) = &mut handed[partition] {
                    handed.push(row, single_object::split(&self.key).map_or(&self.key, |(_, data)| data));
                }
            }
        };
        match &changes.rows {
            None => (0..batch.len()).for_each(&mut one),
            Some(rows) => rows.iter().copied().for_each(&mut one),
        }
        if let Some(finding) = unfit {
            return Err(PortError::Refused(format!("a row does not fit its schema: {finding}")));
        }
        let whole = handed.iter().any(Option::is_some).then(|| Arc::new(batch.clone()));
        for (number, ((mut builder, mut blocks), handed)) in builders.into_iter().zip(parts).zip(handed).enumerate() {
            blocks.extend(builder.finish());
            if !blocks.is_empty() {
                let partition = PartitionId(i32::try_from(number).unwrap_or(0));
                let bytes = blocks.iter().map(|b| b.unpacked).sum();
                let whole = whole.clone();
                let changes = handed.zip(whole).map(|(handed, batch)| handed.finish(registered.value, batch, bytes));
                let blocks = PartitionBlocks { to: TopicPartition { topic: topic.id, partition }, blocks };
                out.push(Written { blocks, changes });
            }
        }
        Ok(out)
    }
}

/// The shape of a table as the newest change in its topic has it, or else the newest row of a load that was read before a time;
/// none if there is none that a source wrote.
pub(crate) async fn latest_shape(
    log: &dyn TopicLog,
    schemas: &dyn SchemaStore,
    topic: &Topic,
    before_us: i64,
) -> Result<Option<Arc<TableSchema>>, PortError> {
    let mut forms: HashMap<SchemaId, Option<ReadForm>> = HashMap::new();
    // of changes and of loads the newest, by whether it is a change and its time
    let mut newest: Option<((bool, i64), SchemaId)> = None;
    for bounds in log.bounds(topic.id).await? {
        if bounds.records == 0 {
            continue;
        }
        let at = TopicPartition { topic: topic.id, partition: bounds.partition };
        for block in log.read(at, Offset(bounds.next.0 - 1), 1).await? {
            for record in block.open(at)?.records() {
                let (_, record) = record?;
                let Some(schema) = record.schema else { continue };
                if let Entry::Vacant(place) = forms.entry(schema) {
                    place.insert(ReadForm::from_value_text(&schemas.schema_text(schema).await?).ok());
                }
                let Some(form) = &forms[&schema] else { continue };
                let change = form.position(record.value).is_ok_and(|position| position > 0);
                let rank = (change, record.timestamp_us);
                if (change || record.timestamp_us <= before_us) && newest.is_none_or(|(known, _)| known <= rank) {
                    newest = Some((rank, schema));
                }
            }
        }
    }
    Ok(newest.and_then(|(_, schema)| forms.remove(&schema).flatten()).map(|form| form.table().clone()))
}
