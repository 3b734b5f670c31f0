//! Which column fills which field, how sure that is, and what is converted.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::{FieldKind, TargetField};
use crate::column::ColumnType;
use crate::data_type::DataType;
use crate::table::Column;

/// Letters that two names have in common at least, where one is said to have the other in it.
const SHORTEST_PART: usize = 3;

/// A column for a field of a schema.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Link {
    /// The names of the fields down to the one that is filled.
    pub field: Vec<String>,
    /// The column; empty to leave the field without one.
    pub column: String,
}

/// How a field came to its column, the surest first.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum How {
    /// It was chosen.
    Chosen,
    /// Both have one name.
    Name,
    /// The column has another name of the field.
    Alias,
    /// The names differ in capitals and marks between words only.
    Alike,
    /// One name has the other in it: not linked unless chosen.
    Near,
    /// It is the only column left that the field takes, and the field the only one that takes it: not linked unless chosen.
    Type,
}

impl How {
    /// Whether it is linked so without having been chosen.
    #[must_use]
    pub fn is_taken(self) -> bool {
        !matches!(self, Self::Near | Self::Type)
    }
}

/// A field with its column.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Linked {
    /// The field.
    pub field: TargetField,
    /// The column, if there is one.
    pub column: Option<String>,
    /// How it came to it.
    pub how: Option<How>,
    /// What becomes of the column's values, where they are not taken as they are.
    pub converts: Option<String>,
    /// Why it cannot take the column.
    pub wrong: Option<String>,
}

impl Linked {
    /// What stands against writing values, if anything does.
    #[must_use]
    pub fn finding(&self) -> Option<String> {
        let path = self.field.path.join(".");
        if let (Some(wrong), Some(column)) = (&self.wrong, &self.column) {
            return Some(format!("the field {path} cannot take the column {column}: {wrong}"));
        }
        let linked = self.column.is_some() && self.how.is_some_and(How::is_taken);
        (self.field.needed && !linked).then(|| format!("the field {path} needs a column, {}", self.field.kind.word()))
    }
}

/// How a column's values go into a field.
enum Goes {
    AsItIs,
    /// They become something else.
    Converted(String),
    No(String),
}

fn goes(column: &Column, kind: &FieldKind) -> Goes {
    use ColumnType as C;
    use FieldKind as K;
    let source = &column.source_type;
    let json = matches!(source, DataType::Json | DataType::Jsonb);
    let whole = matches!(column.ty, C::Int16 | C::Int32 | C::Int64);
    let number = whole || matches!(column.ty, C::Float32 | C::Float64 | C::Decimal { .. });
    let textual = matches!(column.ty, C::Text) || column.ty == C::Verbatim && !json;
    let into = |what: &str| Goes::Converted(format!("{source} to {what}"));
    let may_fail = |what: &str| Goes::Converted(format!("{source} to {what}; what is none goes to quarantine"));
    match (kind, column.ty) {
        (K::Any, _) | (K::Text | K::OneOf(_), C::Text) => Goes::AsItIs,
        (K::Nested, _) if json => Goes::AsItIs,
        (K::Nested, _) if matches!(source, DataType::Array(_)) => into("a list"),
        (K::Nested, C::Text) => may_fail("an object or a list, read as JSON"),
        (K::Nested, _) => Goes::No(format!("{source} holds nothing nested: link a column of type jsonb")),
        (K::Boolean, C::Boolean) | (K::Bytes, C::Bytes) | (K::Date, C::Date) | (K::Moment, C::TimestampTz) => Goes::AsItIs,
        (K::LocalMoment, C::Timestamp) => Goes::AsItIs,
        (K::Whole(64), _) if whole => Goes::AsItIs,
        (K::Whole(32), C::Int16 | C::Int32) => Goes::AsItIs,
        (K::Whole(_), _) if number => may_fail(&kind.word()),
        (K::Floating, C::Float32 | C::Float64) => Goes::AsItIs,
        (K::Floating, _) if number => into("a number of double precision"),
        (K::Decimal(scale), C::Decimal { scale: own, .. }) if usize::from(own) <= *scale => Goes::AsItIs,
        (K::Decimal(_), _) if whole => Goes::AsItIs,
        (K::Decimal(_), _) if number => may_fail(&kind.word()),
        (K::Moment, C::Timestamp) => into("a time, as in UTC"),
        (K::LocalMoment, C::TimestampTz) => into("a time without a zone, in UTC"),
        (K::Moment | K::LocalMoment, C::Date) => into("the beginning of its day"),
        (K::Date, C::Timestamp | C::TimestampTz) => into("its date, in UTC"),
        (K::OfDay(_), C::Verbatim) if matches!(source, DataType::Time { .. }) => Goes::AsItIs,
        (K::OneOf(_), _) if textual => may_fail(&kind.word()),
        (K::Text, C::Bytes) => into("text in base64"),
        (K::Text, _) => into("text"),
        (K::Boolean | K::Whole(_) | K::Floating | K::Decimal(_) | K::Date | K::Moment | K::LocalMoment | K::OfDay(_), _)
            if textual =>
        {
            may_fail(&kind.word())
        }
        (K::Bytes, C::Text) => into("its bytes in UTF-8"),
        _ => Goes::No(format!("{source} is not {}: convert it in the shape", kind.word())),
    }
}

