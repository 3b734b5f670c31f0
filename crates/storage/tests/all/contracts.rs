//! The ports' contracts, held by PostgreSQL.
#![allow(clippy::cast_precision_loss, reason = "counts far below 2^52")]

use std::time::Duration;

use gonvel_core::connector::{DeliveredTopic, SinkDefinition, ValidConnector, Wish};
use gonvel_core::naming::{ConnectionName, ConnectorId, ConnectorName};
use gonvel_core::ports::{DatabaseAddress, FleetStore, HeldLane, QuarantineStore, Settled, Step};
use gonvel_port_contracts::{leases, quarantine, readers, runners, topic_log};
use gonvel_stand_ins::test_cluster::TestCluster;
use gonvel_storage::Database;
use gonvel_storage::catalog::connections::ConnectionInput;
use gonvel_storage::quarantine::Which;
use gonvel_storage::sealing::Sealer;
use uuid::Uuid;

async fn connector(database: &Database) -> ConnectorId {
    let address = DatabaseAddress::new("nowhere.example", 5432, "settlement", "gonvel", "russet");
    let name = ConnectionName::parse("settlement").unwrap();
    let connection = database.create_connection(&ConnectionInput { name, address }).await.unwrap().id;
    let topics = vec![DeliveredTopic { topic: "orchard".into(), schema: "public".into(), table: "bins".into(), rows: None }];
    let id = ConnectorId(Uuid::now_v7());
    let definition = SinkDefinition::of(connection, topics).into();
    let valid = ValidConnector::check(id, ConnectorName::parse("settlement-tables").unwrap(), definition).unwrap();
    database.create_connector(&valid, Wish::Draft, "").await.unwrap();
    id
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn postgresql_holds_the_contracts_of_the_ports() {
    let cluster = TestCluster::start(&["gonvel"]).await;
    let database = Database::open(&cluster.url("gonvel"), Sealer::new(&[7; 32])).await.unwrap();
    let id = connector(&database).await;
    quarantine::all(&database, id, async |ids| {
        let asked = ids.len();
        assert_eq!(database.retry(&Which::Ids(ids), Some(9)).await.unwrap(), asked);
    })
    .await;
    leases::all(&database, id).await;
    topic_log::all(&database, &database, id).await;
    readers::all(&database, &database).await;
    // six that run, of one definition
    let definition = database.find_connector(id).await.unwrap().definition;
    let mut running = vec![];
    for n in 0..6 {
        let name = ConnectorName::parse(format!("sink-{n}")).unwrap();
        let valid = ValidConnector::check(ConnectorId(Uuid::now_v7()), name, definition.clone()).unwrap();
        database.create_connector(&valid, Wish::Run, "").await.unwrap();
        running.push(valid.id());
    }
    runners::all(&database, &running).await;
}

/// People and the holder of a lane take the same records at the same time, in whatever order they have them.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn records_are_asked_for_and_settled_at_once() {
    let cluster = TestCluster::start(&["gonvel"]).await;
    let database = Database::open(&cluster.url("gonvel"), Sealer::new(&[7; 32])).await.unwrap();
    let id = connector(&database).await;
    let long = Duration::from_secs(600);
    let epoch = database.acquire(id, 0, "press", long).await.unwrap().unwrap().epoch;
    let held = HeldLane { connector: id, lane: 0, epoch };
    let bad: Vec<_> = (0..300).map(|n| quarantine::bad(0, n, &format!("{n}"), "too long")).collect();
    let asking = async {
        for round in 0..60 {
            database.retry(&Which::All(id), None).await.unwrap();
            if round % 9 == 5 {
                database.discard(&Which::All(id), "grower", "a test of the scale").await.unwrap();
            }
        }
    };
    let carrying = async {
        for round in 0..60 {
            database.put(held, 1, &bad, long).await.unwrap();
            let waiting = database.waiting_keys(id, &[bad[0].at], 0, 1_000).await.unwrap();
            let mut ids: Vec<i64> = waiting.iter().map(|w| w.id).collect();
            ids.reverse();
            let settled = Settled::Failed { step: Step::Write, finding: format!("too long {round}"), cause: round };
            database.settle(held, &ids, &settled).await.unwrap();
        }
    };
    tokio::join!(asking, carrying);
}
