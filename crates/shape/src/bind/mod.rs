//! Names and types of an expression: every name is found or refused at its place, every function chosen by its arguments' types.

use gonvel_core::shape::Fact;
use sqlparser::ast::{
    AccessExpr, BinaryOperator, CeilFloorKind, DataType, Expr as Sql, Function as Call, FunctionArg, FunctionArgExpr,
    FunctionArguments, Ident, Subscript, TrimWhereField, UnaryOperator, Value as Literal,
};

use crate::columns::Columns;
use crate::eval::fact_type;
use crate::expr::{Comparison, Expr, Node};
use crate::finding::{Finding, Span, nearest};
use crate::functions::{self, array};
use crate::parse::{self, Text};
use crate::tools::Tools;
use crate::ty::{self, Ty};
use crate::value::Given;

mod calls;
mod types;

pub(crate) use calls::risk;
use types::{cast_to, coerce, common, fold};

/// How deep an expression may be nested.
const DEEPEST: usize = 100;

/// What an expression is bound with.
pub struct Binder<'b> {
    columns: &'b Columns,
    tools: &'b Tools,
    text: Text,
    depth: usize,
    /// The functions of one's own whose expressions are being bound, from the outermost in.
    within: Vec<String>,
    /// What may go wrong with some rows.
    warnings: Vec<Finding>,
}

/// An expression's text, bound to columns.
///
/// # Errors
/// The first thing that is wrong, at its place.
pub fn bind(text: &str, columns: &Columns, tools: &Tools) -> Result<(Expr, Vec<Finding>), Finding> {
    let (sql, text) = parse::expression(text)?;
    bind_parsed(&sql, text, columns, tools)
}

/// An expression that was parsed, bound to columns.
///
/// # Errors
/// The first thing that is wrong, at its place.
pub fn bind_parsed(sql: &Sql, text: Text, columns: &Columns, tools: &Tools) -> Result<(Expr, Vec<Finding>), Finding> {
    let mut binder = Binder { columns, tools, text, depth: 0, within: Vec::new(), warnings: Vec::new() };
    let expr = binder.expr(sql)?;
    Ok((expr, binder.warnings))
}

/// A condition's text, bound to columns.
///
/// # Errors
/// The first thing that is wrong, at its place.
pub fn condition(text: &str, columns: &Columns, tools: &Tools) -> Result<(Expr, Vec<Finding>), Finding> {
    let (expr, warnings) = bind(text, columns, tools)?;
    Ok((truth(expr, "a condition")?, warnings))
}

/// The same as a condition.
pub(crate) fn truth(expr: Expr, what: &str) -> Result<Expr, Finding> {
    match expr.ty {
        Ty::Boolean => Ok(expr),
        Ty::Unknown if matches!(expr.node, Node::Literal(Given::Null)) => Ok(Expr { ty: Ty::Boolean, ..expr }),
        _ => {
            let finding = format!("{what} is true or false, but this is of type {}", expr.ty.name());
            Err(Finding::error(finding).at(expr.span).suggest("compare it with something"))
        }
    }
}

/// What would need more than a row.
fn beyond_a_row(what: &str, span: Span) -> Finding {
    Finding::error(format!("{what} cannot be used: an expression sees one row, and nothing else")).at(span)
}

/// What an expression could do, and cannot do here.
fn unsupported(what: &str, span: Span) -> Finding {
    Finding::error(format!("{what} is not known here"))
        .at(span)
        .suggest("the list of functions has what can be used instead")
}

fn text_literal(text: &str, span: Span) -> Expr {
    Expr::literal(Given::text(text), Ty::Text, span)
}

