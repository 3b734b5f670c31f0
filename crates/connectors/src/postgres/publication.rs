//! The publication of a source connector: it tells the server which tables to send.

use std::collections::{BTreeMap, HashMap, HashSet};

use gonvel_core::connector::CapturedTable;
use gonvel_core::naming::Epoch;
use gonvel_core::ports::systems::{ConnectorError, Differences, TableSummary};
use tokio_postgres::Client;
use tokio_postgres::error::SqlState;

use super::client::explain;
use super::identity;
use super::load::MARK;
use super::names::{ident, literal, qualified};
use super::pgoutput::Relation;
use super::source_settings::PgSourceSettings;
use super::tables;

fn kinds(settings: &PgSourceSettings) -> &'static str {
    if settings.whole_rows { "insert, update, delete" } else { "insert, update, delete, truncate" }
}

/// Begins a transaction in which the publication is changed, by a lease: that is noted with the publication. Whoever had the lane before
/// and was frozen meanwhile comes too late from then on.
async fn claim(client: &Client, settings: &PgSourceSettings) -> Result<(), ConnectorError> {
    let during = |e: tokio_postgres::Error| explain(&e, "looking who changed the publication last");
    let name = settings.publication();
    client.batch_execute("BEGIN").await.map_err(during)?;
    let locked = client.execute("SELECT pg_advisory_xact_lock(8471, hashtext($1))", &[&name]).await;
    locked.map_err(during)?;
    settings.refuse_later(client).await
}

impl PgSourceSettings {
    /// The content of the mark in the log from which on a table is another, or published again.
    pub(super) fn anew_mark(&self, table: &str) -> String {
        format!("anew:{}:{table}", self.connector.simple())
    }

    /// Refuses to change what belongs to the connector once a later holder of its lease has.
    ///
    /// # Errors
    /// [`ConnectorError::Later`] with the later lease.
    pub(super) async fn refuse_later(&self, client: &Client) -> Result<(), ConnectorError> {
        let noted = client
            .query_opt(&format!("SELECT {NOTED} FROM pg_publication p WHERE p.pubname = $1"), &[&self.publication()])
            .await
            .map_err(|e| explain(&e, "looking who changed the publication last"))?;
        match noted.and_then(|row| row.get::<_, Option<i64>>(0)) {
            Some(later) if later > self.epoch.0 && self.void != Some(Epoch(later)) => {
                Err(ConnectorError::Later { epoch: later })
            }
            _ => Ok(()),
        }
    }
}

/// The lease noted with a publication `p`.
pub(super) const NOTED: &str =
    "substring(obj_description(p.oid, 'pg_publication') FROM '^Gonvel, lease ([0-9]{1,18})$')::bigint";

/// What notes the lease, and ends the transaction.
fn note(settings: &PgSourceSettings) -> String {
    format!("COMMENT ON PUBLICATION {} IS 'Gonvel, lease {}'; COMMIT", ident(&settings.publication()), settings.epoch.0)
}

/// Makes the publication anew.
pub(super) async fn make(client: &Client, settings: &PgSourceSettings) -> Result<(), ConnectorError> {
    let name = ident(&settings.publication());
    let tables: Vec<String> = settings.tables.iter().map(|t| qualified(&t.schema, &t.table)).collect();
    let of = if tables.is_empty() { String::new() } else { format!("FOR TABLE {}", tables.join(", ")) };
    // changes of partitions come under the name of their table, with its columns
    let kinds = kinds(settings);
    claim(client, settings).await?;
    client
        .batch_execute(&format!(
            "DROP PUBLICATION IF EXISTS {name};
             CREATE PUBLICATION {name} {of} WITH (publish = '{kinds}', publish_via_partition_root = true); {}",
            note(settings)
        ))
        .await
        .map_err(|e| explain(&e, "making the publication"))
}

