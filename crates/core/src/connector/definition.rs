//! What a connector is asked to do, as a person gives it.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use uuid::Uuid;

use super::carrying::{Failing, Placing};
use super::existing::ExistingRows;
use crate::event_rows::{EventRows, read_name};
use crate::fitting::Fit;
use crate::shape::Shapes;
use crate::table::qualified;
use crate::table_patterns::TablePatterns;

/// A table that a source captures, and the topic it writes.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct CapturedTable {
    /// Schema in the source; left out where tables stand in none.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub schema: String,
    /// Table in the source.
    pub table: String,
    /// The topic for its changes.
    pub topic: String,
    /// Columns that are not captured.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub leave_out: Vec<String>,
    /// Columns that are the key, where it is not the primary key.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub key: Vec<String>,
    /// A condition, one SQL expression over the table's columns: the initial load reads only the rows that fulfil it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub load_where: Option<String>,
}

impl CapturedTable {
    /// A whole table by its primary key.
    #[must_use]
    pub fn whole(schema: &str, table: &str, topic: &str) -> Self {
        Self {
            schema: schema.into(),
            table: table.into(),
            topic: topic.into(),
            leave_out: Vec::new(),
            key: Vec::new(),
            load_where: None,
        }
    }

    /// `schema.table`, by which progress is kept.
    #[must_use]
    pub fn qualified(&self) -> String {
        qualified(&self.schema, &self.table)
    }
}

/// A topic that a sink reads, and the table it writes.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct DeliveredTopic {
    /// The topic.
    pub topic: String,
    /// Schema in the target; left out where tables stand in none.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub schema: String,
    /// Table in the target.
    pub table: String,
    /// How its records become rows, where they are events and no changes of a table.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rows: Option<EventRows>,
}

impl DeliveredTopic {
    /// What it is called in the connector: the topic, with the types of its records where only those are read.
    #[must_use]
    pub fn name(&self) -> String {
        read_name(&self.topic, self.rows.as_ref())
    }

    fn read(&self) -> ReadTopic<'_> {
        ReadTopic { name: self.name(), topic: &self.topic, rows: self.rows.as_ref(), to: self.table_name() }
    }
}

/// How the rows that exist when a source connector starts are copied.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct InitialLoad {
    /// Whether they are; otherwise only what changes from then on is captured.
    pub rows: bool,
    /// Rows read a second at most; none for as fast as the source gives them.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rows_per_second: Option<u32>,
    /// Chunks read at a time, each by a session of its own.
    #[serde(default = "one", skip_serializing_if = "is_one")]
    pub chunks: u32,
}

fn one() -> u32 {
    1
}

#[allow(clippy::trivially_copy_pass_by_ref, reason = "serde calls it with a reference")]
fn is_one(chunks: &u32) -> bool {
    *chunks == 1
}

impl Default for InitialLoad {
    fn default() -> Self {
        Self { rows: true, rows_per_second: None, chunks: 1 }
    }
}

/// What a source's values hold.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum ValueForm {
    /// The whole change: kind, the row after and before it, origin.
    #[default]
    Change,
    /// The row after the change; nothing for a delete.
    Row,
}

/// How a source's keys and values are written.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum Encoding {
    /// Avro's single-object encoding.
    #[default]
    Avro,
    /// JSON text.
    Json,
}

/// How a source writes its records.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Values {
    /// What they hold.
    #[serde(default)]
    pub form: ValueForm,
    /// How they are written.
    #[serde(default)]
    pub encoding: Encoding,
}

/// Where to begin in one partition.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct StartOffset {
    /// The topic.
    pub topic: String,
    /// The partition.
    pub partition: i32,
    /// The first offset to deliver.
    pub offset: i64,
}

/// Where a connector begins when it first starts.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(tag = "at", rename_all = "lowercase", deny_unknown_fields)]
pub enum Start<C = Uuid> {
    /// With what is kept longest.
    Earliest {},
    /// With what comes next.
    Latest {},
    /// With the first change or record at a time or after it.
    Time {
        /// RFC 3339.
        #[schema(format = DateTime)]
        time: String,
    },
    /// After a position of the source's log.
    Position {
        /// As the source writes it.
        position: String,
    },
    /// At an offset of each partition; a partition that is not named begins with its oldest record.
    Offsets {
        /// The offsets.
        offsets: Vec<StartOffset>,
    },
    /// Where another connector stands.
    Connector {
        /// The other connector.
        #[schema(value_type = Uuid)]
        connector: C,
    },
}

