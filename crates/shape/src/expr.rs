//! Expressions whose names and types are settled.

use gonvel_core::column::Value;
use gonvel_core::shape::Fact;

pub use crate::fault::Fault;
use crate::finding::Span;
use crate::tools::Tools;
use crate::ty::Ty;
use crate::value::{Given, Owned};

/// What a function knows besides its arguments.
#[derive(Debug, Clone, Copy)]
pub struct Scope<'s> {
    /// The arguments' types.
    pub args: &'s [Ty],
    /// The type it gives.
    pub ty: &'s Ty,
    /// Patterns that were read, and the secret.
    pub tools: &'s Tools,
}

/// A function for one row.
pub type Run = for<'a> fn(Scope<'_>, &[Value<'a>]) -> Result<Given<'a>, Fault>;

/// How two values are compared.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Comparison {
    /// `=`
    Equal,
    /// `<>`
    Unequal,
    /// `<`
    Less,
    /// `<=`
    AtMost,
    /// `>`
    Greater,
    /// `>=`
    AtLeast,
}

impl Comparison {
    /// The same with the sides changed.
    #[must_use]
    pub fn turned(self) -> Self {
        match self {
            Self::Equal | Self::Unequal => self,
            Self::Less => Self::Greater,
            Self::AtMost => Self::AtLeast,
            Self::Greater => Self::Less,
            Self::AtLeast => Self::AtMost,
        }
    }
}

/// What an expression does.
#[derive(Debug, Clone)]
pub enum Node {
    /// A column by its place.
    Column(usize),
    /// A fact of the change's origin.
    Fact(Fact),
    /// A constant.
    Literal(Owned),
    /// A function of its arguments, row by row.
    Call {
        /// It.
        run: Run,
        /// Its arguments, each of a type it takes.
        args: Vec<Expr>,
        /// The arguments' types.
        types: Vec<Ty>,
        /// Whether it is null where an argument is.
        strict: bool,
        /// Whether it takes long, and gives the same for the same value.
        dear: bool,
    },
    /// Both sides have one type.
    Compare(Comparison, Box<Expr>, Box<Expr>),
    /// Whether two values differ, null being a value; or whether they do not.
    Distinct(Box<Expr>, Box<Expr>, bool),
    /// All of them.
    And(Vec<Expr>),
    /// One of them.
    Or(Vec<Expr>),
    /// The opposite.
    Not(Box<Expr>),
    /// Whether it is null; or whether it is not.
    IsNull(Box<Expr>, bool),
    /// Whether it is true, false or neither; or whether it is not.
    Is(Box<Expr>, Option<bool>, bool),
    /// The first whose condition holds.
    Case(Vec<(Expr, Expr)>, Option<Box<Expr>>),
    /// The first that is not null.
    Coalesce(Vec<Expr>),
}

/// An expression.
#[derive(Debug, Clone)]
pub struct Expr {
    /// What it does.
    pub node: Node,
    /// The type of what it gives.
    pub ty: Ty,
    /// Whether it may give null.
    pub nullable: bool,
    /// Where it stands.
    pub span: Span,
}

impl Expr {
    /// A constant.
    #[must_use]
    pub fn literal(value: Owned, ty: Ty, span: Span) -> Self {
        let nullable = value == Given::Null;
        Self { node: Node::Literal(value), ty, nullable, span }
    }

    /// The column that it is, if it is nothing else.
    #[must_use]
    pub fn as_column(&self) -> Option<usize> {
        if let Node::Column(column) = self.node { Some(column) } else { None }
    }

    /// Calls `seen` with every column that it reads.
    pub fn columns(&self, seen: &mut impl FnMut(usize)) {
        if let Node::Column(column) = self.node {
            seen(column);
        }
        for part in self.parts() {
            part.columns(seen);
        }
    }

    /// Whether it reads a fact of the origin.
    #[must_use]
    pub fn reads_facts(&self) -> bool {
        matches!(self.node, Node::Fact(_)) || self.parts().into_iter().any(Self::reads_facts)
    }

    /// The same with other expressions in the places of its columns, standing somewhere else.
    #[must_use]
    pub fn with(self, columns: &[Expr], span: Span) -> Self {
        let one = |expr: Expr| expr.with(columns, span);
        let boxed = |expr: Box<Expr>| Box::new((*expr).with(columns, span));
        let all = |parts: Vec<Expr>| parts.into_iter().map(one).collect::<Vec<_>>();
        let node = match self.node {
            Node::Column(place) => match columns.get(place) {
                Some(expr) => return Self { span, ..expr.clone() },
                None => Node::Column(place),
            },
            node @ (Node::Fact(_) | Node::Literal(_)) => node,
            Node::Call { run, args, types, strict, dear } => Node::Call { run, args: all(args), types, strict, dear },
            Node::And(parts) => Node::And(all(parts)),
            Node::Or(parts) => Node::Or(all(parts)),
            Node::Coalesce(parts) => Node::Coalesce(all(parts)),
            Node::Compare(how, left, right) => Node::Compare(how, boxed(left), boxed(right)),
            Node::Distinct(left, right, negated) => Node::Distinct(boxed(left), boxed(right), negated),
            Node::Not(inner) => Node::Not(boxed(inner)),
            Node::IsNull(inner, negated) => Node::IsNull(boxed(inner), negated),
            Node::Is(inner, wanted, negated) => Node::Is(boxed(inner), wanted, negated),
            Node::Case(branches, otherwise) => {
                Node::Case(branches.into_iter().map(|(when, then)| (one(when), one(then))).collect(), otherwise.map(boxed))
            }
        };
        Self { node, span, ..self }
    }

    fn parts(&self) -> Vec<&Expr> {
        match &self.node {
            Node::Column(_) | Node::Fact(_) | Node::Literal(_) => Vec::new(),
            Node::Call { args, .. } => args.iter().collect(),
            Node::And(parts) | Node::Or(parts) | Node::Coalesce(parts) => parts.iter().collect(),
            Node::Compare(_, left, right) | Node::Distinct(left, right, _) => vec![left, right],
            Node::Not(inner) | Node::IsNull(inner, _) | Node::Is(inner, ..) => vec![inner],
            Node::Case(branches, otherwise) => {
                branches.iter().flat_map(|(when, then)| [when, then]).chain(otherwise.as_deref()).collect()
            }
        }
    }
}
