//! Where a connector stands in the topics that it reads, wherever its position is kept.

use std::collections::HashMap;

use gonvel_connectors::kinds;
use gonvel_core::connector::Definition;
use gonvel_core::naming::{ConnectorId, TopicPartition};
use gonvel_core::ports::{FleetStore, PortError};

pub use crate::failing::Unknown;

use crate::stands;
use crate::work::ONLY;

/// The offset to read next of each partition; empty if it never began.
///
/// # Errors
/// [`Unknown`] if whoever keeps the position does not answer.
pub async fn stands(
    fleet: &dyn FleetStore,
    id: ConnectorId,
    definition: &Definition,
) -> Result<HashMap<TopicPartition, i64>, Unknown> {
    let Some(connection) = definition.position_in() else {
        return Ok(stands::positions(&fleet.position(id, ONLY).await?.unwrap_or_default()));
    };
    let address = fleet.address(connection).await?;
    let stands = kinds::holds(&address)?.stands(&address, id).await?;
    Ok(stands.into_iter().map(|(at, stand)| (at, stand.delivered.next)).collect())
}

/// What of a connector's stored position is another once it is moved, where the catalog keeps it.
#[derive(Debug)]
pub struct Moved {
    /// What was stored.
    pub from: serde_json::Value,
    /// What is to be.
    pub to: serde_json::Value,
}

/// Moves a connector that does not run, from where its partitions stand to other offsets; or to those up to which its system and the log
/// agree. Where the catalog keeps its position, what is to be stored there is given instead.
///
/// # Errors
/// [`PortError::Refused`] or [`gonvel_core::ports::systems::ConnectorError::Settings`] if one stands elsewhere by now; [`Unknown`] if it cannot be asked.
pub async fn move_to(
    fleet: &dyn FleetStore,
    (id, definition): (ConnectorId, &Definition),
    moves: &[(TopicPartition, i64, i64)],
    agreed: bool,
) -> Result<Option<Moved>, Unknown> {
    if let Some(connection) = definition.position_in() {
        let address = fleet.address(connection).await?;
        kinds::holds(&address)?.move_to(&address, id, moves, agreed).await?;
        return Ok(None);
    }
    let from = fleet.position(id, ONLY).await?.unwrap_or_default();
    let elsewhere = || PortError::Refused("it does not stand there any more: look again, and decide anew".into());
    let to = stands::moved(&from, moves).ok_or_else(elsewhere)?;
    Ok(Some(Moved { from, to }))
}
