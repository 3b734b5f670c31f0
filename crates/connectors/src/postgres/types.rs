//! PostgreSQL's names of types, both ways. It has the names that shapes are written with, and types of its own beside them.

use gonvel_core::data_type::DataType;
use gonvel_core::ports::systems::ConnectorError;
use gonvel_core::table::TableSchema;
use tokio_postgres::Client;

use super::client::explain;
use super::names::type_name;

/// What values of a type are that the server names so (`format_type`).
#[must_use]
pub fn of_name(name: &str) -> DataType {
    DataType::named(name)
}

/// The type's name for a statement that makes or changes a column.
#[must_use]
pub fn name_of(ty: &DataType) -> String {
    match ty {
        DataType::Array(of) => format!("{}[]", name_of(of)),
        // it comes with a topic's schema, which any producer can register
        DataType::Own(name) => type_name(name),
        named => named.to_string(),
    }
}

/// A table's shape as this server can have it: values of a type that is another system's own, or that an extension of the source's server made,
/// are text here, which is how they travel.
///
/// # Errors
/// [`ConnectorError`] if the server does not answer.
pub async fn known_here(client: &Client, mut shape: TableSchema) -> Result<TableSchema, ConnectorError> {
    for column in &mut shape.columns {
        let mut innermost = &column.source_type;
        while let DataType::Array(of) = innermost {
            innermost = of;
        }
        let DataType::Own(own) = innermost else { continue };
        let named = if own.is_empty() { None } else { Some(name_of(&column.source_type)) };
        let there = client.query_one("SELECT to_regtype($1) IS NOT NULL", &[&named]).await;
        if !there.map_err(|e| explain(&e, "looking for a type"))?.get::<_, bool>(0) {
            column.source_type = DataType::Text;
        }
    }
    Ok(shape)
}
