//! Made-up records: a source whose rows are made by recipes, each the same however often it is made.

mod about;
pub mod capture;
mod columns;
mod keys;
pub mod kind;
mod making;
mod position;
mod ready;
pub mod recipe;
mod source;
mod tables;
