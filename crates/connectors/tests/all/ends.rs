//! What every kind keeps that sources read, that sinks write and that has tables, kept by each.

use std::time::Duration;

use gonvel_connectors::generator::kind::Generator;
use gonvel_connectors::postgres::address::DatabaseAddress;
use gonvel_connectors::postgres::kind::Postgres;
use gonvel_core::connector::{CapturedTable, InitialLoad};
use gonvel_core::naming::{ConnectorId, Epoch};
use gonvel_core::ports::Address;
use gonvel_core::ports::systems::{Kind, SourceSettings, Tables};
use gonvel_port_contracts::kind::says_what_is_wrong;
use gonvel_port_contracts::sink::rows_and_positions_stand_together;
use gonvel_port_contracts::source::{changes_come_once_however_often_it_is_dropped, other_positions_are_refused};
use gonvel_port_contracts::tables::rows_are_read_alike;
use gonvel_stand_ins::postgres_cluster::OWNER;
use gonvel_stand_ins::test_cluster::TestCluster;
use uuid::Uuid;

fn settings(tables: &[(&str, &str)], load: bool) -> SourceSettings {
    SourceSettings {
        connector: ConnectorId(Uuid::from_u128(7)),
        epoch: Epoch(1),
        void: None,
        tables: tables.iter().map(|(schema, table)| CapturedTable::whole(schema, table, table)).collect(),
        patterns: None,
        schema_changes: None,
        load: InitialLoad { rows: load, ..InitialLoad::default() },
        whole_rows: false,
        fetches_unsent: false,
        start: None,
    }
}

/// Two databases of one kind: rows that are loaded, and changes beside them.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_database_keeps_what_sources_need() {
    let cluster = TestCluster::start(&["packhouse"]).await;
    let client = cluster.connect("packhouse").await.unwrap();
    client
        .batch_execute(
            "CREATE TABLE bins (id int PRIMARY KEY, grade text); CREATE TABLE rooms (id bigint PRIMARY KEY, label text);
             INSERT INTO rooms SELECT n, 'room ' || n FROM generate_series(1, 20) n",
        )
        .await
        .unwrap();
    let address = Address::from(DatabaseAddress::new("127.0.0.1", cluster.port, "packhouse", OWNER, &cluster.password));
    rows_are_read_alike(&Postgres, &address, ("public", "rooms")).await;
    let source = Postgres.source().unwrap();
    other_positions_are_refused(source);
    let tables = settings(&[("public", "bins"), ("public", "rooms")], false);
    let fill = async || {
        for n in 0..30 {
            let change = format!(
                "INSERT INTO bins VALUES ({n}, 'first'); UPDATE bins SET grade = 'second' WHERE id = {n};
                 UPDATE rooms SET label = 'r{n}' WHERE id = 1 + {n} % 20; DELETE FROM bins WHERE id = {n} AND id % 3 = 0"
            );
            client.batch_execute(&change).await.unwrap();
        }
    };
    let within = changes_come_once_however_often_it_is_dropped(source, &address, &tables, fill, 100, &[1, 0, 2, 1, 3]);
    tokio::time::timeout(Duration::from_secs(120), within).await.unwrap();
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_database_keeps_what_sinks_need() {
    let cluster = TestCluster::start(&["settlement"]).await;
    let client = cluster.connect("settlement").await.unwrap();
    let address = Address::from(DatabaseAddress::new("127.0.0.1", cluster.port, "settlement", OWNER, &cluster.password));
    let refuse = async || client.batch_execute("ALTER TABLE bins ADD CHECK (id <> 777)").await.unwrap();
    rows_and_positions_stand_together(&Postgres, &address, ("public", "bins"), refuse).await;
    let left: i64 =
        client.query_one("SELECT count(*) FROM pg_namespace WHERE nspname = 'gonvel'", &[]).await.unwrap().get(0);
    assert_eq!(left, 0);
}

const WEIGHINGS: &str = "
- table: vehicles
  rows: 300
  columns: [{name: id, is: number}, {name: owner, is: person}]
