//! A PostgreSQL cluster with durable commits, Gonvel's database in it, and a flow from one database into another.

use std::error::Error;
use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::sync::Arc;
use std::time::{Duration, Instant};

use gonvel_connectors::postgres::address::DatabaseAddress;
use gonvel_core::connector::{
    CapturedTable, Definition, DeliveredTopic, SinkDefinition, SourceDefinition, State, ValidConnector, Wish,
};
use gonvel_core::naming::RunnerName;
use gonvel_core::naming::{ConnectionName, ConnectorId, ConnectorName, TopicName};
use gonvel_core::planning::Labels;
use gonvel_core::ports::TopicLog;
use gonvel_runtime::{Fleet, LANE_BYTES, RunnerSettings, Services};
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

/// The database that everything is captured from. It has a server of its own: in another's, its log would hold what is written
/// to the targets and to Gonvel's own database as well, and whoever reads it would read all that.
const SOURCE: &str = "packhouse";

/// Two clusters: one with the source, and one with the targets and Gonvel in it.
pub struct World {
    pub cluster: Cluster,
    pub source: Cluster,
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
        let start = async |folder: &str| {
            let home = home.path().join(folder);
            fs::create_dir(&home)?;
            fs::set_permissions(&home, fs::Permissions::from_mode(0o755))?;
            let settings = settings.iter().map(|s| (*s).to_owned()).collect();
            Outcome::Ok(Cluster::start(&ClusterOptions { home, port: free_port()?, settings }).await?)
        };
        let (source, cluster) = (start("source").await?, start("other").await?);
        cluster.ensure_database("gonvel").await?;
        for name in databases {
            if *name == SOURCE { &source } else { &cluster }.ensure_database(name).await?;
        }
        let database = Database::open(&cluster.url("gonvel"), Sealer::new(&[7; 32])).await?;
        Ok(Self { cluster, source, database, home })
    }

    /// The folder that holds it.
    pub fn home(&self) -> &std::path::Path {
        self.home.path()
    }

    /// The cluster that a database is in.
    pub fn cluster_of(&self, database: &str) -> &Cluster {
        if database == SOURCE { &self.source } else { &self.cluster }
    }

    /// A session in a database.
    pub async fn connect(&self, database: &str) -> Outcome<tokio_postgres::Client> {
        Ok(self.cluster_of(database).connect(database).await?)
    }

    /// A database's address as one text.
    pub fn url(&self, database: &str) -> String {
        self.cluster_of(database).url(database)
    }

    pub fn fleet(&self) -> Fleet {
        let name = RunnerName::parse("bench").expect("a name");
        let runner = RunnerSettings { name, labels: Labels::new(), room: 1_000, lane_bytes: LANE_BYTES };
        Fleet::start(Services::of(&Arc::new(self.database.clone()), runner))
    }

    /// The connection to a database, made if it is not there.
    pub async fn connection(&self, database: &str) -> Outcome<Uuid> {
        if let Some(there) = self.database.connections().await?.into_iter().find(|c| c.name == database) {
            return Ok(there.id);
        }
        let cluster = self.cluster_of(database);
        let address = DatabaseAddress::new("127.0.0.1", cluster.port, database, OWNER, &cluster.password);
        let input = ConnectionInput { name: ConnectionName::parse(database)?, address: address.into() };
        Ok(self.database.create_connection(&input).await?.id)
    }

    /// A connector that runs.
    pub async fn connector(&self, name: &str, definition: Definition) -> Outcome<ConnectorId> {
        let id = ConnectorId(Uuid::now_v7());
        let connector = ValidConnector::check(id, ConnectorName::parse(name)?, definition)?;
        self.database.create_connector(&connector, Wish::Run, "").await?;
        Ok(id)
    }

    /// So many sinks of one topic, each into a table of its own.
    pub async fn sinks(&self, connection: Uuid, count: usize, wish: Wish) -> Outcome<()> {
        for n in 0..count {
            let topic = DeliveredTopic {
                topic: "packhouse.bins".into(),
                schema: "public".into(),
                table: format!("bins_{n}"),
                rows: None,
            };
            let definition = SinkDefinition::of(connection, vec![topic]).into();
            let name = ConnectorName::parse(format!("sink-{n}"))?;
            let connector = ValidConnector::check(ConnectorId(Uuid::now_v7()), name, definition)?;
            self.database.create_connector(&connector, wish, "").await?;
        }
        Ok(())
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
        self.sink_in_lanes(from, tables, database, 1).await
    }

    /// The same in a number of lanes.
    pub async fn sink_in_lanes(&self, from: &str, tables: &[&str], database: &str, lanes: u32) -> Outcome<ConnectorId> {
        let connection = self.connection(database).await?;
        let topics = tables.iter().map(|t| DeliveredTopic {
            topic: format!("{from}.{t}"),
            schema: "public".into(),
            table: (*t).into(),
            rows: None,
        });
        let mut definition = SinkDefinition::of(connection, topics.collect());
        definition.placing.lanes = lanes;
        self.connector(&format!("sink-{database}"), definition.into()).await
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
        let url = self.url(from);
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
        self.connect(database).await?.batch_execute(statements).await?;
        Ok(())
    }

    /// Records that the sinks into a database have delivered, as they commit them with the rows.
    pub async fn delivered(&self, database: &str) -> Outcome<i64> {
        delivered(&self.connect(database).await?).await
    }

    /// Waits until the sinks into a database have delivered so many records. One session asks, and asks little: a session a
    /// question costs as much as some thousand rows.
    pub async fn until_delivered(&self, database: &str, count: i64) -> Outcome<()> {
        let client = self.connect(database).await?;
        let start = Instant::now();
        while delivered(&client).await.unwrap_or(0) < count {
            if start.elapsed() > Duration::from_secs(300) {
                return Err(format!("never {count} records delivered into {database}").into());
            }
            tokio::time::sleep(Duration::from_millis(20)).await;
        }
        Ok(())
    }

    /// Waits until a query of a database gives true.
    pub async fn until_true(&self, database: &str, query: &str) -> Outcome<()> {
        let client = self.connect(database).await?;
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

async fn delivered(client: &tokio_postgres::Client) -> Outcome<i64> {
    let sum = "SELECT coalesce(sum(next_offset), 0)::bigint FROM gonvel.sink_positions";
    Ok(client.query_one(sum, &[]).await?.get(0))
}

/// `from` to `to` new bins, in transactions of 1,000.
pub async fn insert_bins(world: &World, database: &str, from: i64, to: i64) -> Outcome<()> {
    let client = world.connect(database).await?;
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
    let client = world.connect(database).await?;
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
