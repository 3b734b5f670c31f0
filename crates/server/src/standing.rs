//! Where connectors stand in the topics they read, wherever their positions are kept.

use std::collections::HashMap;

use gonvel_core::naming::{Offset, TopicPartition};
use gonvel_core::ports::{FleetStore, PortError};
use gonvel_runtime::systems;
use gonvel_storage::catalog::connectors::Connector as Stored;

use crate::problems::Refusal;
use crate::state::ServerState;

/// The lane whose position Gonvel keeps of a connector that reads topics: such a one has no other.
const LANE: i32 = 0;

/// Where a connector stands that reads topics: the offset to read next of each partition.
pub(crate) async fn stands(state: &ServerState, stored: &Stored) -> Result<HashMap<TopicPartition, i64>, Refusal> {
    Ok(match stored.definition.position_in() {
        Some(connection) => systems::sink_positions(&state.database.address(connection).await?, stored.id).await?,
        None => systems::kept_positions(&state.database.position(stored.id, LANE).await?.unwrap_or_default()),
    })
}

/// Moves it, while it does not run, from where its partitions stand to other offsets; or to those up to which its system and the log agree.
pub(crate) async fn move_to(
    state: &ServerState,
    stored: &Stored,
    moves: &[(TopicPartition, Offset, Offset)],
    agreed: bool,
) -> Result<(), Refusal> {
    let moves: Vec<_> = moves.iter().map(|(at, from, to)| (*at, from.0, to.0)).collect();
    if let Some(connection) = stored.definition.position_in() {
        let address = state.database.address(connection).await?;
        return Ok(systems::move_sink(&address, stored.id, &moves, agreed).await?);
    }
    let from = state.database.position(stored.id, LANE).await?.unwrap_or_default();
    let elsewhere = || PortError::Refused("it does not stand there any more: look again, and decide anew".into());
    let to = systems::kept_moved(&from, &moves).ok_or_else(elsewhere)?;
    Ok(state.database.move_lane((stored.id, LANE), &from, &to).await?)
}
