//! Systems that only runners of a place reach: what a server asks of them goes through one of those.

use std::sync::Arc;
use std::time::{Duration, Instant};

use gonvel_core::connector::State;
use gonvel_core::naming::{ConnectorId, RunnerName};
use gonvel_core::planning::Labels;
use gonvel_core::ports::{Address, Errand, ErrandStore};
use gonvel_runtime::{Fleet, LANE_BYTES, RunnerSettings, Services};
use gonvel_stand_ins::postgres_cluster::OWNER;
use gonvel_stand_ins::test_cluster::TestCluster;
use reqwest::Method;
use serde_json::{Value, json};
use uuid::Uuid;

use crate::support::{Api, place};

fn runner(api: &Api, name: &str, labels: &[(&str, &str)]) -> Fleet {
    let labels: Labels = labels.iter().map(|(name, value)| ((*name).to_owned(), (*value).to_owned())).collect();
    let settings = RunnerSettings { name: RunnerName::parse(name).unwrap(), labels, room: 100, lane_bytes: LANE_BYTES };
    Fleet::start(Services::of(&Arc::new(api.database.clone()), settings))
}

fn failed(report: &Value) -> Option<(&str, &str)> {
    let check = report["checks"].as_array()?.iter().find(|check| check["outcome"] == "failed")?;
    Some((check["field"].as_str()?, check["finding"].as_str()?))
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_is_asked_of_a_system_of_a_place_is_asked_by_a_runner_there() {
    let (api, there) = (Api::start().await, TestCluster::start(&["packhouse"]).await);
    let source = there.connect("packhouse").await.unwrap();
    source
        .batch_execute(
            "CREATE TABLE bins (id bigint PRIMARY KEY, weight_kg numeric(7,1), ratio float8, label bytea, seen timestamptz);
             INSERT INTO bins VALUES (1, 212.5, 'NaN', '\\x00ff', 'infinity'), (2, NULL, 0.1, NULL, '2026-11-03T06:00:00Z')",
        )
        .await
        .unwrap();
    let body = |password: &str| {
        json!({"name": "packhouse", "host": "127.0.0.1", "port": there.port, "database": "packhouse", "user": OWNER,
            "password": password, "only_where": {"site": "packhouse"}})
    };
    let right = body(&there.password);

    // nobody is there: nothing is reached, and that is said at once
    let office = runner(&api, "office", &[("site", "office")]);
    let start = Instant::now();
    let (status, report) = api.post("/connections/test", &right).await;
    let (field, finding) = failed(&report).unwrap();
    assert_eq!((status, field), (200, "only_where"));
    assert!(finding.contains("reached from site=packhouse, and no runner with these labels is there"), "{finding}");
    assert!(start.elapsed() < Duration::from_secs(3), "{:?}", start.elapsed());
    let (status, problem) = api.post("/connections", &right).await;
    assert_eq!((status, place(&problem)), (422, Some("only_where")), "{problem:#}");

    let near = runner(&api, "near", &[("site", "packhouse"), ("tier", "fast")]);
    let waits = async |what: &str, done: &dyn Fn(&Value) -> bool, path: &str| {
        let start = Instant::now();
        loop {
            let found = api.get(path).await.1;
            if done(&found) {
                return found;
            }
            assert!(start.elapsed() < Duration::from_secs(60), "{what}: {found:#}");
            tokio::time::sleep(Duration::from_millis(100)).await;
        }
    };
    waits("the runner is alive", &|found| found.to_string().contains("near"), "/runners").await;
    let (_, report) = api.post("/connections/test", &body("winter gold")).await;
    assert_eq!(failed(&report).unwrap().0, "password", "what a runner finds is told as it found it: {report:#}");
    let (status, made) = api.post("/connections", &right).await;
    assert_eq!(status, 201, "{made:#}");
    assert_eq!(made["kept_secrets"], json!(["password"]), "{made:#}");
    assert!(made["place"].as_str().unwrap().ends_with(", from site=packhouse"), "{made:#}");
    let id = made["id"].as_str().unwrap();

    let tables = api.list(&format!("/connections/{id}/tables")).await;
    assert_eq!((tables[0]["table"].as_str(), tables[0]["key"][0].as_str()), (Some("bins"), Some("id")), "{tables:#}");
    let table = json!({"schema": "public", "table": "bins", "topic": "packhouse.bins"});
    let asked = json!({"table": table, "values": {"form": "row", "encoding": "json"}});
    let (_, sample) = api.post(&format!("/connections/{id}/sample"), &asked).await;
    assert_eq!(sample["rows"].as_array().map(Vec::len), Some(2), "{sample:#}");
    let gone = json!({"table": {"schema": "public", "table": "crates", "topic": "t"}});
    let (status, problem) = api.post(&format!("/connections/{id}/sample"), &gone).await;
    assert_eq!(status, 422, "{problem:#}");
    assert!(problem["detail"].as_str().unwrap().contains("public.crates"), "{problem:#}");
    let steps = json!([{"step": "compute", "column": "double", "value": "weight_kg * 2"}]);
    let shape = json!({"shape": {"steps": {"public.bins": steps}},
        "rows": {"from": "table", "connection": id, "table": table}});
    let (status, shaped) = api.post("/shapes/try", &shape).await;
    assert_eq!(status, 200, "{shaped:#}");
    assert!(shaped.to_string().contains("425.0"), "{shaped:#}");

    // its connector is carried there and nowhere else
    let definition = json!({"kind": "source", "connection": id, "tables": [table], "partitions": 1});
    let (status, preflight) = api
        .post("/connectors/preflight", &json!({"name": "from-packhouse", "definition": definition, "start": false}))
        .await;
    assert_eq!((status, preflight["ready"].as_bool()), (200, Some(true)), "{preflight:#}");
    let (status, connector) =
        api.post("/connectors", &json!({"name": "from-packhouse", "definition": definition, "start": true})).await;
    assert_eq!(status, 201, "{connector:#}");
    let connector = connector["id"].as_str().unwrap();
    let path = format!("/connectors/{connector}");
    waits("it follows", &|found| found["lanes"][0]["state"] == "following", &path).await;
    let followed = api.get(&path).await.1;
    assert_eq!(followed["lanes"][0]["runner"], "near", "{followed:#}");
    let positions = api.get(&format!("{path}/positions")).await.1;
    assert_eq!(positions["source"]["held"]["kept"], true, "{positions:#}");

    // a kept password is not sent to the same address somewhere else
    let mut elsewhere = body("");
    elsewhere.as_object_mut().unwrap().remove("password");
    elsewhere["only_where"] = json!({"site": "office"});
    let changed = api.request(Method::PUT, &format!("/connections/{id}")).header("if-match", "*").json(&elsewhere);
    let (status, problem) = api.send(changed).await;
    assert_eq!((status, place(&problem)), (422, Some("password")), "{problem:#}");
    assert!(problem["detail"].as_str().unwrap().contains("it is reached from elsewhere"), "{problem:#}");

    near.stop().await;
    waits("it waits for a runner", &|found| found.to_string().contains("site=packhouse"), &path).await;
    let stored = api.database.find_connector(ConnectorId(Uuid::parse_str(connector).unwrap())).await.unwrap();
    assert!(stored.said().all(|lane| lane.state != State::Halted), "{stored:?}");
    office.stop().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_nobody_waits_for_is_forgotten_and_nothing_of_it_can_be_read() {
    let api = Api::start().await;
    let labels: Labels = [("site".to_owned(), "packhouse".to_owned())].into();
    let address = Address::new("postgresql").with("host", "db.orchard.example").with_secret("password", "winter gold");
    let id = api.database.ask_runners(&labels, &address, &Errand::Mend("ALTER ROLE picker".into())).await.unwrap();
    let own = api.cluster.connect("gonvel").await.unwrap();
    let stored: String = own.query_one("SELECT errands::text FROM errands", &[]).await.unwrap().get(0);
    for part in ["winter gold", "orchard", "ALTER"] {
        assert!(stored.contains(&id.to_string()) && !stored.contains(part), "{stored}");
    }
    own.batch_execute("UPDATE errands SET asked_at = asked_at - interval '11 minutes'").await.unwrap();
    api.database.ask_runners(&labels, &address, &Errand::Test).await.unwrap();
    let left: i64 = own.query_one("SELECT count(*) FROM errands", &[]).await.unwrap().get(0);
    assert_eq!(left, 1);
}
