//! What happens to rows on their way: steps and SQL over column batches, checked against the real schema before they run.
//!
//! Parsed with `sqlparser`, bound and typed here, evaluated over Arrow arrays. A row that fails is named alone, with the step and
//! what was found; a wrong expression is refused at its character before anything runs.
#![deny(missing_docs)]

mod array_text;
mod becoming;
pub mod bind;
mod building;
pub mod cast;
pub mod columns;
mod columns_compared;
pub mod compare;
pub mod decimal;
pub mod eval;
pub mod expr;
mod fault;
pub mod finding;
pub mod functions;
mod hidden;
pub mod interval;
mod json_text;
mod looking_up;
pub mod lookups;
pub mod own;
pub mod own_tried;
pub mod parse;
pub mod picking;
pub mod plan;
pub mod reference;
mod repeats;
pub mod route;
pub mod rules;
pub mod run;
pub mod sql_view;
pub mod stages;
pub mod steps;
mod taking;
pub mod tools;
pub mod ty;
pub mod value;
mod work;
