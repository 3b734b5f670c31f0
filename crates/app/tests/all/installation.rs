//! An installation as manifests: applied by command, exported, applied elsewhere, through a kill half way.

use std::collections::BTreeMap;
use std::fs;
use std::io::{BufRead, BufReader};
use std::path::Path;
use std::time::{Duration, Instant};

use gonvel_stand_ins::postgres_cluster::{OWNER, free_port};
use gonvel_stand_ins::test_cluster::TestCluster;

use crate::support::Gonvel;
use crate::support::shell::Shell;

const SCHEMAS: &str = r#"schema: cold.Reading
language: avro
description: what a cold room says
labels: [cold, rooms]
rule: {reads_past: all}
versions:
- text: |
    {"type": "record", "name": "Reading", "namespace": "cold", "fields": [{"name": "room", "type": "int"}]}
- text: |
    {"type": "record", "name": "Reading", "namespace": "cold", "fields": [
      {"name": "room", "type": "int"},
      {"name": "door", "type": ["null", "boolean"], "default": null}
    ]}
---
schema: cold.Alarm
language: avro
versions:
- text: '{"type": "record", "name": "Alarm", "namespace": "cold", "fields": [{"name": "of", "type": "cold.Reading"}]}'
  references: [{name: cold.Reading, version: 2}]
"#;

const TOPICS: &str = "topic: coldstore.readings
partitions: 3
forget_after_ms: 604800000
values: {schema: cold.Reading, required: true}
---
topic: coldstore.doors
partitions: 1
keep: latest
";

const CONNECTORS: &str = r#"function: tonnes
description: kilograms as tonnes
parameters: [{name: kg, type: "numeric"}]
gives: numeric(12,3)
value: kg / 1000
examples: [{given: ["1500"], gives: "1.500"}]
---
connector: heavy-bins
topics:
  carries: [{topic: packhouse.bins, to: bins.heavy}]
  partitions: 1
  shape: {steps: {packhouse.bins: [{step: filter, only: "tonnes(kg) > 0.3"}]}}
---
connector: packhouse-bins
source:
  connection: packhouse
  tables: [{schema: public, table: bins, topic: packhouse.bins}]
  partitions: 2
---
connector: settlement-bins
sink:
  connection: settlement
  topics: [{topic: packhouse.bins, schema: public, table: bins}]
---
connector: settlement-later
state: paused
sink:
  connection: settlement
  topics: [{topic: bins.heavy, schema: public, table: heavy}]
  start: {at: connector, connector: settlement-bins}
---
connector: settlement-draft
state: draft
sink:
  connection: settlement
  topics: [{topic: packhouse.bins, schema: public, table: others}]
---
reader: night-watch
topics: [coldstore.readings, packhouse.bins]
"#;

fn connection(name: &str, port: u16) -> String {
    format!(
        "connection: {name}\nkind: postgresql\nhost: 127.0.0.1\nport: {port}\ndatabase: {name}\nuser: {OWNER}\n\
         password: {{file: PASSWORD}}\nsettings: {{lock_timeout: 5s}}\n"
    )
}

/// The files of a folder by name.
fn written(folder: &Path) -> BTreeMap<String, String> {
    let entries = fs::read_dir(folder).unwrap().map(|entry| entry.unwrap());
    entries.map(|e| (e.file_name().into_string().unwrap(), fs::read_to_string(e.path()).unwrap())).collect()
}

/// The export with secrets where this test has them.
fn export(shell: &Shell, folder: &Path, password: &Path) -> BTreeMap<String, String> {
    shell.text(&format!("export {}", folder.display()), None);
    let found = written(folder);
    let connections = folder.join("connections.yaml");
    let mut text = found["connections.yaml"].clone();
    for name in ["PACKHOUSE", "SETTLEMENT"] {
        assert!(text.contains(&format!("env: {name}_PASSWORD")), "{text}");
        text = text.replace(&format!("env: {name}_PASSWORD"), &format!("file: {}", password.display()));
    }
    fs::write(connections, text).unwrap();
    found
}

async fn count(cluster: &TestCluster, database: &str, table: &str) -> i64 {
    let client = cluster.connect(database).await.unwrap();
    client.query_one(&format!("SELECT count(*) FROM {table}"), &[]).await.map_or(-1, |row| row.get(0))
}

