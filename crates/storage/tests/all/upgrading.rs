//! What a version before this one goes on with while it is replaced: its statements must go on working after the tables were brought up to
//! date, so what it knows of them stays as it is.

use std::collections::BTreeMap;
use std::path::Path;

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use gonvel_stand_ins::test_cluster::TestCluster;
use gonvel_storage::Database;
use gonvel_storage::sealing::Sealer;
use serde_json::{Value, json};
use tokio_postgres::Client;

/// The first migration that was made when servers could already be replaced one by one.
const SINCE: &str = "2026-11-29-000013";

/// Rules that refuse nothing: one lets each version read what the other one writes, as the tests below show; others only tell what changed.
const REFUSE_NOTHING: [&str; 3] =
    ["EXECUTE FUNCTION connections_as_before()", "EXECUTE FUNCTION tell_connector()", "EXECUTE FUNCTION tell_table()"];

/// What a statement of the version before depends on, by table and column.
#[derive(Debug, Default, PartialEq)]
struct Tables {
    /// Type, whether it must be given, and whether it may be empty.
    columns: BTreeMap<(String, String), (String, bool, bool)>,
    /// What rows must fulfil: table, its columns, and the condition.
    rules: BTreeMap<(String, Vec<String>), Vec<String>>,
    functions: Vec<String>,
}

async fn tables(client: &Client) -> Tables {
    let columns = "SELECT c.relname, a.attname, format_type(a.atttypid, a.atttypmod), a.attnotnull, \
           a.atthasdef OR a.attidentity <> '' FROM pg_class c JOIN pg_attribute a ON a.attrelid = c.oid \
         WHERE c.relnamespace = 'public'::regnamespace AND c.relkind IN ('r', 'p', 'v') AND a.attnum > 0 AND NOT a.attisdropped";
    let rules = "SELECT c.relname, coalesce(array_agg(a.attname::text ORDER BY a.attname) FILTER (WHERE a.attname IS NOT NULL), '{}'), pg_get_constraintdef(r.oid) \
         FROM pg_constraint r JOIN pg_class c ON c.oid = r.conrelid LEFT JOIN pg_attribute a ON a.attrelid = c.oid AND a.attnum = ANY (r.conkey) \
         WHERE c.relnamespace = 'public'::regnamespace AND r.contype <> 'n' GROUP BY c.relname, r.oid \
         UNION ALL SELECT c.relname, '{}', pg_get_indexdef(i.indexrelid) FROM pg_index i JOIN pg_class c ON c.oid = i.indrelid \
         WHERE c.relnamespace = 'public'::regnamespace AND i.indisunique AND NOT EXISTS (SELECT FROM pg_constraint r WHERE r.conindid = i.indexrelid) \
         UNION ALL SELECT c.relname, '{}', pg_get_triggerdef(t.oid) FROM pg_trigger t JOIN pg_class c ON c.oid = t.tgrelid \
         WHERE c.relnamespace = 'public'::regnamespace AND NOT t.tgisinternal";
    let functions =
        "SELECT p.oid::regprocedure::text FROM pg_proc p WHERE p.pronamespace = 'public'::regnamespace ORDER BY 1";
    let mut tables = Tables::default();
    for row in client.query(columns, &[]).await.unwrap() {
        let (not_null, has_default): (bool, bool) = (row.get(3), row.get(4));
        tables.columns.insert((row.get(0), row.get(1)), (row.get(2), not_null && !has_default, !not_null));
    }
    for row in client.query(rules, &[]).await.unwrap() {
        tables.rules.entry((row.get(0), row.get(1))).or_default().push(row.get(2));
    }
    tables.functions = client.query(functions, &[]).await.unwrap().iter().map(|row| row.get(0)).collect();
    tables
}

