//! Schemas with their versions, and the topics they are bound to.

mod changing;
mod fields;
mod reading;
mod registering;

pub(crate) use fields::note_fields;

use chrono::{DateTime, Utc};
use diesel::prelude::*;
use diesel::result::Error;
use diesel_async::{AsyncPgConnection, RunQueryDsl};
use gonvel_core::schemas::{Half, Language, Rule, SchemaReference, Standalone};

use crate::schema::{schema_versions, schemas};

/// A schema without its versions' texts.
#[derive(Debug, Clone)]
pub struct StoredSchema {
    /// Its number.
    pub id: i64,
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
    /// Counts the changes of what stands above.
    pub revision: i32,
    /// Whether it takes no more versions.
    pub retired_at: Option<DateTime<Utc>>,
}

/// A version of a schema.
#[derive(Debug, Clone)]
pub struct StoredVersion {
    /// Its number among all versions of all schemas: what records say.
    pub id: i64,
    /// Counts a schema's versions, from 1.
    pub version: i32,
    /// The text as it was written.
    pub text: String,
    /// The text by which values are read.
    pub standalone: String,
    /// The versions it names types of.
    pub refers: Vec<SchemaReference>,
    /// See [`Standalone::fingerprint`].
    pub fingerprint: u64,
    /// Who registered it.
    pub author: String,
    /// Why.
    pub why: String,
    /// When.
    pub created_at: DateTime<Utc>,
}

/// What people say of a schema.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct About {
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

/// A text to register.
#[derive(Debug, Clone)]
pub struct NewText<'a> {
    /// The text.
    pub text: &'a str,
    /// What it was parsed to.
    pub parsed: &'a Standalone,
    /// The versions it names types of.
    pub refers: &'a [SchemaReference],
    /// Who registers it.
    pub author: &'a str,
    /// Why.
    pub why: &'a str,
}

/// A topic bound to a schema.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Binding {
    /// The topic.
    pub topic: String,
    /// `key` or `value`.
    pub role: String,
    /// Whether records that do not fit are refused.
    pub required: bool,
}

/// A version of the schema that a topic's keys or values are bound to.
#[derive(Debug, Clone)]
pub struct SchemaVersion {
    /// Its number among all.
    pub id: i64,
    /// The schema's name.
    pub name: String,
    /// The schema's language.
    pub language: Language,
    /// `key` or `value`.
    pub role: String,
    /// Whether records that do not fit are refused.
    pub required: bool,
    /// Counts a schema's versions, from 1.
    pub version: i32,
    /// The text by which values are read.
    pub text: String,
    /// See [`Standalone::fingerprint`].
    pub fingerprint: u64,
}

/// A schema in a list.
#[derive(Debug, Clone)]
pub struct ListedSchema {
    /// The schema.
    pub schema: StoredSchema,
    /// Its latest version; none if it has none yet.
    pub latest: Option<(i32, DateTime<Utc>)>,
    /// Topics bound to it.
    pub topics: Vec<Binding>,
    /// Fields that the search found, at most a few.
    pub fields: Vec<String>,
}

#[derive(Queryable)]
struct Row {
    id: i64,
    name: String,
    language: String,
    description: String,
    owner: String,
    labels: Vec<String>,
    reads_past: String,
    past_reads: String,
    revision: i32,
    _created_at: DateTime<Utc>,
    retired_at: Option<DateTime<Utc>>,
}

fn half(word: &str) -> Half {
    match word {
        "latest" => Half::Latest,
        "all" => Half::All,
        _ => Half::Off,
    }
}

fn half_word(half: Half) -> &'static str {
    match half {
        Half::Off => "off",
        Half::Latest => "latest",
        Half::All => "all",
    }
}

fn stored(row: Row) -> StoredSchema {
    StoredSchema {
        id: row.id,
        name: row.name,
        language: Language::of(&row.language).unwrap_or(Language::Avro),
        description: row.description,
        owner: row.owner,
        labels: row.labels,
        rule: Rule { reads_past: half(&row.reads_past), past_reads: half(&row.past_reads) },
        revision: row.revision,
        retired_at: row.retired_at,
    }
}

type VersionRow = (i64, i32, String, Option<String>, serde_json::Value, i64, String, String, DateTime<Utc>);

fn version((id, version, text, standalone, refers, print, author, why, created_at): VersionRow) -> StoredVersion {
    let standalone = standalone.unwrap_or_else(|| text.clone());
    let refers = serde_json::from_value(refers).unwrap_or_default();
    StoredVersion { id, version, text, standalone, refers, fingerprint: print.cast_unsigned(), author, why, created_at }
}

async fn by_name(c: &mut AsyncPgConnection, name: &str) -> Result<Option<StoredSchema>, Error> {
    Ok(schemas::table.filter(schemas::name.eq(name)).first::<Row>(c).await.optional()?.map(stored))
}

async fn versions_of(c: &mut AsyncPgConnection, id: i64) -> Result<Vec<StoredVersion>, Error> {
    use schema_versions as v;
    let rows: Vec<VersionRow> = v::table
        .filter(v::schema_id.eq(id))
        .order(v::version)
        .select((v::id, v::version, v::text, v::standalone, v::refers, v::fingerprint, v::author, v::why, v::created_at))
        .load(c)
        .await?;
    Ok(rows.into_iter().map(version).collect())
}
