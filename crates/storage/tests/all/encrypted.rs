//! Sessions with Gonvel's own database, encrypted as each mode says.

use gonvel_core::naming::TopicName;
use gonvel_core::ports::{TlsMode, TopicLog};
use gonvel_core::topic_settings::TopicSettings;
use gonvel_stand_ins::test_cluster::TestCluster;
use gonvel_storage::Database;
use gonvel_storage::reaching::{Address, Shown};
use gonvel_storage::sealing::Sealer;
use gonvel_wire::authority::Authority;

/// Sessions of this process: how many are encrypted, and how many are not, and the names that they showed.
async fn sessions(cluster: &TestCluster) -> (i64, i64, Vec<String>) {
    let own = cluster.connect("postgres").await.unwrap();
    let row = own
        .query_one(
            "SELECT count(*) FILTER (WHERE ssl), count(*) FILTER (WHERE NOT ssl), coalesce(array_agg(DISTINCT client_serial::text)
               FILTER (WHERE client_serial IS NOT NULL), '{}')
             FROM pg_stat_ssl JOIN pg_stat_activity USING (pid) WHERE datname = 'gonvel'",
            &[],
        )
        .await
        .unwrap();
    (row.get(0), row.get(1), row.get(2))
}

/// Ends what is left of a database that was opened before.
async fn end_sessions(cluster: &TestCluster) {
    let own = cluster.connect("postgres").await.unwrap();
    let end = "SELECT count(pg_terminate_backend(pid, 5000)) FROM pg_stat_activity WHERE datname = 'gonvel'";
    own.query_one(end, &[]).await.unwrap();
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn sessions_with_the_own_database_are_encrypted_or_refused_as_the_mode_says() {
    let cluster = TestCluster::start(&["gonvel"]).await;
    let (ours, other) = (Authority::new(), Authority::new());
    let (server, elsewhere) = (ours.signs("127.0.0.1"), ours.signs("db.example"));
    let trusted = Some(ours.pem.as_str());
    type Case<'a> = (TlsMode, Option<&'a str>, Result<bool, &'a str>);
    type Server<'a> = (Option<&'a (String, String)>, Vec<Case<'a>>);
    let servers: [Server<'_>; 3] = [
        (None, vec![(TlsMode::Prefer, None, Ok(false)), (TlsMode::Require, None, Err("ssl = on"))]),
        (
            Some(&server),
            vec![
                (TlsMode::Off, None, Ok(false)),
                (TlsMode::Prefer, None, Ok(true)),
                (TlsMode::Require, None, Ok(true)),
                (TlsMode::Verify, trusted, Ok(true)),
                (TlsMode::Verify, Some(&other.pem), Err("is not trusted")),
            ],
        ),
        (Some(&elsewhere), vec![(TlsMode::Verify, trusted, Err("is not trusted"))]),
    ];
    for (certificate, cases) in servers {
        cluster.encrypt(certificate.map(|(certificate, key)| (certificate.as_str(), key.as_str()))).await;
        for (mode, ca, wanted) in cases {
            let address = Address::parse(&cluster.url("gonvel")).unwrap().encrypted(mode, ca, None).unwrap();
            end_sessions(&cluster).await;
            match (Database::open_at(address, Sealer::new(&[7; 32])).await, wanted) {
                (Ok(database), Ok(encrypted)) => {
                    database.topics().await.unwrap();
                    let (with, without, _) = sessions(&cluster).await;
                    assert_eq!((with > 0, without > 0), (encrypted, !encrypted), "{mode:?}: {with} and {without}");
                }
                (Err(error), Err(part)) => assert!(error.to_string().contains(part), "{mode:?}: {error}"),
                (opened, wanted) => panic!("{mode:?}: {:?}, and {wanted:?} was expected", opened.map(|_| ())),
            }
        }
    }

    // what this side shows of itself is asked for, and every session has it: of the pool, the appender, the migrations
    cluster.encrypt(Some((&server.0, &server.1))).await;
    let own = cluster.connect("postgres").await.unwrap();
    let folder: String = own.query_one("SHOW data_directory", &[]).await.unwrap().get(0);
    std::fs::write(format!("{folder}/clients.crt"), &ours.pem).unwrap();
    own.batch_execute("ALTER SYSTEM SET ssl_ca_file = 'clients.crt'").await.unwrap();
    own.batch_execute("SELECT pg_reload_conf()").await.unwrap();
    tokio::time::sleep(std::time::Duration::from_secs(1)).await;
    let (certificate, key) = ours.signs("gonvel");
    let shown = Shown { certificate: &certificate, key: &key };
    let address = Address::parse(&cluster.url("gonvel")).unwrap();
    let address = address.encrypted(TlsMode::Verify, trusted, Some(shown)).unwrap();
    end_sessions(&cluster).await;
    let database = Database::open_at(address, Sealer::new(&[7; 32])).await.unwrap();
    database.create_topic(&TopicName::parse("bins").unwrap(), 1, &TopicSettings::default()).await.unwrap();
    let (with, without, shown) = sessions(&cluster).await;
    assert!(with > 0 && without == 0 && shown.len() == 1, "{with} encrypted, {without} not, certificates {shown:?}");

    // an address that is none does not repeat what it holds
    let error = Address::parse("postgresql://gonvel:pippin@db example/gonvel?none=1").unwrap_err().to_string();
    assert!(error.contains("postgresql://user@host") && !error.contains("pippin"), "{error}");
}