/// What the interface's description is made of: ids are text with a format there.
type Described = Start<String>;

/// A connector that carries changes of tables into topics.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
#[schema(bound = "")]
pub struct SourceDefinition<C = Uuid> {
    /// The connection it reads through.
    #[schema(value_type = Uuid)]
    pub connection: C,
    /// The tables that were chosen one by one.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub tables: Vec<CapturedTable>,
    /// Tables that are captured because of their names, also those made later.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub patterns: Option<TablePatterns>,
    /// Partitions for the topics it makes.
    pub partitions: i32,
    /// How the rows that exist are copied.
    #[serde(default, skip_serializing_if = "is_default")]
    pub load: InitialLoad,
    /// What becomes of rows that are in its topics already when it begins; none if that was not said, and they are kept.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub existing_rows: Option<ExistingRows>,
    /// How its records are written.
    #[serde(default, skip_serializing_if = "is_default")]
    pub values: Values,
    /// Where it begins; none for now.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<Described>)]
    pub start: Option<Start<C>>,
    /// The topic for changes of the tables' columns; none where they are not told.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub schema_changes: Option<String>,
    /// What happens to rows on their way, by the table's `schema.table`.
    #[serde(default, skip_serializing_if = "is_default")]
    pub shape: Shapes,
    /// Where it may run.
    #[serde(default, skip_serializing_if = "is_default")]
    pub placing: Placing,
    /// What happens when something fails.
    #[serde(default, skip_serializing_if = "is_default")]
    pub failing: Failing,
}

fn is_default<T: Default + PartialEq>(value: &T) -> bool {
    *value == T::default()
}

impl SourceDefinition {
    /// Whole tables with all settings as they usually are.
    #[must_use]
    pub fn of(connection: Uuid, tables: Vec<CapturedTable>, partitions: i32) -> Self {
        Self {
            connection,
            tables,
            patterns: None,
            partitions,
            load: InitialLoad::default(),
            existing_rows: None,
            values: Values::default(),
            start: None,
            schema_changes: None,
            shape: Shapes::default(),
            placing: Placing::default(),
            failing: Failing::default(),
        }
    }

    /// Whether a table, given as `schema.table`, is captured because of its name alone.
    #[must_use]
    pub fn finds(&self, qualified: &str) -> bool {
        let (schema, table) = qualified.split_once('.').unwrap_or(("", qualified));
        self.patterns.as_ref().is_some_and(|patterns| patterns.covers(schema, table))
            && !self.tables.iter().any(|table| table.qualified() == qualified)
    }
}

/// What a sink's table holds.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum TargetRows {
    /// The rows as they are now, by key.
    #[default]
    Current,
    /// One more row for every row that was loaded, inserted or updated.
    Appended,
    /// One row for every change: kind, time, position, the row before and after it.
    Changes,
    /// Every state a row was in, with the time from and to which it was.
    History,
}

/// What becomes of a row in the target when it is deleted in the source.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum Deletes {
    /// It goes there as well.
    #[default]
    Applied,
    /// It stays, and the time of its deletion stands beside it.
    Marked,
    /// It stays as it was.
    Ignored,
}

/// What a sink does by itself when the columns of its topics change.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum TargetColumns {
    /// Nothing: what the target lacks is left out, and the statement is shown.
    Ask,
    /// It adds columns; what else is needed is shown.
    #[default]
    Add,
    /// It adds columns, and gives those that have become wider a wider type.
    Widen,
}

/// How often a record reaches the target whatever fails, by where and when the position is kept.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Guarantee {
    /// Neither lost nor doubled: the position is kept in the target, in the rows' own transaction.
    #[default]
    ExactlyOnce,
    /// Never lost, perhaps doubled: Gonvel keeps the position, and moves it once the rows are there.
    AtLeastOnce,
    /// Never doubled, perhaps lost: Gonvel keeps the position, and moves it before the rows are there.
    AtMostOnce,
}

impl Guarantee {
    /// Whether the target holds the position.
    #[must_use]
    pub fn in_target(self) -> bool {
        self == Self::ExactlyOnce
    }
}

