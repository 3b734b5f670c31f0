//! What whoever watches is told of: objects that changed, as soon as the change has committed in whatever process.

use gonvel_core::naming::ConnectorId;
use gonvel_core::ports::PortError;
use tokio::sync::mpsc;
use tokio_postgres::Client;

use crate::Database;
use crate::reaching::listen;

/// The channel on which triggers of the tables tell.
const CHANNEL: &str = "gonvel_changes";

/// Something that changed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Told {
    /// A connector, or what its lanes say; it may be gone.
    Connector(ConnectorId),
    /// Something in a table of this name.
    Table(String),
}

impl Told {
    fn parse(text: &str) -> Self {
        let id = text.strip_prefix("connectors ").and_then(|id| id.parse().ok());
        id.map_or_else(|| Self::Table(text.to_owned()), |id| Self::Connector(ConnectorId(id)))
    }
}

/// What is told from now on, until the session with the database ends.
pub struct Telling {
    /// It ends the session when it is dropped.
    _client: Client,
    told: mpsc::UnboundedReceiver<String>,
}

impl Telling {
    /// The next thing that changed; none once the session has ended.
    ///
    /// Cancel safety: a dropped call has taken nothing.
    pub async fn next(&mut self) -> Option<Told> {
        self.told.recv().await.map(|text| Told::parse(&text))
    }

    /// The next thing that changed, if it was told already.
    pub fn already(&mut self) -> Option<Told> {
        self.told.try_recv().ok().map(|text| Told::parse(&text))
    }
}

impl Database {
    /// Begins to be told what changes.
    ///
    /// # Errors
    /// [`PortError::TryAgain`].
    pub async fn telling(&self) -> Result<Telling, PortError> {
        let again = |cause| PortError::TryAgain { during: "beginning to be told of changes", cause };
        let (client, told) = listen(&self.address).await.map_err(|e| again(e.into()))?;
        client.batch_execute(&format!("LISTEN {CHANNEL}")).await.map_err(|e| again(Box::new(e)))?;
        Ok(Telling { _client: client, told })
    }
}
