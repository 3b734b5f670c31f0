//! How Gonvel reaches outside systems: one folder per system, each with its settings, preflight, source and sink.

pub mod generator;
pub mod kinds;
pub mod postgres;
pub mod reaching;
mod sampling;
