//! Schemas.

use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

use crate::{Language, Rule, SchemaReference};

/// A topic bound to a schema.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SchemaBinding {
    /// The topic.
    pub topic: String,
    /// `key` or `value`.
    pub role: String,
    /// Whether records that do not fit are refused.
    pub required: bool,
}

/// What is said of a schema.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SchemaAbout {
    /// Its name.
    pub name: String,
    /// The language of all its versions.
    pub language: Language,
    /// What it is for.
    pub description: String,
    /// Who answers for it.
    pub owner: String,
    /// Words to find it by.
    pub labels: Vec<String>,
    /// Its rule.
    pub rule: Rule,
    /// When it was retired; a retired schema takes no more versions.
    #[schema(format = DateTime)]
    pub retired_at: Option<String>,
}

/// A schema in a list.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SchemaSummary {
    /// What is said of it.
    #[serde(flatten)]
    pub about: SchemaAbout,
    /// Its latest version.
    pub version: Option<i32>,
    /// When that was registered.
    #[schema(format = DateTime)]
    pub latest_at: Option<String>,
    /// Topics bound to it.
    pub topics: Vec<SchemaBinding>,
    /// Fields that the search found.
    #[serde(default)]
    pub fields: Vec<String>,
}

/// Which schemas to list.
#[derive(Debug, Clone, Default, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct SchemaQuery {
    /// What their name, description, owner, labels or fields contain.
    #[serde(default)]
    pub search: String,
}

/// A version of a schema.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SchemaVersion {
    /// Its number among all versions of all schemas: what records say.
    pub id: i64,
    /// Counts a schema's versions, from 1.
    pub version: i32,
    /// The text as it was written.
    pub text: String,
    /// The versions it names types of.
    pub references: Vec<SchemaReference>,
    /// In hexadecimal digits: CRC-64-AVRO of an Avro schema's canonical form, of another's text the first eight bytes of its SHA-256.
    pub fingerprint: String,
    /// SHA-256 of an Avro schema's canonical form, or of another's text, in hexadecimal digits.
    pub sha256: String,
    /// Who registered it.
    pub author: String,
    /// Why.
    pub why: String,
    /// When.
    #[schema(format = DateTime)]
    pub created_at: String,
}

/// The version that a record was written with.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SchemaOfRecord {
    /// The schema's name.
    pub name: String,
    /// Its version.
    pub version: i32,
}

/// What reads or writes by a schema.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
pub struct SchemaUses {
    /// Topics bound to it.
    pub topics: Vec<SchemaBinding>,
    /// Connectors that write those topics.
    pub written_by: Vec<String>,
    /// Connectors that read those topics.
    pub read_by: Vec<String>,
    /// Readers of those topics.
    pub readers: Vec<String>,
    /// Schemas that name types of it.
    pub schemas: Vec<String>,
}

/// A schema with its versions.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Schema {
    /// What is said of it.
    #[serde(flatten)]
    pub about: SchemaAbout,
    /// Counts the changes of what is said of it.
    pub revision: i32,
    /// Its versions, the newest first.
    pub versions: Vec<SchemaVersion>,
    /// What reads or writes by it.
    pub uses: SchemaUses,
}

/// A schema to make.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewSchema {
    /// Its name: letters, digits, `.`, `-` and `_`.
    pub name: String,
    /// The language of all its versions.
    pub language: Language,
    /// The first version's text.
    pub text: String,
    /// The versions it names types of.
    #[serde(default)]
    pub references: Vec<SchemaReference>,
    /// What it is for.
    #[serde(default)]
    pub description: String,
    /// Who answers for it.
    #[serde(default)]
    pub owner: String,
    /// Words to find it by.
    #[serde(default)]
    pub labels: Vec<String>,
    /// Its rule.
    #[serde(default)]
    pub rule: Rule,
    /// Who makes it.
    #[serde(default)]
    pub author: String,
    /// Why.
    #[serde(default)]
    pub why: String,
}

/// What is to be said of a schema from now on.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SchemaEdit {
    /// What it is for.
    pub description: String,
    /// Who answers for it.
    pub owner: String,
    /// Words to find it by.
    pub labels: Vec<String>,
    /// Its rule.
    pub rule: Rule,
    /// Whether it is to take no more versions.
    pub retired: bool,
}

/// A text to check or to register as the next version.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SchemaText {
    /// The text.
    pub text: String,
    /// The versions it names types of.
    #[serde(default)]
    pub references: Vec<SchemaReference>,
    /// Who registers it.
    #[serde(default)]
    pub author: String,
    /// Why.
    #[serde(default)]
    pub why: String,
}

/// The number of a version that was registered.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Registered {
    /// Its number; that of an earlier version if its text is the same.
    pub version: i32,
}

