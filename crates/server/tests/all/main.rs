//! The HTTP interface over a real log.
//! One program for all of them: they are linked once and run beside each other.
#![allow(clippy::unwrap_used, reason = "what fails here fails the test")]
mod api;
mod bad_input;
mod bounds;
mod creations;
mod document;
mod events;
mod foreseeing;
mod functions_api;
mod kinds_api;
mod known_changes;
mod lists;
mod manifests_api;
mod nothing_kept;
mod numbers;
mod operations;
mod panics;
mod partitions_added;
mod plans;
mod presenting;
mod producers_api;
mod reached;
mod rechecking;
mod records_api;
mod retried;
mod retries;
mod revisions_api;
mod schemas_api;
mod shapes_api;
mod streams;
mod support;
mod topic_users;
