//! The log and the catalog on a real server.
//! One program for all of them: they are linked once and run beside each other.
#![allow(clippy::unwrap_used, reason = "what fails here fails the test")]

mod catalog;
mod cold;
mod contracts;
mod encrypted;
mod keeper;
mod log_model;
mod opening;
mod refusals;
mod silence;
mod support;
mod upgrading;
mod ways_in;
