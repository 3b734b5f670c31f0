//! Schemas with their versions, and the topics they are bound to.

use std::collections::HashMap;

use chrono::{DateTime, Utc};
use diesel::prelude::*;
use diesel::result::Error;
use diesel::sql_types::{Array, Int4, Int8, Nullable, Text, Timestamptz};
use diesel_async::{AsyncConnection, AsyncPgConnection, RunQueryDsl};
use gonvel_core::naming::{SchemaId, SchemaName, TopicName};
use gonvel_core::ports::PortError;
use gonvel_core::schemas::{self as core, Half, Language, Parsed, Reference, Rule, Standalone};
use serde::{Deserialize, Serialize};

use crate::Database;
use crate::database::failed;
use crate::schema::{schema_fields, schema_versions, schemas, topic_schemas, topics};

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
    pub refers: Vec<Refers>,
    /// See [`Standalone::fingerprint`].
    pub fingerprint: u64,
    /// Who registered it.
    pub author: String,
    /// Why.
    pub why: String,
    /// When.
    pub created_at: DateTime<Utc>,
}

/// A version that another one names types of.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Refers {
    /// The schema's name; in Protocol Buffers also the path that is imported.
    pub name: String,
    /// Its version.
    pub version: i32,
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
    /// The versions it names types of.
    pub refers: &'a [Refers],
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

/// Why a text is not taken: what the database says, or what it itself is.
enum Stop {
    Database(Error),
    Refused(PortError),
}

impl From<Error> for Stop {
    fn from(error: Error) -> Self {
        Self::Database(error)
    }
}

