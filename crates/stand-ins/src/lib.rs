//! The simulated systems that ship with Gonvel, and the demo's workload.

pub mod between;
pub mod coldstore;
pub mod dice;
pub mod gates;
pub mod packhouse;
pub mod postgres_cluster;
pub mod test_cluster;
