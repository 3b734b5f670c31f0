//! Conditions on records: an expression of standard SQL over `key`, `value`, `headers`, `partition`, `offset`, `timestamp`.
//!
//! `value.new.weight > 18 AND headers."ce-type" = 'bin.weighed'`. What a path does not find is null, and comparing with null
//! is unknown, as in SQL; only records for which the condition is true are found.

use std::cmp::Ordering;

use serde_json::Value;
use sqlparser::ast::{
    BinaryOperator as Binary, Expr, FunctionArg, FunctionArgExpr, FunctionArguments, UnaryOperator, Value as Literal,
};
use sqlparser::dialect::GenericDialect;
use sqlparser::parser::Parser;

use crate::digits;

/// Longest condition, in bytes.
const LONGEST: usize = 4_000;

/// Why a condition is refused.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum FilterError {
    /// Not SQL.
    #[error("the condition cannot be read: {0}; write it like value.weight > 18 AND key = 'bin-7'")]
    Syntax(String),
    /// SQL that conditions do not have.
    #[error(
        "{found} cannot be used in a condition: use comparisons, AND, OR, NOT, IN, BETWEEN, LIKE, IS NULL, + - * / ||, lower, upper, length"
    )]
    Unsupported {
        /// What was found.
        found: String,
    },
    /// A name that records do not have.
    #[error("a record has no {name:?}: it has key, value, headers, partition, offset and timestamp")]
    Name {
        /// The name.
        name: String,
    },
}

/// A record as a condition sees it.
#[derive(Debug, Clone, Copy)]
pub struct Seen<'a> {
    /// The key as JSON.
    pub key: &'a Value,
    /// The value as JSON.
    pub value: &'a Value,
    /// The headers as a JSON object of texts.
    pub headers: &'a Value,
    /// The partition's number.
    pub partition: i32,
    /// The offset.
    pub offset: i64,
    /// The time in RFC 3339.
    pub timestamp: &'a str,
}

#[derive(Debug, Clone)]
enum Node {
    Constant(Value),
    /// A number with more digits than its type holds.
    Digits(String),
    Path(Root, Vec<String>),
    Compare(Box<Node>, Binary, Box<Node>),
    And(Box<Node>, Box<Node>),
    Or(Box<Node>, Box<Node>),
    Not(Box<Node>),
    IsNull(Box<Node>),
    IsTrue(Box<Node>, bool),
    In(Box<Node>, Vec<Node>),
    Like {
        node: Box<Node>,
        pattern: Box<Node>,
        any_case: bool,
    },
    Arithmetic(Box<Node>, Binary, Box<Node>),
    Concatenation(Box<Node>, Box<Node>),
    Call(Function, Box<Node>),
}

#[derive(Debug, Clone, Copy, PartialEq)]
enum Root {
    Key,
    Value,
    Headers,
    Partition,
    Offset,
    Timestamp,
}

#[derive(Debug, Clone, Copy)]
enum Function {
    Lower,
    Upper,
    Length,
}

/// A condition.
#[derive(Debug, Clone)]
pub struct RecordFilter {
    node: Node,
}

impl RecordFilter {
    /// Reads a condition.
    ///
    /// # Errors
    /// [`FilterError`].
    pub fn parse(text: &str) -> Result<Self, FilterError> {
        if text.len() > LONGEST {
            return Err(FilterError::Syntax(format!("it is longer than {LONGEST} bytes")));
        }
        let syntax =
            |e: sqlparser::parser::ParserError| FilterError::Syntax(e.to_string().replace("sql parser error: ", ""));
        let mut parser = Parser::new(&GenericDialect {}).with_recursion_limit(64).try_with_sql(text).map_err(syntax)?;
        let expression = parser.parse_expr().map_err(syntax)?;
        let next = parser.peek_token();
        if next.token != sqlparser::tokenizer::Token::EOF {
            return Err(FilterError::Syntax(format!("{} is left over after the condition", next.token)));
        }
        Ok(Self { node: node(&expression)? })
    }

    /// Whether it is true for a record.
    #[must_use]
    pub fn holds(&self, seen: &Seen<'_>) -> bool {
        truth(&evaluate(&self.node, seen)) == Some(true)
    }

