//! What a server may ask of references on a person's behalf: to try a shape before it runs.

use std::collections::HashMap;
use std::sync::Arc;

use gonvel_core::ports::{PortError, SchemaStore, TopicLog};
use gonvel_core::shape::Shapes;
use gonvel_core::table::TableSchema;
use gonvel_shape::reference::Reference;

use crate::lane::Failure;
use crate::references::References;

/// Reads the references that a shape looks into, as far as they are there.
///
/// # Errors
/// [`PortError`] if the topic log does not answer.
pub async fn references(
    log: Arc<dyn TopicLog>,
    schemas: Arc<dyn SchemaStore>,
    shapes: &Shapes,
    into: &mut HashMap<String, Reference>,
) -> Result<(), PortError> {
    match References::read_those_there(log, schemas, shapes, into).await {
        Ok(_) => Ok(()),
        Err(Failure::Port(error)) => Err(error),
        Err(Failure::Connector(error)) => Err(PortError::Refused(error.to_string())),
    }
}

/// The tables of references as they are, for working shapes out.
#[must_use]
pub fn tables(references: &HashMap<String, Reference>) -> HashMap<String, Arc<TableSchema>> {
    crate::references::tables(references)
}
