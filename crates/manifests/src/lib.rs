//! An installation as text: what stands in manifests, how that differs from what is there, and in which order it is made so.
//!
//! Like the core it does no I/O.
#![deny(missing_docs)]

pub mod connector_text;
mod difference;
mod faults;
mod reading;
mod references;
mod secret_from;
mod things;
mod writing;

#[cfg(test)]
mod tests;

pub use difference::{Deed, FieldChange, Plan, Step, plan};
pub use faults::Fault;
pub use reading::{Found, ManifestFile, read};
pub use references::reaching;
pub use secret_from::SecretFrom;
pub use things::*;
pub use writing::write;
