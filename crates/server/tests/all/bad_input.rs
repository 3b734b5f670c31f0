//! Bad input through the API: the finding, the remedy and the field, and nothing half-created stays behind.
#![allow(clippy::cast_precision_loss, reason = "counts far below 2^52")]

use crate::support::{place, word};
use std::net::TcpListener as BlockingListener;
use std::sync::Arc;

use gonvel_server::ServerState;
use gonvel_stand_ins::postgres_cluster::OWNER;
use gonvel_stand_ins::test_cluster::TestCluster;
use gonvel_storage::Database;
use gonvel_storage::sealing::Sealer;
use serde_json::{Value, json};
use tokio::sync::Notify;

struct Api {
    base: String,
    client: reqwest::Client,
}

impl Api {
    async fn start(cluster: &TestCluster) -> Self {
        let database = Database::open(&cluster.url("gonvel"), Sealer::new(&[7; 32])).await.unwrap();
        let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
        let base = format!("http://{}/api/v1", listener.local_addr().unwrap());
        let state = ServerState::new(database, Arc::new(Notify::new()), None);
        tokio::spawn(gonvel_server::serve(listener, state, |_| None, std::future::pending()));
        Self { base, client: reqwest::Client::new() }
    }

    async fn post(&self, path: &str, body: &Value) -> (u16, Value) {
        self.send(reqwest::Method::POST, path, body).await
    }

    /// Changes what is at this revision; `*` for any.
    async fn put(&self, path: &str, at: impl std::fmt::Display, body: &Value) -> (u16, Value) {
        let at = if at.to_string() == "*" { at.to_string() } else { format!("\"{at}\"") };
        let request = self.client.put(format!("{}{path}", self.base)).header("if-match", at);
        self.answer(request.json(body)).await
    }

    async fn send(&self, method: reqwest::Method, path: &str, body: &Value) -> (u16, Value) {
        self.answer(self.client.request(method, format!("{}{path}", self.base)).json(body)).await
    }

    async fn answer(&self, request: reqwest::RequestBuilder) -> (u16, Value) {
        let answer = request.send().await.unwrap();
        let status = answer.status().as_u16();
        if status >= 400 {
            assert_eq!(answer.headers()["content-type"], "application/problem+json");
        }
        (status, answer.json().await.unwrap())
    }

    async fn get(&self, path: &str) -> Value {
        self.client.get(format!("{}{path}", self.base)).send().await.unwrap().json().await.unwrap()
    }

    async fn list(&self, path: &str) -> Value {
        self.get(path).await["items"].take()
    }
}

fn connection(name: &str, port: u16, user: &str, password: &str) -> Value {
    json!({"name": name, "host": "127.0.0.1", "port": port, "database": "packhouse", "user": user, "password": password})
}

fn source(connection: &Value, table: &str) -> Value {
    json!({"name": format!("from-{table}"), "start": true, "definition": {
        "kind": "source", "connection": connection["id"], "partitions": 2,
        "tables": [{"schema": "public", "table": table, "topic": format!("packhouse.{table}")}]}})
}

