//! How records of any form become rows: one column after the other, each from a part of the record. How they are read so is the
//! events crate's.

mod only;

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

pub(crate) use only::check_apart;
pub use only::{Only, read_name};

/// The part of a record that a column is filled from.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum Part {
    /// A field of the value, by its path.
    #[default]
    Field,
    /// The whole value.
    Value,
    /// The record's key, as text.
    Key,
    /// A header, by its name; of several with one name the last. Attributes of a `CloudEvents` event are headers that begin with `ce-`.
    Header,
    /// The record's time.
    Time,
    /// The partition it stands in.
    Partition,
    /// Its offset there.
    Offset,
    /// The fields that no column takes, as a JSON object.
    Rest,
    /// Of an element of the array that is expanded: a field by its path, or the element itself.
    Element,
    /// The element's place in the array, from 1.
    Place,
}

impl Part {
    /// The word for it.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Field => "field",
            Self::Value => "value",
            Self::Key => "key",
            Self::Header => "header",
            Self::Time => "time",
            Self::Partition => "partition",
            Self::Offset => "offset",
            Self::Rest => "rest",
            Self::Element => "element",
            Self::Place => "place",
        }
    }

    fn is_field(&self) -> bool {
        *self == Self::Field
    }
}

#[allow(clippy::trivially_copy_pass_by_ref, reason = "serde calls it with a reference")]
fn is_false(truth: &bool) -> bool {
    !*truth
}

/// One column of the rows that records become.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct EventColumn {
    /// Its name.
    pub name: String,
    /// Its type, as SQL writes it: `bigint`, `numeric(7,1)`, `timestamp with time zone`.
    #[serde(rename = "type")]
    pub ty: String,
    /// What of the record fills it.
    #[serde(default, skip_serializing_if = "Part::is_field")]
    pub part: Part,
    /// The names of the fields down to the one that fills it, or the name of the header; empty for other parts.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub path: Vec<String>,
    /// Whether it is part of the key that identifies a row.
    #[serde(default, skip_serializing_if = "is_false")]
    pub key: bool,
    /// Whether a record without it, or with a null there, goes to quarantine. A key's columns are always needed.
    #[serde(default, skip_serializing_if = "is_false")]
    pub required: bool,
}

impl EventColumn {
    /// A column filled from a part that has no path.
    #[must_use]
    pub fn of(part: Part, name: &str, ty: &str) -> Self {
        Self { name: name.into(), ty: ty.into(), part, path: Vec::new(), key: false, required: false }
    }

    /// A column filled from a field of the value.
    #[must_use]
    pub fn field(path: &[&str], name: &str, ty: &str) -> Self {
        Self { path: path.iter().map(|name| (*name).to_owned()).collect(), ..Self::of(Part::Field, name, ty) }
    }

    /// The same as a part of the key.
    #[must_use]
    pub fn as_key(mut self) -> Self {
        self.key = true;
        self
    }
}

/// What becomes of a field that no column takes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Unknown {
    /// It is left out, unless a column takes the rest.
    #[default]
    LeaveOut,
    /// Its record goes to quarantine.
    Quarantine,
    /// It becomes a column: the connector's definition gets it.
    AddColumn,
}

impl Unknown {
    fn is_usual(&self) -> bool {
        *self == Self::LeaveOut
    }
}

/// How records of any form become rows of one table.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct EventRows {
    /// The records that are taken; without it all of them.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub only: Option<Only>,
    /// The columns. Those of the key say which row a record is of: with the record's key the newest of each key is its row, with
    /// partition and offset each record is a row of its own.
    pub columns: Vec<EventColumn>,
    /// What becomes of fields that no column takes.
    #[serde(default, skip_serializing_if = "Unknown::is_usual")]
    pub unknown: Unknown,
    /// The names of the fields down to an array of which each element becomes a row, beside the columns of its record. A record in which
    /// the array is missing, null or empty becomes no row.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub expand: Option<Vec<String>>,
    /// The column by which the newest of a key is found, so that a late event does not overwrite; none for the order of the topic.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub newest_by: Option<String>,
}

