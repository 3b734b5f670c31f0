//! The job's rules and computation: what a record, a change, a block, a connector are and what must hold for them.
//!
//! This crate does no I/O and knows no database, no server and no interface; the traits in [`ports`] are what the
//! other crates implement.
#![deny(missing_docs)]

pub mod avro;
pub mod bad_records;
pub mod block;
pub mod change;
pub mod change_form;
pub mod civil;
pub mod cloud_events;
pub mod column;
pub mod connector;
pub mod data_type;
pub mod delivered;
pub mod digest;
pub mod digits;
pub mod event_rows;
pub mod failure;
pub mod fitting;
pub mod fold;
pub mod json_place;
pub mod kinds;
pub mod latest_per_key;
pub mod loading;
pub mod loops;
pub mod merging;
pub mod naming;
pub mod nearest;
pub mod own_function;
pub mod partitioning;
pub mod places;
pub mod planning;
pub mod ports;
pub mod preflight;
pub mod produce;
pub mod rate;
pub mod record;
pub mod record_filter;
pub mod record_form;
pub mod reposition;
pub mod retention;
pub mod row_bytes;
pub mod row_form;
pub mod rows_told;
pub mod schema_changes;
pub mod schemas;
pub mod secret;
pub mod shape;
pub mod sharing;
pub mod sql_text;
pub mod standing;
pub mod table;
pub mod table_patterns;
pub mod topic_settings;
pub mod trail;
pub mod truncate;
pub mod waiting;
pub mod yaml;
