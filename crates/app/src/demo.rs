//! The demo: a cluster of its own, the packhouse's data, connectors, the server.

use std::collections::{HashMap, HashSet};
use std::error::Error;
use std::fs::File;
use std::net::{Ipv4Addr, SocketAddr};
use std::path::Path;
use std::sync::Arc;
use std::time::Instant;

use async_trait::async_trait;
use gonvel_connectors::postgres::address::DatabaseAddress;
use gonvel_core::connector::{
    CapturedTable, Definition, DeliveredTopic, SinkDefinition, SourceDefinition, ValidConnector, Wish,
};
use gonvel_core::naming::{ConnectionName, ConnectorId, ConnectorName, RunnerName, TopicName};
use gonvel_core::planning::Labels;
use gonvel_core::ports::{FleetStore, PortError, TopicLog};
use gonvel_core::preflight::KeptReport;
use gonvel_runtime::errands::Here;
use gonvel_runtime::{LANE_BYTES, RunnerSettings, systems};
use gonvel_server::{ConsoleFiles, DemoWorkload, LARGEST_IMPORT};
use gonvel_stand_ins::packhouse::seed::seed;
use gonvel_stand_ins::packhouse::workload::Day;
use gonvel_stand_ins::postgres_cluster::{Cluster, ClusterOptions, OWNER};
use gonvel_storage::Database;
use gonvel_storage::catalog::connections::ConnectionInput;
use gonvel_storage::sealing::Sealer;
use tokio::sync::Mutex;
use uuid::Uuid;

use crate::arguments::DemoArguments;
use crate::{coldstore, demo_events, serve};

/// The tables that the ready-made connectors carry.
const CARRIED: [&str; 3] = ["growers", "blocks", "bins"];
const PARTITIONS: i32 = 3;

/// Runs until a signal; everything that was started is then stopped.
pub(crate) async fn run(arguments: DemoArguments, console: ConsoleFiles) -> Result<(), Box<dyn Error>> {
    let start = Instant::now();
    // asked for before the cluster is started: a taken port is said at once and leaves nothing running
    let address = SocketAddr::from((Ipv4Addr::LOCALHOST, arguments.port));
    let listener = serve::listen(address, "GONVEL_PORT").await?;
    let _lock = lock(&arguments.place.home)?;
    if arguments.reset {
        Cluster::remove(&arguments.place.home)?;
        let _ = std::fs::remove_file(arguments.place.home.join("secret.key"));
    }
    let options = ClusterOptions { home: arguments.place.home.clone(), port: arguments.place.pg_port, settings: vec![] };
    let cluster = Cluster::start(&options).await?;
    let outcome = with_cluster(&arguments, &cluster, listener, console, start).await;
    let stopped = cluster.stop();
    outcome?;
    Ok(stopped?)
}

/// One demo for each folder; the lock goes with the process.
fn lock(home: &Path) -> Result<File, Box<dyn Error>> {
    std::fs::create_dir_all(home).map_err(|e| format!("{} cannot be made: {e}", home.display()))?;
    let file = File::create(home.join("lock")).map_err(|e| format!("{} cannot be written to: {e}", home.display()))?;
    match file.try_lock() {
        Ok(()) => Ok(file),
        Err(_) => {
            Err(format!("a demo runs already in {}: stop it, or choose another folder with GONVEL_HOME", home.display())
                .into())
        }
    }
}

