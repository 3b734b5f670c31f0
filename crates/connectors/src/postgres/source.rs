//! A source connector on PostgreSQL: the initial load and the following of changes, as one ordered run of batches.

use std::time::Duration;

use gonvel_core::change::ChangeBatch;
use gonvel_core::connector::{CapturedTable, InitialLoad};
use gonvel_core::naming::ConnectorId;
use gonvel_core::ports::DatabaseAddress;
use tokio::sync::{mpsc, watch};
use uuid::Uuid;

use super::capture::Capture;
use super::client::connect;
use super::load::{self, Chunk};
use super::names;
use super::position::PgPosition;
use super::replication::ReplicationSession;
use super::slot::{check_slot, free_slot};
use crate::error::ConnectorError;

/// How often the server hears from us at the least.
const HEARTBEAT: Duration = Duration::from_secs(5);

/// What a source connector captures, and from where.
#[derive(Debug, Clone)]
pub struct SourceSettings {
    /// The connector, which names slot and publication.
    pub connector: ConnectorId,
    /// The server.
    pub address: DatabaseAddress,
    /// The tables.
    pub tables: Vec<CapturedTable>,
    /// How the rows that exist are copied.
    pub load: InitialLoad,
}

impl SourceSettings {
    pub(super) fn slot(&self) -> String {
        names::slot(self.connector)
    }

    pub(super) fn publication(&self) -> String {
        names::publication(self.connector)
    }
}

/// Changes of one table within a captured batch.
#[derive(Debug)]
pub struct TableChanges {
    /// The table's place in [`SourceSettings::tables`].
    pub table: usize,
    /// The changes.
    pub batch: ChangeBatch,
    /// The rows that count, where not all do.
    pub rows: Option<Vec<usize>>,
}

/// What is to be appended in one transaction with the position.
#[derive(Debug)]
pub struct Captured {
    /// Changes by table; none when only the position moves.
    pub changes: Vec<TableChanges>,
    /// The position once they are appended.
    pub position: PgPosition,
}

/// A running source. Dropping it ends its session with the server.
pub struct PgSource {
    captured: mpsc::Receiver<Result<Captured, ConnectorError>>,
    kept: watch::Sender<u64>,
    task: tokio::task::JoinHandle<()>,
}

impl PgSource {
    /// Begins to capture from a position.
    ///
    /// # Errors
    /// [`ConnectorError`]; if the slot is gone, it says what that means.
    pub async fn start(settings: SourceSettings, position: PgPosition) -> Result<Self, ConnectorError> {
        let client = connect(&settings.address).await?;
        check_slot(&client, &settings.slot(), position.lsn).await?;
        free_slot(&connect(&settings.address.for_log()).await?, &settings.slot()).await?;
        let session = ReplicationSession::connect(&settings.address).await?;
        let (frames, mut feedback) = session.stream(&settings.slot(), &settings.publication(), position.lsn).await?;
        let (kept, mut kept_now) = watch::channel(position.lsn);
        tokio::spawn(async move {
            loop {
                let position = *kept_now.borrow_and_update();
                if feedback.confirm(position).await.is_err() {
                    return;
                }
                if let Ok(Err(_)) = tokio::time::timeout(HEARTBEAT, kept_now.changed()).await {
                    return;
                }
            }
        });
        let (chunks, loaded) = mpsc::channel(2);
        let mark = Uuid::new_v4().simple().to_string();
        let loading = start_load(&settings, &position, &mark, chunks).await?;
        let (out, captured) = mpsc::channel(1);
        let mut capture = Capture::new(settings, position, client, loaded, mark);
        let task = tokio::spawn(async move {
            let ended = tokio::select! {
                ended = capture.run(frames, &out) => ended,
                failed = loading => Err(failed),
            };
            if let Err(error) = ended {
                let _ = out.send(Err(error)).await;
            }
        });
        Ok(Self { captured, kept, task })
    }

    /// The next batch; none when the source has ended after an error was given.
    ///
    /// Cancel safety: dropped while waiting, nothing is lost.
    pub async fn next(&mut self) -> Option<Result<Captured, ConnectorError>> {
        self.captured.recv().await
    }

    /// Says that everything up to a position is durable; only now may the server forget it.
    pub fn confirm(&self, position: &PgPosition) {
        let _ = self.kept.send(position.lsn);
    }
}

impl Drop for PgSource {
    fn drop(&mut self) {
        self.task.abort();
    }
}

/// Starts reading the tables that are not loaded yet; the future ends only with an error.
async fn start_load(
    settings: &SourceSettings,
    position: &PgPosition,
    mark: &str,
    chunks: mpsc::Sender<Chunk>,
) -> Result<impl Future<Output = ConnectorError> + use<>, ConnectorError> {
    let tasks: Vec<load::Task> = settings
        .tables
        .iter()
        .filter_map(|t| {
            let load = position.loads.get(&format!("{}.{}", t.schema, t.table))?;
            Some(load::Task { schema: t.schema.clone(), table: t.table.clone(), load: load.clone() })
        })
        .collect();
    let running = if tasks.is_empty() {
        None
    } else {
        let client = connect(&settings.address).await?;
        Some(tokio::spawn(load::run(
            client,
            settings.address.database.clone(),
            tasks,
            chunks,
            mark.to_owned(),
            settings.load.rows_per_second,
        )))
    };
    Ok(async move {
        let _ended = AbortOnDrop(match running {
            None => return std::future::pending().await,
            Some(mut handle) => {
                let outcome = (&mut handle).await;
                match outcome {
                    Ok(Ok(())) => return std::future::pending().await,
                    Ok(Err(error)) => return error,
                    Err(_) => handle,
                }
            }
        });
        ConnectorError::Defect("the initial load stopped without a reason".into())
    })
}

struct AbortOnDrop<T>(tokio::task::JoinHandle<T>);

impl<T> Drop for AbortOnDrop<T> {
    fn drop(&mut self) {
        self.0.abort();
    }
}
