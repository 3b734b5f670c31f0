//! Functions chosen by their names and their arguments' types.

use gonvel_core::column::Value;
use gonvel_core::own_function::OwnFunction;
use sqlparser::ast::{DataType, Function as Sql};

use super::types::{cast_to, coerce, fold};
use super::{Binder, arguments, beyond_a_row, compared, function_names};
use crate::cast;
use crate::compare::compare;
use crate::expr::{Comparison, Expr, Fault, Node, Scope};
use crate::finding::{Finding, Span, nearest};
use crate::functions::{self, Function, Gives, Group, Signature, Take};
use crate::tools::Tools;
use crate::ty::Ty;
use crate::value::{Given, Owned};
use crate::{own, parse};

/// Functions that give another value each time they are asked.
const CHANGING: [&str; 11] = [
    "now",
    "current_timestamp",
    "current_date",
    "current_time",
    "localtimestamp",
    "localtime",
    "clock_timestamp",
    "statement_timestamp",
    "random",
    "gen_random_uuid",
    "nextval",
];
/// Functions over many rows.
const OVER_ROWS: [&str; 12] =
    ["sum", "count", "avg", "min", "max", "string_agg", "array_agg", "json_agg", "jsonb_agg", "row_number", "lag", "lead"];

/// What a function of the clock gives.
fn at_clock(name: &str, now_us: i64, span: Span) -> Option<Expr> {
    const DAY_US: i64 = 86_400_000_000;
    Some(match name {
        "now" | "current_timestamp" | "statement_timestamp" | "clock_timestamp" => {
            Expr::literal(Given::Timestamp(now_us), Ty::TimestampTz, span)
        }
        "localtimestamp" => Expr::literal(Given::Timestamp(now_us), Ty::Timestamp, span),
        "current_date" => {
            let days = i32::try_from(now_us.div_euclid(DAY_US)).unwrap_or(i32::MAX);
            Expr::literal(Given::Date(days), Ty::Date, span)
        }
        _ => return None,
    })
}

