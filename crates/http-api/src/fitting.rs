//! Rows fitted to a registered schema, before a connector writes them so.

use gonvel_core::fitting::{How, Link};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A column that could fill a field.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct FitColumn {
    /// Its name.
    pub name: String,
    /// Its type, as SQL writes it.
    #[serde(rename = "type")]
    pub ty: String,
}

/// Columns to be linked with a schema's fields.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct FitRequest {
    /// The columns of the rows.
    pub columns: Vec<FitColumn>,
    /// Columns that were chosen for fields.
    #[serde(default)]
    pub links: Vec<Link>,
}

/// A field of a schema with the column that fills it.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct FitField {
    /// The names of the fields down to it.
    pub path: Vec<String>,
    /// What it holds, in words.
    pub holds: String,
    /// Whether a value without it does not fit.
    pub needed: bool,
    /// The column, if there is one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub column: Option<String>,
    /// How it came to it: the surer the earlier it stands in the list of ways.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub how: Option<How>,
    /// What becomes of the column's values, where they are not taken as they are.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub converts: Option<String>,
    /// What stands against it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub finding: Option<String>,
}

/// A schema's fields with the columns that fill them.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Fitted {
    /// The schema's name.
    pub schema: String,
    /// Its latest version.
    pub version: i32,
    /// The language it is written in.
    pub language: crate::Language,
    /// Its fields.
    pub fields: Vec<FitField>,
    /// Columns that fill no field: they are not written.
    pub unused: Vec<String>,
}
