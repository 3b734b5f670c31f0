//! Why Gonvel's own database could not be opened.

use crate::reaching::BadAddress;
use crate::sealing::SealError;

/// Why the database could not be opened.
#[derive(Debug, thiserror::Error)]
pub enum OpenError {
    /// It does not answer.
    #[error("Gonvel's own database does not take a connection: {0}")]
    Connect(#[from] diesel::ConnectionError),
    /// Its address cannot be used.
    #[error(transparent)]
    Address(#[from] BadAddress),
    /// Its tables could not be brought up to date.
    #[error("the migrations of Gonvel's own database failed: {0}")]
    Migrate(String),
    /// Another process holds the lock under which tables are brought up to date.
    #[error(
        "another process has been bringing the tables of Gonvel's own database up to date for more than {0} s, or hangs there: if it is at work, wait; if it hangs \
         (pg_stat_activity shows its session), end it; then start this one again"
    )]
    Waited(u64),
    /// Its tables are a newer version's.
    #[error(
        "Gonvel's own database was brought up to date by a newer version of Gonvel (it has {0}, which this version does not know): start \
         that version, or restore a backup from before"
    )]
    Newer(String),
    /// It holds secrets, and their key is missing.
    #[error(
        "the key file {0} is not there, but Gonvel's own database holds passwords that were sealed with it: bring the key file back, or set \
         GONVEL_KEY; a new key is only made for a database without secrets"
    )]
    KeyMissing(String),
    /// The key could not be kept.
    #[error(transparent)]
    Key(#[from] SealError),
    /// The pool could not be made.
    #[error("no pool of connections to Gonvel's own database: {0}")]
    Pool(String),
    /// The place for cold files cannot be used.
    #[error(
        "the object storage {0:?} cannot be used ({1}): give a URL like file:///var/lib/gonvel/cold or s3://bucket/prefix"
    )]
    ColdStore(String, String),
}
