//! The lake: object storage by the S3 protocol over a folder, with one key that may do everything. Each object is a file at
//! `{folder}/{bucket}/{key}`.

use std::fs;
use std::net::{Ipv4Addr, SocketAddr};
use std::path::{Path, PathBuf};

use hyper_util::rt::{TokioExecutor, TokioIo};
use hyper_util::server::conn::auto::Builder;
use s3s::auth::SimpleAuth;
use s3s::service::S3ServiceBuilder;
use tokio::net::TcpListener;

const BUCKET: &str = "lake";
const KEY: &str = "averling";
const SECRET: &str = "winter gold";

/// Why the lake cannot be served.
#[derive(Debug, thiserror::Error)]
#[error("the object storage of the demo cannot be served: {0}")]
pub struct LakeError(String);

/// A running lake; it ends when dropped.
pub struct Lake {
    address: SocketAddr,
    folder: PathBuf,
    serving: tokio::task::JoinHandle<()>,
}

impl Drop for Lake {
    fn drop(&mut self) {
        self.serving.abort();
    }
}

impl Lake {
    /// Serves a folder on a free port of loopback.
    ///
    /// # Errors
    /// [`LakeError`].
    pub async fn start(folder: &Path) -> Result<Self, LakeError> {
        let failed = |e: &dyn std::fmt::Display| LakeError(e.to_string());
        fs::create_dir_all(folder.join(BUCKET)).map_err(|e| failed(&e))?;
        let files = s3s_fs::FileSystem::new(folder).map_err(|e| LakeError(format!("{e:?}")))?;
        let mut service = S3ServiceBuilder::new(files);
        service.set_auth(SimpleAuth::from_single(KEY, SECRET));
        let service = service.build();
        let listener = TcpListener::bind((Ipv4Addr::LOCALHOST, 0)).await.map_err(|e| failed(&e))?;
        let address = listener.local_addr().map_err(|e| failed(&e))?;
        let serving = tokio::spawn(async move {
            let connections = Builder::new(TokioExecutor::new());
            // they end with the set
            let mut open = tokio::task::JoinSet::new();
            while let Ok((socket, _)) = listener.accept().await {
                while open.try_join_next().is_some() {}
                let connection = connections.serve_connection(TokioIo::new(socket), service.clone()).into_owned();
                open.spawn(async move {
                    let _ = connection.await;
                });
            }
        });
        Ok(Self { address, folder: folder.to_owned(), serving })
    }

    /// A place in it, as a URL.
    #[must_use]
    pub fn url(&self, prefix: &str) -> String {
        format!("s3://{BUCKET}/{prefix}")
    }

    /// What a client needs beside the URL, by the names of the usual variables.
    #[must_use]
    pub fn options(&self) -> Vec<(String, String)> {
        let endpoint = format!("http://{}", self.address);
        [
            ("AWS_ENDPOINT", endpoint.as_str()),
            ("AWS_ALLOW_HTTP", "true"),
            ("AWS_REGION", "orchard"),
            ("AWS_ACCESS_KEY_ID", KEY),
            ("AWS_SECRET_ACCESS_KEY", SECRET),
        ]
        .map(|(name, value)| (name.to_owned(), value.to_owned()))
        .to_vec()
    }

    /// The folder that holds what is below a prefix.
    #[must_use]
    pub fn folder(&self, prefix: &str) -> PathBuf {
        self.folder.join(BUCKET).join(prefix)
    }
}
