//! Tables whose rows are told apart in unusual ways: whatever their keys and identities are, the target becomes the source.

use crate::support::{World, topic_changes};
use gonvel_core::connector::{CapturedTable, State};

/// A key that carries further columns along; an identity that is not the primary key; partitions whose columns lie otherwise than
/// their table's; a key that is stored out of line; one that is written in several ways; and whole old rows, of a table whose key is chosen.
const ODD: &str = "
    CREATE TABLE carrying (id bigint, note text, kg numeric(7,1), PRIMARY KEY (id) INCLUDE (note, kg));
    CREATE TABLE by_code (id bigint PRIMARY KEY, code text NOT NULL, kg numeric(7,1));
    CREATE UNIQUE INDEX by_code_code ON by_code (code); ALTER TABLE by_code REPLICA IDENTITY USING INDEX by_code_code;
    CREATE TABLE spread (id bigint, kg numeric(7,1), site text NOT NULL, PRIMARY KEY (site, id)) PARTITION BY LIST (site);
    CREATE TABLE spread_north (gone text, site text NOT NULL, kg numeric(7,1), id bigint NOT NULL, PRIMARY KEY (site, id));
    ALTER TABLE spread_north DROP COLUMN gone; ALTER TABLE spread_north REPLICA IDENTITY FULL;
    ALTER TABLE spread ATTACH PARTITION spread_north FOR VALUES IN ('north');
    CREATE TABLE spread_rest PARTITION OF spread DEFAULT;
    CREATE TABLE scaled (id numeric PRIMARY KEY, n int);
    CREATE TABLE written (code text PRIMARY KEY, pad text, note text, n int);
    ALTER TABLE written ALTER code SET STORAGE EXTERNAL; ALTER TABLE written ALTER pad SET STORAGE MAIN;
    ALTER TABLE written ALTER note SET STORAGE EXTERNAL;
    CREATE TABLE loose (tag text NOT NULL, room int NOT NULL, note text); ALTER TABLE loose REPLICA IDENTITY FULL;";

/// The same rows come and go in each; among them rows whose keys change, and large values that do not.
async fn stir(client: &tokio_postgres::Client, from: i64) {
    let to = from + 400;
    client
        .batch_execute(&format!(
            "INSERT INTO carrying SELECT n, repeat('n', 10), n % 90 FROM generate_series({from}, {to}) n;
             UPDATE carrying SET note = 'turned ' || id, kg = kg + 1 WHERE id % 3 = 0 AND id BETWEEN {from} AND {to};
             UPDATE carrying SET id = -id WHERE id % 7 = 0 AND id BETWEEN {from} AND {to};
             DELETE FROM carrying WHERE id % 5 = 0;
             INSERT INTO by_code SELECT n, 'c' || n, n % 90 FROM generate_series({from}, {to}) n;
             UPDATE by_code SET kg = kg + 1 WHERE id % 3 = 0 AND id BETWEEN {from} AND {to};
             UPDATE by_code SET code = 'moved ' || id WHERE id % 7 = 0 AND id BETWEEN {from} AND {to};
             UPDATE by_code SET id = -id WHERE id % 11 = 0 AND id BETWEEN {from} AND {to};
             DELETE FROM by_code WHERE id % 5 = 0;
             INSERT INTO spread SELECT n, n % 90, CASE WHEN n % 2 = 0 THEN 'north' ELSE 'south' END FROM generate_series({from}, {to}) n;
             UPDATE spread SET kg = kg + 1 WHERE id % 3 = 0 AND id BETWEEN {from} AND {to};
             UPDATE spread SET site = CASE site WHEN 'north' THEN 'south' ELSE 'north' END WHERE id % 7 = 0 AND id BETWEEN {from} AND {to};
             DELETE FROM spread WHERE id % 5 = 0;
             INSERT INTO scaled SELECT n, n FROM generate_series({from}, {to}) n;
             UPDATE scaled SET id = round(id, 2) WHERE n % 3 = 0; UPDATE scaled SET id = round(id, 1), n = -n WHERE n % 7 = 0;
             DELETE FROM scaled WHERE n % 5 = 0;
             INSERT INTO written SELECT repeat(md5(n::text), 40), repeat('p', 1800), repeat('note', 600), n FROM generate_series({from}, {to}) n;
             UPDATE written SET n = n + 100000 WHERE n % 3 = 0 AND n BETWEEN {from} AND {to};
             UPDATE written SET code = 'moved ' || code WHERE n % 7 = 0 AND n BETWEEN {from} AND {to};
             UPDATE written SET note = 'small' WHERE n % 11 = 0 AND n BETWEEN {from} AND {to};
             DELETE FROM written WHERE n % 5 = 0;
             INSERT INTO loose SELECT 't' || n, n % 60, repeat('long ', 600) || n FROM generate_series({from}, {to}) n;
             UPDATE loose SET room = room + 1 WHERE room % 3 = 0; UPDATE loose SET tag = 'again ' || tag WHERE room % 7 = 0;
             DELETE FROM loose WHERE room % 5 = 0"
        ))
        .await
        .unwrap();
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn whatever_tells_rows_apart_the_target_becomes_the_source() {
    let world = World::new().await;
    let source = world.cluster.connect("packhouse").await.unwrap();
    let target = world.cluster.connect("settlement").await.unwrap();
    source.batch_execute(ODD).await.unwrap();
    stir(&source, 1).await;
    let tables = ["carrying", "by_code", "spread", "scaled", "written", "loose"];
    let mut definition = world.source(&tables, 3).await;
    let key = |tables: &mut Vec<CapturedTable>, table: &str, key: &str| {
        tables.iter_mut().find(|t| t.table == table).unwrap().key = vec![key.to_owned()];
    };
    key(&mut definition.tables, "by_code", "code");
    key(&mut definition.tables, "loose", "tag");
    let from = world.connector("from-packhouse", definition).await;
    world.connector("into-settlement", world.sink(&tables).await).await;
    let fleet = world.fleet();
    stir(&source, 1_001).await;
    world.until_equal(&source, &target, &tables).await;
    stir(&source, 2_001).await;
    world.until_equal(&source, &target, &tables).await;

    // a column that a key only carries along is no part of it: its change is an update, not another row
    let changes = topic_changes(&world.database, "packhouse.carrying").await;
    let turned = |c: &&serde_json::Value| c["new"]["note"].as_str().is_some_and(|n| n.starts_with("turned"));
    let kinds: Vec<&str> = changes.iter().filter(turned).filter_map(|c| c["change"].as_str()).collect();
    assert!(kinds.contains(&"update"), "{kinds:?}");
    let key = |c: &&serde_json::Value| c["change"] == "delete" && c["old"]["id"].is_null();
    assert_eq!(changes.iter().filter(key).count(), 0, "a row was deleted without its key");
    let changes = topic_changes(&world.database, "packhouse.written").await;
    let updates = changes.iter().filter(|c| c["change"] == "update" && c["new"]["note"].is_null());
    assert!(updates.count() > 100, "no key was left out by the server, or an update became another row");

    // what the log says of rows without their key names none
    source.batch_execute("ALTER TABLE by_code REPLICA IDENTITY DEFAULT; DELETE FROM by_code WHERE id = 3").await.unwrap();
    let reason = world.until_state(from, State::Halted).await;
    assert!(reason.contains("the replica identity of public.by_code does not hold code"), "{reason}");
    fleet.stop().await;
}
