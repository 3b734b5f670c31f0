//! Which tables a source captures right now: those chosen one by one, and those found by their names.

use std::collections::HashSet;

use gonvel_connectors::error::ConnectorError;
use gonvel_connectors::postgres::client::Client;
use gonvel_connectors::postgres::publication;
use gonvel_core::connector::{CapturedTable, SourceDefinition};

/// The tables, and what is to be said of those that a pattern covers and that are not captured.
#[derive(Debug, Default)]
pub(crate) struct Choice {
    pub(crate) tables: Vec<CapturedTable>,
    pub(crate) notes: Vec<String>,
    /// Of what was looked through, as it was then.
    mark: String,
}

impl Choice {
    /// Whether other tables would be chosen now, or others named. As long as nothing in the catalog changed, no table is looked at.
    pub(crate) async fn is_other(
        &mut self,
        client: &Client,
        system: &str,
        definition: &SourceDefinition,
    ) -> Result<bool, ConnectorError> {
        if definition.patterns.is_none() || publication::tables_mark(client).await? == self.mark {
            return Ok(false);
        }
        let now = choose(client, system, definition).await?;
        self.mark = now.mark;
        Ok(now.tables != self.tables || now.notes != self.notes)
    }
}

pub(crate) async fn choose(client: &Client, system: &str, definition: &SourceDefinition) -> Result<Choice, ConnectorError> {
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
        let Some(found) = patterns.find(system, (&table.schema, &table.table), taken) else { continue };
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
