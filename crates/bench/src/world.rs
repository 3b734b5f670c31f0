//! A PostgreSQL cluster with durable commits, Gonvel's database in it, and a flow from one database into another.

use std::error::Error;
use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::sync::Arc;
use std::time::{Duration, Instant};

use gonvel_core::connector::{
    CapturedTable, Definition, DeliveredTopic, SinkDefinition, SourceDefinition, State, ValidConnector, Wish,
};
use gonvel_core::naming::RunnerName;
use gonvel_core::naming::{ConnectionName, ConnectorId, ConnectorName, TopicName};
use gonvel_core::planning::Labels;
use gonvel_core::ports::{DatabaseAddress, TopicLog};
use gonvel_runtime::{Fleet, RunnerSettings, Services};
use gonvel_stand_ins::postgres_cluster::{Cluster, ClusterOptions, OWNER, free_port};
use gonvel_storage::Database;
use gonvel_storage::catalog::connections::ConnectionInput;
use gonvel_storage::sealing::Sealer;
use uuid::Uuid;

pub type Outcome<T> = Result<T, Box<dyn Error>>;

/// The busy table of the packhouse, and a small one whose one row comes last in a backlog.
pub const TABLES: &str = "
CREATE TABLE bins (id bigint PRIMARY KEY, block_id bigint NOT NULL, picked_at timestamptz NOT NULL, weight_kg numeric(7,1),
    grade text, room_id int, status text NOT NULL, remark text);
CREATE TABLE marks (id bigint PRIMARY KEY);";

/// A cluster with Gonvel in it.
pub struct World {
    pub cluster: Cluster,
    pub database: Database,
    home: tempfile::TempDir,
}

impl World {
    /// Starts one; its commits wait for the disk.
    pub async fn start(databases: &[&str]) -> Outcome<Self> {
        Self::start_with(databases, &[]).await
    }

    /// The same with settings of its own.
    pub async fn start_with(databases: &[&str], settings: &[&str]) -> Outcome<Self> {
        let home = tempfile::Builder::new().prefix("gonvel-bench").tempdir_in("/tmp")?;
        fs::set_permissions(home.path(), fs::Permissions::from_mode(0o755))?;
        let options = ClusterOptions {
            home: home.path().into(),
            port: free_port()?,
            settings: settings.iter().map(|s| (*s).to_owned()).collect(),
        };
        let cluster = Cluster::start(&options).await?;
        cluster.ensure_database("gonvel").await?;
        for name in databases {
            cluster.ensure_database(name).await?;
        }
        let database = Database::open(&cluster.url("gonvel"), Sealer::new(&[7; 32])).await?;
        Ok(Self { cluster, database, home })
    }

    /// The folder that holds it.
    pub fn home(&self) -> &std::path::Path {
        self.home.path()
    }

    pub fn fleet(&self) -> Fleet {
        let name = RunnerName::parse("bench").expect("a name");
        let runner = RunnerSettings { name, labels: Labels::new(), room: 1_000 };
        Fleet::start(Services::of(&Arc::new(self.database.clone()), runner))
    }

    /// The connection to a database, made if it is not there.
    pub async fn connection(&self, database: &str) -> Outcome<Uuid> {
        if let Some(there) = self.database.connections().await?.into_iter().find(|c| c.name == database) {
            return Ok(there.id);
        }
        let address = DatabaseAddress::new("127.0.0.1", self.cluster.port, database, OWNER, &self.cluster.password);
        let input = ConnectionInput { name: ConnectionName::parse(database)?, address };
        Ok(self.database.create_connection(&input).await?.id)
    }

    async fn connector(&self, name: &str, definition: Definition) -> Outcome<ConnectorId> {
        let id = ConnectorId(Uuid::now_v7());
        let connector = ValidConnector::check(id, ConnectorName::parse(name)?, definition)?;
        self.database.create_connector(&connector, Wish::Run, "").await?;
        Ok(id)
    }

    /// A source connector on tables of a database.
    pub async fn source(&self, database: &str, tables: &[&str], partitions: i32) -> Outcome<ConnectorId> {
        let connection = self.connection(database).await?;
        let tables = tables.iter().map(|t| CapturedTable::whole("public", t, &format!("{database}.{t}")));
        let definition = SourceDefinition::of(connection, tables.collect(), partitions);
        self.connector("source", definition.into()).await
    }

    /// A sink connector from those tables' topics into a database.
    pub async fn sink(&self, from: &str, tables: &[&str], database: &str) -> Outcome<ConnectorId> {
        let connection = self.connection(database).await?;
        let topics = tables.iter().map(|t| DeliveredTopic {
            topic: format!("{from}.{t}"),
            schema: "public".into(),
            table: (*t).into(),
        });
        self.connector(&format!("sink-{database}"), SinkDefinition::of(connection, topics.collect()).into()).await
    }

