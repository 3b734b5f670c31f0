//! Databases behind an SSH server, an HTTP proxy and a SOCKS5 proxy that nobody here wrote.

use std::time::Duration;

use futures::StreamExt;
use gonvel_connectors::postgres::address::DatabaseAddress;
use gonvel_connectors::postgres::client::{Client, connect};
use gonvel_connectors::postgres::kind::Postgres;
use gonvel_connectors::postgres::replication::ReplicationSession;
use gonvel_connectors::reaching::{Reaching, Through, Way};
use gonvel_core::ports::systems::{ConnectorError, Kind};
use gonvel_core::ports::{Address, TlsMode};
use gonvel_core::secret::Secret;
use gonvel_port_contracts::kind::says_what_is_wrong;
use gonvel_stand_ins::gates::{Gate, LOCKED_WITH, LOGIN, SshServer};
use gonvel_stand_ins::postgres_cluster::OWNER;
use gonvel_stand_ins::test_cluster::TestCluster;
use gonvel_wire::authority::Authority;

fn secret(text: &str) -> Option<Secret<String>> {
    Some(Secret::new(text.to_owned()))
}

fn proxy(way: Way, gate: &Gate) -> Through {
    let (user, password) = LOGIN;
    let host = "127.0.0.1".to_owned();
    Through { way, host, port: gate.port, user: Some(user.into()), password: secret(password), key: None, host_key: None }
}

fn jump(server: &SshServer) -> Through {
    Through {
        way: Way::JumpHost,
        host: "127.0.0.1".into(),
        port: server.gate.port,
        user: Some(server.user.clone()),
        password: None,
        key: secret(&server.key),
        host_key: Some(server.host_keys[0].clone()),
    }
}

fn through(cluster: &TestCluster, host: &str, through: &Through) -> DatabaseAddress {
    DatabaseAddress {
        reaching: Reaching { through: Some(through.clone()), ..Reaching::default() },
        ..DatabaseAddress::new(host, cluster.port, "packhouse", OWNER, &cluster.password)
    }
}

async fn one(client: &Client, query: &str) -> String {
    client.query_one(query, &[]).await.unwrap().get(0)
}

/// Both kinds of session reach the database, encrypted or not, and a whole answer of some MiB comes as it is.
async fn leads(address: &DatabaseAddress, said: &str) {
    let client = connect(address).await.unwrap_or_else(|e| panic!("{said}: {e}"));
    let long = one(&client, "SELECT string_agg(md5(n::text), '') FROM generate_series(1, 200000) n").await;
    assert_eq!(long.len(), 200_000 * 32, "{said}");
    let mut session = ReplicationSession::connect(address).await.unwrap_or_else(|e| panic!("{said}: {e}"));
    assert_eq!(
        session.query("SELECT current_database()", "asking").await.unwrap()[0][0].as_deref(),
        Some("packhouse"),
        "{said}"
    );
    let report = Postgres.test(&address.into()).await;
    assert!(report.iter().all(|check| check.field.is_none()), "{said}: {report:?}");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn each_way_leads_to_the_database() {
    let cluster = TestCluster::start(&["packhouse"]).await;
    let authority = Authority::new();
    let (certificate, key) = authority.signs("localhost");
    cluster.encrypt(Some((&certificate, &key))).await;
    let (http, socks, ssh) = (Gate::http(), Gate::socks(), Gate::ssh());
    let fingerprint = {
        let shown = connect(&through(&cluster, "localhost", &Through { host_key: None, ..jump(&ssh) })).await.err().unwrap();
        let text = shown.to_string();
        text.split_whitespace().find(|word| word.starts_with("SHA256:")).unwrap().trim_end_matches([':', ',']).to_owned()
    };
    let known = format!("gate.orchard.example {}", ssh.host_keys[0]);
    for (said, way) in [
        ("HTTP", proxy(Way::HttpProxy, &http)),
        ("SOCKS5", proxy(Way::Socks5Proxy, &socks)),
        ("SSH", jump(&ssh)),
        ("its other key", Through { host_key: Some(ssh.host_keys[1].clone()), ..jump(&ssh) }),
        ("a host key of RSA", Through { host_key: Some(ssh.host_keys[2].clone()), ..jump(&ssh) }),
        ("a key of RSA", Through { key: secret(&ssh.rsa_key), ..jump(&ssh) }),
        ("a line of known hosts", Through { host_key: Some(known), ..jump(&ssh) }),
        ("its fingerprint", Through { host_key: Some(fingerprint), ..jump(&ssh) }),
        ("a locked key", Through { key: secret(&ssh.locked_key), password: secret(LOCKED_WITH), ..jump(&ssh) }),
    ] {
        let mut address = through(&cluster, "localhost", &way);
        Postgres.check(&Address::from(&address)).unwrap();
        leads(&address, said).await;
        address.reaching.tls = TlsMode::Verify;
        address.reaching.ca = Some(authority.pem.clone());
        leads(&address, said).await;
    }
}

/// The server takes three who have not logged in yet: of a fleet that logs in all at once most would be refused.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_fleet_logs_in_to_a_jump_host_in_turn_and_again_after_it_was_down() {
    let cluster = TestCluster::start(&["packhouse"]).await;
    let mut ssh = Gate::ssh();
    let address = through(&cluster, "127.0.0.1", &jump(&ssh));
    for round in 0..2 {
        let clients = futures::future::join_all((0..20).map(|_| connect(&address))).await;
        let clients: Vec<Client> =
            clients.into_iter().collect::<Result<_, _>>().unwrap_or_else(|e| panic!("round {round}: {e}"));
        assert_eq!(
            one(&clients[19], "SELECT count(*)::text FROM pg_stat_activity WHERE application_name = 'gonvel'").await,
            "20"
        );
        ssh.gate.kill();
        for client in &clients {
            let ended = tokio::time::timeout(Duration::from_secs(10), client.query_one("SELECT 1", &[])).await;
            assert!(ended.expect("a session that ended is known to have").is_err());
        }
        let down = connect(&address).await.err().unwrap();
        assert!(matches!(&down, ConnectorError::TryAgain { field: Some("through_host"), .. }), "{down:?}");
        ssh.gate.start_again();
    }
}

