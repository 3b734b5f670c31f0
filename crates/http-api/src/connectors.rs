//! Connectors and how they are doing.

use gonvel_core::connector::ExistingRows;
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};
use uuid::Uuid;

use crate::{CapturedTable, ConnectorKind, Definition, State, Values};

/// Tables to be loaded again.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ReloadRequest {
    /// The tables, as `schema.table`.
    pub tables: Vec<String>,
    /// What becomes of the rows that are in their topics.
    #[serde(default)]
    pub existing_rows: ExistingRows,
}

/// A new connector.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ConnectorRequest {
    /// Its name: letters, digits, `.`, `-`, `_`.
    pub name: String,
    /// What it does.
    pub definition: Definition,
    /// Whether to start it at once; otherwise it is saved as a draft, which need not pass its preflight.
    pub start: bool,
    /// Whether a draft is to pass its preflight all the same: it is made only if all it needs is there, and its report is kept.
    #[serde(default)]
    pub checked: bool,
    /// The unfinished draft that it was, which is removed as the connector is made.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub draft: Option<Uuid>,
}

/// A remedy to be carried out.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct MendRequest {
    /// The connector, saved or not.
    pub connector: ConnectorRequest,
    /// The name of the check whose statement is to be run.
    pub check: String,
}

/// Counts of changes by kind.
#[derive(Debug, Clone, Copy, Default, Serialize, Deserialize, ToSchema)]
pub struct Counts {
    /// Rows read by initial loads.
    pub load: u64,
    /// Inserts.
    pub insert: u64,
    /// Updates.
    pub update: u64,
    /// Deletes.
    pub delete: u64,
    /// Truncates.
    pub truncate: u64,
}

/// How far a connector is with one table or topic.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct TableProgress {
    /// A source's table or a sink's topic.
    pub from: String,
    /// A source's topic or a sink's table.
    pub to: String,
    /// The types of the topic's records that go there, where it holds several; empty for all.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub types: String,
    /// Counts by kind. A topic's records are counted together, with the first of their types.
    pub counts: Counts,
    /// Whether its records are counted with another type of the same topic.
    #[serde(default)]
    pub counted_above: bool,
    /// Rows the load expects, while it is not done.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub load_total: Option<u64>,
    /// Rows the load has read, while it is not done.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub load_done: Option<u64>,
}

/// How a connector or one of its lanes is doing.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Condition {
    /// Its state.
    pub state: State,
    /// Since when.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(format = DateTime)]
    pub since: Option<String>,
    /// Why, if something is wrong.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub reason: Option<String>,
    /// When it tries again.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(format = DateTime)]
    pub retry_at: Option<String>,
    /// Changes per second over the last seconds.
    pub rate_per_s: f64,
    /// Records not yet handled.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub lag_records: Option<i64>,
}

/// A lane of a connector.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Lane {
    /// Its number, from 0.
    pub lane: i32,
    /// The runner that it is planned for; none where nobody carries it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub runner: Option<String>,
    /// How it is doing.
    #[serde(flatten)]
    pub condition: Condition,
}

/// A connector and how it is doing.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Connector {
    /// Its id.
    pub id: Uuid,
    /// Its name.
    pub name: String,
    /// `source` or `sink`.
    pub kind: String,
    /// What it does.
    pub definition: Definition,
    /// The system at its outer end: the connection's name.
    pub system: String,
    /// How it is doing: as its gravest lane, all together.
    #[serde(flatten)]
    pub condition: Condition,
    /// Whether it is being deleted.
    pub deleting: bool,
    /// Commit in the source to done here, of the latest change, in milliseconds.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub latency_ms: Option<f64>,
    /// Age of the oldest change not yet handled, in milliseconds.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub lag_ms: Option<f64>,
    /// Where it stands in its source.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub position: Option<String>,
    /// The delivery guarantee it gives, and why, in a sentence.
    pub guarantee: String,
    /// Its configuration's version.
    pub version: i32,
    /// When it was made.
    #[schema(format = DateTime)]
    pub created_at: String,
    /// Progress by table or topic.
    pub tables: Vec<TableProgress>,
    /// Its lanes.
    pub lanes: Vec<Lane>,
    /// Records of it that wait in quarantine.
    pub quarantined: i64,
    /// Records that were forgotten before it delivered them, and that it passed over because it was told to.
    pub passed_over: i64,
    /// What should be known of it though it runs: tables it does not capture, columns its target lacks.
    pub notes: Vec<String>,
}

/// Another definition for a connector.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ConnectorChange {
    /// What the connector is to do.
    pub definition: Definition,
}

