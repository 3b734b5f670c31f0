//! PostgreSQL as a kind of system that sources read.

use std::collections::{BTreeMap, HashSet};

use async_trait::async_trait;
use gonvel_core::change::ChangeBatch;
use gonvel_core::change_form::position_text;
use gonvel_core::connector::{CapturedTable, SourceDefinition, Start};
use gonvel_core::loading::Snapshot;
use gonvel_core::naming::ConnectorId;
use gonvel_core::ports::Address;
use gonvel_core::ports::systems::{
    Captured, Captures, Choice, ColumnsEver, ConnectorError, Differences, SourceKind, SourcePlace, SourcePosition,
    SourceSession, SourceSettings, TakenIn,
};
use gonvel_core::preflight::{Check, Report};
use gonvel_core::table::TableSchema;

use super::address::DatabaseAddress;
use super::client::{Client, connect};
use super::kind::Postgres;
use super::position::PgPosition;
use super::source::PgSource;
use super::source_settings::{PgSourceSettings, SILENCE};
use super::{choosing, load_filter, preflight, publication, sample, slot, tables};

impl SourcePosition for PgPosition {
    fn stored(&self) -> Result<serde_json::Value, serde_json::Error> {
        serde_json::to_value(self)
    }

    fn shown(&self) -> String {
        position_text(self.lsn)
    }

    fn complete_to(&self) -> u64 {
        self.lsn
    }

    fn loading(&self) -> Vec<&str> {
        self.loads.keys().map(String::as_str).collect()
    }

    fn load_of(&self, table: &str) -> Option<(u64, u64)> {
        self.loads.get(table).map(|load| load.as_ref().map_or((0, 0), |load| (load.rows, load.expected)))
    }

    fn loaded(&mut self, table: &str) {
        Self::loaded(self, table);
    }

    fn note_numbers(&mut self, numbers: BTreeMap<String, u32>) {
        self.numbers = numbers;
    }

    fn copied(&self) -> Box<dyn SourcePosition> {
        Box::new(self.clone())
    }
}

#[async_trait]
impl SourceKind for Postgres {
    fn check(&self, source: &SourceDefinition) -> Result<(), ConnectorError> {
        match &source.start {
            Some(Start::Position { position }) => slot::read_position(position).map(drop),
            _ => Ok(()),
        }
    }

    async fn preflight(&self, address: &Address, source: &SourceDefinition, connector: Option<ConnectorId>) -> Report {
        let address = match DatabaseAddress::read(address) {
            Ok(address) => address,
            Err(error) => return vec![error.as_check("connection", "host")],
        };
        let (source, refused) = understood(&address, source).await;
        let mut report = preflight::source(&address, &source, connector).await;
        report.extend(refused);
        report
    }

    fn position(&self, stored: &serde_json::Value) -> Result<Box<dyn SourcePosition>, ConnectorError> {
        <dyn SourcePosition>::read::<PgPosition>(stored)
    }

    async fn place(&self, address: &Address, connector: ConnectorId) -> Result<Option<SourcePlace>, ConnectorError> {
        slot::place(&DatabaseAddress::read(address)?, connector).await.map(Some)
    }

    async fn check_place(
        &self,
        address: &Address,
        connector: ConnectorId,
        from: &dyn SourcePosition,
    ) -> Result<(), ConnectorError> {
        slot::check_place(&DatabaseAddress::read(address)?, connector, from.as_own::<PgPosition>()?.lsn).await
    }

    async fn open(&self, address: &Address) -> Result<Box<dyn SourceSession>, ConnectorError> {
        let address = DatabaseAddress::read(address)?;
        Ok(Box::new(PgSession { client: connect(&address).await?, address }))
    }

    async fn clean_up(&self, address: &Address, connector: ConnectorId) -> Result<(), ConnectorError> {
        slot::clean_up(&DatabaseAddress::read(address)?, connector).await
    }

    fn remains(&self, connector: ConnectorId) -> Vec<String> {
        slot::remains(connector)
    }
}