async fn with_cluster(
    arguments: &DemoArguments,
    cluster: &Cluster,
    listener: tokio::net::TcpListener,
    console: ConsoleFiles,
    start: Instant,
) -> Result<(), Box<dyn Error>> {
    cluster.ensure_database("gonvel").await?;
    cluster.ensure_database("settlement").await?;
    cluster.ensure_database("packhouse").await?;
    let mut packhouse = cluster.connect("packhouse").await?;
    if packhouse.query_opt("SELECT 1 WHERE to_regclass('bins') IS NOT NULL", &[]).await?.is_none() {
        seed(&mut packhouse).await?;
    }
    drop(packhouse);
    let sealer = Sealer::from_file(&arguments.place.home.join("secret.key"))?;
    let cold = arguments.place.home.join("cold");
    std::fs::create_dir_all(&cold)?;
    let database = Database::open(&cluster.url("gonvel"), sealer)
        .await?
        .with_cold_store(&format!("file://{}", cold.canonicalize()?.display()), [])?;
    if !arguments.empty && database.connections().await?.is_empty() {
        let [packhouse, settlement] = ready_made(&database, cluster).await?;
        coldstore::prepare(&database).await?;
        demo_events::prepare(&database, packhouse, settlement).await?;
    }
    let with_coldstore = match database.topic(&TopicName::parse(coldstore::TOPIC)?).await {
        Ok(_) => true,
        // an empty demo, or one from which it was deleted
        Err(PortError::NotFound { .. }) => false,
        Err(error) => return Err(error.into()),
    };
    let workload: Arc<dyn DemoWorkload> = Arc::new(PackhouseDay { url: cluster.url("packhouse"), day: Mutex::new(None) });
    let home = arguments.place.home.display().to_string();
    let pg_port = arguments.place.pg_port;
    let sending = listener.local_addr().map(|address| with_coldstore.then(|| tokio::spawn(coldstore::send(address))))?;
    let runner =
        RunnerSettings { name: RunnerName::parse("runner-1")?, labels: Labels::new(), room: 1_000, lane_bytes: LANE_BYTES };
    let serves = serve::Serves { demo: Some(workload), largest_import: LARGEST_IMPORT };
    let outcome = serve::until_signal(database, listener, runner, serves, console, async move |address| {
        println!("Gonvel is at http://{address}  (ready after {:.1} s; Ctrl-C stops it)", start.elapsed().as_secs_f64());
        println!("The packhouse's database: PGPASSFILE={home}/pgpass psql -h 127.0.0.1 -p {pg_port} -U {OWNER} packhouse");
        println!("The settlement's database: PGPASSFILE={home}/pgpass psql -h 127.0.0.1 -p {pg_port} -U {OWNER} settlement");
        Ok(())
    })
    .await;
    if let Some(sending) = sending {
        sending.abort();
    }
    outcome
}

/// The connections, and what carries the packhouse's tables into the settlement.
async fn ready_made(database: &Database, cluster: &Cluster) -> Result<[Uuid; 2], Box<dyn Error>> {
    let mut connections = [Uuid::nil(); 2];
    for (place, name) in ["packhouse", "settlement"].into_iter().enumerate() {
        let address = DatabaseAddress::new("127.0.0.1", cluster.port, name, OWNER, &cluster.password);
        let input = ConnectionInput { name: ConnectionName::parse(name)?, address: address.into() };
        connections[place] = database.create_connection(&input).await?.id;
    }
    let topic = |table: &str| format!("packhouse.{table}");
    let tables = CARRIED.map(|t| CapturedTable::whole("public", t, &topic(t))).to_vec();
    let mut source = SourceDefinition::of(connections[0], tables, PARTITIONS);
    source.schema_changes = Some("packhouse.schema-changes".into());
    let topics =
        CARRIED.map(|t| DeliveredTopic { topic: topic(t), schema: "public".into(), table: t.into(), rows: None }).to_vec();
    let sink = SinkDefinition::of(connections[1], topics);
    for (name, definition) in [("packhouse-changes", Definition::from(source)), ("settlement-tables", sink.into())] {
        let id = ConnectorId(Uuid::now_v7());
        let connector = ValidConnector::check(id, ConnectorName::parse(name)?, definition)?;
        database.create_connector(&connector, Wish::Run, "").await?;
        let (definition, start) = (connector.definition(), Instant::now());
        let Some(connection) = definition.connection() else { continue };
        let address = database.address(connection).await?;
        let (shapes, nulls, others) = (HashMap::new(), HashMap::new(), Vec::new());
        let begun = HashSet::new();
        let asked = systems::Asked {
            errands: &Here,
            definition,
            connector: None,
            address: Some(&address),
            shapes,
            begun,
            nulls,
            others,
        };
        let checks = systems::preflight(&asked).await;
        let took_ms = u64::try_from(start.elapsed().as_millis())?;
        let report = KeptReport { at_us: chrono::Utc::now().timestamp_micros(), took_ms, checks };
        database.keep_report(id, &report).await?;
    }
    Ok(connections)
}

struct PackhouseDay {
    url: String,
    day: Mutex<Option<Day>>,
}

#[async_trait]
impl DemoWorkload for PackhouseDay {
    async fn switch(&self, rate: Option<u32>) -> Result<(), String> {
        let mut day = self.day.lock().await;
        *day = None;
        if let Some(rate) = rate {
            *day = Some(Day::begin(&self.url, rate).await.map_err(|e| e.to_string())?);
        }
        Ok(())
    }

    async fn now(&self) -> (Option<u32>, u64) {
        let day = self.day.lock().await;
        (day.as_ref().map(|d| d.rate), day.as_ref().map_or(0, Day::done))
    }
}
