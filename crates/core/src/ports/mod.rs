//! The traits the other crates implement. Each method is one atomic unit.

mod errands;
mod error;
mod fleet;
mod quarantine;
mod readers;
mod runners;
pub mod systems;
mod topic_log;

use async_trait::async_trait;

use crate::naming::{SchemaId, SchemaName, TopicName};
use crate::schemas::Language;

pub use errands::*;
pub use error::PortError;
pub use fleet::*;
pub use quarantine::*;
pub use readers::*;
pub use runners::*;
pub use systems::Address;
pub use topic_log::*;

/// Registered schemas.
#[async_trait]
pub trait SchemaStore: Send + Sync {
    /// Registers an Avro schema's text for a topic's keys or values; the same text for the same topic gives the same id.
    ///
    /// # Errors
    /// [`PortError::Refused`] if it does not parse or does not keep the rule of the schema that the topic is bound to.
    async fn register(&self, topic: &TopicName, role: &str, text: &str, author: &str) -> Result<SchemaId, PortError>;

    /// The text of a registered schema.
    ///
    /// # Errors
    /// [`PortError::NotFound`].
    async fn schema_text(&self, id: SchemaId) -> Result<String, PortError>;

    /// The same with the language it is written in, as it stands by itself.
    ///
    /// # Errors
    /// [`PortError::NotFound`].
    async fn schema_in(&self, id: SchemaId) -> Result<(Language, String), PortError>;

    /// The latest version of a schema: its id, its number among the schema's versions, its language and its text as it stands by
    /// itself.
    ///
    /// # Errors
    /// [`PortError::NotFound`].
    async fn latest(&self, name: &SchemaName) -> Result<(SchemaId, i32, Language, String), PortError>;

    /// Binds a topic's values to a schema, unless they are bound to one; gives the name of the one that they are bound to.
    ///
    /// # Errors
    /// [`PortError::NotFound`].
    async fn bind_values(&self, topic: &TopicName, name: &SchemaName) -> Result<String, PortError>;
}