/// Longest name of a column, in bytes: what PostgreSQL keeps of one.
const LONGEST_NAME: usize = 63;
/// Most columns.
const MOST_COLUMNS: usize = 500;

impl EventRows {
    /// Whether each record is a row of its own, or each element of one.
    #[must_use]
    pub fn by_place(&self) -> bool {
        let mut key = self.columns.iter().filter(|c| c.key).map(|c| c.part).collect::<Vec<_>>();
        key.sort_by_key(|part| part.word());
        match self.expand {
            None => key == [Part::Offset, Part::Partition],
            Some(_) => key == [Part::Offset, Part::Partition, Part::Place],
        }
    }

    /// Whether the record's own key says which row it is of.
    #[must_use]
    pub fn by_record_key(&self) -> bool {
        self.columns.iter().any(|c| c.key && c.part == Part::Key)
    }

    /// Checks what can be seen without the records.
    ///
    /// # Errors
    /// What is wrong and what to choose.
    pub fn check(&self) -> Result<(), String> {
        if self.columns.is_empty() {
            return Err("its records become rows without columns: choose at least one".into());
        }
        if self.columns.len() > MOST_COLUMNS {
            return Err(format!(
                "{} columns: at most {MOST_COLUMNS} are made; take an object whole, as jsonb",
                self.columns.len()
            ));
        }
        for (number, column) in self.columns.iter().enumerate() {
            column.check()?;
            if self.columns[..number].iter().any(|other| other.name == column.name) {
                return Err(format!("two columns are called {}: give each a name of its own", column.name));
            }
        }
        if !self.columns.iter().any(|c| c.key) {
            return Err(
                "no column is the key: mark the record's key, fields that identify a row, or partition and offset".into()
            );
        }
        self.check_expand()?;
        if let Some(only) = &self.only {
            only.check()?;
        }
        if self.unknown == Unknown::AddColumn && self.columns.iter().any(|c| c.part == Part::Rest) {
            return Err("fields without a column are added as columns, and one column takes them: choose one of both".into());
        }
        if self.columns.iter().filter(|c| c.part == Part::Rest).count() > 1 {
            return Err("two columns take the rest: one is enough".into());
        }
        if let Some(name) = &self.newest_by {
            match self.columns.iter().find(|c| c.name == *name) {
                None => return Err(format!("the newest is to be found by {name}, and there is no such column: choose one")),
                Some(column) if column.key => {
                    return Err(format!(
                        "the newest is to be found by {name}, which is part of the key and never changes: choose another column"
                    ));
                }
                Some(_) => {}
            }
        }
        Ok(())
    }
}

impl EventRows {
    fn check_expand(&self) -> Result<(), String> {
        let Some(path) = &self.expand else {
            return match self.columns.iter().find(|c| matches!(c.part, Part::Element | Part::Place)) {
                Some(column) => {
                    Err(format!("the column {} is of an element, and no array is expanded: name one", column.name))
                }
                None => Ok(()),
            };
        };
        if path.is_empty() {
            return Err("the array to expand has no name: give the names of the fields down to it".into());
        }
        if !self.by_place() {
            return Err(
                "each element is a row of its own: make partition, offset and place the key. By another key the rows of an earlier record \
                 would stay where the array became shorter"
                    .into(),
            );
        }
        Ok(())
    }
}

