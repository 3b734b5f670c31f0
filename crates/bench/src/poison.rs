//! What a few rows that the target refuses cost a sink that delivers many.

use std::time::{Duration, Instant};

use gonvel_core::connector::State;

use crate::report::{Measured, median};
use crate::world::{Outcome, TABLES, World};

const ROWS: i64 = 60_000;
const ROUNDS: usize = 3;

async fn delivered(world: &World, database: &str) -> Outcome<i64> {
    let client = world.connect(database).await?;
    let row = client.query_one("SELECT count(*) FROM bins", &[]).await;
    Ok(row.map_or(0, |r| r.get(0)))
}

/// Delivers all rows of the topic into a database, and gives the rows a second.
async fn rate(world: &World, database: &str, expected: i64) -> Outcome<f64> {
    let begun = Instant::now();
    let sink = world.sink("packhouse", &["bins"], database).await?;
    while delivered(world, database).await? < expected {
        if begun.elapsed() > Duration::from_secs(300) {
            return Err(format!("{} of {expected} rows in {database}", delivered(world, database).await?).into());
        }
        tokio::time::sleep(Duration::from_millis(10)).await;
    }
    #[allow(clippy::cast_precision_loss, reason = "a rate")]
    let rate = ROWS as f64 / begun.elapsed().as_secs_f64();
    world.until(sink, State::Following).await?;
    Ok(rate)
}

/// Three rows of a thousand are refused: all others are delivered at no less than a fifth of the speed without them.
pub async fn run() -> Outcome<Measured> {
    let mut ratios = Vec::with_capacity(ROUNDS);
    let mut figures = Vec::with_capacity(ROUNDS);
    let names: Vec<String> = (0..ROUNDS * 2).map(|n| format!("settlement{n}")).collect();
    let mut databases: Vec<&str> = names.iter().map(String::as_str).collect();
    databases.push("packhouse");
    let world = World::start(&databases).await?;
    let packhouse = world.connect("packhouse").await?;
    packhouse.batch_execute(TABLES).await?;
    // three of each thousand are too heavy for the target
    packhouse
        .batch_execute(&format!(
            "INSERT INTO bins SELECT n, n % 500, now(), CASE WHEN n % 1000 IN (7, 411, 900) THEN 99999 ELSE 300 END, 'first', 1,
               'stored', NULL FROM generate_series(1, {ROWS}) n"
        ))
        .await?;
    let source = world.source("packhouse", &["bins"], 3).await?;
    let fleet = world.fleet();
    world.until(source, State::Following).await?;
    for round in 0..ROUNDS {
        let (clean, poisoned) = (&names[round * 2], &names[round * 2 + 1]);
        let checked = world.connect(poisoned).await?;
        checked
            .batch_execute(&TABLES.replace("weight_kg numeric(7,1)", "weight_kg numeric(7,1) CHECK (weight_kg < 9000)"))
            .await?;
        world.connect(clean).await?.batch_execute(TABLES).await?;
        let normal = rate(&world, clean, ROWS).await?;
        let slowed = rate(&world, poisoned, ROWS - ROWS * 3 / 1_000).await?;
        ratios.push(slowed / normal);
        figures.push(format!("{slowed:.0} against {normal:.0}"));
    }
    fleet.stop().await;
    Ok(Measured {
        name: "poisoned",
        what: "rows delivered where the target refuses three of each thousand, which go into quarantine, against the same rows where it \
               refuses none",
        ratio: median(ratios),
        goal: 0.2,
        detail: format!("{} rows/s, median ratio of {ROUNDS} rounds", figures.join(", ")),
    })
}