    /// The text that the key is compared with for equality and that everything depends on, if there is one: then only the
    /// partition of that key needs to be searched.
    #[must_use]
    pub fn key(&self) -> Option<&str> {
        fn of(node: &Node) -> Option<&str> {
            match node {
                Node::And(left, right) => of(left).or_else(|| of(right)),
                Node::Compare(left, Binary::Eq, right) => match (&**left, &**right) {
                    (Node::Path(Root::Key, path), Node::Constant(Value::String(text)))
                    | (Node::Constant(Value::String(text)), Node::Path(Root::Key, path))
                        if path.is_empty() =>
                    {
                        Some(text)
                    }
                    _ => None,
                },
                _ => None,
            }
        }
        of(&self.node)
    }
}

fn unsupported(found: impl ToString) -> FilterError {
    FilterError::Unsupported { found: found.to_string() }
}

fn boxed(expression: &Expr) -> Result<Box<Node>, FilterError> {
    node(expression).map(Box::new)
}

fn negated(node: Node, is: bool) -> Node {
    if is { Node::Not(Box::new(node)) } else { node }
}

fn path(names: Vec<String>) -> Result<Node, FilterError> {
    let mut names = names.into_iter();
    let name = names.next().unwrap_or_default();
    let root = match name.to_ascii_lowercase().as_str() {
        "key" => Root::Key,
        "value" => Root::Value,
        "headers" => Root::Headers,
        "partition" => Root::Partition,
        "offset" => Root::Offset,
        "timestamp" => Root::Timestamp,
        _ => return Err(FilterError::Name { name }),
    };
    Ok(Node::Path(root, names.collect()))
}

fn node(expression: &Expr) -> Result<Node, FilterError> {
    Ok(match expression {
        Expr::Nested(inner) => node(inner)?,
        Expr::Value(literal) => Node::Constant(match &literal.value {
            Literal::Number(written, _) => match (digits::number(written), digits::order(written, "0")) {
                (Some(number), _) => Value::Number(number),
                (None, Some(_)) => return Ok(Node::Digits(written.clone())),
                (None, None) => return Err(unsupported(format!("the number {written}"))),
            },
            Literal::SingleQuotedString(text) => text.clone().into(),
            Literal::Boolean(yes) => (*yes).into(),
            Literal::Null => Value::Null,
            other => return Err(unsupported(other)),
        }),
        Expr::Identifier(name) => path(vec![name.value.clone()])?,
        Expr::CompoundIdentifier(names) => path(names.iter().map(|n| n.value.clone()).collect())?,
        Expr::BinaryOp { left, op, right } => {
            let (left, right) = (boxed(left)?, boxed(right)?);
            match op {
                Binary::And => Node::And(left, right),
                Binary::Or => Node::Or(left, right),
                Binary::Eq | Binary::NotEq | Binary::Lt | Binary::LtEq | Binary::Gt | Binary::GtEq => {
                    Node::Compare(left, op.clone(), right)
                }
                Binary::Plus | Binary::Minus | Binary::Multiply | Binary::Divide => {
                    Node::Arithmetic(left, op.clone(), right)
                }
                Binary::StringConcat => Node::Concatenation(left, right),
                other => return Err(unsupported(other)),
            }
        }
        Expr::UnaryOp { op: UnaryOperator::Not, expr } => Node::Not(boxed(expr)?),
        Expr::UnaryOp { op: UnaryOperator::Minus, expr } => {
            Node::Arithmetic(Box::new(Node::Constant(0.into())), Binary::Minus, boxed(expr)?)
        }
        Expr::IsNull(inner) => Node::IsNull(boxed(inner)?),
        Expr::IsNotNull(inner) => Node::Not(Box::new(Node::IsNull(boxed(inner)?))),
        Expr::IsTrue(inner) => Node::IsTrue(boxed(inner)?, true),
        Expr::IsFalse(inner) => Node::IsTrue(boxed(inner)?, false),
        Expr::InList { expr, list, negated: not } => {
            negated(Node::In(boxed(expr)?, list.iter().map(node).collect::<Result<_, _>>()?), *not)
        }
        Expr::Between { expr, negated: not, low, high } => {
            let low = Node::Compare(boxed(expr)?, Binary::GtEq, boxed(low)?);
            let high = Node::Compare(boxed(expr)?, Binary::LtEq, boxed(high)?);
            negated(Node::And(Box::new(low), Box::new(high)), *not)
        }
        Expr::Like { negated: not, expr, pattern, escape_char: None, any: false } => {
            negated(Node::Like { node: boxed(expr)?, pattern: boxed(pattern)?, any_case: false }, *not)
        }
        Expr::ILike { negated: not, expr, pattern, escape_char: None, any: false } => {
            negated(Node::Like { node: boxed(expr)?, pattern: boxed(pattern)?, any_case: true }, *not)
        }
        Expr::Function(function) => {
            let name = function.name.to_string().to_ascii_lowercase();
            let called = match name.as_str() {
                "lower" => Function::Lower,
                "upper" => Function::Upper,
                "length" => Function::Length,
                _ => return Err(unsupported(format!("the function {name}"))),
            };
            let FunctionArguments::List(arguments) = &function.args else { return Err(unsupported(function)) };
            match &arguments.args[..] {
                [FunctionArg::Unnamed(FunctionArgExpr::Expr(argument))] => Node::Call(called, boxed(argument)?),
                _ => return Err(unsupported(function)),
            }
        }
        other => return Err(unsupported(other)),
    })
}

