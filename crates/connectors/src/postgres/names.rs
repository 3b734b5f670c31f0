//! Names of what Gonvel makes in a database, and quoting.

use gonvel_core::naming::ConnectorId;

/// Schema for Gonvel's own tables in a target database.
pub const OWN_SCHEMA: &str = "gonvel";

/// The replication slot of a source connector.
#[must_use]
pub fn slot(connector: ConnectorId) -> String {
    format!("gonvel_{}", connector.simple())
}

/// The publication of a source connector.
#[must_use]
pub fn publication(connector: ConnectorId) -> String {
    format!("gonvel_{}", connector.simple())
}

/// An identifier in double quotes.
#[must_use]
pub fn ident(name: &str) -> String {
    format!("\"{}\"", name.replace('"', "\"\""))
}

/// A schema-qualified identifier.
#[must_use]
pub fn qualified(schema: &str, table: &str) -> String {
    format!("{}.{}", ident(schema), ident(table))
}

/// Names of built-in types that are more than one word, without their modifiers.
const TYPES_OF_WORDS: [&str; 21] = [
    "bit varying",
    "character varying",
    "double precision",
    "interval day",
    "interval day to hour",
    "interval day to minute",
    "interval day to second",
    "interval hour",
    "interval hour to minute",
    "interval hour to second",
    "interval minute",
    "interval minute to second",
    "interval month",
    "interval second",
    "interval year",
    "interval year to month",
    "national character varying",
    "time with time zone",
    "time without time zone",
    "timestamp with time zone",
    "timestamp without time zone",
];

/// A type's name for a statement that makes or changes a column: `numeric(7,1)`, `timestamp with time zone`, `text[]`.
///
/// It comes with a topic's schema, which any producer can register. It is one word, or one of the built-in types of several words, with
/// numbers in one pair of parentheses and brackets at its end. All else is quoted: the server then looks for a type of that name and says
/// that there is none, and nothing else of it is carried out.
#[must_use]
pub fn type_name(text: &str) -> String {
    let word = |w: &str| !w.is_empty() && w.bytes().all(|b| b.is_ascii_lowercase() || b.is_ascii_digit() || b == b'_');
    let modifier = |m: &str| m.split(',').all(|n| n.parse::<i32>().is_ok());
    let plain = text.trim_end_matches("[]");
    let words = match plain.split_once('(') {
        None => Some(plain.to_owned()),
        Some((before, rest)) => match rest.split_once(')') {
            Some((inside, "")) if modifier(inside) => Some(before.to_owned()),
            Some((inside, after)) if modifier(inside) && after.starts_with(' ') => Some(format!("{before}{after}")),
            _ => None,
        },
    };
    let fits = words.is_some_and(|words| word(&words) || TYPES_OF_WORDS.contains(&words.as_str()));
    if fits || plain == "\"char\"" { text.to_owned() } else { ident(text) }
}

/// A text literal.
#[must_use]
pub fn literal(text: &str) -> String {
    if text.contains('\\') {
        return format!("E'{}'", text.replace('\\', "\\\\").replace('\'', "''"));
    }
    format!("'{}'", text.replace('\'', "''"))
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn names_of_built_in_types_stay_as_they_are() {
        for name in [
            "bigint",
            "numeric(7,1)",
            "numeric(3,-2)",
            "character varying(20)",
            "timestamp(3) with time zone",
            "double precision",
            "text[]",
            "bit varying(5)[]",
            "interval day to second(3)",
            "time without time zone",
            "int4range",
            "\"char\"",
            "\"char\"[]",
        ] {
            assert_eq!(type_name(name), name);
        }
        for hostile in [
            "int); DROP TABLE bins; --",
            "int; SELECT 1",
            "text)",
            "text(1",
            "text(a)",
            "",
            "int DEFAULT (1)",
            "Text",
            "int\"",
            "a.b",
            "text(1)(2)",
            "boolean default pg_terminate_backend(1)",
            "text collate c",
            "int primary key",
            "bigint generated always as identity",
            "int check (1)",
            "interval day to second (3) default (1)",
        ] {
            assert!(type_name(hostile).starts_with('"'), "{hostile}");
        }
    }

    proptest! {
        /// Whatever comes, nothing outside of quotes can end the column's definition.
        #[test]
        fn no_text_gets_out_of_its_place(text in "[a-z0-9_ ()\\[\\],;\"'\\-]{0,24}|\\PC{0,24}") {
            let out = type_name(&text);
            if out.starts_with('"') && out != text {
                let inside = &out[1..out.len() - 1];
                prop_assert_eq!(inside.replace("\"\"", "").matches('"').count(), 0, "{}", out);
            } else {
                prop_assert!(!out.contains([';', '\'', '-']) || out.contains("(") , "{}", out);
                prop_assert!(!out.contains([';', '\'']) && !out.contains("--"), "{}", out);
                let mut open = 0_i32;
                for c in out.chars() {
                    open += i32::from(c == '(') - i32::from(c == ')');
                    prop_assert!((0..=1).contains(&open) && (open == 1 || c != ','), "{}", out);
                }
                prop_assert_eq!(open, 0, "{}", out);
            }
        }
    }
}
