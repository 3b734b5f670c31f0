//! Steps and rules read strictly: a field that a step does not have is a mistake that must not pass in silence.

use serde::de::{DeserializeOwned, Error};
use serde::{Deserialize, Deserializer};
use serde_json::{Map, Value};

use super::{Characters, Mask, Rule, ShapeStep, Step};

fn of_mask(mask: &Mask) -> &'static [&'static str] {
    match mask {
        Mask::Hide { .. } => &["columns", "how", "with"],
        Mask::Partial { .. } => &["columns", "how", "first", "last"],
        Mask::Hash | Mask::Token => &["columns", "how"],
    }
}

fn of_step(step: &Step) -> &'static [&'static str] {
    match step {
        Step::Keep { .. } | Step::Drop { .. } | Step::Rename { .. } | Step::Reorder { .. } => &["columns"],
        Step::Compute { .. } | Step::Fill { .. } => &["column", "value"],
        Step::Convert { .. } => &["column", "to"],
        Step::Mask { mask, .. } => of_mask(mask),
        Step::Trim { .. } => &["columns", "ends"],
        Step::Letters { .. } => &["columns", "to"],
        Step::Substitute { characters: Characters::These { .. }, .. } => &["columns", "which", "characters", "with"],
        Step::Substitute { .. } => &["columns", "which", "with"],
        Step::Split { .. } => &["column", "by", "into"],
        Step::Unpack { .. } => &["column", "fields", "keep"],
        Step::Filter { .. } => &["only"],
        Step::Route { .. } => &["ways"],
        Step::Origin { .. } => &["facts"],
        Step::Lookup { .. } => &["topic", "table", "by", "columns", "miss", "again"],
        Step::DropRepeats { .. } => &["by"],
        Step::Sql { .. } => &["select"],
    }
}

fn of_rule(rule: &Rule) -> &'static [&'static str] {
    match rule {
        Rule::Letters { .. } => &["to"],
        Rule::Prefix { .. } => &["with"],
        Rule::Drop { .. } => &["columns"],
        Rule::Add { .. } => &["column", "value"],
        Rule::Convert { .. } => &["from", "to"],
        Rule::Substitute { characters: Characters::These { .. }, .. } => &["which", "characters", "with"],
        Rule::Substitute { .. } => &["which", "with"],
        Rule::Mask { mask, .. } => of_mask(mask),
    }
}

fn strictly<T: DeserializeOwned, E: Error>(
    given: Map<String, Value>,
    tag: &str,
    fields: fn(&T) -> &'static [&'static str],
) -> Result<T, E> {
    let called = given.get(tag).and_then(Value::as_str).unwrap_or_default().to_owned();
    let names: Vec<String> = given.keys().filter(|name| *name != tag).cloned().collect();
    let read = serde_json::from_value::<T>(Value::Object(given));
    let read =
        read.map_err(|e| E::custom(if called.is_empty() { e.to_string() } else { format!("{tag} {called}: {e}") }))?;
    match names.into_iter().find(|name| !fields(&read).contains(&name.as_str())) {
        None => Ok(read),
        Some(name) => {
            let has = fields(&read).join(", ");
            Err(E::custom(format!("{tag} {called} has no field {name} as it is given: it has {has}")))
        }
    }
}

impl<'de> Deserialize<'de> for ShapeStep {
    fn deserialize<D: Deserializer<'de>>(from: D) -> Result<Self, D::Error> {
        let mut given = Map::deserialize(from)?;
        let off = match given.remove("off") {
            None => false,
            Some(Value::Bool(off)) => off,
            Some(other) => return Err(D::Error::custom(format!("off is {other}: give true or false"))),
        };
        Ok(Self { off, step: strictly(given, "step", of_step)? })
    }
}

/// The rules of a [`super::TableRule`].
pub(super) fn rules<'de, D: Deserializer<'de>>(from: D) -> Result<Vec<Rule>, D::Error> {
    Vec::<Map<String, Value>>::deserialize(from)?.into_iter().map(|given| strictly(given, "rule", of_rule)).collect()
}