impl Binder<'_> {
    pub(super) fn function(&mut self, call: &Sql, span: Span) -> Result<Expr, Finding> {
        let name = call.name.to_string().to_lowercase();
        let name = name.strip_prefix("pg_catalog.").unwrap_or(&name);
        let named = self.text.span(&call.name);
        if let Some(time) = self.tools.clock().and_then(|now_us| at_clock(name, now_us, span)) {
            return Ok(time);
        }
        if CHANGING.contains(&name) {
            let finding = format!("{name} gives another value whenever a record is tried again");
            return Err(Finding::error(finding).at(named).suggest("origin.committed_at is the time of the change"));
        }
        if OVER_ROWS.contains(&name) {
            return Err(beyond_a_row(&format!("{name}, a function over many rows,"), named));
        }
        let own = self.tools.own().get(name);
        if own.is_none()
            && functions::by_name(name).is_none()
            && !matches!(name, "coalesce" | "greatest" | "least" | "nullif")
        {
            return Err(no_function(name, named, self.tools));
        }
        let args = arguments(call, span)?;
        let args = self.exprs(args)?;
        if let Some(own) = own {
            return self.own(own, args, span);
        }
        match name {
            "coalesce" | "greatest" | "least" | "nullif" if args.is_empty() => {
                Err(Finding::error(format!("{name} needs arguments")).at(span))
            }
            "coalesce" => {
                let ty = self.common(&args, span)?;
                let nullable = args.iter().all(|a| a.nullable);
                let args = args.into_iter().map(|a| coerce(a, &ty, self.tools)).collect::<Result<Vec<_>, _>>()?;
                Ok(Expr { node: Node::Coalesce(args), ty, nullable, span })
            }
            "nullif" if args.len() == 2 => {
                let mut args = args.into_iter();
                let (Some(first), Some(second)) = (args.next(), args.next()) else {
                    return Err(Finding::error("nullif has two arguments").at(span));
                };
                let value = first.clone();
                let (l, r) = self.alike_types(first, second, span)?;
                let same = compared(Comparison::Equal, l, r, span)?;
                let null = Expr::literal(Given::Null, Ty::Unknown, span);
                self.case(vec![(same, null)], Some(value), span)
            }
            "greatest" | "least" => {
                let ty = self.common(&args, span)?;
                let nullable = args.iter().all(|a| a.nullable);
                let args = args.into_iter().map(|a| coerce(a, &ty, self.tools)).collect::<Result<Vec<_>, _>>()?;
                let run = if name == "greatest" { greatest } else { least };
                let types = args.iter().map(|a| a.ty.clone()).collect();
                fold(
                    Expr { node: Node::Call { run, args, types, strict: false, dear: false }, ty, nullable, span },
                    self.tools,
                )
            }
            _ => self.call(name, args, span),
        }
    }

    /// A function of one's own: its expression with the arguments in the place of its parameters.
    fn own(&mut self, function: &OwnFunction, args: Vec<Expr>, span: Span) -> Result<Expr, Finding> {
        let name = &function.name;
        if self.within.contains(name) {
            return Err(Finding::error(format!("{name} calls itself, in itself or by another function")).at(span));
        }
        let parameters = own::parameters(function)?;
        let takes = || format!("it is {name}{}", function.signature());
        if args.len() != parameters.fields.len() {
            let finding = format!("{name} has {} arguments here, and takes {}", args.len(), parameters.fields.len());
            return Err(Finding::error(finding).at(span).suggest(takes()));
        }
        let mut taken = Vec::with_capacity(args.len());
        for (arg, parameter) in args.into_iter().zip(&parameters.fields) {
            if between(&arg.ty, &parameter.ty).is_none() {
                let finding = format!("{name} takes {} for {}, not {}", parameter.ty.name(), parameter.name, arg.ty.name());
                return Err(Finding::error(finding).at(span).suggest(takes()));
            }
            taken.push(coerce(arg, &parameter.ty, self.tools)?);
        }
        let (sql, text) = parse::expression(&function.value)?;
        let mut within = self.within.clone();
        within.push(name.clone());
        let mut binder =
            Binder { columns: &parameters, tools: self.tools, text, depth: self.depth, within, warnings: Vec::new() };
        let found = |f: Finding| Finding::error(format!("in {name}: {}", f.message)).at(span);
        let body = binder.expr(&sql).map_err(found)?;
        let gives = own::gives(function)?;
        let body = cast_to(body, &gives, span, self.tools).map_err(found)?;
        fold(body.with(&taken, span), self.tools)
    }

    pub(super) fn call(&mut self, name: &str, args: Vec<Expr>, span: Span) -> Result<Expr, Finding> {
        let Some(function) = functions::by_name(name) else { return Err(no_function(name, span, self.tools)) };
        let chosen = function
            .signatures
            .iter()
            .filter_map(|s| distance(s, &args).map(|d| (d, s)))
            .min_by_key(|(distance, _)| *distance)
            .map(|(_, s)| s);
        let Some(signature) = chosen else { return Err(no_way(function, &args, span)) };
        let mut taken = Vec::with_capacity(args.len());
        for (n, arg) in args.into_iter().enumerate() {
            taken.push(self.taken(&take(signature, n), arg)?);
        }
        let types: Vec<Ty> = taken.iter().map(|a| a.ty.clone()).collect();
        let literals: Vec<Option<&Owned>> =
            taken.iter().map(|a| if let Node::Literal(value) = &a.node { Some(value) } else { None }).collect();
        let ty = match &signature.gives {
            Gives::Is(ty) => ty.clone(),
            Gives::First => types.first().cloned().unwrap_or(Ty::Text),
            Gives::By(of) => of(&types, &literals).map_err(|e| Finding::error(e).at(span))?,
        };
        let pattern = match name {
            "~" | "~*" | "regexp_replace" | "regexp_match" | "regexp_like" | "regexp_count" | "regexp_substr"
            | "regexp_instr" => literals.get(1),
            _ => None,
        };
        // a pattern that cannot be read is found before it runs
        if let Some(Some(Given::Text(pattern))) = pattern {
            self.tools.pattern(pattern, false).map_err(|e| Finding::error(e).at(taken[1].span))?;
        }
        let nullable = !signature.strict || taken.iter().any(|a| a.nullable) || may_be_null(name);
        let dear = function.group == Group::Hashes;
        let node = Node::Call { run: signature.run, args: taken, types, strict: signature.strict, dear };
        fold(Expr { node, ty, nullable, span }, self.tools)
    }

    fn taken(&self, take: &Take, arg: Expr) -> Result<Expr, Finding> {
        match take {
            Take::Is(ty) => coerce(arg, ty, self.tools),
            Take::Numeric => match arg.ty.as_numeric() {
                _ if matches!(arg.ty, Ty::Numeric { .. }) => Ok(arg),
                Some((precision, scale)) => coerce(arg, &Ty::Numeric { precision, scale }, self.tools),
                None => coerce(arg, &Ty::Numeric { precision: 38, scale: 10 }, self.tools),
            },
            Take::Array | Take::Any if arg.ty == Ty::Unknown => coerce(arg, &Ty::Text, self.tools),
            Take::Array | Take::Any => Ok(arg),
        }
    }

    /// A cast that is asked for, with what may go wrong with it.
    pub(super) fn cast(&mut self, inner: Expr, to: &Ty, sql: &DataType, span: Span) -> Result<Expr, Finding> {
        let from = inner.ty.clone();
        let constant = matches!(inner.node, Node::Literal(_));
        let cast = cast_to(inner, to, span, self.tools)?;
        if let Some(warning) = risk(&from, to).filter(|_| !constant) {
            self.warnings.push(Finding::warning(warning).at(span));
        }
        // text with a length is cut to it, as an explicit cast does
        let length = match sql {
            DataType::Varchar(Some(length)) | DataType::CharacterVarying(Some(length)) => match length {
                sqlparser::ast::CharacterLength::IntegerLength { length, .. } => i32::try_from(*length).ok(),
                sqlparser::ast::CharacterLength::Max => None,
            },
            _ => None,
        };
        match length {
            Some(length) => self.call("left", vec![cast, Expr::literal(Given::Int(length), Ty::Int4, span)], span),
            None => Ok(cast),
        }
    }
}

