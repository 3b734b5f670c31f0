//! Functions of one's own, looked through and tried on their examples.

use gonvel_core::column::Value;
use gonvel_core::own_function::{FunctionExample, OwnFunction};

use crate::bind::bind;
use crate::cast::text_of;
use crate::columns::Columns;
use crate::eval::{Faults, Input, eval};
use crate::finding::Finding;
use crate::functions;
use crate::own::{no_type, parameters};
use crate::parse;
use crate::tools::Tools;
use crate::ty::parse_type;

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
