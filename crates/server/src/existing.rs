//! What a preflight says of records that are in a source's topics before it begins.

use std::collections::HashSet;

use gonvel_core::connector::{CapturedTable, Definition, Wish, check_rows_there};
use gonvel_core::naming::{ConnectorId, TopicName};
use gonvel_core::ports::{Address, PortError, TopicLog};
use gonvel_core::preflight::Check;
use gonvel_runtime::systems;

use crate::problems::Refusal;
use crate::state::ServerState;

/// What a saved connector has begun with, so that what is there is its own: a source's tables, a sink's topics.
pub(crate) async fn begun(state: &ServerState, connector: Option<ConnectorId>) -> Result<HashSet<String>, Refusal> {
    let Some(connector) = connector else { return Ok(HashSet::new()) };
    let stored = match state.database.find_connector(connector).await {
        Ok(stored) if stored.wish != Wish::Draft => stored,
        Ok(_) | Err(PortError::NotFound { .. }) => return Ok(HashSet::new()),
        Err(error) => return Err(error.into()),
    };
    let found: Vec<String> = stored.found().map(|(name, _)| name.clone()).collect();
    Ok(match &stored.definition {
        Definition::Source(source) => source.tables.iter().map(CapturedTable::qualified).chain(found).collect(),
        Definition::Sink(sink) => sink.topics.iter().map(|topic| topic.topic.clone()).collect(),
        Definition::Topics(_) => HashSet::new(),
    })
}

/// A check for each topic that holds records of a table which is still to be loaded.
pub(crate) async fn checks(
    state: &ServerState,
    definition: &Definition,
    address: Option<&Address>,
    begun: &HashSet<String>,
) -> Result<Vec<Check>, Refusal> {
    let mut checks = Vec::new();
    let Some(address) = address else { return Ok(checks) };
    let Definition::Source(source) = &systems::settled(&address.kind, definition) else { return Ok(checks) };
    if !source.load.rows {
        return Ok(checks);
    }
    // a server that does not answer is told by other checks
    let Ok(tables) = state.reached().captured_now(address, source).await else { return Ok(checks) };
    for table in tables.iter().filter(|table| !begun.contains(&table.qualified())) {
        let Ok(name) = TopicName::parse(table.topic.as_str()) else { continue };
        let topic = match state.database.topic(&name).await {
            Ok(topic) => topic,
            Err(PortError::NotFound { .. }) => continue,
            Err(error) => return Err(error.into()),
        };
        let records: i64 = state.database.bounds(topic.id).await?.iter().map(|bounds| bounds.records).sum();
        if records > 0 {
            let there = format!("{name} holds {records} {}", if records == 1 { "record" } else { "records" });
            let goes = "a truncate goes first: whoever reads the topic empties its tables until the rows are loaded";
            checks.push(check_rows_there(format!("rows of {}", table.qualified()), &there, source.existing_rows, goes));
        }
    }
    Ok(checks)
}