/// A name without capitals and without marks between words.
fn plain(name: &str) -> String {
    name.chars().filter(|c| c.is_alphanumeric()).flat_map(char::to_lowercase).collect()
}

/// Links fields with columns: those that were chosen, then by name, by alias, by names that are alike, and what is left by type.
#[must_use]
pub fn link(fields: Vec<TargetField>, columns: &[Column], chosen: &[Link]) -> Vec<Linked> {
    let mut found: Vec<Option<(usize, How)>> = vec![None; fields.len()];
    let mut open: Vec<bool> = vec![true; fields.len()];
    let mut used: Vec<bool> = vec![false; columns.len()];
    let joined = |field: &TargetField| field.path.join("_");
    let last = |field: &TargetField| field.path.last().cloned().unwrap_or_default();
    for (number, field) in fields.iter().enumerate() {
        if let Some(link) = chosen.iter().find(|link| link.field == field.path) {
            open[number] = false;
            if let Some(column) = columns.iter().position(|c| c.name == link.column) {
                (found[number], used[column]) = (Some((column, How::Chosen)), true);
            }
        }
    }
    type Same = fn(&str, &str) -> bool;
    let same: Same = |a, b| a == b;
    let alike: Same = |a, b| !plain(a).is_empty() && plain(a) == plain(b);
    for (how, matches) in [(How::Name, same), (How::Alias, same), (How::Alike, alike)] {
        for (number, field) in fields.iter().enumerate() {
            if !open[number] {
                continue;
            }
            let names = match how {
                How::Alias => field.aliases.clone(),
                _ => vec![joined(field), last(field)],
            };
            let free = |name: &String| (0..columns.len()).find(|c| !used[*c] && matches(&columns[*c].name, name));
            if let Some(column) = names.iter().find_map(free) {
                (found[number], open[number], used[column]) = (Some((column, how)), false, true);
            }
        }
    }
    // what is left of needed fields is proposed: first where one name has the other in it
    for (number, field) in fields.iter().enumerate().filter(|(_, field)| field.needed) {
        let own = plain(&last(field));
        let near = |column: &usize| {
            let other = plain(&columns[*column].name);
            let within = |part: &str, all: &str| part.chars().count() >= SHORTEST_PART && all.contains(part);
            !used[*column]
                && (within(&own, &other) || within(&other, &own))
                && !matches!(goes(&columns[*column], &field.kind), Goes::No(_))
        };
        let mut found_near = (0..columns.len()).filter(near);
        if let (true, Some(column), None) = (open[number], found_near.next(), found_near.next()) {
            (found[number], open[number]) = (Some((column, How::Near)), false);
        }
    }
    // then one that takes one only, both ways
    let takes = |number: usize, column: usize| matches!(goes(&columns[column], &fields[number].kind), Goes::AsItIs);
    let left: Vec<usize> = (0..fields.len()).filter(|n| open[*n] && fields[*n].needed).collect();
    let free: Vec<usize> = (0..columns.len()).filter(|c| !used[*c]).collect();
    for &number in &left {
        let mut own = free.iter().filter(|column| takes(number, **column));
        if let (Some(&column), None) = (own.next(), own.next())
            && left.iter().filter(|other| takes(**other, column)).count() == 1
        {
            found[number] = Some((column, How::Type));
        }
    }
    fields
        .into_iter()
        .zip(found)
        .map(|(field, found)| {
            let (converts, wrong) = match found.map(|(column, _)| goes(&columns[column], &field.kind)) {
                Some(Goes::Converted(what)) => (Some(what), None),
                Some(Goes::No(why)) => (None, Some(why)),
                Some(Goes::AsItIs) | None => (None, None),
            };
            let column = found.map(|(column, _)| columns[column].name.clone());
            Linked { field, column, how: found.map(|(_, how)| how), converts, wrong }
        })
        .collect()
}

/// Links that were chosen and name what is not there.
pub(super) fn unknown(linked: &[Linked], columns: &[Column], chosen: &[Link]) -> Vec<String> {
    let mut out = Vec::new();
    for link in chosen {
        let path = link.field.join(".");
        if !linked.iter().any(|l| l.field.path == link.field) {
            out.push(format!("there is no field {path}: leave it out"));
        } else if !link.column.is_empty() && !columns.iter().any(|c| c.name == link.column) {
            let names: Vec<&str> = columns.iter().map(|c| c.name.as_str()).collect();
            out.push(format!(
                "the field {path} is linked with {}, and there is no such column: there are {}",
                link.column,
                names.join(", ")
            ));
        }
    }
    out
}
