//! Measures Gonvel against the alternatives that are at hand, each pair in the same run on the same server.
//!
//! `make bench` runs all and writes `docs/benchmarks.md`; `make bench ONLY=name` runs one and writes its row anew.

mod append;
mod backlog;
mod capture;
mod ends;
mod events;
mod huge;
mod idle;
mod installing;
mod latency;
mod loading;
mod log;
mod made_up;
mod poison;
mod report;
mod schemas;
mod served;
mod shape;
mod steady;
mod watching;
mod world;

use std::error::Error;
use std::process::ExitCode;

use clap::Parser;

use crate::report::Measured;

/// Measures Gonvel against what is at hand.
#[derive(Parser)]
struct Arguments {
    /// Run one of those that `docs/benchmarks.md` names.
    #[arg(long)]
    only: Option<String>,
}

const ALL: [&str; 33] = [
    "append",
    "made-up",
    "producers",
    "producers-sessions",
    "single",
    "read",
    "time-seek",
    "export-memory",
    "topic-list",
    "keeper-idle",
    "initial-load",
    "capture",
    "backlog-inserts",
    "backlog-updates",
    "events-json",
    "events-avro",
    "events-between",
    "latency",
    "latency-steady",
    "huge-transaction",
    "memory-ends",
    "schema-codec",
    "schema-validate",
    "schema-registry",
    "poisoned",
    "idle-fleet",
    "watching",
    "apply",
    "shape-steps",
    "shape-unlike",
    "shape-small",
    "shape-lookup",
    "shape-memory",
];

async fn one(name: &str) -> Result<Measured, Box<dyn Error>> {
    match name {
        "append" => append::run().await,
        "made-up" => made_up::run().await,
        "producers" => log::producers(1).await,
        "producers-sessions" => log::producers(16).await,
        "single" => log::single().await,
        "read" => log::read().await,
        "time-seek" => log::seek().await,
        "export-memory" => served::export().await,
        "topic-list" => served::list().await,
        "keeper-idle" => served::keeper().await,
        "capture" => capture::run().await,
        "backlog-inserts" => backlog::run(backlog::Kind::Inserts).await,
        "backlog-updates" => backlog::run(backlog::Kind::Updates).await,
        "events-json" => events::into_table(events::Form::Json).await,
        "events-avro" => events::into_table(events::Form::Avro).await,
        "events-between" => events::between().await,
        "initial-load" => loading::run().await,
        "latency" => latency::run().await,
        "latency-steady" => steady::run().await,
        "huge-transaction" => huge::run().await,
        "memory-ends" => ends::run().await,
        "schema-codec" => schemas::codec(),
        "schema-validate" => schemas::validate(),
        "schema-registry" => schemas::registry().await,
        "poisoned" => poison::run().await,
        "watching" => watching::run().await,
        "idle-fleet" => idle::run().await,
        "apply" => installing::run().await,
        "shape-steps" => shape::steps(
            5_000,
            "grade",
            "shape-steps",
            "five steps on one core, batches of 5,000, over 1 M rows/s",
            1_000_000.0,
        ),
        "shape-unlike" => {
            let what = "the same where every hidden value is another, over 1 M rows/s";
            shape::steps(5_000, "remark", "shape-unlike", what, 1_000_000.0)
        }
        "shape-small" => {
            shape::steps(10, "grade", "shape-small", "five steps on one core, batches of 10, over 100,000 rows/s", 100_000.0)
        }
        "shape-lookup" => shape::lookup(),
        "shape-memory" => shape::memory(),
        other => Err(format!("there is no benchmark {other}: choose one of {}", ALL.join(", ")).into()),
    }
}

#[tokio::main]
async fn main() -> ExitCode {
    gonvel_storage::provide_tls();
    let arguments = Arguments::parse();
    let names: Vec<&str> = arguments.only.as_deref().map_or_else(|| ALL.to_vec(), |only| vec![only]);
    let mut measured = Vec::new();
    for name in names {
        eprintln!("measuring {name} …");
        match one(name).await {
            Ok(found) => {
                println!("{}", found.line());
                measured.push(found);
            }
            Err(error) => {
                let cause = error.source().map(|c| format!(": {c}")).unwrap_or_default();
                eprintln!("{name}: {error}{cause}");
                return ExitCode::FAILURE;
            }
        }
    }
    if let Err(error) = report::write(&measured, &ALL) {
        eprintln!("the report could not be written: {error}");
        return ExitCode::FAILURE;
    }
    ExitCode::SUCCESS
}
