//! Working expressions out over a batch. A row for which one fails is noted with its fault and gets null; the others go on.

use std::collections::BTreeMap;
use std::hash::BuildHasher as _;

use arrow_array::BooleanArray;
use gonvel_core::change::{ChangeKind, Origin};
use gonvel_core::change_form::position_text;
use gonvel_core::column::{ColumnArray, ColumnBuilder, Value};
use gonvel_core::shape::Fact;
use gonvel_core::table::TableSchema;

use crate::columns_compared;
use crate::compare::{compare, holds};
use crate::expr::{Comparison, Expr, Fault, Node, Run, Scope};
use crate::finding::Span;
use crate::tools::Tools;
use crate::ty::Ty;
use crate::value::{Given, Owned, Vector};

/// Bytes of a value that an expression may give.
const LARGEST: usize = 1 << 20;

/// The rows that expressions are worked out over.
#[derive(Debug, Clone, Copy)]
pub struct Input<'a> {
    /// The columns.
    pub columns: &'a [ColumnArray],
    /// How many rows.
    pub rows: usize,
    /// Where the rows' changes came from; none in a sample of plain rows.
    pub origins: Option<Origins<'a>>,
    /// What functions keep at hand.
    pub tools: &'a Tools,
}

/// Where changes came from.
#[derive(Debug, Clone, Copy)]
pub struct Origins<'a> {
    /// What happened, per row.
    pub kinds: &'a [ChangeKind],
    /// Where, per row.
    pub origins: &'a [Origin],
    /// In which table.
    pub table: &'a TableSchema,
}

impl Origins<'_> {
    fn fact(&self, fact: Fact, row: usize) -> Owned {
        let origin = &self.origins[row];
        match fact {
            Fact::Kind => Given::text(self.kinds[row].word()),
            Fact::CommittedAt => Given::Timestamp(origin.commit_time_us),
            Fact::Position => Given::text(position_text(origin.position)),
            Fact::Transaction => Given::Long(origin.transaction.cast_signed()),
            Fact::Sequence => Given::Long(origin.sequence.cast_signed()),
            Fact::System => Given::text(self.table.system.as_str()),
            Fact::Schema => Given::text(self.table.schema.as_str()),
            Fact::Table => Given::text(self.table.table.as_str()),
        }
    }
}

/// The type of a fact of the origin.
#[must_use]
pub fn fact_type(fact: Fact) -> Ty {
    match fact {
        Fact::CommittedAt => Ty::TimestampTz,
        Fact::Transaction | Fact::Sequence => Ty::Int8,
        _ => Ty::Text,
    }
}

/// What was found wrong, by row: the first of each.
#[derive(Debug, Default)]
pub struct Faults(pub BTreeMap<usize, (Span, Fault)>);

impl Faults {
    fn note(&mut self, row: usize, span: Span, fault: Fault) {
        self.0.entry(row).or_insert((span, fault));
    }
}

