//! The served program's memory where each thing that a lane holds would outgrow it: a transaction delivered whole, rows carried again because
//! of what they look up, records that wait in quarantine.

use std::time::{Duration, Instant};

use gonvel_stand_ins::postgres_cluster::OWNER;
use serde_json::{Value, json};

use crate::report::Measured;
use crate::served::Served;
use crate::world::{Outcome, World};

const BINS: i64 = 2_000_000;
const ROOMS: i64 = 60;
/// Rows that a target refuses.
const REFUSED: i64 = 20_000;
/// What a lane may hold, in MiB.
const LANE: u32 = 64;
const LIMIT_MIB: f64 = 400.0;
const PATIENCE: Duration = Duration::from_secs(900);

/// The most memory until something is so, in MiB.
async fn most(served: &Served, what: &str, is_so: impl AsyncFn() -> Outcome<bool>) -> Outcome<f64> {
    let (start, mut most) = (Instant::now(), 0.0_f64);
    let mut looked = Instant::now();
    loop {
        most = most.max(served.memory()?);
        if looked.elapsed() > Duration::from_millis(500) {
            if is_so().await? {
                eprintln!("  {what}: {most:.0} MiB at most, {:.0} s", start.elapsed().as_secs_f64());
                return Ok(most);
            }
            looked = Instant::now();
        }
        if start.elapsed() > PATIENCE {
            let said = served.items("/connectors").await?;
            return Err(format!("{what} does not come to an end: {said:#}").into());
        }
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
}

pub async fn run() -> Outcome<Measured> {
    let world = World::start(&["packhouse", "settlement"]).await?;
    world
        .sql(
            "packhouse",
            &format!(
                "CREATE TABLE rooms (id int PRIMARY KEY, label text); INSERT INTO rooms SELECT n, 'room ' || n FROM generate_series(1, {ROOMS}) n;
                 CREATE TABLE bins (id bigint PRIMARY KEY, room int, grade text, note text)"
            ),
        )
        .await?;
    world.sql("settlement", "CREATE TABLE refusing (id bigint PRIMARY KEY, grade text, CHECK (grade <> 'none'))").await?;
    let served = Served::start_with(&world, &[("GONVEL_LANE_MEMORY", &LANE.to_string())]).await?;
    let mut connections = Vec::new();
    for name in ["packhouse", "settlement"] {
        let body = json!({"name": name, "host": "127.0.0.1", "port": world.cluster_of(name).port, "database": name, "user": OWNER,
            "password": world.cluster_of(name).password});
        connections.push(served.post("/connections", body).await?["id"].clone());
    }
    let start = async |name: &str, definition: Value| {
        served.post("/connectors", json!({"name": name, "definition": definition, "start": true})).await
    };
    let table = |name: &str| json!({"schema": "public", "table": name, "topic": format!("packhouse.{name}")});
    let tables = json!([table("rooms"), table("bins")]);
    start("source", json!({"kind": "source", "connection": connections[0], "tables": tables, "partitions": 3})).await?;
    let whole = json!({"kind": "sink", "connection": connections[1], "topics": [table("bins")], "writes": {"whole_transactions": true}});
    start("whole", whole).await?;
    tokio::time::sleep(Duration::from_secs(2)).await;
    let before = served.memory()?;

    let settlement = world.connect("settlement").await?;
    let client = world.connect("packhouse").await?;
    let fill = format!(
        "INSERT INTO bins SELECT n, 1 + n % {ROOMS}, CASE WHEN n <= {REFUSED} THEN 'none' ELSE 'first' END, 'note ' || n % 1000 \
         FROM generate_series(1, {BINS}) n"
    );
    let filling = tokio::spawn(async move { client.batch_execute(&fill).await });
    let delivered = most(&served, "a transaction delivered whole", async || {
        let count = settlement.query_one("SELECT count(*) FROM bins", &[]).await;
        let count = count.map_or(0, |row| row.get::<_, i64>(0));
        if count != 0 && count != BINS {
            Err(format!("the target showed {count} of {BINS}").into())
        } else {
            Ok(count == BINS)
        }
    })
    .await?;
    filling.await??;

    let lookup = json!({"step": "lookup", "topic": "packhouse.rooms", "by": [{"column": "room", "key": "id"}],
        "columns": [{"from": "label", "column": "label"}], "again": true});
    let carries = json!([{"topic": "packhouse.bins", "to": "rich.bins"}]);
    let between =
        json!({"kind": "topics", "partitions": 3, "carries": carries, "shape": {"steps": {"packhouse.bins": [lookup]}}});
    start("rich", between).await?;
    let records = async |wanted: i64| Ok(served.get("/topics/rich.bins").await?["records"].as_i64() == Some(wanted));
    most(&served, "rows looked up", async || records(BINS).await).await?;
    world.sql("packhouse", "UPDATE rooms SET label = label || ' (cold)'").await?;
    let again = most(&served, "rows carried again", async || records(2 * BINS).await).await?;

    let topic = json!([{"topic": "packhouse.bins", "schema": "public", "table": "refusing"}]);
    let shape = json!({"steps": {"packhouse.bins": [{"step": "drop", "columns": ["room", "note"]}, {"step": "filter", "only": format!("id <= {REFUSED}")}]}});
    let failing = json!({"most_in_a_row": 1_000_000, "most_a_minute": 1_000_000});
    let refusing =
        json!({"kind": "sink", "connection": connections[1], "topics": topic, "shape": shape, "failing": failing});
    start("refusing", refusing).await?;
    let waiting = most(&served, "records in quarantine", async || {
        let all = served.items("/connectors").await?;
        let found = all.as_array().into_iter().flatten().find(|c| c["name"] == "refusing");
        Ok(found.is_some_and(|c| c["quarantined"] == REFUSED))
    })
    .await?;
    let peak = delivered.max(again).max(waiting);
    Ok(Measured {
        name: "memory-ends",
        what: "memory of the server, whose lanes may hold 64 MiB, through a transaction of 2,000,000 rows delivered whole, all of them carried again and \
               20,000 put into quarantine, against a limit of 400 MiB",
        ratio: LIMIT_MIB / peak,
        goal: 1.0,
        detail: format!(
            "{before:.0} MiB before; at most {delivered:.0} MiB delivering, {again:.0} MiB carrying again, {waiting:.0} MiB with the quarantine"
        ),
    })
}
