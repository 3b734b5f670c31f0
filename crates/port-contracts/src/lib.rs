//! What every implementation of a port must hold, as tests over the trait: an implementation's own tests call [`topic_log::all`],
//! [`readers::all`] and [`leases::all`] with one of theirs.

#![allow(clippy::unwrap_used, reason = "a contract that does not hold must fail loudly")]

pub mod leases;
pub mod readers;
pub mod topic_log;
