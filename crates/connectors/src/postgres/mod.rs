//! PostgreSQL: change capture by logical replication, and delivery into tables.

pub mod apply;
pub mod binary;
pub mod blocked;
mod capture;
pub mod client;
pub mod copy_text;
pub mod existing;
mod history;
mod identity;
mod journal;
pub mod load;
pub mod names;
mod newest;
pub mod pgoutput;
pub mod position;
pub mod preflight;
pub mod publication;
pub mod replication;
pub mod sample;
pub mod sifting;
pub mod sink;
pub mod slot;
pub mod source;
pub mod tables;
pub mod target;
pub mod tls;
pub mod truncating;
