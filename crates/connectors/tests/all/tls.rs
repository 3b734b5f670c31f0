//! Encrypted sessions with a real server: what each mode takes and what it refuses, for both kinds of session.

use gonvel_connectors::postgres::address::DatabaseAddress;
use gonvel_connectors::postgres::client::connect;
use gonvel_connectors::postgres::replication::ReplicationSession;
use gonvel_connectors::reaching::{Own, Reaching};
use gonvel_core::ports::TlsMode;
use gonvel_core::ports::systems::ConnectorError;
use gonvel_core::secret::Secret;
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
            address.reaching.tls = tls;
            address.reaching.ca = ca.map(str::to_owned);
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

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_user_logs_in_with_a_certificate_and_no_password() {
    let cluster = TestCluster::start(&["packhouse"]).await;
    let owner = cluster.connect("packhouse").await.unwrap();
    owner.batch_execute("CREATE ROLE picker LOGIN REPLICATION").await.unwrap();
    let (ours, other) = (Authority::new(), Authority::new());
    let server = ours.signs("127.0.0.1");
    cluster.ask_for_certificate("picker", &ours.pem, (&server.0, &server.1)).await;
    let shown = |(certificate, key): (String, String)| Some(Own { certificate, key: Secret::new(key) });
    let mut address = DatabaseAddress::new("127.0.0.1", cluster.port, "packhouse", "picker", "");
    address.reaching = Reaching { tls: TlsMode::Verify, ca: Some(ours.pem.clone()), ..Reaching::default() };
    for (own, expected) in [
        (shown(ours.signs("picker")), Ok(true)),
        (None, Err("certificate")),
        (shown(ours.signs("packer")), Err("certificate")),
        (shown(other.signs("picker")), Err("certificate")),
    ] {
        address.reaching.own = own;
        for found in encrypted(&address).await {
            match (&found, expected) {
                (Ok(found), Ok(expected)) => assert_eq!(*found, expected),
                (Err(error @ ConnectorError::Settings { .. }), Err(expected)) => {
                    assert_eq!(error.field(), Some(expected), "{error}")
                }
                _ => panic!("{found:?} in place of {expected:?}"),
            }
        }
    }
}

#[test]
fn certificates_are_read_before_they_are_kept() {
    let check = |ca: Option<&str>, own: Option<Own>| {
        let reaching = Reaching { ca: ca.map(str::to_owned), own, ..Reaching::default() };
        reaching.check().and_then(|()| reaching.check_secrets())
    };
    let authority = Authority::new();
    let own = |certificate: &str, key: &str| Some(Own { certificate: certificate.into(), key: Secret::new(key.into()) });
    let (certificate, key) = authority.signs("picker");
    let (_, other) = authority.signs("packer");
    assert!(check(Some(&authority.pem), own(&certificate, &key)).is_ok());
    for wrong in [
        "",
        "my certificate",
        "-----BEGIN CERTIFICATE-----\nAAAA\n-----END CERTIFICATE-----\n",
        "-----BEGIN CERTIFICATE-----\n",
    ] {
        let refused = check(Some(wrong), None).unwrap_err();
        assert_eq!(refused.field(), Some("ca"), "{wrong:?}: {refused:?}");
        let refused = check(None, own(wrong, &key)).unwrap_err();
        assert_eq!(refused.field(), Some("certificate"), "{wrong:?}: {refused:?}");
    }
    for (wrong, field) in [("", "certificate_key"), ("my key", "certificate"), (other.as_str(), "certificate")] {
        let refused = check(None, own(&certificate, wrong)).unwrap_err();
        assert_eq!(refused.field(), Some(field), "{refused:?}");
    }
}
