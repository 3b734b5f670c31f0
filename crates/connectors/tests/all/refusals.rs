//! What a server's refusals mean: each code has a kind, a finding and a remedy, and none of them tells a secret.

use gonvel_connectors::postgres::address::DatabaseAddress;
use gonvel_connectors::postgres::client::{connect, explain, explain_write};
use gonvel_core::failure::Kind;
use gonvel_core::ports::systems::ConnectorError;
use gonvel_stand_ins::postgres_cluster::OWNER;
use gonvel_stand_ins::test_cluster::TestCluster;

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn every_refusal_has_its_kind_and_a_remedy() {
    let cluster = TestCluster::start(&["settlement"]).await;
    let client = cluster.connect("settlement").await.unwrap();
    let raised = async |code: &str| {
        let statement = format!("DO $$ BEGIN RAISE EXCEPTION 'too ripe' USING ERRCODE = '{code}'; END $$");
        client.batch_execute(&statement).await.unwrap_err()
    };
    // about the row that is written
    let rows = [
        ("22003", "wider type"),
        ("22001", "more characters"),
        ("22P02", "a type that holds it"),
        ("22007", "a type that holds it"),
        ("42804", "a type that holds it"),
        ("22021", "UTF8"),
        ("22012", "mend it in the target"),
        ("23502", "be null"),
        ("23503", "deliver the row that it refers to first"),
        ("23505", "remove the other row"),
        ("23514", "change the check"),
        ("23P01", "remove the other row"),
        ("P0001", "trigger"),
        ("54000", "too large"),
    ];
    for (code, remedy) in rows {
        let error = explain_write(&raised(code).await, "\"public\".\"bins\"");
        let text = error.to_string();
        assert_eq!(error.kind(), Kind::Record, "{code}: {text}");
        assert!(text.contains("public.bins") && text.contains(code) && text.contains(remedy), "{code}: {text}");
    }
    // about the system, a right or a setting, whatever was being done
    let others = [
        ("40P01", Kind::Busy, "tries again"),
        ("40001", Kind::Busy, "tries again"),
        ("55P03", Kind::Busy, "tries again"),
        ("53100", Kind::Full, "make room"),
        ("53200", Kind::Full, "make room"),
        ("53300", Kind::Full, "make room"),
        ("57P01", Kind::Connection, "tries again"),
        ("58030", Kind::Connection, "tries again"),
        ("42501", Kind::Settings, "grant the right"),
        ("42P01", Kind::Settings, "the table is not there"),
        ("42703", Kind::Settings, "a column is not there"),
        ("0A000", Kind::Settings, "mend it in the database"),
    ];
    for (code, kind, remedy) in others {
        let error = raised(code).await;
        for explained in [explain(&error, "reading"), explain_write(&error, "bins")] {
            let text = explained.to_string();
            assert_eq!(explained.kind(), kind, "{code}: {text}");
            assert!(text.contains("too ripe") && text.contains(remedy), "{code}: {text}");
        }
    }
    assert_eq!(ConnectorError::Fenced.kind(), Kind::Fenced);
    assert_eq!(ConnectorError::Defect("x".into()).kind(), Kind::Defect);

    // a session that is not let in, or that nobody answers
    let address =
        |password: &str, database: &str, port: u16| DatabaseAddress::new("127.0.0.1", port, database, OWNER, password);
    let refused = connect(&address("a wrong secret", "settlement", cluster.port)).await.err().unwrap();
    assert_eq!(refused.kind(), Kind::Login, "{refused}");
    assert!(!refused.to_string().contains("a wrong secret"));
    let nowhere = connect(&address(&cluster.password, "orchard", cluster.port)).await.err().unwrap();
    assert_eq!(
        (nowhere.kind(), nowhere.to_string().contains("no database \"orchard\"")),
        (Kind::Settings, true),
        "{nowhere}"
    );
    let closed = gonvel_stand_ins::postgres_cluster::free_port().unwrap();
    let silent = connect(&address(&cluster.password, "settlement", closed)).await.err().unwrap();
    assert_eq!(silent.kind(), Kind::Connection, "{silent}");
    // and one whose server ends it
    let pid: i32 = client.query_one("SELECT pg_backend_pid()", &[]).await.unwrap().get(0);
    let other = cluster.connect("settlement").await.unwrap();
    other.execute("SELECT pg_terminate_backend($1)", &[&pid]).await.unwrap();
    let ended = loop {
        if let Err(error) = client.batch_execute("SELECT 1").await {
            break explain(&error, "waiting");
        }
    };
    assert_eq!(ended.kind(), Kind::Connection, "{ended}");
}