/// What is wrong with a schema's text. Lines and columns count from 1.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct SchemaFault {
    /// Line.
    pub line: usize,
    /// Column.
    pub column: usize,
    /// What is wrong.
    pub finding: String,
}

/// Why data written with one version cannot be read with another.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SchemaMisfit {
    /// Where in the reading version, as a path of names.
    pub path: String,
    /// The rule of the language's specification that is not met.
    pub rule: String,
    /// What was found.
    pub finding: String,
    /// A change that would make it pass.
    pub remedy: String,
    /// Whether it is not known to be one: the schemas cannot be compared there. A rule refuses what cannot be judged.
    pub unknown: bool,
}

/// Where a new version does not keep the schema's rule.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SchemaBreach {
    /// `reads_past` or `past_reads`.
    pub half: String,
    /// The earlier version.
    pub version: i32,
    /// What does not fit.
    pub misfits: Vec<SchemaMisfit>,
}

/// A change between two versions, in words.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SchemaDifference {
    /// Where, as a path of names.
    pub path: String,
    /// What happened there.
    pub words: String,
    /// What it breaks, in a few words; none if nothing.
    pub breaks: Option<String>,
    /// What keeps the earlier version from reading data of the later one there.
    pub past_reads: Vec<SchemaMisfit>,
    /// What keeps the later version from reading data of the earlier one there.
    pub reads_past: Vec<SchemaMisfit>,
}

/// A record that the draft could not read.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct UnreadableRecord {
    /// Its partition.
    pub partition: i32,
    /// Its offset.
    pub offset: i64,
    /// The version it was written with.
    pub version: Option<i32>,
    /// Why.
    pub finding: String,
}

/// A topic's newest records, read by the draft.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Trial {
    /// The topic.
    pub topic: String,
    /// `key` or `value`.
    pub role: String,
    /// Records that were tried.
    pub tried: i64,
    /// Those that could not be read.
    pub failed: i64,
    /// The first few of them.
    pub first: Vec<UnreadableRecord>,
}

/// What uses fields that change.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct AffectedUse {
    /// `source`, `sink`, `topics` (a connector between topics), `shape` (a connector's steps) or `reader`.
    pub kind: String,
    /// Its name.
    pub name: String,
    /// The topic it reads or writes.
    pub topic: String,
    /// The fields that change, as far as it uses them; all that change if it does not say which it uses.
    pub fields: Vec<String>,
    /// What the change comes to for it.
    pub meaning: String,
    /// The statement that a sink's table would need.
    pub statement: Option<String>,
}

/// What a text would be as the next version.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SchemaVerdict {
    /// Whether it could be registered.
    pub passes: bool,
    /// What is wrong with the text; nothing else is said then.
    pub fault: Option<SchemaFault>,
    /// The version that has the same text already.
    pub same_as: Option<i32>,
    /// Where it does not keep the rule.
    pub breaches: Vec<SchemaBreach>,
    /// What changes from the latest version.
    pub differences: Vec<SchemaDifference>,
}

/// What a text would do as the next version, before it is registered.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SchemaImpact {
    /// What uses the fields that change.
    pub uses: Vec<AffectedUse>,
    /// The newest records of the topics bound to the schema, read by the text.
    pub trials: Vec<Trial>,
}

/// Which two versions to compare.
#[derive(Debug, Clone, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct DifferenceQuery {
    /// The earlier one.
    pub from: i32,
    /// The later one.
    pub to: i32,
}

/// How a topic's keys or values are bound to a schema.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct BindingRequest {
    /// The schema.
    pub schema: String,
    /// Whether records that do not fit are refused.
    #[serde(default)]
    pub required: bool,
}

/// From what a schema is to be inferred: a topic, a table, or values that are sent along.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case", deny_unknown_fields)]
pub enum InferSource {
    /// The newest values of a topic.
    Topic(InferTopic),
    /// A table of a database.
    Table(InferTable),
    /// Values as JSON Lines or as a JSON list.
    Sample(String),
}

/// Newest values of a topic.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct InferTopic {
    /// The topic.
    pub name: String,
    /// Values to look at, at most; 1000 if it is left out.
    pub records: Option<i64>,
}

/// A table of a database.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct InferTable {
    /// The connection, by its number.
    pub connection: uuid::Uuid,
    /// The table's schema in the database.
    pub schema: String,
    /// The table.
    pub table: String,
}

/// A schema to infer.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct InferRequest {
    /// The language to write it in: Avro or JSON Schema.
    pub language: Language,
    /// The name of its outermost type.
    #[serde(default)]
    pub name: String,
    /// From what.
    pub from: InferSource,
}

/// An inferred schema.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Inferred {
    /// Its text.
    pub text: String,
    /// Values that were looked at; none for a table, whose columns say it.
    pub values: Option<i64>,
}
