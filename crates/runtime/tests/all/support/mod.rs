//! A real cluster with a source and a target database, and flows between them.
#![allow(
    clippy::unwrap_used,
    clippy::cast_precision_loss,
    dead_code,
    reason = "shared by test files that each use a part; what fails here fails the test"
)]

use std::collections::HashMap;
use std::sync::Arc;
use std::time::{Duration, Instant};

use gonvel_connectors::kinds;
use gonvel_connectors::postgres::address::{DatabaseAddress, Login};
use gonvel_core::block::UnpackedBlock;
use gonvel_core::connector::{
    CapturedTable, Definition, DeliveredTopic, InitialLoad, SinkDefinition, SourceDefinition, State, ValidConnector, Wish,
};
use gonvel_core::naming::{ConnectionName, ConnectorId, ConnectorName, Offset, RunnerName, TopicName, TopicPartition};
use gonvel_core::planning::Labels;
use gonvel_core::ports::systems::{ConnectorError, Stand};
use gonvel_core::ports::{Address, TopicLog};
use gonvel_core::record::Record;
use gonvel_runtime::{Fleet, LANE_BYTES, RunnerSettings, Services};
use gonvel_stand_ins::postgres_cluster::OWNER;
use gonvel_stand_ins::test_cluster::TestCluster;
use gonvel_storage::Database;
use gonvel_storage::catalog::connections::ConnectionInput;
use gonvel_storage::sealing::Sealer;
use tokio_postgres::Client;
use uuid::Uuid;

/// How long what is to come is waited for: where others take the processors, much longer than it takes.
pub const PATIENCE: Duration = Duration::from_secs(180);

pub struct World {
    pub cluster: TestCluster,
    pub database: Database,
    /// How sources copy the rows that exist.
    pub load: InitialLoad,
    /// Who reads the source's log, where that is another login.
    pub log_login: Option<Login>,
    /// Where flows tell changes of columns.
    pub told: Option<String>,
    /// What lanes of its runners may hold.
    pub lane_bytes: usize,
}

impl World {
    pub async fn new() -> Self {
        let cluster = TestCluster::start(&["gonvel", "packhouse", "settlement"]).await;
        let database = Database::open(&cluster.url("gonvel"), Sealer::new(&[7; 32])).await.unwrap();
        Self::on(cluster, database)
    }

    /// The same with Gonvel's own database on a cluster of its own.
    pub async fn apart() -> (Self, TestCluster) {
        Self::apart_with(&[]).await
    }

    /// The same with settings of the server that source and target are on.
    pub async fn apart_with(settings: &[&str]) -> (Self, TestCluster) {
        let cluster = TestCluster::start_with(&["packhouse", "settlement"], settings).await;
        let own = TestCluster::start(&["gonvel"]).await;
        let database = Database::open(&own.url("gonvel"), Sealer::new(&[7; 32])).await.unwrap();
        (Self::on(cluster, database), own)
    }

    fn on(cluster: TestCluster, database: Database) -> Self {
        let (load, log_login, told) = (InitialLoad::default(), None, None);
        Self { cluster, database, load, log_login, told, lane_bytes: LANE_BYTES }
    }

    /// Runs a statement in Gonvel's own database.
    pub async fn sql_own(&self, statement: &str) {
        self.cluster.connect("gonvel").await.unwrap().batch_execute(statement).await.unwrap();
    }

    pub fn fleet(&self) -> Fleet {
        self.runner("test")
    }

    /// A runner of its own name.
    pub fn runner(&self, name: &str) -> Fleet {
        let name = RunnerName::parse(name).unwrap();
        let runner = RunnerSettings { name, labels: Labels::new(), room: 1_000, lane_bytes: self.lane_bytes };
        let services = Services::of(&Arc::new(self.database.clone()), runner);
        Fleet::start(services)
    }

