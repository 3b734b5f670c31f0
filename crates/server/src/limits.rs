//! How much may be under way at once.

use std::sync::Arc;

use gonvel_http_api::ProblemType;
use tokio::sync::{OwnedSemaphorePermit, Semaphore};

use crate::problems::Refusal;

/// Streams open at once: tails, searches, streams of records and of readers.
const STREAMS: usize = 256;
/// Streams of events open at once: they take little, and their clients stay.
const WATCHING: usize = 1_000;
/// Requests with records under way at once: together they hold 16 MiB each at most.
const APPENDS: usize = 64;
/// Exports and imports under way at once.
const TRANSFERS: usize = 8;

/// Size of a file that may be imported, in bytes, where nothing is said: it is kept on the server's disk while it is read.
pub const LARGEST_IMPORT: u64 = 10 << 30;

/// Most bytes of a request with manifests: some ten thousand schemas.
pub(crate) const LARGEST_MANIFESTS: usize = 64 << 20;

/// What may still begin.
#[derive(Debug)]
pub(crate) struct Limits {
    /// Size of a file that may be imported, in bytes.
    pub(crate) largest_import: u64,
    streams: Arc<Semaphore>,
    watching: Arc<Semaphore>,
    appends: Arc<Semaphore>,
    transfers: Arc<Semaphore>,
}

impl Limits {
    /// With files of so many bytes at most.
    pub(crate) fn new(largest_import: u64) -> Self {
        let of = |count| Arc::new(Semaphore::new(count));
        Self { largest_import, streams: of(STREAMS), watching: of(WATCHING), appends: of(APPENDS), transfers: of(TRANSFERS) }
    }
}

fn take(from: &Arc<Semaphore>, most: usize, what: &str) -> Result<OwnedSemaphorePermit, Refusal> {
    from.clone().try_acquire_owned().map_err(|_| {
        let detail = format!("{most} {what} are under way, which is as many as this server takes: try again in a moment");
        Refusal::new(ProblemType::Busy, detail)
    })
}

impl Limits {
    pub(crate) fn stream(&self) -> Result<OwnedSemaphorePermit, Refusal> {
        take(&self.streams, STREAMS, "streams")
    }

    pub(crate) fn watch(&self) -> Result<OwnedSemaphorePermit, Refusal> {
        take(&self.watching, WATCHING, "streams of events")
    }

    pub(crate) fn append(&self) -> Result<OwnedSemaphorePermit, Refusal> {
        take(&self.appends, APPENDS, "requests with records")
    }

    pub(crate) fn transfer(&self) -> Result<OwnedSemaphorePermit, Refusal> {
        take(&self.transfers, TRANSFERS, "exports and imports")
    }
}
