//! What a source connector makes in its server, a slot and a publication: making, checking and removing them.

use std::collections::BTreeMap;
use std::time::Duration;

use gonvel_core::connector::CapturedTable;
use gonvel_core::loading::Snapshot;
use gonvel_core::naming::ConnectorId;
use gonvel_core::ports::systems::{Beginning, ConnectorError, SourcePlace};
use tokio_postgres::Client;

use super::client::{connect, explain};
use super::load;
use super::names;
use super::position::{Lent, PgPosition};
use super::publication::{self, NOTED};
use super::replication::ReplicationSession;
use super::snapshot::{current_snapshot, snapshot_with_subtransactions};
use super::source_settings::PgSourceSettings;
use crate::postgres::address::DatabaseAddress;

/// Makes the publication and the slot, and gives the position to begin from. What an earlier, unfinished attempt of the same
/// connector left is replaced.
///
/// # Errors
/// [`ConnectorError::Later`] if a later holder of the connector's lease made them: they stay. Others; a publication made here is taken
/// back if the slot cannot be made.
pub async fn prepare(settings: &PgSourceSettings) -> Result<PgPosition, ConnectorError> {
    let client = connect(&settings.address).await?;
    publication::make(&client, settings).await?;
    // before the log is kept: whoever changes names from now on is found out
    let numbers = publication::differences(&client, settings, &BTreeMap::new()).await?.numbers;
    let log = connect(&settings.address.for_log()).await?;
    settings.refuse_later(&log).await?;
    drop_slot(&log, &settings.slot(), Some(settings)).await?;
    let made = match &settings.start {
        None => new_slot(settings).await,
        Some(start) => copied_slot(settings, &client, start).await,
    };
    match made {
        Ok(position) => Ok(PgPosition { numbers, ..position }),
        Err(error) => {
            let _ = publication::take_back(&client, settings).await;
            Err(error)
        }
    }
}

async fn new_slot(settings: &PgSourceSettings) -> Result<PgPosition, ConnectorError> {
    let (lsn, snapshot) = make_slot(settings).await?;
    let loaded = settings.tables.iter().filter(|_| settings.load.rows);
    let loads: BTreeMap<_, _> = loaded.map(|t| (t.qualified(), None)).collect();
    let snapshot = (!loads.is_empty()).then_some(snapshot);
    Ok(PgPosition { snapshot, loads, ..PgPosition::at(lsn) })
}

/// A position of the server's log as the server writes it.
///
/// # Errors
/// [`ConnectorError::Settings`] if it is none.
pub(super) fn read_position(text: &str) -> Result<u64, ConnectorError> {
    gonvel_core::change_form::read_position(text).ok_or_else(|| {
        let finding = format!("{text:?} is no position of the server's log");
        ConnectorError::settings(Some("start"), finding, "give the position as the source writes it, 0/16B3748")
    })
}

/// Begins in the past, which another slot of this database still keeps: with a copy of that slot.
async fn copied_slot(settings: &PgSourceSettings, client: &Client, start: &Beginning) -> Result<PgPosition, ConnectorError> {
    let during = |e: tokio_postgres::Error| explain(&e, "looking for a slot that keeps the log");
    let log = connect(&settings.address.for_log()).await?;
    let kept = log
        .query(
            "SELECT slot_name::text, confirmed_flush_lsn::text FROM pg_replication_slots
             WHERE database = current_database() AND plugin = 'pgoutput' AND slot_name LIKE 'gonvel\\_%'
               AND confirmed_flush_lsn IS NOT NULL AND coalesce(wal_status, '') <> 'lost' ORDER BY confirmed_flush_lsn",
            &[],
        )
        .await
        .map_err(during)?;
    let kept: Vec<(String, u64)> =
        kept.iter().filter_map(|r| Some((r.get(0), gonvel_core::change_form::read_position(r.get(1))?))).collect();
    let begins_at = match start {
        Beginning::Position(position) => Some(read_position(position)?),
        _ => None,
    };
    let found = match start {
        Beginning::Earliest | Beginning::Time(_) => kept.first(),
        Beginning::Position(_) => kept.iter().rev().find(|(_, confirmed)| Some(*confirmed) <= begins_at),
        Beginning::Connector(other) => kept.iter().find(|(slot, _)| *slot == names::slot(*other)),
    };
    let Some((slot, confirmed)) = found else {
        let oldest = kept.first().map_or_else(
            || "no connector keeps any of it".to_owned(),
            |(_, confirmed)| format!("the oldest that is kept is {}", gonvel_core::change_form::position_text(*confirmed)),
        );
        let what = match start {
            Beginning::Connector(_) => "the other connector has no slot in this database".to_owned(),
            _ => format!("the server's log no longer reaches back to the start position: {oldest}"),
        };
        return Err(ConnectorError::settings(
            Some("start"),
            what,
            "begin now, with an initial load of the rows that are there",
        ));
    };
    // the log before our own publication was made knows only the other one's
    let lender = slot.clone();
    let lacking = publication::lacking(client, &lender, settings).await?;
    if !lacking.is_empty() {
        return Err(ConnectorError::settings(
            Some("start"),
            format!("the connector that keeps the log does not capture {}", lacking.join(", ")),
            "begin now for these tables, or capture them with a connector of their own",
        ));
    }
    let during = |e: tokio_postgres::Error| explain(&e, "copying the replication slot");
    log.execute("SELECT pg_copy_logical_replication_slot($1, $2, false)", &[slot, &settings.slot()])
        .await
        .map_err(during)?;
    // whoever began before our own publication was there may have written what it does not know
    load::settle(client, load::SETTLING).await?;
    let now = client
        .query_one("SELECT pg_current_wal_insert_lsn()::text", &[])
        .await
        .map_err(|e| explain(&e, "asking for the log's end"))?;
    let until = gonvel_core::change_form::read_position(now.get(0)).unwrap_or(u64::MAX);
    let lsn = begins_at.unwrap_or(*confirmed);
    let mut position = PgPosition { lent: Some(Lent { publication: lender, until }), ..PgPosition::at(lsn) };
    if let Beginning::Time(time) = start {
        position.not_before_us = Some(*time);
    }
    if settings.load.rows {
        let all: Vec<String> = settings.tables.iter().map(CapturedTable::qualified).collect();
        load_again(settings, &mut position, &all, false).await?;
    }
    Ok(position)
}

