//! What every kind keeps, kept by each.

use std::collections::BTreeMap;
use std::time::Duration;

use gonvel_connectors::kinds::{kind, kinds};
use gonvel_connectors::postgres::address::{DatabaseAddress, Login};
use gonvel_connectors::postgres::kind::Postgres;
use gonvel_connectors::reaching::{Own, Reaching, Through, Way};
use gonvel_core::ports::systems::Kind;
use gonvel_core::ports::{Address, TlsMode};
use gonvel_core::secret::Secret;
use gonvel_port_contracts::kind::{is_described, says_what_is_wrong};
use gonvel_stand_ins::postgres_cluster::OWNER;
use gonvel_stand_ins::test_cluster::TestCluster;

#[test]
fn settings_are_described_as_they_are_taken() {
    assert!(!kinds().is_empty());
    for about in kinds() {
        is_described(kind(&about.kind).unwrap());
    }
    let unknown = kind("postgresq").err().unwrap().to_string();
    assert!(unknown.contains("perhaps postgresql is meant"), "{unknown}");
}

fn database(cluster: &TestCluster) -> DatabaseAddress {
    DatabaseAddress::new("127.0.0.1", cluster.port, "packhouse", OWNER, &cluster.password)
}

/// What is described is what an address is made of, setting by setting, and it is read as it was written.
#[test]
fn all_settings_of_a_database_are_described_and_no_others() {
    let of_few = Reaching {
        tls: TlsMode::Verify,
        ca: Some("PEM".into()),
        own: Some(Own { certificate: "PEM".into(), key: Secret::new("bramley".into()) }),
        through: Some(Through {
            way: Way::JumpHost,
            host: "gate.orchard.example".into(),
            port: 2222,
            user: Some("picker".into()),
            password: Some(Secret::new("egremont".into())),
            key: Some(Secret::new("discovery".into())),
            host_key: Some("SHA256:x".into()),
        }),
        keepalive: Duration::from_secs(60),
        patience: Duration::from_secs(20),
        only_where: [("site".to_owned(), "packhouse".to_owned())].into(),
    };
    let whole = DatabaseAddress {
        reaching: of_few,
        log_login: Some(Login { user: "tail".into(), password: Secret::new("pippin".into()) }),
        settings: BTreeMap::from([("lock_timeout".into(), "5s".into())]),
        ..DatabaseAddress::new("127.0.0.1", 5432, "packhouse", OWNER, "russet")
    };
    let address = Address::from(&whole);
    for database in [whole, DatabaseAddress::new("10.0.0.7", 1, "d", "u", "")] {
        assert_eq!(DatabaseAddress::read(&Address::from(&database)).unwrap(), database);
    }
    let nowhere = DatabaseAddress::read(&Address::new("postgresql")).unwrap_err();
    assert!(nowhere.to_string().contains("host"), "{nowhere}");
    let mut made: Vec<&str> = address.settings.keys().chain(address.secrets.keys()).map(String::as_str).collect();
    let about = Postgres.about();
    let mut described: Vec<&str> = about.settings.iter().map(|setting| setting.name.as_ref()).collect();
    made.sort_unstable();
    described.sort_unstable();
    assert_eq!(made, described);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_is_wrong_with_a_database_is_told_at_its_setting() {
    let cluster = TestCluster::start(&["packhouse"]).await;
    let right = database(&cluster);
    let secret = |text: &str| Secret::new(text.to_owned());
    let reached = |reaching| DatabaseAddress { reaching, ..right.clone() };
    let wrong = [
        DatabaseAddress { host: "/var/run/postgresql".into(), ..right.clone() },
        reached(Reaching { ca: Some("no certificate".into()), ..Reaching::default() }),
        DatabaseAddress { settings: BTreeMap::from([("a b".into(), "c".into())]), ..right.clone() },
        DatabaseAddress { settings: BTreeMap::from([("lock_timeout".into(), "winter gold".into())]), ..right.clone() },
        DatabaseAddress { host: "nowhere.invalid".into(), password: secret("winter gold"), ..right.clone() },
        DatabaseAddress { port: 1, password: secret("winter gold"), ..right.clone() },
        DatabaseAddress { database: "nowhere".into(), ..right.clone() },
        DatabaseAddress { user: "nobody".into(), password: secret("winter gold"), ..right.clone() },
        DatabaseAddress { password: secret("winter gold"), ..right.clone() },
        reached(Reaching { tls: TlsMode::Require, ..Reaching::default() }),
        DatabaseAddress {
            log_login: Some(Login { user: "nobody".into(), password: secret("early amber") }),
            ..right.clone()
        },
    ];
    let wrong: Vec<Address> = wrong.iter().map(Address::from).collect();
    says_what_is_wrong(&Postgres, &wrong).await;
}
