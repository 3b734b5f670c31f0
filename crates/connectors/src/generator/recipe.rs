//! Recipes: what rows of a table are made of, how fast and how many.

use std::collections::BTreeMap;

use gonvel_core::naming::TopicName;
use gonvel_core::yaml::{ManifestError, from_yaml};
use serde::de::Error as _;
use serde::{Deserialize, Deserializer, Serialize};
use serde_json::{Map, Value};

use super::ready::READY;

/// Rows of a recipe that has no end, as far as others refer to them.
const ENDLESS: u64 = 1_000;

/// How numbers are spread over their range.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Spread {
    /// All alike.
    #[default]
    Even,
    /// Most around the middle.
    Middle,
    /// Most near the beginning.
    Low,
}

/// What a column holds.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(tag = "is", rename_all = "lowercase", deny_unknown_fields)]
pub enum Holds {
    /// The row's number, from 1.
    Number {},
    /// A whole number.
    Whole {
        /// The least.
        from: i64,
        /// The greatest.
        to: i64,
        /// How they are spread.
        #[serde(default)]
        spread: Spread,
    },
    /// A number with digits after the point.
    Decimal {
        /// The least.
        from: f64,
        /// The greatest.
        to: f64,
        /// Digits after the point.
        scale: u8,
        /// How they are spread.
        #[serde(default)]
        spread: Spread,
    },
    /// One of several texts, by their weights.
    Choice {
        /// They.
        of: BTreeMap<String, u32>,
    },
    /// True or false.
    Flag {
        /// The share that is true.
        #[serde(default = "half")]
        share: f64,
    },
    /// When the row was made; of a late row a time before.
    Time {},
    /// A day, so many before today.
    Day {
        /// At most.
        back: u32,
    },
    /// A number of a row of another recipe.
    Reference {
        /// That recipe.
        table: String,
    },
    /// A key of a topic's records.
    Key {
        /// The topic.
        topic: String,
        /// Which field of keys that have several.
        #[serde(default)]
        field: Option<String>,
        /// Whether they are whole numbers, and not texts.
        #[serde(default)]
        whole: bool,
    },
    /// A person's name.
    Person {},
    /// A company's name.
    Company {},
    /// A city's name.
    City {},
    /// A street.
    Street {},
    /// A few words.
    Words {},
    /// A text of so many characters that nothing compresses.
    Noise {
        /// Characters.
        length: u32,
    },
}

fn half() -> f64 {
    0.5
}

/// A column of a recipe.
#[derive(Debug, Clone, PartialEq)]
pub struct Column {
    /// Its name.
    pub name: String,
    /// What it holds.
    pub holds: Holds,
    /// The share of rows in which it is null.
    pub empty: f64,
}

impl<'de> Deserialize<'de> for Column {
    /// What it holds has fields of its own beside the name, and no others.
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let mut given = Map::<String, Value>::deserialize(deserializer)?;
        let name = match given.remove("name") {
            Some(Value::String(name)) => name,
            Some(other) => return Err(D::Error::custom(format!("the name of a column is text, not {other}"))),
            None => return Err(D::Error::custom("a column has no name")),
        };
        let empty = match given.remove("empty") {
            Some(share) => {
                share.as_f64().ok_or_else(|| D::Error::custom(format!("what is empty of {name} is a share, not {share}")))?
            }
            None => 0.0,
        };
        let holds =
            Holds::deserialize(Value::Object(given)).map_err(|e| D::Error::custom(format!("the column {name}: {e}")))?;
        Ok(Self { name, holds, empty })
    }
}

/// Rows that come at once.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Burst {
    /// Seconds from one to the next.
    pub every_s: f64,
    /// How many rows.
    pub rows: u64,
}

