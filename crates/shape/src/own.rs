//! Functions of one's own, as expressions know them: their bodies take the place of their calls.

use std::collections::{BTreeMap, BTreeSet};

use gonvel_core::column::Value;
use gonvel_core::own_function::{FunctionExample, OwnFunction};
use sqlparser::dialect::PostgreSqlDialect;
use sqlparser::tokenizer::{Token, Tokenizer};

use crate::bind::bind;
use crate::cast::text_of;
use crate::columns::{Columns, Field};
use crate::eval::{Faults, Input, eval};
use crate::finding::Finding;
use crate::functions;
use crate::parse;
use crate::tools::Tools;
use crate::ty::{Ty, parse_type};

/// The functions there are, by name.
#[derive(Debug, Clone, Default)]
pub struct Own(BTreeMap<String, OwnFunction>);

impl Own {
    /// Of these.
    #[must_use]
    pub fn of(functions: impl IntoIterator<Item = OwnFunction>) -> Self {
        Self(functions.into_iter().map(|function| (function.name.clone(), function)).collect())
    }

    /// The same with one that is added, or takes the place of the one of its name.
    #[must_use]
    pub fn with(mut self, function: OwnFunction) -> Self {
        self.0.insert(function.name.clone(), function);
        self
    }

    /// One by its name.
    #[must_use]
    pub fn get(&self, name: &str) -> Option<&OwnFunction> {
        self.0.get(name)
    }

    /// Their names.
    pub fn names(&self) -> impl Iterator<Item = &str> {
        self.0.keys().map(String::as_str)
    }

    /// Those that a text calls, in themselves or by others that they call.
    #[must_use]
    pub fn called_by(&self, text: &str) -> BTreeSet<&str> {
        let mut out = BTreeSet::new();
        let mut left = vec![text];
        while let Some(text) = left.pop() {
            for name in calls(text) {
                if let Some((known, function)) = self.0.get_key_value(&name)
                    && out.insert(known.as_str())
                {
                    left.push(&function.value);
                }
            }
        }
        out
    }
}

/// Names that stand before a bracket in a text, as calls of functions do.
fn calls(text: &str) -> BTreeSet<String> {
    let Ok(tokens) = Tokenizer::new(&PostgreSqlDialect {}, text).tokenize() else { return BTreeSet::new() };
    let mut tokens = tokens.into_iter().filter(|token| !matches!(token, Token::Whitespace(_))).peekable();
    let mut out = BTreeSet::new();
    while let Some(token) = tokens.next() {
        if let (Token::Word(word), Some(Token::LParen)) = (token, tokens.peek()) {
            out.insert(if word.quote_style.is_some() { word.value } else { word.value.to_lowercase() });
        }
    }
    out
}

/// The parameters of a function as columns of its expression.
pub(crate) fn parameters(function: &OwnFunction) -> Result<Columns, Finding> {
    let field = |parameter: &gonvel_core::own_function::Parameter| {
        let ty = parse_type(&parameter.ty).ok_or_else(|| no_type(&parameter.ty).of(None, "parameters"))?;
        Ok(Field { name: parameter.name.clone(), source_type: ty.data_type(), ty, key: false, nullable: true })
    };
    Ok(Columns { fields: function.parameters.iter().map(field).collect::<Result<_, Finding>>()? })
}

pub(crate) fn no_type(ty: &str) -> Finding {
    Finding::error(format!("there is no type {ty}"))
        .suggest("use a type such as integer, numeric(12,2), text or timestamptz")
}

/// What an example comes to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Exampled {
    /// What the function gives, as text; none for null.
    pub found: Option<String>,
    /// Why it gives nothing, if it fails.
    pub finding: Option<String>,
    /// Whether that is what the example says.
    pub holds: bool,
}

/// Tries a function that the tools know: what is wrong with it, and what its examples come to.
#[must_use]
pub fn tried(function: &OwnFunction, tools: &Tools) -> (Vec<Finding>, Vec<Exampled>) {
    let wrong = |finding: Finding| (vec![finding], Vec::new());
    if let Err((field, finding)) = function.check() {
        return wrong(Finding::error(finding).of(None, field));
    }
    if functions::by_name(&function.name).is_some() || RESERVED.contains(&function.name.as_str()) {
        let finding = format!("{} is built in already: choose another name", function.name);
        return wrong(Finding::error(finding).of(None, "name"));
    }
    if let Some(word) = function.parameters.iter().map(|p| &p.name).chain([&function.name]).find(|n| parse::name(n) != **n) {
        let field = if *word == function.name { "name" } else { "parameters" };
        let finding = format!("{word} is a word of SQL: choose another name");
        return wrong(Finding::error(finding).of(None, field));
    }
    let columns = match parameters(function) {
        Ok(columns) => columns,
        Err(finding) => return wrong(finding),
    };
    if parse_type(&function.gives).is_none() {
        return wrong(no_type(&function.gives).of(None, "gives"));
    }
    // its own expression first, where characters can be told; then as it is called
    if let Err(finding) = bind(&function.value, &columns, tools) {
        return wrong(finding.of(None, "value"));
    }
    let call = |given: &[String]| format!("{}({})", function.name, given.join(", "));
    let names: Vec<String> = function.parameters.iter().map(|p| p.name.clone()).collect();
    if let Err(finding) = bind(&call(&names), &columns, tools) {
        return wrong(Finding { span: None, ..finding }.of(None, "value"));
    }
    let one = |example: &FunctionExample| {
        let (found, finding) = match bind(&call(&example.given), &Columns::default(), tools) {
            Err(finding) => (None, Some(finding.to_string())),
            Ok((expr, _)) => {
                let mut faults = Faults::default();
                let input = Input { columns: &[], rows: 1, origins: None, tools };
                let given = eval(&expr, input, &[true], &mut faults);
                match (faults.0.remove(&0), given.value(0)) {
                    (Some((_, fault)), _) => (None, Some(fault.to_string())),
                    (None, Value::Null) => (None, None),
                    (None, value) => (Some(text_of(&expr.ty, value).into_owned()), None),
                }
            }
        };
        let holds = finding.is_none() && found == example.gives;
        Exampled { found, finding, holds }
    };
    (Vec::new(), function.examples.iter().map(one).collect())
}

/// Names that expressions know besides functions.
const RESERVED: [&str; 9] = ["coalesce", "nullif", "greatest", "least", "case", "cast", "input", "origin", "row"];

/// The type that a function gives.
pub(crate) fn gives(function: &OwnFunction) -> Result<Ty, Finding> {
    parse_type(&function.gives).ok_or_else(|| no_type(&function.gives))
}
