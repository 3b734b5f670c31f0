//! Connectors by what people call them.

use gonvel_http_api::Connector;

use crate::client::Client;
use crate::error::CommandError;

/// Finds a connector by its name or id.
pub(crate) async fn find(client: &Client, name: &str) -> Result<Connector, CommandError> {
    let all: Vec<Connector> = client.get("/connectors", &[]).await?;
    let found = all.into_iter().find(|c| c.name == name || c.id.to_string() == name);
    found.ok_or_else(|| CommandError::Missing(format!("there is no connector {name}")))
}
