//! Schemas against what their standards and other implementations say, and a model of delivery.
//! One program for all of them: they are linked once and run beside each other.
#![allow(clippy::unwrap_used, reason = "what fails here fails the test")]

mod json_schema_promises;
mod log_model;
mod model;
mod schema_rules;
mod schema_values;
mod schemas;
