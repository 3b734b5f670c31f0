//! The generator as a kind of system.

use std::collections::{BTreeMap, BTreeSet};

use async_trait::async_trait;
use gonvel_core::connector::CapturedTable;
use gonvel_core::kinds::About;
use gonvel_core::ports::Address;
use gonvel_core::ports::systems::{ConnectorError, Kind, SourceKind, Tables};
use gonvel_core::preflight::{Check, Report};
use serde_json::Value;

use super::about::{self, KIND};
use super::making::Making;
use super::recipe::{self, Column, Holds, Recipe};

/// The kind.
#[derive(Debug, Clone, Copy)]
pub struct Generator;

/// What a connection makes.
#[derive(Debug, Clone)]
pub(super) struct Kitchen {
    pub(super) recipes: Vec<Recipe>,
    seed: u64,
    keys: BTreeMap<String, Vec<Value>>,
}

impl Kitchen {
    /// What a connection's settings say.
    ///
    /// # Errors
    /// [`ConnectorError::Settings`] at the recipes.
    pub(super) fn of(address: &Address) -> Result<Self, ConnectorError> {
        let own = address.settings.get("recipes").and_then(Value::as_str).unwrap_or_default();
        let recipes = recipe::recipes(own).map_err(|finding| {
            ConnectorError::settings(Some("recipes"), finding, "change the recipes of this connection")
        })?;
        let keys = address.keys.clone();
        Ok(Self { recipes, keys, seed: address.settings.get("seed").and_then(Value::as_u64).unwrap_or(1) })
    }

    /// What rows of a table are made of.
    ///
    /// # Errors
    /// [`ConnectorError::Settings`] if there is no such recipe.
    pub(super) fn recipe(&self, table: &CapturedTable) -> Result<&Recipe, ConnectorError> {
        let name = table.qualified();
        self.recipes.iter().find(|recipe| recipe.qualified() == name).ok_or_else(|| {
            let names: Vec<String> = self.recipes.iter().map(Recipe::qualified).collect();
            let finding = format!("there is no recipe {name}");
            ConnectorError::settings(Some("tables"), finding, format!("take one of {}", names.join(", ")))
        })
    }

    /// How they are made.
    ///
    /// # Errors
    /// As [`Self::recipe`]; [`ConnectorError::TryAgain`] if it picks from keys that are not there.
    pub(super) fn making(&self, table: &CapturedTable) -> Result<Making, ConnectorError> {
        Making::new(self.recipe(table)?, (&self.recipes, &self.keys), self.seed)
    }
}

#[async_trait]
impl Kind for Generator {
    fn about(&self) -> About {
        about::about()
    }

    fn check(&self, address: &Address) -> Result<(), ConnectorError> {
        Kitchen::of(address).map(drop)
    }

    fn identity(&self, _: &Address) -> String {
        // nothing is written to it, so nothing comes back from it
        KIND.into()
    }

    fn place(&self, address: &Address) -> String {
        Kitchen::of(address).map_or_else(
            |_| String::new(),
            |kitchen| {
                let names: Vec<&str> = kitchen.recipes.iter().map(|recipe| recipe.table.as_str()).collect();
                format!("{}, seed {}", names.join(", "), kitchen.seed)
            },
        )
    }

    fn system(&self, _: &Address) -> String {
        KIND.into()
    }

    fn picks_from(&self, address: &Address) -> Vec<String> {
        let columns = Kitchen::of(address).map(|kitchen| kitchen.recipes).unwrap_or_default().into_iter();
        let topic = |column: Column| if let Holds::Key { topic, .. } = column.holds { Some(topic) } else { None };
        let topics: BTreeSet<String> = columns.flat_map(|recipe| recipe.columns).filter_map(topic).collect();
        topics.into_iter().collect()
    }

    async fn test(&self, address: &Address) -> Report {
        vec![match Kitchen::of(address) {
            Ok(kitchen) => {
                let names: Vec<&str> = kitchen.recipes.iter().map(|recipe| recipe.table.as_str()).collect();
                Check::passed("recipes", format!("{} can be made: {}", names.len(), names.join(", ")))
            }
            Err(error) => error.as_check("recipes", "recipes"),
        }]
    }

    async fn mend(&self, _: &Address, _: &str) -> Result<(), ConnectorError> {
        Err(ConnectorError::settings(None, "made-up records have nothing to mend", "change the recipes of the connection"))
    }

    fn source(&self) -> Option<&dyn SourceKind> {
        Some(self)
    }

    fn tables(&self) -> Option<&dyn Tables> {
        Some(self)
    }
}