    /// The connection to a database, made if it is not there.
    pub async fn connection(&self, database: &str) -> Uuid {
        if let Some(there) = self.database.connections().await.unwrap().into_iter().find(|c| c.name == database) {
            return there.id;
        }
        let mut address = DatabaseAddress::new("127.0.0.1", self.cluster.port, database, OWNER, &self.cluster.password);
        address.log_login = self.log_login.clone();
        let input = ConnectionInput { name: ConnectionName::parse(database).unwrap(), address: address.into() };
        self.database.create_connection(&input).await.unwrap().id
    }

    pub async fn connector(&self, name: &str, definition: impl Into<Definition>) -> ConnectorId {
        let id = ConnectorId(Uuid::now_v7());
        let connector = ValidConnector::check(id, ConnectorName::parse(name).unwrap(), definition.into()).unwrap();
        self.database.create_connector(&connector, Wish::Run, "").await.unwrap();
        id
    }

    pub async fn flow(&self, tables: &[&str], partitions: i32) -> (ConnectorId, ConnectorId) {
        let mut source = self.source(tables, partitions).await;
        (source.load, source.schema_changes) = (self.load, self.told.clone());
        let source = self.connector("from-packhouse", source).await;
        (source, self.connector("to-settlement", self.sink(tables).await).await)
    }

    /// A source of tables of the packhouse.
    pub async fn source(&self, tables: &[&str], partitions: i32) -> SourceDefinition {
        let captured = |t: &&str| CapturedTable::whole("public", t, &format!("packhouse.{t}"));
        let connection = self.connection("packhouse").await;
        SourceDefinition::of(connection, tables.iter().map(captured).collect(), partitions)
    }

    /// A sink of those tables' topics into the settlement.
    pub async fn sink(&self, tables: &[&str]) -> SinkDefinition {
        let topic = |t: &&str| DeliveredTopic {
            topic: format!("packhouse.{t}"),
            schema: "public".into(),
            table: (*t).into(),
            rows: None,
        };
        SinkDefinition::of(self.connection("settlement").await, tables.iter().map(topic).collect())
    }

