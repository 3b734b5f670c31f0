//! Manifests: connectors as text, read and written.

use std::collections::HashMap;
use std::sync::Arc;

use axum::Json;
use axum::extract::State;
use gonvel_core::connector::ValidConnector;
use gonvel_core::naming::{ConnectorId, ConnectorName};
use gonvel_core::yaml::ManifestError;
use gonvel_http_api::{ManifestFault, ManifestReading, ManifestText, NamedDefinition, Problem};
use gonvel_manifests::connector_text::{self as manifest, Names};
use uuid::Uuid;

use crate::problems::{Body, Refusal};
use crate::state::ServerState;

/// The names of connections and connectors.
#[derive(Debug, Default)]
pub(crate) struct KnownNames {
    connections: HashMap<Uuid, String>,
    connectors: HashMap<Uuid, String>,
}

fn by_name(all: &HashMap<Uuid, String>, name: &str) -> Option<Uuid> {
    all.iter().find(|(_, known)| *known == name).map(|(id, _)| *id)
}

impl Names for KnownNames {
    fn connection(&self, name: &str) -> Option<Uuid> {
        by_name(&self.connections, name)
    }

    fn connector(&self, name: &str) -> Option<Uuid> {
        by_name(&self.connectors, name)
    }

    fn connection_name(&self, id: Uuid) -> Option<String> {
        self.connections.get(&id).cloned()
    }

    fn connector_name(&self, id: Uuid) -> Option<String> {
        self.connectors.get(&id).cloned()
    }
}

pub(crate) async fn names(state: &ServerState) -> Result<KnownNames, Refusal> {
    Ok(KnownNames {
        connections: state.database.connections().await?.into_iter().map(|c| (c.id, c.name)).collect(),
        connectors: state.database.connectors().await?.into_iter().map(|c| (c.id.0, c.name)).collect(),
    })
}

/// Reads a manifest's text: the connector it describes, or what is wrong in it and where.
#[utoipa::path(operation_id = "readManifest", post, path = "/api/v1/manifests/read", tag = "connectors", request_body = ManifestText,
    responses((status = 200, body = ManifestReading), (status = 422, body = Problem)))]
pub(crate) async fn read(
    State(state): State<Arc<ServerState>>,
    Body(request): Body<ManifestText>,
) -> Result<Json<ManifestReading>, Refusal> {
    let names = names(&state).await?;
    let checked = manifest::read(&request.text, &names).and_then(|(name, definition)| {
        let of_name = |error: gonvel_core::naming::NameError| {
            ManifestError::about(&request.text, &name, format!("the connector cannot be named so: {error}"))
        };
        let parsed = ConnectorName::parse(name.clone()).map_err(of_name)?;
        let valid = ValidConnector::check(ConnectorId(Uuid::nil()), parsed, definition);
        let valid = valid.map_err(|error| ManifestError::of(&request.text, &error))?;
        Ok(NamedDefinition { name: name.clone(), definition: valid.definition().clone() })
    });
    Ok(Json(match checked {
        Ok(connector) => ManifestReading { connector: Some(connector), faults: Vec::new() },
        Err(ManifestError { line, column, finding }) => {
            ManifestReading { connector: None, faults: vec![ManifestFault { line, column, finding }] }
        }
    }))
}

/// Writes a connector as a manifest. It is not checked, so that one can be written while it is being built.
#[utoipa::path(operation_id = "writeManifest", post, path = "/api/v1/manifests/write", tag = "connectors", request_body = NamedDefinition,
    responses((status = 200, body = ManifestText), (status = 422, body = Problem)))]
pub(crate) async fn write(
    State(state): State<Arc<ServerState>>,
    Body(request): Body<NamedDefinition>,
) -> Result<Json<ManifestText>, Refusal> {
    let definition = request.definition.clone();
    Ok(Json(ManifestText { text: manifest::write(&request.name, &definition, &names(&state).await?) }))
}