/// One consequence of a change.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Consequence {
    /// In a word: `starts_anew`, `loads_new`, `follows_new`, `loads_again`, `lets_go`, `delivers_new`, `empties_new`,
    /// `compares_new`, `takes_more`, `writes_otherwise`.
    pub kind: String,
    /// In a sentence.
    pub says: String,
    /// The tables or topics it concerns; empty for all.
    pub concerns: Vec<String>,
}

/// A version of a connector's definition.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ConnectorVersion {
    /// Its number, from 1.
    pub version: i32,
    /// What the connector was to do.
    pub definition: Definition,
    /// The same as a manifest.
    pub manifest: String,
    /// When it was made.
    #[schema(format = DateTime)]
    pub made_at: String,
}

/// A manifest's text.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ManifestText {
    /// YAML.
    pub text: String,
}

/// A connector without a state.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NamedDefinition {
    /// Its name.
    pub name: String,
    /// What it does.
    pub definition: Definition,
}

/// What is wrong in a manifest, and where.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ManifestFault {
    /// Line, from 1.
    pub line: usize,
    /// Column, from 1.
    pub column: usize,
    /// What was found, and what fits.
    pub finding: String,
}

/// What a manifest's text says.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ManifestReading {
    /// The connector, if it can be read.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub connector: Option<NamedDefinition>,
    /// What is wrong, if anything.
    pub faults: Vec<ManifestFault>,
}

/// Which rows to show, and how they would be written.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SampleRequest {
    /// The table as it would be captured.
    pub table: CapturedTable,
    /// How its records would be written.
    #[serde(default)]
    pub values: Values,
}

/// A column of a sample.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct SampleColumn {
    /// Its name.
    pub name: String,
    /// Its type in the source.
    pub source_type: String,
    /// Whether it is part of the key.
    pub key: bool,
    /// Whether it is captured.
    pub captured: bool,
}

/// One row of a sample.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct SampleRow {
    /// Its columns as the source writes them, in the order of the columns; none for null.
    pub cells: Vec<Option<String>>,
    /// The key of its record.
    pub key: serde_json::Value,
    /// The value of its record.
    pub value: serde_json::Value,
    /// Bytes of its record's key and value.
    pub bytes: usize,
}

/// Rows of a table as they are now, and the records they would become.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct RowSample {
    /// All columns of the table.
    pub columns: Vec<SampleColumn>,
    /// A few rows.
    pub rows: Vec<SampleRow>,
}

/// How a sink would write.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct DeliverySampleRequest {
    /// How it writes.
    pub writes: crate::Writes,
    /// How the topic's records become rows, where they are events and no changes of a table.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rows: Option<gonvel_core::event_rows::EventRows>,
}

/// A row that records would become in a target.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct DeliverySampleRow {
    /// What happens to it: `written`, `removed`, `marked as deleted`, `ended`.
    pub how: String,
    /// Its columns in order.
    #[schema(value_type = Object)]
    pub cells: serde_json::Value,
}

/// What a topic's newest records would become in a target.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct DeliverySample {
    /// Records that were looked at.
    pub records: i64,
    /// The rows they become.
    pub rows: Vec<DeliverySampleRow>,
    /// Why they become none.
    pub finding: Option<String>,
}

/// What to do with a connector.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum Action {
    /// Start, or go on after a pause or halt.
    Start,
    /// Hold it where it is; its runner keeps its place for it.
    Pause,
    /// Stop it; its place in its system is kept.
    Stop,
    /// Start its lanes anew where they stand.
    Restart,
}

/// An action on a connector.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ActionRequest {
    /// What to do.
    pub action: Action,
    /// The lane that is started anew; all without it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub lane: Option<i32>,
}

/// Which connectors.
#[derive(Debug, Clone, Default, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(default)]
pub struct ConnectorsQuery {
    /// Only those with this text in their names, in capitals or not.
    pub search: Option<String>,
    /// Only those of this kind: `source`, `sink` or `topics`.
    pub kind: Option<ConnectorKind>,
    /// Only those in this state.
    pub state: Option<State>,
    /// Only those of this connection: its name.
    pub system: Option<String>,
    /// Only those that write or read this topic.
    pub topic: Option<String>,
    /// What they are in order of.
    #[param(inline)]
    pub order: ConnectorOrder,
    /// The other way round.
    pub descending: bool,
}

/// What connectors are in order of.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum ConnectorOrder {
    /// Their names.
    #[default]
    Name,
    /// When they were made.
    CreatedAt,
    /// Their latency; those without one first.
    LatencyMs,
    /// Their lag; those without one first.
    LagMs,
    /// How many of their records wait in quarantine.
    Quarantined,
}
