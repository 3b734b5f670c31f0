//! Why the work of a lane ended.

use gonvel_core::event_rows::EventColumn;
use gonvel_core::failure::Kind;
use gonvel_core::ports::PortError;
use gonvel_core::ports::systems::ConnectorError;

/// Why it is not known where a connector stands.
#[derive(Debug, thiserror::Error)]
pub enum Unknown {
    /// Its system did not tell it.
    #[error(transparent)]
    System(#[from] ConnectorError),
    /// The catalog did not.
    #[error(transparent)]
    Catalog(#[from] PortError),
}

/// Why work ended.
#[derive(Debug)]
pub(crate) enum Failure {
    /// The connector's own system.
    Connector(ConnectorError),
    /// The topic log or the catalog.
    Port(PortError),
    /// Fields of events come that no column takes and that are to become columns.
    NewFields(NewFields),
}

/// Columns for fields that were never seen before.
#[derive(Debug)]
pub(crate) struct NewFields {
    /// The place of what is read in the definition.
    pub(crate) place: usize,
    /// The columns.
    pub(crate) columns: Vec<EventColumn>,
}

impl From<ConnectorError> for Failure {
    fn from(error: ConnectorError) -> Self {
        Self::Connector(error)
    }
}

impl From<PortError> for Failure {
    fn from(error: PortError) -> Self {
        Self::Port(error)
    }
}

impl From<Unknown> for Failure {
    fn from(error: Unknown) -> Self {
        match error {
            Unknown::System(error) => Self::Connector(error),
            Unknown::Catalog(error) => Self::Port(error),
        }
    }
}

impl Failure {
    pub(crate) fn kind(&self) -> Kind {
        match self {
            Self::Connector(error) => error.kind(),
            Self::Port(error) => match error {
                PortError::TryAgain { .. } => Kind::Connection,
                PortError::Fenced { .. } => Kind::Fenced,
                _ => Kind::Settings,
            },
            Self::NewFields(_) => Kind::Settings,
        }
    }

    pub(crate) fn message(&self) -> String {
        match self {
            Self::Connector(error) => match error {
                ConnectorError::Settings { statement: Some(statement), .. } => format!("{error} — {statement}"),
                error => error.to_string(),
            },
            Self::Port(error) => {
                let cause = std::error::Error::source(error).map(|c| format!(" ({c})")).unwrap_or_default();
                format!("{error}{cause}")
            }
            Self::NewFields(new) => {
                let names: Vec<&str> = new.columns.iter().map(|column| column.name.as_str()).collect();
                format!("fields come that no column takes: {}", names.join(", "))
            }
        }
    }
}
