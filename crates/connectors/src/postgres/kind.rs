//! PostgreSQL as a kind of system.

use std::collections::BTreeMap;

use async_trait::async_trait;
use gonvel_core::change::ChangeBatch;
use gonvel_core::connector::{CapturedTable, Values};
use gonvel_core::kinds::About;
use gonvel_core::planning::labels_text;
use gonvel_core::ports::Address;
use gonvel_core::ports::systems::{ConnectorError, Kind, ReadRows, Sample, SinkKind, SourceKind, TableSummary, Tables};
use gonvel_core::preflight::Report;
use gonvel_core::table::TableSchema;
use tokio_postgres::Client;

use super::address::DatabaseAddress;
use super::client::connect;
use super::load_filter::understood;
use super::{about, preflight, sample, tables};
use crate::reaching::check_host;

/// The kind.
#[derive(Debug, Clone, Copy)]
pub struct Postgres;

#[async_trait]
impl Kind for Postgres {
    fn about(&self) -> About {
        about::about()
    }

    fn check(&self, address: &Address) -> Result<(), ConnectorError> {
        let DatabaseAddress { host, settings, reaching, .. } = DatabaseAddress::read(address)?;
        check_host("host", &host)?;
        let named = |c: char| c.is_ascii_alphanumeric() || matches!(c, '_' | '.');
        if let Some(name) = settings.keys().find(|name| name.is_empty() || !name.chars().all(named)) {
            let finding = format!("{name:?} is no setting");
            return Err(ConnectorError::settings(Some("settings"), finding, "give name=value, as in lock_timeout=5s"));
        }
        reaching.check()
    }

    fn identity(&self, address: &Address) -> String {
        let Ok(DatabaseAddress { host, port, database, reaching, .. }) = DatabaseAddress::read(address) else {
            return String::new();
        };
        format!("{}:{port}/{database}", reaching.machine(&host))
    }

    fn place(&self, address: &Address) -> String {
        DatabaseAddress::read(address).map_or_else(
            |_| String::new(),
            |DatabaseAddress { host, port, database, user, reaching, .. }| {
                let through = reaching.through.map(|through| format!(", through {}", through.host)).unwrap_or_default();
                let from = match reaching.only_where.is_empty() {
                    true => String::new(),
                    false => format!(", from {}", labels_text(&reaching.only_where)),
                };
                format!("{database} at {host}:{port} as {user}{through}{from}")
            },
        )
    }

    fn guards_less(&self, before: &Address, now: &Address) -> Option<String> {
        let (before, now) = (DatabaseAddress::read(before).ok()?, DatabaseAddress::read(now).ok()?);
        if (&before.host, before.port) != (&now.host, now.port) {
            return Some("the address changed".into());
        }
        if before.database != now.database {
            return Some("the database changed".into());
        }
        before.reaching.guards_less(&now.reaching).map(str::to_owned)
    }

    fn system(&self, address: &Address) -> String {
        DatabaseAddress::read(address).map(|address| address.database).unwrap_or_default()
    }

    async fn test(&self, address: &Address) -> Report {
        match DatabaseAddress::read(address) {
            Ok(address) => preflight::connection(&address).await,
            Err(error) => vec![error.as_check("connection", "host")],
        }
    }

    async fn mend(&self, address: &Address, statement: &str) -> Result<(), ConnectorError> {
        preflight::mend(&DatabaseAddress::read(address)?, statement).await
    }

    fn source(&self) -> Option<&dyn SourceKind> {
        Some(self)
    }

    fn sink(&self) -> Option<&dyn SinkKind> {
        Some(self)
    }

    fn tables(&self) -> Option<&dyn Tables> {
        Some(self)
    }
}

/// A session with the database, and its name.
async fn reach(address: &Address) -> Result<(Client, DatabaseAddress), ConnectorError> {
    let address = DatabaseAddress::read(address)?;
    Ok((connect(&address).await?, address))
}

#[async_trait]
impl Tables for Postgres {
    async fn list(&self, address: &Address) -> Result<Vec<TableSummary>, ConnectorError> {
        tables::list(&reach(address).await?.0).await
    }

    async fn describe(&self, address: &Address, table: &CapturedTable) -> Result<TableSchema, ConnectorError> {
        let (client, DatabaseAddress { database, .. }) = reach(address).await?;
        tables::describe(&client, &database, table).await
    }

    async fn sample(&self, address: &Address, table: &CapturedTable, values: Values) -> Result<Sample, ConnectorError> {
        let (client, address) = reach(address).await?;
        let table = understood(&client, &address.database, table).await?;
        sample::sample(&address, &table, values).await
    }

    async fn rows(&self, address: &Address, table: &CapturedTable, most: usize) -> Result<ChangeBatch, ConnectorError> {
        let (client, address) = reach(address).await?;
        let table = understood(&client, &address.database, table).await?;
        sample::rows(&address, &table, most).await
    }

    async fn rows_by_key(
        &self,
        address: &Address,
        table: &CapturedTable,
        keys: &[BTreeMap<String, String>],
    ) -> Result<ChangeBatch, ConnectorError> {
        let (client, DatabaseAddress { database, .. }) = reach(address).await?;
        sample::rows_by_key(&client, &database, table, keys).await
    }

    async fn all_rows(
        &self,
        address: &Address,
        table: &CapturedTable,
        columns: &[String],
        take: &mut ReadRows<'_>,
    ) -> Result<(), ConnectorError> {
        sample::all_rows(&DatabaseAddress::read(address)?, table, columns, take).await
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_database_is_the_same_however_its_address_is_written() {
        let at =
            |host: &str, database: &str| Postgres.identity(&DatabaseAddress::new(host, 5432, database, "gonvel", "").into());
        assert_eq!(at("LOCALHOST", "packhouse"), "127.0.0.1:5432/packhouse");
        assert_eq!(at("::1", "packhouse"), at("127.0.0.1", "packhouse"));
        assert_ne!(at("127.0.0.1", "packhouse"), at("127.0.0.1", "settlement"));
        let through = |host: &str, gate: &str| {
            let address: Address = DatabaseAddress::new(host, 5432, "packhouse", "gonvel", "").into();
            Postgres.identity(&address.with("through", "jump_host").with("through_host", gate))
        };
        assert_ne!(through("localhost", "gate.orchard.example"), at("localhost", "packhouse"), "the jump host's own");
        assert_ne!(through("localhost", "gate.orchard.example"), through("localhost", "gate.coldstore.example"));
        assert_eq!(through("db.orchard.example", "gate.orchard.example"), at("db.orchard.example", "packhouse"));
    }
}
