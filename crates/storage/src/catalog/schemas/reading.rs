//! Reading and searching schemas.

use std::collections::HashMap;

use chrono::{DateTime, Utc};
use diesel::prelude::*;
use diesel::sql_types::{Array, Int4, Int8, Nullable, Text, Timestamptz};
use diesel_async::RunQueryDsl;
use gonvel_core::naming::{SchemaId, SchemaName, TopicName};
use gonvel_core::ports::PortError;
use gonvel_core::schemas::{Language, SchemaReference};

use super::{Binding, ListedSchema, Row, SchemaVersion, StoredSchema, StoredVersion, by_name, stored, versions_of};
use crate::Database;
use crate::failing::failed;
use crate::schema::{schema_versions, schemas, topic_schemas, topics};

impl Database {
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

    /// All schemas by name, each with the texts of its versions, the oldest first, as they were written, and what those refer to.
    ///
    /// # Errors
    /// [`PortError::TryAgain`].
    pub async fn whole_schemas(&self) -> Result<Vec<(StoredSchema, Vec<(String, Vec<SchemaReference>)>)>, PortError> {
        let during = "reading schemas";
        let mut connection = self.connection().await?;
        let rows: Vec<Row> = schemas::table.order(schemas::name).load(&mut connection).await.map_err(failed(during))?;
        let versions: Vec<(i64, String, serde_json::Value)> = schema_versions::table
            .order((schema_versions::schema_id, schema_versions::version))
            .select((schema_versions::schema_id, schema_versions::text, schema_versions::refers))
            .load(&mut connection)
            .await
            .map_err(failed(during))?;
        let mut texts: HashMap<i64, Vec<(String, Vec<SchemaReference>)>> = HashMap::new();
        for (schema, text, refers) in versions {
            texts.entry(schema).or_default().push((text, serde_json::from_value(refers).unwrap_or_default()));
        }
        let whole = rows.into_iter().map(stored);
        Ok(whole.map(|schema| (texts.remove(&schema.id).unwrap_or_default(), schema)).map(|(t, s)| (s, t)).collect())
    }

    /// What all topics are bound to: the schema's name with each binding.
    ///
    /// # Errors
    /// [`PortError::TryAgain`].
    pub async fn bindings(&self) -> Result<Vec<(String, Binding)>, PortError> {
        let mut connection = self.connection().await?;
        let bound: Vec<(String, String, String, bool)> = topic_schemas::table
            .inner_join(topics::table)
            .inner_join(schemas::table)
            .order((topics::name, topic_schemas::role))
            .select((schemas::name, topics::name, topic_schemas::role, topic_schemas::required))
            .load(&mut connection)
            .await
            .map_err(failed("reading what topics are bound to"))?;
        let one = |(schema, topic, role, required)| (schema, Binding { topic, role, required });
        Ok(bound.into_iter().map(one).collect())
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
