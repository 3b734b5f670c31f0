//! What it costs to tell many clients what changes, and how soon each knows.

use std::sync::Arc;
use std::time::{Duration, Instant};

use futures::StreamExt;
use gonvel_core::connector::Wish;
use serde_json::json;
use tokio::sync::mpsc;

use crate::idle::base64_of;
use crate::report::{Measured, median};
use crate::served::Served;
use crate::world::{Outcome, World};

const CONNECTORS: usize = 1_000;
const CLIENTS: usize = 200;
const AT_REST: Duration = Duration::from_secs(30);
const CHANGES: usize = 60;
const SHARE: f64 = 0.02;
const SEEN_MS: f64 = 300.0;

/// 200 clients that watch 1,000 connectors and all else: under 2 % of a core for the server while nothing changes, and every change is with
/// every client within 300 ms of the answer to whoever made it.
pub async fn run() -> Outcome<Measured> {
    let world = World::start(&["settlement"]).await?;
    let settlement = world.connection("settlement").await?;
    world.sinks(settlement, CONNECTORS, Wish::Draft).await?;
    // the connection is sealed with the world's key
    let served = Served::start_with(&world, &[("GONVEL_KEY", &base64_of(&[7; 32]))]).await?;
    tokio::time::sleep(Duration::from_secs(5)).await;
    let alone = served.share(AT_REST).await?;

    let (seen, mut when) = mpsc::unbounded_channel();
    let http = reqwest::Client::new();
    let begun = Arc::new(tokio::sync::Barrier::new(CLIENTS + 1));
    for _ in 0..CLIENTS {
        let lines = http.get(format!("{}/events", served.base())).header("accept", "application/x-ndjson").send().await?;
        let (mut lines, seen, begun) = (lines.error_for_status()?.bytes_stream(), seen.clone(), begun.clone());
        tokio::spawn(async move {
            lines.next().await;
            begun.wait().await;
            while let Some(Ok(piece)) = lines.next().await {
                let at = Instant::now();
                let text = String::from_utf8_lossy(&piece);
                for line in text.lines().filter(|line| line.contains(r#""kind":"topic""#)) {
                    let name = line.split(r#""id":""#).nth(1).and_then(|rest| rest.split('"').next()).unwrap_or_default();
                    let _ = seen.send((name.to_owned(), at));
                }
            }
        });
    }
    begun.wait().await;
    tokio::time::sleep(Duration::from_secs(5)).await;
    let watched = served.share(AT_REST).await?;

    let mut last_ms = Vec::new();
    for n in 0..CHANGES {
        let name = format!("lots-{n}");
        served.post("/topics", json!({"name": name, "partitions": 1})).await?;
        let made = Instant::now();
        let mut last = Duration::ZERO;
        for _ in 0..CLIENTS {
            let at = loop {
                let told = tokio::time::timeout(Duration::from_secs(10), when.recv()).await?;
                let (which, at) = told.ok_or("a client went")?;
                if which == name {
                    break at;
                }
            };
            last = last.max(at.saturating_duration_since(made));
        }
        last_ms.push(last.as_secs_f64() * 1_000.0);
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
    let (most, middle) = (last_ms.iter().copied().fold(0.0, f64::max), median(last_ms));
    Ok(Measured {
        name: "watching",
        what: "200 clients on `/events` with 1,000 connectors: the smaller of 2 % of a core divided by what the server uses while nothing changes, \
               and 300 ms divided by the longest that a change took to the last of the clients",
        ratio: (SHARE / watched.max(0.000_1)).min(SEEN_MS / most),
        goal: 1.0,
        detail: format!(
            "{:.2} % of a core over {} s with them, {:.2} % without; the last client knew after {middle:.0} ms (median), {most:.0} ms at most \
             of {CHANGES} changes",
            watched * 100.0,
            AT_REST.as_secs(),
            alone * 100.0
        ),
    })
}
