//! Records of one type, where a topic holds several.

use std::collections::HashMap;

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::{EventRows, Part};

/// Of which records rows are made, by what says their type. A connector may read a topic several times, each time the records of other
/// types.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Only {
    /// What says a record's type: a header, a field, the key.
    pub part: Part,
    /// The header's name, or the names of the fields down to it.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub path: Vec<String>,
    /// The types that are taken; empty for all but others.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub is: Vec<String>,
    /// The types that are not taken, where all others are, and records that say none.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub is_not: Vec<String>,
}

impl Only {
    /// Whether a type is taken; none where a record says no type.
    #[must_use]
    pub fn takes(&self, ty: Option<&str>) -> bool {
        let among = |types: &[String]| ty.is_some_and(|ty| types.iter().any(|known| known == ty));
        if self.is.is_empty() { !among(&self.is_not) } else { among(&self.is) }
    }

    /// Whether no record is taken by both.
    fn is_apart_from(&self, other: &Self) -> bool {
        if (self.part, &self.path) != (other.part, &other.path) {
            return false;
        }
        let within = |some: &[String], all: &[String]| some.iter().all(|ty| all.contains(ty));
        match (self.is.is_empty(), other.is.is_empty()) {
            (true, true) => false,
            (true, false) => within(&other.is, &self.is_not),
            (false, true) => within(&self.is, &other.is_not),
            (false, false) => !self.is.iter().any(|ty| other.is.contains(ty)),
        }
    }

    /// Checks what can be seen without the records.
    ///
    /// # Errors
    /// What is wrong and what to choose.
    pub fn check(&self) -> Result<(), String> {
        let path = match self.part {
            Part::Field => !self.path.is_empty(),
            Part::Header => self.path.len() == 1,
            Part::Key => self.path.is_empty(),
            part => return Err(format!("a record's {} says no type: name a header, a field or the key", part.word())),
        };
        if !path {
            return Err("what says a record's type is not named: give the header's name, or the names of the fields".into());
        }
        match (self.is.is_empty(), self.is_not.is_empty()) {
            (true, true) => return Err("no type is named: name those that are taken, or those that are not".into()),
            (false, false) => return Err("types are named that are taken, and others that are not: name one of both".into()),
            _ => {}
        }
        let types = if self.is.is_empty() { &self.is_not } else { &self.is };
        match types.iter().enumerate().find(|(place, ty)| ty.is_empty() || types[..*place].contains(ty)) {
            Some((_, ty)) if ty.is_empty() => Err("a type has no name: take it out".into()),
            Some((_, ty)) => Err(format!("the type {ty} is named twice: once is enough")),
            None => Ok(()),
        }
    }
}

/// What a connector calls what it reads: a topic, with the types of its records where it reads those only. Its steps are given by it.
#[must_use]
pub fn read_name(topic: &str, rows: Option<&EventRows>) -> String {
    match rows.and_then(|rows| rows.only.as_ref()) {
        None => topic.to_owned(),
        Some(only) if only.is.is_empty() => format!("{topic} [not {}]", only.is_not.join(", ")),
        Some(only) => format!("{topic} [{}]", only.is.join(", ")),
    }
}

/// Checks that a topic that is read several times gives each of its records once.
///
/// # Errors
/// The topic, with what is wrong and what to choose.
pub(crate) fn check_apart<'t>(
    read: impl Iterator<Item = (&'t str, Option<&'t EventRows>)>,
) -> Result<(), (String, &'static str)> {
    let mut before: HashMap<&str, Vec<Option<&Only>>> = HashMap::new();
    for (topic, rows) in read {
        let only = rows.and_then(|rows| rows.only.as_ref());
        let others = before.entry(topic).or_default();
        for other in others.iter() {
            let apart = matches!((only, other), (Some(one), Some(other)) if one.is_apart_from(other));
            if !apart {
                let finding = "it is read twice, and a record could become a row in both: give each other types, told by the same \
                               header or field";
                return Err((topic.to_owned(), finding));
            }
        }
        others.push(only);
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    fn only(is: &[&str], is_not: &[&str]) -> Only {
        let own = |types: &[&str]| types.iter().map(|ty| (*ty).to_owned()).collect();
        Only { part: Part::Header, path: vec!["ce-type".into()], is: own(is), is_not: own(is_not) }
    }

    #[test]
    fn each_record_is_taken_once() {
        let by_field = Only { part: Part::Field, path: vec!["type".into()], ..only(&["c"], &[]) };
        let cases = [
            (only(&["a"], &[]), only(&["b", "c"], &[]), true),
            (only(&["a"], &[]), only(&["b", "a"], &[]), false),
            (only(&["a"], &[]), only(&[], &["a", "b"]), true),
            (only(&["a", "b"], &[]), only(&[], &["a"]), false),
            (only(&[], &["a"]), only(&[], &["b"]), false),
            (only(&["a"], &[]), by_field, false),
        ];
        for (one, other, apart) in cases {
            let rows = [one, other].map(|only| EventRows { only: Some(only), ..EventRows::default() });
            for [one, other] in [[&rows[0], &rows[1]], [&rows[1], &rows[0]]] {
                let checked = check_apart([("events", Some(one)), ("others", None), ("events", Some(other))].into_iter());
                assert_eq!(checked.is_ok(), apart, "{rows:?}");
                // what is apart takes no record twice
                let both = |ty| [one, other].iter().all(|rows| rows.only.as_ref().unwrap().takes(ty));
                assert!(!apart || ![None, Some("a"), Some("b"), Some("c"), Some("d")].into_iter().any(both), "{rows:?}");
            }
        }
        let plain = EventRows::default();
        assert!(check_apart([("events", Some(&plain)), ("events", None)].into_iter()).is_err());
    }

    #[test]
    fn types_that_cannot_be_told_are_refused() {
        let cases = [
            (only(&[], &[]), "no type is named"),
            (only(&["a"], &["b"]), "name one of both"),
            (only(&["a", ""], &[]), "no name"),
            (only(&[], &["a", "a"]), "twice"),
            (Only { path: Vec::new(), ..only(&["a"], &[]) }, "is not named"),
            (Only { part: Part::Time, ..only(&["a"], &[]) }, "time says no type"),
        ];
        for (only, part) in cases {
            let error = only.check().unwrap_err();
            assert!(error.contains(part), "{error} (expected: {part})");
        }
        let rows = |only| EventRows { only: Some(only), ..EventRows::default() };
        assert_eq!(read_name("events", Some(&rows(only(&["a", "b"], &[])))), "events [a, b]");
        assert_eq!(read_name("events", Some(&rows(only(&[], &["a"])))), "events [not a]");
        assert_eq!(read_name("events", None), "events");
    }
}