async fn waits_for(what: &str, mut holds: impl AsyncFnMut() -> bool) {
    let start = Instant::now();
    while !holds().await {
        assert!(start.elapsed() < Duration::from_secs(150), "waited in vain: {what}");
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn an_installation_is_made_from_its_export_to_the_byte_through_a_kill() {
    let cluster = TestCluster::start(&["gonvel", "another", "packhouse", "settlement"]).await;
    let packhouse = cluster.connect("packhouse").await.unwrap();
    packhouse
        .batch_execute(
            "CREATE TABLE bins (id int PRIMARY KEY, kg numeric(7,1)); \
             INSERT INTO bins SELECT n, n FROM generate_series(1, 500) n",
        )
        .await
        .unwrap();
    let (one, other) = (tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap());
    let mut gonvel = Gonvel::serve(&cluster, one.path(), free_port().unwrap()).await;
    let shell = Shell::at(&gonvel);
    let given = one.path().join("given");
    fs::create_dir_all(given.join("more")).unwrap();
    let password = one.path().join("password");
    fs::write(&password, format!("{}\n", cluster.password)).unwrap();
    let connections = [connection("packhouse", cluster.port), connection("settlement", cluster.port)].join("---\n");
    fs::write(given.join("a.yaml"), connections.replace("PASSWORD", &password.display().to_string())).unwrap();
    fs::write(given.join("more/schemas.yml"), SCHEMAS).unwrap();
    fs::write(given.join("more/topics.yaml"), TOPICS).unwrap();
    fs::write(given.join("connectors.yaml"), CONNECTORS).unwrap();
    let spare: Vec<String> = (0..6).map(|n| format!("topic: spare.{n}\npartitions: 1\n")).collect();
    fs::write(given.join("more/spare.yaml"), spare.join("---\n")).unwrap();
    fs::write(given.join("notes.txt"), "not a manifest").unwrap();
    let given = given.display().to_string();

    // only told
    let told = shell.run(&["apply", &given, "--dry-run"], None);
    let said = String::from_utf8_lossy(&told.stdout).into_owned();
    assert_eq!(told.status.code(), Some(6), "{said}{}", String::from_utf8_lossy(&told.stderr));
    assert!(said.contains("make   connector packhouse-bins") && said.contains("19 to make, 0 to change"), "{said}");
    assert_eq!(shell.text("connector list", None), "no connector\n");
    assert_eq!(shell.fails(&format!("apply {given}"), "say --yes if it is meant"), 2);

    // done, and then there is nothing to do
    let done = shell.text(&format!("apply {given} --yes"), None);
    assert!(done.contains("19 of 19"), "{done}");
    assert!(shell.text(&format!("apply {given} --yes"), None).contains("There is nothing to do"));
    waits_for("rows in the target", async || count(&cluster, "settlement", "bins").await == 500).await;
    waits_for("heavy bins", async || {
        gonvel.get("/topics/bins.heavy").await.is_some_and(|topic| topic["records"].as_i64() == Some(200))
    })
    .await;
    assert!(shell.text(&format!("apply {given} --yes"), None).contains("There is nothing to do"));

    // what is changed by hand is told, and made as it is written
    shell.text("topic change coldstore.doors --keep all --yes", None);
    shell.text("connector start settlement-later", None);
    let told = shell.run(&["apply", &given, "--dry-run"], None);
    let said = String::from_utf8_lossy(&told.stdout).into_owned();
    assert!(said.contains("keep: latest") && said.contains("state: paused"), "{said}");
    assert!(said.contains("0 to make, 2 to change, 0 to delete; 17 stay"), "{said}");
    shell.text(&format!("apply {given} --yes"), None);

    // elsewhere, with a kill half way
    let first = export(&shell, &one.path().join("export"), &password);
    assert_eq!(
        first.keys().collect::<Vec<_>>(),
        ["connections.yaml", "connectors.yaml", "functions.yaml", "readers.yaml", "schemas.yaml", "topics.yaml"]
    );
    assert!(!first.values().any(|text| text.contains(&cluster.password)));
    gonvel.kill();
    drop(gonvel);
    for table in ["bins", "heavy"] {
        let client = cluster.connect("settlement").await.unwrap();
        client.batch_execute(&format!("DROP TABLE IF EXISTS {table}")).await.unwrap();
    }
    let port = free_port().unwrap();
    let mut gonvel = Gonvel::serve_at(&cluster.url("another"), other.path(), port, "runner-2").await;
    let shell = Shell::at(&gonvel);
    let text = one.path().join("export").display().to_string();
    // one topic waits until the server is gone, so that it surely is killed half way
    let another = cluster.connect("another").await.unwrap();
    another
        .batch_execute(
            "CREATE FUNCTION waits() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN PERFORM pg_advisory_xact_lock(1900); RETURN NEW; END $$; \
             CREATE TRIGGER waits BEFORE INSERT ON topics FOR EACH ROW WHEN (NEW.name = 'spare.3') EXECUTE FUNCTION waits(); \
             SELECT pg_advisory_lock(1900)",
        )
        .await
        .unwrap();
    let mut applies = shell.begin(&format!("apply {text} --yes"));
    let lines = BufReader::new(applies.stdout.take().unwrap()).lines();
    let done = lines.map_while(Result::ok).find(|line| line.contains("of ") && line.contains("make topic spare.2"));
    assert!(done.is_some(), "the topic before was not made");
    gonvel.kill();
    drop(gonvel);
    another.batch_execute("SELECT pg_advisory_unlock(1900); DROP TRIGGER waits ON topics").await.unwrap();
    let gonvel = Gonvel::serve_at(&cluster.url("another"), other.path(), port, "runner-2").await;
    // whoever waited is told by the next server that it ended half way, and where
    assert_eq!(applies.wait().unwrap().code(), Some(5));
    let half = gonvel.list("/operations").await.unwrap()[0].clone();
    let (done, of) = (half["done"].as_i64().unwrap(), half["total"].as_i64().unwrap());
    assert!(half["state"] == "failed" && 0 < done && done < of, "{half:#}");
    let shell = Shell::at(&gonvel);
    shell.text(&format!("apply {text} --yes"), None);
    waits_for("rows in the target", async || count(&cluster, "settlement", "bins").await == 500).await;
    let second = export(&shell, &other.path().join("export"), &password);
    assert_eq!(second, first);

    // one that began where another stood is written though that one is gone
    let later = |text: &str| text.split("---\n").find(|one| one.contains("connector: settlement-later")).unwrap().to_owned();
    assert!(later(&second["connectors.yaml"]).contains("connector: settlement-bins"));
    shell.text("connector delete settlement-bins --yes", None);
    waits_for("the sink is gone", async || !shell.text("connector list", None).contains("settlement-bins")).await;
    let third = export(&shell, &other.path().join("third"), &password);
    assert!(!later(&third["connectors.yaml"]).contains("start:"), "{}", third["connectors.yaml"]);
    let nothing = shell.text(&format!("apply {} --yes", other.path().join("third").display()), None);
    assert!(nothing.contains("There is nothing to do"), "{nothing}");

    // what no manifest names goes, but for what a connector of theirs writes
    let source = one.path().join("source.yaml");
    let only = CONNECTORS.split("---\n").find(|text| text.contains("connector: packhouse-bins")).unwrap();
    let packhouse = first["connections.yaml"].split("---\n").next().unwrap();
    fs::write(&source, format!("{packhouse}---\n{only}")).unwrap();
    let done = shell.text(&format!("apply {} --yes --prune", source.display()), None);
    assert!(done.contains("delete topic coldstore.readings") && done.contains("records go for ever"), "{done}");
    let left = shell.text("export", None);
    let left: Vec<&str> = left
        .lines()
        .filter(|l| !l.starts_with([' ', '-']))
        .filter(|l| ["connection: ", "topic: ", "connector: ", "reader: ", "function: "].iter().any(|k| l.starts_with(k)))
        .collect();
    assert_eq!(left, ["connection: packhouse", "topic: packhouse.bins", "connector: packhouse-bins"]);
    let nothing = shell.text(&format!("apply {} --yes --prune", source.display()), None);
    assert!(nothing.contains("There is nothing to do"), "{nothing}");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn wrong_manifests_are_refused_whole_with_their_places() {
    let cluster = TestCluster::start(&["gonvel"]).await;
    let folder = tempfile::tempdir().unwrap();
    let gonvel = Gonvel::serve(&cluster, folder.path(), free_port().unwrap()).await;
    let shell = Shell::at(&gonvel);
    let file = folder.path().join("wrong.yaml");
    let path = file.display().to_string();
    let good = "topic: coldstore.doors\npartitions: 1\n---\n";
    let connection = connection("packhouse", 1).replace("file: PASSWORD", "env: NOT_SET_ANYWHERE");
    for (text, place, part) in [
        ("topic: coldstore.readings\npartition: 3\n", "5:1", "perhaps partitions is meant"),
        ("reader: night-watch\ntopics: [coldstore.dors]\n", "5:10", "perhaps coldstore.doors is meant"),
        (&connection.replace("{env: NOT_SET_ANYWHERE}", "hunter2"), "10:", "a secret stands in the text"),
        (&connection.replace("kind: postgresql", "kind: postgres"), "5:7", "perhaps postgresql is meant"),
        (&connection.replace("127.0.0.1", "/run/postgresql"), "6:", "stands in no host name"),
    ] {
        fs::write(&file, format!("{good}{text}")).unwrap();
        let said = shell.run(&["apply", &path, "--yes"], None);
        let told = String::from_utf8_lossy(&said.stderr).into_owned();
        assert_eq!(said.status.code(), Some(4), "{told}");
        assert!(told.contains(&format!("{path}:{place}")) && told.contains(part), "{text}: {told}");
        assert!(!told.contains("hunter2"), "{told}");
    }
    fs::write(&file, format!("{good}{connection}")).unwrap();
    assert_eq!(shell.fails(&format!("apply {path} --yes"), "set NOT_SET_ANYWHERE"), 2);
    assert_eq!(shell.text("topic list", None), "no topic\n", "nothing was done");
    // what is refused on the way ends it, and is told; what was done is not done again
    let reached = connection.replace("env: NOT_SET_ANYWHERE", &format!("file: {path}"));
    let more = "---\ntopic: coldstore.rooms\npartitions: 1\n";
    fs::write(&file, format!("{good}{reached}{more}")).unwrap();
    assert_eq!(shell.fails(&format!("apply {path} --yes"), "make connection packhouse"), 4);
    assert_eq!(shell.text("topic list", None), "no topic\n");
    // a large one is taken as well
    fs::write(&file, format!("{good}{more}# {}\n", "packhouse ".repeat(400_000))).unwrap();
    shell.text(&format!("apply {path} --yes"), None);
    assert_eq!(shell.json("topic list").as_array().unwrap().len(), 2);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_came_since_the_plan_was_shown_is_not_deleted_unseen() {
    let cluster = TestCluster::start(&["gonvel"]).await;
    let folder = tempfile::tempdir().unwrap();
    let gonvel = Gonvel::serve(&cluster, folder.path(), free_port().unwrap()).await;
    let shell = Shell::at(&gonvel);
    shell.text("topic create coldstore.old -p 1", None);
    let file = serde_json::json!({"name": "doors.yaml", "text": "topic: coldstore.doors\npartitions: 1\n"});
    let request = serde_json::json!({"files": [file], "prune": true});
    let steps = |plan: &serde_json::Value| plan["installation"]["steps"].as_array().unwrap().len();
    let plan = gonvel.post("/manifests/apply?dry_run=true", request.clone()).await;
    assert_eq!(steps(&plan), 2);
    // a colleague's
    shell.text("topic create coldstore.new -p 1", None);
    let path = format!("{}/manifests/apply", gonvel.base);
    let apply = async |query: &str| {
        let answer = gonvel.client.post(format!("{path}{query}")).json(&request).send().await.unwrap();
        (answer.status().as_u16(), answer.text().await.unwrap())
    };
    let (status, said) = apply(&format!("?confirm={}", plan["tag"].as_str().unwrap())).await;
    assert!(status == 412 && said.contains("/problems/plan-changed"), "{status}: {said}");
    let (status, said) = apply("").await;
    assert!(status == 428 && said.contains("It deletes coldstore.old"), "{status}: {said}");
    assert_eq!(shell.json("topic list").as_array().unwrap().len(), 2, "nothing was done");
    let plan = gonvel.post("/manifests/apply?dry_run=true", request.clone()).await;
    assert_eq!(steps(&plan), 3);
    let (status, said) = apply(&format!("?confirm={}", plan["tag"].as_str().unwrap())).await;
    assert_eq!(status, 202, "{said}");
    let begun: serde_json::Value = serde_json::from_str(&said).unwrap();
    let ended = shell.json(&format!("operation wait {}", begun["id"].as_str().unwrap()));
    assert_eq!(ended["result"]["steps"].as_array().map(Vec::len), Some(3), "{ended:#}");
    assert_eq!(shell.json("topic list")[0]["name"], "coldstore.doors");
}
