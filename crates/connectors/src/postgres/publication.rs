//! The publication of a source connector: it tells the server which tables to send.

use std::collections::HashSet;

use tokio_postgres::Client;

use super::client::explain;
use super::names::{ident, qualified};
use super::source::SourceSettings;
use super::tables::{self, TableSummary};
use crate::error::ConnectorError;

/// The publication that goes with a slot.
pub(super) fn of_slot(slot: &str) -> String {
    slot.to_owned()
}

fn named(settings: &SourceSettings) -> Vec<String> {
    settings.tables.iter().map(|t| qualified(&t.schema, &t.table)).collect()
}

/// Makes the publication anew.
pub(super) async fn make(client: &Client, settings: &SourceSettings) -> Result<(), ConnectorError> {
    let name = ident(&settings.publication());
    let tables = named(settings);
    let of = if tables.is_empty() { String::new() } else { format!("FOR TABLE {}", tables.join(", ")) };
    // changes of partitions come under the name of their table, with its columns
    let kinds = if settings.whole_rows { "insert, update, delete" } else { "insert, update, delete, truncate" };
    client
        .batch_execute(&format!(
            "DROP PUBLICATION IF EXISTS {name};
             CREATE PUBLICATION {name} {of} WITH (publish = '{kinds}', publish_via_partition_root = true)"
        ))
        .await
        .map_err(|e| explain(&e, "making the publication"))
}

/// Gives the publication the tables it is to have.
pub(super) async fn change(client: &Client, settings: &SourceSettings) -> Result<(), ConnectorError> {
    let name = ident(&settings.publication());
    let during = |e: tokio_postgres::Error| explain(&e, "changing the publication");
    let kinds = if settings.whole_rows { "insert, update, delete" } else { "insert, update, delete, truncate" };
    client.batch_execute(&format!("ALTER PUBLICATION {name} SET (publish = '{kinds}')")).await.map_err(during)?;
    let tables = named(settings);
    if tables.is_empty() {
        let there = of(client, &settings.publication()).await?;
        if there.is_empty() {
            return Ok(());
        }
        let there: Vec<String> = there.iter().map(|(schema, table)| qualified(schema, table)).collect();
        let drop = format!("ALTER PUBLICATION {name} DROP TABLE {}", there.join(", "));
        return client.batch_execute(&drop).await.map_err(during);
    }
    client.batch_execute(&format!("ALTER PUBLICATION {name} SET TABLE {}", tables.join(", "))).await.map_err(during)
}

/// Removes a publication, if it is there.
pub(super) async fn remove(client: &Client, publication: &str) -> Result<(), ConnectorError> {
    client
        .batch_execute(&format!("DROP PUBLICATION IF EXISTS {}", ident(publication)))
        .await
        .map_err(|e| explain(&e, "dropping the publication"))
}

async fn of(client: &Client, publication: &str) -> Result<HashSet<(String, String)>, ConnectorError> {
    let rows = client
        .query(
            "SELECT n.nspname::text, c.relname::text FROM pg_publication p JOIN pg_publication_rel r ON r.prpubid = p.oid
             JOIN pg_class c ON c.oid = r.prrelid JOIN pg_namespace n ON n.oid = c.relnamespace WHERE p.pubname = $1",
            &[&publication],
        )
        .await
        .map_err(|e| explain(&e, "reading the publication"))?;
    Ok(rows.iter().map(|row| (row.get(0), row.get(1))).collect())
}

/// Tables of the settings that a publication does not have.
pub(super) async fn lacking(
    client: &Client,
    publication: &str,
    settings: &SourceSettings,
) -> Result<Vec<String>, ConnectorError> {
    let has = of(client, publication).await?;
    let lacks = |t: &&gonvel_core::connector::CapturedTable| !has.contains(&(t.schema.clone(), t.table.clone()));
    Ok(settings.tables.iter().filter(lacks).map(gonvel_core::connector::CapturedTable::qualified).collect())
}

/// What the publication lacks of the settings' tables, and which of its own are not among them any more, as `schema.table`.
///
/// # Errors
/// [`ConnectorError`] if the server does not answer.
pub async fn differences(client: &Client, settings: &SourceSettings) -> Result<(Vec<String>, Vec<String>), ConnectorError> {
    let has = of(client, &settings.publication()).await?;
    let wanted: HashSet<_> = settings.tables.iter().map(|t| (t.schema.clone(), t.table.clone())).collect();
    let names = |tables: Vec<&(String, String)>| {
        let mut names: Vec<String> = tables.into_iter().map(|(schema, table)| format!("{schema}.{table}")).collect();
        names.sort();
        names
    };
    Ok((names(wanted.difference(&has).collect()), names(has.difference(&wanted).collect())))
}

/// The tables that can be found by their names, and why others cannot be captured.
///
/// # Errors
/// [`ConnectorError`] if the server does not answer.
pub async fn capturable(client: &Client) -> Result<Vec<(TableSummary, Option<&'static str>)>, ConnectorError> {
    let all = tables::list(client).await?;
    let owned = client
        .query(
            "SELECT n.nspname::text, c.relname::text, c.relreplident::text FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
             WHERE c.relkind IN ('r', 'p') AND pg_has_role(c.relowner, 'USAGE')",
            &[],
        )
        .await
        .map_err(|e| explain(&e, "listing tables"))?;
    let owned: std::collections::HashMap<(String, String), String> =
        owned.iter().map(|row| ((row.get(0), row.get(1)), row.get(2))).collect();
    let judged = all.into_iter().map(|table| {
        let identity = owned.get(&(table.schema.clone(), table.table.clone()));
        // published without a way to tell its rows apart, the table could not be updated any more in the source
        let hindrance = match identity.map(String::as_str) {
            None => Some("it belongs to another user"),
            Some("n") => Some("its replica identity is nothing"),
            Some(_) if table.key.is_empty() => Some("it has no primary key"),
            Some(_) => None,
        };
        (table, hindrance)
    });
    Ok(judged.collect())
}
