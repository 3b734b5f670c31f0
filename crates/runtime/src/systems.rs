//! What a server may ask of outside systems on a person's behalf: tests, preflights, lists of tables.

use gonvel_connectors::postgres::{client, preflight, tables};
use gonvel_core::connector::Definition;
use gonvel_core::ports::DatabaseAddress;

pub use gonvel_connectors::error::ConnectorError;
pub use gonvel_connectors::postgres::preflight::{Check, Outcome, Report, may_start};
pub use gonvel_connectors::postgres::tables::TableSummary;

/// Checks that a system can be reached and logged in to.
pub async fn test(address: &DatabaseAddress) -> Report {
    preflight::connection(address).await
}

/// Checks what a connector needs of its system.
pub async fn preflight(address: &DatabaseAddress, definition: &Definition) -> Report {
    match definition {
        Definition::Source { tables, .. } => preflight::source(address, tables).await,
        Definition::Sink { topics, .. } => preflight::sink(address, topics).await,
    }
}

/// The tables a system has.
///
/// # Errors
/// [`ConnectorError`] if it does not answer.
pub async fn list_tables(address: &DatabaseAddress) -> Result<Vec<TableSummary>, ConnectorError> {
    let client = client::connect(address).await?;
    tables::list(&client).await
}
