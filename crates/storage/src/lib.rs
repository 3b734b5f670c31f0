//! The topic log and the catalog on PostgreSQL, through Diesel.

pub mod catalog;
pub mod database;
pub mod quarantine;
mod readers;
mod schema;
pub mod sealing;
pub mod topic_log;

pub use database::Database;