/// A source with the conditions of its load as they go to the server; those that cannot be used are told, and left out.
async fn understood(address: &DatabaseAddress, source: &SourceDefinition) -> (SourceDefinition, Report) {
    let (mut source, mut refused) = (source.clone(), Report::new());
    if source.tables.iter().all(|table| table.load_where.is_none()) || !source.load.rows {
        return (source, refused);
    }
    // a server that does not answer is told by the checks that follow
    let Ok(client) = connect(address).await else { return (source, refused) };
    for table in &mut source.tables {
        match load_filter::understood(&client, &address.database, table).await {
            Ok(known) => *table = known,
            Err(ConnectorError::Settings { finding, remedy, .. }) => {
                table.load_where = None;
                let label = format!("rows of {} to load", table.qualified());
                refused.push(Check::failed(label, "tables", finding).remedy(remedy));
            }
            Err(_) => {}
        }
    }
    (source, refused)
}

/// A lane's session beside the one that captures.
struct PgSession {
    client: Client,
    address: DatabaseAddress,
}

impl PgSession {
    fn settings(&self, settings: &SourceSettings) -> PgSourceSettings {
        PgSourceSettings { address: self.address.clone(), silence: SILENCE, settings: settings.clone() }
    }
}

#[async_trait]
impl SourceSession for PgSession {
    async fn choose(&self, source: &SourceDefinition) -> Result<Choice, ConnectorError> {
        choosing::choose(&self.client, &self.address.database, source).await
    }

    async fn is_other(&self, choice: &mut Choice, source: &SourceDefinition) -> Result<bool, ConnectorError> {
        choosing::is_other(choice, &self.client, &self.address.database, source).await
    }

    async fn understood(&self, table: &CapturedTable) -> Result<CapturedTable, ConnectorError> {
        load_filter::understood(&self.client, &self.address.database, table).await
    }

    async fn prepare(&self, settings: &SourceSettings) -> Result<Box<dyn SourcePosition>, ConnectorError> {
        Ok(Box::new(slot::prepare(&self.settings(settings)).await?))
    }

    async fn differences(
        &self,
        settings: &SourceSettings,
        position: &dyn SourcePosition,
    ) -> Result<Differences, ConnectorError> {
        let settings = self.settings(settings);
        let found = publication::differences(&self.client, &settings, &position.as_own::<PgPosition>()?.numbers).await?;
        publication::refuse_renamed(&settings, &found)?;
        Ok(found)
    }

    async fn refuse_hindered(&self, tables: &[&CapturedTable]) -> Result<(), ConnectorError> {
        publication::refuse_hindered(&self.client, tables).await
    }

    async fn take_in(
        &self,
        settings: &SourceSettings,
        position: &mut dyn SourcePosition,
        TakenIn { new, gone, void }: TakenIn<'_>,
    ) -> Result<Option<Snapshot>, ConnectorError> {
        slot::change_tables(&self.settings(settings), position.as_own_mut()?, new, gone, void).await
    }

    async fn load_again(
        &self,
        settings: &SourceSettings,
        position: &mut dyn SourcePosition,
        tables: &[String],
        void: bool,
    ) -> Result<Option<Snapshot>, ConnectorError> {
        slot::load_again(&self.settings(settings), position.as_own_mut()?, tables, void).await.map(Some)
    }

    async fn describe(&self, table: &CapturedTable) -> Result<TableSchema, ConnectorError> {
        tables::describe(&self.client, &self.address.database, table).await
    }

    async fn filled(&self, table: &TableSchema) -> Result<HashSet<String>, ConnectorError> {
        tables::filled(&self.client, table).await
    }

    async fn columns_ever(&self, tables: &[(&CapturedTable, i16)]) -> Result<Vec<Option<ColumnsEver>>, ConnectorError> {
        tables::columns_ever(&self.client, tables).await
    }

    async fn rows_by_key(
        &self,
        table: &CapturedTable,
        keys: &[BTreeMap<String, String>],
    ) -> Result<ChangeBatch, ConnectorError> {
        sample::rows_by_key(&self.client, &self.address.database, table, keys).await
    }

    async fn begin(
        &self,
        settings: &SourceSettings,
        position: &dyn SourcePosition,
    ) -> Result<Box<dyn Captures>, ConnectorError> {
        Ok(Box::new(PgSource::start(self.settings(settings), position.as_own::<PgPosition>()?.clone()).await?))
    }
}

#[async_trait]
impl Captures for PgSource {
    async fn next(&mut self) -> Option<Result<Captured, ConnectorError>> {
        Self::next(self).await
    }

    fn confirm(&self, position: &dyn SourcePosition) {
        if let Ok(position) = position.as_own() {
            Self::confirm(self, position);
        }
    }
}
