//! Functions of one's own: named expressions with typed parameters, and examples that are their tests. How they are bound is the shape
//! crate's.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Longest name of a function or a parameter, in characters.
const LONGEST_NAME: usize = 63;
/// Most parameters.
const MOST_PARAMETERS: usize = 20;
/// Most examples.
const MOST_EXAMPLES: usize = 50;
/// Longest description, in characters.
const LONGEST_DESCRIPTION: usize = 2_000;

/// A parameter of a function.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Parameter {
    /// The name that the expression knows it by.
    pub name: String,
    /// Its type, as SQL writes it.
    #[serde(rename = "type")]
    pub ty: String,
}

/// An example, which is a test: what the function gives for arguments.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct FunctionExample {
    /// The arguments as expressions, in the order of the parameters: `'A'`, `12.5`, `NULL`.
    pub given: Vec<String>,
    /// What it gives, as text; none for null.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub gives: Option<String>,
}

/// A function of one's own.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct OwnFunction {
    /// Its name: small letters, digits and underscores.
    pub name: String,
    /// Its parameters.
    #[serde(default)]
    pub parameters: Vec<Parameter>,
    /// The type that it gives, as SQL writes it.
    pub gives: String,
    /// The expression, over the parameters as if they were columns.
    pub value: String,
    /// What it is for.
    #[serde(default)]
    pub description: String,
    /// Examples; all of them hold before it is saved.
    #[serde(default)]
    pub examples: Vec<FunctionExample>,
}

fn is_name(text: &str) -> bool {
    text.len() <= LONGEST_NAME
        && text.starts_with(|c: char| c.is_ascii_lowercase() || c == '_')
        && text.chars().all(|c| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '_')
}

impl OwnFunction {
    /// `(grade text, bins integer) → numeric(7,1)` for people.
    #[must_use]
    pub fn signature(&self) -> String {
        let parameters: Vec<String> = self.parameters.iter().map(|p| format!("{} {}", p.name, p.ty)).collect();
        format!("({}) → {}", parameters.join(", "), self.gives)
    }

    /// Checks what can be seen without binding it; gives the field that is wrong as well.
    ///
    /// # Errors
    /// What is wrong and what to write.
    pub fn check(&self) -> Result<(), (&'static str, String)> {
        let names = "begin with a small letter, and use small letters, digits and underscores, 63 at most";
        if !is_name(&self.name) {
            return Err(("name", format!("a function cannot be called {:?}: {names}", self.name)));
        }
        if self.parameters.len() > MOST_PARAMETERS {
            return Err(("parameters", format!("{} parameters: at most {MOST_PARAMETERS}", self.parameters.len())));
        }
        for (number, parameter) in self.parameters.iter().enumerate() {
            if !is_name(&parameter.name) {
                return Err(("parameters", format!("a parameter cannot be called {:?}: {names}", parameter.name)));
            }
            if self.parameters[..number].iter().any(|other| other.name == parameter.name) {
                return Err(("parameters", format!("two parameters are called {}: rename one", parameter.name)));
            }
        }
        if self.description.chars().count() > LONGEST_DESCRIPTION {
            return Err((
                "description",
                format!("the description has more than {LONGEST_DESCRIPTION} characters: shorten it"),
            ));
        }
        if self.examples.is_empty() {
            return Err(("examples", "there is no example: give at least one, which is tried whenever it changes".into()));
        }
        if self.examples.len() > MOST_EXAMPLES {
            return Err(("examples", format!("{} examples: at most {MOST_EXAMPLES}", self.examples.len())));
        }
        for (number, example) in self.examples.iter().enumerate() {
            if example.given.len() != self.parameters.len() {
                return Err((
                    "examples",
                    format!(
                        "example {} has {} arguments, and the function takes {}",
                        number + 1,
                        example.given.len(),
                        self.parameters.len()
                    ),
                ));
            }
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_cannot_be_a_function_is_said_at_its_field() {
        let good = OwnFunction {
            name: "grade_points".into(),
            parameters: vec![Parameter { name: "grade".into(), ty: "text".into() }],
            gives: "integer".into(),
            value: "CASE grade WHEN 'A' THEN 4 ELSE 0 END".into(),
            description: String::new(),
            examples: vec![FunctionExample { given: vec!["'A'".into()], gives: Some("4".into()) }],
        };
        assert_eq!(good.check(), Ok(()));
        assert_eq!(good.signature(), "(grade text) → integer");
        let with = |change: fn(&mut OwnFunction)| {
            let mut wrong = good.clone();
            change(&mut wrong);
            wrong.check().unwrap_err()
        };
        type Change = fn(&mut OwnFunction);
        let cases: [(Change, &str, &str); 7] = [
            (|f| f.name = "Grade".into(), "name", "begin with a small letter"),
            (|f| f.name = "g".repeat(64), "name", "63 at most"),
            (|f| f.parameters[0].name = "the grade".into(), "parameters", "cannot be called"),
            (|f| f.parameters.push(f.parameters[0].clone()), "parameters", "two parameters are called grade"),
            (|f| f.examples.clear(), "examples", "at least one"),
            (|f| f.examples[0].given.clear(), "examples", "example 1 has 0 arguments"),
            (|f| f.description = "x".repeat(2_001), "description", "shorten it"),
        ];
        for (change, field, part) in cases {
            let (at, finding) = with(change);
            assert!(at == field && finding.contains(part), "{at}: {finding}");
        }
        let text = serde_json::to_string(&good).unwrap();
        assert_eq!(serde_json::from_str::<OwnFunction>(&text).unwrap(), good);
    }
}