/// Gives the publication what it is to have, of the tables that are there: no other ones come in than those that are `new`. For some of them
/// the log is marked: what the stream brings under their names before that mark is of what was there before, and nothing after it is. Gives the
/// numbers of those that are new.
pub(super) async fn change(
    client: &Client,
    settings: &PgSourceSettings,
    new: &[String],
    anew: &[String],
) -> Result<BTreeMap<String, u32>, ConnectorError> {
    let name = ident(&settings.publication());
    let during = |e: tokio_postgres::Error| match e.code() {
        Some(&SqlState::UNDEFINED_TABLE | &SqlState::INVALID_SCHEMA_NAME) => {
            ConnectorError::try_again("a table was dropped just now", "Gonvel looks again by itself")
        }
        _ => explain(&e, "changing the publication"),
    };
    claim(client, settings).await?;
    let had = published(client, &settings.publication()).await?;
    let mut changes = format!("ALTER PUBLICATION {name} SET (publish = '{}'); ", kinds(settings));
    let listed = |tables: HashSet<(String, String)>| {
        tables.iter().map(|(schema, table)| qualified(schema, table)).collect::<Vec<_>>().join(", ")
    };
    let wanted = there(client, settings).await?;
    if wanted.is_empty() {
        if !had.is_empty() {
            let had = had.values().cloned().collect();
            changes.push_str(&format!("ALTER PUBLICATION {name} DROP TABLE {}; ", listed(had)));
        }
    } else {
        changes.push_str(&format!("ALTER PUBLICATION {name} SET TABLE {}; ", listed(wanted)));
    }
    for table in anew {
        let mark = literal(&settings.anew_mark(table));
        changes.push_str(&format!("SELECT pg_logical_emit_message(true, '{MARK}', {mark}); "));
    }
    client.batch_execute(&changes).await.map_err(during)?;
    // one that was made anew since it was looked would be sent with nothing that tells so
    let has = published(client, &settings.publication()).await?;
    let came = has.iter().filter(|(oid, _)| !had.contains_key(oid));
    if came.map(|(_, (schema, table))| format!("{schema}.{table}")).any(|table| !new.contains(&table)) {
        client.batch_execute("ROLLBACK").await.map_err(during)?;
        return Err(ConnectorError::try_again("a table was made anew just now", "Gonvel looks again by itself"));
    }
    client.batch_execute(&note(settings)).await.map_err(during)?;
    let named = has.into_iter().map(|(number, (schema, table))| (format!("{schema}.{table}"), number));
    Ok(named.filter(|(name, _)| new.contains(name)).collect())
}

/// The settings' tables that are there. One that was dropped keeps its changes in the log; there is nothing to publish of it.
async fn there(client: &Client, settings: &PgSourceSettings) -> Result<HashSet<(String, String)>, ConnectorError> {
    let schemas: Vec<&str> = settings.tables.iter().map(|t| t.schema.as_str()).collect();
    let names: Vec<&str> = settings.tables.iter().map(|t| t.table.as_str()).collect();
    let rows = client
        .query(
            "SELECT n.nspname::text, c.relname::text FROM unnest($1::text[], $2::text[]) AS w(schema, name)
             JOIN pg_namespace n ON n.nspname = w.schema JOIN pg_class c ON c.relnamespace = n.oid AND c.relname = w.name",
            &[&schemas, &names],
        )
        .await
        .map_err(|e| explain(&e, "looking for tables"))?;
    Ok(rows.iter().map(|row| (row.get(0), row.get(1))).collect())
}

/// Takes back a publication that was made for nothing, unless a later holder of the lease has made another meanwhile.
pub(super) async fn take_back(client: &Client, settings: &PgSourceSettings) -> Result<(), ConnectorError> {
    claim(client, settings).await?;
    remove(client, &settings.publication()).await?;
    client.batch_execute("COMMIT").await.map_err(|e| explain(&e, "dropping the publication"))
}

/// Removes a publication, if it is there.
pub(super) async fn remove(client: &Client, publication: &str) -> Result<(), ConnectorError> {
    client
        .batch_execute(&format!("DROP PUBLICATION IF EXISTS {}", ident(publication)))
        .await
        .map_err(|e| explain(&e, "dropping the publication"))
}

/// The tables of a publication, by schema and name.
async fn of(client: &Client, publication: &str) -> Result<HashSet<(String, String)>, ConnectorError> {
    Ok(published(client, publication).await?.into_values().collect())
}

/// The same, each by its number: another one of the same name has another.
async fn published(client: &Client, publication: &str) -> Result<HashMap<u32, (String, String)>, ConnectorError> {
    let rows = client
        .query(
            "SELECT c.oid, n.nspname::text, c.relname::text FROM pg_publication p JOIN pg_publication_rel r ON r.prpubid = p.oid
             JOIN pg_class c ON c.oid = r.prrelid JOIN pg_namespace n ON n.oid = c.relnamespace WHERE p.pubname = $1",
            &[&publication],
        )
        .await
        .map_err(|e| explain(&e, "reading the publication"))?;
    Ok(rows.iter().map(|row| (row.get(0), (row.get(1), row.get(2)))).collect())
}

/// The publication was dropped: the server cannot read its log by one that was made later.
pub(super) fn gone(publication: &str) -> ConnectorError {
    ConnectorError::settings(
        None,
        format!("the publication {publication} is not in the database any more, so changes since it was dropped are gone"),
        "begin anew: every row is loaded again, and rows that were deleted meanwhile go if the tables are emptied first",
    )
}

