//! Where in a JSON text something stands, so that an error can be shown at its line.

use std::collections::HashMap;

use serde_json::value::RawValue;

/// One step down into a JSON text.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Step {
    /// The member of an object with this name.
    Member(String),
    /// The element of a list at this place.
    Element(usize),
}

/// A place in a text: both count from 1, the column in characters.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Place {
    /// Line.
    pub line: usize,
    /// Column within the line.
    pub column: usize,
}

impl Place {
    /// The place of a byte of a text.
    #[must_use]
    pub fn of_byte(text: &str, byte: usize) -> Self {
        let before = text.get(..byte).unwrap_or(text);
        let line_start = before.rfind('\n').map_or(0, |at| at + 1);
        Self { line: before.matches('\n').count() + 1, column: before[line_start..].chars().count() + 1 }
    }
}

/// The place of the value that a path of steps leads to, or of the nearest one above it that is there.
#[must_use]
pub fn locate(text: &str, steps: &[Step]) -> Place {
    let mut found: &str = text.trim_start();
    for step in steps {
        let inner = match step {
            Step::Member(name) => serde_json::from_str::<HashMap<String, &RawValue>>(found)
                .ok()
                .and_then(|members| members.get(name).map(|value| value.get())),
            Step::Element(place) => serde_json::from_str::<Vec<&RawValue>>(found)
                .ok()
                .and_then(|elements| elements.get(*place).map(|value| value.get())),
        };
        let Some(inner) = inner else { break };
        found = inner;
    }
    // both are slices of one text
    Place::of_byte(text, found.as_ptr().addr() - text.as_ptr().addr())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_path_leads_to_the_line_of_its_value() {
        let text = "{\n  \"a\": [1,\n    {\"ü\": 1, \"b\": true}],\n  \"c\": {}\n}";
        let member = |name: &str| Step::Member(name.to_owned());
        let at = |steps: &[Step]| {
            let place = locate(text, steps);
            (place.line, place.column)
        };
        assert_eq!(at(&[]), (1, 1));
        assert_eq!(at(&[member("a"), Step::Element(1), member("b")]), (3, 19));
        assert_eq!(at(&[member("c"), member("missing")]), (4, 8), "the nearest one above");
    }
}
