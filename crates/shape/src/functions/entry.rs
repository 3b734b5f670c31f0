//! What functions are made of: what they take and give, and how their arguments are read.

use gonvel_core::column::Value;

use crate::expr::{Fault, Run};
use crate::ty::Ty;
use crate::value::{Given, Owned};

/// What an argument is taken as.
#[derive(Debug, Clone, PartialEq)]
pub enum Take {
    /// A type.
    Is(Ty),
    /// A numeric of any digits, or a whole number as one.
    Numeric,
    /// An array of anything.
    Array,
    /// Any value as it is.
    Any,
}

/// The type that a function gives for arguments of types, and for their values where those are constants.
pub type TypeOf = fn(&[Ty], &[Option<&Owned>]) -> Result<Ty, Fault>;

/// The type that a function gives.
#[derive(Clone)]
pub enum Gives {
    /// Always this.
    Is(Ty),
    /// That of the first argument.
    First,
    /// By the arguments' types, and their values where those are constants.
    By(TypeOf),
}

/// One way to call a function.
#[derive(Clone)]
pub struct Signature {
    /// Its arguments.
    pub takes: Vec<Take>,
    /// How many of the last ones may be left out.
    pub optional: usize,
    /// Whether the last may come again and again.
    pub more: bool,
    /// What it gives.
    pub gives: Gives,
    /// Whether it is null where an argument is.
    pub strict: bool,
    /// It.
    pub run: Run,
}

pub(crate) const TEXT: Take = Take::Is(Ty::Text);
pub(crate) const INT: Take = Take::Is(Ty::Int4);
pub(crate) const LONG: Take = Take::Is(Ty::Int8);
pub(crate) const DOUBLE: Take = Take::Is(Ty::Float8);
pub(crate) const BYTES: Take = Take::Is(Ty::Bytes);

pub(crate) fn way(takes: &[Take], gives: Ty, run: Run) -> Signature {
    Signature { takes: takes.to_vec(), optional: 0, more: false, gives: Gives::Is(gives), strict: true, run }
}

impl Signature {
    pub(crate) fn optional(mut self, optional: usize) -> Self {
        self.optional = optional;
        self
    }

    pub(crate) fn more(mut self) -> Self {
        self.more = true;
        self
    }

    pub(crate) fn lenient(mut self) -> Self {
        self.strict = false;
        self
    }

    pub(crate) fn giving(mut self, gives: Gives) -> Self {
        self.gives = gives;
        self
    }

    /// `(text, integer)` for people.
    #[must_use]
    pub fn text(&self) -> String {
        let name = |take: &Take| match take {
            Take::Is(ty) => ty.name(),
            Take::Numeric => "numeric".into(),
            Take::Array => "array".into(),
            Take::Any => "any".into(),
        };
        let needed = self.takes.len() - self.optional;
        let mut out = String::new();
        for (number, take) in self.takes.iter().enumerate() {
            if number >= needed {
                out.push('[');
            }
            if number > 0 {
                out.push_str(", ");
            }
            out.push_str(&name(take));
        }
        out.push_str(&"]".repeat(self.optional));
        if self.more {
            out.push_str(", …");
        }
        let gives = match &self.gives {
            Gives::Is(ty) => ty.name(),
            Gives::First => self.takes.first().map(name).unwrap_or_default(),
            Gives::By(_) => "numeric".into(),
        };
        format!("({out}) → {gives}")
    }
}

/// A function of one group.
pub(crate) type Entry = (&'static str, Vec<Signature>, &'static str, &'static str, &'static str);

pub(crate) fn t<'a>(args: &[Value<'a>], n: usize) -> &'a str {
    if let Some(Value::Text(text)) = args.get(n) { text } else { "" }
}

pub(crate) fn int(args: &[Value<'_>], n: usize) -> i64 {
    match args.get(n) {
        Some(Value::Int(v) | Value::Date(v)) => i64::from(*v),
        Some(Value::Long(v) | Value::Timestamp(v)) => *v,
        _ => 0,
    }
}

pub(crate) fn d(args: &[Value<'_>], n: usize) -> f64 {
    match args.get(n) {
        Some(Value::Double(v)) => *v,
        Some(Value::Float(v)) => f64::from(*v),
        _ => 0.0,
    }
}

pub(crate) fn unscaled(args: &[Value<'_>], n: usize) -> i128 {
    if let Some(Value::Decimal(v)) = args.get(n) { *v } else { 0 }
}

pub(crate) fn number(n: usize) -> Given<'static> {
    Given::Int(i32::try_from(n).unwrap_or(i32::MAX))
}