/// Refuses to publish tables that cannot be captured: without an identity they could not be updated in the source any more.
///
/// # Errors
/// [`ConnectorError::Settings`] that names one, and what hinders.
pub async fn refuse_hindered(client: &Client, tables: &[&CapturedTable]) -> Result<(), ConnectorError> {
    let schemas: Vec<&str> = tables.iter().map(|t| t.schema.as_str()).collect();
    let names: Vec<&str> = tables.iter().map(|t| t.table.as_str()).collect();
    let keys: Vec<String> = tables.iter().map(|t| serde_json::Value::from(t.key.clone()).to_string()).collect();
    let statement = format!(
        "SELECT w.schema || '.' || w.name, judged.why FROM unnest($1::text[], $2::text[], $3::text[]) AS w(schema, name, key)
         JOIN pg_namespace n ON n.nspname = w.schema JOIN pg_class c ON c.relnamespace = n.oid AND c.relname = w.name
         CROSS JOIN LATERAL (SELECT {} AS why) judged WHERE judged.why IS NOT NULL ORDER BY 1",
        identity::hindrance("w.key::jsonb")
    );
    let hindered = client.query(&statement, &[&schemas, &names, &keys]).await;
    let hindered = hindered.map_err(|e| explain(&e, "looking at tables"))?;
    let Some(row) = hindered.first() else { return Ok(()) };
    let (table, why): (String, String) = (row.get(0), row.get(1));
    Err(ConnectorError::settings(
        Some("tables"),
        format!("{table} cannot be published: {why}"),
        "mend that in the source, or take the table out of the connector",
    ))
}

/// A row that is changed or deleted cannot be named by the key that was chosen.
pub(super) fn without_identity(table: &str, column: &str) -> ConnectorError {
    ConnectorError::settings(
        Some("tables"),
        format!(
            "the replica identity of {table} does not hold {column}, a column of the key that was chosen for it: the log does not say which row was changed or deleted"
        ),
        "give the table a replica identity that holds the key (an index on it, or FULL), then begin anew: what was logged meanwhile cannot be told apart",
    )
}

/// Refuses a relation whose changes do not name rows by the key that was chosen for it, as the log described it. Of a partitioned table the
/// log does not say which identity its partitions have: it is that of now.
pub(super) async fn refuse_without_identity(
    client: &Client,
    wanted: &CapturedTable,
    relation: &Relation,
) -> Result<(), ConnectorError> {
    let lacks = |key: &&String| relation.columns.iter().any(|c| c.name == **key && !c.identity);
    let Some(column) = wanted.key.iter().find(lacks) else { return Ok(()) };
    let found = client
        .query_opt("SELECT 1 FROM pg_class WHERE oid = $1 AND relkind = 'p'", &[&relation.oid])
        .await
        .map_err(|e| explain(&e, "looking at a table"))?;
    if found.is_some() {
        refuse_hindered(client, &[wanted]).await
    } else {
        Err(without_identity(&wanted.qualified(), column))
    }
}

/// Tables of the settings that a publication does not have.
pub(super) async fn lacking(
    client: &Client,
    publication: &str,
    settings: &PgSourceSettings,
) -> Result<Vec<String>, ConnectorError> {
    let has = of(client, publication).await?;
    let lacks = |t: &&CapturedTable| !has.contains(&(t.schema.clone(), t.table.clone()));
    Ok(settings.tables.iter().filter(lacks).map(CapturedTable::qualified).collect())
}

/// Refuses to let go of a table that has another name now: what it would bring under that name must not be lost.
///
/// # Errors
/// [`ConnectorError::Settings`] that names both.
pub(super) fn refuse_renamed(settings: &PgSourceSettings, found: &Differences) -> Result<(), ConnectorError> {
    // what is captured because of its name goes and comes with it
    let by_name = |name: &&String| name.split_once('.').is_some_and(|(schema, table)| settings.by_name(schema, table));
    match (found.missing.first(), found.gone.iter().find(|name| !by_name(name))) {
        (Some(missing), Some(gone)) => Err(renamed(missing, gone)),
        _ => Ok(()),
    }
}

/// What is to be done where a table may have been given another name.
fn renamed(missing: &str, now: &str) -> ConnectorError {
    ConnectorError::settings(
        Some("tables"),
        format!("there is no table {missing} any more, and {now}, which is not in the connector, is still sent"),
        format!(
            "if it was renamed, capture {now} in its place, into the same topic: nothing of it is lost; if it was dropped, take it \
             out of the connector"
        ),
    )
}

