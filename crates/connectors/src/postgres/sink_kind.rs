//! PostgreSQL as a kind of system that sinks write.

use std::collections::{HashMap, HashSet};

use async_trait::async_trait;
use gonvel_core::connector::{DeliveredTopic, Writes};
use gonvel_core::naming::{ConnectorId, Epoch, TopicId, TopicPartition};
use gonvel_core::ports::Address;
use gonvel_core::ports::systems::{
    Blocked, Comes, ConnectorError, Delivered, Expected, Held, Holds, Refused, Round, Sink, SinkKind, SinkSettings, Stand,
    Started, TopicChanges,
};
use gonvel_core::preflight::Report;

use super::address::DatabaseAddress;
use super::kind::Postgres;
use super::sink::PgSink;
use super::{blocked, preflight, sink, sink_positions};

#[async_trait]
impl SinkKind for Postgres {
    async fn preflight(&self, address: &Address, topics: &[Expected], writes: Writes) -> Report {
        match DatabaseAddress::read(address) {
            Ok(address) => preflight::sink(&address, topics, writes).await,
            Err(error) => vec![error.as_check("connection", "host")],
        }
    }

    async fn open(
        &self,
        address: &Address,
        settings: SinkSettings,
        epoch: Epoch,
        partitions: &[(TopicPartition, Delivered)],
        asked: &HashSet<TopicId>,
    ) -> Result<Started, ConnectorError> {
        let address = DatabaseAddress::read(address)?;
        let sink::Started { sink, stands, unbegun } = PgSink::begin(address, settings, epoch, partitions, asked).await?;
        Ok(Started { sink: Box::new(sink), stands, unbegun })
    }

    fn holds(&self) -> Option<&dyn Holds> {
        Some(self)
    }

    async fn clean_up(&self, address: &Address, connector: ConnectorId) -> Result<(), ConnectorError> {
        sink_positions::clean_up(&DatabaseAddress::read(address)?, connector).await
    }

    fn remains(&self, connector: ConnectorId) -> Vec<String> {
        sink_positions::remains(connector)
    }
}

#[async_trait]
impl Holds for Postgres {
    async fn stands(
        &self,
        address: &Address,
        connector: ConnectorId,
    ) -> Result<HashMap<TopicPartition, Stand>, ConnectorError> {
        sink_positions::stands(&DatabaseAddress::read(address)?, connector).await
    }

    async fn move_to(
        &self,
        address: &Address,
        connector: ConnectorId,
        moves: &[(TopicPartition, i64, i64)],
        agreed: bool,
    ) -> Result<(), ConnectorError> {
        sink_positions::reposition(&DatabaseAddress::read(address)?, connector, moves, agreed).await
    }
}

/// A session, as its server counts it.
struct OfSession {
    address: DatabaseAddress,
    session: i32,
}

#[async_trait]
impl Blocked for OfSession {
    async fn by(&self) -> Result<Option<String>, ConnectorError> {
        blocked::blocked_by(&self.address, self.session).await
    }
}

#[async_trait]
impl Sink for PgSink {
    fn topics(&self) -> &[(TopicId, DeliveredTopic)] {
        &self.settings.topics
    }

    fn blocked(&self) -> Box<dyn Blocked> {
        let (address, session) = (self.address.clone(), self.session);
        Box::new(OfSession { address, session })
    }

    fn notes(&self) -> Vec<String> {
        Self::notes(self)
    }

    async fn write(&mut self, round: &Round) -> Result<(), ConnectorError> {
        Self::write(self, round).await
    }

    async fn commit(&mut self) -> Result<(), ConnectorError> {
        Self::commit(self).await
    }

    async fn roll_back(&mut self) -> Result<(), ConnectorError> {
        Self::roll_back(self).await
    }

    async fn sift(&mut self, round: &Round, held: Held) -> Result<Vec<Refused>, ConnectorError> {
        Self::sift(self, round, held).await
    }

    async fn finish(&mut self, round: &Round) -> Result<(), ConnectorError> {
        Self::finish(self, round).await
    }

    async fn retried(&self, ids: &[i64]) -> Result<Vec<i64>, ConnectorError> {
        Self::retried(self, ids).await
    }

    async fn note_retried(&self, ids: &[i64]) -> Result<(), ConnectorError> {
        Self::note_retried(self, ids).await
    }

    async fn forget_retried(&self, ids: &[i64]) -> Result<(), ConnectorError> {
        Self::forget_retried(self, ids).await
    }

    async fn about_to_begin(&mut self) -> Result<(), ConnectorError> {
        Self::about_to_begin(self).await
    }

    async fn begun(&mut self) -> Result<(), ConnectorError> {
        Self::begun(self).await
    }

    async fn remove_all(&mut self, topics: &HashSet<TopicId>) -> Result<u64, ConnectorError> {
        Self::remove_all(self, topics).await
    }

    async fn note_keys(&mut self, changes: &TopicChanges) -> Result<(), ConnectorError> {
        Self::note_keys(self, changes).await
    }

    async fn remove_unknown(&mut self, topics: &HashSet<TopicId>) -> Result<u64, ConnectorError> {
        Self::remove_unknown(self, topics).await
    }

    async fn truncate_together(&mut self, round: &Round, comes: &Comes<'_>) -> Result<bool, ConnectorError> {
        Self::truncate_together(self, round, comes).await
    }
}
