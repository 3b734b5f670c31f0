//! Columns that are looked up.

use gonvel_core::shape::Miss;

use crate::expr::Expr;

/// Columns added from a reference.
#[derive(Debug, Clone)]
pub struct Lookup {
    /// The reference topic.
    pub topic: String,
    /// What is compared, in the order of the reference's key columns, of their types.
    pub by: Vec<Expr>,
    /// The reference's columns that are added, by their places.
    pub added: Vec<usize>,
    /// What happens on a miss.
    pub miss: Miss,
    /// Whether rows are carried again when what they look up changes.
    pub again: bool,
    /// The columns that are compared.
    pub reads: Vec<usize>,
}

/// What is found of a table that is looked into and is not there.
#[must_use]
pub fn cannot_be_read(reference: &str) -> String {
    format!("the table {} cannot be read", called(reference))
}

/// What a reference is called for people: a table without the connection it is read through.
pub(crate) fn called(reference: &str) -> &str {
    reference.split(" of ").next().unwrap_or(reference)
}
