//! Tables in a target database: what they are to look like, and making them so.

use std::collections::HashMap;

use gonvel_core::column::ColumnType;
use gonvel_core::connector::{Deletes, DeliveredTopic, TargetColumns, TargetRows, Writes};
use gonvel_core::ports::systems::ConnectorError;
use gonvel_core::table::{Column, TableSchema};
use tokio_postgres::Client;

use super::binary;
use super::client::explain;
use super::identity::key_columns;
use super::names::{OWN_SCHEMA, ident, qualified};
use super::types::{known_here, name_of, of_name};

/// A target table as it stands.
#[derive(Debug, Clone)]
pub struct TargetTable {
    /// Quoted, with its schema.
    pub name: String,
    /// Type of each column, by name.
    pub types: HashMap<String, String>,
    /// The source's columns that it has, by their places in the source's shape.
    pub present: Vec<usize>,
    /// Whether rows can be copied in in binary form.
    pub binary: bool,
    /// Whether a column of ours says what changes did not bring.
    pub says_unchanged: bool,
    /// What a person should do for it.
    pub notes: Vec<String>,
}

/// Gonvel's own tables in the target: where each sink stands, under which lease.
///
/// # Errors
/// [`ConnectorError`].
pub async fn ensure_own_tables(client: &Client) -> Result<(), ConnectorError> {
    let there = client
        .query_opt(
            "SELECT 1 FROM pg_attribute WHERE attrelid = to_regclass('gonvel.sink_positions') AND attname = 'trail'",
            &[],
        )
        .await
        .map_err(|e| explain(&e, "looking for Gonvel's own tables"))?;
    if there.is_some() {
        return Ok(());
    }
    client
        .batch_execute(&format!(
            // held to the commit: whoever waits for it then sees what was made
            "BEGIN; SELECT pg_advisory_xact_lock(8470);
             CREATE SCHEMA IF NOT EXISTS {OWN_SCHEMA};
             CREATE TABLE IF NOT EXISTS {OWN_SCHEMA}.sink_positions (
                connector uuid NOT NULL, topic bigint NOT NULL, partition int NOT NULL,
                next_offset bigint NOT NULL, epoch bigint NOT NULL, counts text NOT NULL,
                PRIMARY KEY (connector, topic, partition)) WITH (fillfactor = 50);
             ALTER TABLE {OWN_SCHEMA}.sink_positions ADD COLUMN IF NOT EXISTS at_truncate bigint;
             ALTER TABLE {OWN_SCHEMA}.sink_positions ADD COLUMN IF NOT EXISTS at_mark text;
             CREATE TABLE IF NOT EXISTS {OWN_SCHEMA}.sink_retried (
                connector uuid NOT NULL, id bigint NOT NULL, PRIMARY KEY (connector, id));
             ALTER TABLE {OWN_SCHEMA}.sink_positions ADD COLUMN IF NOT EXISTS trail text NOT NULL DEFAULT '';
             COMMIT"
        ))
        .await
        .map_err(|e| explain(&e, "making Gonvel's own tables in the target"))
}

/// The time at which a row was deleted in the source, where deleted rows are marked.
pub const DELETED_AT: &str = "deleted_at";
/// From when a row was in a state.
pub const VALID_FROM: &str = "valid_from";
/// Until when; null for the state it is in.
pub const VALID_TO: &str = "valid_to";
/// Names of columns that a change did not bring, because they did not change.
pub const UNCHANGED: &str = "unchanged";

fn own(name: &str, source_type: &str, key: bool) -> Column {
    Column { name: name.into(), ty: ColumnType::Verbatim, source_type: source_type.into(), key }
}

/// What a target's table is to look like, for rows of a source's table, or of events, which always bring all that they say.
#[must_use]
pub fn wanted(source: &TableSchema, writes: Writes, events: bool) -> TableSchema {
    const TIME: &str = "timestamp with time zone";
    let mut wanted = source.clone();
    match writes.rows {
        TargetRows::Current if writes.deletes == Deletes::Marked => wanted.columns.push(own(DELETED_AT, TIME, false)),
        TargetRows::Current => {}
        TargetRows::Appended => {
            wanted.columns.iter_mut().for_each(|c| c.key = false);
            if !events {
                wanted.columns.push(own(UNCHANGED, "text[]", false));
            }
        }
        TargetRows::Changes => {
            let columns = [
                ("change", "text"),
                ("committed_at", TIME),
                ("position", "pg_lsn"),
                ("sequence", "bigint"),
                ("transaction", "bigint"),
                ("old", "jsonb"),
                ("new", "jsonb"),
                (UNCHANGED, "text[]"),
            ];
            wanted.columns = columns.map(|(name, ty)| own(name, ty, false)).into();
        }
        TargetRows::History => {
            wanted.columns.push(own(VALID_FROM, TIME, true));
            wanted.columns.push(own(VALID_TO, TIME, false));
        }
    }
    wanted
}

