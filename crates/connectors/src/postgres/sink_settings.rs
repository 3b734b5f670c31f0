//! What a sink connector on PostgreSQL is asked for.

use gonvel_core::connector::{DeliveredTopic, Writes};
use gonvel_core::naming::{ConnectorId, TopicId};
use gonvel_core::ports::DatabaseAddress;

/// What a sink connector delivers, and where.
#[derive(Debug, Clone)]
pub struct SinkSettings {
    /// The connector.
    pub connector: ConnectorId,
    /// The lane of it.
    pub lane: i32,
    /// The server.
    pub address: DatabaseAddress,
    /// The topics with their ids, in the definition's order.
    pub topics: Vec<(TopicId, DeliveredTopic)>,
    /// How it writes.
    pub writes: Writes,
}
