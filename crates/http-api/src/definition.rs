//! What a connector is asked to do: the core's definition in the form of the API. The two say the same in JSON, which a test
//! of the server holds them to.

use std::collections::BTreeMap;

use gonvel_core::connector::{ExistingRows, Forgotten};
use gonvel_core::event_rows::EventRows;
use gonvel_core::fitting::Fit;
use gonvel_core::shape::Shapes;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use uuid::Uuid;

#[allow(clippy::trivially_copy_pass_by_ref, reason = "serde calls it with a reference")]
fn is_one(number: &u32) -> bool {
    *number == 1
}

fn one() -> u32 {
    1
}

impl Default for InitialLoad {
    fn default() -> Self {
        Self { rows: true, rows_per_second: None, chunks: 1 }
    }
}

/// Which tables are captured because of their names, and how their topics are called.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct TablePatterns {
    /// Patterns for `schema.table`; `*` stands for any characters, `?` for one.
    pub include: Vec<String>,
    /// Patterns for those that are left out all the same.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub exclude: Vec<String>,
    /// How topics are named, by `{system}`, `{schema}` and `{table}`.
    pub topic: String,
}

/// A table that a source captures, and the topic it writes.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct CapturedTable {
    /// Schema in the source.
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

/// A topic that a sink reads, and the table it writes.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct DeliveredTopic {
    /// The topic.
    pub topic: String,
    /// Schema in the target.
    pub schema: String,
    /// Table in the target.
    pub table: String,
    /// How its records become rows, where they are events and no changes of a table.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rows: Option<EventRows>,
}

/// How the rows that exist when a source connector starts are copied.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct InitialLoad {
    /// Whether they are; otherwise only what changes from then on is captured.
    pub rows: bool,
    /// Rows read a second at most; none for as fast as the source gives them.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rows_per_second: Option<u32>,
    /// Chunks read at a time, each by a session of its own.
    #[serde(default = "one")]
    pub chunks: u32,
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
#[serde(tag = "at", rename_all = "lowercase")]
pub enum Start {
    /// With what is kept longest.
    Earliest,
    /// With what comes next.
    Latest,
    /// With the first change or record at a time or after it.
    Time {
        /// RFC 3339.
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
        connector: Uuid,
    },
}

/// A connector that carries changes of tables into topics.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct SourceDefinition {
    /// The connection it reads through.
    pub connection: Uuid,
    /// The tables that were chosen one by one.
    pub tables: Vec<CapturedTable>,
    /// Tables that are captured because of their names, also those made later.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub patterns: Option<TablePatterns>,
    /// Partitions for the topics it makes.
    pub partitions: i32,
    /// How the rows that exist are copied.
    #[serde(default)]
    pub load: InitialLoad,
    /// What becomes of rows that are in its topics already when it begins; none if that was not said, and they are kept.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub existing_rows: Option<ExistingRows>,
    /// How its records are written.
    #[serde(default)]
    pub values: Values,
    /// Where it begins; none for now.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub start: Option<Start>,
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

/// How a sink writes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, ToSchema)]
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

/// A connector that carries topics into tables.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct SinkDefinition {
    /// The connection it writes through.
    pub connection: Uuid,
    /// What it delivers.
    pub topics: Vec<DeliveredTopic>,
    /// How it writes.
    #[serde(default)]
    pub writes: Writes,
    /// What becomes of rows that are in its tables already when it begins; none if that was not said, and they are kept.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub existing_rows: Option<ExistingRows>,
    /// Where it begins; none for the oldest records.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub start: Option<Start>,
    /// What happens to rows on their way, by topic.
    #[serde(default, skip_serializing_if = "is_default")]
    pub shape: Shapes,
    /// Where it may run.
    #[serde(default, skip_serializing_if = "is_default")]
    pub placing: Placing,
    /// What happens when something fails.
    #[serde(default, skip_serializing_if = "is_default")]
    pub failing: Failing,
}

/// A topic that is read, and the topic that its rows go to.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
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

/// A connector that carries topics into topics.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct TopicsDefinition {
    /// What it carries.
    pub carries: Vec<CarriedTopic>,
    /// Partitions for the topics it makes.
    pub partitions: i32,
    /// How its records are written.
    #[serde(default)]
    pub values: Values,
    /// Where it begins; none for the oldest records.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub start: Option<Start>,
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

fn is_default<T: Default + PartialEq>(value: &T) -> bool {
    *value == T::default()
}

/// Where a connector may run.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Placing {
    /// Labels that a runner must have to carry it.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub only_where: BTreeMap<String, String>,
    /// How much of a runner's room each of its lanes takes.
    #[serde(default = "one", skip_serializing_if = "is_one")]
    pub weight: u32,
    /// Lanes that share its work. A sink's partitions are shared out among them; a source has one.
    #[serde(default = "one", skip_serializing_if = "is_one")]
    pub lanes: u32,
}

impl Default for Placing {
    fn default() -> Self {
        Self { only_where: BTreeMap::new(), weight: 1, lanes: 1 }
    }
}

/// What becomes of a record that cannot be handled.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum BadRecords {
    /// It waits in quarantine, and what comes after it goes on.
    #[default]
    Quarantine,
    /// The lane halts before it.
    Halt,
}

/// What happens when something fails.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Failing {
    /// What becomes of a record that cannot be handled.
    #[serde(default)]
    pub records: BadRecords,
    /// Records in a row of one lane, all bad, after which it halts all the same.
    #[serde(default = "usual_in_a_row")]
    pub most_in_a_row: u32,
    /// Bad records of one lane within a minute after which it halts all the same.
    #[serde(default = "usual_a_minute")]
    pub most_a_minute: u32,
    /// Days that a record stays in quarantine.
    #[serde(default = "usual_days")]
    pub kept_days: u32,
    /// Tries after which a lane that fails halts; none for as many as it takes.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub most_tries: Option<u32>,
    /// Minutes of failing after which a lane halts; none for as long as it takes.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub most_minutes: Option<u32>,
    /// What happens when records were forgotten before they were delivered.
    #[serde(default)]
    pub forgotten: Forgotten,
}

fn usual_in_a_row() -> u32 {
    100
}

fn usual_a_minute() -> u32 {
    1_000
}

fn usual_days() -> u32 {
    30
}

impl Default for Failing {
    fn default() -> Self {
        Self {
            records: BadRecords::default(),
            most_in_a_row: usual_in_a_row(),
            most_a_minute: usual_a_minute(),
            kept_days: usual_days(),
            most_tries: None,
            most_minutes: None,
            forgotten: Forgotten::default(),
        }
    }
}