/// Whoever does not read what comes keeps nobody else waiting.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_session_that_is_not_read_holds_up_no_other_through_the_same_gate() {
    let cluster = TestCluster::start(&["packhouse"]).await;
    let (http, socks, ssh) = (Gate::http(), Gate::socks(), Gate::ssh());
    for way in [proxy(Way::HttpProxy, &http), proxy(Way::Socks5Proxy, &socks), jump(&ssh)] {
        let address = through(&cluster, "127.0.0.1", &way);
        let (held, other) = (connect(&address).await.unwrap(), connect(&address).await.unwrap());
        let long = held.query_raw("SELECT repeat('x', 1000) FROM generate_series(1, 200000)", &[] as &[i32; 0]);
        let mut rows = Box::pin(long.await.unwrap());
        assert!(rows.next().await.is_some());
        tokio::time::sleep(Duration::from_millis(500)).await;
        let answer = tokio::time::timeout(Duration::from_secs(5), one(&other, "SELECT 'here'"));
        assert_eq!(answer.await.expect("it is not kept waiting"), "here", "{way:?}");
        assert_eq!(rows.count().await, 199_999, "{way:?}");
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_is_wrong_with_the_way_is_told_at_its_setting() {
    let cluster = TestCluster::start(&["packhouse"]).await;
    let (http, socks, ssh, other) = (Gate::http(), Gate::socks(), Gate::ssh(), Gate::ssh());
    let (http, socks, ssh) = (proxy(Way::HttpProxy, &http), proxy(Way::Socks5Proxy, &socks), jump(&ssh));
    let bad = |right: &Through| Through { password: secret("winter gold"), ..right.clone() };
    let nobody = |right: &Through| Through { user: None, password: None, ..right.clone() };
    let elsewhere = |right: &Through| Through { host: "nowhere.invalid".into(), ..right.clone() };
    let nothing = |right: &Through| Through { port: 1, ..right.clone() };
    let mut wrong = vec![
        ("through_key", Through { key: secret("winter gold"), ..ssh.clone() }),
        ("through_key", Through { key: secret(&other.key), ..ssh.clone() }),
        ("through_key", Through { key: None, ..ssh.clone() }),
        ("through_key", Through { user: Some("nobody".into()), ..ssh.clone() }),
        ("through_password", Through { key: secret(&other.locked_key), ..ssh.clone() }),
        ("through_password", Through { key: secret(&other.locked_key), password: secret("winter gold"), ..ssh.clone() }),
        ("through_password", Through { key: None, password: secret("winter gold"), ..ssh.clone() }),
        ("through_user", Through { user: None, ..ssh.clone() }),
        ("through_host_key", Through { host_key: None, ..ssh.clone() }),
        ("through_host_key", Through { host_key: Some("winter gold".into()), ..ssh.clone() }),
        ("through_host_key", Through { host_key: Some(other.host_keys[0].clone()), ..ssh.clone() }),
        ("through_host", Through { host: "/run/ssh".into(), ..ssh.clone() }),
        // what answers there is no SSH server, and no proxy
        ("through_host", Through { port: cluster.port, ..ssh.clone() }),
    ];
    for right in [&http, &socks] {
        wrong.extend([("through_password", bad(right)), ("through_user", nobody(right))]);
    }
    for right in [&http, &socks, &ssh] {
        wrong.extend([("through_host", elsewhere(right)), ("through_host", nothing(right))]);
    }
    for (field, way) in &wrong {
        let address = Address::from(through(&cluster, "127.0.0.1", way));
        says_what_is_wrong(&Postgres, std::slice::from_ref(&address)).await;
        let told = match Postgres.check(&address) {
            Err(error) => error.field().map(str::to_owned),
            Ok(()) => Postgres.test(&address).await.into_iter().find_map(|check| check.field),
        };
        assert_eq!(told.as_deref(), Some(*field), "{way:?}");
    }
    for right in [&http, &socks, &ssh] {
        let behind = DatabaseAddress { port: 1, ..through(&cluster, "127.0.0.1", right) };
        let report = Postgres.test(&behind.into()).await;
        assert_eq!(report[0].field.as_deref(), Some("host"), "{report:?}");
    }
}

#[test]
fn a_changed_way_guards_a_kept_secret_less() {
    let whole = Address::from(DatabaseAddress::new("db.orchard.example", 5432, "packhouse", "gonvel", "russet"))
        .with("tls", "verify")
        .with("through", "jump_host")
        .with("through_host", "gate.orchard.example")
        .with("through_user", "picker")
        .with("through_host_key", "SHA256:x");
    assert_eq!(Postgres.guards_less(&whole, &whole), None);
    assert_eq!(Postgres.guards_less(&whole, &whole.clone().with("connect_seconds", 20)), None);
    let elsewhere = whole.clone().with("only_where", serde_json::json!({"site": "packhouse"}));
    assert!(Postgres.guards_less(&whole, &elsewhere).is_some());
    for (name, value) in [
        ("through", "directly"),
        ("through_host", "gate.coldstore.example"),
        ("through_host_key", "SHA256:y"),
        ("tls", "off"),
    ] {
        assert!(Postgres.guards_less(&whole, &whole.clone().with(name, value)).is_some(), "{name}");
    }
}