/// What rows of a table are made of.
#[derive(Debug, Clone, PartialEq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Recipe {
    /// The table's name.
    pub table: String,
    /// Rows a second; none for as fast as the log takes them.
    #[serde(default)]
    pub rate: Option<f64>,
    /// How many rows; none for ever.
    #[serde(default)]
    pub rows: Option<u64>,
    /// Rows that come at once beside the others.
    #[serde(default)]
    pub burst: Option<Burst>,
    /// The share of rows that are late.
    #[serde(default)]
    pub late: f64,
    /// How late those are at most, in seconds.
    #[serde(default = "hour")]
    pub late_by_s: f64,
    /// The share of rows that come twice.
    #[serde(default)]
    pub repeated: f64,
    /// The share of rows with a value that does not fit.
    #[serde(default)]
    pub bad: f64,
    /// Its columns.
    pub columns: Vec<Column>,
}

fn hour() -> f64 {
    3_600.0
}

impl Recipe {
    /// How many rows others may refer to.
    #[must_use]
    pub fn known_rows(&self) -> u64 {
        self.rows.unwrap_or(ENDLESS).max(1)
    }
}

/// All recipes of a connection: those that are ready, and its own. One's own takes the place of a ready one with its name.
///
/// # Errors
/// What is wrong in the text, with line and column.
pub fn recipes(own: &str) -> Result<Vec<Recipe>, String> {
    let own: Vec<Recipe> = if own.trim().is_empty() { Vec::new() } else { read(own)? };
    let mut all = read(READY)?;
    all.retain(|ready| !own.iter().any(|recipe| recipe.table == ready.table));
    all.extend(own);
    let wrong = |recipe: &Recipe, finding: String| format!("the recipe {}: {finding}", recipe.table);
    for recipe in &all {
        for column in &recipe.columns {
            let Holds::Reference { table } = &column.holds else { continue };
            if !all.iter().any(|other| other.table == *table) {
                return Err(wrong(recipe, format!("{} refers to {table}, which is no recipe", column.name)));
            }
        }
    }
    Ok(all)
}

/// Reads recipes, and checks each for itself.
fn read(text: &str) -> Result<Vec<Recipe>, String> {
    let told = |ManifestError { line, column, finding }: ManifestError| {
        // the place in the list says no more than the line
        let said = finding.split_once(": ").filter(|(path, _)| path.starts_with(".[")).map_or(&*finding, |(_, said)| said);
        format!("line {line}, column {column}: {said}")
    };
    let recipes: Vec<Recipe> = from_yaml(text).map_err(told)?;
    for (number, recipe) in recipes.iter().enumerate() {
        let finding = check(recipe).err().or_else(|| {
            let twice = recipes[..number].iter().any(|other| other.table == recipe.table);
            twice.then(|| "there is another one of this name".to_owned())
        });
        if let Some(finding) = finding {
            return Err(told(ManifestError::about(text, &recipe.table, format!("the recipe {}: {finding}", recipe.table))));
        }
    }
    Ok(recipes)
}