/// The statement that makes a table of a shape.
#[must_use]
pub fn create_statement(name: &str, wanted: &TableSchema) -> String {
    let mut parts: Vec<String> =
        wanted.columns.iter().map(|c| format!("{} {}", ident(&c.name), name_of(&c.source_type))).collect();
    let key: Vec<String> = wanted.columns.iter().filter(|c| c.key).map(|c| ident(&c.name)).collect();
    if !key.is_empty() {
        parts.push(format!("PRIMARY KEY ({})", key.join(", ")));
    }
    format!("CREATE TABLE {name} ({})", parts.join(", "))
}

/// Makes the target table, changes its columns as far as the sink does that by itself, and describes it.
///
/// # Errors
/// [`ConnectorError::Settings`] if its key is another one, or a column of ours has the name of one of the source's, with what
/// mends it.
pub async fn ensure(
    client: &Client,
    topic: &DeliveredTopic,
    source: &TableSchema,
    writes: Writes,
) -> Result<TargetTable, ConnectorError> {
    // lanes that come to a table at one moment make and change it one after the other; an error ends the session, and the lock
    let during = |e: tokio_postgres::Error| explain(&e, "preparing the target table");
    let name = qualified(&topic.schema, &topic.table);
    client.execute("SELECT pg_advisory_lock(8470, hashtext($1))", &[&name]).await.map_err(during)?;
    let ensured = make_to_fit(client, topic, source, writes).await?;
    client.execute("SELECT pg_advisory_unlock(8470, hashtext($1))", &[&name]).await.map_err(during)?;
    Ok(ensured)
}

async fn make_to_fit(
    client: &Client,
    topic: &DeliveredTopic,
    source: &TableSchema,
    writes: Writes,
) -> Result<TargetTable, ConnectorError> {
    let (schema, table) = (&topic.schema, &topic.table);
    let name = qualified(schema, table);
    let events = topic.rows.is_some();
    let wanted = known_here(client, wanted(source, writes, events)).await?;
    check_names(&wanted)?;
    let during = |e: tokio_postgres::Error| explain(&e, "preparing the target table");
    let exists = client.query_opt("SELECT 1 WHERE to_regclass($1) IS NOT NULL", &[&name]).await.map_err(during)?;
    if exists.is_none() {
        client.batch_execute(&format!("CREATE SCHEMA IF NOT EXISTS {}", ident(schema))).await.map_err(during)?;
        client.batch_execute(&create_statement(&name, &wanted)).await.map_err(during)?;
    }
    let mut types = columns(client, &name).await?;
    let mut notes = Vec::new();
    for column in &wanted.columns {
        let quoted = ident(&column.name);
        let Some(there) = types.get(&column.name) else {
            let add = format!("ALTER TABLE {name} ADD COLUMN {quoted} {}", name_of(&column.source_type));
            // without its key, or what we write beside the rows, nothing could be written at all
            let needed = column.key || !source.columns.iter().any(|c| c.name == column.name);
            if writes.columns == TargetColumns::Ask && !needed {
                notes.push(format!("{schema}.{table} has no column {}, so its values are left out until the connector starts anew with it: {add};", column.name));
                continue;
            }
            client.batch_execute(&add).await.map_err(during)?;
            types = columns(client, &name).await?;
            continue;
        };
        if of_name(there).widens_to(&column.source_type) {
            let retype = format!("ALTER TABLE {name} ALTER COLUMN {quoted} TYPE {}", name_of(&column.source_type));
            if writes.columns == TargetColumns::Widen {
                client.batch_execute(&retype).await.map_err(during)?;
                types = columns(client, &name).await?;
            } else {
                let note = "a value that does not fit cannot be written";
                let (is, comes) = (there, &column.source_type);
                notes.push(format!("{schema}.{table}: {} is {is} there and {comes} comes, {note}: {retype};", column.name));
            }
        }
    }
    if wanted.columns.iter().any(|c| c.key) {
        check_key(client, &name, &wanted).await?;
    }
    let present: Vec<usize> = (0..source.columns.len()).filter(|&i| types.contains_key(&source.columns[i].name)).collect();
    let fits = |&i: &usize| binary::fits(source.columns[i].ty, &types[&source.columns[i].name]);
    let binary = present.iter().all(fits);
    let says_unchanged = writes.rows == TargetRows::Appended && !events;
    Ok(TargetTable { name, types, present, binary, says_unchanged, notes })
}

/// Refuses a table of which one column would stand for two.
pub(super) fn check_names(wanted: &TableSchema) -> Result<(), ConnectorError> {
    let twice = wanted.columns.iter().enumerate().find(|(i, c)| wanted.columns[..*i].iter().any(|o| o.name == c.name));
    let Some((_, column)) = twice else { return Ok(()) };
    Err(ConnectorError::settings(
        Some("topics"),
        format!("{} has a column {} of its own, where Gonvel would write its own", wanted.qualified(), column.name),
        "choose another way of writing rows for it",
    ))
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
            concat!("SELECT 1 FROM pg_index i WHERE i.indrelid = $1::text::regclass AND i.indisunique AND i.indpred IS NULL
               AND i.indexprs IS NULL AND i.indimmediate AND (SELECT array_agg(a.attname::text ORDER BY a.attname::text COLLATE \"C\")
                 FROM pg_attribute a WHERE a.attrelid = i.indrelid AND a.attnum = ANY (", key_columns!(), ")) = $2::text[]"),
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
