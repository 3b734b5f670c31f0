//! Encrypted sessions with a real server: what each mode takes and what it refuses, for both kinds of session.

use gonvel_connectors::postgres::address::DatabaseAddress;
use gonvel_connectors::postgres::client::connect;
use gonvel_connectors::postgres::replication::ReplicationSession;
use gonvel_connectors::postgres::tls::check_ca;
use gonvel_core::ports::TlsMode;
use gonvel_core::ports::systems::ConnectorError;
use gonvel_stand_ins::postgres_cluster::OWNER;
use gonvel_stand_ins::test_cluster::TestCluster;
use gonvel_wire::authority::Authority;

/// Whether each kind of session is encrypted, or why there is none.
async fn encrypted(address: &DatabaseAddress) -> [Result<bool, ConnectorError>; 2] {
    const ASK: &str = "SELECT ssl::text FROM pg_stat_ssl WHERE pid = pg_backend_pid()";
    let ordinary = async {
        let client = connect(address).await?;
        Ok(client.query_one(ASK, &[]).await.unwrap().get::<_, String>(0) == "true")
    };
    let replication = async {
        let mut session = ReplicationSession::connect(address).await?;
        let rows = session.query(ASK, "asking").await?;
        Ok(rows[0][0].as_deref() == Some("true"))
    };
    [ordinary.await, replication.await]
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn each_mode_encrypts_or_refuses_as_it_says() {
    let cluster = TestCluster::start(&["packhouse"]).await;
    let mut address = DatabaseAddress::new("127.0.0.1", cluster.port, "packhouse", OWNER, &cluster.password);
    let (ours, other) = (Authority::new(), Authority::new());
    let fitting = ours.signs("127.0.0.1");
    let elsewhere = ours.signs("packhouse.example");
    // mode, certificates to trust, and what comes: encrypted, not, or refused at a field
    type Case<'a> = (TlsMode, Option<&'a str>, Result<bool, &'a str>);
    let trusted = Some(ours.pem.as_str());
    type Server<'a> = (Option<&'a (String, String)>, Vec<Case<'a>>);
    let servers: [Server<'_>; 3] = [
        (
            None,
            vec![
                (TlsMode::Off, None, Ok(false)),
                (TlsMode::Prefer, None, Ok(false)),
                (TlsMode::Require, None, Err("tls")),
                (TlsMode::Verify, trusted, Err("tls")),
            ],
        ),
        (
            Some(&fitting),
            vec![
                (TlsMode::Off, None, Ok(false)),
                (TlsMode::Prefer, None, Ok(true)),
                (TlsMode::Require, None, Ok(true)),
                (TlsMode::Verify, trusted, Ok(true)),
                (TlsMode::Verify, Some(&other.pem), Err("ca")),
                (TlsMode::Verify, None, Err("ca")),
            ],
        ),
        (Some(&elsewhere), vec![(TlsMode::Require, None, Ok(true)), (TlsMode::Verify, trusted, Err("tls"))]),
    ];
    for (certificate, cases) in servers {
        cluster.encrypt(certificate.map(|(c, k)| (c.as_str(), k.as_str()))).await;
        for (tls, ca, expected) in cases {
            address.tls = tls;
            address.ca = ca.map(str::to_owned);
            for found in encrypted(&address).await {
                match (&found, expected) {
                    (Ok(found), Ok(expected)) => assert_eq!(*found, expected, "{tls:?}"),
                    (Err(ConnectorError::Settings { field, .. }), Err(expected)) => {
                        assert_eq!(*field, Some(expected), "{tls:?}: {found:?}");
                    }
                    _ => panic!("{tls:?}: {found:?} in place of {expected:?}"),
                }
            }
        }
    }
}

#[test]
fn certificates_to_trust_are_read_before_they_are_kept() {
    assert!(check_ca(&Authority::new().pem).is_ok());
    for wrong in [
        "",
        "my certificate",
        "-----BEGIN CERTIFICATE-----\nAAAA\n-----END CERTIFICATE-----\n",
        "-----BEGIN CERTIFICATE-----\n",
    ] {
        let refused = check_ca(wrong).unwrap_err();
        assert!(matches!(&refused, ConnectorError::Settings { field: Some("ca"), .. }), "{wrong:?}: {refused:?}");
    }
}