fn told(during: &'static str) -> impl Fn(Stop) -> PortError {
    move |stop| match stop {
        Stop::Database(error) => failed(during)(error),
        Stop::Refused(error) => error,
    }
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

/// What a text names types of, as it stands registered.
async fn references(c: &mut AsyncPgConnection, refers: &[Refers]) -> Result<Vec<Reference>, Stop> {
    let mut out = Vec::with_capacity(refers.len());
    for one in refers {
        let found: Option<(String, Option<String>)> = schema_versions::table
            .inner_join(schemas::table)
            .filter(schemas::name.eq(&one.name))
            .filter(schema_versions::version.eq(one.version))
            .select((schema_versions::text, schema_versions::standalone))
            .first(c)
            .await
            .optional()?;
        let Some((text, standalone)) = found else {
            return Err(Stop::Refused(PortError::NotFound {
                what: format!("version {} of the schema {}", one.version, one.name),
            }));
        };
        out.push(Reference { name: one.name.clone(), text: standalone.unwrap_or(text) });
    }
    Ok(out)
}

/// One registration for a schema at a time, so that versions have no gaps and the rule is checked against all before it.
async fn alone(c: &mut AsyncPgConnection, kind: &str, name: &str) -> Result<(), Error> {
    let lock = diesel::sql_query("SELECT pg_advisory_xact_lock(hashtext('schemas of ' || $1), hashtext($2))");
    lock.bind::<Text, _>(kind).bind::<Text, _>(name).execute(c).await.map(|_| ())
}

/// Notes the fields of schemas whose latest version was registered before fields were noted.
pub(crate) async fn note_fields(c: &mut AsyncPgConnection) -> Result<(), Error> {
    let rows: Vec<(i64, String, i32, String, Option<String>)> = schema_versions::table
        .inner_join(schemas::table)
        .filter(diesel::dsl::not(diesel::dsl::exists(schema_fields::table.filter(schema_fields::schema_id.eq(schemas::id)))))
        .order((schemas::id, schema_versions::version))
        .select((
            schemas::id,
            schemas::language,
            schema_versions::version,
            schema_versions::text,
            schema_versions::standalone,
        ))
        .load(c)
        .await?;
    for (schema, language, number, text, standalone) in rows {
        let language = Language::of(&language).unwrap_or(Language::Avro);
        if let Ok(parsed) = core::parse_standalone(language, standalone.as_ref().unwrap_or(&text)) {
            store_fields(c, schema, number, &parsed).await?;
        }
    }
    Ok(())
}

async fn store_fields(c: &mut AsyncPgConnection, schema: i64, version: i32, parsed: &Parsed) -> Result<(), Error> {
    diesel::sql_query(
        "INSERT INTO schema_fields (schema_id, path, last_version) SELECT $1, unnest($2), $3 \
         ON CONFLICT (schema_id, path) DO UPDATE SET last_version = excluded.last_version",
    )
    .bind::<Int8, _>(schema)
    .bind::<Array<Text>, _>(unique(core::field_paths(parsed)))
    .bind::<Int4, _>(version)
    .execute(c)
    .await
    .map(|_| ())
}

async fn make(c: &mut AsyncPgConnection, name: &str, language: Language, about: &About) -> Result<StoredSchema, Error> {
    let row: Row = diesel::insert_into(schemas::table)
        .values((
            schemas::name.eq(name),
            schemas::language.eq(language.word()),
            schemas::description.eq(&about.description),
            schemas::owner.eq(&about.owner),
            schemas::labels.eq(&about.labels),
            schemas::reads_past.eq(half_word(about.rule.reads_past)),
            schemas::past_reads.eq(half_word(about.rule.past_reads)),
        ))
        .get_result(c)
        .await?;
    Ok(stored(row))
}

/// Adds a version to a schema that is locked; the version that has this text already is given back.
async fn add(c: &mut AsyncPgConnection, schema: &StoredSchema, new: &NewText<'_>) -> Result<(i64, i32), Stop> {
    use schema_versions as v;
    let there: Option<(i64, i32)> = v::table
        .filter(v::schema_id.eq(schema.id))
        .filter(v::text.eq(new.text))
        .select((v::id, v::version))
        .first(c)
        .await
        .optional()?;
    if let Some(found) = there {
        return Ok(found);
    }
    if schema.retired_at.is_some() {
        return Err(Stop::Refused(PortError::Refused(format!(
            "the schema {} is retired and takes no more versions",
            schema.name
        ))));
    }
    let references = references(c, new.refers).await?;
    let refused = |text: String| Stop::Refused(PortError::Refused(text));
    let Standalone { text: standalone, parsed, fingerprint } =
        core::parse(schema.language, new.text, &references).map_err(|fault| refused(fault.to_string()))?;
    let mut last = v::table
        .filter(v::schema_id.eq(schema.id))
        .select(diesel::dsl::max(v::version))
        .get_result::<Option<i32>>(c)
        .await?;
    if schema.rule != Rule::default() {
        let earlier = versions_of(c, schema.id).await?;
        last = earlier.last().map(|v| v.version);
        let breaches = breaches(schema.language, schema.rule, &parsed, &earlier)?;
        if !breaches.is_empty() {
            let said: Vec<String> = breaches.iter().map(core::Breach::said).collect();
            return Err(refused(format!(
                "the new version of {} does not keep the schema's rule: {}",
                schema.name,
                said.join("; ")
            )));
        }
    }
    let number = last.unwrap_or(0) + 1;
    let id: i64 = diesel::insert_into(v::table)
        .values((
            v::schema_id.eq(schema.id),
            v::version.eq(number),
            v::text.eq(new.text),
            v::standalone.eq((standalone != new.text).then_some(standalone)),
            v::refers.eq(serde_json::to_value(new.refers).unwrap_or_default()),
            v::fingerprint.eq(fingerprint.cast_signed()),
            v::author.eq(new.author),
            v::why.eq(new.why),
        ))
        .returning(v::id)
        .get_result(c)
        .await?;
    store_fields(c, schema.id, number, &parsed).await?;
    Ok((id, number))
}

fn unique(mut paths: Vec<String>) -> Vec<String> {
    paths.sort_unstable();
    paths.dedup();
    paths
}

fn breaches(language: Language, rule: Rule, new: &Parsed, earlier: &[StoredVersion]) -> Result<Vec<core::Breach>, Stop> {
    let wanted =
        if rule.reads_past == Half::All || rule.past_reads == Half::All { 0 } else { earlier.len().saturating_sub(1) };
    let mut parsed = Vec::with_capacity(earlier.len());
    for past in &earlier[wanted..] {
        let fault = |fault: core::TextFault| {
            Stop::Refused(PortError::Refused(format!("version {} cannot be read: {fault}", past.version)))
        };
        parsed.push((past.version, core::parse_standalone(language, &past.standalone).map_err(fault)?));
    }
    let earlier: Vec<(i32, &Parsed)> = parsed.iter().map(|(version, parsed)| (*version, parsed)).collect();
    Ok(core::breaches(rule, new, &earlier))
}

/// Registers what a connector or a file brings for a topic: with the schema the topic is bound to, or with one of the topic's
/// name, which it is then bound to.
async fn register(
    database: &Database,
    topic: &TopicName,
    role: &str,
    language: Language,
    text: &str,
    author: &str,
) -> Result<SchemaId, PortError> {
    let mut connection = database.connection().await?;
    let found = connection
        .transaction::<i64, Stop, _>(async |c| {
            // first the topic, as the schema may not be there yet; all who lock both do it in this order
            alone(c, "topics", topic.as_str()).await?;
            let bound: Option<Row> = schemas::table
                .inner_join(topic_schemas::table.inner_join(topics::table))
                .filter(topics::name.eq(topic.as_str()))
                .filter(topic_schemas::role.eq(role))
                .select(schemas::all_columns)
                .first(c)
                .await
                .optional()?;
            let schema = match bound {
                Some(row) => stored(row),
                None => {
                    let name = own_name(topic, role);
                    let schema = match by_name(c, &name).await? {
                        Some(schema) => schema,
                        None => make(c, &name, language, &About::default()).await?,
                    };
                    diesel::sql_query(
                        "INSERT INTO topic_schemas (topic_id, role, schema_id) SELECT id, $2, $3 FROM topics WHERE name = $1 ON CONFLICT DO NOTHING",
                    )
                    .bind::<Text, _>(topic.as_str())
                    .bind::<Text, _>(role)
                    .bind::<Int8, _>(schema.id)
                    .execute(c)
                    .await?;
                    schema
                }
            };
            if schema.language != language {
                let what = format!("the {role}s of {topic} are bound to {}, which is in {}, and what comes is in {}", schema.name, schema.language.word(), language.word());
                return Err(Stop::Refused(PortError::Refused(what)));
            }
            alone(c, "schemas", &schema.name).await?;
            let new = NewText { text, refers: &[], author, why: "" };
            add(c, &schema, &new).await.map(|(id, _)| id)
        })
        .await;
    found.map(SchemaId).map_err(told("registering a schema"))
}

/// The name of a schema that comes with a topic.
fn own_name(topic: &TopicName, role: &str) -> String {
    let name = format!("{topic}.{role}");
    if SchemaName::parse(name.as_str()).is_ok() {
        return name;
    }
    // the longest topic names leave no room: one that is cut tells itself apart by its fingerprint
    let print = gonvel_core::avro::fingerprint::crc64(topic.as_str().as_bytes());
    format!("{}-{print:016x}.{role}", topic.as_str().chars().take(170).collect::<String>())
}

pub(super) async fn text(database: &Database, id: SchemaId) -> Result<String, PortError> {
    database.schema_version(id).await.map(|(_, text)| text)
}

impl Database {
    /// Registers a text that stands by itself for a topic's keys or values, as [`gonvel_core::ports::SchemaStore::register`]
    /// does, in any language.
    ///
    /// # Errors
    /// As there; also [`PortError::Refused`] if the topic is bound to a schema in another language.
    pub async fn register_text(
        &self,
        topic: &TopicName,
        role: &str,
        language: Language,
        text: &str,
        author: &str,
    ) -> Result<SchemaId, PortError> {
        register(self, topic, role, language, text, author).await
    }

    /// The language and text of a version, by which values are read.
    ///
    /// # Errors
    /// [`PortError::NotFound`].
    pub async fn schema_version(&self, id: SchemaId) -> Result<(Language, String), PortError> {
        let mut connection = self.connection().await?;
        let found: Option<(String, String, Option<String>)> = schema_versions::table
            .inner_join(schemas::table)
            .filter(schema_versions::id.eq(id.0))
            .select((schemas::language, schema_versions::text, schema_versions::standalone))
            .first(&mut connection)
            .await
            .optional()
            .map_err(failed("reading a schema"))?;
        let (language, text, standalone) =
            found.ok_or_else(|| PortError::NotFound { what: format!("schema number {}", id.0) })?;
        Ok((Language::of(&language).unwrap_or(Language::Avro), standalone.unwrap_or(text)))
    }

    /// The name of the schema that a version belongs to, and its number within it.
    ///
    /// # Errors
    /// [`PortError::NotFound`].
    pub async fn schema_of_version(&self, id: i64) -> Result<(String, i32), PortError> {
        let mut connection = self.connection().await?;
        schema_versions::table
            .inner_join(schemas::table)
            .filter(schema_versions::id.eq(id))
            .select((schemas::name, schema_versions::version))
            .first(&mut connection)
            .await
            .optional()
            .map_err(failed("reading a schema"))?
            .ok_or_else(|| PortError::NotFound { what: format!("schema number {id}") })
    }

    /// The versions of the schemas a topic is bound to, keys first, the oldest first.
    ///
    /// # Errors
    /// [`PortError::TryAgain`].
    pub async fn schemas_of(&self, topic: &TopicName) -> Result<Vec<SchemaVersion>, PortError> {
        use schema_versions as v;
        type Found = (i64, String, String, String, bool, i32, String, Option<String>, i64);
        let mut connection = self.connection().await?;
        let rows: Vec<Found> = v::table
            .inner_join(schemas::table.inner_join(topic_schemas::table.inner_join(topics::table)))
            .filter(topics::name.eq(topic.as_str()))
            .order((topic_schemas::role, v::version))
            .select((
                v::id,
                schemas::name,
                schemas::language,
                topic_schemas::role,
                topic_schemas::required,
                v::version,
                v::text,
                v::standalone,
                v::fingerprint,
            ))
            .load(&mut connection)
            .await
            .map_err(failed("reading a topic's schemas"))?;
        let version = |(id, name, language, role, required, version, text, standalone, print): Found| SchemaVersion {
            id,
            name,
            language: Language::of(&language).unwrap_or(Language::Avro),
            role,
            required,
            version,
            text: standalone.unwrap_or(text),
            fingerprint: print.cast_unsigned(),
        };
        Ok(rows.into_iter().map(version).collect())
    }

    /// A schema with all its versions, the oldest first.
    ///
    /// # Errors
    /// [`PortError::NotFound`].
    pub async fn schema(&self, name: &SchemaName) -> Result<(StoredSchema, Vec<StoredVersion>), PortError> {
        let mut connection = self.connection().await?;
        let during = "reading a schema";
        let found = by_name(&mut connection, name.as_str()).await.map_err(failed(during))?;
        let schema = found.ok_or_else(|| PortError::NotFound { what: format!("the schema {name}") })?;
        let versions = versions_of(&mut connection, schema.id).await.map_err(failed(during))?;
        Ok((schema, versions))
    }

    /// What a text that is not registered names types of.
    ///
    /// # Errors
    /// [`PortError::NotFound`] names the version that is not there.
    pub async fn schema_references(&self, refers: &[Refers]) -> Result<Vec<Reference>, PortError> {
        let mut connection = self.connection().await?;
        references(&mut connection, refers).await.map_err(told("reading what a schema refers to"))
    }

    /// Makes a schema with its first version.
    ///
    /// # Errors
    /// [`PortError::Exists`]; [`PortError::Refused`] if the text does not parse; [`PortError::NotFound`] names a version that it
    /// refers to and that is not there.
    pub async fn create_schema(
        &self,
        name: &SchemaName,
        language: Language,
        about: &About,
        new: &NewText<'_>,
    ) -> Result<(), PortError> {
        let mut connection = self.connection().await?;
        let made = connection
            .transaction::<(), Stop, _>(async |c| {
                alone(c, "schemas", name.as_str()).await?;
                if by_name(c, name.as_str()).await?.is_some() {
                    return Err(Stop::Refused(PortError::Exists { what: format!("the schema {name}") }));
                }
                let schema = make(c, name.as_str(), language, about).await?;
                add(c, &schema, new).await.map(|_| ())
            })
            .await;
        made.map_err(told("making a schema"))
    }

    /// Adds a version, and gives its number; one that has the text already is given back.
    ///
    /// # Errors
    /// [`PortError::NotFound`]; [`PortError::Refused`] if the text does not parse or does not keep the rule.
    pub async fn add_version(&self, name: &SchemaName, new: &NewText<'_>) -> Result<i32, PortError> {
        let mut connection = self.connection().await?;
        let added = connection
            .transaction::<i32, Stop, _>(async |c| {
                alone(c, "schemas", name.as_str()).await?;
                let Some(schema) = by_name(c, name.as_str()).await? else {
                    return Err(Stop::Refused(PortError::NotFound { what: format!("the schema {name}") }));
                };
                add(c, &schema, new).await.map(|(_, number)| number)
            })
            .await;
        added.map_err(told("registering a schema"))
    }

    /// Changes what is said of a schema, if its revision is the one given.
    ///
    /// # Errors
    /// [`PortError::NotFound`], [`PortError::Changed`].
    pub async fn change_schema(&self, name: &SchemaName, revision: i32, about: &About) -> Result<(), PortError> {
        let mut connection = self.connection().await?;
        let this = schemas::table.filter(schemas::name.eq(name.as_str()));
        let was: Option<Option<DateTime<Utc>>> =
            this.select(schemas::retired_at).first(&mut connection).await.optional().map_err(failed("reading a schema"))?;
        let Some(was) = was else { return Err(PortError::NotFound { what: format!("the schema {name}") }) };
        let changed = diesel::update(this.filter(schemas::revision.eq(revision)))
            .set((
                schemas::description.eq(&about.description),
                schemas::owner.eq(&about.owner),
                schemas::labels.eq(&about.labels),
                schemas::reads_past.eq(half_word(about.rule.reads_past)),
                schemas::past_reads.eq(half_word(about.rule.past_reads)),
                schemas::retired_at.eq(about.retired.then(|| was.unwrap_or_else(Utc::now))),
                schemas::revision.eq(revision + 1),
            ))
            .execute(&mut connection)
            .await
            .map_err(failed("changing a schema"))?;
        if changed == 0 { Err(PortError::Changed { what: format!("the schema {name}") }) } else { Ok(()) }
    }

    /// The topics bound to a schema, and the schemas whose versions name types of it.
    ///
    /// # Errors
    /// [`PortError::TryAgain`].
    pub async fn schema_uses(&self, name: &SchemaName) -> Result<(Vec<Binding>, Vec<String>), PortError> {
        let mut connection = self.connection().await?;
        let during = "reading what uses a schema";
        let bound: Vec<(String, String, bool)> = topic_schemas::table
            .inner_join(topics::table)
            .inner_join(schemas::table)
            .filter(schemas::name.eq(name.as_str()))
            .order((topics::name, topic_schemas::role))
            .select((topics::name, topic_schemas::role, topic_schemas::required))
            .load(&mut connection)
            .await
            .map_err(failed(during))?;
        #[derive(QueryableByName)]
        struct Named {
            #[diesel(sql_type = Text)]
            name: String,
        }
        let by: Vec<Named> = diesel::sql_query(
            "SELECT DISTINCT s.name FROM schema_versions v JOIN schemas s ON s.id = v.schema_id \
             WHERE v.refers @> jsonb_build_array(jsonb_build_object('name', $1)) ORDER BY 1",
        )
        .bind::<Text, _>(name.as_str())
        .load(&mut connection)
        .await
        .map_err(failed(during))?;
        let bound = bound.into_iter().map(|(topic, role, required)| Binding { topic, role, required }).collect();
        Ok((bound, by.into_iter().map(|n| n.name).collect()))
    }

    /// Removes a schema with all its versions.
    ///
    /// # Errors
    /// [`PortError::NotFound`]; [`PortError::Refused`] while a topic is bound to it or a schema names types of it.
    pub async fn delete_schema(&self, name: &SchemaName) -> Result<(), PortError> {
        let (bound, by) = self.schema_uses(name).await?;
        let mut uses: Vec<String> = bound.iter().map(|b| format!("the {}s of {}", b.role, b.topic)).collect();
        uses.extend(by.iter().map(|schema| format!("the schema {schema}")));
        if !uses.is_empty() {
            return Err(PortError::Refused(format!("{name} is used by {}: let go of it there first", uses.join(", "))));
        }
        let mut connection = self.connection().await?;
        let gone = connection
            .transaction::<usize, Error, _>(async |c| {
                let this = || schemas::table.filter(schemas::name.eq(name.as_str())).select(schemas::id);
                diesel::delete(schema_versions::table.filter(schema_versions::schema_id.eq_any(this()))).execute(c).await?;
                diesel::delete(schemas::table.filter(schemas::name.eq(name.as_str()))).execute(c).await
            })
            .await;
        match gone {
            Ok(0) => Err(PortError::NotFound { what: format!("the schema {name}") }),
            Ok(_) => Ok(()),
            // a topic was bound to it a moment ago
            Err(Error::DatabaseError(diesel::result::DatabaseErrorKind::ForeignKeyViolation, _)) => {
                Err(PortError::Refused(format!("{name} is used by a topic: let go of it there first")))
            }
            Err(error) => Err(failed("deleting a schema")(error)),
        }
    }

    /// Binds a topic's keys or values to a schema; without one, lets go of the one they are bound to.
    ///
    /// # Errors
    /// [`PortError::NotFound`] says whether the topic or the schema is not there.
    pub async fn bind_schema(
        &self,
        topic: &TopicName,
        role: &str,
        schema: Option<(&SchemaName, bool)>,
    ) -> Result<(), PortError> {
        let mut connection = self.connection().await?;
        let during = "binding a topic to a schema";
        let topic_id: Option<i64> = topics::table
            .filter(topics::name.eq(topic.as_str()))
            .select(topics::id)
            .first(&mut connection)
            .await
            .optional()
            .map_err(failed(during))?;
        let topic_id = topic_id.ok_or_else(|| PortError::NotFound { what: format!("the topic {topic}") })?;
        let Some((name, required)) = schema else {
            diesel::delete(topic_schemas::table.find((topic_id, role)))
                .execute(&mut connection)
                .await
                .map_err(failed(during))?;
            return Ok(());
        };
        let found = by_name(&mut connection, name.as_str()).await.map_err(failed(during))?;
        let schema = found.ok_or_else(|| PortError::NotFound { what: format!("the schema {name}") })?;
        use topic_schemas as t;
        diesel::insert_into(t::table)
            .values((t::topic_id.eq(topic_id), t::role.eq(role), t::schema_id.eq(schema.id), t::required.eq(required)))
            .on_conflict((t::topic_id, t::role))
            .do_update()
            .set((t::schema_id.eq(schema.id), t::required.eq(required)))
            .execute(&mut connection)
            .await
            .map_err(failed(during))?;
        Ok(())
    }

    /// Schemas by name, those after `after`, at most `most`; with a search those whose name, description, owner, labels or
    /// fields contain it.
    ///
    /// # Errors
    /// [`PortError::TryAgain`].
    pub async fn search_schemas(&self, search: &str, after: &str, most: i64) -> Result<Vec<ListedSchema>, PortError> {
        #[derive(QueryableByName)]
        struct Found {
            #[diesel(sql_type = Int8)]
            id: i64,
            #[diesel(sql_type = Nullable<Int4>)]
            version: Option<i32>,
            #[diesel(sql_type = Nullable<Timestamptz>)]
            latest_at: Option<DateTime<Utc>>,
            #[diesel(sql_type = Array<Text>)]
            fields: Vec<String>,
            #[diesel(sql_type = Array<Text>)]
            bound: Vec<String>,
        }
        let during = "searching schemas";
        let mut connection = self.connection().await?;
        let found: Vec<Found> = diesel::sql_query(
            "WITH by_field AS MATERIALIZED (SELECT schema_id, path FROM schema_fields WHERE $1 <> '' AND strpos(lower(path), lower($1)) > 0), \
             hits AS (SELECT s.id FROM schemas s WHERE s.name > $2 AND ($1 = '' OR strpos(lower(s.name), lower($1)) > 0 \
               OR strpos(lower(s.description), lower($1)) > 0 OR strpos(lower(s.owner), lower($1)) > 0 \
               OR EXISTS (SELECT 1 FROM unnest(s.labels) l WHERE strpos(lower(l), lower($1)) > 0) \
               OR s.id IN (SELECT schema_id FROM by_field)) ORDER BY s.name LIMIT $3) \
             SELECT h.id, v.version, v.created_at AS latest_at, \
               ARRAY(SELECT path FROM by_field f WHERE f.schema_id = h.id ORDER BY length(path), path LIMIT 5) AS fields, \
               ARRAY(SELECT t.name || ' ' || b.role || ' ' || b.required FROM topic_schemas b JOIN topics t ON t.id = b.topic_id \
                 WHERE b.schema_id = h.id ORDER BY 1) AS bound \
             FROM hits h LEFT JOIN LATERAL (SELECT version, created_at FROM schema_versions v WHERE v.schema_id = h.id \
               ORDER BY version DESC LIMIT 1) v ON true",
        )
        .bind::<Text, _>(search)
        .bind::<Text, _>(after)
        .bind::<Int8, _>(most)
        .load(&mut connection)
        .await
        .map_err(failed(during))?;
        let mut beside: HashMap<i64, Found> = found.into_iter().map(|f| (f.id, f)).collect();
        let rows: Vec<Row> = schemas::table
            .filter(schemas::id.eq_any(beside.keys().copied().collect::<Vec<_>>()))
            .order(schemas::name)
            .load(&mut connection)
            .await
            .map_err(failed(during))?;
        let binding = |text: &String| {
            let mut parts = text.splitn(3, ' ').map(str::to_owned);
            let (topic, role) = (parts.next().unwrap_or_default(), parts.next().unwrap_or_default());
            Binding { topic, role, required: parts.next().is_some_and(|p| p == "true") }
        };
        let listed = rows.into_iter().filter_map(|row| {
            let found = beside.remove(&row.id)?;
            let latest = found.version.zip(found.latest_at);
            let topics = found.bound.iter().map(binding).collect();
            Some(ListedSchema { schema: stored(row), latest, topics, fields: found.fields })
        });
        Ok(listed.collect())
    }
}