impl EventColumn {
    fn check(&self) -> Result<(), String> {
        let name = &self.name;
        if name.is_empty() || name.len() > LONGEST_NAME || name.contains('\0') {
            return Err(format!("a column cannot be called {name:?}: give 1 to {LONGEST_NAME} bytes"));
        }
        let fits = match self.part {
            Part::Field => !self.path.is_empty(),
            Part::Header => self.path.len() == 1,
            Part::Element => true,
            _ => self.path.is_empty(),
        };
        if !fits {
            let wants = match self.part {
                Part::Field => "the names of the fields down to the one that fills it",
                Part::Header => "the header's name",
                _ => "no path",
            };
            return Err(format!("the column {name} is filled from a {}: give {wants}", self.part.word()));
        }
        if self.key && matches!(self.part, Part::Rest | Part::Value | Part::Element) {
            return Err(format!("the column {name} cannot be part of the key: it holds {}", self.part.word()));
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_cannot_become_rows_is_said_before_any_record_comes() {
        let id = || EventColumn::of(Part::Key, "id", "text").as_key();
        let rows = |columns: Vec<EventColumn>| EventRows { columns, ..EventRows::default() };
        let newest = |by: &str| EventRows { newest_by: Some(by.into()), ..rows(vec![id()]) };
        let cases = [
            (rows(vec![]), "at least one"),
            (rows(vec![EventColumn::field(&["celsius"], "celsius", "real")]), "no column is the key"),
            (rows(vec![id(), id()]), "two columns are called id"),
            (rows(vec![EventColumn::field(&[], "celsius", "real").as_key()]), "down to the one"),
            (rows(vec![id(), EventColumn::of(Part::Header, "type", "text")]), "the header's name"),
            (rows(vec![EventColumn::of(Part::Rest, "rest", "jsonb").as_key()]), "it holds rest"),
            (
                rows(vec![id(), EventColumn::of(Part::Rest, "a", "jsonb"), EventColumn::of(Part::Rest, "b", "jsonb")]),
                "one is enough",
            ),
            (rows(vec![EventColumn::of(Part::Key, &"k".repeat(64), "text").as_key()]), "1 to 63 bytes"),
            (newest("at"), "no such column"),
            (newest("id"), "part of the key"),
        ];
        for (rows, part) in cases {
            let error = rows.check().unwrap_err();
            assert!(error.contains(part), "{error} (expected: {part})");
        }
        assert!(rows(vec![id()]).check().is_ok() && rows(vec![id()]).by_record_key() && !rows(vec![id()]).by_place());
        let place = [Part::Partition, Part::Offset].map(|part| EventColumn::of(part, part.word(), "bigint").as_key());
        assert!(rows(place.clone().into()).by_place());
        // an array of which each element is a row
        let place = |more: Vec<EventColumn>| {
            let expand = Some(vec!["lines".to_owned()]);
            EventRows { expand, ..rows(place.iter().cloned().chain(more).collect()) }
        };
        let element = EventColumn::field(&["lot"], "lot", "text");
        let element = EventColumn { part: Part::Element, ..element };
        let number = EventColumn::of(Part::Place, "line", "integer").as_key();
        assert!(place(vec![element.clone(), number.clone()]).check().is_ok());
        assert!(place(vec![element.clone()]).check().unwrap_err().contains("partition, offset and place the key"));
        let none = EventRows { expand: None, ..place(vec![element.clone(), number.clone()]) };
        assert!(none.check().unwrap_err().contains("no array is expanded"));
        let nowhere = EventRows { expand: Some(Vec::new()), ..place(vec![number.clone()]) };
        assert!(nowhere.check().unwrap_err().contains("has no name"));
        assert!(place(vec![number, element.as_key()]).check().unwrap_err().contains("it holds element"));
    }

    #[test]
    fn a_column_reads_as_it_is_written() {
        let text = r#"{"columns":[{"name":"room","type":"integer","path":["room"],"key":true},{"name":"sent_at","type":"timestamptz","part":"time"}]}"#;
        let rows: EventRows = serde_json::from_str(text).unwrap();
        assert_eq!(serde_json::to_string(&rows).unwrap(), text);
        assert!(serde_json::from_str::<EventRows>(r#"{"columns":[],"unknwon":"quarantine"}"#).is_err());
    }
}
