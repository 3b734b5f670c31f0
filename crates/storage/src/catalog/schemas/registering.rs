//! Registering: new schemas, new versions, by people and by connectors.

use diesel::prelude::*;
use diesel::result::Error;
use diesel::sql_types::{Int8, Text};
use diesel_async::{AsyncConnection, AsyncPgConnection, RunQueryDsl};
use gonvel_core::naming::{SchemaId, SchemaName, TopicName};
use gonvel_core::ports::PortError;
use gonvel_core::schemas::{self as core, Half, Language, Parsed, Reference, Rule, SchemaReference, Standalone};

use super::fields::store_fields;
use super::{About, NewText, Row, StoredSchema, StoredVersion, by_name, half_word, stored, versions_of};
use crate::Database;
use crate::failing::{Stop, stopped};
use crate::schema::{schema_versions, schemas, topic_schemas, topics};

/// What a text names types of, as it stands registered.
async fn references(c: &mut AsyncPgConnection, refers: &[SchemaReference]) -> Result<Vec<Reference>, Stop> {
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
    // the same text with other references is another schema
    let whole = (new.parsed.text != new.text).then_some(new.parsed.text.as_str());
    let there: Option<(i64, i32)> = v::table
        .filter(v::schema_id.eq(schema.id))
        .filter(v::text.eq(new.text))
        .filter(v::standalone.is_not_distinct_from(whole))
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
    let refused = |text: String| Stop::Refused(PortError::Refused(text));
    let Standalone { text: standalone, parsed, fingerprint } = new.parsed;
    if parsed.language() != schema.language {
        let (wanted, found) = (schema.language.word(), parsed.language().word());
        return Err(refused(format!("the schema {} is in {wanted}, the text in {found}", schema.name)));
    }
    let mut last = v::table
        .filter(v::schema_id.eq(schema.id))
        .select(diesel::dsl::max(v::version))
        .get_result::<Option<i32>>(c)
        .await?;
    if schema.rule != Rule::default() {
        let earlier = versions_of(c, schema.id).await?;
        last = earlier.last().map(|v| v.version);
        let breaches = breaches(schema.language, schema.rule, parsed, &earlier)?;
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
    store_fields(c, schema.id, number, parsed).await?;
    Ok((id, number))
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
    let parsed = core::parse(language, text, &[]).map_err(|fault| PortError::Refused(fault.to_string()))?;
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
            let new = NewText { text, parsed: &parsed, refers: &[], author, why: "" };
            add(c, &schema, &new).await.map(|(id, _)| id)
        })
        .await;
    found.map(SchemaId).map_err(stopped("registering a schema"))
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

    /// What a text that is not registered names types of.
    ///
    /// # Errors
    /// [`PortError::NotFound`] names the version that is not there.
    pub async fn schema_references(&self, refers: &[SchemaReference]) -> Result<Vec<Reference>, PortError> {
        let mut connection = self.connection().await?;
        references(&mut connection, refers).await.map_err(stopped("reading what a schema refers to"))
    }

    /// Makes a schema with its first version.
    ///
    /// # Errors
    /// [`PortError::Exists`]; [`PortError::Refused`] if the text is in another language.
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
                add(c, &schema, new).await?;
                Ok(self.note_made(c, name.as_str()).await?)
            })
            .await;
        made.map_err(stopped("making a schema"))
    }

    /// Adds a version, and gives its number; one that has the text already is given back.
    ///
    /// # Errors
    /// [`PortError::NotFound`]; [`PortError::Refused`] if it does not keep the rule or is in another language.
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
        added.map_err(stopped("registering a schema"))
    }
}