    /// Waits until a connector is in a state.
    pub async fn until(&self, id: ConnectorId, state: State) -> Outcome<()> {
        let start = Instant::now();
        loop {
            let found = self.database.find_connector(id).await?;
            if found.said().next().is_some_and(|l| l.state == state) {
                return Ok(());
            }
            if start.elapsed() > Duration::from_secs(120) {
                return Err(format!("{} is not {state:?}: {:?}", found.name, found.lanes).into());
            }
            tokio::time::sleep(Duration::from_millis(20)).await;
        }
    }

    /// Records of a topic.
    pub async fn records(&self, topic: &str) -> Outcome<i64> {
        let topic = self.database.topic(&TopicName::parse(topic)?).await?;
        Ok(self.database.bounds(topic.id).await?.iter().map(|b| b.next.0).sum())
    }

    /// Waits until a topic has so many records.
    pub async fn until_records(&self, topic: &str, count: i64) -> Outcome<()> {
        let start = Instant::now();
        loop {
            let now = self.records(topic).await?;
            if now >= count {
                return Ok(());
            }
            if start.elapsed() > Duration::from_secs(300) {
                return Err(format!("{topic} has {now} of {count} records").into());
            }
            tokio::time::sleep(Duration::from_millis(10)).await;
        }
    }

    /// Has a database follow what a source connector's publication sends, by the server's own subscription.
    pub async fn subscribe(&self, source: ConnectorId, from: &str, database: &str) -> Outcome<()> {
        let publication = gonvel_connectors::postgres::names::publication(source);
        let url = self.cluster.url(from);
        self.sql(from, &format!("SELECT pg_create_logical_replication_slot('{database}', 'pgoutput')")).await?;
        let create = format!(
            "CREATE SUBSCRIPTION {database} CONNECTION '{url}' PUBLICATION \"{publication}\" \
             WITH (create_slot = false, slot_name = {database}, copy_data = false)"
        );
        self.sql(database, &create).await
    }

    /// Ends what [`Self::subscribe`] began.
    pub async fn unsubscribe(&self, database: &str) -> Outcome<()> {
        let drop = format!(
            "ALTER SUBSCRIPTION {database} DISABLE; ALTER SUBSCRIPTION {database} SET (slot_name = NONE); \
             DROP SUBSCRIPTION {database}"
        );
        self.sql(database, &drop).await
    }

    /// Runs statements in a database, one after the other.
    pub async fn sql(&self, database: &str, statements: &str) -> Outcome<()> {
        self.cluster.connect(database).await?.batch_execute(statements).await?;
        Ok(())
    }

    /// Waits until a query of a database gives true.
    pub async fn until_true(&self, database: &str, query: &str) -> Outcome<()> {
        let client = self.cluster.connect(database).await?;
        let start = Instant::now();
        while !client.query_one(query, &[]).await?.get::<_, bool>(0) {
            if start.elapsed() > Duration::from_secs(300) {
                return Err(format!("never true: {query}").into());
            }
            tokio::time::sleep(Duration::from_millis(10)).await;
        }
        Ok(())
    }
}

/// `from` to `to` new bins, in transactions of 1,000.
pub async fn insert_bins(world: &World, database: &str, from: i64, to: i64) -> Outcome<()> {
    let client = world.cluster.connect(database).await?;
    for first in (from..to).step_by(1000) {
        let last = (first + 999).min(to - 1);
        client
            .batch_execute(&format!(
                "INSERT INTO bins SELECT n, n % 4000, timestamptz '2026-09-01 00:00Z' + n * interval '43 seconds', \
                 (2400 + n * 7919 % 1800) / 10.0, (ARRAY['extra','first','second','juice'])[1 + n % 4], n % 60, 'stored', \
                 CASE n % 12 WHEN 0 THEN 'checked twice' END FROM generate_series({first}::bigint, {last}::bigint) n"
            ))
            .await?;
    }
    Ok(())
}

/// Updates of the bins from `from` to `to`, in transactions of 1,000.
pub async fn update_bins(world: &World, database: &str, from: i64, to: i64) -> Outcome<()> {
    let client = world.cluster.connect(database).await?;
    for first in (from..to).step_by(1000) {
        let last = (first + 999).min(to - 1);
        client
            .batch_execute(&format!(
                "UPDATE bins SET grade = 'second', weight_kg = weight_kg + 1 WHERE id BETWEEN {first} AND {last}"
            ))
            .await?;
    }
    Ok(())
}
