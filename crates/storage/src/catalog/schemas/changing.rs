//! Changing what is said of schemas, what is bound to them, and their end.

use chrono::{DateTime, Utc};
use diesel::prelude::*;
use diesel::result::Error;
use diesel_async::{AsyncConnection, RunQueryDsl};
use gonvel_core::naming::{SchemaName, TopicName};
use gonvel_core::ports::PortError;

use super::{About, by_name, half_word};
use crate::Database;
use crate::failing::failed;
use crate::schema::{schema_versions, schemas, topic_schemas, topics};

impl Database {
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
}
