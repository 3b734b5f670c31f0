//! Made-up records from a generator through a topic into a table, each once whatever becomes of runners.

use std::collections::BTreeSet;
use std::time::{Duration, Instant};

use gonvel_core::column::Value;
use gonvel_core::connector::{
    CapturedTable, DeliveredTopic, SinkDefinition, SourceDefinition, State, TargetRows, ValidConnector, Wish,
};
use gonvel_core::naming::{ConnectionName, ConnectorName, TopicName};
use gonvel_core::ports::{Address, TopicLog};
use gonvel_storage::catalog::connections::ConnectionInput;
use uuid::Uuid;

use crate::support::{World, topic_changes};

const WEIGHINGS: &str = "
- table: weighings
  rate: 4000
  rows: 20000
  columns:
  - {name: id, is: number}
  - {name: weight_kg, is: decimal, from: 120, to: 430, scale: 1}
  - {name: grade, is: choice, of: {first: 2, second: 1}}
  - {name: weighed_at, is: time}
- table: trucks
  rows: 50
  columns: [{name: id, is: number}, {name: driver, is: person}]
";

async fn generator(world: &World) -> Uuid {
    let address = Address::new("generator").with("recipes", WEIGHINGS);
    let input = ConnectionInput { name: ConnectionName::parse("weighbridge").unwrap(), address };
    world.database.create_connection(&input).await.unwrap().id
}