/// How a sink writes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Writes {
    /// What the tables hold.
    #[serde(default)]
    pub rows: TargetRows,
    /// What becomes of deleted rows.
    #[serde(default)]
    pub deletes: Deletes,
    /// What happens when columns change.
    #[serde(default)]
    pub columns: TargetColumns,
    /// Whether a transaction of the source becomes visible in the target as a whole, across the sink's tables.
    #[serde(default)]
    pub whole_transactions: bool,
    /// How often a record arrives whatever fails.
    #[serde(default)]
    pub guarantee: Guarantee,
}

impl Writes {
    /// Whether the tables hold rows by their keys, which later changes of a row change: as it is now, or in every state that it was in.
    #[must_use]
    pub fn keeps_rows(self) -> bool {
        matches!(self.rows, TargetRows::Current | TargetRows::History)
    }
}

/// A connector that carries topics into tables.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
#[schema(bound = "")]
pub struct SinkDefinition<C = Uuid> {
    /// The connection it writes through.
    #[schema(value_type = Uuid)]
    pub connection: C,
    /// What it delivers.
    pub topics: Vec<DeliveredTopic>,
    /// How it writes.
    #[serde(default, skip_serializing_if = "is_default")]
    pub writes: Writes,
    /// What becomes of rows that are in its tables already when it begins; none if that was not said, and they are kept.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub existing_rows: Option<ExistingRows>,
    /// Where it begins; none for the oldest records.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<Described>)]
    pub start: Option<Start<C>>,
    /// What happens to rows on their way, by topic.
    #[serde(default, skip_serializing_if = "is_default")]
    pub shape: Shapes,
    /// Where it may run, and in how many lanes.
    #[serde(default, skip_serializing_if = "is_default")]
    pub placing: Placing,
    /// What happens when something fails.
    #[serde(default, skip_serializing_if = "is_default")]
    pub failing: Failing,
}

impl SinkDefinition {
    /// Current rows, from the oldest record on.
    #[must_use]
    pub fn of(connection: Uuid, topics: Vec<DeliveredTopic>) -> Self {
        Self {
            connection,
            topics,
            writes: Writes::default(),
            existing_rows: None,
            start: None,
            shape: Shapes::default(),
            placing: Placing::default(),
            failing: Failing::default(),
        }
    }
}

/// A topic that is read, and the topic that its rows go to.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct CarriedTopic {
    /// The topic that is read.
    pub topic: String,
    /// The topic that is written, unless a step routes a row elsewhere.
    pub to: String,
    /// How its records become rows, where they are events and no changes of a table.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rows: Option<EventRows>,
    /// The registered schema that its rows are written under; none for a schema of their own.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub fit: Option<Fit>,
}

impl CarriedTopic {
    /// What it is called in the connector: the topic, with the types of its records where only those are read.
    #[must_use]
    pub fn name(&self) -> String {
        read_name(&self.topic, self.rows.as_ref())
    }

    fn read(&self) -> ReadTopic<'_> {
        ReadTopic { name: self.name(), topic: &self.topic, rows: self.rows.as_ref(), to: self.to.clone() }
    }
}

/// A topic as a connector reads it.
#[derive(Debug, Clone)]
pub struct ReadTopic<'d> {
    /// What it is called in the connector; its steps are given by it.
    pub name: String,
    /// The topic.
    pub topic: &'d str,
    /// How its records become rows, where they are events.
    pub rows: Option<&'d EventRows>,
    /// Where its rows go: `schema.table`, or a topic.
    pub to: String,
}

/// A connector that carries topics into topics.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
#[schema(bound = "")]
pub struct TopicsDefinition<C = Uuid> {
    /// What it carries.
    pub carries: Vec<CarriedTopic>,
    /// Partitions for the topics it makes.
    pub partitions: i32,
    /// How its records are written.
    #[serde(default, skip_serializing_if = "is_default")]
    pub values: Values,
    /// Where it begins; none for the oldest records.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<Described>)]
    pub start: Option<Start<C>>,
    /// What happens to rows on their way, by the topic that is read.
    #[serde(default, skip_serializing_if = "is_default")]
    pub shape: Shapes,
    /// Where it may run.
    #[serde(default, skip_serializing_if = "is_default")]
    pub placing: Placing,
    /// What happens when something fails.
    #[serde(default, skip_serializing_if = "is_default")]
    pub failing: Failing,
}

