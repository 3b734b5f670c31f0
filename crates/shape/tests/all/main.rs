//! Shapes against PostgreSQL and by properties.
//! One program for all of them: they are linked once and run beside each other.
#![allow(clippy::unwrap_used, reason = "what fails here fails the test")]

mod again;
mod expressions;
mod extremes;
mod growers;
mod own;
mod rows;
mod steps;
mod support;
mod templates;