- table: weighings
  rows: 25000
  repeated: 0.1
  columns: [{name: id, is: number}, {name: vehicle, is: reference, table: vehicles}, {name: at, is: time}]
";

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn made_up_records_keep_what_sources_need() {
    let address = Address::new("generator").with("recipes", WEIGHINGS).with("seed", 9);
    rows_are_read_alike(&Generator, &address, ("recipes", "weighings")).await;
    let source = Generator.source().unwrap();
    other_positions_are_refused(source);
    // how many are repeated is the seed's
    let tables = settings(&[("recipes", "vehicles"), ("recipes", "weighings")], true);
    let mut repeated = 0;
    let mut all: Vec<u64> = Vec::new();
    let session = source.open(&address).await.unwrap();
    let mut position = session.prepare(&tables).await.unwrap();
    let new = ["recipes.vehicles".to_owned(), "recipes.weighings".to_owned()];
    let taken = gonvel_core::ports::systems::TakenIn { new: &new, gone: &[], void: &[] };
    session.take_in(&tables, &mut *position, taken).await.unwrap();
    let mut captures = session.begin(&tables, &*position).await.unwrap();
    while all.len() - repeated < 25_300 {
        let captured = captures.next().await.unwrap().unwrap();
        for changes in &captured.changes {
            all.extend((0..changes.batch.len()).map(|row| match changes.batch.new[0].value(row) {
                gonvel_core::column::Value::Long(id) => (changes.table as u64) << 32 | id.unsigned_abs(),
                other => panic!("{other:?}"),
            }));
        }
        let mut known = all.clone();
        known.sort_unstable();
        known.dedup();
        repeated = all.len() - known.len();
        assert_eq!(captured.position.complete_to(), all.len() as u64, "each row is a transaction");
    }
    assert!((2_000..3_000).contains(&repeated), "{repeated} of 25000 come twice");
    let ended = tokio::time::timeout(Duration::from_millis(200), captures.next()).await;
    assert!(ended.is_err(), "more came than the recipes say");
    changes_come_once_however_often_it_is_dropped(source, &address, &tables, async || {}, all.len(), &[1, 0, 2]).await;

    let rate = WEIGHINGS.replace("rows: 300", "rate: 50");
    let slow = Address::new("generator").with("recipes", rate);
    let session = source.open(&slow).await.unwrap();
    let tables = settings(&[("recipes", "vehicles")], true);
    let began = std::time::Instant::now();
    let mut captures = session.begin(&tables, &*session.prepare(&tables).await.unwrap()).await.unwrap();
    let mut rows = 0;
    while rows < 20 {
        let captured = captures.next().await.unwrap().unwrap();
        rows += captured.changes.iter().map(|changes| changes.batch.len()).sum::<usize>();
    }
    // never early; how late is the machine's
    assert!(began.elapsed() >= Duration::from_secs_f64(0.4) && rows <= 50, "{rows} rows in {:?}", began.elapsed());

    let wrong = ["- table: x\n  columns: []\n", "- table: picks\n  rat: 5\n  columns: []\n", "picks", "- [1]\n"];
    let wrong: Vec<Address> = wrong.into_iter().map(|text| Address::new("generator").with("recipes", text)).collect();
    says_what_is_wrong(&Generator, &wrong).await;
    // a table without an end cannot be read as a whole, and one with an end comes whole
    let picks = CapturedTable::whole("recipes", "picks", "picks");
    let endless = Generator.all_rows(&address, &picks, &[], &mut |_| Ok(())).await;
    assert!(endless.unwrap_err().to_string().contains("has no end"));
    let (mut rows, vehicles) = (0, CapturedTable::whole("recipes", "vehicles", "vehicles"));
    let mut take = |batch: &gonvel_core::change::ChangeBatch| {
        rows += batch.len();
        assert_eq!(batch.table.columns.iter().map(|c| c.name.as_str()).collect::<Vec<_>>(), ["id", "owner"]);
        Ok(())
    };
    Generator.all_rows(&address, &vehicles, &["owner".to_owned()], &mut take).await.unwrap();
    assert_eq!(rows, 300);
}
