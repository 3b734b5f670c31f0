//! Draining a backlog of changes from a replication slot into a topic, against `pg_recvlogical` draining the same to a file.

use std::process::Command;
use std::time::Instant;

use gonvel_core::connector::{State, Wish};

use crate::report::Measured;
use crate::world::{Outcome, TABLES, World, insert_bins, update_bins};

const INSERTS: i64 = 700_000;
const UPDATES: i64 = 300_000;

pub async fn run() -> Outcome<Measured> {
    let world = World::start(&["packhouse"]).await?;
    world.sql("packhouse", TABLES).await?;
    let source = world.source("packhouse", &["bins"], 3).await?;
    let fleet = world.fleet();
    world.until(source, State::Following).await?;
    world.database.ask(source, Wish::Pause, "").await?;
    world.until(source, State::Paused).await?;
    let publication = gonvel_connectors::postgres::names::publication(source);
    world.sql("packhouse", "SELECT pg_create_logical_replication_slot('other', 'pgoutput')").await?;
    insert_bins(&world, "packhouse", 0, INSERTS).await?;
    update_bins(&world, "packhouse", 0, UPDATES).await?;
    world.sql("packhouse", "CHECKPOINT").await?;
    let client = world.connect("packhouse").await?;
    let end: String = client.query_one("SELECT pg_current_wal_lsn()::text", &[]).await?.get(0);

    let start = Instant::now();
    drain(&world, &publication, &end)?;
    let theirs = (INSERTS + UPDATES) as f64 / start.elapsed().as_secs_f64();

    let start = Instant::now();
    world.database.ask(source, Wish::Run, "").await?;
    fleet.nudge().notify_one();
    world.until_records("packhouse.bins", INSERTS + UPDATES).await?;
    let ours = (INSERTS + UPDATES) as f64 / start.elapsed().as_secs_f64();
    fleet.stop().await;
    Ok(Measured {
        name: "capture",
        what: "a backlog of 1,000,000 changes captured into a topic, against `pg_recvlogical` draining the same to a file",
        ratio: ours / theirs,
        goal: 0.8,
        detail: format!("{ours:.0} changes/s against {theirs:.0}"),
    })
}

fn drain(world: &World, publication: &str, end: &str) -> Outcome<()> {
    let file = tempfile::NamedTempFile::new()?;
    let publications = format!("publication_names=\"{publication}\"");
    let done = Command::new("/usr/lib/postgresql/15/bin/pg_recvlogical")
        .args(["-h", "127.0.0.1", "-p", &world.source.port.to_string(), "-U", gonvel_stand_ins::postgres_cluster::OWNER])
        .args(["-d", "packhouse", "--slot=other", "--start", "--no-loop", "-o", "proto_version=1", "-o", &publications])
        .arg(format!("--endpos={end}"))
        .arg("-f")
        .arg(file.path())
        .env("PGPASSWORD", &world.source.password)
        .status()?;
    if !done.success() || file.as_file().metadata()?.len() < 1_000_000 {
        return Err("pg_recvlogical did not drain the slot".into());
    }
    Ok(())
}
