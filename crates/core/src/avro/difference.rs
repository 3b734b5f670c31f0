//! What changed between two schemas, in words.

use std::collections::HashMap;

use super::json::collect;
use super::resolution::{matches, of, said};
use super::schema::{Field, Schema};
use crate::schemas::SchemaChange;

/// The changes from an earlier schema to a later one, in the later one's order.
#[must_use]
pub fn changes(earlier: &Schema, later: &Schema) -> Vec<SchemaChange> {
    let mut walk = Walk { earlier: HashMap::new(), later: HashMap::new(), seen: Vec::new(), found: Vec::new() };
    collect(earlier, &mut walk.earlier);
    collect(later, &mut walk.later);
    walk.both(earlier, later, "$");
    walk.found
}

struct Walk<'s> {
    earlier: HashMap<&'s str, &'s Schema>,
    later: HashMap<&'s str, &'s Schema>,
    seen: Vec<(&'s str, &'s str)>,
    found: Vec<SchemaChange>,
}

/// The part of a type that is not null, where that is all there is beside it.
fn optional(schema: &Schema) -> Option<&Schema> {
    match schema {
        Schema::Union(branches) => match branches.as_slice() {
            [Schema::Null, other] | [other, Schema::Null] => Some(other),
            _ => None,
        },
        _ => None,
    }
}

impl<'s> Walk<'s> {
    fn say(&mut self, path: &str, words: String) {
        self.found.push(SchemaChange { path: path.to_owned(), words });
    }

    fn both(&mut self, earlier: &'s Schema, later: &'s Schema, path: &str) {
        let (earlier, later) = (of(earlier, &self.earlier), of(later, &self.later));
        match (optional(earlier), optional(later)) {
            (Some(a), Some(b)) => return self.both(a, b, path),
            (Some(a), None) if !matches!(later, Schema::Union(_)) => {
                self.say(path, "is no longer optional".to_owned());
                return self.both(a, later, path);
            }
            (None, Some(b)) if !matches!(earlier, Schema::Union(_)) => {
                self.say(path, "became optional".to_owned());
                return self.both(earlier, b, path);
            }
            _ => {}
        }
        match (earlier, later) {
            (Schema::Array(a), Schema::Array(b)) => self.both(a, b, &format!("{path}[]")),
            (Schema::Map(a), Schema::Map(b)) => self.both(a, b, &format!("{path}{{}}")),
            (Schema::Union(a), Schema::Union(b)) => self.branches(a, b, path),
            (Schema::Record { names: a, fields: before }, Schema::Record { names: b, fields: after }) => {
                if self.seen.contains(&(&a.full, &b.full)) {
                    return;
                }
                self.seen.push((&a.full, &b.full));
                self.renamed(&a.full, &b.full, path);
                self.fields(before, after, path);
            }
            (
                Schema::Enum { names: a, symbols: before, default: was },
                Schema::Enum { names: b, symbols: after, default: is },
            ) => {
                self.renamed(&a.full, &b.full, path);
                for symbol in after.iter().filter(|s| !before.contains(s)) {
                    self.say(path, format!("the symbol {symbol} was added"));
                }
                for symbol in before.iter().filter(|s| !after.contains(s)) {
                    self.say(path, format!("the symbol {symbol} was removed"));
                }
                if was != is {
                    let said = |d: &Option<String>| d.clone().unwrap_or_else(|| "none".to_owned());
                    self.say(path, format!("the default symbol changed from {} to {}", said(was), said(is)));
                }
            }
            (Schema::Fixed { names: a, .. }, Schema::Fixed { names: b, .. }) => {
                self.renamed(&a.full, &b.full, path);
                self.type_changed(earlier, later, path);
            }
            _ => self.type_changed(earlier, later, path),
        }
    }

    fn type_changed(&mut self, earlier: &Schema, later: &Schema, path: &str) {
        let (a, b) = (said(earlier), said(later));
        if a != b {
            self.say(path, format!("changed from {a} to {b}"));
        }
    }

    fn renamed(&mut self, earlier: &str, later: &str, path: &str) {
        if earlier != later {
            self.say(path, format!("the type {earlier} is now called {later}"));
        }
    }

    fn branches(&mut self, earlier: &'s [Schema], later: &'s [Schema], path: &str) {
        let same = |a: &'s Schema, b: &'s Schema| matches(of(b, &self.later), of(a, &self.earlier));
        let pairs: Vec<(Option<&'s Schema>, &'s Schema)> =
            later.iter().map(|branch| (earlier.iter().find(|a| same(a, branch)), branch)).collect();
        let gone: Vec<&'s Schema> = earlier.iter().filter(|a| !later.iter().any(|b| same(a, b))).collect();
        for (before, branch) in pairs {
            match before {
                Some(before) => self.both(before, branch, path),
                None => self.say(path, format!("may now also be {}", said(branch))),
            }
        }
        for branch in gone {
            self.say(path, format!("can no longer be {}", said(branch)));
        }
    }

    fn fields(&mut self, earlier: &'s [Field], later: &'s [Field], path: &str) {
        let before = |field: &Field| {
            let by = |name: &str| earlier.iter().find(|f| f.name == name);
            by(&field.name).or_else(|| field.aliases.iter().find_map(|alias| by(alias)))
        };
        for field in later {
            let at = format!("{path}.{}", field.name);
            let Some(was) = before(field) else {
                let default = field.default.as_ref().map_or("without a default".to_owned(), |d| format!("default {d}"));
                self.say(&at, format!("was added: {}, {default}", said(&field.schema)));
                continue;
            };
            if was.name != field.name {
                self.say(&at, format!("was called {}", was.name));
            }
            self.both(&was.schema, &field.schema, &at);
            if was.default != field.default {
                self.say(
                    &at,
                    match (&was.default, &field.default) {
                        (Some(_), None) => "has no default any more".to_owned(),
                        (None, Some(default)) => format!("has the default {default} now"),
                        (a, b) => format!(
                            "the default changed from {} to {}",
                            a.clone().unwrap_or_default(),
                            b.clone().unwrap_or_default()
                        ),
                    },
                );
            }
            if was.doc != field.doc {
                self.say(&at, "is described in other words".to_owned());
            }
        }
        for field in earlier.iter().filter(|f| !later.iter().any(|l| before(l).is_some_and(|b| b.name == f.name))) {
            self.say(&format!("{path}.{}", field.name), format!("was removed ({})", said(&field.schema)));
        }
        let order = |fields: &'s [Field], other: &'s [Field]| {
            fields.iter().filter(|f| other.iter().any(|o| o.name == f.name)).map(|f| f.name.as_str()).collect::<Vec<_>>()
        };
        if order(earlier, later) != order(later, earlier) {
            self.say(path, "the fields stand in another order".to_owned());
        }
    }
}