/// Takes tables in and lets go of others, after the definition changed or because of their names. Rows of those that come in
/// are loaded, if rows are. Of some of them that were captured before, what was carried is void: the stream brings a truncate where what
/// it has from before ends.
///
/// # Errors
/// [`ConnectorError`]; carried out again, it comes to the same.
pub async fn change_tables(
    settings: &PgSourceSettings,
    position: &mut PgPosition,
    new: &[String],
    gone: &[String],
    void: &[String],
) -> Result<Option<Snapshot>, ConnectorError> {
    let client = connect(&settings.address).await?;
    position.numbers.extend(publication::change(&client, settings, new, void).await?);
    for table in gone {
        position.loaded(table);
    }
    if !settings.load.rows || new.is_empty() {
        return Ok(None);
    }
    let now = current_snapshot(&client).await?;
    new.iter().for_each(|table| position.take_in(table, &now));
    Ok(Some(now))
}

/// Makes the slot and learns, in the same transaction, what its first position sees.
async fn make_slot(settings: &PgSourceSettings) -> Result<(u64, Snapshot), ConnectorError> {
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

/// Notes in a position that tables are to be loaded again from their start. Nothing may be streamed from the position yet. Where what
/// was appended before is `void`, rows are loaded as well whose transaction was under way, or not yet visible; those may come twice, in
/// order. Gives what had ended when it was asked for.
///
/// # Errors
/// [`ConnectorError`] if the server does not answer.
pub async fn load_again(
    settings: &PgSourceSettings,
    position: &mut PgPosition,
    tables: &[String],
    void: bool,
) -> Result<Snapshot, ConnectorError> {
    let now = snapshot_with_subtransactions(&connect(&settings.address).await?).await?;
    let captured = |name: &&String| settings.tables.iter().any(|t| t.qualified() == **name);
    for table in tables.iter().filter(captured) {
        if void {
            position.take_in(table, &now);
        } else {
            position.load_again(table, now.clone());
        }
    }
    Ok(now)
}

/// Drops a slot; where it is done by a lease, not the one of whoever came after.
async fn drop_slot(client: &Client, slot: &str, by: Option<&PgSourceSettings>) -> Result<(), ConnectorError> {
    let during = |e: tokio_postgres::Error| explain(&e, "dropping the replication slot");
    free_slot(client, slot).await?;
    let (publication, epoch) =
        by.map_or((String::new(), 0), |by| (by.publication(), by.void.unwrap_or(by.epoch).max(by.epoch).0));
    // one statement: who is frozen in between drops nothing when it wakes
    let drop = format!(
        "SELECT pg_drop_replication_slot(slot_name) FROM pg_replication_slots WHERE slot_name = $1 AND active_pid IS NULL
         AND NOT EXISTS (SELECT 1 FROM pg_publication p WHERE p.pubname = $2 AND {NOTED} > $3)"
    );
    for _ in 0..50 {
        let dropped = client.execute(&drop, &[&slot, &publication, &epoch]).await;
        match dropped {
            Ok(_) => {
                let left = client
                    .query_opt("SELECT 1 FROM pg_replication_slots WHERE slot_name = $1", &[&slot])
                    .await
                    .map_err(during)?;
                if left.is_none() {
                    return Ok(());
                }
                if let Some(settings) = by {
                    settings.refuse_later(client).await?;
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
    drop_slot(&connect(&address.for_log()).await?, &names::slot(connector), None).await?;
    publication::remove(&connect(address).await?, &names::publication(connector)).await
}

/// What stays of a source that is not cleaned up.
#[must_use]
pub fn remains(connector: ConnectorId) -> Vec<String> {
    let (slot, publication) = (names::slot(connector), names::publication(connector));
    vec![
        format!("the replication slot {slot}, which holds log on the server's disk"),
        format!("the publication {publication}"),
    ]
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

/// Whether the server's end of a slot's session is there and has something to do, and so may be silent.
///
/// # Errors
/// [`ConnectorError`] if the server does not answer.
pub(super) async fn is_at_work(address: &DatabaseAddress, slot: &str) -> Result<bool, ConnectorError> {
    let waits = connect(&address.for_log())
        .await?
        .query_opt(
            "SELECT coalesce(a.wait_event_type, '') IN ('Activity', 'Client') FROM pg_replication_slots s
             JOIN pg_stat_activity a ON a.pid = s.active_pid WHERE s.slot_name = $1",
            &[&slot],
        )
        .await
        .map_err(|e| explain(&e, "looking after the session"))?;
    Ok(waits.is_some_and(|row| !row.get::<_, bool>(0)))
}

/// A source's place in its server's log.
///
/// # Errors
/// [`ConnectorError`] if the server does not answer.
pub async fn place(address: &DatabaseAddress, connector: ConnectorId) -> Result<SourcePlace, ConnectorError> {
    let client = connect(&address.for_log()).await?;
    let slot = names::slot(connector);
    let row = client
        .query_one(
            "SELECT pg_current_wal_insert_lsn()::text, s.confirmed_flush_lsn::text, coalesce(s.active, false),
               s.slot_name IS NOT NULL AND coalesce(s.wal_status, '') <> 'lost',
               coalesce(pg_current_wal_insert_lsn() - s.restart_lsn, 0)::bigint
             FROM (SELECT 1) one LEFT JOIN pg_replication_slots s ON s.slot_name = $1",
            &[&slot],
        )
        .await
        .map_err(|e| explain(&e, "looking at the replication slot"))?;
    Ok(SourcePlace {
        kept: row.get(3),
        active: row.get(2),
        confirmed: row.get(1),
        kept_bytes: row.get(4),
        end: row.get(0),
        held_as: format!("replication slot {slot}"),
    })
}

/// Whether a source's slot goes on from its position, in the log that the position is of.
///
/// # Errors
/// [`ConnectorError::Settings`] that says what is gone, and what brings it back; others if the server does not answer.
pub async fn check_place(address: &DatabaseAddress, connector: ConnectorId, from: u64) -> Result<(), ConnectorError> {
    check_slot(&connect(address).await?, &names::slot(connector), from).await
}

/// What brings back what a source missed.
const BEGIN_ANEW: &str =
    "begin anew: every row is loaded again, and rows that were deleted meanwhile go if the tables are emptied first";

/// Whether the slot still holds everything since a position, and the log is the one that the position is of.
///
/// # Errors
/// [`ConnectorError::Settings`] that says what is gone, and what brings it back.
pub(super) async fn check_slot(client: &Client, slot: &str, from: u64) -> Result<(), ConnectorError> {
    let row = client
        .query_opt(
            "SELECT coalesce(wal_status, ''), coalesce((confirmed_flush_lsn - $2::text::pg_lsn)::bigint, 0),
               confirmed_flush_lsn::text, (pg_current_wal_insert_lsn() - $2::text::pg_lsn)::bigint, pg_current_wal_insert_lsn()::text
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
            BEGIN_ANEW,
        )
    };
    match row {
        None => Err(gone("is not in the server any more")),
        Some(row) if row.get::<_, &str>(0) == "lost" => Err(gone("was dropped from the server's log")),
        // only what is in the topics is ever confirmed
        Some(row) if row.get::<_, i64>(1) > 0 => Err(ConnectorError::settings(
            None,
            format!(
                "the topic log was rolled back (a restore or a failover): it has the changes up to {}, but the replication slot {slot} \
                 continues from {}, and the {} bytes of the server's log between them are lost",
                gonvel_core::change_form::position_text(from),
                row.get::<_, Option<&str>>(2).unwrap_or_default(),
                row.get::<_, i64>(1)
            ),
            BEGIN_ANEW,
        )),
        Some(row) if row.get::<_, i64>(3) < 0 => Err(ConnectorError::settings(
            None,
            format!(
                "the source's server was rolled back (a restore or a failover): its log ends at {}, but the topics have changes up to {}",
                row.get::<_, &str>(4),
                gonvel_core::change_form::position_text(from)
            ),
            BEGIN_ANEW,
        )),
        Some(_) => Ok(()),
    }
}
