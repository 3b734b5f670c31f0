//! Avro as its specification 1.12 has it: schemas, canonical form and fingerprint, the binary encoding, values as JSON.

pub mod binary;
pub mod container;
pub(crate) mod defaults;
pub mod difference;
pub mod fingerprint;
pub mod from_json;
pub mod json;
mod parsing;
pub mod references;
pub mod resolution;
pub mod resolving;
pub mod schema;
pub mod single_object;
