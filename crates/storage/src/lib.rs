//! The topic log and the catalog on PostgreSQL, through Diesel.

pub mod catalog;
mod codes;
mod creations;
pub mod database;
mod failing;
mod ground;
pub mod once;
mod open_error;
pub mod operations;
pub mod producers;
pub mod quarantine;
pub mod reaching;
mod readers;
mod schema;
pub mod sealing;
pub mod telling;
pub mod topic_log;

pub use database::Database;

/// Chooses the cryptography of encrypted HTTP for this process, if nobody has yet: no HTTP client can be made without it.
/// [`Database::open`] does it as well.
pub fn provide_tls() {
    // another choice that stands already serves as well
    let _ = rustls::crypto::ring::default_provider().install_default();
}
