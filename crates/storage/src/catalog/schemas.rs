//! Registered schema versions.

use diesel::prelude::*;
use diesel_async::{AsyncConnection, RunQueryDsl};
use gonvel_core::avro::fingerprint::fingerprint;
use gonvel_core::naming::{SchemaId, TopicName};
use gonvel_core::ports::PortError;

use crate::Database;
use crate::database::failed;
use crate::schema::schemas;

pub(super) async fn register(database: &Database, topic: &TopicName, role: &str, text: &str) -> Result<SchemaId, PortError> {
    let print = fingerprint(text).map_err(|e| PortError::Refused(e.to_string()))?;
    let mut connection = database.connection().await?;
    let found = connection
        .transaction::<i64, diesel::result::Error, _>(async |c| {
            // one registration for a topic at a time, so that versions have no gaps
            diesel::sql_query("SELECT pg_advisory_xact_lock(hashtext('schemas'), hashtext($1))")
                .bind::<diesel::sql_types::Text, _>(topic.as_str())
                .execute(c)
                .await?;
            let mine = schemas::table.filter(schemas::topic.eq(topic.as_str())).filter(schemas::role.eq(role));
            let there = mine.filter(schemas::text.eq(text)).select(schemas::id).first(c).await.optional()?;
            if let Some(id) = there {
                return Ok(id);
            }
            let last: Option<i32> = mine.select(diesel::dsl::max(schemas::version)).get_result(c).await?;
            diesel::insert_into(schemas::table)
                .values((
                    schemas::topic.eq(topic.as_str()),
                    schemas::role.eq(role),
                    schemas::version.eq(last.unwrap_or(0) + 1),
                    schemas::text.eq(text),
                    schemas::fingerprint.eq(print.cast_signed()),
                ))
                .returning(schemas::id)
                .get_result(c)
                .await
        })
        .await;
    found.map(SchemaId).map_err(failed("registering a schema"))
}

pub(super) async fn text(database: &Database, id: SchemaId) -> Result<String, PortError> {
    let mut connection = database.connection().await?;
    schemas::table
        .find(id.0)
        .select(schemas::text)
        .first(&mut connection)
        .await
        .optional()
        .map_err(failed("reading a schema"))?
        .ok_or_else(|| PortError::NotFound { what: format!("schema number {}", id.0) })
}

/// A registered version of a topic's schema.
#[derive(Debug, Clone)]
pub struct SchemaVersion {
    /// Its number.
    pub id: i64,
    /// `key` or `value`.
    pub role: String,
    /// Counts a topic's versions of a role, from 1.
    pub version: i32,
    /// Its text.
    pub text: String,
    /// CRC-64-AVRO of its canonical form.
    pub fingerprint: u64,
}

impl Database {
    /// The versions of a topic's schemas, the oldest first.
    ///
    /// # Errors
    /// [`PortError::TryAgain`].
    pub async fn schemas_of(&self, topic: &TopicName) -> Result<Vec<SchemaVersion>, PortError> {
        let mut connection = self.connection().await?;
        let rows: Vec<(i64, String, i32, String, i64)> = schemas::table
            .filter(schemas::topic.eq(topic.as_str()))
            .order((schemas::role, schemas::version))
            .select((schemas::id, schemas::role, schemas::version, schemas::text, schemas::fingerprint))
            .load(&mut connection)
            .await
            .map_err(failed("reading a topic's schemas"))?;
        let version = |(id, role, version, text, print): (i64, String, i32, String, i64)| SchemaVersion {
            id,
            role,
            version,
            text,
            fingerprint: print.cast_unsigned(),
        };
        Ok(rows.into_iter().map(version).collect())
    }
}
