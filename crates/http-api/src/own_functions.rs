//! Functions of one's own.

use gonvel_core::own_function::OwnFunction;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use uuid::Uuid;

use crate::{ComparedShapes, ShapeFinding};

/// A version of a function.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct FunctionVersion {
    /// It.
    pub function: OwnFunction,
    /// `(grade text) → integer`, for people.
    pub signature: String,
    /// Counts its changes, from 1.
    pub version: i32,
    /// Who saved it; empty if that is not known.
    pub saved_by: String,
    /// When.
    #[schema(format = DateTime)]
    pub saved_at: String,
}

/// A connector whose shape calls a function.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct FunctionUser {
    /// Its id.
    pub id: Uuid,
    /// Its name.
    pub name: String,
}

/// A function in force.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct FunctionEntry {
    /// The version in force.
    #[serde(flatten)]
    pub current: FunctionVersion,
    /// Connectors whose shapes call it, in themselves or by another function.
    pub used_by: Vec<FunctionUser>,
    /// Other functions that call it.
    pub called_by: Vec<String>,
}

/// A function with its versions.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct FunctionDetail {
    /// The version in force, and what uses it.
    #[serde(flatten)]
    pub entry: FunctionEntry,
    /// All versions, the newest first.
    pub versions: Vec<FunctionVersion>,
}

/// A function to be tried or saved.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct FunctionRequest {
    /// It.
    pub function: OwnFunction,
}

/// What an example comes to.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct TriedExample {
    /// What the function gives, as text; none for null.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub found: Option<String>,
    /// Why it gives nothing, if it fails.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub finding: Option<String>,
    /// Whether that is what the example says.
    pub holds: bool,
}

/// What a change of a function does to the rows of one that uses it.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct FunctionEffect {
    /// The connector.
    pub connector: String,
    /// Its table as `schema.table`, or its topic.
    pub of: String,
    /// The rows compared; none if they cannot be read.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub compared: Option<ComparedShapes>,
    /// Why they cannot be read.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub finding: Option<String>,
}

/// What a function does, before it is saved.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct TriedFunction {
    /// What is wrong with it, by its fields.
    pub findings: Vec<ShapeFinding>,
    /// What its examples come to, in their order.
    pub examples: Vec<TriedExample>,
    /// What it does to the newest rows of all that use it.
    pub effects: Vec<FunctionEffect>,
}
