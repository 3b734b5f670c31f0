//! Where connectors stand in the topics they read, and moving them.

use std::collections::HashMap;

use gonvel_core::naming::{Offset, TopicPartition};
use gonvel_runtime::standing;
use gonvel_storage::catalog::connectors::Connector as Stored;

use crate::problems::Refusal;
use crate::state::ServerState;

/// The lane whose position Gonvel keeps of a connector that reads topics: such a one has no other.
const LANE: i32 = 0;

/// Where a connector stands that reads topics: the offset to read next of each partition.
pub(crate) async fn stands(state: &ServerState, stored: &Stored) -> Result<HashMap<TopicPartition, i64>, Refusal> {
    Ok(standing::stands(&state.database, stored.id, &stored.definition).await?)
}

/// Moves it, while it does not run, from where its partitions stand to other offsets; or to those up to which its system and the log agree.
pub(crate) async fn move_to(
    state: &ServerState,
    stored: &Stored,
    moves: &[(TopicPartition, Offset, Offset)],
    agreed: bool,
) -> Result<(), Refusal> {
    let moves: Vec<_> = moves.iter().map(|(at, from, to)| (*at, from.0, to.0)).collect();
    let which = (stored.id, &stored.definition);
    if let Some(moved) = standing::move_to(&state.database, which, &moves, agreed).await? {
        state.database.move_lane((stored.id, LANE), &moved.from, &moved.to).await?;
    }
    Ok(())
}
