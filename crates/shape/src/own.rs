//! Functions of one's own, as expressions know them: their bodies take the place of their calls.

use std::collections::{BTreeMap, BTreeSet};

use gonvel_core::own_function::OwnFunction;
use sqlparser::dialect::PostgreSqlDialect;
use sqlparser::tokenizer::{Token, Tokenizer};

use crate::columns::{Columns, Field};
use crate::finding::Finding;
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

/// The type that a function gives.
pub(crate) fn gives(function: &OwnFunction) -> Result<Ty, Finding> {
    parse_type(&function.gives).ok_or_else(|| no_type(&function.gives))
}