/// What a conversion does to values that do not fit.
pub(crate) fn risk(from: &Ty, to: &Ty) -> Option<String> {
    let range = |ty: &Ty| match ty {
        Ty::Int2 => Some("-32,768 to 32,767"),
        Ty::Int4 => Some("-2,147,483,648 to 2,147,483,647"),
        Ty::Int8 => Some("-9,223,372,036,854,775,808 to 9,223,372,036,854,775,807"),
        _ => None,
    };
    if from.is_textual() && !to.is_textual() {
        return Some(format!("a text that is no {} makes its row fail", to.name()));
    }
    if from.is_number() && to.is_number() && from.distance(to).is_none() {
        return Some(match range(to) {
            Some(range) => format!("a number outside {range} makes its row fail"),
            None => format!("a number that does not fit into {} makes its row fail", to.name()),
        });
    }
    if let (Some((p0, s0)), Ty::Numeric { precision, scale }) = (from.as_numeric(), to)
        && p0 - s0 > precision - scale
    {
        return Some(format!("a number that does not fit into {} makes its row fail", to.name()));
    }
    None
}

/// Functions that may give null for arguments that are not.
fn may_be_null(name: &str) -> bool {
    matches!(
        name,
        "->" | "->>"
            | "#>"
            | "#>>"
            | "[]"
            | "substring"
            | "regexp_match"
            | "regexp_substr"
            | "array_length"
            | "array_upper"
            | "to_char"
    ) || name.ends_with("_path_text")
}

