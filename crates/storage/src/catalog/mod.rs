//! Connections, connectors and their drafts, lanes and schemas.

pub mod connections;
pub mod connectors;
pub mod drafts;
mod errands;
pub mod functions;
pub mod history;
mod lanes;
mod runners;
pub mod schemas;
pub mod versions;

use std::time::Duration;

use async_trait::async_trait;
use gonvel_core::connector::ValidConnector;
use gonvel_core::naming::{ConnectorId, Epoch, SchemaId, SchemaName, TopicName};
use gonvel_core::own_function::OwnFunction;
use gonvel_core::ports::{Address, Deed, FleetStore, HeldLane, LaneStatus, Lease, Line, PortError, Reload, SchemaStore};
use gonvel_core::schemas::Language;
use gonvel_core::secret::Secret;
use uuid::Uuid;

use crate::Database;

#[async_trait]
impl FleetStore for Database {
    fn mask_secret(&self) -> Secret<Vec<u8>> {
        self.sealer.derived("keyed hashes and tokens")
    }

    async fn own_functions(&self) -> Result<Vec<OwnFunction>, PortError> {
        Ok(self.kept_functions().await?.into_iter().map(|kept| kept.function).collect())
    }

    async fn address(&self, connection: Uuid) -> Result<Address, PortError> {
        connections::address(self, connection).await
    }

    async fn reloads(&self, connector: ConnectorId, after: i64) -> Result<Vec<Reload>, PortError> {
        connectors::reloads(self, connector, after).await
    }

    async fn source_of(&self, topic: &str) -> Result<Option<ConnectorId>, PortError> {
        connectors::source_of(self, topic).await
    }

    async fn position(&self, connector: ConnectorId, lane: i32) -> Result<Option<serde_json::Value>, PortError> {
        lanes::position(self, connector, lane).await
    }

    async fn connector(&self, connector: ConnectorId) -> Result<Option<ValidConnector>, PortError> {
        connectors::connector(self, connector).await
    }

    async fn latest_term(&self) -> Result<Epoch, PortError> {
        lanes::latest_term(self).await
    }

    async fn acquire(
        &self,
        connector: ConnectorId,
        lane: i32,
        runner: &str,
        ttl: Duration,
    ) -> Result<Option<Lease>, PortError> {
        lanes::acquire(self, connector, lane, runner, ttl).await
    }

    async fn release(&self, connector: ConnectorId, lane: i32, epoch: Epoch) -> Result<(), PortError> {
        lanes::release(self, connector, lane, epoch).await
    }

    async fn save_status(
        &self,
        connector: ConnectorId,
        lane: i32,
        epoch: Epoch,
        status: &LaneStatus,
    ) -> Result<(), PortError> {
        lanes::save_status(self, connector, lane, epoch, status).await
    }

    async fn save_lines(&self, held: HeldLane, lines: &[Line]) -> Result<(), PortError> {
        history::save_lines(self, held, lines).await
    }

    async fn note(&self, deed: Deed<'_>) -> Result<(), PortError> {
        history::note(self, deed).await
    }

    async fn note_passed_over(&self, deed: Deed<'_>, records: i64) -> Result<(), PortError> {
        history::note_passed_over(self, deed, records).await
    }

    async fn change(&self, connector: &ValidConnector, version: i32, detail: &str) -> Result<(), PortError> {
        let deed = Deed { connector: connector.id(), who: "Gonvel", what: "changed", detail: Some(detail) };
        self.next_version(connector, version, &[], deed).await.map(drop)
    }

    async fn remove_connector(&self, connector: ConnectorId) -> Result<(), PortError> {
        connectors::remove(self, connector).await
    }

    async fn leaves_remains(&self, connector: ConnectorId) -> Result<bool, PortError> {
        connectors::leaves_remains(self, connector).await
    }
}

#[async_trait]
impl SchemaStore for Database {
    async fn register(&self, topic: &TopicName, role: &str, text: &str, author: &str) -> Result<SchemaId, PortError> {
        self.register_text(topic, role, Language::Avro, text, author).await
    }

    async fn schema_text(&self, id: SchemaId) -> Result<String, PortError> {
        self.schema_version(id).await.map(|(_, text)| text)
    }

    async fn schema_in(&self, id: SchemaId) -> Result<(Language, String), PortError> {
        self.schema_version(id).await
    }

    async fn latest(&self, name: &SchemaName) -> Result<(SchemaId, i32, Language, String), PortError> {
        let (_, versions) = self.schema(name).await?;
        let latest = versions.iter().max_by_key(|v| v.version);
        let latest = latest.ok_or_else(|| PortError::NotFound { what: format!("a version of the schema {name}") })?;
        let (language, text) = self.schema_version(SchemaId(latest.id)).await?;
        Ok((SchemaId(latest.id), latest.version, language, text))
    }

    async fn bind_values(&self, topic: &TopicName, name: &SchemaName) -> Result<String, PortError> {
        let bound = self.schemas_of(topic).await?.into_iter().find(|version| version.role == "value");
        match bound {
            Some(bound) => Ok(bound.name),
            None => {
                self.bind_schema(topic, "value", Some((name, false))).await?;
                Ok(name.to_string())
            }
        }
    }
}
