//! Names of what Gonvel makes in a database, and quoting.

use gonvel_core::naming::ConnectorId;

/// Schema for Gonvel's own tables in a target database.
pub const OWN_SCHEMA: &str = "gonvel";

/// The replication slot of a source connector.
#[must_use]
pub fn slot(connector: ConnectorId) -> String {
    format!("gonvel_{}", connector.simple())
}

/// The publication of a source connector.
#[must_use]
pub fn publication(connector: ConnectorId) -> String {
    format!("gonvel_{}", connector.simple())
}

/// An identifier in double quotes.
#[must_use]
pub fn ident(name: &str) -> String {
    format!("\"{}\"", name.replace('"', "\"\""))
}

/// A schema-qualified identifier.
#[must_use]
pub fn qualified(schema: &str, table: &str) -> String {
    format!("{}.{}", ident(schema), ident(table))
}

/// A text literal.
#[must_use]
pub fn literal(text: &str) -> String {
    if text.contains('\\') {
        return format!("E'{}'", text.replace('\\', "\\\\").replace('\'', "''"));
    }
    format!("'{}'", text.replace('\'', "''"))
}