fn take(signature: &Signature, n: usize) -> Take {
    let last = signature.takes.len().saturating_sub(1);
    signature.takes.get(n).or_else(|| signature.takes.get(last)).cloned().unwrap_or(Take::Any)
}

/// How far the arguments are from what a signature takes; none if it does not take them.
fn distance(signature: &Signature, args: &[Expr]) -> Option<u32> {
    let (least, most) = (signature.takes.len() - signature.optional, signature.takes.len());
    if args.len() < least || args.len() > most && !signature.more {
        return None;
    }
    let mut all = 0;
    for (n, arg) in args.iter().enumerate() {
        all += match take(signature, n) {
            Take::Is(ty) => between(&arg.ty, &ty)?,
            Take::Numeric => match &arg.ty {
                Ty::Numeric { .. } => 0,
                Ty::Unknown => 1,
                Ty::Int2 | Ty::Int4 | Ty::Int8 => 4,
                _ => return None,
            },
            Take::Array => match &arg.ty {
                Ty::Array(_) => 0,
                Ty::Unknown => 2,
                _ => return None,
            },
            Take::Any => 2,
        };
    }
    Some(all)
}

/// The distance of types, by which PostgreSQL's choice comes out: whole numbers go over into doubles rather than numerics where
/// neither is there.
fn between(from: &Ty, to: &Ty) -> Option<u32> {
    match (from, to) {
        (Ty::Int2 | Ty::Int4 | Ty::Int8 | Ty::Numeric { .. }, Ty::Float8) => Some(3),
        (Ty::Int2 | Ty::Int4 | Ty::Int8 | Ty::Numeric { .. }, Ty::Float4) => Some(5),
        (Ty::Json, Ty::Jsonb) | (Ty::Jsonb, Ty::Json) => None,
        _ => from.distance(to),
    }
}

fn no_function(name: &str, span: Span, tools: &Tools) -> Finding {
    let finding = Finding::error(format!("there is no function {name}")).at(span);
    match nearest(name, function_names().chain(tools.own().names())) {
        Some(near) => finding.suggest(format!("perhaps {near}")),
        None => finding.suggest("the functions there are can be browsed beside the editor"),
    }
}

fn no_way(function: &Function, args: &[Expr], span: Span) -> Finding {
    let types: Vec<String> = args.iter().map(|a| if a.ty == Ty::Unknown { "text".into() } else { a.ty.name() }).collect();
    let ways: Vec<String> = function.signatures.iter().map(Signature::text).collect();
    let text_wanted = function.signatures.iter().any(|s| s.takes.first() == Some(&Take::Is(Ty::Text)));
    let finding = Finding::error(format!("{} does not take ({})", function.name, types.join(", "))).at(span);
    let shown = ways.iter().take(4).map(|w| format!("{}{w}", function.name)).collect::<Vec<_>>().join("; ");
    match args.first() {
        Some(first)
            if text_wanted
                && args.len() <= function.signatures[0].takes.len()
                && cast::cast(&first.ty, &Ty::Text).is_some()
                && !first.ty.is_textual() =>
        {
            finding.suggest(format!("convert it first, CAST(… AS text); it takes {shown}"))
        }
        _ => finding.suggest(format!("it takes {shown}")),
    }
}

fn extreme<'a>(scope: Scope<'_>, args: &[Value<'a>], greatest: bool) -> Result<Given<'a>, Fault> {
    let mut found = Value::Null;
    for value in args.iter().copied().filter(|v| *v != Value::Null) {
        let order = compare((scope.ty, scope.ty), value, found);
        if found == Value::Null || if greatest { order.is_gt() } else { order.is_lt() } {
            found = value;
        }
    }
    Ok(found.into())
}

fn greatest<'a>(scope: Scope<'_>, args: &[Value<'a>]) -> Result<Given<'a>, Fault> {
    extreme(scope, args, true)
}

fn least<'a>(scope: Scope<'_>, args: &[Value<'a>]) -> Result<Given<'a>, Fault> {
    extreme(scope, args, false)
}
