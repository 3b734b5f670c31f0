//! What a source of some tables is told, and what its publication sends.

use std::time::Duration;

use gonvel_connectors::postgres::address::DatabaseAddress;
use gonvel_connectors::postgres::source::PgSourceSettings;
use gonvel_core::connector::{CapturedTable, InitialLoad};
use gonvel_core::naming::{ConnectorId, Epoch};
use gonvel_core::ports::systems::SourceSettings;
use gonvel_stand_ins::postgres_cluster::OWNER;
use gonvel_stand_ins::test_cluster::TestCluster;
use tokio_postgres::Client;
use uuid::Uuid;

/// Of tables of the packhouse, each into a topic of its name, by a lease.
pub fn settings(cluster: &TestCluster, epoch: i64, tables: &[&str]) -> PgSourceSettings {
    let address = DatabaseAddress::new("127.0.0.1", cluster.port, "packhouse", OWNER, &cluster.password);
    let settings = SourceSettings {
        connector: ConnectorId(Uuid::from_u128(7)),
        epoch: Epoch(epoch),
        void: None,
        tables: tables.iter().map(|name| CapturedTable::whole("public", name, name)).collect(),
        patterns: None,
        schema_changes: None,
        load: InitialLoad::default(),
        whole_rows: false,
        fetches_unsent: false,
        start: None,
    };
    PgSourceSettings { address, silence: Duration::from_secs(10), settings }
}

/// The tables that a publication sends, by name.
pub async fn sent(client: &Client) -> Vec<String> {
    let tables = client.query("SELECT tablename::text FROM pg_publication_tables ORDER BY 1", &[]).await.unwrap();
    tables.iter().map(|row| row.get(0)).collect()
}
