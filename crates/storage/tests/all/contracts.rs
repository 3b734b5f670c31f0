//! The ports' contracts, held by PostgreSQL.
#![allow(clippy::cast_precision_loss, reason = "counts far below 2^52")]

use std::time::Duration;

use gonvel_core::block::pack;
use gonvel_core::connector::{DeliveredTopic, SinkDefinition, ValidConnector, Wish};
use gonvel_core::naming::{ConnectionName, ConnectorId, ConnectorName, PartitionId, TopicName, TopicPartition};
use gonvel_core::ports::{
    Address, AppendBatch, FleetStore, HeldLane, LaneProgress, PartitionBlocks, QuarantineStore, RunnerStore, Settled, Step,
    TopicLog,
};
use gonvel_core::record::Record;
use gonvel_core::topic_settings::TopicSettings;
use gonvel_port_contracts::{errands, leases, quarantine, readers, runners, topic_log};
use gonvel_stand_ins::test_cluster::TestCluster;
use gonvel_storage::Database;
use gonvel_storage::catalog::connections::ConnectionInput;
use gonvel_storage::quarantine::Which;
use gonvel_storage::sealing::Sealer;
use uuid::Uuid;

async fn connector(database: &Database) -> ConnectorId {
    let address = Address::new("postgresql").with("host", "nowhere.example").with_secret("password", "russet");
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

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn errands_keep_their_contract() {
    let cluster = TestCluster::start(&["gonvel"]).await;
    let database = Database::open(&cluster.url("gonvel"), Sealer::new(&[7; 32])).await.unwrap();
    errands::each_goes_to_one_runner_of_its_place(&database).await;
}

/// Many lanes append together while their leases are renewed, in whatever order each names them.
#[tokio::test(flavor = "multi_thread", worker_threads = 4)]
async fn appends_and_renewals_of_many_lanes_do_not_wait_for_each_other_in_a_circle() {
    let cluster = TestCluster::start(&["gonvel"]).await;
    let database = Database::open(&cluster.url("gonvel"), Sealer::new(&[7; 32])).await.unwrap();
    let definition = database.find_connector(connector(&database).await).await.unwrap().definition;
    let topic = database.create_topic(&TopicName::parse("bins").unwrap(), 16, &TopicSettings::default()).await.unwrap();
    let long = Duration::from_secs(600);
    let mut held = Vec::new();
    for n in 0..16 {
        let name = ConnectorName::parse(format!("sink-{n}")).unwrap();
        let valid = ValidConnector::check(ConnectorId(Uuid::now_v7()), name, definition.clone()).unwrap();
        database.create_connector(&valid, Wish::Run, "").await.unwrap();
        let epoch = database.acquire(valid.id(), 0, "press", long).await.unwrap().unwrap().epoch;
        held.push(HeldLane { connector: valid.id(), lane: 0, epoch });
    }
    let appending = (0..).zip(&held).map(|(n, lane)| {
        let (database, to) = (&database, TopicPartition { topic: topic.id, partition: PartitionId(n) });
        async move {
            for position in 0..80_i64 {
                let progress = LaneProgress {
                    connector: lane.connector,
                    lane: lane.lane,
                    epoch: lane.epoch,
                    position: position.into(),
                    ground: database.ground(),
                };
                let blocks = pack(&[Record { value: Some("russet".into()), ..Record::default() }]);
                let parts = vec![PartitionBlocks { to, blocks }];
                database.append(AppendBatch { parts, progress: Some(progress), ..AppendBatch::default() }).await.unwrap();
            }
        }
    });
    let renewing = async {
        let mut lanes = held.clone();
        for round in 0..120 {
            lanes.rotate_left(round % 7);
            lanes.reverse();
            assert_eq!(database.renew(&lanes, long).await.unwrap(), []);
        }
    };
    tokio::join!(futures::future::join_all(appending), renewing);
    let client = cluster.connect("gonvel").await.unwrap();
    tokio::time::sleep(Duration::from_millis(1_200)).await;
    let stood = "SELECT deadlocks FROM pg_stat_database WHERE datname = 'gonvel'";
    assert_eq!(client.query_one(stood, &[]).await.unwrap().get::<_, i64>(0), 0);
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
                database.discard(&Which::All(id), i64::MAX, "grower", "a test of the scale").await.unwrap();
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