/// Works an expression out for the rows of `mask`; what it gives for others means nothing.
pub fn eval(expr: &Expr, input: Input<'_>, mask: &[bool], faults: &mut Faults) -> Vector {
    let truths = |values: Vec<Option<bool>>| Vector::Column(ColumnArray::Boolean(BooleanArray::from(values)));
    match &expr.node {
        Node::Column(column) => Vector::Column(input.columns[*column].clone()),
        Node::Literal(value) => Vector::Constant(value.clone()),
        Node::Fact(fact) => {
            let value = |row| input.origins.map_or(Given::Null, |o| o.fact(*fact, row));
            fill(expr, input.rows, mask, faults, |row| Ok(value(row)))
        }
        Node::Call { run, args, types, strict, dear } => {
            let args: Vec<Vector> = args.iter().map(|a| eval(a, input, mask, faults)).collect();
            match args.as_slice() {
                [one] if *dear && *strict => remembered(expr, (*run, types), one, input, mask, faults),
                _ => call(expr, (*run, types, *strict), &args, input, mask, faults),
            }
        }
        Node::Compare(how, left, right) => {
            let (l, r) = (eval(left, input, mask, faults), eval(right, input, mask, faults));
            comparison(*how, (&left.ty, &right.ty), &l, &r, input.rows)
        }
        Node::Distinct(left, right, negated) => {
            let (l, r) = (eval(left, input, mask, faults), eval(right, input, mask, faults));
            let differ = |row| match (l.value(row), r.value(row)) {
                (Value::Null, Value::Null) => false,
                (Value::Null, _) | (_, Value::Null) => true,
                (a, b) => compare((&left.ty, &right.ty), a, b).is_ne(),
            };
            truths((0..input.rows).map(|row| Some(differ(row) != *negated)).collect())
        }
        Node::And(parts) | Node::Or(parts) => {
            // what decides: false for AND, true for OR; the parts after it are not worked out
            let decides = matches!(expr.node, Node::Or(_));
            let mut mask = mask.to_vec();
            let mut out = vec![Some(!decides); input.rows];
            for part in parts {
                let found = eval(part, input, &mask, faults);
                for (row, out) in out.iter_mut().enumerate() {
                    if !mask[row] {
                        continue;
                    }
                    match found.value(row) {
                        Value::Boolean(truth) if truth == decides => (*out, mask[row]) = (Some(decides), false),
                        Value::Boolean(_) => {}
                        _ => *out = None,
                    }
                }
            }
            truths(out)
        }
        Node::Not(inner) => {
            let found = eval(inner, input, mask, faults);
            truths((0..input.rows).map(|row| truth(&found, row).map(|t| !t)).collect())
        }
        Node::IsNull(inner, negated) => {
            let found = eval(inner, input, mask, faults);
            truths((0..input.rows).map(|row| Some((found.value(row) == Value::Null) != *negated)).collect())
        }
        Node::Is(inner, wanted, negated) => {
            let found = eval(inner, input, mask, faults);
            truths((0..input.rows).map(|row| Some((truth(&found, row) == *wanted) != *negated)).collect())
        }
        Node::Case(branches, otherwise) => case(expr, branches, otherwise.as_deref(), input, mask, faults),
        Node::Coalesce(parts) => {
            let mut left = mask.to_vec();
            let mut found = Vec::with_capacity(parts.len());
            for part in parts {
                let vector = eval(part, input, &left, faults);
                for (row, left) in left.iter_mut().enumerate() {
                    *left &= vector.value(row) == Value::Null;
                }
                found.push(vector);
            }
            let first = |row| found.iter().map(|v| v.value(row)).find(|v| *v != Value::Null).unwrap_or(Value::Null);
            fill(expr, input.rows, mask, faults, |row| Ok(first(row).into()))
        }
    }
}

fn truth(vector: &Vector, row: usize) -> Option<bool> {
    if let Value::Boolean(truth) = vector.value(row) { Some(truth) } else { None }
}

/// A column of what is given for each row of the mask.
fn fill<'a>(
    expr: &Expr,
    rows: usize,
    mask: &[bool],
    faults: &mut Faults,
    mut give: impl FnMut(usize) -> Result<Given<'a>, Fault>,
) -> Vector {
    let mut builder = ColumnBuilder::new(expr.ty.column_type());
    for (row, on) in mask.iter().enumerate().take(rows) {
        if !on {
            builder.push_null();
            continue;
        }
        let given = give(row).and_then(|given| match &given {
            Given::Text(text) if text.len() > LARGEST => Err("the value is larger than 1 MiB".into()),
            Given::Bytes(bytes) if bytes.len() > LARGEST => Err("the value is larger than 1 MiB".into()),
            _ => Ok(given),
        });
        match given {
            Ok(given) => {
                if let Err(error) = builder.push(given.value()) {
                    builder.push_null();
                    faults.note(row, expr.span, error.to_string().into());
                }
            }
            Err(fault) => {
                builder.push_null();
                faults.note(row, expr.span, fault);
            }
        }
    }
    Vector::Column(builder.finish())
}

