//! The initial load: tables read in ranges of pages while their changes are being followed.
//!
//! Each chunk is read in a transaction of its own, whose snapshot is kept with it; then a mark is written to the server's
//! log. When the mark comes back in the stream, those of its rows are appended that `gonvel_core::loading` lets through. Reading
//! needs no long transaction and goes on where it stopped; several chunks may be read at a time.

mod chunk;
mod pace;
mod plan;
mod read;

use std::collections::BTreeMap;
use std::time::{Duration, Instant};

use gonvel_core::connector::{CapturedTable, InitialLoad};
use gonvel_core::loading::Readings;
use gonvel_core::ports::systems::ConnectorError;
use pace::Pace;
use plan::{Plan, Work};
use tokio::sync::mpsc;
use tokio_postgres::Client;

use super::client::{connect, explain};
use super::position::TableLoad;
use super::snapshot::current_snapshot;
use super::tables;
use crate::postgres::address::DatabaseAddress;

pub use chunk::{Chunk, push_key};
pub use plan::Range;

/// Prefix of the marks in the server's log.
pub const MARK: &str = "gonvel";
/// How often it is looked whether a table can be read yet.
const LOOK: Duration = Duration::from_millis(100);
/// Longest wait for transactions that were under way when a load is taken up again.
pub(super) const SETTLING: Duration = Duration::from_secs(30);

/// What is to be loaded, and how.
#[derive(Debug, Clone)]
pub struct Loading {
    /// The server.
    pub address: DatabaseAddress,
    /// Tables with how far they are, if they were begun.
    pub tables: Vec<(CapturedTable, Option<TableLoad>)>,
    /// Transactions whose predecessors must have ended before a table is read, by `schema.table`.
    pub after: BTreeMap<String, u64>,
    /// Whether tables were found by their names, so that one may go without anyone being asked.
    pub by_name: bool,
    /// How fast, and how many chunks at a time.
    pub how: InitialLoad,
    /// Names this session's marks.
    pub session: String,
    /// Where readings are noted.
    pub readings: Readings,
}

/// Reads tables and hands their chunks over, each before its mark is written.
///
/// # Errors
/// [`ConnectorError`]; what was appended stays, and the next start goes on from there.
///
/// Cancel safety: dropped, all reading ends.
pub async fn run(loading: Loading, chunks: mpsc::Sender<Chunk>) -> Result<(), ConnectorError> {
    settle(&connect(&loading.address).await?, SETTLING).await?;
    let plan = Plan::new(loading.tables.clone());
    let workers = loading.how.chunks.max(1);
    let readers = (0..workers).map(|number| read_on(&loading, &plan, number, workers, chunks.clone()));
    futures::future::try_join_all(readers).await.map(|_| ())
}

async fn read_on(
    loading: &Loading,
    plan: &Plan,
    worker: u32,
    workers: u32,
    chunks: mpsc::Sender<Chunk>,
) -> Result<(), ConnectorError> {
    let client = connect(&loading.address).await?;
    let mut pace = Pace::new(loading.how.rows_per_second.map(|all| (all / workers).max(1)));
    let mut number = 0_u64;
    while let Some((table, work)) = plan.next(pace.pages).await {
        let range = match work {
            Work::Begin => {
                let after = loading.after.get(&table.qualified()).copied().unwrap_or(0);
                if current_snapshot(&client).await?.xmin < after {
                    plan.later(table);
                    tokio::time::sleep(LOOK).await;
                } else {
                    let load = read::begin(&client, &table).await;
                    plan.begun(&table, told(loading, &client, &table, load).await?);
                }
                continue;
            }
            Work::Read(range) => range,
        };
        number += 1;
        let mark = format!("{}:{worker}:{number}", loading.session);
        let begun = Instant::now();
        loading.readings.begin(&mark, current_snapshot(&client).await?.xmin);
        let system = &loading.address.database;
        let chunk = read::range(&client, system, &table, range, plan, mark.clone()).await;
        let Some(chunk) = told(loading, &client, &table, chunk).await? else {
            loading.readings.give_up(&mark);
            continue;
        };
        let rest = pace.note(chunk.batch.len(), begun.elapsed());
        if chunks.send(chunk).await.is_err() {
            return Ok(());
        }
        // in a transaction, so that its commit brings the mark to the stream at once also in an idle database
        client
            .execute("SELECT pg_logical_emit_message(true, $1, $2::text)", &[&MARK, &mark])
            .await
            .map_err(|e| explain(&e, "marking the log"))?;
        tokio::time::sleep(rest).await;
    }
    Ok(())
}

