//! A backlog carried from one database into another, against the server's own subscription carrying the same.

use std::time::Instant;

use gonvel_core::connector::{State, Wish};

use crate::report::Measured;
use crate::world::{Outcome, TABLES, World, insert_bins, update_bins};

/// What the backlog is made of.
#[derive(Clone, Copy, PartialEq)]
pub enum Kind {
    Inserts,
    Updates,
}

const BINS: i64 = 500_000;
const UPDATED: i64 = 300_000;

pub async fn run(kind: Kind) -> Outcome<Measured> {
    let world = World::start(&["packhouse", "settlement", "mirror"]).await?;
    for database in ["packhouse", "settlement", "mirror"] {
        world.sql(database, TABLES).await?;
        if kind == Kind::Updates {
            insert_bins(&world, database, 0, BINS).await?;
            world.sql(database, "VACUUM ANALYZE bins").await?;
        }
    }
    let source = world.source("packhouse", &["bins", "marks"], 3).await?;
    let sink = world.sink("packhouse", &["bins", "marks"], "settlement").await?;
    let fleet = world.fleet();
    world.until(source, State::Following).await?;
    world.until(sink, State::Following).await?;
    if kind == Kind::Updates {
        // the initial load has been delivered: only the backlog is measured
        world.until_records("packhouse.bins", BINS).await?;
        world
            .until_true(
                "gonvel",
                "SELECT bool_and((status->>'lag_records')::bigint = 0) FROM lanes WHERE status ? 'lag_records'",
            )
            .await?;
    }
    // moves our slot on to here, where the other begins
    world.sql("packhouse", "INSERT INTO marks VALUES (0)").await?;
    world.until_records("packhouse.marks", 1).await?;
    world.until_true("settlement", "SELECT EXISTS (SELECT 1 FROM marks)").await?;
    for id in [source, sink] {
        world.database.ask(id, Wish::Pause).await?;
        world.until(id, State::Paused).await?;
    }
    let publication = gonvel_connectors::postgres::names::publication(source);
    world.sql("packhouse", "SELECT pg_create_logical_replication_slot('mirror', 'pgoutput')").await?;
    let changes = match kind {
        Kind::Inserts => {
            insert_bins(&world, "packhouse", 0, BINS).await?;
            BINS
        }
        Kind::Updates => {
            update_bins(&world, "packhouse", 0, UPDATED).await?;
            UPDATED
        }
    };
    world.sql("packhouse", "INSERT INTO marks VALUES (1); CHECKPOINT").await?;
    let arrived = "SELECT EXISTS (SELECT 1 FROM marks WHERE id = 1)";

    let start = Instant::now();
    let url = world.cluster.url("packhouse");
    world
        .sql(
            "mirror",
            &format!("CREATE SUBSCRIPTION mirror CONNECTION '{url}' PUBLICATION \"{publication}\" WITH (create_slot = false, slot_name = mirror, copy_data = false)"),
        )
        .await?;
    world.until_true("mirror", arrived).await?;
    let theirs = changes as f64 / start.elapsed().as_secs_f64();
    world.sql("mirror", "ALTER SUBSCRIPTION mirror DISABLE").await?;
    world.sql("mirror", "CHECKPOINT").await?;

    let start = Instant::now();
    for id in [source, sink] {
        world.database.ask(id, Wish::Run).await?;
    }
    fleet.nudge().notify_one();
    world.until_true("settlement", arrived).await?;
    // the mark is in another topic than the bins: they are all there when their lane has no lag
    let all = match kind {
        Kind::Inserts => format!("SELECT count(*) = {BINS} FROM bins"),
        Kind::Updates => format!("SELECT count(*) = {UPDATED} FROM bins WHERE grade = 'second' AND id < {UPDATED}"),
    };
    world.until_true("settlement", &all).await?;
    let ours = changes as f64 / start.elapsed().as_secs_f64();
    fleet.stop().await;
    world.sql("mirror", "ALTER SUBSCRIPTION mirror SET (slot_name = NONE); DROP SUBSCRIPTION mirror").await?;
    let (name, what, goal) = match kind {
        Kind::Inserts => (
            "backlog-inserts",
            "a backlog of 500,000 inserts from database to database, against the server's own subscription",
            1.5,
        ),
        Kind::Updates => (
            "backlog-updates",
            "a backlog of 300,000 updates from database to database, against the server's own subscription",
            3.0,
        ),
    };
    let detail = format!("{ours:.0} changes/s against {theirs:.0}");
    Ok(Measured { name, what, ratio: ours / theirs, goal, detail })
}