fn call(
    expr: &Expr,
    (run, types, strict): (Run, &[Ty], bool),
    args: &[Vector],
    input: Input<'_>,
    mask: &[bool],
    faults: &mut Faults,
) -> Vector {
    let scope = Scope { args: types, ty: &expr.ty, tools: input.tools };
    let mut values: Vec<Value<'_>> = Vec::with_capacity(args.len());
    fill(expr, input.rows, mask, faults, |row| {
        values.clear();
        values.extend(args.iter().map(|a| a.value(row)));
        if strict && values.contains(&Value::Null) { Ok(Given::Null) } else { run(scope, &values) }
    })
}

/// The same for a function that takes long: what it gave for a value a while ago is not worked out again.
fn remembered(
    expr: &Expr,
    (run, types): (Run, &[Ty]),
    arg: &Vector,
    input: Input<'_>,
    mask: &[bool],
    faults: &mut Faults,
) -> Vector {
    /// Values remembered at a time.
    const MOST: usize = 256;
    let scope = Scope { args: types, ty: &expr.ty, tools: input.tools };
    let mut known: Vec<Option<(Value<'_>, Given<'_>)>> = vec![None; input.rows.next_power_of_two().min(MOST)];
    let hasher = hashbrown::DefaultHashBuilder::default();
    let mut builder = ColumnBuilder::new(expr.ty.column_type());
    for (row, on) in mask.iter().enumerate().take(input.rows) {
        let value = arg.value(row);
        if !on || value == Value::Null {
            builder.push_null();
            continue;
        }
        let hash = match value {
            Value::Text(text) => hasher.hash_one(text),
            Value::Bytes(bytes) => hasher.hash_one(bytes),
            _ => u64::try_from(row).unwrap_or(0),
        };
        let slot = usize::try_from(hash).unwrap_or(0) & (known.len() - 1);
        if known[slot].as_ref().is_none_or(|(before, _)| *before != value) {
            match run(scope, &[value]) {
                Ok(given) => known[slot] = Some((value, given)),
                Err(fault) => {
                    builder.push_null();
                    faults.note(row, expr.span, fault);
                    continue;
                }
            }
        }
        let pushed = known[slot].as_ref().map(|(_, given)| builder.push(given.value()));
        if !matches!(pushed, Some(Ok(()))) {
            builder.push_null();
        }
    }
    Vector::Column(builder.finish())
}

fn case(
    expr: &Expr,
    branches: &[(Expr, Expr)],
    otherwise: Option<&Expr>,
    input: Input<'_>,
    mask: &[bool],
    faults: &mut Faults,
) -> Vector {
    let mut left = mask.to_vec();
    let mut taken: Vec<Option<usize>> = vec![None; input.rows];
    let mut found = Vec::with_capacity(branches.len() + 1);
    for (number, (when, then)) in branches.iter().enumerate() {
        let condition = eval(when, input, &left, faults);
        let mut here = vec![false; input.rows];
        for row in 0..input.rows {
            if left[row] && truth(&condition, row) == Some(true) {
                (here[row], left[row], taken[row]) = (true, false, Some(number));
            }
        }
        found.push(eval(then, input, &here, faults));
    }
    if let Some(otherwise) = otherwise {
        (0..input.rows).filter(|row| left[*row]).for_each(|row| taken[row] = Some(branches.len()));
        found.push(eval(otherwise, input, &left, faults));
    }
    let value = |row: usize| taken[row].map_or(Value::Null, |branch| found[branch].value(row));
    fill(expr, input.rows, mask, faults, |row| Ok(value(row).into()))
}

/// Both sides compared: whole columns at once where that gives SQL's order, else value by value.
fn comparison(how: Comparison, types: (&Ty, &Ty), left: &Vector, right: &Vector, rows: usize) -> Vector {
    if let Some(array) = columns_compared::compared(how, types, left, right) {
        return Vector::Column(ColumnArray::Boolean(array));
    }
    let one = |row| match (left.value(row), right.value(row)) {
        (Value::Null, _) | (_, Value::Null) => None,
        (a, b) => Some(holds(how, compare(types, a, b))),
    };
    Vector::Column(ColumnArray::Boolean((0..rows).map(one).collect()))
}
