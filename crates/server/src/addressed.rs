//! What stands in an address by its name or its id.

use std::collections::HashMap;
use std::sync::Arc;

use axum::extract::FromRequestParts;
use axum::http::request::Parts;
use gonvel_core::ports::PortError;
use uuid::Uuid;

use crate::problems::{Path, Refusal};
use crate::state::ServerState;

/// The connector of an address. One that is given by its id need not be there any more.
pub(crate) struct ConnectorAt(pub(crate) Uuid);

/// The connection of an address.
pub(crate) struct ConnectionAt(pub(crate) Uuid);

impl FromRequestParts<Arc<ServerState>> for ConnectorAt {
    type Rejection = Refusal;

    async fn from_request_parts(parts: &mut Parts, state: &Arc<ServerState>) -> Result<Self, Refusal> {
        match said(parts, state, "connector").await? {
            Said::Id(id) => Ok(Self(id)),
            Said::Name(name) => Ok(Self(state.database.connector_named(&name).await?.0)),
        }
    }
}

impl FromRequestParts<Arc<ServerState>> for ConnectionAt {
    type Rejection = Refusal;

    async fn from_request_parts(parts: &mut Parts, state: &Arc<ServerState>) -> Result<Self, Refusal> {
        match said(parts, state, "connection").await? {
            Said::Id(id) => Ok(Self(id)),
            Said::Name(name) => Ok(Self(state.database.connection_named(&name).await?)),
        }
    }
}

enum Said {
    Id(Uuid),
    Name(String),
}

async fn said(parts: &mut Parts, state: &Arc<ServerState>, what: &str) -> Result<Said, Refusal> {
    let Path(mut all) = Path::<HashMap<String, String>>::from_request_parts(parts, state).await?;
    let said = all.remove(what).unwrap_or_default();
    if said.contains('\0') {
        // no name has it, and the database could not look for it
        return Err(PortError::NotFound { what: format!("{what} {said:?}") }.into());
    }
    Ok(Uuid::parse_str(&said).map_or(Said::Name(said), Said::Id))
}