fn check(recipe: &Recipe) -> Result<(), String> {
    TopicName::parse(recipe.table.as_str()).map_err(|e| format!("it cannot be called so: {e}"))?;
    let share = |name: &str, share: f64| match (0.0..=1.0).contains(&share) {
        true => Ok(()),
        false => Err(format!("{name} is a share of rows, from 0 to 1, not {share}")),
    };
    share("late", recipe.late)?;
    share("repeated", recipe.repeated)?;
    share("bad", recipe.bad)?;
    let positive = |name: &str, value: f64| match value.is_finite() && value > 0.0 {
        true => Ok(()),
        false => Err(format!("{name} is a number above 0, not {value}")),
    };
    recipe.rate.map_or(Ok(()), |rate| positive("rate", rate))?;
    positive("late_by_s", recipe.late_by_s)?;
    recipe.burst.map_or(Ok(()), |burst| positive("every_s", burst.every_s))?;
    if !recipe.columns.iter().any(|column| matches!(column.holds, Holds::Number {})) {
        return Err("one column is number, by which its rows are known".into());
    }
    for (number, column) in recipe.columns.iter().enumerate() {
        let name = &column.name;
        if name.trim().is_empty() || recipe.columns[..number].iter().any(|other| other.name == *name) {
            return Err(format!("the column {name:?} has no name of its own"));
        }
        share(&format!("what is empty of {name}"), column.empty)?;
        match &column.holds {
            Holds::Number {} if column.empty > 0.0 => return Err(format!("{name} is the row's number and never empty")),
            Holds::Whole { from, to, .. } if from > to => return Err(format!("{name} goes from {from} to {to}")),
            Holds::Decimal { from, to, .. } if !(from <= to && from.is_finite() && to.is_finite()) => {
                return Err(format!("{name} goes from {from} to {to}"));
            }
            Holds::Decimal { scale, from, to, .. } if *scale > 9 || from.abs().max(to.abs()) > 1e12 => {
                return Err(format!("{name} has at most 9 digits after the point, and 12 before it"));
            }
            Holds::Choice { of } if of.values().all(|weight| *weight == 0) => {
                return Err(format!("{name} is none of any: give texts with their weights, as in {{first: 3, second: 1}}"));
            }
            Holds::Flag { share: yes } => share(&format!("what is true of {name}"), *yes)?,
            Holds::Key { topic, .. } => {
                TopicName::parse(topic.as_str()).map_err(|e| format!("no topic can be called as {name} says: {e}"))?;
            }
            Holds::Noise { length } if *length > 1_000_000 => return Err(format!("{name} has at most 1000000 characters")),
            _ => {}
        }
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used, reason = "what fails here fails the test")]

    use super::*;

    #[test]
    fn recipes_are_read_and_what_is_wrong_is_told_at_its_place() {
        let names = |own: &str| recipes(own).map(|all| all.into_iter().map(|r| r.table).collect::<Vec<_>>());
        assert_eq!(names("").unwrap(), ["picks", "readings"]);
        let good = "- table: weighings\n  rate: 5\n  columns:\n  - {name: id, is: number}\n  - {name: kg, is: whole, from: 1, to: 9}\n";
        assert_eq!(names(good).unwrap(), ["picks", "readings", "weighings"]);
        assert_eq!(names(&good.replace("weighings", "picks")).unwrap(), ["readings", "picks"], "one's own takes its place");
        for (from, to, part) in [
            ("rate: 5", "rat: 5", "line 2, column 3: unknown field `rat`"),
            ("rate: 5", "rate: 0", "rate is a number above 0, not 0"),
            ("rate: 5", "late: 2", "late is a share of rows, from 0 to 1"),
            ("rate: 5", "burst: {every_s: 0, rows: 1}", "every_s is a number above 0"),
            ("is: number", "is: numbr", "numbr"),
            ("is: number", "is: person", "one column is number"),
            ("from: 1", "from: 10", "kg goes from 10 to 9"),
            ("name: kg", "name: id", "the column \"id\" has no name of its own"),
            ("is: whole, from: 1, to: 9", "is: choice, of: {}", "kg is none of any"),
            ("is: whole, from: 1, to: 9", "is: decimal, from: 5, to: 2, scale: 1", "kg goes from 5 to 2"),
            ("is: whole, from: 1, to: 9", "is: whole, from: 1, to: 9, sprad: low", "the column kg: unknown field `sprad`"),
            ("is: number", "is: number, to: 4", "the column id: unknown field `to`"),
            ("is: whole, from: 1, to: 9", "is: reference, table: blocks", "refers to blocks, which is no recipe"),
            ("is: whole, from: 1, to: 9", "is: key, topic: b ins", "no topic can be called as kg says"),
            ("is: whole, from: 1, to: 9", "is: key, topic: bins, whole: 3", "the column kg: invalid type"),
            ("weighings", "weigh ings", "it cannot be called so"),
            ("is: number", "is: number, empty: 0.5", "never empty"),
        ] {
            let finding = names(&good.replacen(from, to, 1)).unwrap_err();
            assert!(finding.contains(part), "{to}: {finding}");
        }
        assert!(names(&format!("{good}{good}")).unwrap_err().contains("another one of this name"));
    }
}
