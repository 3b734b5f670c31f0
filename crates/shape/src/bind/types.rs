//! How types meet: what two have in common, and how an expression becomes one of another type.

use crate::cast;
use crate::eval::{Faults, Input, eval};
use crate::expr::{Expr, Node};
use crate::finding::{Finding, Span};
use crate::tools::Tools;
use crate::ty::Ty;
use crate::value::{Given, Vector};

/// The type that both go over into.
pub(super) fn common(a: &Ty, b: &Ty) -> Option<Ty> {
    if a == b {
        return Some(a.clone());
    }
    match (a, b) {
        (Ty::Unknown, other) | (other, Ty::Unknown) => Some(other.clone()),
        (a, b) if a.is_textual() && b.is_textual() => Some(Ty::Text),
        (Ty::Date, Ty::Timestamp) | (Ty::Timestamp, Ty::Date) => Some(Ty::Timestamp),
        (Ty::Date | Ty::Timestamp, Ty::TimestampTz) | (Ty::TimestampTz, Ty::Date | Ty::Timestamp) => Some(Ty::TimestampTz),
        (a, b) if a.is_number() && b.is_number() => Some(match (a, b) {
            (Ty::Float4, Ty::Float4) => Ty::Float4,
            (Ty::Float4 | Ty::Float8, _) | (_, Ty::Float4 | Ty::Float8) => Ty::Float8,
            (Ty::Numeric { .. }, _) | (_, Ty::Numeric { .. }) => {
                let ((p0, s0), (p1, s1)) = (a.as_numeric()?, b.as_numeric()?);
                let scale = s0.max(s1);
                Ty::numeric((p0 - s0).max(p1 - s1).saturating_add(scale), scale)
            }
            (Ty::Int8, _) | (_, Ty::Int8) => Ty::Int8,
            _ => Ty::Int4,
        }),
        _ => None,
    }
}

/// An expression as one of a type that its own goes over into by itself.
pub(super) fn coerce(expr: Expr, to: &Ty, tools: &Tools) -> Result<Expr, Finding> {
    if expr.ty == *to {
        return Ok(expr);
    }
    if let (Ty::Unknown, Node::Literal(Given::Null)) = (&expr.ty, &expr.node) {
        return Ok(Expr { ty: to.clone(), ..expr });
    }
    // text that is held as text already
    if expr.ty.is_textual() && *to == Ty::Text {
        return Ok(Expr { ty: Ty::Text, ..expr });
    }
    let span = expr.span;
    cast_to(expr, to, span, tools)
}

/// An expression cast to a type.
pub(super) fn cast_to(expr: Expr, to: &Ty, span: Span, tools: &Tools) -> Result<Expr, Finding> {
    if expr.ty == *to {
        return Ok(expr);
    }
    if let Node::Literal(Given::Null) = expr.node {
        return Ok(Expr { ty: to.clone(), span, ..expr });
    }
    let Some(run) = cast::cast(&expr.ty, to) else {
        let finding = format!("{} cannot be converted to {}", expr.ty.name(), to.name());
        return Err(Finding::error(finding).at(span).suggest("convert it to text first"));
    };
    let (types, nullable) = (vec![expr.ty.clone()], expr.nullable);
    let node = Node::Call { run, args: vec![expr], types, strict: true, dear: false };
    fold(Expr { node, ty: to.clone(), nullable, span }, tools)
}

/// What a call of constants gives is a constant; what it cannot give is found before anything runs.
pub(super) fn fold(expr: Expr, tools: &Tools) -> Result<Expr, Finding> {
    let Node::Call { args, .. } = &expr.node else { return Ok(expr) };
    if !args.iter().all(|a| matches!(a.node, Node::Literal(_))) {
        return Ok(expr);
    }
    let mut faults = Faults::default();
    let input = Input { columns: &[], rows: 1, origins: None, tools };
    let vector = eval(&expr, input, &[true], &mut faults);
    if let Some((_, (span, fault))) = faults.0.pop_first() {
        return Err(Finding::error(fault).at(span));
    }
    let value = match vector {
        Vector::Constant(value) => value,
        Vector::Column(column) => Given::from(column.value(0)).owned(),
    };
    Ok(Expr { nullable: value == Given::Null, node: Node::Literal(value), ty: expr.ty, span: expr.span })
}
