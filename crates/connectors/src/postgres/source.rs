//! A source connector on PostgreSQL: the initial load and the following of changes, as one ordered run of batches.

use gonvel_core::connector::CapturedTable;
use gonvel_core::loading::Readings;
use gonvel_core::ports::systems::{Captured, ConnectorError};
use tokio::sync::{mpsc, watch};
use uuid::Uuid;

use super::capture::Capture;
use super::client::connect;
use super::load::{self, Chunk, Loading};
use super::position::PgPosition;
use super::replication::ReplicationSession;
use super::slot::{check_slot, free_slot};
use super::tables;

pub use super::source_settings::{PgSourceSettings, SILENCE};

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
    pub async fn start(settings: PgSourceSettings, position: PgPosition) -> Result<Self, ConnectorError> {
        let client = connect(&settings.address).await?;
        check_slot(&client, &settings.slot(), position.lsn).await?;
        free_slot(&connect(&settings.address.for_log()).await?, &settings.slot()).await?;
        let session = ReplicationSession::connect(&settings.address).await?;
        let lent = position.lent.as_ref().filter(|lent| position.lsn < lent.until);
        let publication = lent.map_or_else(|| settings.publication(), |lent| lent.publication.clone());
        let binary = !position.text && tables::read_as_binary(&client, &settings.tables).await?;
        let (frames, mut feedback) = session.stream(&settings.slot(), &publication, position.lsn, binary).await?;
        let (kept, mut kept_now) = watch::channel(position.lsn);
        let often = settings.silence / 4;
        tokio::spawn(async move {
            loop {
                let position = *kept_now.borrow_and_update();
                if feedback.confirm(position).await.is_err() {
                    return;
                }
                if let Ok(Err(_)) = tokio::time::timeout(often, kept_now.changed()).await {
                    return;
                }
            }
        });
        let (chunks, loaded) = mpsc::channel(usize::try_from(settings.load.chunks).unwrap_or(1) + 1);
        let mark = Uuid::new_v4().simple().to_string();
        let readings = Readings::default();
        let loading = start_load(&settings, &position, &mark, readings.clone(), chunks);
        let (out, captured) = mpsc::channel(1);
        let mut capture = Capture::new(settings, position, client, loaded, readings, mark, binary);
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

    /// The next batch; none when the source has ended, after an error or the last one was given.
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
fn start_load(
    settings: &PgSourceSettings,
    position: &PgPosition,
    session: &str,
    readings: Readings,
    chunks: mpsc::Sender<Chunk>,
) -> impl Future<Output = ConnectorError> + use<> {
    let left = |t: &CapturedTable| Some((t.clone(), position.loads.get(&t.qualified())?.clone()));
    let tables: Vec<_> = settings.tables.iter().filter_map(left).collect();
    let running = (!tables.is_empty()).then(|| {
        let address = settings.address.clone();
        let (after, by_name) = (position.after.clone(), settings.patterns.is_some());
        let session = session.to_owned();
        let loading = Loading { address, tables, after, by_name, how: settings.load, session, readings };
        tokio::spawn(load::run(loading, chunks))
    });
    async move {
        let Some(handle) = running else { return std::future::pending().await };
        let mut running = AbortOnDrop(handle);
        match (&mut running.0).await {
            Ok(Ok(())) => std::future::pending().await,
            Ok(Err(error)) => error,
            Err(_) => ConnectorError::Defect("the initial load stopped without a reason".into()),
        }
    }
}

struct AbortOnDrop<T>(tokio::task::JoinHandle<T>);

impl<T> Drop for AbortOnDrop<T> {
    fn drop(&mut self) {
        self.0.abort();
    }
}