/// Refuses to pass over changes of a table that is none of the settings' but is sent by their publication, where one of them is
/// missing: it may have been renamed.
pub(super) async fn refuse_renamed_now(
    client: &Client,
    settings: &PgSourceSettings,
    schema: &str,
    table: &str,
) -> Result<(), ConnectorError> {
    let found = differences(client, settings, &BTreeMap::new()).await?;
    let now = format!("{schema}.{table}");
    match found.missing.first().filter(|_| found.gone.contains(&now)) {
        Some(missing) => Err(renamed(missing, &now)),
        None => Ok(()),
    }
}

/// How the publication differs from what the settings want. `known` are the numbers that the captured tables had: the publication has tables
/// and not names, so it says nothing of two that took each other's. Nothing is another one where none is known.
///
/// # Errors
/// [`ConnectorError`] if the server does not answer; if the publication is gone, it says what that means.
pub async fn differences(
    client: &Client,
    settings: &PgSourceSettings,
    known: &BTreeMap<String, u32>,
) -> Result<Differences, ConnectorError> {
    let published = published(client, &settings.publication()).await?;
    let has: HashSet<_> = published.values().cloned().collect();
    let wanted: HashSet<_> = settings.tables.iter().map(|t| (t.schema.clone(), t.table.clone())).collect();
    let names = |tables: Vec<&(String, String)>| {
        let mut names: Vec<String> = tables.into_iter().map(|(schema, table)| format!("{schema}.{table}")).collect();
        names.sort();
        names
    };
    let truncates = client
        .query_opt("SELECT pubtruncate FROM pg_publication WHERE pubname = $1", &[&settings.publication()])
        .await
        .map_err(|e| explain(&e, "reading the publication"))?;
    let Some(truncates) = truncates else { return Err(gone(&settings.publication())) };
    let there = there(client, settings).await?;
    let mut new = names(there.difference(&has).collect());
    let is_same = |name: &str, by_name: bool, number: u32| match known.get(name) {
        Some(known) => *known == number,
        // one whose new name a person put in the place of the former goes on; found by its new name it begins
        None => known.is_empty() || (!by_name && known.values().any(|known| *known == number)),
    };
    let mut numbers = BTreeMap::new();
    for (number, (schema, table)) in published.into_iter().filter(|(_, name)| wanted.contains(name)) {
        let name = format!("{schema}.{table}");
        if is_same(&name, settings.by_name(&schema, &table), number) {
            numbers.insert(name, number);
        } else {
            new.push(name);
        }
    }
    new.sort();
    Ok(Differences {
        new,
        gone: names(has.difference(&wanted).collect()),
        missing: names(wanted.difference(&there).filter(|(schema, table)| !settings.by_name(schema, table)).collect()),
        kinds: truncates.get::<_, bool>(0) == settings.whole_rows,
        numbers,
    })
}

/// A mark of everything that [`capturable`] looks at: as long as it is the same, so is what that gives. It takes a fraction of the
/// time.
///
/// # Errors
/// [`ConnectorError`] if the server does not answer.
pub async fn tables_mark(client: &Client) -> Result<String, ConnectorError> {
    let sum =
        |table: &str| format!("(SELECT sum(hashtext(t.ctid::text || ' ' || t.xmin::text)::bigint)::text FROM {table} t)");
    let tables = ["pg_class", "pg_index", "pg_namespace", "pg_auth_members"].map(sum).join(", ");
    let row = client.query_one(&format!("SELECT concat_ws(' ', {tables})"), &[]).await;
    Ok(row.map_err(|e| explain(&e, "looking for tables"))?.get(0))
}

/// The tables that can be found by their names, and why others cannot be captured.
///
/// # Errors
/// [`ConnectorError`] if the server does not answer.
pub async fn capturable(client: &Client) -> Result<Vec<(TableSummary, Option<String>)>, ConnectorError> {
    let all = tables::list(client).await?;
    let statement = format!(
        "SELECT n.nspname::text, c.relname::text, {}
         FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
         WHERE c.relkind IN ('r', 'p') AND n.nspname NOT IN ('pg_catalog', 'information_schema')",
        identity::hindrance("'[]'::jsonb")
    );
    let judged = client.query(&statement, &[]).await.map_err(|e| explain(&e, "listing tables"))?;
    let mut judged: HashMap<(String, String), Option<String>> =
        judged.iter().map(|row| ((row.get(0), row.get(1)), row.get(2))).collect();
    let judge = |table: TableSummary| {
        let hindrance = judged.remove(&(table.schema.clone(), table.table.clone()));
        (table, hindrance.unwrap_or_else(|| Some("it is gone".into())))
    };
    Ok(all.into_iter().map(judge).collect())
}
