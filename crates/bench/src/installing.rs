//! How long it takes until an installation is what manifests say.

use std::time::{Duration, Instant};

use gonvel_stand_ins::postgres_cluster::OWNER;
use serde_json::{Value, json};

use crate::report::{Measured, median};
use crate::served::Served;
use crate::world::{Outcome, World};

const TOPICS: usize = 1_000;
const SOURCES: usize = 10;
/// Tables of each source.
const TABLES: usize = 15;
const SINKS: usize = 40;
const BETWEEN: usize = 250;

/// A thousand topics and three hundred connectors, which all start.
fn manifests(world: &World) -> String {
    let mut out: Vec<String> = Vec::new();
    for name in ["packhouse", "settlement"] {
        let port = world.cluster_of(name).port;
        out.push(format!(
            "connection: {name}\nkind: postgresql\nhost: 127.0.0.1\nport: {port}\ndatabase: {name}\nuser: {OWNER}\npassword: {{ask: true}}\n"
        ));
    }
    out.extend((0..TOPICS).map(|n| format!("topic: orchard.row-{n}\npartitions: 3\n")));
    for source in 0..SOURCES {
        let table = |n: usize| format!("{{schema: public, table: t{n}, topic: orchard.row-{n}}}");
        let tables: Vec<String> = (source * TABLES..(source + 1) * TABLES).map(table).collect();
        let tables = tables.join(", ");
        out.push(format!(
            "connector: in-{source}\nsource:\n  connection: packhouse\n  tables: [{tables}]\n  partitions: 3\n"
        ));
    }
    out.extend((0..SINKS).map(|n| {
        format!(
            "connector: out-{n}\nsink:\n  connection: settlement\n  topics: [{{topic: orchard.row-{n}, schema: public, table: t{n}}}]\n"
        )
    }));
    out.extend((0..BETWEEN).map(|n| {
        let (from, to) = (n % (SOURCES * TABLES), 200 + n);
        format!("connector: between-{n}\ntopics:\n  carries: [{{topic: orchard.row-{from}, to: orchard.row-{to}}}]\n  partitions: 3\n")
    }));
    out.join("---\n")
}

/// Applies and gives the number of steps that were done.
async fn applied(served: &Served, request: &Value) -> Outcome<usize> {
    let answer = reqwest::Client::new().post(format!("{}/manifests/apply", served.base())).json(request).send().await?;
    let status = answer.status();
    if !status.is_success() {
        return Err(answer.text().await?.into());
    }
    let mut operation: Value = answer.json().await?;
    let at = format!("{}/operations/{}", served.base(), operation["id"].as_str().unwrap_or_default());
    while operation["state"] == "running" {
        tokio::time::sleep(Duration::from_millis(50)).await;
        operation = reqwest::get(&at).await?.json().await?;
    }
    if operation["state"] != "done" {
        return Err(operation["problem"]["detail"].to_string().into());
    }
    Ok(operation["result"]["steps"].as_array().map_or(0, Vec::len))
}

/// Plans in under 2 s, applies in under 60 s, and then there is nothing to do.
pub async fn run() -> Outcome<Measured> {
    let settings = ["max_connections=300", "shared_buffers=256MB"];
    let world = World::start_with(&["packhouse", "settlement"], &settings).await?;
    let tables: Vec<String> =
        (0..SOURCES * TABLES).map(|n| format!("CREATE TABLE t{n} (id int PRIMARY KEY, v text)")).collect();
    world.sql("packhouse", &tables.join(";")).await?;
    let served = Served::start(&world).await?;
    let password = |name: &str| json!({"password": world.cluster_of(name).password});
    let secrets = json!({"packhouse": password("packhouse"), "settlement": password("settlement")});
    let request = json!({"files": [{"name": "orchard.yaml", "text": manifests(&world)}], "secrets": secrets});
    let mut plans = Vec::new();
    let mut steps = 0;
    for _ in 0..5 {
        let asked = Instant::now();
        let plan = served.post("/manifests/plan", request.clone()).await?;
        plans.push(asked.elapsed().as_secs_f64());
        steps = plan["steps"].as_array().map_or(0, Vec::len);
    }
    let asked = Instant::now();
    let done = applied(&served, &request).await?;
    let took = asked.elapsed().as_secs_f64();
    tokio::time::sleep(Duration::from_secs(5)).await;
    let asked = Instant::now();
    let left = served.post("/manifests/plan", request.clone()).await?;
    let again = asked.elapsed().as_secs_f64();
    let left = left["steps"].as_array().map_or(usize::MAX, Vec::len);
    if (done, left) != (steps, 0) {
        return Err(format!("{done} of {steps} steps were done, and {left} are left").into());
    }
    let plan = median(plans);
    Ok(Measured {
        name: "apply",
        what: "manifests of 1,000 topics and 300 connectors, which all start: the smaller of 2 s divided by what the plan takes, and 60 s divided by what applying takes",
        ratio: (2.0 / plan.max(again)).min(60.0 / took),
        goal: 1.0,
        detail: format!(
            "{steps} steps: planned in {plan:.2} s (median of 5), applied in {took:.1} s; then {again:.2} s to find nothing to do"
        ),
    })
}
