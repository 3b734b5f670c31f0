//! Tables in a target database: made where they are missing, widened where columns are.

use std::collections::HashMap;

use gonvel_core::table::TableSchema;
use tokio_postgres::Client;

use super::client::explain;
use super::names::{OWN_SCHEMA, ident, qualified, type_name};
use crate::error::ConnectorError;

/// A target table as it stands.
#[derive(Debug, Clone)]
pub struct TargetTable {
    /// Quoted, with its schema.
    pub name: String,
    /// Type of each column, by name.
    pub types: HashMap<String, String>,
}

/// Gonvel's own tables in the target: where each sink stands, under which lease.
///
/// # Errors
/// [`ConnectorError`].
pub async fn ensure_own_tables(client: &Client) -> Result<(), ConnectorError> {
    let there = client
        .query_opt("SELECT 1 WHERE to_regclass('gonvel.sink_positions') IS NOT NULL", &[])
        .await
        .map_err(|e| explain(&e, "looking for Gonvel's own tables"))?;
    if there.is_some() {
        return Ok(());
    }
    client
        .batch_execute(&format!(
            "SELECT pg_advisory_lock(8470);
             CREATE SCHEMA IF NOT EXISTS {OWN_SCHEMA};
             CREATE TABLE IF NOT EXISTS {OWN_SCHEMA}.sink_positions (
                connector uuid NOT NULL, topic bigint NOT NULL, partition int NOT NULL,
                next_offset bigint NOT NULL, epoch bigint NOT NULL, counts text NOT NULL,
                PRIMARY KEY (connector, topic, partition)) WITH (fillfactor = 50);
             SELECT pg_advisory_unlock(8470)"
        ))
        .await
        .map_err(|e| explain(&e, "making Gonvel's own tables in the target"))
}

/// The statement that makes a table like the source's.
#[must_use]
pub fn create_statement(name: &str, source: &TableSchema) -> String {
    let columns: Vec<String> =
        source.columns.iter().map(|c| format!("{} {}", ident(&c.name), type_name(&c.source_type))).collect();
    let key: Vec<String> = source.columns.iter().filter(|c| c.key).map(|c| ident(&c.name)).collect();
    format!("CREATE TABLE {name} ({}, PRIMARY KEY ({}))", columns.join(", "), key.join(", "))
}

/// Makes the target table or adds what columns it lacks, and describes it.
///
/// # Errors
/// [`ConnectorError::Settings`] if its key is another one, with the statement that mends it.
pub async fn ensure(
    client: &Client,
    schema: &str,
    table: &str,
    source: &TableSchema,
) -> Result<TargetTable, ConnectorError> {
    let name = qualified(schema, table);
    let during = |e: tokio_postgres::Error| explain(&e, "preparing the target table");
    let exists = client.query_opt("SELECT 1 WHERE to_regclass($1) IS NOT NULL", &[&name]).await.map_err(during)?;
    if exists.is_none() {
        client.batch_execute(&format!("CREATE SCHEMA IF NOT EXISTS {}", ident(schema))).await.map_err(during)?;
        client.batch_execute(&create_statement(&name, source)).await.map_err(during)?;
    }
    let mut types = columns(client, &name).await?;
    for column in &source.columns {
        if !types.contains_key(&column.name) {
            let add = format!("ALTER TABLE {name} ADD COLUMN {} {}", ident(&column.name), type_name(&column.source_type));
            client.batch_execute(&add).await.map_err(during)?;
            types = columns(client, &name).await?;
        }
    }
    check_key(client, &name, source).await?;
    Ok(TargetTable { name, types })
}

async fn columns(client: &Client, name: &str) -> Result<HashMap<String, String>, ConnectorError> {
    let rows = client
        .query(
            "SELECT attname::text, format_type(atttypid, atttypmod) FROM pg_attribute
             WHERE attrelid = $1::text::regclass AND attnum > 0 AND NOT attisdropped",
            &[&name],
        )
        .await
        .map_err(|e| explain(&e, "describing the target table"))?;
    Ok(rows.iter().map(|r| (r.get(0), r.get(1))).collect())
}

pub(super) async fn check_key(client: &Client, name: &str, source: &TableSchema) -> Result<(), ConnectorError> {
    let mut key: Vec<String> = source.columns.iter().filter(|c| c.key).map(|c| c.name.clone()).collect();
    key.sort();
    let fits = client
        .query_opt(
            "SELECT 1 FROM pg_index i WHERE i.indrelid = $1::text::regclass AND i.indisunique AND i.indpred IS NULL
               AND i.indexprs IS NULL AND i.indimmediate AND (SELECT array_agg(a.attname::text ORDER BY a.attname::text COLLATE \"C\")
                 FROM pg_attribute a WHERE a.attrelid = i.indrelid AND a.attnum = ANY (i.indkey)) = $2::text[]",
            &[&name, &key],
        )
        .await
        .map_err(|e| explain(&e, "checking the target's key"))?;
    if fits.is_some() {
        return Ok(());
    }
    let columns: Vec<String> = key.iter().map(|c| ident(c)).collect();
    Err(ConnectorError::settings(
        Some("topics"),
        format!("the target table {name} has no unique key on {}, the source's key", key.join(", ")),
        "add the key, or choose another target table",
    )
    .with_statement(format!("ALTER TABLE {name} ADD UNIQUE ({});", columns.join(", "))))
}
