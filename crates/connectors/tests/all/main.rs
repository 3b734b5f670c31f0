//! The PostgreSQL kind against real servers.
//! One program for all of them: they are linked once and run beside each other.
#![allow(clippy::unwrap_used, reason = "what fails here fails the test")]

mod apply_differential;
mod bins_and_lines;
mod ends;
mod fenced;
mod gates;
mod kinds;
mod loads;
mod made_anew;
mod owed;
mod positions;
mod preflight;
mod recorded_stream;
mod refusals;

mod tls;
mod types;
mod visible;
