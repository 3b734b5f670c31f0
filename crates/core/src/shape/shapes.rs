//! A connector's whole shape: the steps of each table or topic, and the rules for many tables.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::{Fact, LookedInto, Rule, ShapeStep, Step, fields};

/// Rules for all tables whose names match a pattern. They come before a table's own steps.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct TableRule {
    /// The pattern for `schema.table`: `*` stands for any characters, `?` for one.
    pub tables: String,
    /// What is done, in order.
    #[serde(deserialize_with = "fields::rules")]
    pub rules: Vec<Rule>,
}

impl TableRule {
    /// Whether a table is meant.
    #[must_use]
    pub fn covers(&self, schema: &str, table: &str) -> bool {
        crate::table_patterns::covers(&self.tables, schema, table)
    }
}

/// What a connector does to the rows of its tables or topics.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Shapes {
    /// Rules for many tables; they come before the steps.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub rules: Vec<TableRule>,
    /// The steps of each, by its name: `schema.table` at a source, the topic elsewhere.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub steps: BTreeMap<String, Vec<ShapeStep>>,
}

impl Shapes {
    /// The steps of a table or topic.
    #[must_use]
    pub fn of(&self, name: &str) -> &[ShapeStep] {
        self.steps.get(name).map_or(&[], Vec::as_slice)
    }

    /// Whether rows go as they come.
    #[must_use]
    pub fn is_nothing(&self) -> bool {
        self.rules.is_empty() && self.steps.values().flatten().all(|s| s.off)
    }

    /// Whether the rows of a table or topic go as they come.
    #[must_use]
    pub fn is_nothing_for(&self, name: &str) -> bool {
        self.rules.is_empty() && self.steps.get(name).is_none_or(|steps| steps.iter().all(|s| s.off))
    }

    /// What is looked into, each once with all columns that are taken of it.
    #[must_use]
    pub fn references(&self) -> Vec<LookedInto> {
        let mut out: Vec<LookedInto> = Vec::new();
        for step in self.steps.values().flatten().filter(|step| !step.off) {
            let (Some(name), Step::Lookup { table, by, columns, .. }) = (step.step.looks_into(), &step.step) else {
                continue;
            };
            let place = out.iter().position(|known| known.name == name).unwrap_or_else(|| {
                let keys = by.iter().map(|pair| pair.key.clone()).collect();
                out.push(LookedInto { name, table: table.clone(), keys, columns: Vec::new() });
                out.len() - 1
            });
            for column in columns {
                if !out[place].columns.contains(&column.from) {
                    out[place].columns.push(column.from.clone());
                }
            }
        }
        out.sort_by(|a, b| a.name.cmp(&b.name));
        out
    }

    /// The connections that are looked up through, where they are written: ids, in a manifest names.
    pub fn connections(&mut self) -> impl Iterator<Item = &mut String> {
        self.steps.values_mut().flatten().filter_map(|step| match &mut step.step {
            Step::Lookup { table: Some(table), .. } => Some(&mut table.connection),
            _ => None,
        })
    }

    /// The topics that are looked into so that rows are carried again when they change.
    #[must_use]
    pub fn followed(&self) -> Vec<&str> {
        let steps = self.steps.values().flatten().filter(|step| !step.off);
        let followed = steps.filter_map(|step| match &step.step {
            Step::Lookup { topic, again: true, .. } => Some(topic.as_str()),
            _ => None,
        });
        let mut out: Vec<&str> = followed.collect();
        out.sort_unstable();
        out.dedup();
        out
    }

    /// The headers that records of a table or topic get, in order.
    #[must_use]
    pub fn headers(&self, name: &str) -> Vec<(String, Fact)> {
        let steps = self.of(name).iter().filter(|step| !step.off);
        let facts = steps.filter_map(|step| if let Step::Origin { facts } = &step.step { Some(facts) } else { None });
        facts.flatten().filter(|f| !f.header.is_empty()).map(|f| (f.header.clone(), f.fact)).collect()
    }

    /// Where rows of a table or topic may be routed, each once; a name may have columns in it.
    #[must_use]
    pub fn routes(&self, name: &str) -> Vec<&str> {
        let mut out = Vec::new();
        for step in self.of(name).iter().filter(|s| !s.off) {
            if let Step::Route { ways } = &step.step {
                for way in ways {
                    if !out.contains(&way.to.as_str()) {
                        out.push(way.to.as_str());
                    }
                }
            }
        }
        out
    }

    /// The same, as far as no column decides the name.
    #[must_use]
    pub fn ways(&self, name: &str) -> Vec<&str> {
        let mut out = self.routes(name);
        out.retain(|to| !to.contains('{'));
        out
    }
}
