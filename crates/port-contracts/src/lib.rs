//! What every implementation of a port must hold, as tests over the trait: an implementation's own tests call each module's
//! `all` with one of theirs.

#![allow(clippy::unwrap_used, reason = "a contract that does not hold must fail loudly")]

pub mod errands;
pub mod kind;
pub mod leases;
pub mod quarantine;
pub mod readers;
pub mod runners;
pub mod sink;
pub mod source;
pub mod tables;
pub mod topic_log;