fn truth(value: &Value) -> Option<bool> {
    value.as_bool()
}

fn from_truth(truth: Option<bool>) -> Value {
    truth.map_or(Value::Null, Value::Bool)
}

/// A number, also one written as text, as decimals are.
fn number(value: &Value) -> Option<f64> {
    match value {
        Value::Number(number) => number.as_f64(),
        Value::String(text) => text.trim().parse().ok().filter(|n: &f64| n.is_finite()),
        _ => None,
    }
}

fn compare(left: &Value, right: &Value) -> Option<Ordering> {
    match (left, right) {
        (Value::Null, _) | (_, Value::Null) => None,
        (Value::String(left), Value::String(right)) => Some(left.cmp(right)),
        (Value::Bool(left), Value::Bool(right)) => Some(left.cmp(right)),
        (Value::Number(l), Value::Number(r)) if l.is_i64() && r.is_i64() => l.as_i64().partial_cmp(&r.as_i64()),
        (Value::Number(l), Value::Number(r)) if l.is_f64() && r.is_f64() => l.as_f64().partial_cmp(&r.as_f64()),
        // one of them at least is a number: by all digits
        (Value::Number(_) | Value::String(_), Value::Number(_) | Value::String(_)) => {
            digits::order(&text(left)?, &text(right)?)
        }
        _ => (left == right).then_some(Ordering::Equal),
    }
}

fn text(value: &Value) -> Option<String> {
    match value {
        Value::Null => None,
        Value::String(text) => Some(text.clone()),
        other => Some(other.to_string()),
    }
}

fn lookup(value: &Value, path: &[String]) -> Value {
    let mut found = value;
    for name in path {
        let next = match found {
            Value::Object(object) => object.get(name),
            Value::Array(items) => name.parse::<usize>().ok().and_then(|n| items.get(n)),
            _ => None,
        };
        match next {
            Some(next) => found = next,
            None => return Value::Null,
        }
    }
    found.clone()
}

