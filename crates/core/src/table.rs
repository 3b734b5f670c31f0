//! Tables as the sources and sinks see them.

use serde::{Deserialize, Serialize};

use crate::column::ColumnType;
use crate::data_type::DataType;

/// One column of a table.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub struct Column {
    /// Its name in the system.
    pub name: String,
    /// How its values are carried.
    pub ty: ColumnType,
    /// What they are, for making a column like it elsewhere.
    pub source_type: DataType,
    /// Whether it is part of the key that identifies a row.
    pub key: bool,
}

impl Column {
    /// Whether values that the database takes for equal can be written in several ways, of which one is the form that keys have here: a
    /// number without a scale of its own, a zero with a sign.
    #[must_use]
    pub fn has_several_forms(&self) -> bool {
        match self.ty {
            ColumnType::Float32 | ColumnType::Float64 => true,
            ColumnType::Verbatim => self.source_type == DataType::Number,
            _ => false,
        }
    }
}

/// A table by its schema and name: `public.bins`, or the name alone where its system has no schemas, as of files.
#[must_use]
pub fn qualified(schema: &str, table: &str) -> String {
    if schema.is_empty() { table.to_owned() } else { format!("{schema}.{table}") }
}

/// A table's shape at one moment.
///
/// Invariant: at least one column is a key column; a table without a key is refused by the preflight, because
/// without a key neither the order per row nor a second application of a change is defined.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub struct TableSchema {
    /// The system it belongs to: for a database, the database's name.
    pub system: String,
    /// The schema (the namespace of tables) it stands in.
    pub schema: String,
    /// Its name.
    pub table: String,
    /// Its columns in the system's order.
    pub columns: Vec<Column>,
}

impl TableSchema {
    /// `schema.table`, for messages.
    #[must_use]
    pub fn qualified(&self) -> String {
        qualified(&self.schema, &self.table)
    }

    /// The places of the key's columns, in column order.
    #[must_use]
    pub fn key_columns(&self) -> Vec<usize> {
        (0..self.columns.len()).filter(|&i| self.columns[i].key).collect()
    }
}
