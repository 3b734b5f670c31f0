//! Connections and preflight checks.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use uuid::Uuid;

use crate::TlsMode;

/// A way to reach a system. The password goes in but never comes out.
#[derive(Debug, Clone, Deserialize, Serialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ConnectionRequest {
    /// Its name: letters, digits, `.`, `-`, `_`.
    pub name: String,
    /// The kind of system; the first of the kinds without it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub kind: Option<String>,
    /// Host name or address.
    pub host: String,
    /// Port.
    pub port: u16,
    /// Database.
    pub database: String,
    /// User.
    pub user: String,
    /// Password. When a connection is changed, none keeps the former one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub password: Option<String>,
    /// Whether sessions are encrypted.
    #[serde(default)]
    pub tls: TlsMode,
    /// Certificates that the server's may be signed by, as PEM text; none means those that Gonvel's machine trusts.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ca: Option<String>,
    /// Who reads the server's log, where that is another login.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub log_user: Option<String>,
    /// That login's password. When a connection is changed, none keeps the former one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub log_password: Option<String>,
    /// Settings of every session, by name, as `SET` takes them.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub settings: BTreeMap<String, String>,
}

/// A saved connection.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Connection {
    /// Its id.
    pub id: Uuid,
    /// Its name.
    pub name: String,
    /// The kind of system: `postgresql`.
    pub kind: String,
    /// Host name or address.
    pub host: String,
    /// Port.
    pub port: u16,
    /// Database.
    pub database: String,
    /// User.
    pub user: String,
    /// Whether sessions are encrypted.
    pub tls: TlsMode,
    /// Certificates to trust, as PEM text.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ca: Option<String>,
    /// Who reads the server's log, where that is another login.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub log_user: Option<String>,
    /// Settings of every session.
    pub settings: BTreeMap<String, String>,
    /// Counts its changes.
    pub revision: i32,
    /// When it was made.
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
