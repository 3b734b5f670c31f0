//! A backlog carried from one database into another, against the server's own subscription carrying the same.

use std::time::Instant;

use gonvel_core::connector::{State, Wish};

use crate::report::{Measured, median};
use crate::world::{Outcome, TABLES, World, insert_bins, update_bins};

/// What the backlog is made of.
#[derive(Clone, Copy, PartialEq)]
pub enum Kind {
    Inserts,
    Updates,
}

/// Bins that are there before the updates.
const BINS: i64 = 500_000;
/// Changes in each round's backlog.
const INSERTS: i64 = 1_000_000;
const UPDATES: i64 = 200_000;
const ROUNDS: i64 = 3;

pub async fn run(kind: Kind) -> Outcome<Measured> {
    let world = World::start(&["packhouse", "settlement", "mirror"]).await?;
    for database in ["packhouse", "settlement", "mirror"] {
        world.sql(database, TABLES).await?;
        if kind == Kind::Updates && database != "settlement" {
            insert_bins(&world, database, 0, BINS).await?;
            world.sql(database, "VACUUM ANALYZE bins").await?;
        }
    }
    let source = world.source("packhouse", &["bins", "marks"], 3).await?;
    // updates take a target longer than all else: three sessions share them out
    let lanes = if kind == Kind::Updates { 3 } else { 1 };
    let sink = world.sink_in_lanes("packhouse", &["bins", "marks"], "settlement", lanes).await?;
    let fleet = world.fleet();
    world.until(source, State::Following).await?;
    world.until(sink, State::Following).await?;
    if kind == Kind::Updates {
        world.until_delivered("settlement", BINS).await?;
        world.sql("settlement", "VACUUM ANALYZE bins").await?;
    }
    world.subscribe(source, "packhouse", "mirror").await?;
    let (mut ours, mut theirs) = (Vec::new(), Vec::new());
    for round in 1..=ROUNDS {
        // both stand at one place, and stop there
        mark(&world, round * 10).await?;
        for id in [source, sink] {
            world.database.ask(id, Wish::Pause, "").await?;
            world.until(id, State::Paused).await?;
        }
        world.sql("mirror", "ALTER SUBSCRIPTION mirror DISABLE").await?;
        let changes = match kind {
            Kind::Inserts => {
                insert_bins(&world, "packhouse", (round - 1) * INSERTS, round * INSERTS).await?;
                INSERTS
            }
            Kind::Updates => {
                update_bins(&world, "packhouse", 0, UPDATES).await?;
                UPDATES
            }
        };
        world.sql("packhouse", &format!("INSERT INTO marks VALUES ({}); CHECKPOINT", round * 10 + 1)).await?;

        let start = Instant::now();
        world.sql("mirror", "ALTER SUBSCRIPTION mirror ENABLE").await?;
        // a subscription applies in the source's order: with the mark, all before it is there
        world.until_true("mirror", &format!("SELECT EXISTS (SELECT 1 FROM marks WHERE id = {})", round * 10 + 1)).await?;
        theirs.push(changes as f64 / start.elapsed().as_secs_f64());
        arrived(&world, "mirror", kind, round).await?;
        world.sql("mirror", "CHECKPOINT").await?;

        let before = world.delivered("settlement").await?;
        let start = Instant::now();
        for id in [source, sink] {
            world.database.ask(id, Wish::Run, "").await?;
        }
        fleet.nudge().notify_one();
        world.until_delivered("settlement", before + changes + 1).await?;
        ours.push(changes as f64 / start.elapsed().as_secs_f64());
        arrived(&world, "settlement", kind, round).await?;
    }
    fleet.stop().await;
    world.unsubscribe("mirror").await?;
    let (name, what, goal) = match kind {
        Kind::Inserts => (
            "backlog-inserts",
            "a backlog of 1,000,000 inserts from database to database, against the server's own subscription",
            1.5,
        ),
        Kind::Updates => (
            "backlog-updates",
            "a backlog of 200,000 updates from database to database in three lanes, against the server's own subscription",
            3.0,
        ),
    };
    let rates = |all: &[f64]| all.iter().map(|r| format!("{r:.0}")).collect::<Vec<_>>().join(", ");
    let ratio = median(ours.iter().zip(&theirs).map(|(a, b)| a / b).collect());
    let detail = format!("{} changes/s against {}, median ratio of {ROUNDS} rounds", rates(&ours), rates(&theirs));
    Ok(Measured { name, what, ratio, goal, detail })
}

/// Writes a mark and waits until it is in both targets.
async fn mark(world: &World, id: i64) -> Outcome<()> {
    world.sql("packhouse", &format!("INSERT INTO marks VALUES ({id})")).await?;
    for database in ["settlement", "mirror"] {
        world.until_true(database, &format!("SELECT EXISTS (SELECT 1 FROM marks WHERE id = {id})")).await?;
    }
    Ok(())
}

/// Fails unless all of a round's changes are in a target.
async fn arrived(world: &World, database: &str, kind: Kind, round: i64) -> Outcome<()> {
    let all = match kind {
        Kind::Inserts => format!("SELECT count(*) = {} FROM bins", round * INSERTS),
        Kind::Updates => {
            format!("SELECT bool_and(weight_kg = (2400 + id * 7919 % 1800) / 10.0 + {round}) FROM bins WHERE id < {UPDATES}")
        }
    };
    let client = world.connect(database).await?;
    if client.query_one(&all, &[]).await?.get(0) { Ok(()) } else { Err(format!("{database} lacks changes").into()) }
}
