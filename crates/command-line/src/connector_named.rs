//! Connectors by what people call them.

use gonvel_http_api::Connector;

use crate::client::{Client, segment};
use crate::error::CommandError;

/// Finds a connector by its name or id.
pub(crate) async fn find(client: &Client, name: &str) -> Result<Connector, CommandError> {
    client.get(&format!("/connectors/{}", segment(name)), &[]).await
}
