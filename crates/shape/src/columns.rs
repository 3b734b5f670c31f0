//! The columns that a step sees or leaves.

use gonvel_core::data_type::DataType;
use gonvel_core::table::{Column, TableSchema};

use crate::ty::Ty;

/// A column.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Field {
    /// Its name.
    pub name: String,
    /// Its type.
    pub ty: Ty,
    /// What its values are.
    pub source_type: DataType,
    /// Whether it is part of the key.
    pub key: bool,
    /// Whether it may be null.
    pub nullable: bool,
}

/// Columns in order.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Columns {
    /// They.
    pub fields: Vec<Field>,
}

impl Columns {
    /// Those of a table. Only key columns are known not to be null.
    #[must_use]
    pub fn of(table: &TableSchema) -> Self {
        let field = |c: &Column| Field {
            name: c.name.clone(),
            ty: Ty::of(c),
            source_type: c.source_type.clone(),
            key: c.key,
            nullable: !c.key,
        };
        Self { fields: table.columns.iter().map(field).collect() }
    }

    /// The place of a column.
    #[must_use]
    pub fn place(&self, name: &str) -> Option<usize> {
        self.fields.iter().position(|f| f.name == name)
    }

    /// The names, for people.
    #[must_use]
    pub fn listed(&self) -> String {
        const MOST: usize = 12;
        let names: Vec<&str> = self.fields.iter().take(MOST).map(|f| f.name.as_str()).collect();
        let more = if self.fields.len() > MOST { ", …" } else { "" };
        format!("{}{more}", names.join(", "))
    }

    /// A table of these columns, otherwise as another is.
    #[must_use]
    pub fn table(&self, like: &TableSchema) -> TableSchema {
        let column = |f: &Field| Column {
            name: f.name.clone(),
            ty: f.ty.column_type(),
            source_type: f.source_type.clone(),
            key: f.key,
        };
        TableSchema {
            system: like.system.clone(),
            schema: like.schema.clone(),
            table: like.table.clone(),
            columns: self.fields.iter().map(column).collect(),
        }
    }
}