/// An outcome as it came, but for a table that was found by its name and is gone by now: whoever starts anew does not find it.
async fn told<T>(
    loading: &Loading,
    client: &Client,
    table: &CapturedTable,
    outcome: Result<T, ConnectorError>,
) -> Result<T, ConnectorError> {
    match outcome {
        Err(ConnectorError::Settings { .. }) if loading.by_name && !tables::is_there(client, table).await? => {
            let name = table.qualified();
            Err(ConnectorError::try_again(format!("the table {name} is gone"), "Gonvel goes on without it by itself"))
        }
        outcome => outcome,
    }
}

/// Waits for the transactions under way to end. A change that an earlier session brought could otherwise be invisible to
/// the first reading, while nothing of it is remembered here. One that goes on for long is waited for no longer than this: nothing of
/// it was brought. But one whose commit waits for a standby was brought, and is invisible as long as it waits.
///
/// # Errors
/// [`ConnectorError`] if the server does not answer.
pub async fn settle(client: &Client, patience: Duration) -> Result<(), ConnectorError> {
    // of the sessions of others it is not told to everyone what they wait for
    const COMMITTING: &str =
        "SELECT count(*) FROM pg_stat_activity WHERE backend_xid IS NOT NULL AND pid <> pg_backend_pid()
         AND (wait_event = 'SyncRep' OR state IS NULL AND current_setting('synchronous_standby_names') <> '')";
    let start = Instant::now();
    // a number of our own: a snapshot does not name the newest ones that are under way
    let row =
        client.query_one("SELECT pg_current_xact_id()::text", &[]).await.map_err(|e| explain(&e, "taking a number"))?;
    let ours: u64 =
        row.get::<_, &str>(0).parse().map_err(|_| ConnectorError::Defect("a number that cannot be read".into()))?;
    loop {
        if current_snapshot(client).await?.xmin >= ours {
            return Ok(());
        }
        if start.elapsed() >= patience {
            let committing =
                client.query_one(COMMITTING, &[]).await.map_err(|e| explain(&e, "looking for commits that wait"))?;
            if committing.get::<_, i64>(0) == 0 {
                return Ok(());
            }
            tokio::time::sleep(LOOK).await;
        }
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
}

/// Waits until a committed transaction is visible to new readings. The stream brings a transaction as soon as its commit
/// is in the server's log, which is a moment before other sessions see it, and longer where the commit waits for a standby. Where it
/// waits for us, who have not taken it yet, that is no wait that ends.
///
/// # Errors
/// [`ConnectorError`] if the server does not answer, or counts the session of this slot as a standby that commits wait for.
pub async fn until_visible(client: &Client, transaction: u32, slot: &str) -> Result<(), ConnectorError> {
    const COUNTED: &str = "SELECT current_setting('synchronous_standby_names') FROM pg_replication_slots s
         JOIN pg_stat_replication r ON r.pid = s.active_pid WHERE s.slot_name = $1 AND r.sync_state IN ('sync', 'quorum')";
    let mut look = Instant::now() + Duration::from_secs(1);
    loop {
        let now = current_snapshot(client).await?;
        if now.sees(now.widen(transaction)) {
            return Ok(());
        }
        if look <= Instant::now() {
            let counted = client.query_opt(COUNTED, &[&slot]).await.map_err(|e| explain(&e, "looking for standbys"))?;
            if let Some(row) = counted {
                return Err(counts_us(row.get(0)));
            }
            look = Instant::now() + Duration::from_secs(1);
        }
        tokio::time::sleep(Duration::from_millis(1)).await;
    }
}

/// What is found where commits wait for us.
fn counts_us(names: &str) -> ConnectorError {
    ConnectorError::settings(
        Some("connection"),
        format!(
            "the server counts Gonvel's session as a standby: commits wait until Gonvel has taken them (synchronous_standby_names is {names})"
        ),
        "name the standbys that commits are to wait for in synchronous_standby_names, without * and without gonvel",
    )
}