fn evaluate(node: &Node, seen: &Seen<'_>) -> Value {
    match node {
        Node::Constant(value) => value.clone(),
        Node::Digits(digits) => digits.as_str().into(),
        Node::Path(root, path) => match root {
            Root::Key => lookup(seen.key, path),
            Root::Value => lookup(seen.value, path),
            Root::Headers => lookup(seen.headers, path),
            Root::Partition => seen.partition.into(),
            Root::Offset => seen.offset.into(),
            Root::Timestamp => seen.timestamp.into(),
        },
        Node::And(left, right) => {
            let left = truth(&evaluate(left, seen));
            if left == Some(false) {
                return Value::Bool(false);
            }
            from_truth(match (left, truth(&evaluate(right, seen))) {
                (_, Some(false)) => Some(false),
                (Some(true), Some(true)) => Some(true),
                _ => None,
            })
        }
        Node::Or(left, right) => {
            let left = truth(&evaluate(left, seen));
            if left == Some(true) {
                return Value::Bool(true);
            }
            from_truth(match (left, truth(&evaluate(right, seen))) {
                (_, Some(true)) => Some(true),
                (Some(false), Some(false)) => Some(false),
                _ => None,
            })
        }
        Node::Not(inner) => from_truth(truth(&evaluate(inner, seen)).map(|t| !t)),
        Node::IsNull(inner) => evaluate(inner, seen).is_null().into(),
        Node::IsTrue(inner, wanted) => (truth(&evaluate(inner, seen)) == Some(*wanted)).into(),
        Node::Compare(left, op, right) => compared((left, &evaluate(left, seen)), op, (right, &evaluate(right, seen))),
        Node::In(inner, list) => {
            let value = evaluate(inner, seen);
            let mut unknown = value.is_null();
            for item in list {
                match compared((inner, &value), &Binary::Eq, (item, &evaluate(item, seen))) {
                    Value::Bool(true) => return Value::Bool(true),
                    Value::Null => unknown = true,
                    _ => {}
                }
            }
            from_truth((!unknown).then_some(false))
        }
        Node::Like { node, pattern, any_case } => {
            let (Some(mut value), Some(mut pattern)) = (text(&evaluate(node, seen)), text(&evaluate(pattern, seen))) else {
                return Value::Null;
            };
            if *any_case {
                (value, pattern) = (value.to_lowercase(), pattern.to_lowercase());
            }
            let (value, pattern): (Vec<char>, Vec<char>) = (value.chars().collect(), pattern.chars().collect());
            like(&value, &pattern).into()
        }
        Node::Arithmetic(left, op, right) => {
            let (Some(left), Some(right)) = (number(&evaluate(left, seen)), number(&evaluate(right, seen))) else {
                return Value::Null;
            };
            let result = match op {
                Binary::Plus => left + right,
                Binary::Minus => left - right,
                Binary::Multiply => left * right,
                _ => left / right,
            };
            serde_json::Number::from_f64(result).map_or(Value::Null, Value::Number)
        }
        Node::Concatenation(left, right) => match (text(&evaluate(left, seen)), text(&evaluate(right, seen))) {
            (Some(left), Some(right)) => (left + &right).into(),
            _ => Value::Null,
        },
        Node::Call(function, inner) => match (function, text(&evaluate(inner, seen))) {
            (_, None) => Value::Null,
            (Function::Lower, Some(text)) => text.to_lowercase().into(),
            (Function::Upper, Some(text)) => text.to_uppercase().into(),
            (Function::Length, Some(text)) => text.chars().count().into(),
        },
    }
}

/// Compares what two nodes give. A number is one also where its digits are a text: a text beside it is no text to it.
fn compared((left, found): (&Node, &Value), op: &Binary, (right, other): (&Node, &Value)) -> Value {
    if found.is_null() || other.is_null() {
        return Value::Null;
    }
    let order = match (left, right) {
        (Node::Digits(_), _) | (_, Node::Digits(_)) => {
            text(found).zip(text(other)).and_then(|(found, other)| digits::order(&found, &other))
        }
        _ => compare(found, other),
    };
    let Some(order) = order else {
        // values of kinds that have no common order are different, and that is all
        return match op {
            Binary::Eq => Value::Bool(false),
            Binary::NotEq => Value::Bool(true),
            _ => Value::Null,
        };
    };
    Value::Bool(match op {
        Binary::Eq => order.is_eq(),
        Binary::NotEq => order.is_ne(),
        Binary::Lt => order.is_lt(),
        Binary::LtEq => order.is_le(),
        Binary::Gt => order.is_gt(),
        _ => order.is_ge(),
    })
}

