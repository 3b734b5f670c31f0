//! The stages of a plan.

use crate::columns::Columns;
use crate::expr::Expr;
use crate::lookups::Lookup;
use crate::route::Template;

/// A column that a stage leaves.
#[derive(Debug, Clone)]
pub struct Out {
    /// What it holds.
    pub expr: Expr,
    /// Whether it is the input's column and nothing else.
    pub plain: Option<usize>,
    /// The column whose place it takes.
    pub of: Option<usize>,
    /// The columns that it is worked out from.
    pub reads: Vec<usize>,
    /// Whether it hides them.
    pub hides: bool,
}

/// What a stage does.
#[derive(Debug, Clone)]
pub enum Kind {
    /// These columns, one for each of the stage's output.
    Project(Vec<Out>),
    /// Only rows for which this holds; with the columns it reads.
    Filter(Expr, Vec<usize>),
    /// Where rows go.
    Route(Vec<(Option<Expr>, Template)>),
    /// Columns added from a reference.
    Lookup(Lookup),
    /// Only rows that differ in these columns from the one before of their key.
    Repeats(Vec<usize>),
}

/// One stage.
#[derive(Debug, Clone)]
pub struct Stage {
    /// The step that it is of, by its place; none for one of a table rule.
    pub step: Option<usize>,
    /// What the step is called.
    pub word: &'static str,
    /// What it does.
    pub kind: Kind,
    /// The columns that it sees.
    pub input: Columns,
    /// The columns that it leaves.
    pub output: Columns,
    /// Which of the columns it sees must not be shown: a later step hides them.
    pub secret: Vec<bool>,
    /// The pieces as SQL, for showing.
    pub items: Option<Vec<(String, sqlparser::ast::Expr)>>,
    /// The condition as SQL, for showing.
    pub only: Option<sqlparser::ast::Expr>,
}
