//! Connections and preflight checks.

use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};
use utoipa::{IntoParams, ToSchema};
use uuid::Uuid;

/// A way to reach a system. A secret goes in but never comes out; when a connection is changed, one that is not given stays.
#[derive(Deserialize, Serialize, ToSchema)]
pub struct ConnectionRequest {
    /// Its name: letters, digits, `.`, `-`, `_`.
    pub name: String,
    /// The kind of system; the first of the kinds without it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub kind: Option<String>,
    /// Settings, as the kind takes them.
    #[serde(flatten)]
    pub settings: Map<String, Value>,
}

/// A saved connection, beside its settings as its kind takes them.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Connection {
    /// Its id.
    pub id: Uuid,
    /// Its name.
    pub name: String,
    /// The kind of system.
    pub kind: String,
    /// Where it is, as people read it.
    pub place: String,
    /// The schema that its tables usually are in.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub usual_schema: Option<String>,
    /// Its settings, without secrets.
    #[serde(flatten)]
    pub settings: Map<String, Value>,
    /// Names of the settings of which a secret is kept.
    pub kept_secrets: Vec<String>,
    /// Counts its changes.
    pub revision: i32,
    /// When it was made.
    #[schema(format = DateTime)]
    pub created_at: String,
    /// Names of the connectors that use it.
    pub used_by: Vec<String>,
}

/// How a check came out.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum Outcome {
    /// As it should be.
    Passed,
    /// Works, with a cost.
    Warning,
    /// Must be mended first.
    Failed,
}

/// One check of a preflight.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Check {
    /// What was checked.
    pub name: String,
    /// How it came out.
    pub outcome: Outcome,
    /// What was found.
    pub finding: String,
    /// What that means.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub meaning: Option<String>,
    /// What to do.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub remedy: Option<String>,
    /// A statement or setting to copy.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub statement: Option<String>,
    /// The field it belongs to.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub field: Option<String>,
    /// Whether the connection's own login may run the statement, so that it can be done from here.
    #[serde(default)]
    pub can_be_done: bool,
}

/// A preflight's report.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Preflight {
    /// Whether everything required passed.
    pub ready: bool,
    /// How long it took, in milliseconds.
    pub took_ms: u64,
    /// When it was made.
    #[schema(format = DateTime)]
    pub at: String,
    /// The checks in order.
    pub checks: Vec<Check>,
}

/// A table that could be captured.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SourceTable {
    /// Schema.
    pub schema: String,
    /// Table.
    pub table: String,
    /// Rows by the server's estimate; none if it never counted.
    pub rows: Option<i64>,
    /// The key's columns; empty without a primary key.
    pub key: Vec<String>,
    /// Columns.
    pub columns: i64,
}

/// Which connections.
#[derive(Debug, Clone, Default, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(default)]
pub struct ConnectionsQuery {
    /// Only those with this text in their names, in capitals or not.
    pub search: Option<String>,
    /// Only those to systems of this kind.
    pub kind: Option<String>,
    /// From the last name to the first.
    pub descending: bool,
}
