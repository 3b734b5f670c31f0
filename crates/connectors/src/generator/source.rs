//! The generator as a kind of system that sources read.

use std::collections::{BTreeMap, HashSet};

use async_trait::async_trait;
use gonvel_core::change::ChangeBatch;
use gonvel_core::connector::{BadRecords, CapturedTable, SourceDefinition};
use gonvel_core::loading::Snapshot;
use gonvel_core::naming::ConnectorId;
use gonvel_core::ports::Address;
use gonvel_core::ports::systems::{
    Captures, Choice, ColumnsEver, ConnectorError, Differences, SourceKind, SourcePlace, SourcePosition, SourceSession,
    SourceSettings, TakenIn,
};
use gonvel_core::preflight::{Check, Report};
use gonvel_core::table::TableSchema;

use super::capture::Making;
use super::kind::{Generator, Kitchen};
use super::position::Made;
use super::recipe::Recipe;
use super::tables::{by_key, captured};

#[async_trait]
impl SourceKind for Generator {
    async fn preflight(&self, address: &Address, source: &SourceDefinition, _: Option<ConnectorId>) -> Report {
        let kitchen = match Kitchen::of(address) {
            Ok(kitchen) => kitchen,
            Err(error) => {
                return vec![Check::failed("recipes", "connection", error.to_string()).remedy("change the connection")];
            }
        };
        let check = |table: &CapturedTable| {
            let name = format!("recipe {}", table.qualified());
            match captured(&kitchen, table) {
                Ok((making, _)) => {
                    let rows = making.recipe.rows.map_or("rows for ever".into(), |rows| format!("{rows} rows"));
                    let rate =
                        making.recipe.rate.map_or("as fast as they are taken".into(), |rate| format!("{rate} a second"));
                    Check::passed(name, format!("{rows}, {rate}"))
                }
                Err(ConnectorError::Settings { finding, remedy, .. }) => {
                    Check::failed(name, "tables", finding).remedy(remedy)
                }
                Err(ConnectorError::TryAgain { finding, remedy, .. }) => {
                    Check::warning(name, finding).means("it waits until there are some").remedy(remedy)
                }
                Err(error) => Check::failed(name, "tables", error.to_string()),
            }
        };
        let waits = !source.shape.is_nothing() && source.failing.records == BadRecords::Quarantine;
        let made_again = |table: &&CapturedTable| {
            // what waits is known by its key, and made again by its number
            let number = kitchen.recipe(table).map(Recipe::number);
            table.key.is_empty() || number.is_ok_and(|number| table.key.iter().any(|column| column == number))
        };
        let lost = source.tables.iter().filter(|table| waits && !made_again(table)).map(|table| {
            let finding = "its key has not the row's number, by which a row that cannot be shaped would be made again";
            Check::failed(format!("key of {}", table.qualified()), "tables", finding)
                .remedy("put the number into the key, or let the connector halt before such a row")
        });
        source.tables.iter().map(check).chain(lost).collect()
    }

    fn position(&self, stored: &serde_json::Value) -> Result<Box<dyn SourcePosition>, ConnectorError> {
        <dyn SourcePosition>::read::<Made>(stored)
    }

    async fn place(&self, _: &Address, _: ConnectorId) -> Result<Option<SourcePlace>, ConnectorError> {
        Ok(None)
    }

    async fn check_place(&self, _: &Address, _: ConnectorId, _: &dyn SourcePosition) -> Result<(), ConnectorError> {
        Ok(())
    }

    async fn open(&self, address: &Address) -> Result<Box<dyn SourceSession>, ConnectorError> {
        Ok(Box::new(Kitchen::of(address)?))
    }

    async fn clean_up(&self, _: &Address, _: ConnectorId) -> Result<(), ConnectorError> {
        Ok(())
    }

    fn remains(&self, _: ConnectorId) -> Vec<String> {
        Vec::new()
    }
}

#[async_trait]
impl SourceSession for Kitchen {
    async fn choose(&self, source: &SourceDefinition) -> Result<Choice, ConnectorError> {
        Ok(Choice { tables: source.tables.clone(), ..Choice::default() })
    }

    async fn is_other(&self, _: &mut Choice, _: &SourceDefinition) -> Result<bool, ConnectorError> {
        Ok(false)
    }

    async fn understood(&self, table: &CapturedTable) -> Result<CapturedTable, ConnectorError> {
        Ok(table.clone())
    }

    async fn prepare(&self, _: &SourceSettings) -> Result<Box<dyn SourcePosition>, ConnectorError> {
        Ok(Box::new(Made::default()))
    }

    async fn differences(
        &self,
        settings: &SourceSettings,
        position: &dyn SourcePosition,
    ) -> Result<Differences, ConnectorError> {
        let known = &position.as_own::<Made>()?.next;
        let (there, missing): (Vec<&CapturedTable>, Vec<&CapturedTable>) =
            settings.tables.iter().partition(|table| self.recipe(table).is_ok());
        let names = |tables: Vec<&CapturedTable>| tables.into_iter().map(CapturedTable::qualified).collect::<Vec<_>>();
        let (there, missing) = (names(there), names(missing));
        Ok(Differences {
            gone: known.keys().filter(|name| !there.contains(name) && !missing.contains(name)).cloned().collect(),
            new: there.into_iter().filter(|name| !known.contains_key(name)).collect(),
            missing,
            ..Differences::default()
        })
    }

    async fn refuse_hindered(&self, _: &[&CapturedTable]) -> Result<(), ConnectorError> {
        Ok(())
    }

    async fn take_in(
        &self,
        _: &SourceSettings,
        position: &mut dyn SourcePosition,
        TakenIn { new, gone, .. }: TakenIn<'_>,
    ) -> Result<Option<Snapshot>, ConnectorError> {
        let position: &mut Made = position.as_own_mut()?;
        position.next.retain(|name, _| !gone.contains(name));
        for name in new {
            position.next.entry(name.clone()).or_insert(1);
        }
        Ok(None)
    }

    async fn load_again(
        &self,
        _: &SourceSettings,
        _: &mut dyn SourcePosition,
        _: &[String],
        _: bool,
    ) -> Result<Option<Snapshot>, ConnectorError> {
        // there is nothing that could be loaded
        Ok(None)
    }

    async fn describe(&self, table: &CapturedTable) -> Result<TableSchema, ConnectorError> {
        Ok(self.recipe(table)?.captured(table)?.0)
    }

    async fn filled(&self, _: &TableSchema) -> Result<HashSet<String>, ConnectorError> {
        Ok(HashSet::new())
    }

    async fn columns_ever(&self, tables: &[(&CapturedTable, i16)]) -> Result<Vec<Option<ColumnsEver>>, ConnectorError> {
        Ok(vec![None; tables.len()])
    }

    async fn rows_by_key(
        &self,
        table: &CapturedTable,
        keys: &[BTreeMap<String, String>],
    ) -> Result<ChangeBatch, ConnectorError> {
        by_key(self, table, keys)
    }

    async fn begin(
        &self,
        settings: &SourceSettings,
        position: &dyn SourcePosition,
    ) -> Result<Box<dyn Captures>, ConnectorError> {
        let mut tables = Vec::new();
        for (place, table) in settings.tables.iter().enumerate() {
            match captured(self, table) {
                Ok(captured) => tables.push((place, table.qualified(), captured)),
                // one that is missing is said by whoever compares
                Err(ConnectorError::Settings { .. }) => {}
                Err(error) => return Err(error),
            }
        }
        Ok(Box::new(Making::begin(tables, position.as_own::<Made>()?.clone())))
    }
}