impl Binder<'_> {
    fn expr(&mut self, sql: &Sql) -> Result<Expr, Finding> {
        self.depth += 1;
        if self.depth > DEEPEST {
            return Err(Finding::error(format!("the expression is nested more than {DEEPEST} deep")).at(self.text.span(sql)));
        }
        let bound = self.bound(sql);
        self.depth -= 1;
        bound
    }

    fn exprs<'s>(&mut self, sql: impl IntoIterator<Item = &'s Sql>) -> Result<Vec<Expr>, Finding> {
        sql.into_iter().map(|s| self.expr(s)).collect()
    }

    fn bound(&mut self, sql: &Sql) -> Result<Expr, Finding> {
        let span = self.text.span(sql);
        match sql {
            Sql::Identifier(name) => self.column(name),
            Sql::CompoundIdentifier(parts) => self.qualified(parts, span),
            Sql::Value(value) => literal(&value.value, span),
            Sql::Nested(inner) => self.expr(inner),
            Sql::BinaryOp { left, op, right } => self.binary(left, op, right, span),
            Sql::UnaryOp { op: UnaryOperator::Minus, expr } if self.powers(expr) => self.minus_within(expr, span),
            Sql::UnaryOp { op, expr } => {
                let inner = self.expr(expr)?;
                match op {
                    UnaryOperator::Not => self.not(inner, span),
                    UnaryOperator::Plus => Ok(inner),
                    UnaryOperator::Minus => self.call("negative", vec![inner], span),
                    UnaryOperator::BitwiseNot => self.call("bits not", vec![inner], span),
                    _ => Err(unsupported(&format!("the operator {op}"), span)),
                }
            }
            Sql::IsNull(inner) | Sql::IsNotNull(inner) => {
                let negated = matches!(sql, Sql::IsNotNull(_));
                let inner = self.expr(inner)?;
                Ok(Expr { node: Node::IsNull(Box::new(inner), negated), ty: Ty::Boolean, nullable: false, span })
            }
            Sql::IsTrue(e) => self.is(e, Some(true), false, span),
            Sql::IsNotTrue(e) => self.is(e, Some(true), true, span),
            Sql::IsFalse(e) => self.is(e, Some(false), false, span),
            Sql::IsNotFalse(e) => self.is(e, Some(false), true, span),
            Sql::IsUnknown(e) => self.is(e, None, false, span),
            Sql::IsNotUnknown(e) => self.is(e, None, true, span),
            Sql::IsDistinctFrom(l, r) | Sql::IsNotDistinctFrom(l, r) => {
                let negated = matches!(sql, Sql::IsNotDistinctFrom(..));
                let (l, r) = self.same(l, r, span)?;
                let node = Node::Distinct(Box::new(l), Box::new(r), negated);
                Ok(Expr { node, ty: Ty::Boolean, nullable: false, span })
            }
            Sql::InList { expr, list, negated } => {
                let mut found = Vec::with_capacity(list.len());
                for item in list {
                    let (l, r) = self.same(expr, item, span)?;
                    found.push(compared(Comparison::Equal, l, r, span)?);
                }
                let any = Expr { nullable: true, node: Node::Or(found), ty: Ty::Boolean, span };
                if *negated { self.not(any, span) } else { Ok(any) }
            }
            Sql::Between { expr, negated, low, high } => {
                let (l, r) = self.same(expr, low, span)?;
                let above = compared(Comparison::AtLeast, l, r, span)?;
                let (l, r) = self.same(expr, high, span)?;
                let below = compared(Comparison::AtMost, l, r, span)?;
                let both = Expr { nullable: true, node: Node::And(vec![above, below]), ty: Ty::Boolean, span };
                if *negated { self.not(both, span) } else { Ok(both) }
            }
            Sql::Like { negated, any: false, expr, pattern, escape_char } => {
                self.alike("like", (expr, pattern), escape_char.as_ref().map(|v| &v.value), *negated, span)
            }
            Sql::ILike { negated, any: false, expr, pattern, escape_char } => {
                self.alike("ilike", (expr, pattern), escape_char.as_ref().map(|v| &v.value), *negated, span)
            }
            Sql::SimilarTo { negated, expr, pattern, escape_char: None } => {
                self.alike("similar to", (expr, pattern), None, *negated, span)
            }
            Sql::Case { operand, conditions, else_result, .. } => {
                let mut branches = Vec::with_capacity(conditions.len());
                for branch in conditions {
                    let when = match operand {
                        Some(operand) => {
                            let (l, r) = self.same(operand, &branch.condition, span)?;
                            compared(Comparison::Equal, l, r, span)?
                        }
                        None => truth(self.expr(&branch.condition)?, "what follows WHEN")?,
                    };
                    branches.push((when, self.expr(&branch.result)?));
                }
                let otherwise = else_result.as_ref().map(|e| self.expr(e)).transpose()?;
                self.case(branches, otherwise, span)
            }
            Sql::Cast { expr, data_type, array: false, format: None, .. } => {
                let ty = self.ty(data_type, span)?;
                let inner = match number_text(expr) {
                    // a numeric could not hold it on its way
                    Some(text) if matches!(ty, Ty::Float4 | Ty::Float8) => {
                        Expr::literal(Given::text(text), Ty::Unknown, span)
                    }
                    _ => self.expr(expr)?,
                };
                self.cast(inner, &ty, data_type, span)
            }
            Sql::TypedString(typed) => {
                let ty = self.ty(&typed.data_type, span)?;
                cast_to(literal(&typed.value.value, span)?, &ty, span, self.tools)
            }
            Sql::Interval(interval) => {
                let mut text = match literal_text(&interval.value) {
                    Some(text) => text,
                    None => {
                        return Err(Finding::error("what follows INTERVAL is a text").at(span).suggest("INTERVAL '1 day'"));
                    }
                };
                if let Some(field) = &interval.leading_field {
                    text = format!("{text} {}", field.to_string().to_lowercase());
                }
                cast_to(Expr::literal(Given::text(text), Ty::Unknown, span), &Ty::Interval, span, self.tools)
            }
            Sql::AtTimeZone { timestamp, time_zone } => {
                let (moment, zone) = (self.expr(timestamp)?, self.expr(time_zone)?);
                self.call("timezone", vec![zone, moment], span)
            }
            Sql::Extract { field, expr, .. } => {
                let inner = self.expr(expr)?;
                let field = field.to_string().trim_matches('\'').to_lowercase();
                self.call("extract", vec![text_literal(&field, span), inner], span)
            }
            Sql::Ceil { expr, field: CeilFloorKind::DateTimeField(sqlparser::ast::DateTimeField::NoDateTime) } => {
                let inner = self.expr(expr)?;
                self.call("ceil", vec![inner], span)
            }
            Sql::Floor { expr, field: CeilFloorKind::DateTimeField(sqlparser::ast::DateTimeField::NoDateTime) } => {
                let inner = self.expr(expr)?;
                self.call("floor", vec![inner], span)
            }
            Sql::Position { expr, r#in } => {
                let (what, text) = (self.expr(expr)?, self.expr(r#in)?);
                self.call("position", vec![text, what], span)
            }
            Sql::Substring { expr, substring_from, substring_for, .. } => {
                let mut args = vec![self.expr(expr)?];
                match (substring_from, substring_for) {
                    (Some(from), count) => {
                        args.push(self.expr(from)?);
                        args.extend(count.as_ref().map(|c| self.expr(c)).transpose()?);
                    }
                    (None, Some(count)) => {
                        args.push(Expr::literal(Given::Int(1), Ty::Int4, span));
                        args.push(self.expr(count)?);
                    }
                    (None, None) => {}
                }
                self.call("substring", args, span)
            }
            Sql::Trim { trim_where, trim_what, expr, trim_characters } => {
                let name = match trim_where {
                    Some(TrimWhereField::Leading) => "ltrim",
                    Some(TrimWhereField::Trailing) => "rtrim",
                    _ => "btrim",
                };
                let mut args = vec![self.expr(expr)?];
                args.extend(trim_what.as_ref().map(|w| self.expr(w)).transpose()?);
                args.extend(self.exprs(trim_characters.iter().flatten())?);
                self.call(name, args, span)
            }
            Sql::Overlay { expr, overlay_what, overlay_from, overlay_for } => {
                let mut args = self.exprs([expr, overlay_what, overlay_from].map(|e| &**e))?;
                args.extend(overlay_for.as_ref().map(|e| self.expr(e)).transpose()?);
                self.call("overlay", args, span)
            }
            Sql::Collate { expr, collation } if matches!(collation.to_string().as_str(), "\"C\"" | "C" | "\"POSIX\"") => {
                self.expr(expr)
            }
            Sql::Collate { .. } => {
                Err(Finding::error("texts are compared by their bytes only").at(span).suggest("leave COLLATE out"))
            }
            Sql::CompoundFieldAccess { root, access_chain } => {
                let mut inner = self.expr(root)?;
                for access in access_chain {
                    let AccessExpr::Subscript(Subscript::Index { index }) = access else {
                        return Err(unsupported("this way into a value", span));
                    };
                    let index = self.expr(index)?;
                    inner = self.call("[]", vec![inner, index], span)?;
                }
                Ok(inner)
            }
            Sql::Array(list) => {
                let items = self.exprs(&list.elem)?;
                let ty = self.common(&items, span)?;
                let items = items.into_iter().map(|i| coerce(i, &ty, self.tools)).collect::<Result<Vec<_>, _>>()?;
                let types = items.iter().map(|i| i.ty.clone()).collect();
                let node = Node::Call { run: array::of_values, args: items, types, strict: false, dear: false };
                fold(Expr { node, ty: Ty::Array(Box::new(ty)), nullable: false, span }, self.tools)
            }
            Sql::AnyOp { left, compare_op: BinaryOperator::Eq, right, .. } => {
                let (value, list) = (self.expr(left)?, self.expr(right)?);
                self.call("any of", vec![value, list], span)
            }
            Sql::Function(call) => self.function(call, span),
            Sql::Subquery(_) | Sql::Exists { .. } | Sql::InSubquery { .. } => Err(beyond_a_row("a subquery", span)),
            other => Err(unsupported(&format!("“{other}”"), span)),
        }
    }

    fn column(&self, name: &Ident) -> Result<Expr, Finding> {
        let span = self.text.at(name.span);
        // a name without quotes is one in small letters, as PostgreSQL has it
        let wanted = if name.quote_style.is_some() { name.value.clone() } else { name.value.to_lowercase() };
        let names = || self.columns.fields.iter().map(|f| f.name.as_str());
        if let Some(place) = names().position(|n| n == wanted) {
            let field = &self.columns.fields[place];
            return Ok(Expr { node: Node::Column(place), ty: field.ty.clone(), nullable: field.nullable, span });
        }
        let finding = Finding::error(format!("there is no column {}", name.value)).at(span);
        Err(match names().find(|n| n.eq_ignore_ascii_case(&name.value)).or_else(|| nearest(&name.value, names())) {
            Some(near) => finding.suggest(format!("perhaps {}", parse::name(near))),
            None => finding.suggest(format!("the columns are {}", self.columns.listed())),
        })
    }

    fn qualified(&self, parts: &[Ident], span: Span) -> Result<Expr, Finding> {
        match parts {
            [table, column] if table.value.eq_ignore_ascii_case("input") => self.column(column),
            [table, fact] if table.value.eq_ignore_ascii_case("origin") => {
                let found = Fact::ALL.into_iter().find(|f| f.word() == fact.value.to_lowercase());
                let found = found.ok_or_else(|| {
                    let words = Fact::ALL.map(Fact::word).join(", ");
                    Finding::error(format!("an origin has no {}", fact.value)).at(span).suggest(format!("it has {words}"))
                })?;
                Ok(Expr { node: Node::Fact(found), ty: fact_type(found), nullable: false, span })
            }
            _ => {
                let finding = Finding::error("names are columns, input.column or origin.fact").at(span);
                Err(
                    match parts
                        .last()
                        .and_then(|last| nearest(&last.value, self.columns.fields.iter().map(|f| f.name.as_str())))
                    {
                        Some(near) => finding.suggest(format!("perhaps {}", parse::name(near))),
                        None => finding,
                    },
                )
            }
        }
    }

    fn ty(&self, sql: &DataType, span: Span) -> Result<Ty, Finding> {
        ty_of(sql).ok_or_else(|| {
            Finding::error(format!("there is no type {sql}"))
                .at(span)
                .suggest("types are boolean, smallint, integer, bigint, numeric(p,s), real, double precision, text, bytea, date, time, timestamp, timestamptz, interval, uuid, json, jsonb")
        })
    }

    /// Two expressions made comparable.
    fn same(&mut self, left: &Sql, right: &Sql, span: Span) -> Result<(Expr, Expr), Finding> {
        let (left, right) = (self.expr(left)?, self.expr(right)?);
        self.alike_types(left, right, span)
    }

    fn alike_types(&self, left: Expr, right: Expr, span: Span) -> Result<(Expr, Expr), Finding> {
        let Some(ty) = common(&left.ty, &right.ty) else {
            let finding = format!("{} and {} cannot be compared", left.ty.name(), right.ty.name());
            return Err(Finding::error(finding).at(span).suggest(format!("convert one: CAST(… AS {})", left.ty.name())));
        };
        Ok((coerce(left, &ty, self.tools)?, coerce(right, &ty, self.tools)?))
    }

    fn common(&self, all: &[Expr], span: Span) -> Result<Ty, Finding> {
        let mut ty = Ty::Unknown;
        for one in all {
            ty = common(&ty, &one.ty).ok_or_else(|| {
                let finding = format!("{} and {} do not go together here", ty.name(), one.ty.name());
                Finding::error(finding)
                    .at(if one.span == Span::default() { span } else { one.span })
                    .suggest("convert one with CAST")
            })?;
        }
        Ok(if ty == Ty::Unknown { Ty::Text } else { ty })
    }

    fn case(&self, branches: Vec<(Expr, Expr)>, otherwise: Option<Expr>, span: Span) -> Result<Expr, Finding> {
        let results: Vec<Expr> = branches.iter().map(|(_, then)| then.clone()).chain(otherwise.clone()).collect();
        let ty = self.common(&results, span)?;
        let nullable = otherwise.is_none() || results.iter().any(|r| r.nullable);
        let branches = branches.into_iter().map(|(when, then)| Ok((when, coerce(then, &ty, self.tools)?)));
        let branches = branches.collect::<Result<Vec<_>, Finding>>()?;
        let otherwise = otherwise.map(|e| coerce(e, &ty, self.tools)).transpose()?.map(Box::new);
        Ok(Expr { node: Node::Case(branches, otherwise), ty, nullable, span })
    }

    fn not(&self, inner: Expr, span: Span) -> Result<Expr, Finding> {
        let inner = truth(inner, "what follows NOT")?;
        Ok(Expr { nullable: inner.nullable, node: Node::Not(Box::new(inner)), ty: Ty::Boolean, span })
    }

    fn is(&mut self, inner: &Sql, wanted: Option<bool>, negated: bool, span: Span) -> Result<Expr, Finding> {
        let inner = truth(self.expr(inner)?, "what stands before IS")?;
        Ok(Expr { node: Node::Is(Box::new(inner), wanted, negated), ty: Ty::Boolean, nullable: false, span })
    }

    fn alike(
        &mut self,
        name: &str,
        (expr, pattern): (&Sql, &Sql),
        escape: Option<&Literal>,
        negated: bool,
        span: Span,
    ) -> Result<Expr, Finding> {
        let mut args = self.exprs([expr, pattern])?;
        args.extend(escape.map(|e| literal(e, span)).transpose()?);
        let found = self.call(name, args, span)?;
        if negated { self.not(found, span) } else { Ok(found) }
    }

    /// Whether a power begins what a minus stands before: the minus belongs to the number that is raised.
    fn powers(&self, sql: &Sql) -> bool {
        matches!(sql, Sql::BinaryOp { op: BinaryOperator::PGExp | BinaryOperator::BitwiseXor, .. })
    }

    fn minus_within(&mut self, sql: &Sql, span: Span) -> Result<Expr, Finding> {
        match sql {
            Sql::BinaryOp { left, right, .. } if self.powers(sql) => {
                let args = vec![self.minus_within(left, span)?, self.expr(right)?];
                self.call("^", args, span)
            }
            first => {
                let inner = self.expr(first)?;
                self.call("negative", vec![inner], span)
            }
        }
    }

    fn binary(&mut self, left: &Sql, op: &BinaryOperator, right: &Sql, span: Span) -> Result<Expr, Finding> {
        use BinaryOperator as B;
        let comparison = match op {
            B::Eq => Some(Comparison::Equal),
            B::NotEq => Some(Comparison::Unequal),
            B::Lt => Some(Comparison::Less),
            B::LtEq => Some(Comparison::AtMost),
            B::Gt => Some(Comparison::Greater),
            B::GtEq => Some(Comparison::AtLeast),
            _ => None,
        };
        if let Some(comparison) = comparison {
            let (l, r) = self.same(left, right, span)?;
            return compared(comparison, l, r, span);
        }
        if matches!(op, B::And | B::Or) {
            let word = op.to_string();
            let what = format!("what {word} joins");
            let parts = vec![truth(self.expr(left)?, &what)?, truth(self.expr(right)?, &what)?];
            let nullable = parts.iter().any(|p| p.nullable);
            let node = if *op == B::And { Node::And(parts) } else { Node::Or(parts) };
            return Ok(Expr { node, ty: Ty::Boolean, nullable, span });
        }
        // the database takes all of the sum as what ~ stands before
        if matches!(op, B::Plus | B::Minus) && matches!(left, Sql::UnaryOp { op: UnaryOperator::BitwiseNot, .. }) {
            let finding = Finding::error("what ~ belongs to is not clear beside + and -").at(span);
            return Err(finding.suggest("put ~ and what it belongs to in brackets"));
        }
        let (name, negated) = match op {
            B::Custom(name) => match name.as_str() {
                "|" => ("|", false),
                "&" => ("&", false),
                "~" => ("~", false),
                "~*" => ("~*", false),
                "!~" => ("~", true),
                "!~*" => ("~*", true),
                _ => return Err(unsupported(&format!("the operator {op}"), span)),
            },
            B::Plus => ("+", false),
            B::Minus => ("-", false),
            B::Multiply => ("*", false),
            B::Divide => ("/", false),
            B::Modulo => ("%", false),
            B::PGExp | B::BitwiseXor => ("^", false),
            B::StringConcat => ("||", false),
            B::PGBitwiseXor => ("#", false),
            B::PGBitwiseShiftLeft => ("<<", false),
            B::PGBitwiseShiftRight => (">>", false),
            B::AtArrow => ("@>", false),
            B::ArrowAt => ("<@", false),
            B::QuestionPipe => ("?|", false),
            B::QuestionAnd => ("?&", false),
            B::PGLikeMatch => ("like", false),
            B::PGNotLikeMatch => ("like", true),
            B::PGILikeMatch => ("ilike", false),
            B::PGNotILikeMatch => ("ilike", true),
            B::PGStartsWith => ("starts_with", false),
            B::Arrow => ("->", false),
            B::LongArrow => ("->>", false),
            B::HashArrow => ("#>", false),
            B::HashLongArrow => ("#>>", false),
            B::Question => ("?", false),
            _ => return Err(unsupported(&format!("the operator {op}"), span)),
        };
        let args = self.exprs([left, right])?;
        let found = self.call(name, args, span)?;
        if negated { self.not(found, span) } else { Ok(found) }
    }
}

/// A type by what was parsed, also those that a length is named with.
fn ty_of(sql: &DataType) -> Option<Ty> {
    match sql {
        DataType::Varchar(_) | DataType::CharacterVarying(_) => Some(Ty::Text),
        other => ty::from_sql(other),
    }
}

fn compared(how: Comparison, left: Expr, right: Expr, span: Span) -> Result<Expr, Finding> {
    let ordered = !matches!(how, Comparison::Equal | Comparison::Unequal);
    if left.ty == Ty::Json {
        let finding = "json is text that may be written in several ways, and is not compared";
        return Err(Finding::error(finding).at(span).suggest("take a part with ->>, or convert it to jsonb"));
    }
    if ordered && matches!(left.ty, Ty::Jsonb | Ty::Array(_)) {
        let finding = format!("values of type {} have no order here", left.ty.name());
        return Err(Finding::error(finding).at(span).suggest("compare a part of them"));
    }
    let nullable = left.nullable || right.nullable;
    Ok(Expr { node: Node::Compare(how, Box::new(left), Box::new(right)), ty: Ty::Boolean, nullable, span })
}

fn literal_text(sql: &Sql) -> Option<String> {
    let Sql::Value(value) = sql else { return None };
    match &value.value {
        Literal::SingleQuotedString(text) | Literal::EscapedStringLiteral(text) => Some(text.clone()),
        Literal::Number(text, _) => Some(text.clone()),
        _ => None,
    }
}

/// The digits of a number that stands by itself.
fn number_text(sql: &Sql) -> Option<&str> {
    match sql {
        Sql::Value(value) => {
            if let Literal::Number(text, _) = &value.value {
                Some(text)
            } else {
                None
            }
        }
        Sql::Nested(inner) => number_text(inner),
        _ => None,
    }
}

fn literal(value: &Literal, span: Span) -> Result<Expr, Finding> {
    let text = |text: &str| Expr::literal(Given::text(text), Ty::Unknown, span);
    Ok(match value {
        Literal::SingleQuotedString(t) | Literal::EscapedStringLiteral(t) | Literal::UnicodeStringLiteral(t) => text(t),
        Literal::DollarQuotedString(t) => text(&t.value),
        Literal::Boolean(v) => Expr::literal(Given::Boolean(*v), Ty::Boolean, span),
        Literal::Null => Expr::literal(Given::Null, Ty::Unknown, span),
        Literal::Number(t, _) => number(t, span)?,
        other => return Err(unsupported(&format!("{other}"), span)),
    })
}

fn number(text: &str, span: Span) -> Result<Expr, Finding> {
    if let Ok(v) = text.parse::<i32>() {
        return Ok(Expr::literal(Given::Int(v), Ty::Int4, span));
    }
    if let Ok(v) = text.parse::<i64>() {
        return Ok(Expr::literal(Given::Long(v), Ty::Int8, span));
    }
    let digits = text.bytes().filter(u8::is_ascii_digit).count();
    let scale = match (text.split_once('.'), text.contains(['e', 'E'])) {
        (_, true) => 10,
        (Some((_, after)), false) => after.len(),
        (None, false) => 0,
    };
    let ty = Ty::numeric(
        u8::try_from(if text.contains(['e', 'E']) { 38 } else { digits }).unwrap_or(38),
        u8::try_from(scale).unwrap_or(38),
    );
    let value = crate::decimal::read(text, &ty).map_err(|e| Finding::error(e).at(span))?;
    Ok(Expr::literal(Given::Decimal(value), ty, span))
}

/// A function's arguments, where they are plain ones.
fn arguments<'c>(call: &'c Call, span: Span) -> Result<Vec<&'c Sql>, Finding> {
    let no = |what: &str| Err(beyond_a_row(what, span));
    if call.over.is_some() || call.filter.is_some() || !call.within_group.is_empty() || call.null_treatment.is_some() {
        return no("a function over many rows");
    }
    let FunctionArguments::List(list) = &call.args else {
        return if matches!(call.args, FunctionArguments::None) { Ok(Vec::new()) } else { no("a subquery") };
    };
    if list.duplicate_treatment.is_some() || !list.clauses.is_empty() {
        return no("a function over many rows");
    }
    let plain = |arg: &'c FunctionArg| match arg {
        FunctionArg::Unnamed(FunctionArgExpr::Expr(sql)) => Ok(sql),
        _ => Err(unsupported("this kind of argument", span)),
    };
    list.args.iter().map(plain).collect()
}

/// Every name that a function may be called by.
fn function_names<'n>() -> impl Iterator<Item = &'n str> {
    functions::all().iter().map(|f| f.name).filter(|n| n.starts_with(|c: char| c.is_ascii_alphabetic()) && !n.contains(' '))
}