async fn records(world: &World, topic: &str) -> i64 {
    let name = TopicName::parse(topic).unwrap();
    let Ok(topic) = world.database.topic(&name).await else { return 0 };
    world.database.bounds(topic.id).await.unwrap().iter().map(|bounds| bounds.next.0).sum()
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn made_up_rows_are_there_once_however_runners_come_and_go() {
    let world = World::new().await;
    let captured = |table: &str| CapturedTable::whole("recipes", table, &format!("weighbridge.{table}"));
    let connection = generator(&world).await;
    let definition = SourceDefinition::of(connection, vec![captured("weighings")], 2);
    let source = world.connector("from-weighbridge", definition.clone()).await;
    let topic = |table: &str| DeliveredTopic {
        topic: format!("weighbridge.{table}"),
        schema: "public".into(),
        table: table.into(),
        rows: None,
    };
    let mut sink = SinkDefinition::of(world.connection("settlement").await, vec![topic("weighings")]);
    sink.writes.rows = TargetRows::Appended;
    world.connector("to-settlement", sink).await;
    for round in 0..4_u64 {
        let fleet = world.fleet();
        tokio::time::sleep(Duration::from_millis(400 + 200 * round)).await;
        // some do not give their leases back
        if round % 2 == 0 { fleet.stop().await } else { drop(fleet) }
    }
    let fleet = world.fleet();
    let target = world.cluster.connect("settlement").await.unwrap();
    let start = Instant::now();
    let count = "SELECT count(*), count(DISTINCT id), min(id), max(id), count(*) FILTER (WHERE weight_kg BETWEEN 120 AND 430) FROM weighings";
    let all = loop {
        let row = target.query_one(count, &[]).await;
        let row =
            row.map(|row| [0, 1, 2, 3, 4].map(|place| row.get::<_, Option<i64>>(place).unwrap_or(0))).unwrap_or_default();
        if row[1] == 20_000 {
            break row;
        }
        assert!(start.elapsed() < Duration::from_secs(90), "{row:?}");
        tokio::time::sleep(Duration::from_millis(100)).await;
    };
    assert_eq!(all, [20_000, 20_000, 1, 20_000, 20_000]);
    assert_eq!(records(&world, "weighbridge.weighings").await, 20_000);

    // another recipe comes, and the first one is let go of: what is there stays, and nothing of it is made again
    world.until_state(source, State::Following).await;
    let mut other = definition;
    other.tables = vec![captured("trucks")];
    let valid = ValidConnector::check(source, ConnectorName::parse("from-weighbridge").unwrap(), other.into()).unwrap();
    world.database.change_connector(&valid, 1, &[], "").await.unwrap();
    while records(&world, "weighbridge.trucks").await < 50 {
        assert!(start.elapsed() < Duration::from_secs(120), "no other rows came");
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    world.database.ask(source, Wish::Delete, "").await.unwrap();
    while world.database.find_connector(source).await.is_ok() {
        assert!(start.elapsed() < Duration::from_secs(150), "it is not deleted");
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    assert_eq!([records(&world, "weighbridge.trucks").await, records(&world, "weighbridge.weighings").await], [50, 20_000]);
    fleet.stop().await;
}

/// What cannot be shaped waits by the number of its row, and is made again as it was.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_made_up_row_that_cannot_be_shaped_waits_and_is_made_again() {
    const CODES: &str = "
- table: codes
  rows: 200
  columns: [{name: id, is: number}, {name: code, is: choice, of: {'7': 9, none: 1}}, {name: driver, is: person}]
";
    let world = World::new().await;
    let address = Address::new("generator").with("recipes", CODES);
    let input = ConnectionInput { name: ConnectionName::parse("weighbridge").unwrap(), address: address.clone() };
    let connection = world.database.create_connection(&input).await.unwrap().id;
    let table = CapturedTable::whole("recipes", "codes", "weighbridge.codes");
    let definition = |value: &str| {
        let mut source = SourceDefinition::of(connection, vec![table.clone()], 1);
        let steps = serde_json::json!([{"step": "compute", "column": "number", "value": value}]);
        source.shape.steps.insert("recipes.codes".into(), serde_json::from_value(steps).unwrap());
        source
    };
    let from = world.connector("from-weighbridge", definition("CAST(code AS integer)")).await;
    let fleet = world.fleet();
    let states = async |state: &str| world.database.quarantined(Some(from), None, &[state], 0, 99).await.unwrap();
    let start = Instant::now();
    let waiting = loop {
        let waiting = states("waiting").await;
        if records(&world, "weighbridge.codes").await + waiting.len() as i64 == 200 {
            break waiting;
        }
        assert!(start.elapsed() < Duration::from_secs(60), "{}", waiting.len());
        tokio::time::sleep(Duration::from_millis(50)).await;
    };
    assert!((5..60).contains(&waiting.len()), "{}", waiting.len());
    assert!(waiting.iter().all(|kept| kept.value.is_none() && kept.finding.contains("step 1 (compute)")), "{waiting:?}");
    let takes = definition("CASE WHEN code <> 'none' THEN CAST(code AS integer) END");
    let valid = ValidConnector::check(from, ConnectorName::parse("from-weighbridge").unwrap(), takes.into()).unwrap();
    world.database.change_connector(&valid, 1, &[], "").await.unwrap();
    world.database.retry(&gonvel_storage::quarantine::Which::All(from), None).await.unwrap();
    while states("delivered").await.len() < waiting.len() {
        assert!(start.elapsed() < Duration::from_secs(120), "{:?}", states("asked").await);
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    // each row once, as its recipe makes it
    let made = gonvel_connectors::kinds::tables(&address).unwrap().rows(&address, &table, 200).await.unwrap();
    let row = |row: usize| match (made.new[0].value(row), made.new[1].value(row), made.new[2].value(row)) {
        (Value::Long(id), Value::Text(code), Value::Text(driver)) => format!("{id} {code} {driver}"),
        other => panic!("{other:?}"),
    };
    let changes = topic_changes(&world.database, "weighbridge.codes").await;
    let text = |value: &serde_json::Value| value.as_str().map_or_else(|| value.to_string(), str::to_owned);
    let of = |change: &serde_json::Value| ["id", "code", "driver"].map(|name| text(&change["new"][name])).join(" ");
    let came: BTreeSet<String> = changes.iter().map(of).collect();
    let made: BTreeSet<String> = (0..200).map(row).collect();
    assert_eq!((came, records(&world, "weighbridge.codes").await), (made, 200));
    fleet.stop().await;
}

/// Rows refer to what is there: they wait for it, and go on with it after a restart.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn made_up_rows_pick_from_the_keys_of_a_captured_table() {
    const WEIGHED: &str = "
- table: weighed
  rate: 200
  columns: [{name: id, is: number}, {name: bin, is: key, topic: packhouse.bins, whole: true}]
";
    let world = World::new().await;
    let address = Address::new("generator").with("recipes", WEIGHED);
    let input = ConnectionInput { name: ConnectionName::parse("weighbridge").unwrap(), address };
    let connection = world.database.create_connection(&input).await.unwrap().id;
    let table = CapturedTable::whole("recipes", "weighed", "weighbridge.weighed");
    let from = world.connector("from-weighbridge", SourceDefinition::of(connection, vec![table], 1)).await;
    let fleet = world.fleet();
    let said = world.until_state(from, State::Retrying).await;
    assert!(said.contains("weighed.bin: the topic packhouse.bins is not there yet"), "{said}");
    let packhouse = world.cluster.connect("packhouse").await.unwrap();
    packhouse
        .batch_execute(
            "CREATE TABLE bins (id int PRIMARY KEY, kg int); INSERT INTO bins SELECT n * 7, n FROM generate_series(1, 20) n",
        )
        .await
        .unwrap();
    world.connector("packhouse-bins", world.source(&["bins"], 2).await).await;
    let start = Instant::now();
    let until = async |rows: i64| {
        while records(&world, "weighbridge.weighed").await < rows {
            assert!(start.elapsed() < Duration::from_secs(90), "no rows came");
            tokio::time::sleep(Duration::from_millis(20)).await;
        }
    };
    until(20).await;
    // a key that is gone is not picked any more by a lane that starts then
    packhouse.execute("DELETE FROM bins WHERE id = 70", &[]).await.unwrap();
    while records(&world, "packhouse.bins").await < 21 {
        assert!(start.elapsed() < Duration::from_secs(90), "the delete did not come");
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
    fleet.stop().await;
    let before = records(&world, "weighbridge.weighed").await;
    let fleet = world.fleet();
    // however many came while the delete was on its way
    until(before + 100).await;
    fleet.stop().await;
    let changes = topic_changes(&world.database, "weighbridge.weighed").await;
    let number = |change: &serde_json::Value, name: &str| change["new"][name].as_i64().unwrap();
    let ids: Vec<i64> = changes.iter().map(|change| number(change, "id")).collect();
    assert_eq!(ids, (1..).take(ids.len()).collect::<Vec<_>>());
    let bins: BTreeSet<i64> = changes.iter().map(|change| number(change, "bin")).collect();
    assert!(bins.iter().all(|bin| bin % 7 == 0 && *bin <= 140) && bins.len() > 10, "{bins:?}");
    let mut later = changes.iter().filter(|change| number(change, "id") > before);
    assert!(later.all(|change| number(change, "bin") != 70), "{before}: {bins:?}");
}