/// What of a former state statements would miss in a later one, or be refused by.
fn missed(before: &Tables, after: &Tables) -> Vec<String> {
    let mut missed = Vec::new();
    let known = |table: &String| before.columns.keys().any(|(name, _)| name == table);
    for (column, (ty, must, empty)) in &before.columns {
        match after.columns.get(column) {
            None => missed.push(format!("{column:?} is gone")),
            Some((now, _, _)) if now != ty => missed.push(format!("{column:?} was {ty} and is {now}")),
            Some((_, must_now, _)) if *must_now && !must => missed.push(format!("{column:?} must be given now")),
            Some((_, _, empty_now)) if *empty && !empty_now => missed.push(format!("{column:?} may not be empty any more")),
            Some(_) => {}
        }
    }
    for ((table, column), (_, must, _)) in &after.columns {
        if *must && known(table) && !before.columns.contains_key(&(table.clone(), column.clone())) {
            missed.push(format!("{table}.{column} is new and must be given"));
        }
    }
    for ((table, columns), rules) in &after.rules {
        // a rule about what is new only is nothing to those who do not know it
        let concerns =
            columns.is_empty() || columns.iter().any(|c| before.columns.contains_key(&(table.clone(), c.clone())));
        let had = before.rules.get(&(table.clone(), columns.clone()));
        let is_new =
            |rule: &&String| !had.is_some_and(|had| had.contains(rule)) && !REFUSE_NOTHING.iter().any(|c| rule.ends_with(c));
        for rule in rules.iter().filter(|rule| known(table) && concerns && is_new(rule)) {
            missed.push(format!("{table} has a new rule: {rule}"));
        }
    }
    missed.extend(before.functions.iter().filter(|f| !after.functions.contains(f)).map(|f| format!("{f} is gone")));
    missed
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_the_version_before_knows_stays_as_it_is() {
    let cluster = TestCluster::start(&["gonvel"]).await;
    let client = cluster.connect("gonvel").await.unwrap();
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("migrations");
    let mut steps: Vec<_> = std::fs::read_dir(folder).unwrap().map(|entry| entry.unwrap().path()).collect();
    steps.sort();
    let mut looked_at = 0;
    for step in steps {
        let name = step.file_name().unwrap().to_string_lossy().into_owned();
        let before = tables(&client).await;
        client.batch_execute(&std::fs::read_to_string(step.join("up.sql")).unwrap()).await.unwrap();
        if name.as_str() >= SINCE {
            let missed = missed(&before, &tables(&client).await);
            assert!(missed.is_empty(), "after {name} a server of the version before fails: {missed:#?}");
            looked_at += 1;
        }
    }
    assert!(looked_at >= 2);

    // and what would hurt is found
    client.batch_execute("CREATE TABLE crates (id bigint PRIMARY KEY, grade text, room int NOT NULL)").await.unwrap();
    let hurts = [
        ("ALTER TABLE crates DROP COLUMN grade", "is gone"),
        ("ALTER TABLE crates RENAME COLUMN grade TO class", "is gone"),
        ("ALTER TABLE crates ALTER room TYPE bigint", "was integer and is bigint"),
        ("ALTER TABLE crates ALTER grade SET NOT NULL", "must be given now"),
        ("ALTER TABLE crates ADD weight int; ALTER TABLE crates ALTER weight SET NOT NULL", "is new and must be given"),
        ("ALTER TABLE crates ADD CHECK (room > 0)", "new rule: CHECK ((room > 0))"),
        ("ALTER TABLE crates ADD weight int NOT NULL DEFAULT 0 CHECK (weight < room)", "new rule"),
        ("CREATE UNIQUE INDEX ON crates (grade)", "new rule: CREATE UNIQUE INDEX"),
        ("DROP TABLE crates", "is gone"),
    ];
    let harmless = [
        "ALTER TABLE crates ADD weight int NOT NULL DEFAULT 0 CHECK (weight >= 0); CREATE TABLE lids (id bigint PRIMARY KEY)",
        "ALTER TABLE crates ADD label text; CREATE INDEX ON crates (grade); ALTER TABLE crates ALTER room DROP NOT NULL",
    ];
    let before = tables(&client).await;
    let with = async |change: &str| {
        client.batch_execute(&format!("BEGIN; {change}")).await.unwrap();
        let missed = missed(&before, &tables(&client).await);
        client.batch_execute("ROLLBACK").await.unwrap();
        missed
    };
    for (change, says) in hurts {
        let missed = with(change).await;
        assert!(missed.iter().any(|found| found.contains(says)), "{change}: {missed:#?}");
    }
    for change in harmless {
        assert_eq!(with(change).await, Vec::<String>::new(), "{change}");
    }
}

/// The columns that the version before knows of a connection, as it reads them.
async fn as_before(client: &Client, name: &str) -> String {
    let read = "SELECT concat_ws(' ', host, port, database, username, tls, coalesce(ca, '-'), coalesce(log_username, '-'), settings, \
         encode(sealed_password, 'escape'), coalesce(encode(sealed_log_password, 'escape'), '-')) FROM connections WHERE name = $1";
    client.query_one(read, &[&name]).await.unwrap().get(0)
}

/// The same as this version reads it.
async fn as_now(client: &Client, name: &str) -> (Value, BTreeMap<String, String>) {
    let row = client.query_one("SELECT given, sealed FROM connections WHERE name = $1", &[&name]).await.unwrap();
    let sealed: BTreeMap<String, String> = serde_json::from_value(row.get(1)).unwrap();
    let open = |text: String| String::from_utf8(STANDARD.decode(text).unwrap()).unwrap();
    (row.get(0), sealed.into_iter().map(|(name, text)| (name, open(text))).collect())
}

/// While servers are replaced one by one, both versions write connections, and each reads what the other one wrote.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn connections_are_the_same_to_the_version_before() {
    let cluster = TestCluster::start(&["gonvel"]).await;
    Database::open(&cluster.url("gonvel"), Sealer::new(&[7; 32])).await.unwrap();
    let client = cluster.connect("gonvel").await.unwrap();
    // longer than a line of base64
    let long = "pippin".repeat(40);
    let insert = "INSERT INTO connections (id, name, kind, host, port, database, username, sealed_password, tls, ca, log_username, \
           sealed_log_password, settings) VALUES (gen_random_uuid(), $1, 'postgresql', 'db', 5432, 'packhouse', 'gonvel', $2, \
           $3, NULL, $4, $5, $6)";
    let (none, settings) = (None::<&str>, json!({"lock_timeout": "5s"}));
    client.execute(insert, &[&"old", &b"russet".as_slice(), &"prefer", &none, &None::<&[u8]>, &json!({})]).await.unwrap();
    client
        .execute(insert, &[&"old-2", &long.as_bytes(), &"verify", &Some("tail"), &Some(b"gala".as_slice()), &settings])
        .await
        .unwrap();
    let plain = json!({"host": "db", "port": 5432, "database": "packhouse", "user": "gonvel"});
    let secrets =
        |all: &[(&str, &str)]| all.iter().map(|(n, s)| ((*n).to_owned(), (*s).to_owned())).collect::<BTreeMap<_, _>>();
    assert_eq!(as_now(&client, "old").await, (plain.clone(), secrets(&[("password", "russet")])));
    let mut whole = plain.clone();
    whole.as_object_mut().unwrap().extend([
        ("tls".to_owned(), json!("verify")),
        ("log_user".to_owned(), json!("tail")),
        ("settings".to_owned(), settings.clone()),
    ]);
    assert_eq!(as_now(&client, "old-2").await, (whole.clone(), secrets(&[("password", &long), ("log_password", "gala")])));

    // this version's, whole and one of another kind
    let new = "INSERT INTO connections (id, name, kind, given, sealed) VALUES (gen_random_uuid(), $1, $2, $3, $4)";
    let sealed = json!({"password": STANDARD.encode("amber"), "log_password": STANDARD.encode(&long)});
    // settings that the version before does not know, with a secret
    whole.as_object_mut().unwrap().insert("through".to_owned(), json!("jump_host"));
    let sealed = json!({"password": sealed["password"], "log_password": sealed["log_password"], "through_key": STANDARD.encode("gate")});
    client.execute(new, &[&"new", &"postgresql", &whole, &sealed]).await.unwrap();
    let both = format!("db 5432 packhouse gonvel verify - tail {{\"lock_timeout\": \"5s\"}} amber {long}");
    assert_eq!(as_before(&client, "new").await, both);
    client.execute(new, &[&"other", &"coldroom", &json!({}), &json!({})]).await.unwrap();
    assert_eq!(as_before(&client, "other").await, " 0   prefer - - {}  -");
    assert_eq!(as_now(&client, "other").await, (json!({}), secrets(&[])));

    // each changes what the other one wrote, and what it does not touch stays
    client
        .batch_execute(
            "UPDATE connections SET host = 'db-2', log_username = NULL, sealed_log_password = NULL WHERE name = 'new'",
        )
        .await
        .unwrap();
    whole["host"] = json!("db-2");
    whole.as_object_mut().unwrap().remove("log_user");
    assert_eq!(as_now(&client, "new").await, (whole, secrets(&[("password", "amber"), ("through_key", "gate")])));
    client
        .execute("UPDATE connections SET given = given || '{\"port\": 7}', sealed = '{}' WHERE name = 'old'", &[])
        .await
        .unwrap();
    assert_eq!(as_before(&client, "old").await, "db 7 packhouse gonvel prefer - - {}  -");
    client.batch_execute("UPDATE connections SET revision = revision + 1").await.unwrap();
    assert_eq!(as_before(&client, "old").await, "db 7 packhouse gonvel prefer - - {}  -");
    assert_eq!(as_now(&client, "other").await, (json!({}), secrets(&[])));
}
