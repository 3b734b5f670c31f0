//! Tables chosen by their names, and topics named after them.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::table::qualified;

/// Which tables are captured because of their names, and how their topics are called.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct TablePatterns {
    /// Patterns for `schema.table`; `*` stands for any characters, `?` for one.
    pub include: Vec<String>,
    /// Patterns for those that are left out all the same.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub exclude: Vec<String>,
    /// How topics are named, by `{system}`, `{schema}` and `{table}`.
    pub topic: String,
}

impl TablePatterns {
    /// Whether a table is meant.
    #[must_use]
    pub fn covers(&self, schema: &str, table: &str) -> bool {
        let meant = |patterns: &[String]| patterns.iter().any(|pattern| covers(pattern, schema, table));
        meant(&self.include) && !meant(&self.exclude)
    }
}

/// Whether a table is meant by a pattern.
#[must_use]
pub fn covers(pattern: &str, schema: &str, table: &str) -> bool {
    if !schema.is_empty() {
        return fits(&whole(pattern), &qualified(schema, table));
    }
    // where tables stand in no schemas, a pattern's dots are the names' own, and of any schema is also of none
    fits(pattern, table) || pattern.strip_prefix("*.").is_some_and(|pattern| fits(pattern, table))
}

/// A pattern without a dot is for tables of any schema.
fn whole(pattern: &str) -> String {
    if pattern.contains('.') { pattern.to_owned() } else { format!("*.{pattern}") }
}

/// Whether a text fits a pattern as a whole: `*` stands for any characters, `?` for one.
#[must_use]
pub fn fits(pattern: &str, text: &str) -> bool {
    let (pattern, text): (Vec<char>, Vec<char>) = (pattern.chars().collect(), text.chars().collect());
    // where the last star was, and how far it reached: the only place to go back to
    let (mut p, mut t, mut back) = (0, 0, None);
    while t < text.len() {
        match pattern.get(p) {
            Some('*') => {
                back = Some((p, t));
                p += 1;
            }
            Some(&c) if c == '?' || c == text[t] => (p, t) = (p + 1, t + 1),
            _ => {
                let Some((star, reached)) = back else { return false };
                (p, t, back) = (star + 1, reached + 1, Some((star, reached + 1)));
            }
        }
    }
    pattern[p..].iter().all(|&c| c == '*')
}

/// A topic for a table by a template, in characters that names may hold. The schema that its system's tables usually are in says nothing,
/// so where it stands with a dot it is left out; so is none.
#[must_use]
pub fn topic_for(template: &str, (system, usual_schema): (&str, &str), schema: &str, table: &str) -> String {
    let short = if schema == usual_schema || schema.is_empty() {
        template.replacen("{schema}.", "", 1).replacen(".{schema}", "", 1)
    } else {
        template.to_owned()
    };
    let mut out = String::new();
    let mut rest = short.as_str();
    while let Some(start) = rest.find('{') {
        out.push_str(&rest[..start]);
        rest = &rest[start..];
        let parts = [("{system}", system), ("{schema}", schema), ("{table}", table)];
        match parts.iter().find(|(name, _)| rest.starts_with(name)) {
            Some((name, value)) => {
                out.push_str(value);
                rest = &rest[name.len()..];
            }
            None => {
                out.push('{');
                rest = &rest[1..];
            }
        }
    }
    out.push_str(rest);
    out.chars().map(|c| if c.is_ascii_alphanumeric() || matches!(c, '.' | '_' | '-') { c } else { '-' }).collect()
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn tables_are_covered_by_their_names() {
        let patterns = TablePatterns {
            include: vec!["bins".into(), "cold.*".into(), "public.line_?".into()],
            exclude: vec!["*_old".into(), "cold.scratch*".into()],
            topic: String::new(),
        };
        assert!(covers("*/bins.*", "", "2026/bins.csv") && covers("bins", "", "bins") && !covers("bins.csv", "", "bins.cs"));
        assert!(covers("*.*", "", "bins") && covers("*.b*", "", "bins") && !covers("cold.*", "", "bins"));
        for (schema, table, covered) in [
            ("public", "bins", true),
            ("any", "bins", true),
            ("public", "bins_2", false),
            ("cold", "rooms", true),
            ("cold", "rooms_old", false),
            ("cold", "scratch7", false),
            ("cold", "a.b", true),
            ("public", "line_1", true),
            ("public", "line_12", false),
        ] {
            assert_eq!(patterns.covers(schema, table), covered, "{schema}.{table}");
        }
    }

    #[test]
    fn topics_are_named_after_their_tables() {
        for (template, schema, table, topic) in [
            ("{system}.{schema}.{table}", "public", "bins", "packhouse.bins"),
            ("{system}.{schema}.{table}", "cold", "rooms", "packhouse.cold.rooms"),
            ("{schema}", "public", "bins", "public"),
            ("{table}.{schema}", "public", "bins", "bins"),
            ("all-{table}-{system}", "cold", "\u{e9}pluchage {table}", "all--pluchage--table--packhouse"),
            ("{unknown}{table}", "cold", "bins", "-unknown-bins"),
            ("{system}.{schema}.{table}", "", "2026/bins.csv", "packhouse.2026-bins.csv"),
        ] {
            assert_eq!(topic_for(template, ("packhouse", "public"), schema, table), topic);
        }
    }

    /// The rule itself, by trying everything.
    fn slow(pattern: &[char], text: &[char]) -> bool {
        match pattern.split_first() {
            None => text.is_empty(),
            Some(('*', rest)) => (0..=text.len()).any(|n| slow(rest, &text[n..])),
            Some((c, rest)) => text.split_first().is_some_and(|(t, left)| (*c == '?' || c == t) && slow(rest, left)),
        }
    }

    proptest! {
        #[test]
        fn a_pattern_fits_what_its_rule_says(pattern in "[ab*?]{0,8}", text in "[ab]{0,8}") {
            let (p, t): (Vec<char>, Vec<char>) = (pattern.chars().collect(), text.chars().collect());
            prop_assert_eq!(fits(&pattern, &text), slow(&p, &t));
        }
    }
}
