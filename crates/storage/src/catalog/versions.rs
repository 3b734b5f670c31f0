//! Versions of connectors' definitions: every one a connector had, and the change from one to the next.

use chrono::{DateTime, Utc};
use diesel::prelude::*;
use diesel::result::Error;
use diesel_async::{AsyncConnection, RunQueryDsl};
use gonvel_core::connector::{Definition, ValidConnector};
use gonvel_core::naming::ConnectorId;
use gonvel_core::ports::{Deed, PortError};

use super::connectors::keep_lanes;
use super::history;
use crate::Database;
use crate::failing::failed;
use crate::schema::{connector_versions, connectors, reloads};

/// One version of a connector's definition.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Version {
    /// Its number, from 1.
    pub version: i32,
    /// What the connector was to do.
    pub definition: Definition,
    /// When it was made.
    pub made_at: DateTime<Utc>,
}

impl Database {
    /// All versions of a connector's definition, the newest first.
    ///
    /// # Errors
    /// [`PortError::NotFound`]; [`PortError::Refused`] if a stored one cannot be read.
    pub async fn versions(&self, id: ConnectorId) -> Result<Vec<Version>, PortError> {
        let mut connection = self.connection().await?;
        let rows: Vec<(i32, serde_json::Value, DateTime<Utc>)> = connector_versions::table
            .filter(connector_versions::connector_id.eq(id.0))
            .order(connector_versions::version.desc())
            .select((connector_versions::version, connector_versions::definition, connector_versions::made_at))
            .load(&mut connection)
            .await
            .map_err(failed("reading a connector's versions"))?;
        if rows.is_empty() {
            return Err(PortError::NotFound { what: format!("connector {id}") });
        }
        rows.into_iter()
            .map(|(version, definition, made_at)| {
                let unreadable = |e| PortError::Refused(format!("version {version} cannot be read: {e}"));
                Ok(Version { version, definition: serde_json::from_value(definition).map_err(unreadable)?, made_at })
            })
            .collect()
    }

    /// Makes a checked definition a connector's next version, if the one it has is the one given; the connector starts anew,
    /// and loads tables, as `schema.table`, again. Gives the new version.
    ///
    /// # Errors
    /// [`PortError::NotFound`]; [`PortError::Changed`] if the version is another one by now or the connector is being deleted.
    pub async fn change_connector(
        &self,
        connector: &ValidConnector,
        version: i32,
        load_again: &[String],
        who: &str,
    ) -> Result<i32, PortError> {
        self.next_version(
            connector,
            version,
            load_again,
            Deed { connector: connector.id(), who, what: "changed", detail: None },
        )
        .await
    }

    /// The same, with what its history says of it.
    ///
    /// # Errors
    /// As [`Database::change_connector`].
    pub(super) async fn next_version(
        &self,
        connector: &ValidConnector,
        version: i32,
        load_again: &[String],
        deed: Deed<'_>,
    ) -> Result<i32, PortError> {
        let definition = serde_json::to_value(connector.definition()).map_err(|e| PortError::Refused(e.to_string()))?;
        let id = connector.id();
        let mut connection = self.connection().await?;
        let changed = connection
            .transaction::<bool, Error, _>(async |c| {
                let now = connectors::table.find(id.0);
                let unchanged = now.filter(connectors::version.eq(version)).filter(connectors::wish.ne("delete"));
                let changed = diesel::update(unchanged)
                    .set((
                        connectors::definition.eq(&definition),
                        connectors::connection_id.eq(connector.definition().connection()),
                        connectors::version.eq(version + 1),
                        connectors::asked.eq(connectors::asked + 1),
                        connectors::updated_at.eq(diesel::dsl::now),
                    ))
                    .execute(c)
                    .await?;
                if changed == 0 {
                    return Ok(false);
                }
                diesel::insert_into(connector_versions::table)
                    .values((
                        connector_versions::connector_id.eq(id.0),
                        connector_versions::version.eq(version + 1),
                        connector_versions::definition.eq(&definition),
                    ))
                    .execute(c)
                    .await?;
                if !load_again.is_empty() {
                    diesel::insert_into(reloads::table)
                        .values((reloads::connector_id.eq(id.0), reloads::tables.eq(load_again)))
                        .execute(c)
                        .await?;
                }
                keep_lanes(c, connector).await?;
                history::note_on(c, deed).await?;
                Ok(true)
            })
            .await
            .map_err(failed("changing a connector"))?;
        if changed {
            return Ok(version + 1);
        }
        drop(connection);
        self.find_connector(id).await?;
        Err(PortError::Changed { what: format!("the connector {}", connector.name()) })
    }
}
