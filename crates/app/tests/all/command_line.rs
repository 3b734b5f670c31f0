//! The command line against a served program: what people see, what scripts read, how it ends.

use crate::support::Gonvel;
use crate::support::shell::{Shell, words};
use gonvel_stand_ins::postgres_cluster::free_port;
use gonvel_stand_ins::test_cluster::TestCluster;
use serde_json::Value;
use tokio::io::{AsyncReadExt, AsyncWriteExt, copy_bidirectional};
use tokio::net::{TcpListener, TcpStream};

/// A way to a server on which the first answer is lost, after the server has given it.
async fn losing_the_first_answer(to: String) -> String {
    let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
    let here = listener.local_addr().unwrap();
    tokio::spawn(async move {
        for number in 0.. {
            let (mut client, _) = listener.accept().await.unwrap();
            let mut server = TcpStream::connect(&to).await.unwrap();
            if number > 0 {
                tokio::spawn(async move { copy_bidirectional(&mut client, &mut server).await });
                continue;
            }
            let mut bytes = [0; 8192];
            let read = client.read(&mut bytes).await.unwrap();
            server.write_all(&bytes[..read]).await.unwrap();
            assert!(server.read(&mut bytes).await.unwrap() > 0);
        }
    });
    format!("http://{here}")
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_is_made_though_its_answer_is_lost_is_made_once_and_told() {
    let cluster = TestCluster::start(&["gonvel"]).await;
    let folder = tempfile::tempdir().unwrap();
    let gonvel = Gonvel::serve(&cluster, folder.path(), free_port().unwrap()).await;
    let to = gonvel.base.trim_start_matches("http://").trim_end_matches("/api/v1").to_owned();
    let shell = Shell::at(&gonvel);
    let way = losing_the_first_answer(to).await;
    let told = shell.text(&format!("topic create bins.weighed -p 3 --server {way}"), None);
    assert!(told.contains("next offset"), "{told}");
    assert_eq!(shell.json("topic list").as_array().unwrap().len(), 1);
    assert_eq!(shell.fails("topic create bins.weighed -p 3", "is there already"), 4);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn topics_records_and_readers_by_command() {
    let cluster = TestCluster::start(&["gonvel"]).await;
    let folder = tempfile::tempdir().unwrap();
    let gonvel = Gonvel::serve(&cluster, folder.path(), free_port().unwrap()).await;
    let server = gonvel.base.trim_end_matches("/api/v1").to_owned();
    let shell = Shell::at(&gonvel);

    assert_eq!(shell.text("topic list", None), "no topic\n");
    shell.text("topic create bins.weighed --partitions 3 --forget-after 7d --most-bytes 2GiB", None);
    let topics = shell.json("topic list");
    assert_eq!(
        (&topics[0]["name"], &topics[0]["settings"]["forget_after_ms"]),
        (&"bins.weighed".into(), &604_800_000.into())
    );
    assert!(shell.text("topic list", None).contains("all, for 7days, up to 2.0 GiB"));

    let lines = "{\"key\":\"bin-1\",\"value\":{\"weight\":11}}\n{\"key\":\"bin-2\",\"value\":{\"weight\":12}}\n";
    assert_eq!(shell.text("records write bins.weighed --idempotency-key a", Some(lines)).lines().count(), 3);
    shell.text("records write bins.weighed --idempotency-key a", Some(lines));
    let one = shell.json("records write bins.weighed --key bin-3 --value '{\"weight\": 13}' --partition 2");
    assert_eq!(one["records"][0]["partition"], 2);
    let read = shell.json("records read bins.weighed --oldest -n 10");
    assert_eq!(read.as_array().unwrap().len(), 3, "a retried write was appended once");
    assert!(shell.text("records read bins.weighed --key bin-2", None).contains("{\"weight\":12}"));
    let found = shell.text("records search bins.weighed 'value.weight > 11' --output json", None);
    assert_eq!(found.lines().count(), 2);

    for form in ["avro", "parquet", "jsonl", "csv"] {
        let file = folder.path().join(format!("bins.{form}"));
        shell.text(&format!("records export bins.weighed {}", file.display()), None);
        shell.text(&format!("topic create copy.{form} -p 3"), None);
        let done = shell.text(&format!("records import copy.{form} {}", file.display()), None);
        assert_eq!(done, "3 records imported\n");
        let copy = shell.json(&format!("records read copy.{form} --oldest"));
        assert_eq!(copy, read);
    }
    let piped = shell.text("records export bins.weighed --form jsonl --partition 2", None);
    let records = read.as_array().unwrap();
    assert_eq!(piped.lines().count(), records.iter().filter(|r| r["partition"] == 2).count());

    shell.text("reader create labels bins.weighed", None);
    let shown = shell.text("reader reposition labels --latest", None);
    assert!(shown.contains("Nothing was done: say --yes to do it."));
    assert_eq!(shell.json("reader show labels")["lag_records"], 3);
    shell.text("reader reposition labels --latest --yes", None);
    shell.text("reader reposition labels --by -1 --partition 2 --yes", None);
    shell.text("topic create bins.scanned -p 1", None);
    let told = shell.text("reader change labels bins.scanned --latest", None);
    assert!(told.contains("It reads bins.weighed no more: its positions there are lost."), "{told}");
    shell.text("reader change labels bins.weighed bins.scanned --latest --yes", None);
    assert_eq!(shell.json("reader list")[0]["lag_records"], 1);
    assert!(shell.text("topic change bins.weighed --keep latest", None).contains("say --yes to do it"));
    shell.text("topic change bins.weighed --keep latest --forget-after never --yes", None);
    assert_eq!(shell.json("topic show bins.weighed")["settings"]["keep"], "latest");
    assert!(shell.text("topic delete bins.weighed", None).contains("labels loses its position in it"));
    shell.text("topic delete bins.weighed --yes", None);
    assert_eq!(shell.json("reader delete labels")["needs_confirming"], true);
    assert_eq!(shell.text("reader delete labels --yes", None), "labels is deleted\n");

    // how it ends: wrong arguments, not there, refused, no server
    assert_eq!(shell.fails("topic create x --forget-after soon", "write a span of time like 90s"), 2);
    assert_eq!(shell.fails("reader reposition labels", "say where to"), 2);
    assert_eq!(shell.fails("topic show nowhere", "there is no topic nowhere"), 3);
    assert_eq!(shell.fails("topic create copy.csv", "is there already"), 4);
    let long = "{\"weight\": 12345678901234567890.000000000000000000001}";
    shell.text(&format!("records write copy.csv --key bin-4 --value '{}'", long.replace(": ", ":\n")), None);
    assert!(shell.text("records read copy.csv --key bin-4", None).contains("12345678901234567890.000000000000000000001"));
    assert_eq!(shell.fails("records write copy.csv --value 1 --partition 9", "there is no partition 9"), 4);
    assert!(shell.text("topic add-partitions copy.csv 6", None).contains("most keys of copy.csv go to another partition"));
    shell.text("topic add-partitions copy.csv 6 --yes", None);
    assert_eq!(shell.fails("topic list --server http://127.0.0.1:1", "does not answer"), 5);
    assert_eq!(shell.fails("records export copy.csv /nowhere/x.csv", "/nowhere/x.csv"), 1);
    assert_eq!(shell.fails("records import copy.csv nothing.csv", "nothing.csv"), 1);

    // a context from the file, unless a flag says otherwise
    let contexts = shell.home.path().join(".config/gonvel");
    std::fs::create_dir_all(&contexts).unwrap();
    let file = format!(
        "[contexts.test]\nserver = \"{server}\"\noutput = \"json\"\n[contexts.gone]\nserver = \"http://127.0.0.1:1\"\n"
    );
    std::fs::write(contexts.join("contexts.toml"), file).unwrap();
    let listed: Value = serde_json::from_str(&shell.text("topic list --context test", None)).unwrap();
    assert_eq!(listed.as_array().unwrap().len(), 5);
    assert_eq!(shell.fails("topic list --context gone", "does not answer"), 5);
    assert_eq!(shell.fails("topic list --context other", "there are gone, test"), 2);
    assert!(shell.text(&format!("topic list --context gone --server {server} --output table"), None).contains("copy.avro"));
    std::fs::write(contexts.join("contexts.toml"), "server = 1").unwrap();
    assert_eq!(shell.fails("topic list", "is not right"), 2);
    for name in ["bash", "zsh", "fish"] {
        assert!(shell.text(&format!("completion {name}"), None).contains("add-partitions"), "{name}");
    }
}

const BIN: &str = r#"{"type":"record","name":"Bin","fields":[{"name":"id","type":"long"}]}"#;

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn schemas_by_command() {
    let cluster = TestCluster::start(&["gonvel"]).await;
    let folder = tempfile::tempdir().unwrap();
    let gonvel = Gonvel::serve(&cluster, folder.path(), free_port().unwrap()).await;
    let shell = Shell::at(&gonvel);
    let files = folder.path().join("files");
    std::fs::create_dir(&files).unwrap();
    let put = |name: &str, text: &str| std::fs::write(files.join(name), text).unwrap();
    let path = |name: &str| files.join(name).display().to_string();

    // a folder, in which one file imports another that comes later by its name
    put("bins.avsc", BIN);
    put("a_note.proto", "syntax = \"proto3\";\nimport \"room.proto\";\nmessage Note { Room room = 1; string text = 2; }");
    put("room.proto", "syntax = \"proto3\";\nmessage Room { int32 number = 1; }");
    put("reading.json", r#"{"type":"object","properties":{"room":{"type":"integer"}}}"#);
    put("readme.txt", "not a schema");
    assert!(shell.text(&format!("schema push {} --dry-run", path("")), None).contains("would be a new schema"));
    assert_eq!(shell.text("schema list", None), "no schema\n");
    let pushed = shell.json(&format!("schema push {} --why first", path("")));
    assert!(pushed.as_array().unwrap().iter().all(|p| p["outcome"] == "version 1"), "{pushed:#}");
    assert!(shell.text(&format!("schema push {}", path("")), None).contains("version 1, as before"));
    assert_eq!(shell.json("schema list --search number").as_array().unwrap().len(), 2, "found by a field's name");
    assert_eq!(shell.text("schema pull bins", None), BIN);

    // what does not keep the rule ends a build's step, and nothing of it is registered
    let change = r#"{"description":"","owner":"packhouse","labels":[],"rule":{"reads_past":"all"},"retired":false}"#;
    let client = reqwest::Client::new().put(format!("{}/schemas/bins", gonvel.base));
    assert_eq!(
        client
            .header("content-type", "application/json")
            .header("if-match", "\"1\"")
            .body(change)
            .send()
            .await
            .unwrap()
            .status(),
        200
    );
    put("bins.avsc", &BIN.replace("]}", r#",{"name":"grade","type":"string"}]}"#));
    assert_eq!(shell.fails(&format!("schema check bins {}", path("bins.avsc")), "bins would not take it"), 4);
    let output = shell.run(&words(&format!("schema check bins {} --output json", path("bins.avsc"))), None);
    let verdict: Value = serde_json::from_slice(&output.stdout).unwrap();
    assert_eq!(verdict["breaches"][0]["misfits"][0]["path"], "$.grade");
    assert_eq!(shell.fails(&format!("schema register bins {}", path("bins.avsc")), "at $.grade"), 4);
    assert_eq!(shell.fails(&format!("schema push {} --dry-run", path("")), "1 of 4 were refused"), 4);
    assert_eq!(shell.fails(&format!("schema push {}", path("")), "1 of 4 were refused"), 4);
    put("bins.avsc", &BIN.replace("]}", r#",{"name":"grade","type":["null","string"],"default":null}]}"#));
    assert!(shell.text(&format!("schema check bins {}", path("bins.avsc")), None).contains("it keeps the rule"));
    let registered = shell.json(&format!("schema register bins {} --why graded", path("bins.avsc")));
    assert_eq!(registered["version"], 2);
    assert!(shell.text("schema difference bins 1", None).contains("was added: null or string, default null"));
    assert_eq!(shell.json("schema show bins")["versions"][0]["why"], "graded");

    // all of them come back as files that push the same
    let out = folder.path().join("pulled");
    shell.text(&format!("schema pull --folder {}", out.display()), None);
    let again = shell.json(&format!("schema push {} --dry-run", out.display()));
    assert!(again.as_array().unwrap().iter().all(|p| p["outcome"].as_str().unwrap().ends_with("as before")), "{again:#}");

    put("broken.avsc", "{\n \"type\": \"record\"\n}");
    assert_eq!(shell.fails(&format!("schema register broken {}", path("broken.avsc")), "line 1, column 1"), 4);
    assert_eq!(shell.fails(&format!("schema register bins {}", path("readme.txt")), "neither with .avsc"), 1);
    assert_eq!(shell.fails(&format!("schema register bins {}", path("room.proto")), "bins is in avro"), 1);
    assert_eq!(shell.fails("schema show nothing", "nothing"), 3);
    assert_eq!(shell.fails(&format!("schema check bins {} --reference x", path("bins.avsc")), "schema:version"), 2);
    assert_eq!(shell.fails("schema delete room --yes", "the schema a_note"), 4);
    assert!(shell.text("schema delete room", None).contains("the schema a_note stands against it"));
    shell.text("schema delete a_note --yes", None);
    shell.text("schema delete room --yes", None);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn the_fleet_by_command() {
    let cluster = TestCluster::start(&["gonvel", "packhouse", "settlement"]).await;
    let packhouse = cluster.connect("packhouse").await.unwrap();
    packhouse
        .batch_execute("CREATE TABLE bins (id int PRIMARY KEY, grade text); INSERT INTO bins SELECT n, 'first' FROM generate_series(1, 9) n")
        .await
        .unwrap();
    let settlement = cluster.connect("settlement").await.unwrap();
    settlement.batch_execute("CREATE TABLE bins (id int PRIMARY KEY CHECK (id <> 7), grade text)").await.unwrap();
    let folder = tempfile::tempdir().unwrap();
    let gonvel = Gonvel::serve(&cluster, folder.path(), free_port().unwrap()).await;
    let shell = Shell::at(&gonvel);
    let mut ids = vec![];
    for name in ["packhouse", "settlement"] {
        let body = serde_json::json!({"name": name, "host": "127.0.0.1", "port": cluster.port, "database": name,
            "user": gonvel_stand_ins::postgres_cluster::OWNER, "password": cluster.password});
        ids.push(gonvel.post("/connections", body).await["id"].clone());
    }
    let tables = serde_json::json!([{"schema": "public", "table": "bins", "topic": "packhouse.bins"}]);
    for (name, definition) in [
        (
            "packhouse-changes",
            serde_json::json!({"kind": "source", "connection": ids[0], "tables": tables, "partitions": 1}),
        ),
        ("settlement-tables", serde_json::json!({"kind": "sink", "connection": ids[1], "topics": tables})),
    ] {
        gonvel.post("/connectors", serde_json::json!({"name": name, "definition": definition, "start": true})).await;
    }
    let until = |line: &str, seen: &dyn Fn(&Value) -> bool| {
        let start = std::time::Instant::now();
        loop {
            let found = shell.json(line);
            if seen(&found) {
                return found;
            }
            assert!(start.elapsed() < std::time::Duration::from_secs(120), "{line}: {found:#}");
            std::thread::sleep(std::time::Duration::from_millis(100));
        }
    };
    until("connector list", &|all| all[1]["quarantined"] == 1 && all[1]["state"] == "following");

    let runners = shell.text("fleet runners", None);
    assert!(runners.contains("runner-1") && runners.contains("carries"), "{runners}");
    let causes = shell.json("quarantine causes");
    assert_eq!((&causes[0]["name"], &causes[0]["waiting"]), (&"settlement-tables".into(), &1.into()));
    assert!(shell.text("quarantine list --connector settlement-tables", None).contains("constraint bins_id_check"));
    assert_eq!(shell.fails("quarantine list --cause nothing", "is no cause"), 4);
    assert_eq!(shell.fails("quarantine list --state lost", "waiting, asked, delivered"), 4);
    assert_eq!(shell.fails("quarantine show 99", "record 99"), 3);
    // a value is mended by the schema that wrote it
    assert_eq!(shell.fails("quarantine mend 1 '{\"change\": 7}'", "at $"), 4);
    assert_eq!(shell.fails("quarantine mend 1 '{'", "is no JSON"), 2);
    let mut value = shell.json("quarantine show 1")["value"].clone();
    value["new"]["grade"] = "second".into();
    shell.text(&format!("quarantine mend 1 '{value}'"), None);
    settlement.batch_execute("ALTER TABLE bins DROP CONSTRAINT bins_id_check").await.unwrap();
    let tried = shell.json("quarantine retry --connector settlement-tables");
    assert_eq!((&tried["total"], &tried["result"]["delivered"]), (&1.into(), &1.into()), "{tried:#}");
    assert_eq!(shell.json("quarantine list --state delivered")[0]["state"], "delivered");
    let row = settlement.query_one("SELECT grade FROM bins WHERE id = 7", &[]).await.unwrap();
    assert_eq!(row.get::<_, &str>(0), "second");
    assert_eq!(shell.json("quarantine discard 1 --reason 'too late' --yes")["records"], 0);

    // what is moved is shown first, and only while it rests
    assert_eq!(shell.json("connector positions settlement-tables")["partitions"][0]["next_offset"], 9);
    assert!(shell.text("connector move settlement-tables --earliest", None).contains("Nothing was done"));
    assert_eq!(shell.fails("connector move settlement-tables --earliest --yes", "is at work"), 4);
    assert_eq!(shell.fails("connector move packhouse-changes --latest --yes", "begin anew"), 4);
    assert_eq!(shell.fails("connector move settlement-tables", "say where to"), 2);
    // a reader may begin where a sink stands, and a source stands nowhere in a topic
    shell.text("reader create stocktaking packhouse.bins --connector settlement-tables", None);
    assert_eq!(shell.json("reader show stocktaking")["positions"][0]["next_offset"], 9);
    assert_eq!(shell.fails("reader reposition stocktaking --connector packhouse-changes", "name a sink"), 4);
    let preview = shell.json("connector stop --all --dry-run");
    assert!(preview[1]["changes"] == true && preview[1]["says"].as_str().unwrap().contains("topics"), "{preview:#}");
    until("connector list", &|all| all[1]["state"] == "following");
    shell.text("connector stop settlement-tables", None);
    until("connector list", &|all| all[1]["state"] == "stopped");
    shell.text("connector move settlement-tables --by -3 --yes", None);
    assert_eq!(shell.json("connector positions settlement-tables")["partitions"][0]["waiting"], 3);
    assert_eq!(shell.fails("connector restart settlement-tables", "does not run"), 4);
    shell.text("connector start settlement-tables", None);
    until("connector positions settlement-tables", &|p| p["partitions"][0]["waiting"] == 0);
    shell.text("connector restart settlement-tables --lane 0", None);
    assert_eq!(shell.fails("connector restart settlement-tables --lane 5", "lane 5"), 3);
    assert_eq!(shell.fails("connector start nowhere", "no connector nowhere"), 3);
    let history = shell.json("connector history settlement-tables");
    let deeds: Vec<&str> = history.as_array().unwrap().iter().rev().map(|d| d["what"].as_str().unwrap()).collect();
    assert_eq!(deeds, ["made and started", "stopped", "moved", "started", "started anew"]);
    let log = shell.text("connector log settlement-tables --level warning --text quarantine", None);
    assert!(log.contains("a record went into quarantine") && log.lines().all(|l| !l.contains(" info ")), "{log}");
    assert!(!log.contains(&cluster.password));

    assert!(shell.text("connector begin-anew packhouse-changes", None).contains("Say --yes"));
    assert_eq!(shell.fails("connector begin-anew packhouse-changes --yes", "is at work"), 4);
    assert_eq!(shell.fails("fleet forget runner-1", "is alive"), 4);
    assert_eq!(shell.fails("fleet drain runner-9", "runner runner-9"), 3);
    shell.text("fleet drain runner-1", None);
    assert!(shell.text("fleet runners", None).contains("being emptied"));
    shell.text("fleet drain runner-1 --undo", None);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn connections_and_connectors_by_command() {
    let cluster = TestCluster::start(&["gonvel", "packhouse", "settlement"]).await;
    let packhouse = cluster.connect("packhouse").await.unwrap();
    packhouse
        .batch_execute("CREATE TABLE bins (id int PRIMARY KEY, grade text); INSERT INTO bins SELECT n, 'first' FROM generate_series(1, 9) n")
        .await
        .unwrap();
    let folder = tempfile::tempdir().unwrap();
    let gonvel = Gonvel::serve(&cluster, folder.path(), free_port().unwrap()).await;
    let shell = Shell::at(&gonvel);
    let password = folder.path().join("password");
    std::fs::write(&password, format!("{}\n", cluster.password)).unwrap();
    let owner = gonvel_stand_ins::postgres_cluster::OWNER;
    let secret = format!("--secret-from-file {}", password.display());

    let kinds = shell.text("connection kinds", None);
    assert!(
        kinds.contains("postgresql") && kinds.contains("1 to 65535") && kinds.contains("off, prefer, require, verify"),
        "{kinds}"
    );
    let reached = format!("--set host=127.0.0.1 --set port={} --set user={owner}", cluster.port);
    let create = |name: &str, more: &str| format!("connection create {name} --kind postgresql {reached} {more}");
    for (line, says, code) in [
        (create("packhouse", &secret), "not given: database; add --set database=", 2),
        (create("packhouse", "--set database=packhouse --set tls=perhaps"), "tls takes off, prefer, require, verify", 2),
        (create("packhouse", "--set database=packhouse --set colour=red"), "has no setting \"colour\"", 2),
        (create("packhouse", "--set database=packhouse --set password=x"), "password is a secret", 2),
        (create("packhouse", "--set database=packhouse --secret-from-env NOT_SET_ANYWHERE"), "set it", 2),
        (create("packhouse", "--set database=packhouse --set port=0"), "a whole number from 1 to 65535", 2),
        (
            create("packhouse", "--set database=nowhere --set settings=lock_timeout=5s").replace("postgresql", "post"),
            "there is no kind",
            2,
        ),
        (create("packhouse", &format!("--set database=nowhere {secret}")), "nowhere", 4),
    ] {
        assert_eq!(shell.fails(&line, says), code, "{line}");
    }
    assert_eq!(shell.text("connection list", None), "no connection\n");
    for name in ["packhouse", "settlement"] {
        let more =
            format!("--set database={name} --set settings=lock_timeout=5s --set settings=statement_timeout=60s {secret}");
        shell.text(&create(name, &more), None);
    }
    let listed = shell.json("connection list");
    assert_eq!(listed[0]["settings"], serde_json::json!({"lock_timeout": "5s", "statement_timeout": "60s"}));
    assert!(shell.text("connection test packhouse", None).contains("passed"));
    assert!(shell.text("connection tables packhouse", None).contains("public.bins"));
    assert!(shell.text("connection sample packhouse public.bins", None).contains("first"));
    assert!(shell.text("connection sample packhouse bins", None).contains("first"), "in the usual schema");
    assert_eq!(shell.fails("connection test nowhere", "there is no connection nowhere"), 3);

    let manifest = folder.path().join("bins.yaml");
    let text = "connector: packhouse-bins\nsource:\n  connection: packhouse\n  tables:\n  - schema: public\n    table: bins\n    topic: packhouse.bins\n  partitions: 1\n";
    std::fs::write(&manifest, text.replace("partitions", "partition")).unwrap();
    let line = format!("connector create {}", manifest.display());
    assert_eq!(shell.fails(&line, "bins.yaml:8:3: source: unknown field `partition`"), 4);
    std::fs::write(&manifest, text).unwrap();
    shell.text(&line, None);
    assert!(shell.text("connector status packhouse-bins --wait following --within 2m", None).contains("following"));
    assert_eq!(shell.text("connector describe packhouse-bins", None), text);
    assert!(shell.text("connector lanes packhouse-bins", None).contains("runner-1"));
    shell.text("connector pause packhouse-bins", None);
    shell.text("connector status packhouse-bins --wait paused --within 2m", None);
    assert_eq!(shell.fails("connector status packhouse-bins --wait following --within 1s", "is paused still"), 4);
    assert_eq!(shell.fails("connector status packhouse-bins --wait walking", "is no state"), 2);
    shell.text("connector resume packhouse-bins", None);
    shell.text("connector status packhouse-bins --wait following --within 2m", None);
    assert_eq!(shell.fails("connection delete packhouse --yes", "packhouse-bins"), 4);
    assert!(shell.text("connector delete packhouse-bins", None).contains("its place in packhouse with it"));
    shell.text("connector delete packhouse-bins --yes", None);
    let start = std::time::Instant::now();
    while shell.text("connector list", None) != "no connector\n" {
        assert!(start.elapsed() < std::time::Duration::from_secs(120), "it is not gone");
        tokio::time::sleep(std::time::Duration::from_millis(100)).await;
    }
    assert!(shell.text("connection delete packhouse", None).contains("Nothing was done: say --yes to do it."));
    shell.text("connection delete packhouse --yes", None);
}
