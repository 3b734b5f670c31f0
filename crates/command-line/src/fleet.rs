//! `gonvel fleet …`

use clap::Subcommand;
use gonvel_http_api::{DrainRequest, Runner, WaitingLane};
use reqwest::Method;

use crate::client::{Client, segment};
use crate::error::CommandError;
use crate::table::Table;

/// What to do with the fleet's runners.
#[derive(Debug, Subcommand)]
pub enum FleetCommand {
    /// List runners with what they carry.
    Runners,
    /// List lanes that no runner carries, and why.
    Waiting,
    /// Empty a runner: its lanes move to others, and none come.
    Drain {
        /// The runner.
        runner: String,
        /// Let it have lanes again.
        #[arg(long)]
        undo: bool,
    },
    /// Forget a runner that is gone.
    Forget {
        /// The runner.
        runner: String,
    },
}

fn runners_table(runners: &Vec<Runner>) -> Table {
    let mut table =
        Table::new(&["runner", "condition", "#lanes", "#load", "#room", "labels", "machine", "heartbeat"], "no runner");
    for runner in runners {
        let condition = match (runner.alive, runner.draining) {
            (false, _) => "gone",
            (true, true) => "being emptied",
            (true, false) => "carries",
        };
        let labels: Vec<String> = runner.labels.iter().map(|(name, value)| format!("{name}={value}")).collect();
        table.row([
            runner.name.clone(),
            condition.into(),
            runner.lanes.len().to_string(),
            runner.load.to_string(),
            runner.room.to_string(),
            labels.join(", "),
            runner.host.clone(),
            runner.beat_at.clone(),
        ]);
    }
    table
}

fn waiting_table(lanes: &Vec<WaitingLane>) -> Table {
    let mut table = Table::new(&["connector", "#lane", "why it waits"], "every lane has a runner");
    for lane in lanes {
        table.row([lane.name.clone(), lane.lane.to_string(), lane.reason.clone()]);
    }
    table
}

pub(crate) async fn run(client: &Client, command: FleetCommand) -> Result<(), CommandError> {
    match command {
        FleetCommand::Runners => {
            let runners: Vec<Runner> = client.all("/runners", &[]).await?;
            client.print(&runners, runners_table)
        }
        FleetCommand::Waiting => {
            let lanes: Vec<WaitingLane> = client.all("/waiting-lanes", &[]).await?;
            client.print(&lanes, waiting_table)
        }
        FleetCommand::Drain { runner, undo } => {
            let body = DrainRequest { draining: !undo };
            let path = format!("/runners/{}/draining", segment(&runner));
            client.send(Method::PUT, &path, &[], |r| r.json(&body)).await?;
            client.done(&format!("{runner} {}", if undo { "has lanes again" } else { "is being emptied" }))
        }
        FleetCommand::Forget { runner } => {
            client.delete(&format!("/runners/{}", segment(&runner)), &[]).await?;
            client.done(&format!("{runner} is forgotten"))
        }
    }
}
