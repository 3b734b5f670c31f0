//! Connections and connectors as they are stored.

use std::time::Duration;

use gonvel_core::connector::{CapturedTable, ExistingRows, SourceDefinition, ValidConnector, Wish};
use gonvel_core::naming::{ConnectionName, ConnectorId, ConnectorName, SchemaId, SchemaName, TopicName};
use gonvel_core::ports::{Address, FleetStore, PortError, RunnerStore, SchemaStore};
use gonvel_core::preflight::{Check, KeptReport};
use gonvel_core::schemas::{Half, Language, Rule};
use gonvel_port_contracts::runners::{heartbeat, lanes_of};
use gonvel_stand_ins::test_cluster::TestCluster;
use gonvel_storage::Database;
use gonvel_storage::catalog::connections::ConnectionInput;
use gonvel_storage::catalog::schemas::{About, NewText};
use gonvel_storage::sealing::Sealer;
use uuid::Uuid;

fn input(name: &str, password: &str) -> ConnectionInput {
    let address =
        Address::new("postgresql").with("host", "packhouse.example").with("port", 5432).with("database", "packhouse");
    let address = address.with("user", "gonvel").with_secret("password", password);
    ConnectionInput { name: ConnectionName::parse(name).unwrap(), address }
}

fn source(name: &str, connection: Uuid) -> ValidConnector {
    let tables = vec![CapturedTable::whole("public", "bins", "packhouse.bins")];
    let definition = SourceDefinition::of(connection, tables, 1).into();
    ValidConnector::check(ConnectorId(Uuid::now_v7()), ConnectorName::parse(name).unwrap(), definition).unwrap()
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_password_is_stored_sealed_and_lost_without_its_key() {
    let cluster = TestCluster::start(&["gonvel"]).await;
    let database = Database::open(&cluster.url("gonvel"), Sealer::new(&[7; 32])).await.unwrap();
    let made = database.create_connection(&input("packhouse", "winter gold")).await.unwrap();
    assert_eq!(database.address(made.id).await.unwrap().secrets["password"].expose(), "winter gold");
    let client = cluster.connect("gonvel").await.unwrap();
    let stored: String = client
        .query_one("SELECT connections::text || encode(sealed_password, 'escape') || encode(decode(sealed ->> 'password', 'base64'), 'escape')
               FROM connections", &[])
        .await
        .unwrap()
        .get(0);
    assert!(!stored.contains("winter gold"), "{stored}");

    let moved = database.replace_connection(made.id, made.revision, &input("packhouse-2", "early amber")).await.unwrap();
    assert_eq!((moved.revision, moved.name.as_str()), (2, "packhouse-2"));
    let late = database.replace_connection(made.id, made.revision, &input("packhouse-3", "late")).await;
    assert!(matches!(&late, Err(PortError::Changed { what }) if what.contains("packhouse-2")), "{late:?}");
    assert_eq!(database.address(made.id).await.unwrap().secrets["password"].expose(), "early amber");

    let other = Database::open(&cluster.url("gonvel"), Sealer::new(&[8; 32])).await.unwrap();
    let error = other.address(made.id).await.unwrap_err().to_string();
    assert!(error.contains("sealed with the key") && error.contains("which is not here"), "{error}");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn names_are_unique_and_what_is_used_stays() {
    let cluster = TestCluster::start(&["gonvel"]).await;
    let database = Database::open(&cluster.url("gonvel"), Sealer::new(&[7; 32])).await.unwrap();
    let packhouse = database.create_connection(&input("packhouse", "x")).await.unwrap();
    let spare = database.create_connection(&input("spare", "x")).await.unwrap();
    let taken = database.create_connection(&input("packhouse", "x")).await;
    assert!(matches!(taken, Err(PortError::Exists { .. })));
    let taken = database.replace_connection(spare.id, spare.revision, &input("packhouse", "x")).await;
    assert!(matches!(taken, Err(PortError::Exists { .. })));

    let connector = source("changes", packhouse.id);
    database.create_connector(&connector, Wish::Draft, "").await.unwrap();
    let twice = database.create_connector(&source("changes", packhouse.id), Wish::Run, "").await;
    assert!(matches!(twice, Err(PortError::Exists { .. })));
    let nowhere = database.create_connector(&source("other", Uuid::now_v7()), Wish::Run, "").await;
    assert!(matches!(nowhere, Err(PortError::NotFound { .. })));
    assert_eq!(database.connectors().await.unwrap().len(), 1, "a refused connector left something");

    let runner = heartbeat("near", &[], 100);
    database.join(&runner, Duration::from_secs(60)).await.unwrap();
    assert!(lanes_of(&database, &runner).await.is_empty(), "a draft is not run");
    database.ask(connector.id(), Wish::Run, "grower").await.unwrap();
    assert_eq!(lanes_of(&database, &runner).await, [(connector.id(), 0)]);
    assert_eq!(database.connector(connector.id()).await.unwrap().as_ref(), Some(&connector));
    let used = database.delete_connection(packhouse.id).await.unwrap_err().to_string();
    assert!(used.contains("used by changes"), "{used}");
    database.delete_connection(spare.id).await.unwrap();

    // what is to be loaded again is asked for by number: each request once, in order
    let (bins, lines) = (vec!["public.bins".to_owned()], vec!["public.lines".to_owned(), "public.bins".to_owned()]);
    assert!(database.reloads(connector.id(), 0).await.unwrap().is_empty());
    database.ask_to_load_again(connector.id(), &bins, ExistingRows::Keep).await.unwrap();
    database.ask_to_load_again(connector.id(), &lines, ExistingRows::Compare).await.unwrap();
    let asked = database.reloads(connector.id(), 0).await.unwrap();
    let said: Vec<_> = asked.iter().map(|asked| (&asked.tables, asked.existing_rows)).collect();
    assert_eq!(said, [(&bins, ExistingRows::Keep), (&lines, ExistingRows::Compare)]);
    assert_eq!(database.reloads(connector.id(), asked[0].number).await.unwrap(), asked[1..]);
    assert!(database.reloads(connector.id(), asked[1].number).await.unwrap().is_empty());
    let nowhere = database.ask_to_load_again(ConnectorId(Uuid::now_v7()), &bins, ExistingRows::Keep).await;
    assert!(matches!(nowhere, Err(PortError::NotFound { .. })));
    // a report stays until the next one
    assert_eq!(database.report(connector.id()).await.unwrap(), None);
    for took_ms in [1, 2] {
        let checks = vec![Check::failed("wal_level", "connection", "wal_level is replica").statement("ALTER SYSTEM …")];
        let report = KeptReport { at_us: 7, took_ms, checks };
        database.keep_report(connector.id(), &report).await.unwrap();
        assert_eq!(database.report(connector.id()).await.unwrap(), Some(report));
    }

    database.ask(connector.id(), Wish::Delete, "").await.unwrap();
    let late = database.ask(connector.id(), Wish::Run, "").await;
    assert!(matches!(late, Err(PortError::Refused(_))), "a connector that is being deleted takes no other wish");
    database.remove_connector(connector.id()).await.unwrap();
    assert!(matches!(database.find_connector(connector.id()).await, Err(PortError::NotFound { .. })));
    database.delete_connection(packhouse.id).await.unwrap();
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_schema_s_text_is_one_version_of_its_topic_however_often_it_comes() {
    let cluster = TestCluster::start(&["gonvel"]).await;
    let database = Database::open(&cluster.url("gonvel"), Sealer::new(&[7; 32])).await.unwrap();
    let topic = TopicName::parse("packhouse.bins").unwrap();
    let text = |kind: &str| format!(r#"{{"type":"record","name":"Bin","fields":[{{"name":"id","type":"{kind}"}}]}}"#);
    let (long, int) = (text("long"), text("int"));
    let asked = (0..6).map(|n| database.register(&topic, "value", if n % 2 == 0 { &long } else { &int }, ""));
    let ids: Vec<i64> = futures::future::join_all(asked).await.into_iter().map(|id| id.unwrap().0).collect();
    assert!(ids.chunks(2).all(|pair| pair == &ids[..2]) && ids[0] != ids[1], "{ids:?}");
    let versions = "SELECT string_agg(version::text, ',' ORDER BY version) FROM schema_versions";
    let found: String = cluster.connect("gonvel").await.unwrap().query_one(versions, &[]).await.unwrap().get(0);
    assert_eq!(found, "1,2");
    assert_eq!(database.schema_text(SchemaId(ids[0])).await.unwrap(), long);
    assert!(matches!(database.register(&topic, "value", "{", "").await, Err(PortError::Refused(_))));

    // once the schema has a rule, it holds for what connectors bring as well
    let name = SchemaName::parse("packhouse.bins.value").unwrap();
    let rule = Rule { reads_past: Half::All, past_reads: Half::Off };
    database.change_schema(&name, 1, &About { rule, ..About::default() }).await.unwrap();
    let refused = database.register(&topic, "value", &text("string"), "packhouse-changes").await.unwrap_err();
    assert!(refused.to_string().contains("at $.id data is int, string is expected"), "{refused}");
    // the longest topic's schema has a name that can be asked for
    let longest = TopicName::parse("x".repeat(200)).unwrap();
    let id = database.register(&longest, "key", &long, "").await.unwrap();
    let (name, _) = database.schema_of_version(id.0).await.unwrap();
    assert_eq!(database.schema(&SchemaName::parse(name).unwrap()).await.unwrap().1.len(), 1);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn schemas_from_before_they_had_names_are_named_bound_and_searched() {
    let cluster = TestCluster::start(&["gonvel"]).await;
    let open = async || Database::open(&cluster.url("gonvel"), Sealer::new(&[7; 32])).await.unwrap();
    drop(open().await);
    // as it was before
    let client = cluster.connect("gonvel").await.unwrap();
    client.batch_execute(include_str!("../../migrations/2026-11-25-000005_registry/down.sql")).await.unwrap();
    client.batch_execute("DELETE FROM __diesel_schema_migrations WHERE version = '20261125000005'").await.unwrap();
    let longest = "x".repeat(200);
    client
        .batch_execute(&format!(
            r#"INSERT INTO topics (name, partitions) VALUES ('packhouse.bins', 1), ('{longest}', 1);
               INSERT INTO schemas (id, topic, role, version, text, fingerprint) VALUES
                 (7, 'packhouse.bins', 'value', 1, '{{"type":"record","name":"Bin","fields":[{{"name":"id","type":"int"}}]}}', 1),
                 (8, 'packhouse.bins', 'value', 2, '{{"type":"record","name":"Bin","fields":[{{"name":"id","type":"long"}}]}}', 2),
                 (9, 'packhouse.bins', 'key', 1, '"long"', 3), (10, 'gone', 'value', 1, '"long"', 4), (11, '{longest}', 'key', 1, '"long"', 5)"#
        ))
        .await
        .unwrap();
    let database = open().await;
    let of = |topic: &str| TopicName::parse(topic).unwrap();
    let found = database.schemas_of(&of("packhouse.bins")).await.unwrap();
    let found: Vec<_> = found.iter().map(|v| (v.id, v.name.as_str(), v.role.as_str(), v.version)).collect();
    let value = "packhouse.bins.value";
    assert_eq!(found, [(9, "packhouse.bins.key", "key", 1), (7, value, "value", 1), (8, value, "value", 2)]);
    assert_eq!(database.schema(&SchemaName::parse("gone.value").unwrap()).await.unwrap().1[0].id, 10);
    let cut = database.schemas_of(&of(&longest)).await.unwrap().remove(0).name;
    assert_eq!(database.schema(&SchemaName::parse(cut).unwrap()).await.unwrap().1.len(), 1);
    // records keep their numbers, fields are searched, and what a connector brings goes on from there
    assert!(database.schema_version(SchemaId(7)).await.unwrap().1.contains("int"));
    let hit = database.search_schemas("id", "", 10).await.unwrap();
    assert!(hit.iter().any(|s| s.schema.name == value && s.fields == ["id"]), "{hit:?}");
    let next = r#"{"type":"record","name":"Bin","fields":[{"name":"id","type":"string"}]}"#;
    let id = database.register(&of("packhouse.bins"), "value", next, "").await.unwrap();
    assert_eq!(database.schema_of_version(id.0).await.unwrap(), (value.to_owned(), 3));
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn versions_that_come_at_once_are_counted_without_a_gap_and_each_keeps_the_rule_with_all_before_it() {
    let cluster = TestCluster::start(&["gonvel"]).await;
    let database = Database::open(&cluster.url("gonvel"), Sealer::new(&[7; 32])).await.unwrap();
    let name = SchemaName::parse("bins").unwrap();
    let text = |n: usize| {
        let kind = if n.is_multiple_of(2) { r#""type":"int","default":0"# } else { r#""type":"string","default":"""# };
        format!(
            r#"{{"type":"record","name":"Bin","doc":"{n}","fields":[{{"name":"id","type":"long"}},{{"name":"kind",{kind}}}]}}"#
        )
    };
    let parsed = |text: &str| gonvel_core::schemas::parse(Language::Avro, text, &[]).unwrap();
    let first = r#"{"type":"record","name":"Bin","fields":[{"name":"id","type":"long"}]}"#;
    let rule = Rule { reads_past: Half::All, past_reads: Half::All };
    let base = parsed(first);
    let new = NewText { text: first, parsed: &base, refers: &[], author: "", why: "" };
    database.create_schema(&name, Language::Avro, &About { rule, ..About::default() }, &new).await.unwrap();
    let texts: Vec<String> = (0..12).map(text).collect();
    let all: Vec<_> = texts.iter().map(|t| parsed(t)).collect();
    let added = texts.iter().zip(&all).map(|(text, parsed)| {
        let (database, name) = (&database, &name);
        async move { database.add_version(name, &NewText { text, parsed, refers: &[], author: "", why: "" }).await }
    });
    // one kind excludes the other: whichever is first decides for all that follow
    let outcomes = futures::future::join_all(added).await;
    let mut taken: Vec<i32> = outcomes.iter().filter_map(|o| o.as_ref().ok().copied()).collect();
    taken.sort_unstable();
    assert_eq!(taken, (2..=7).collect::<Vec<_>>());
    assert!(outcomes.iter().all(|o| o.is_ok() || matches!(o, Err(PortError::Refused(e)) if e.contains("$.kind"))));
    // in another language it is no version of this schema
    let json = gonvel_core::schemas::parse(Language::JsonSchema, "{}", &[]).unwrap();
    let other = NewText { text: "{}", parsed: &json, refers: &[], author: "", why: "" };
    assert!(matches!(database.add_version(&name, &other).await, Err(PortError::Refused(e)) if e.contains("json-schema")));
}
