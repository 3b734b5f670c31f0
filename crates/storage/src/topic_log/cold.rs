//! Blocks that moved to object storage: ordinary Avro object container files, many blocks in each, found by an index in the
//! database.

use std::path::PathBuf;
use std::sync::Arc;
use std::time::Duration;

use bytes::Bytes;
use gonvel_core::naming::Offset;
use gonvel_core::places::Places;
use gonvel_core::ports::{PortError, StoredBlock};
use object_store::aws::{AmazonS3Builder, AmazonS3ConfigKey};
use object_store::local::LocalFileSystem;
use object_store::path::Path;
use object_store::{Error as StoreError, ObjectStore, ObjectStoreExt, RetryConfig};
use serde::{Deserialize, Serialize};

use crate::open_error::OpenError;

/// How long a store that does not answer is tried.
const PATIENCE: Duration = Duration::from_secs(10);

/// Where cold files are kept; without a place for them nothing moves.
#[derive(Debug, Clone, Default)]
pub(crate) struct ColdStore {
    place: Option<(Arc<dyn ObjectStore>, Path)>,
    /// The folder, where it is one of this machine: what is written there is synced by us.
    folder: Option<PathBuf>,
}

/// A block's place in a file.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub(super) struct ColdBlock {
    pub(super) first: i64,
    pub(super) span: i64,
    pub(super) records: u32,
    pub(super) latest_us: i64,
    pub(super) reach_us: i64,
    pub(super) unpacked: i64,
    pub(super) at: u64,
    pub(super) length: u64,
    /// The offsets left, in the form of [`Places::stored`].
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub(super) places: Option<Vec<u8>>,
    /// When it was appended; of blocks that an earlier version moved it is not known.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub(super) appended_us: Option<i64>,
}

impl ColdBlock {
    pub(super) fn end(&self) -> i64 {
        self.first + self.span
    }

    fn with(self, body: Bytes) -> StoredBlock {
        StoredBlock {
            first: Offset(self.first),
            places: Places::from_stored(self.span, self.places.map(Into::into)),
            latest_us: self.latest_us,
            body,
        }
    }
}

/// The index of a file, as it is stored.
pub(super) fn index(blocks: serde_json::Value) -> Result<Vec<ColdBlock>, PortError> {
    serde_json::from_value(blocks)
        .map_err(|e| PortError::TryAgain { during: "reading the index of a cold file", cause: Box::new(e) })
}

/// Makes a file last: itself, then the folders that lead to it, the innermost first.
fn sync(folder: &std::path::Path, path: &str) -> std::io::Result<()> {
    let file = folder.join(path);
    std::fs::File::open(&file)?.sync_all()?;
    for above in file.ancestors().skip(1).take_while(|above| above.starts_with(folder)) {
        std::fs::File::open(above)?.sync_all()?;
    }
    Ok(())
}

impl ColdStore {
    /// Opens the place a URL names, with options by the names of the usual variables.
    pub(crate) fn open(url: &str, options: impl IntoIterator<Item = (String, String)>) -> Result<Self, OpenError> {
        let wrong = |e: String| OpenError::ColdStore(url.to_owned(), e);
        let parsed = url::Url::parse(url).map_err(|e| wrong(e.to_string()))?;
        let mut kept_in = None;
        let place: (Arc<dyn ObjectStore>, Path) = match parsed.scheme() {
            "file" => {
                let folder = parsed.to_file_path().map_err(|()| wrong("it names no folder of this machine".into()))?;
                std::fs::create_dir_all(&folder).map_err(|e| wrong(e.to_string()))?;
                kept_in = Some(folder.clone());
                let store = LocalFileSystem::new_with_prefix(folder).map_err(|e| wrong(e.to_string()))?;
                (Arc::new(store), Path::default())
            }
            "s3" => {
                // who waits for a record is told soon; the keeper tries again by itself
                let retry = RetryConfig { max_retries: 2, retry_timeout: PATIENCE, ..RetryConfig::default() };
                let mut builder = AmazonS3Builder::new().with_url(url).with_retry(retry);
                for (name, value) in options {
                    if let Ok(key) = name.to_lowercase().parse::<AmazonS3ConfigKey>() {
                        builder = builder.with_config(key, value);
                    }
                }
                let store = builder.build().map_err(|e| wrong(e.to_string()))?;
                let prefix = Path::from_url_path(parsed.path()).map_err(|e| wrong(e.to_string()))?;
                (Arc::new(store), prefix)
            }
            other => return Err(wrong(format!("there is no store for {other}"))),
        };
        Ok(Self { place: Some(place), folder: kept_in })
    }

    pub(super) fn is_there(&self) -> bool {
        self.place.is_some()
    }

    fn place(&self, path: &str) -> Result<(&Arc<dyn ObjectStore>, Path), PortError> {
        let Some((store, prefix)) = &self.place else {
            return Err(PortError::Refused(
                "this block moved to object storage, and this server was started without one: set GONVEL_COLD_STORE as before"
                    .into(),
            ));
        };
        Ok((store, path.split('/').fold(prefix.clone(), |place, part| place.join(part))))
    }

    pub(super) async fn put(&self, path: &str, file: Vec<u8>) -> Result<(), PortError> {
        let (store, place) = self.place(path)?;
        store.put(&place, file.into()).await.map_err(failing("writing a cold file"))?;
        let Some(folder) = self.folder.clone() else { return Ok(()) };
        let path = path.to_owned();
        let synced = tokio::task::spawn_blocking(move || sync(&folder, &path)).await;
        let failed =
            |cause: Box<dyn std::error::Error + Send + Sync>| PortError::TryAgain { during: "syncing a cold file", cause };
        synced.map_err(|e| failed(e.into()))?.map_err(|e| failed(e.into()))
    }

    pub(super) async fn remove(&self, path: &str) -> Result<(), PortError> {
        let (store, place) = self.place(path)?;
        match store.delete(&place).await {
            Err(StoreError::NotFound { .. }) => Ok(()),
            done => done.map_err(failing("removing a cold file")),
        }
    }

    /// These blocks of a file; none if the file is gone.
    pub(super) async fn read(&self, path: &str, wanted: Vec<ColdBlock>) -> Result<Option<Vec<StoredBlock>>, PortError> {
        let (store, place) = self.place(path)?;
        let ranges: Vec<_> = wanted.iter().map(|b| b.at..b.at + b.length).collect();
        let bodies: Vec<Bytes> = match store.get_ranges(&place, &ranges).await {
            Ok(bodies) => bodies,
            Err(StoreError::NotFound { .. }) => return Ok(None),
            Err(error) => return Err(failing("reading a cold file")(error)),
        };
        Ok(Some(wanted.into_iter().zip(bodies).map(|(block, body)| block.with(body)).collect()))
    }
}

pub(super) fn failing(during: &'static str) -> impl FnOnce(StoreError) -> PortError {
    move |cause| PortError::TryAgain { during, cause: Box::new(cause) }
}
