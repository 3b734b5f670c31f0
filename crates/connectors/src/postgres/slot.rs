//! What a source connector makes in its server, a slot and a publication: making, checking and removing them.

use std::collections::BTreeMap;
use std::time::Duration;

use gonvel_core::naming::ConnectorId;
use gonvel_core::ports::DatabaseAddress;
use tokio_postgres::Client;

use super::client::{connect, explain};
use super::load::current_snapshot;
use super::names::{self, ident, qualified};
use super::position::{PgPosition, Snapshot};
use super::replication::ReplicationSession;
use super::source::SourceSettings;
use crate::error::ConnectorError;

/// Makes the publication and the slot, and gives the position to begin from. What an earlier, unfinished attempt of the same
/// connector left is replaced.
///
/// # Errors
/// [`ConnectorError`]; a publication made here is taken back if the slot cannot be made.
pub async fn prepare(settings: &SourceSettings) -> Result<PgPosition, ConnectorError> {
    let client = connect(&settings.address).await?;
    drop_slot(&connect(&settings.address.for_log()).await?, &settings.slot()).await?;
    let publication = ident(&settings.publication());
    let tables: Vec<String> = settings.tables.iter().map(|t| qualified(&t.schema, &t.table)).collect();
    client
        .batch_execute(&format!(
            "DROP PUBLICATION IF EXISTS {publication}; CREATE PUBLICATION {publication} FOR TABLE {}",
            tables.join(", ")
        ))
        .await
        .map_err(|e| explain(&e, "making the publication"))?;
    match make_slot(settings).await {
        Ok((lsn, snapshot)) => {
            let loaded = settings.tables.iter().filter(|_| settings.load.rows);
            let loads: BTreeMap<_, _> = loaded.map(|t| (format!("{}.{}", t.schema, t.table), None)).collect();
            let snapshot = (!loads.is_empty()).then_some(snapshot);
            Ok(PgPosition { lsn, partial: None, snapshot, loads, again: BTreeMap::new() })
        }
        Err(error) => {
            let _ = client.batch_execute(&format!("DROP PUBLICATION IF EXISTS {publication}")).await;
            Err(error)
        }
    }
}

/// Makes the slot and learns, in the same transaction, what its first position sees.
async fn make_slot(settings: &SourceSettings) -> Result<(u64, Snapshot), ConnectorError> {
    let mut session = ReplicationSession::connect(&settings.address).await?;
    let during = "making the replication slot";
    session.query("BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY", during).await?;
    let made = session
        .query(&format!("CREATE_REPLICATION_SLOT \"{}\" LOGICAL pgoutput USE_SNAPSHOT", settings.slot()), during)
        .await?;
    let seen = session.query("SELECT pg_current_snapshot()::text", during).await?;
    session.query("COMMIT", during).await?;
    let cell = |rows: &[Vec<Option<String>>], column: usize| rows.first().and_then(|r| r.get(column).cloned().flatten());
    let lsn = cell(&made, 1).and_then(|t| gonvel_core::change_form::read_position(&t));
    let snapshot = cell(&seen, 0).and_then(|t| Snapshot::parse(&t));
    lsn.zip(snapshot).ok_or_else(|| ConnectorError::Defect("the answer to making a slot cannot be read".into()))
}

/// Notes in a position that tables are to be loaded again from their start. Nothing may be streamed from the position yet.
///
/// # Errors
/// [`ConnectorError`] if the server does not answer.
pub async fn load_again(
    settings: &SourceSettings,
    position: &mut PgPosition,
    tables: &[String],
) -> Result<(), ConnectorError> {
    let now = current_snapshot(&connect(&settings.address).await?).await?;
    let captured = |name: &&String| settings.tables.iter().any(|t| format!("{}.{}", t.schema, t.table) == **name);
    for table in tables.iter().filter(captured) {
        position.load_again(table, now.clone());
    }
    Ok(())
}

async fn drop_slot(client: &Client, slot: &str) -> Result<(), ConnectorError> {
    let during = |e: tokio_postgres::Error| explain(&e, "dropping the replication slot");
    free_slot(client, slot).await?;
    for _ in 0..50 {
        let dropped = client
            .execute(
                "SELECT pg_drop_replication_slot(slot_name) FROM pg_replication_slots WHERE slot_name = $1 AND active_pid IS NULL",
                &[&slot],
            )
            .await;
        match dropped {
            Ok(_) => {
                let left = client
                    .query_opt("SELECT 1 FROM pg_replication_slots WHERE slot_name = $1", &[&slot])
                    .await
                    .map_err(during)?;
                if left.is_none() {
                    return Ok(());
                }
            }
            Err(e) if e.code() == Some(&tokio_postgres::error::SqlState::OBJECT_IN_USE) => {}
            Err(e) => return Err(during(e)),
        }
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
    Err(ConnectorError::try_again(
        format!("the replication slot {slot} is in use by another session"),
        "Gonvel tries again by itself; end the session in pg_stat_replication if it stays",
    ))
}

/// Removes the slot and the publication.
///
/// # Errors
/// [`ConnectorError`]; it says what could not be removed.
pub async fn clean_up(address: &DatabaseAddress, connector: ConnectorId) -> Result<(), ConnectorError> {
    drop_slot(&connect(&address.for_log()).await?, &names::slot(connector)).await?;
    connect(address)
        .await?
        .batch_execute(&format!("DROP PUBLICATION IF EXISTS {}", ident(&names::publication(connector))))
        .await
        .map_err(|e| explain(&e, "dropping the publication"))
}

/// Ends a session that still holds the slot. Whoever starts has the lane's lease, so that session's runner can append nothing
/// any more; it is frozen, cut off, or not yet missed by the server.
///
/// # Errors
/// [`ConnectorError`] if the server does not answer.
pub(super) async fn free_slot(client: &Client, slot: &str) -> Result<(), ConnectorError> {
    for _ in 0..50 {
        let ended = client
            .query(
                "SELECT pg_terminate_backend(active_pid) FROM pg_replication_slots WHERE slot_name = $1 AND active_pid IS NOT NULL",
                &[&slot],
            )
            .await
            .map_err(|e| explain(&e, "freeing the replication slot"))?;
        if ended.is_empty() {
            return Ok(());
        }
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    Ok(())
}

/// Whether the slot still holds everything since a position.
///
/// # Errors
/// [`ConnectorError::Settings`] that says what is gone, and what brings it back.
pub(super) async fn check_slot(client: &Client, slot: &str, from: u64) -> Result<(), ConnectorError> {
    let row = client
        .query_opt(
            "SELECT coalesce(wal_status, ''), coalesce((confirmed_flush_lsn - $2::text::pg_lsn)::bigint, 0)
             FROM pg_replication_slots WHERE slot_name = $1",
            &[&slot, &gonvel_core::change_form::position_text(from)],
        )
        .await
        .map_err(|e| explain(&e, "looking at the replication slot"))?;
    let gone = |how: &str| {
        ConnectorError::settings(
            None,
            format!(
                "the replication slot {slot} {how}, so changes since {} are gone",
                gonvel_core::change_form::position_text(from)
            ),
            "delete this connector and make it anew: the initial load brings every row again",
        )
    };
    match row {
        None => Err(gone("is not in the server any more")),
        Some(row) if row.get::<_, &str>(0) == "lost" => Err(gone("was dropped from the server's log")),
        Some(_) => Ok(()),
    }
}