/// Whether text is like a pattern with `%` for any text and `_` for one character, in time that grows with their product.
fn like(value: &[char], pattern: &[char]) -> bool {
    let mut ends = vec![false; value.len() + 1];
    ends[0] = true;
    for part in pattern {
        let mut next = vec![false; value.len() + 1];
        for at in 0..=value.len() {
            next[at] = match part {
                '%' => ends[at] || (at > 0 && next[at - 1]),
                '_' => at > 0 && ends[at - 1],
                other => at > 0 && ends[at - 1] && value[at - 1] == *other,
            };
        }
        ends = next;
    }
    ends[value.len()]
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    fn holds(condition: &str) -> bool {
        let value = json!({"new": {"weight": "18.50", "id": 7, "note": null, "tags": ["ripe"],
            "load": "1234567890123456.78", "big": u64::MAX}, "change": "update"});
        let (key, headers) = (json!("bin-7"), json!({"ce-type": "bin.weighed", "room": "3"}));
        let seen = Seen {
            key: &key,
            value: &value,
            headers: &headers,
            partition: 2,
            offset: 41,
            timestamp: "2026-11-25T09:30:00Z",
        };
        RecordFilter::parse(condition).unwrap_or_else(|e| panic!("{condition}: {e}")).holds(&seen)
    }

    #[test]
    fn conditions_hold_as_in_sql() {
        for yes in [
            "value.new.weight > 18",
            "value.new.weight = 18.5",
            "value.new.weight * 2 = 37 AND NOT value.new.id = 8",
            "key = 'bin-7' AND headers.\"ce-type\" LIKE 'bin.%'",
            "headers.room IN (2, 3)",
            "value.new.id BETWEEN 7 AND 7",
            "value.new.note IS NULL AND value.gone IS NULL",
            "value.new.note = 1 OR value.change = 'update'",
            "offset >= 41 AND partition = 2 AND timestamp < '2026-11-26'",
            "upper(value.change) = 'UPDATE' AND length(key) = 5",
            "key || '!' = 'bin-7!'",
            "value.new.tags.\"0\" = 'ripe'",
            "VALUE.change ILIKE 'UP_ATE'",
            "value.new.id <> 'seven'",
            "-value.new.id = -7",
            "value.new.id < 7.000000000000000000001",
            "value.new.load = 1234567890123456.780 AND value.new.load <> 1234567890123456.79",
            "value.new.load > 1234567890123456.77 AND 1234567890123456.77 < value.new.load",
            "value.new.load IN (1, 1234567890123456.78)",
            "value.new.big = 18446744073709551615 AND value.new.big <> 18446744073709551614",
            "value.new.big BETWEEN 18446744073709551614 AND 18446744073709551616",
            "value.change <> 12345678901234567890123",
        ] {
            assert!(holds(yes), "{yes}");
        }
        for no in [
            "value.new.note = 1",
            "NOT value.new.note = 1",
            "value.new.id NOT IN (8, NULL)",
            "value.new.note <> 1",
            "value.new.id > 'seven'",
            "value.new.id / 0 > 1",
            "value.change",
            "key LIKE 'bin'",
            "value.new.load = 1234567890123456.8",
            "value.change > 12345678901234567890123",
        ] {
            assert!(!holds(no), "{no}");
        }
    }

    #[test]
    fn what_is_no_condition_is_said() {
        for (condition, expected) in [
            ("value.weight >", "cannot be read"),
            ("value.a = 1; DROP", "left over"),
            ("weight > 3", "no \"weight\": it has key, value"),
            ("now() > timestamp", "the function now"),
            ("value.a = (SELECT 1)", "cannot be used in a condition"),
            ("", "cannot be read"),
        ] {
            let error = RecordFilter::parse(condition).unwrap_err().to_string();
            assert!(error.contains(expected), "{condition}: {error}");
        }
        assert!(RecordFilter::parse(&"(".repeat(3000)).is_err());
    }

    #[test]
    fn a_key_that_must_be_equal_is_known() {
        let key = |text: &str| RecordFilter::parse(text).unwrap().key().map(str::to_owned);
        assert_eq!(key("value.a = 1 AND (key = 'bin-7')"), Some("bin-7".into()));
        assert_eq!(key("'bin-7' = key"), Some("bin-7".into()));
        assert_eq!(key("key = 'bin-7' OR value.a = 1"), None);
        assert_eq!(key("NOT key = 'bin-7'"), None);
    }
}