fn says(problem: &Value, member: &str, part: &str) {
    let text = problem[member].as_str().unwrap_or_default();
    assert!(text.contains(part), "{member} does not say {part:?}: {problem:#}");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_connection_that_cannot_be_used_is_refused_with_its_field_and_not_saved() {
    let cluster = TestCluster::start(&["gonvel", "packhouse"]).await;
    let api = Api::start(&cluster).await;
    let silent = BlockingListener::bind("127.0.0.1:0").unwrap();
    let closed = BlockingListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
    let mut absent = connection("a", cluster.port, OWNER, &cluster.password);
    absent["database"] = "orchard".into();
    let mut unknown = connection("a", cluster.port, OWNER, &cluster.password);
    unknown["host"] = "packhouse.example".into();
    let at = |host: &str| {
        let mut body = connection("a", cluster.port, OWNER, "russet");
        body["host"] = host.into();
        body
    };
    let cases = [
        (connection("a", cluster.port, OWNER, "russet"), "password", "refuses user \"gonvel\""),
        (connection("a", cluster.port, "nobody", "russet"), "password", "refuses user \"nobody\""),
        (absent, "database", "no database \"orchard\""),
        (unknown, "host", "packhouse.example"),
        (connection("a", closed, OWNER, "russet"), "host", "refused the connection"),
        (connection("a", silent.local_addr().unwrap().port(), OWNER, "russet"), "host", "did not answer within"),
        (connection("a b", cluster.port, OWNER, "russet"), "name", "at character 2"),
        (connection("a", 0, OWNER, "russet"), "port", "a whole number from 1 to 65535, not 0"),
        (at("/var/run/postgresql"), "host", "'/' stands in no host name"),
        (at("127.0.0.1 sslmode=disable"), "host", "' ' stands in no host name"),
        (at("127.0.0.1,db.orchard.example"), "host", "',' stands in no host name"),
        (at("picker@127.0.0.1"), "host", "'@' stands in no host name"),
    ];
    for (body, field, finding) in cases {
        let (status, problem) = api.post("/connections", &body).await;
        assert_eq!((status, place(&problem)), (422, Some(field)), "{problem:#}");
        says(&problem, "detail", finding);
        assert!(!problem.to_string().contains("russet"), "the password came back");
    }
    assert_eq!(api.list("/connections").await, json!([]));

    let good = connection("packhouse", cluster.port, OWNER, &cluster.password);
    let (status, made) = api.post("/connections", &good).await;
    assert_eq!(status, 201);
    assert!(!made.to_string().contains(&cluster.password), "the password came back");
    let (status, problem) = api.post("/connections", &good).await;
    assert_eq!((status, place(&problem)), (409, Some("name")));

    // a kept password is for the server it was given for
    let path = format!("/connections/{}", made["id"].as_str().unwrap());
    let mut elsewhere = good.clone();
    elsewhere.as_object_mut().unwrap().remove("password");
    elsewhere["host"] = "localhost".into();
    let (status, problem) = api.put(&path, "*", &elsewhere).await;
    assert_eq!((status, place(&problem)), (422, Some("password")), "{problem:#}");
    says(&problem, "detail", "not sent on to what it was not given for");
    elsewhere["host"] = "127.0.0.1".into();
    let (status, _) = api.put(&path, "*", &elsewhere).await;
    assert_eq!(status, 200);
    for (member, value, what) in
        [("database", json!("postgres"), "the database changed"), ("tls", json!("off"), "the encryption became weaker")]
    {
        let mut other = elsewhere.clone();
        other[member] = value;
        let (status, problem) = api.put(&path, "*", &other).await;
        assert_eq!((status, place(&problem)), (422, Some("password")), "{problem:#}");
        says(&problem, "detail", what);
        other["password"] = cluster.password.as_str().into();
        assert_eq!(api.put(&path, "*", &other).await.0, 200, "entered again it is what is wanted");
        elsewhere["password"] = cluster.password.as_str().into();
        assert_eq!(api.put(&path, "*", &elsewhere).await.0, 200);
        elsewhere.as_object_mut().unwrap().remove("password");
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn an_edit_is_refused_as_it_was_asked_and_changes_nothing() {
    let cluster = TestCluster::start(&["gonvel", "packhouse"]).await;
    let api = Api::start(&cluster).await;
    let packhouse = cluster.connect("packhouse").await.unwrap();
    packhouse
        .batch_execute("CREATE TABLE bins (id bigint PRIMARY KEY, grade text); INSERT INTO bins VALUES (1, 'first')")
        .await
        .unwrap();
    let (_, made) = api.post("/connections", &connection("packhouse", cluster.port, OWNER, &cluster.password)).await;
    let connection_id = made["id"].clone();
    let table = json!({"schema": "public", "table": "bins", "topic": "packhouse.bins"});
    let definition = json!({"kind": "source", "connection": connection_id, "tables": [table], "partitions": 1});
    let body = json!({"name": "from-packhouse", "definition": definition, "start": true});
    let (status, connector) = api.post("/connectors", &body).await;
    assert_eq!(status, 201, "{connector:#}");
    let path = format!("/connectors/{}", connector["id"].as_str().unwrap());
    let change = |version: i32, change: &dyn Fn(&mut Value)| {
        let mut definition = definition.clone();
        change(&mut definition);
        (version, json!({"definition": definition}))
    };
    let cases: [((i32, Value), u16, &str); 5] = [
        (change(7, &|d| d["partitions"] = 2.into()), 412, "changed since you read it"),
        (change(1, &|d| d["partitions"] = 0.into()), 422, "from 1 to 1000"),
        (change(1, &|d| d["tables"][0]["table"] = "crates".into()), 422, "no table public.crates"),
        (change(1, &|d| d["connection"] = "00000000-0000-0000-0000-000000000000".into()), 422, "make a new connector"),
        (
            change(1, &|d| *d = json!({"kind": "sink", "connection": connection_id, "topics": [table]})),
            422,
            "cannot become a sink",
        ),
    ];
    for ((version, body), status, finding) in cases {
        let (found, problem) = api.put(&path, version, &body).await;
        assert_eq!(found, status, "{problem:#}");
        says(&problem, "detail", finding);
    }
    let versions = api.list(&format!("{path}/versions")).await;
    assert_eq!(versions.as_array().unwrap().len(), 1);
    assert!(versions[0]["manifest"].as_str().unwrap().contains("connection: packhouse"), "{versions:#}");

    // what it would do is said without doing it; done, it is a version
    let (_, narrow) = change(1, &|d| d["tables"][0]["leave_out"] = json!(["grade"]));
    let (status, told) = api.put(&format!("{path}?dry_run=true"), 1, &narrow).await;
    assert_eq!((status, told["consequences"][0]["kind"].as_str()), (200, Some("starts_anew")), "{told:#}");
    assert_eq!(api.get(&path).await["version"], 1);
    let (status, changed) = api.put(&path, 1, &narrow).await;
    assert_eq!((status, changed["version"].as_i64()), (200, Some(2)), "{changed:#}");

    // a manifest is read and written; a table that is not there has no sample
    let text = "connector: x\nsource:\n  connection: packhouse\n  tables:\n  - {schema: public, table: a, topic: t}\n  - {schema: public, table: b, topic: t}\n  partitions: 1\n";
    let (status, reading) = api.post("/manifests/read", &json!({"text": text})).await;
    assert_eq!((status, reading["connector"].is_null()), (200, true), "{reading:#}");
    says(&reading["faults"][0], "finding", "the topic t is named twice");
    let (_, written) =
        api.post("/manifests/write", &json!({"name": "from-packhouse", "definition": narrow["definition"]})).await;
    let (_, reading) = api.post("/manifests/read", &json!({"text": written["text"]})).await;
    assert_eq!(reading["connector"]["definition"]["tables"][0]["leave_out"], json!(["grade"]), "{reading:#}");
    let sample = format!("/connections/{}/sample", connection_id.as_str().unwrap());
    let (status, rows) = api.post(&sample, &json!({"table": table, "values": {"form": "row", "encoding": "json"}})).await;
    assert_eq!((status, &rows["rows"][0]["value"]), (200, &json!({"id": 1, "grade": "first"})), "{rows:#}");
    let (status, problem) =
        api.post(&sample, &json!({"table": {"schema": "public", "table": "crates", "topic": "t"}})).await;
    assert_eq!(status, 422, "{problem:#}");
    says(&problem, "detail", "there is no table public.crates");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_source_that_lacks_something_is_refused_with_the_remedy_and_leaves_nothing() {
    let cluster = TestCluster::start(&["gonvel", "packhouse"]).await;
    let api = Api::start(&cluster).await;
    let packhouse = cluster.connect("packhouse").await.unwrap();
    packhouse
        .batch_execute(
            "CREATE TABLE bins (id bigint PRIMARY KEY, grade text);
             CREATE TABLE scribbles (note text);
             CREATE TABLE hidden (id bigint PRIMARY KEY);
             ALTER TABLE hidden REPLICA IDENTITY NOTHING;
             CREATE ROLE reader LOGIN REPLICATION PASSWORD 'pippin'; GRANT SELECT ON ALL TABLES IN SCHEMA public TO reader;
             CREATE ROLE visitor LOGIN PASSWORD 'pippin'; GRANT SELECT ON ALL TABLES IN SCHEMA public TO visitor;",
        )
        .await
        .unwrap();
    let mut connections = Vec::new();
    for (name, user, password) in
        [("owner", OWNER, cluster.password.as_str()), ("reader", "reader", "pippin"), ("visitor", "visitor", "pippin")]
    {
        let (status, made) = api.post("/connections", &connection(name, cluster.port, user, password)).await;
        assert_eq!(status, 201, "{made:#}");
        connections.push(made);
    }
    let [owner, reader, visitor] = &connections[..] else { panic!("three connections") };
    let cases = [
        (source(owner, "scribbles"), Some("definition/tables"), "scribbles", "PRIMARY KEY"),
        (source(owner, "hidden"), Some("definition/tables"), "replica identity nothing", "REPLICA IDENTITY DEFAULT"),
        (source(owner, "orchards"), Some("definition/tables"), "orchards", ""),
        // who logs in is the connection's, and stands not in this request
        (source(reader, "bins"), None, "may not create a publication", "GRANT CREATE ON DATABASE"),
        (source(visitor, "bins"), None, "may not replicate", "ALTER ROLE \"visitor\" REPLICATION"),
    ];
    for (body, field, finding, statement) in &cases {
        let (status, problem) = api.post("/connectors", body).await;
        assert_eq!((status, place(&problem)), (422, *field), "{problem:#}");
        says(&problem, "detail", finding);
        says(&problem, "statement", statement);
        assert!(problem["remedy"].is_string() && problem["checks"].as_array().is_some_and(|c| c.len() > 1), "{problem:#}");
        // a draft may lack everything, and is refused in the same words when it is started
        let (_, report) = api.post("/connectors/preflight", body).await;
        assert_eq!(report["ready"], false);
    }
    let mut body = source(owner, "bins");
    body["definition"]["partitions"] = 0.into();
    let (status, problem) = api.post("/connectors", &body).await;
    assert_eq!((status, place(&problem)), (422, Some("definition/partitions")));
    // each fault stands at the field that it belongs to
    for (part, value, field) in [
        ("start", json!({"at": "offsets", "offsets": []}), "definition/start"),
        ("placing", json!({"lanes": 2}), "definition/placing/lanes"),
        ("placing", json!({"weight": 0}), "definition/placing/weight"),
        ("shape", json!({"steps": {"public.nothing": []}}), "definition/shape"),
        ("patterns", json!({"include": [""], "topic": "{table}"}), "definition/patterns"),
        ("load", json!({"rows": true, "chunks": 99}), "definition/load"),
    ] {
        let mut body = source(owner, "bins");
        body["definition"][part] = value;
        let (status, problem) = api.post("/connectors", &body).await;
        assert_eq!((status, place(&problem)), (422, Some(field)), "{problem:#}");
    }
    body = source(owner, "bins");
    body["definition"]["tables"][0]["topic"] = "bins of today".into();
    let (status, problem) = api.post("/connectors", &body).await;
    assert_eq!(status, 422);
    says(&problem, "detail", "use letters, digits");
    let (status, _) = api.post("/connectors", &json!({"name": "x"})).await;
    assert_eq!(status, 422);

    assert_eq!(api.list("/connectors").await, json!([]));
    assert_eq!(api.list("/topics").await, json!([]));
    let left = "SELECT (SELECT count(*) FROM pg_replication_slots) + (SELECT count(*) FROM pg_publication)";
    assert_eq!(packhouse.query_one(left, &[]).await.unwrap().get::<_, i64>(0), 0);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_server_without_a_logical_log_is_refused_with_the_setting() {
    let cluster = TestCluster::start(&["gonvel"]).await;
    let plain = TestCluster::start_with(&["packhouse"], &["wal_level=replica"]).await;
    let api = Api::start(&cluster).await;
    let client = plain.connect("packhouse").await.unwrap();
    client.batch_execute("CREATE TABLE bins (id bigint PRIMARY KEY)").await.unwrap();
    let (_, made) = api.post("/connections", &connection("plain", plain.port, OWNER, &plain.password)).await;
    let (status, problem) = api.post("/connectors", &source(&made, "bins")).await;
    assert_eq!(status, 422);
    says(&problem, "detail", "wal_level is replica");
    says(&problem, "statement", "ALTER SYSTEM SET wal_level = 'logical';");
    assert_eq!(api.list("/connectors").await, json!([]));
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_report_stays_with_its_connector_and_its_remedies_can_be_carried_out() {
    let cluster = TestCluster::start(&["gonvel", "packhouse"]).await;
    let api = Api::start(&cluster).await;
    let packhouse = cluster.connect("packhouse").await.unwrap();
    packhouse
        .batch_execute(
            "CREATE TABLE bins (id bigint PRIMARY KEY, grade text); ALTER TABLE bins REPLICA IDENTITY NOTHING;
             CREATE TABLE scribbles (note text)",
        )
        .await
        .unwrap();
    let (_, owner) = api.post("/connections", &connection("owner", cluster.port, OWNER, &cluster.password)).await;
    let mut draft = source(&owner, "bins");
    draft["start"] = false.into();
    let (status, made) = api.post("/connectors", &draft).await;
    assert_eq!(status, 201, "{made:#}");
    let path = format!("/connectors/{}", made["id"].as_str().unwrap());
    let report = format!("{path}/preflight");
    assert_eq!(api.get(&report).await, Value::Null, "a draft was not checked yet");
    let mut checked = source(&owner, "bins");
    (checked["start"], checked["checked"], checked["name"]) = (false.into(), true.into(), "ready-to-start".into());
    let (status, problem) = api.post("/connectors", &checked).await;
    assert_eq!((status, word(&problem)), (422, Some("preflight")), "{problem:#}");
    assert_eq!(api.list("/connectors").await.as_array().unwrap().len(), 1, "nothing was made");
    let start = json!({"action": "start"});
    assert_eq!(api.post(&format!("{path}/actions"), &start).await.0, 422);
    let kept = api.get(&report).await;
    assert_eq!((kept["ready"].as_bool(), kept["at"].is_string()), (Some(false), true), "{kept:#}");

    // what the login may do is done by the check's name; the statement is the server's own
    let mend = |check: &str| json!({"connector": draft.clone(), "check": check});
    let (status, problem) = api.post("/connectors/preflight/mend", &mend("wal_level")).await;
    assert_eq!((status, word(&problem)), (409, Some("nothing-to-mend")));
    let (status, after) = api.post("/connectors/preflight/mend", &mend("table public.bins")).await;
    assert_eq!((status, after["ready"].as_bool()), (200, Some(true)), "{after:#}");
    assert_eq!(api.post("/connectors/preflight/mend", &mend("table public.bins")).await.0, 409);
    let identity = "SELECT relreplident::text FROM pg_class WHERE relname = 'bins'";
    assert_eq!(packhouse.query_one(identity, &[]).await.unwrap().get::<_, String>(0), "d");
    assert_eq!(api.post(&report, &json!({})).await.1["ready"], true);
    assert_eq!(api.get(&report).await["ready"], true, "the new report stays");
    // made without being started: with its report, and nothing of it in the source yet
    let (status, ready) = api.post("/connectors", &checked).await;
    assert_eq!((status, ready["state"].as_str()), (201, Some("draft")), "{ready:#}");
    let ready = format!("/connectors/{}", ready["id"].as_str().unwrap());
    assert_eq!(api.get(&format!("{ready}/preflight")).await["ready"], true);
    let slots = "SELECT count(*) FROM pg_replication_slots";
    assert_eq!(packhouse.query_one(slots, &[]).await.unwrap().get::<_, i64>(0), 0);

    // what cannot be loaded again says why; a draft has nothing to load again
    let reload = format!("{path}/reload");
    assert_eq!(api.post(&reload, &json!({"tables": ["public.bins"]})).await.0, 409);
    assert_eq!(api.post(&format!("{path}/actions"), &start).await.0, 200);
    for tables in [json!([]), json!(["public.scribbles"]), json!(["bins"])] {
        let (status, problem) = api.post(&reload, &json!({"tables": tables})).await;
        assert_eq!((status, place(&problem)), (422, Some("tables")), "{problem:#}");
    }
    let unknown = json!({"tables": ["public.bins"], "existing_rows": "burn"});
    assert_eq!(api.post(&reload, &unknown).await.0, 422, "no load that keeps what was to go");
    assert_eq!(api.post(&reload, &json!({"tables": ["public.bins"]})).await.0, 202);
    // what would be lost, or could not be told, is refused where it is asked
    let mut part = source(&owner, "bins");
    part["definition"]["tables"][0]["load_where"] = "id > 7".into();
    part["definition"]["existing_rows"] = "compare".into();
    let (status, problem) = api.post("/connectors/preflight", &part).await;
    assert_eq!((status, place(&problem)), (422, Some("definition/existing_rows")), "{problem:#}");
    assert!(problem["detail"].as_str().unwrap().contains("only a part of public.bins is loaded"), "{problem:#}");
    let mut endless = source(&owner, "bins");
    endless["definition"]["load"] = json!({"rows": true, "rows_per_second": 0});
    let (status, problem) = api.post("/connectors/preflight", &endless).await;
    assert_eq!((status, place(&problem)), (422, Some("definition/load")), "{problem:#}");

    // a sink that would write what the source captures
    let mut sink = draft.clone();
    sink["name"] = "back-again".into();
    sink["definition"] = json!({"kind": "sink", "connection": owner["id"],
        "topics": [{"topic": "packhouse.bins", "schema": "public", "table": "bins"}]});
    let (_, circle) = api.post("/connectors/preflight", &sink).await;
    let check = circle["checks"].as_array().unwrap().iter().find(|c| c["name"] == "source and target").unwrap().clone();
    assert_eq!((check["outcome"].as_str(), check["field"].as_str()), (Some("failed"), Some("topics")), "{check:#}");
    says(&check, "finding", "topic packhouse.bins \u{2192} public.bins of 127.0.0.1");
    sink["definition"]["topics"][0]["table"] = "bins_copy".into();
    assert_eq!(api.post("/connectors/preflight", &sink).await.1["ready"], true);

    // the further parts of a connection: kept, and refused at their fields
    let mut further = connection("further", cluster.port, OWNER, &cluster.password);
    for (part, value, field) in [
        ("ca", json!("my certificate"), "ca"),
        ("settings", json!({"a b": "1"}), "settings"),
        ("tls", json!("require"), "tls"),
        ("settings", json!({"lock_timeout": "soon"}), "settings"),
    ] {
        let before = further[part].take();
        further[part] = value;
        let (status, problem) = api.post("/connections", &further).await;
        assert_eq!((status, place(&problem)), (422, Some(field)), "{problem:#}");
        if before.is_null() {
            further.as_object_mut().unwrap().remove(part);
        } else {
            further[part] = before;
        }
    }
    further["log_user"] = OWNER.into();
    further["log_password"] = cluster.password.as_str().into();
    further["settings"] = json!({"lock_timeout": "5s"});
    let (status, made) = api.post("/connections", &further).await;
    assert_eq!(status, 201, "{made:#}");
    assert_eq!((made["log_user"].as_str(), made["tls"].as_str()), (Some(OWNER), Some("prefer")));
    assert!(!made.to_string().contains(&cluster.password), "a password came back");
    assert_eq!(made["settings"], json!({"lock_timeout": "5s"}));
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn an_unfinished_draft_is_kept_as_it_is_and_goes_when_its_connector_is_made() {
    let cluster = TestCluster::start(&["gonvel", "packhouse"]).await;
    let api = Api::start(&cluster).await;
    cluster.connect("packhouse").await.unwrap().batch_execute("CREATE TABLE bins (id bigint PRIMARY KEY)").await.unwrap();
    let (_, owner) = api.post("/connections", &connection("owner", cluster.port, OWNER, &cluster.password)).await;
    let work = json!({"draft": {"zeta": 1, "alpha": ["a\u{0}b", {"deep": null}]}, "text": "connector: \n"});
    let draft = json!({"name": " not yet a name ", "kind": "sink", "lacks": "Choose at least one topic.", "work": work});
    let (status, made) = api.post("/drafts", &draft).await;
    assert_eq!((status, made["name"].as_str(), made["revision"].as_i64()), (201, Some("not yet a name"), Some(1)));
    let path = format!("/drafts/{}", made["id"].as_str().unwrap());
    assert_eq!(api.get(&path).await["work"], work);
    assert_eq!(api.list("/connectors").await, json!([]), "a draft that lacks something is no connector");

    // two people at one draft: the later one is told, and the earlier one's work stays
    let mut again = draft.clone();
    again["name"] = "cooling".into();
    assert_eq!(api.put(&path, 1, &again).await.1["revision"], 2);
    again["name"] = "another".into();
    let (status, problem) = api.put(&path, 1, &again).await;
    assert_eq!((status, word(&problem), place(&problem)), (412, Some("changed"), Some("If-Match")), "{problem:#}");
    for (part, value) in [("name", json!("n".repeat(401))), ("lacks", json!("a\u{0}")), ("work", json!("text"))] {
        let mut bad = draft.clone();
        bad[part] = value;
        let (status, problem) = api.post("/drafts", &bad).await;
        assert_eq!((status, place(&problem)), (422, Some(part)), "{problem:#}");
    }
    let (status, problem) = api.send(reqwest::Method::PUT, &path, &draft).await;
    assert_eq!((status, word(&problem), place(&problem)), (428, Some("unconditional"), Some("If-Match")), "{problem:#}");
    let (_, other) = api.post("/drafts", &draft).await;
    let names = |list: &Value| list.as_array().unwrap().iter().map(|d| d["name"].clone()).collect::<Vec<_>>();
    assert_eq!(names(&api.list("/drafts").await), ["not yet a name", "cooling"]);

    // it stays while its connector is refused, and goes with the one that is made
    let mut connector = source(&owner, "absent");
    connector["draft"] = made["id"].clone();
    assert_eq!(api.post("/connectors", &connector).await.0, 422);
    assert_eq!(api.get(&path).await["name"], "cooling");
    connector = source(&owner, "bins");
    (connector["draft"], connector["start"]) = (made["id"].clone(), false.into());
    assert_eq!(api.post("/connectors", &connector).await.0, 201);
    let (status, problem) = api.put(&path, 2, &again).await;
    assert_eq!((status, word(&problem)), (404, Some("not-found")), "{problem:#}");
    assert_eq!(names(&api.list("/drafts").await), ["not yet a name"]);
    let gone = format!("{}/drafts/{}", api.base, other["id"].as_str().unwrap());
    assert_eq!(api.client.delete(&gone).send().await.unwrap().status(), 204);
    assert_eq!(api.client.delete(&gone).send().await.unwrap().status(), 404);
    assert_eq!(api.list("/drafts").await, json!([]));
}

#[test]
fn the_openapi_document_in_docs_is_the_server_s() {
    let path = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/openapi.json");
    let kept = std::fs::read_to_string(path).unwrap();
    assert!(kept.trim() == gonvel_server::openapi_json().trim(), "docs/openapi.json is not current: run make openapi");
}

/// By a validator that nobody here wrote: what the server takes and what it refuses is what its document says.
#[test]
fn the_document_takes_the_definitions_that_the_server_takes_and_no_other_fields() {
    let document: Value = serde_json::from_str(&gonvel_server::openapi_json()).unwrap();
    let schema = json!({"$ref": "#/components/schemas/Definition", "components": document["components"]});
    let validator = jsonschema::draft202012::new(&schema).unwrap();
    let connection = "00000000-0000-0000-0000-000000000000";
    let bins = json!({"schema": "public", "table": "bins", "topic": "bins"});
    let source = json!({"kind": "source", "connection": connection, "tables": [bins], "partitions": 1});
    let sink = json!({"kind": "sink", "connection": connection, "topics": [bins], "start": {"at": "latest"}});
    let topics = json!({"kind": "topics", "carries": [{"topic": "bins", "to": "lots"}], "partitions": 1});
    let taken = |definition: &Value| {
        let said = validator.is_valid(definition);
        let read = serde_json::from_value::<gonvel_http_api::Definition>(definition.clone());
        assert_eq!(said, read.is_ok(), "{definition:#}\n{read:?}");
        said
    };
    for definition in [&source, &sink, &topics] {
        assert!(taken(definition), "{definition:#}");
        for within in ["", "/tables/0", "/topics/0", "/carries/0", "/start"] {
            let mut more = definition.clone();
            let Some(object) = more.pointer_mut(within).and_then(Value::as_object_mut) else { continue };
            object.insert("colour".into(), json!("red"));
            // a start is one of several, which the document does not close
            let read = serde_json::from_value::<gonvel_http_api::Definition>(more.clone());
            assert!(read.is_err(), "{more:#}");
            assert!(within == "/start" || !taken(&more), "{more:#}");
        }
        let mut other = definition.clone();
        other["kind"] = json!("reader");
        assert!(!taken(&other));
    }
}

#[test]
fn no_request_takes_a_field_that_it_does_not_know() {
    let document: Value = serde_json::from_str(&gonvel_server::openapi_json()).unwrap();
    let operations = document["paths"].as_object().unwrap().values().flat_map(|path| path.as_object().unwrap().values());
    let (mut looked, mut open) = (0, std::collections::BTreeSet::new());
    for operation in operations {
        let Some(of) = operation["requestBody"]["content"]["application/json"]["schema"]["$ref"].as_str() else { continue };
        let schema = document.pointer(of.trim_start_matches('#')).unwrap();
        looked += 1;
        let kinds = schema["oneOf"].as_array().cloned().unwrap_or_else(|| vec![schema.clone()]);
        if kinds.iter().any(|schema| schema["type"] == "object" && schema["additionalProperties"] != false) {
            open.insert(of);
        }
    }
    assert!(looked > 30, "{looked}");
    assert_eq!(open, std::collections::BTreeSet::new());
}
