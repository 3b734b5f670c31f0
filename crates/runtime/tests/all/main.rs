//! Flows between real databases, by a fleet in this process.
//! One program for all of them: they are linked once and run beside each other.
#![allow(clippy::unwrap_used, reason = "what fails here fails the test")]

mod choosing;
mod events;
mod every_type;
mod existing;
mod expanding;
mod failures;
mod fitting;
mod flow;
mod gates;
mod guarantees;
mod history;
mod lanes;
mod latest;
mod loading;
mod made_up;
mod memory;
mod odd_tables;
mod quarantine;
mod schema_changes;
mod shapes;
mod soak;
mod starts;
mod support;
mod transactions;
mod truncates;
mod types;
mod waiting;
