//! Rows written under a registered schema: its fields linked with columns by name, alias and type, and each row's value made of the
//! columns that are linked.

mod fields;
mod links;
mod target_field;
mod values;

use std::sync::Arc;

use bytes::Bytes;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::change::ChangeBatch;
use crate::schemas::values::ValueSchema;
use crate::table::TableSchema;

pub use fields::target_fields;
pub use links::{How, Link, Linked, link};
pub use target_field::{FieldKind, TargetField};

/// The schema that rows are written under.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Fit {
    /// The schema's name: its latest version when the connector starts is the one that is written.
    pub schema: String,
    /// Columns for fields. A field that is not among them gets the column of its name, or of an alias of it, if there is one.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub links: Vec<Link>,
}

/// How rows of one table become values of a schema.
#[derive(Debug, Clone)]
pub struct FitForm {
    schema: Arc<ValueSchema>,
    /// Fields with the columns that fill them.
    filled: Vec<(TargetField, usize)>,
}

impl FitForm {
    /// The form for a table's rows; `said` is how the schema's version is called.
    ///
    /// # Errors
    /// Which fields lack a column, or cannot take the one they are linked with.
    pub fn new(schema: Arc<ValueSchema>, said: &str, table: &TableSchema, fit: &Fit) -> Result<Self, String> {
        let linked = link(target_fields(schema.parsed()), &table.columns, &fit.links);
        let mut findings: Vec<String> = linked.iter().filter_map(Linked::finding).collect();
        findings.extend(links::unknown(&linked, &table.columns, &fit.links));
        if !findings.is_empty() {
            return Err(format!("{said}: {}", findings.join("; ")));
        }
        let place = |name: &str| table.columns.iter().position(|c| c.name == name);
        let filled = linked
            .into_iter()
            .filter(|linked| linked.how.is_some_and(How::is_taken))
            .filter_map(|linked| linked.column.as_deref().and_then(place).map(|place| (linked.field, place)));
        Ok(Self { filled: filled.collect(), schema })
    }

    /// The value of a row.
    ///
    /// # Errors
    /// What does not fit, with its path.
    pub fn value(&self, batch: &ChangeBatch, row: usize) -> Result<Bytes, String> {
        let mut value = serde_json::Map::new();
        let language = self.schema.parsed().language();
        for (field, place) in &self.filled {
            let found = batch.new[*place].value(row);
            let json = values::json(found, &batch.table.columns[*place], &field.kind, language).map_err(|finding| {
                let column = &batch.table.columns[*place].name;
                format!("at $.{}: {finding}: convert the column {column}, or link another", field.path.join("."))
            })?;
            if json.is_null() && !field.nullable {
                // its default stands for it, or it is missing, which is said at its path
                continue;
            }
            values::put(&mut value, &field.path, json);
        }
        self.schema.write(&serde_json::Value::Object(value))
    }
}

#[cfg(test)]
mod tests;
