//! A kind of system that has tables, as a person sees them.

use std::collections::BTreeMap;

use async_trait::async_trait;
use serde::{Deserialize, Serialize};
use serde_json::Value as Json;

use super::{Address, ConnectorError};
use crate::change::ChangeBatch;
use crate::connector::{CapturedTable, Values};
use crate::table::TableSchema;

/// A table in a list.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct TableSummary {
    /// Schema.
    pub schema: String,
    /// Name.
    pub table: String,
    /// Rows by the system's own estimate; none if it never counted.
    pub rows: Option<i64>,
    /// Names of the key's columns, empty without a primary key.
    pub key: Vec<String>,
    /// Number of columns.
    pub columns: i64,
}

/// A column of a table.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct SampledColumn {
    /// Its name.
    pub name: String,
    /// Its type in the source.
    pub source_type: String,
    /// Whether it is part of the key.
    pub key: bool,
    /// Whether it is captured.
    pub captured: bool,
}

/// A row, and its record.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct SampledRow {
    /// All columns as the system writes them; none for null.
    pub cells: Vec<Option<String>>,
    /// The record's key, for people.
    pub key: Json,
    /// The record's value, for people.
    pub value: Json,
    /// Bytes of both.
    pub bytes: usize,
}

/// A few rows of a table.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Sample {
    /// All columns of the table.
    pub columns: Vec<SampledColumn>,
    /// The rows.
    pub rows: Vec<SampledRow>,
}

/// Takes rows of a table, a batch at a time.
pub type ReadRows<'t> = dyn FnMut(&ChangeBatch) -> Result<(), ConnectorError> + Send + 't;

/// Tables of a system.
///
/// # Errors
/// [`ConnectorError`] of every method: if the system does not answer, or the table cannot be read as asked.
#[async_trait]
pub trait Tables: Send + Sync {
    /// All tables that are not the system's or Gonvel's own.
    async fn list(&self, address: &Address) -> Result<Vec<TableSummary>, ConnectorError>;

    /// The shape of a table's rows, as they would be captured.
    async fn describe(&self, address: &Address, table: &CapturedTable) -> Result<TableSchema, ConnectorError>;

    /// A few rows, and the records they would become.
    async fn sample(&self, address: &Address, table: &CapturedTable, values: Values) -> Result<Sample, ConnectorError>;

    /// Rows as they are now, as those of an initial load.
    async fn rows(&self, address: &Address, table: &CapturedTable, most: usize) -> Result<ChangeBatch, ConnectorError>;

    /// Rows as they are now, by their key columns' values as the system writes them; those that are gone are left out.
    async fn rows_by_key(
        &self,
        address: &Address,
        table: &CapturedTable,
        keys: &[BTreeMap<String, String>],
    ) -> Result<ChangeBatch, ConnectorError>;

    /// All rows of some columns, as of one moment.
    async fn all_rows(
        &self,
        address: &Address,
        table: &CapturedTable,
        columns: &[String],
        take: &mut ReadRows<'_>,
    ) -> Result<(), ConnectorError>;
}