    /// Waits until a connector is in a state, and gives the reason it shows.
    pub async fn until_state(&self, id: ConnectorId, state: State) -> String {
        let start = Instant::now();
        loop {
            let found = self.database.find_connector(id).await.unwrap();
            if let Some(lane) = found.said().find(|l| l.state == state) {
                return lane.reason.clone().unwrap_or_default();
            }
            assert!(start.elapsed() < PATIENCE, "not {state:?}: {:?}", found.lanes);
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
    }

    /// Waits until the target's tables equal the source's.
    pub async fn until_equal(&self, source: &Client, target: &Client, tables: &[&str]) {
        let start = Instant::now();
        loop {
            let late = start.elapsed() > PATIENCE;
            let Some(differs) = differing(source, target, tables, late).await else { return };
            if late {
                self.tell(source).await;
                panic!("{differs}");
            }
            tokio::time::sleep(Duration::from_millis(200)).await;
        }
    }

    /// Says where all lanes stand, and what the sessions with a server do.
    async fn tell(&self, client: &Client) {
        for connector in self.database.connectors().await.unwrap() {
            eprintln!("{}: {:?}", connector.name, connector.lanes);
        }
        let sessions = "SELECT concat_ws(' | ', datname, pid, backend_type, application_name, state, wait_event_type, wait_event, \
                        now() - state_change, pg_blocking_pids(pid), left(query, 160)) FROM pg_stat_activity WHERE datname IS NOT NULL";
        for session in client.query(sessions, &[]).await.unwrap() {
            eprintln!("{}", session.get::<_, String>(0));
        }
    }

    /// Waits until a query of the target gives what one of the source gives.
    pub async fn until_same(&self, (source, wanted): (&Client, &str), (target, found): (&Client, &str)) {
        let (wanted_rows, found_rows) = (format!("({wanted})"), format!("({found})"));
        let start = Instant::now();
        loop {
            let (left, right) = (rows(source, &wanted_rows).await, rows(target, &found_rows).await);
            assert!(!left.iter().any(|row| row.contains("DbError")), "{left:?}");
            if left == right {
                return;
            }
            if start.elapsed() > PATIENCE {
                self.tell(source).await;
                panic!("{wanted}: {}", difference(&left, &right));
            }
            tokio::time::sleep(Duration::from_millis(200)).await;
        }
    }
}

/// A table's rows as text, in order.
pub async fn rows(client: &Client, table: &str) -> Vec<String> {
    // the text of a row is made once: `OFFSET 0` keeps it from being written out in each place
    let select = format!(
        "SELECT CASE WHEN length(whole) > 120 THEN left(whole, 40) || md5(whole) ELSE whole END \
         FROM (SELECT t::text AS whole FROM {table} t OFFSET 0) r ORDER BY 1"
    );
    match client.query(&select, &[]).await {
        Ok(rows) => rows.iter().map(|r| r.get(0)).collect(),
        Err(error) => vec![format!("{error:?}")],
    }
}

/// How many rows a table has; none if it is not there.
async fn count(client: &Client, table: &str) -> Option<i64> {
    Some(client.query_one(&format!("SELECT count(*) FROM {table} t"), &[]).await.ok()?.get(0))
}

/// What differs first. As long as there are not as many rows their texts are not asked for, since most of the time goes there, but for the `last` time.
async fn differing(source: &Client, target: &Client, tables: &[&str], last: bool) -> Option<String> {
    for table in tables {
        let counts = (count(source, table).await, count(target, table).await);
        if counts.0 != counts.1 && !last {
            return Some(format!("{table}: {counts:?} rows"));
        }
        let (left, right) = (rows(source, table).await, rows(target, table).await);
        if left != right {
            return Some(format!("{table}: {}", difference(&left, &right)));
        }
    }
    None
}

fn difference(left: &[String], right: &[String]) -> String {
    let only = |a: &[String], b: &[String]| {
        let b: std::collections::HashSet<_> = b.iter().collect();
        a.iter().filter(|r| !b.contains(r)).take(3).cloned().collect::<Vec<_>>()
    };
    format!("{} and {} rows, only left {:?}, only right {:?}", left.len(), right.len(), only(left, right), only(right, left))
}

/// A topic that is read on and on.
#[derive(Default)]
pub struct TopicReading {
    next: Vec<i64>,
    schemas: std::collections::HashMap<gonvel_core::naming::SchemaId, gonvel_core::avro::schema::Schema>,
}

impl TopicReading {
    /// The records that came since, with their partitions and by them.
    pub async fn records(&mut self, database: &Database, name: &str) -> Vec<(usize, Record)> {
        let topic = database.topic(&TopicName::parse(name).unwrap()).await.unwrap();
        let mut out = Vec::new();
        for (partition, bounds) in database.bounds(topic.id).await.unwrap().into_iter().enumerate() {
            self.next.resize(self.next.len().max(partition + 1), 0);
            let at = TopicPartition { topic: topic.id, partition: bounds.partition };
            let next = &mut self.next[partition];
            while *next < bounds.next.0 {
                for block in database.read(at, Offset(*next), 1 << 20).await.unwrap() {
                    assert!(block.first.0 <= *next, "offsets have a gap");
                    let unpacked = UnpackedBlock::open(&block.body).unwrap();
                    let passed = usize::try_from(*next - block.first.0).unwrap();
                    out.extend(unpacked.records().skip(passed).map(|record| (partition, record.unwrap().to_record())));
                    *next = block.end().0;
                }
            }
        }
        out
    }

