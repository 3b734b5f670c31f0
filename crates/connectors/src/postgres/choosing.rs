//! Which tables a source captures right now: those chosen one by one, and those found by their names.

use std::collections::HashSet;

use gonvel_core::connector::{CapturedTable, SourceDefinition};
use gonvel_core::ports::systems::{Choice, ConnectorError};

use super::about::USUAL_SCHEMA;
use super::client::Client;
use super::publication;

/// Whether other tables would be chosen now, or others named. As long as nothing in the catalog changed, no table is looked at.
pub(super) async fn is_other(
    choice: &mut Choice,
    client: &Client,
    system: &str,
    definition: &SourceDefinition,
) -> Result<bool, ConnectorError> {
    if definition.patterns.is_none() || publication::tables_mark(client).await? == choice.mark {
        return Ok(false);
    }
    let now = choose(client, system, definition).await?;
    choice.mark = now.mark;
    Ok(now.tables != choice.tables || now.notes != choice.notes)
}

pub(super) async fn choose(client: &Client, system: &str, definition: &SourceDefinition) -> Result<Choice, ConnectorError> {
    let mut choice = Choice { tables: definition.tables.clone(), ..Choice::default() };
    let Some(patterns) = &definition.patterns else { return Ok(choice) };
    // before what it stands for
    choice.mark = publication::tables_mark(client).await?;
    let chosen: HashSet<String> = definition.tables.iter().map(CapturedTable::qualified).collect();
    let mut topics: HashSet<String> = definition.tables.iter().map(|t| t.topic.clone()).collect();
    topics.extend(definition.schema_changes.clone());
    for (table, hindrance) in publication::capturable(client).await? {
        let name = format!("{}.{}", table.schema, table.table);
        if chosen.contains(&name) {
            continue;
        }
        let taken = |topic: &str| topics.contains(topic);
        let Some(found) = patterns.find((system, USUAL_SCHEMA), (&table.schema, &table.table), taken) else { continue };
        match hindrance.map_or(found, Err) {
            Ok(found) => {
                topics.insert(found.topic.clone());
                choice.tables.push(found);
            }
            Err(not) => choice.notes.push(format!("{name} is not captured: {not}")),
        }
    }
    Ok(choice)
}
