//! What connectors cost that have nothing to do.

use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use gonvel_core::connector::{State, Wish};
use gonvel_core::naming::ConnectorId;
use gonvel_stand_ins::postgres_cluster::free_port;
use uuid::Uuid;

use crate::report::Measured;
use crate::served::processor;
use crate::world::{Outcome, TABLES, World};

const CONNECTORS: usize = 1_000;
const WATCHED: Duration = Duration::from_secs(30);

/// Processor time a process used, in seconds, and the memory it has, in MiB.
fn used(pid: u32) -> Outcome<(f64, f64)> {
    let status = std::fs::read_to_string(format!("/proc/{pid}/status"))?;
    let resident = status.lines().find_map(|l| l.strip_prefix("VmRSS:")).unwrap_or("0 kB");
    let kib: f64 = resident.trim().trim_end_matches("kB").trim().parse()?;
    Ok((processor(&pid.to_string()).ok_or("its processor time is not told")?, kib / 1024.0))
}

/// A thousand sinks of one runner with nothing to deliver: under 1 MB each, under 5 % of a core, and the fleet's page is answered in
/// under 500 ms.
pub async fn run() -> Outcome<Measured> {
    let settings = ["max_connections=1300", "shared_buffers=256MB"];
    let world = World::start_with(&["packhouse", "settlement"], &settings).await?;
    world.connect("packhouse").await?.batch_execute(TABLES).await?;
    let source = world.source("packhouse", &["bins"], 1).await?;
    let settlement = world.connection("settlement").await?;
    let port = free_port()?;
    let server = std::env::current_exe()?.with_file_name("gonvel");
    let mut child = Command::new(server)
        .arg("serve")
        .args(["--room", "100000", "--listen", &format!("127.0.0.1:{port}")])
        .env("GONVEL_DATABASE_URL", world.url("gonvel"))
        .env("GONVEL_KEY", base64_of(&[7; 32]))
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .spawn()?;
    let outcome = watch(&world, child.id(), port, source, settlement).await;
    child.kill()?;
    child.wait()?;
    outcome
}

pub fn base64_of(key: &[u8]) -> String {
    use base64::Engine as _;
    base64::engine::general_purpose::STANDARD.encode(key)
}

async fn watch(world: &World, pid: u32, port: u16, source: ConnectorId, settlement: Uuid) -> Outcome<Measured> {
    world.until(source, State::Following).await?;
    tokio::time::sleep(Duration::from_secs(5)).await;
    let (_, before) = used(pid)?;
    world.sinks(settlement, CONNECTORS, Wish::Run).await?;
    let begun = Instant::now();
    loop {
        let connectors = world.database.connectors().await?;
        let following = connectors.iter().filter(|c| c.said().any(|l| l.state == State::Following)).count();
        if following > CONNECTORS {
            break;
        }
        if begun.elapsed() > Duration::from_secs(300) {
            return Err(format!("only {following} follow after five minutes").into());
        }
        tokio::time::sleep(Duration::from_millis(500)).await;
    }
    let started = begun.elapsed();
    tokio::time::sleep(Duration::from_secs(15)).await;
    let (first, _) = used(pid)?;
    tokio::time::sleep(WATCHED).await;
    let (last, memory) = used(pid)?;
    let share = (last - first) / WATCHED.as_secs_f64();
    #[allow(clippy::cast_precision_loss, reason = "MiB")]
    let each = (memory - before) / CONNECTORS as f64;
    let http = reqwest::Client::new();
    let mut slowest = Duration::ZERO;
    let mut size = 0;
    for _ in 0..11 {
        let asked = Instant::now();
        size = http.get(format!("http://127.0.0.1:{port}/api/v1/connectors?limit=10000")).send().await?.bytes().await?.len();
        slowest = slowest.max(asked.elapsed());
    }
    let ratio = (1.0 / each.max(0.001)).min(0.05 / share.max(0.000_1)).min(0.5 / slowest.as_secs_f64());
    Ok(Measured {
        name: "idle-fleet",
        what: "1,000 sinks of one runner with nothing to do: the smallest of 1 MiB divided by the memory of each, 5 % of a core divided by \
               what the server with all of them uses, and 500 ms divided by the slowest answer with the whole fleet",
        ratio,
        goal: 1.0,
        detail: format!(
            "{each:.2} MiB each, {:.1} % of a core over {} s, slowest of 11 answers {} ms for {} kB; all followed {:.0} s after the last was made",
            share * 100.0,
            WATCHED.as_secs(),
            slowest.as_millis(),
            size / 1000,
            started.as_secs_f64()
        ),
    })
}
