//! How a connector is carried: where it may run, in how many lanes, and what happens when something fails.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::failure::Kind;
use crate::planning::{Labels, check_label};

use super::DefinitionError;

/// Most lanes of one connector.
pub const MOST_LANES: u32 = 64;

/// Where a connector may run.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Placing {
    /// Labels that a runner must have to carry it.
    #[serde(default, skip_serializing_if = "Labels::is_empty")]
    #[schema(value_type = std::collections::BTreeMap<String, String>)]
    pub only_where: Labels,
    /// How much of a runner's room each of its lanes takes.
    #[serde(default = "one", skip_serializing_if = "is_one")]
    pub weight: u32,
    /// Lanes that share its work. A sink's partitions are shared out among them; a source has one.
    #[serde(default = "one", skip_serializing_if = "is_one")]
    pub lanes: u32,
}

fn one() -> u32 {
    1
}

#[allow(clippy::trivially_copy_pass_by_ref, reason = "serde calls it with a reference")]
fn is_one(number: &u32) -> bool {
    *number == 1
}

impl Default for Placing {
    fn default() -> Self {
        Self { only_where: Labels::new(), weight: 1, lanes: 1 }
    }
}

/// What becomes of a record that cannot be handled.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum BadRecords {
    /// It waits in quarantine, and what comes after it goes on.
    #[default]
    Quarantine,
    /// The lane halts before it.
    Halt,
}

/// What happens when a topic forgot records before they were delivered.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Forgotten {
    /// The lane halts, and says which.
    #[default]
    Halt,
    /// It goes on with the oldest that is kept; how many it passed over stands in the connector's history.
    PassOver,
}

/// What happens when something fails.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Failing {
    /// What becomes of a record that cannot be handled.
    #[serde(default)]
    pub records: BadRecords,
    /// Records in a row of one lane, all bad, after which it halts all the same.
    #[serde(default = "usual_in_a_row")]
    pub most_in_a_row: u32,
    /// Bad records of one lane within a minute after which it halts all the same.
    #[serde(default = "usual_a_minute")]
    pub most_a_minute: u32,
    /// Days that a record stays in quarantine.
    #[serde(default = "usual_days")]
    pub kept_days: u32,
    /// Tries after which a lane that fails halts; none for as many as it takes.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub most_tries: Option<u32>,
    /// Minutes of failing after which a lane halts; none for as long as it takes.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub most_minutes: Option<u32>,
    /// What happens when records were forgotten before they were delivered.
    #[serde(default, skip_serializing_if = "is_usual")]
    pub forgotten: Forgotten,
}

#[allow(clippy::trivially_copy_pass_by_ref, reason = "serde calls it with a reference")]
fn is_usual(forgotten: &Forgotten) -> bool {
    *forgotten == Forgotten::default()
}

fn usual_in_a_row() -> u32 {
    100
}

fn usual_a_minute() -> u32 {
    1_000
}

fn usual_days() -> u32 {
    30
}

impl Default for Failing {
    fn default() -> Self {
        Self {
            records: BadRecords::default(),
            most_in_a_row: usual_in_a_row(),
            most_a_minute: usual_a_minute(),
            kept_days: usual_days(),
            most_tries: None,
            most_minutes: None,
            forgotten: Forgotten::default(),
        }
    }
}

impl Failing {
    /// Whether a lane that failed so often, for so long, is not to try again.
    #[must_use]
    pub fn gives_up(&self, kind: Kind, tries: u32, minutes: u64) -> bool {
        let most = self.most_tries.into_iter().chain(kind.most_tries()).min();
        most.is_some_and(|most| tries >= most) || self.most_minutes.is_some_and(|most| minutes >= u64::from(most))
    }
}

/// Whether a number lies in its range; the error names the field.
fn within(field: &'static str, number: u32, least: u32, most: u32) -> Result<(), DefinitionError> {
    if (least..=most).contains(&number) { Ok(()) } else { Err(DefinitionError::Range { field, number, least, most }) }
}

pub(super) fn check(placing: &Placing, failing: &Failing) -> Result<(), DefinitionError> {
    for (name, value) in &placing.only_where {
        check_label(name, value).map_err(DefinitionError::Label)?;
    }
    within("weight", placing.weight, 1, 1_000)?;
    within("lanes", placing.lanes, 1, MOST_LANES)?;
    within("most_in_a_row", failing.most_in_a_row, 1, 1_000_000)?;
    within("most_a_minute", failing.most_a_minute, 1, 1_000_000)?;
    within("kept_days", failing.kept_days, 1, 3_650)?;
    within("most_tries", failing.most_tries.unwrap_or(1), 1, 1_000_000)?;
    within("most_minutes", failing.most_minutes.unwrap_or(1), 1, 1_000_000)
}
