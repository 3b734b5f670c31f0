//! Opening Gonvel's own database: by several at once, after a newer version, and with a key that is gone.

use std::sync::Arc;
use std::time::Duration;

use gonvel_core::naming::ConnectionName;
use gonvel_core::ports::{self, RunnerStore};
use gonvel_stand_ins::test_cluster::TestCluster;
use gonvel_storage::Database;
use gonvel_storage::catalog::connections::ConnectionInput;
use gonvel_storage::database::OpenError;
use gonvel_storage::reaching::{Address, Patience};
use gonvel_storage::sealing::Sealer;

#[tokio::test(flavor = "multi_thread", worker_threads = 4)]
async fn servers_that_start_at_once_make_the_tables_once() {
    let cluster = TestCluster::start(&["gonvel"]).await;
    let url: Arc<str> = cluster.url("gonvel").into();
    let opening: Vec<_> = (0..8)
        .map(|_| {
            let url = url.clone();
            tokio::spawn(async move { Database::open(&url, Sealer::new(&[7; 32])).await.map(drop) })
        })
        .collect();
    for opened in opening {
        opened.await.unwrap().unwrap();
    }
    // a version that knows less than what is there leaves it alone
    let client = cluster.connect("gonvel").await.unwrap();
    client.batch_execute("INSERT INTO __diesel_schema_migrations (version) VALUES ('20990101000001')").await.unwrap();
    let refused = Database::open(&url, Sealer::new(&[7; 32])).await.err().unwrap();
    assert!(matches!(&refused, OpenError::Newer(version) if version == "20990101000001"), "{refused}");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_key_that_is_gone_is_no_new_key_where_secrets_are_kept() {
    let cluster = TestCluster::start(&["gonvel"]).await;
    let url = cluster.url("gonvel");
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("secret.key");
    let database = Database::open(&url, Sealer::from_file(&file).unwrap()).await.unwrap();
    assert!(file.exists(), "the first key is kept");
    // nothing is sealed yet: another key is as good
    std::fs::remove_file(&file).unwrap();
    drop(database);
    let database = Database::open(&url, Sealer::from_file(&file).unwrap()).await.unwrap();
    let address = ports::Address::new("postgresql").with("user", "picker").with_secret("password", "russet");
    let input = ConnectionInput { name: ConnectionName::parse("packhouse").unwrap(), address };
    database.create_connection(&input).await.unwrap();
    let kept = std::fs::read(&file).unwrap();
    std::fs::remove_file(&file).unwrap();
    let refused = Database::open(&url, Sealer::from_file(&file).unwrap()).await.err().unwrap();
    assert!(refused.to_string().contains("bring the key file back") && !file.exists(), "{refused}");
    std::fs::write(&file, kept).unwrap();
    Database::open(&url, Sealer::from_file(&file).unwrap()).await.unwrap();
}

/// Planning and bringing the tables up to date have nothing to do with each other.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_runner_that_plans_keeps_no_server_from_starting() {
    let cluster = TestCluster::start(&["gonvel"]).await;
    let url = cluster.url("gonvel");
    let database = Database::open(&url, Sealer::new(&[7; 32])).await.unwrap();
    let held = cluster.connect("gonvel").await.unwrap();
    held.batch_execute("BEGIN; LOCK TABLE runners IN ACCESS EXCLUSIVE MODE").await.unwrap();
    let planning = tokio::spawn({
        let database = database.clone();
        async move { database.share_out().await }
    });
    let other = cluster.connect("gonvel").await.unwrap();
    let plans = "SELECT 1 FROM pg_locks a JOIN pg_locks r USING (pid) WHERE a.locktype = 'advisory' AND r.relation = 'runners'::regclass AND NOT r.granted";
    while other.query_opt(plans, &[]).await.unwrap().is_none() {
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
    let opening = Database::open(&url, Sealer::new(&[7; 32]));
    tokio::time::timeout(Duration::from_secs(10), opening).await.expect("it starts").unwrap();
    held.batch_execute("ROLLBACK").await.unwrap();
    planning.await.unwrap().unwrap();

    // who waits for another that does not come to an end is told of it
    held.batch_execute("SELECT pg_advisory_lock(7453297363108233219)").await.unwrap();
    let address = Address::parse(&url).unwrap();
    let patience = Patience { migration: Duration::from_secs(1), ..Patience::default() };
    let refused = Database::open_at(address.patient(patience), Sealer::new(&[7; 32])).await.err().unwrap().to_string();
    assert!(refused.contains("another process") && refused.contains("start this one again"), "{refused}");
}
