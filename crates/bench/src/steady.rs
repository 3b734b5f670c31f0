//! From commit to commit at a steady load, against the server's own subscription under the same load.

use std::time::{Duration, Instant};

use gonvel_core::connector::{State, Wish};
use hdrhistogram::Histogram;
use tokio::sync::watch;

use crate::report::Measured;
use crate::world::{Outcome, TABLES, World, insert_bins};

const CHANGES_PER_SECOND: u64 = 2_000;
/// Changes in each transaction of the load.
const CHANGES: u64 = 10;
const WRITERS: u64 = 4;
const BINS: i64 = 50_000;
const PROBES: u32 = 300;
/// Each alternative's turns; a machine is not equally fast all the time.
const TURNS: u32 = 3;

pub async fn run() -> Outcome<Measured> {
    let world = World::start(&["packhouse", "settlement", "mirror"]).await?;
    for database in ["packhouse", "settlement", "mirror"] {
        world.sql(database, TABLES).await?;
        insert_bins(&world, database, 0, BINS).await?;
        world.sql(database, "VACUUM ANALYZE").await?;
    }
    let source = world.source("packhouse", &["bins", "marks"], 3).await?;
    let sink = world.sink("packhouse", &["bins", "marks"], "settlement").await?;
    let fleet = world.fleet();
    world.until(source, State::Following).await?;
    world.until(sink, State::Following).await?;
    world.subscribe(source, "packhouse", "mirror").await?;
    let (mut ours, mut theirs) = (Histogram::<u64>::new(3)?, Histogram::<u64>::new(3)?);
    for turn in 0..i64::from(TURNS) {
        // each alone: neither is to wait for the other's processor time
        for id in [source, sink] {
            world.database.ask(id, Wish::Pause, "").await?;
            world.until(id, State::Paused).await?;
        }
        world.sql("packhouse", "CHECKPOINT").await?;
        theirs.add(probe(&world, "mirror", turn * 1_000_000).await?)?;
        world.sql("mirror", "ALTER SUBSCRIPTION mirror DISABLE").await?;
        for id in [source, sink] {
            world.database.ask(id, Wish::Run, "").await?;
            world.until(id, State::Following).await?;
        }
        arrived(&world, "settlement", turn * 1_000_000).await?;
        caught_up(&world).await?;
        world.sql("packhouse", "CHECKPOINT").await?;
        ours.add(probe(&world, "settlement", turn * 1_000_000 + 500_000).await?)?;
        world.sql("mirror", "ALTER SUBSCRIPTION mirror ENABLE").await?;
        arrived(&world, "mirror", turn * 1_000_000 + 500_000).await?;
    }
    fleet.stop().await;
    world.unsubscribe("mirror").await?;
    let ms = |found: &Histogram<u64>, quantile: f64| found.value_at_quantile(quantile) as f64 / 1000.0;
    let line = |found: &Histogram<u64>| format!("p50 {:.1} ms, p99 {:.1} ms", ms(found, 0.5), ms(found, 0.99));
    Ok(Measured {
        name: "latency-steady",
        what: "commit in the source to visible in the target at 2,000 changes/s: p99 of the server's own subscription divided by it (at most 3 times as long)",
        ratio: ms(&theirs, 0.99) / ms(&ours, 0.99),
        goal: 1.0 / 3.0,
        detail: format!("{} against {}, over {} probes each", line(&ours), line(&theirs), PROBES * TURNS),
    })
}

/// Waits until all marks of a turn are in a database.
async fn arrived(world: &World, database: &str, first: i64) -> Outcome<()> {
    let last = first + i64::from(PROBES) + 19;
    world.until_true(database, &format!("SELECT EXISTS (SELECT 1 FROM marks WHERE id = {last})")).await
}

/// Waits until the sink has delivered all that is in its topics: marks may overtake the changes of another topic.
async fn caught_up(world: &World) -> Outcome<()> {
    loop {
        let all = world.records("packhouse.bins").await? + world.records("packhouse.marks").await?;
        let client = world.connect("settlement").await?;
        let sum = "SELECT coalesce(sum(next_offset), 0)::bigint FROM gonvel.sink_positions";
        if client.query_one(sum, &[]).await?.get::<_, i64>(0) >= all {
            return Ok(());
        }
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
}

/// Times of marks from their commit until they are seen in a database, while the load goes on.
async fn probe(world: &World, database: &str, first: i64) -> Outcome<Histogram<u64>> {
    let (stop, stopped) = watch::channel(false);
    let mut writers = Vec::new();
    for number in 0..WRITERS {
        let client = world.connect("packhouse").await?;
        let stopped = stopped.clone();
        writers.push(tokio::spawn(async move {
            let pace = Duration::from_secs(1) * u32::try_from(CHANGES * WRITERS).unwrap_or(1)
                / u32::try_from(CHANGES_PER_SECOND).unwrap_or(1);
            let mut ticks = tokio::time::interval(pace);
            let mut turn = number * 7;
            while !*stopped.borrow() {
                ticks.tick().await;
                turn += 1;
                let from = (turn * 131 + number * 11_000) % (50_000 - CHANGES);
                let update = format!(
                    "UPDATE bins SET weight_kg = {} WHERE id BETWEEN {from} AND {}",
                    turn % 5000,
                    from + CHANGES - 1
                );
                if client.batch_execute(&update).await.is_err() {
                    return;
                }
            }
        }));
    }
    let (source, target) = (world.connect("packhouse").await?, world.connect(database).await?);
    let look = target.prepare("SELECT EXISTS (SELECT 1 FROM marks WHERE id = $1)").await?;
    let mut found = Histogram::<u64>::new(3)?;
    for number in 0..PROBES + 20 {
        let id = first + i64::from(number);
        source.execute("INSERT INTO marks VALUES ($1)", &[&id]).await?;
        let committed = Instant::now();
        while !target.query_one(&look, &[&id]).await?.get::<_, bool>(0) {
            if committed.elapsed() > Duration::from_secs(20) {
                return Err("a mark never arrived".into());
            }
            tokio::time::sleep(Duration::from_micros(500)).await;
        }
        if number >= 20 {
            found.record(u64::try_from(committed.elapsed().as_micros())?)?;
        }
        tokio::time::sleep(Duration::from_millis(u64::from(5 + number * 13 % 30))).await;
    }
    stop.send(true)?;
    for writer in writers {
        writer.await?;
    }
    Ok(found)
}