    /// The values of those as JSON.
    pub async fn changes(&mut self, database: &Database, name: &str) -> Vec<(usize, serde_json::Value)> {
        let mut out = Vec::new();
        for (partition, record) in self.records(database, name).await {
            let id = record.schema.unwrap();
            if let std::collections::hash_map::Entry::Vacant(place) = self.schemas.entry(id) {
                let text = gonvel_core::ports::SchemaStore::schema_text(database, id).await.unwrap();
                place.insert(gonvel_core::avro::schema::Schema::parse(&text).unwrap());
            }
            let mut data = gonvel_core::avro::binary::Reader::new(&record.value.as_ref().unwrap()[10..]);
            out.push((partition, gonvel_core::avro::json::read(&self.schemas[&id], &mut data).unwrap()));
        }
        out
    }
}

/// All records of a topic, by partition.
pub async fn topic_records(database: &Database, name: &str) -> Vec<Record> {
    TopicReading::default().records(database, name).await.into_iter().map(|(_, record)| record).collect()
}

/// The values of all records of a topic as JSON, by partition.
pub async fn topic_changes(database: &Database, name: &str) -> Vec<serde_json::Value> {
    TopicReading::default().changes(database, name).await.into_iter().map(|(_, change)| change).collect()
}

/// How many of a topic's records came by a load.
pub fn loads(changes: &[serde_json::Value]) -> usize {
    changes.iter().filter(|c| c["change"] == "load").count()
}

/// Tables of every kind of trouble: a large value that is not always sent, a key of two columns, a whole row as identity.
pub const TABLES: &str = "
    CREATE TABLE bins (id bigint PRIMARY KEY, weight_kg numeric(7,1), grade text, remark text, picked_at timestamptz, room int);
    CREATE TABLE lines (consignment_id bigint, line_no int, price numeric(6,3), PRIMARY KEY (consignment_id, line_no));
    ALTER TABLE bins ALTER remark SET STORAGE EXTERNAL;
    ALTER TABLE lines REPLICA IDENTITY FULL;";

/// A random writer: inserts, updates with and without the large value, key changes, deletes, rollbacks.
pub async fn write(client: Client, steps: u32, seed: i64) {
    client.batch_execute(&format!("SELECT setseed({})", seed as f64 / 1000.0)).await.unwrap();
    for step in 0..steps {
        let key = "(SELECT id FROM bins ORDER BY id OFFSET floor(random() * (SELECT count(*) FROM bins))::bigint LIMIT 1)";
        let statement = match step % 9 {
            0 | 1 => "INSERT INTO bins SELECT 1000000 + nextval('numbers'), round((random()*400)::numeric, 1), 'first', repeat('x', (random()*4000)::int), clock_timestamp(), 1".to_owned(),
            2 => format!("UPDATE bins SET grade = 'g{step}' WHERE id = {key}"),
            3 => format!("UPDATE bins SET remark = repeat('{}', 3000) WHERE id = {key}", step % 10),
            4 => format!("UPDATE bins SET id = -id - nextval('numbers') WHERE id = {key}"),
            5 => format!("DELETE FROM bins WHERE id = {key}"),
            6 => format!("BEGIN; DELETE FROM bins WHERE id = {key}; UPDATE bins SET grade = 'never' WHERE id % 97 = 0; ROLLBACK"),
            7 => format!("BEGIN; INSERT INTO lines SELECT nextval('numbers'), 1, 2.5; UPDATE lines SET line_no = line_no + 1 WHERE consignment_id = currval('numbers'); UPDATE bins SET room = coalesce(room, 0) + 1 WHERE id = {key}; COMMIT"),
            _ => format!("UPDATE bins SET room = {step}, weight_kg = 'NaN' WHERE id = {key}"),
        };
        if let Err(error) = client.batch_execute(&statement).await {
            let _ = client.batch_execute("ROLLBACK").await;
            assert!(error.code().is_some(), "{error}");
        }
    }
}

/// Where a sink stands in its system.
pub async fn sink_stands(address: &Address, sink: ConnectorId) -> HashMap<TopicPartition, Stand> {
    kinds::holds(address).unwrap().stands(address, sink).await.unwrap()
}

/// The same: the offset to deliver next.
pub async fn sink_positions(address: &Address, sink: ConnectorId) -> HashMap<TopicPartition, i64> {
    sink_stands(address, sink).await.into_iter().map(|(at, stand)| (at, stand.delivered.next)).collect()
}

/// Moves a sink.
pub async fn move_sink(
    address: &Address,
    sink: ConnectorId,
    moves: &[(TopicPartition, i64, i64)],
    agreed: bool,
) -> Result<(), ConnectorError> {
    kinds::holds(address)?.move_to(address, sink, moves, agreed).await
}
