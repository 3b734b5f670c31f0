//! The initial load of a table into another database, against a `COPY` to `COPY` pipe between the two.

use std::time::Instant;

use bytes::Bytes;
use futures::{SinkExt, StreamExt};
use gonvel_core::connector::{ExistingRows, State};

use crate::report::{Measured, median};
use crate::world::{Outcome, TABLES, World, insert_bins};

const ROWS: i64 = 1_000_000;
const ROUNDS: usize = 3;

pub async fn run() -> Outcome<Measured> {
    let world = World::start(&["packhouse", "settlement", "mirror"]).await?;
    for database in ["packhouse", "settlement", "mirror"] {
        world.sql(database, TABLES).await?;
    }
    insert_bins(&world, "packhouse", 0, ROWS).await?;
    world.sql("packhouse", "VACUUM ANALYZE bins").await?;
    let (mut ours, mut theirs) = (Vec::new(), Vec::new());
    let source = world.source("packhouse", &["bins"], 3).await?;
    world.sink("packhouse", &["bins"], "settlement").await?;
    let mut fleet: Option<gonvel_runtime::Fleet> = None;
    for _ in 0..ROUNDS {
        world.sql("mirror", "TRUNCATE bins").await?;
        world.sql("settlement", "TRUNCATE bins").await?;
        world.sql("packhouse", "CHECKPOINT").await?;
        let start = Instant::now();
        pipe(&world).await?;
        theirs.push(ROWS as f64 / start.elapsed().as_secs_f64());
        world.sql("packhouse", "CHECKPOINT").await?;

        // the first round begins with both connectors, the others load again what is being followed
        let before = world.delivered("settlement").await.unwrap_or(0);
        let start = Instant::now();
        if let Some(fleet) = &fleet {
            let again = ["public.bins".to_owned()];
            world.database.ask_to_load_again(source, &again, ExistingRows::Keep).await?;
            world.database.start_anew(&[source]).await?;
            fleet.nudge().notify_one();
        } else {
            fleet = Some(world.fleet());
        }
        world.until_delivered("settlement", before + ROWS).await?;
        ours.push(ROWS as f64 / start.elapsed().as_secs_f64());
        world.until_true("settlement", &format!("SELECT count(*) = {ROWS} FROM bins")).await?;
        world.until(source, State::Following).await?;
    }
    if let Some(fleet) = fleet {
        fleet.stop().await;
    }
    let rates = |all: &[f64]| all.iter().map(|r| format!("{r:.0}")).collect::<Vec<_>>().join(", ");
    Ok(Measured {
        name: "initial-load",
        what: "the initial load of 1,000,000 rows into another database, through a topic, against a `COPY` to `COPY` pipe",
        ratio: median(ours.iter().zip(&theirs).map(|(a, b)| a / b).collect()),
        goal: 0.8,
        detail: format!("{} rows/s against {}, median ratio of {ROUNDS} rounds", rates(&ours), rates(&theirs)),
    })
}

async fn pipe(world: &World) -> Outcome<()> {
    let (from, to) = (world.connect("packhouse").await?, world.connect("mirror").await?);
    let out = from.copy_out("COPY bins TO STDOUT").await?;
    let into = to.copy_in::<_, Bytes>("COPY bins FROM STDIN").await?;
    futures::pin_mut!(out, into);
    while let Some(part) = out.next().await {
        into.feed(part?).await?;
    }
    into.finish().await?;
    Ok(())
}