impl TopicsDefinition {
    /// All rows as they are, from the oldest record on.
    #[must_use]
    pub fn of(carries: Vec<CarriedTopic>, partitions: i32) -> Self {
        let (values, shape) = (Values::default(), Shapes::default());
        Self { carries, partitions, values, start: None, shape, placing: Placing::default(), failing: Failing::default() }
    }
}

/// What a connector is to do, as given by a person.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(tag = "kind", rename_all = "lowercase")]
pub enum Definition {
    /// Carries changes of tables into topics.
    Source(SourceDefinition),
    /// Carries topics into tables.
    Sink(SinkDefinition),
    /// Carries topics into topics.
    Topics(TopicsDefinition),
}

impl From<TopicsDefinition> for Definition {
    fn from(topics: TopicsDefinition) -> Self {
        Self::Topics(topics)
    }
}

impl From<SourceDefinition> for Definition {
    fn from(source: SourceDefinition) -> Self {
        Self::Source(source)
    }
}

impl From<SinkDefinition> for Definition {
    fn from(sink: SinkDefinition) -> Self {
        Self::Sink(sink)
    }
}

impl Definition {
    /// The connection it uses; none where it carries between topics.
    #[must_use]
    pub fn connection(&self) -> Option<Uuid> {
        match self {
            Self::Source(source) => Some(source.connection),
            Self::Sink(sink) => Some(sink.connection),
            Self::Topics(_) => None,
        }
    }

    /// The connection to the system that holds a sink's position; none where Gonvel holds it.
    #[must_use]
    pub fn position_in(&self) -> Option<Uuid> {
        match self {
            Self::Sink(sink) if sink.writes.guarantee.in_target() => Some(sink.connection),
            _ => None,
        }
    }

    /// Whether it reads a topic's records to carry them on.
    #[must_use]
    pub fn reads(&self, topic: &str) -> bool {
        match self {
            Self::Source(_) => false,
            Self::Sink(sink) => sink.topics.iter().any(|t| t.topic == topic),
            Self::Topics(topics) => topics.carries.iter().any(|t| t.topic == topic),
        }
    }

    /// The topics that it reads, in their order; one may stand several times, for records of other types each time.
    #[must_use]
    pub fn read_topics(&self) -> Vec<ReadTopic<'_>> {
        match self {
            Self::Source(_) => Vec::new(),
            Self::Sink(sink) => sink.topics.iter().map(DeliveredTopic::read).collect(),
            Self::Topics(topics) => topics.carries.iter().map(CarriedTopic::read).collect(),
        }
    }

    /// All connections that it uses: the one of its system, and those that its lookups read through.
    #[must_use]
    pub fn connections(&self) -> Vec<Uuid> {
        let lookups = self.shape().references().into_iter().filter_map(|reference| reference.table);
        let ids = lookups.filter_map(|table| Uuid::parse_str(&table.connection).ok());
        self.connection().into_iter().chain(ids).collect()
    }

    /// Where it begins, if that was said.
    #[must_use]
    pub fn start(&self) -> Option<&Start> {
        match self {
            Self::Source(source) => source.start.as_ref(),
            Self::Sink(sink) => sink.start.as_ref(),
            Self::Topics(topics) => topics.start.as_ref(),
        }
    }

    /// Where it may run.
    #[must_use]
    pub fn placing(&self) -> &Placing {
        match self {
            Self::Source(source) => &source.placing,
            Self::Sink(sink) => &sink.placing,
            Self::Topics(topics) => &topics.placing,
        }
    }

    /// What happens when something fails.
    #[must_use]
    pub fn failing(&self) -> &Failing {
        match self {
            Self::Source(source) => &source.failing,
            Self::Sink(sink) => &sink.failing,
            Self::Topics(topics) => &topics.failing,
        }
    }

    /// What happens to rows on their way.
    #[must_use]
    pub fn shape(&self) -> &Shapes {
        match self {
            Self::Source(source) => &source.shape,
            Self::Sink(sink) => &sink.shape,
            Self::Topics(topics) => &topics.shape,
        }
    }

    /// `source`, `sink` or `topics`.
    #[must_use]
    pub fn kind(&self) -> &'static str {
        match self {
            Self::Source(_) => "source",
            Self::Sink(_) => "sink",
            Self::Topics(_) => "topics",
        }
    }
}
