//! `gonvel operation …`, and waiting for work that takes longer than a request.

use std::io::{self, IsTerminal, Write};
use std::time::{Duration, Instant};

use clap::{Args, Subcommand, ValueEnum};
use gonvel_http_api::{Operation, OperationState, OperationUnit};
use reqwest::Method;
use serde::Serialize;
use uuid::Uuid;

use crate::client::Client;
use crate::context::Output;
use crate::error::CommandError;
use crate::planning::{NOTHING, after_a_look_with};
use crate::table::{Table, bytes, span};

/// How often it is asked how far an operation is: soon at first, for those that take no time.
const FIRST: Duration = Duration::from_millis(20);
const LONGEST: Duration = Duration::from_secs(1);
/// How long a server may be away meanwhile: the operation goes on without whoever waits for it.
const AWAY: Duration = Duration::from_secs(60);

/// What to do with operations.
#[derive(Debug, Subcommand)]
pub enum OperationCommand {
    /// List operations, the newest first.
    List {
        /// Only in this state.
        #[arg(long, value_enum)]
        state: Option<StateArgument>,
        /// Only with what has this name.
        #[arg(long)]
        subject: Option<String>,
        /// At most so many.
        #[arg(long, short = 'n', default_value_t = 50)]
        limit: usize,
    },
    /// Show how far an operation is, or how it ended.
    Show {
        /// Its id.
        operation: Uuid,
    },
    /// Wait until an operation ends. Ends with 0 if all is done, and otherwise with what it failed with.
    Wait {
        /// Its id.
        operation: Uuid,
    },
    /// Cancel an operation: it ends as soon as it can, and what was done until then stays.
    Cancel {
        /// Its id.
        operation: Uuid,
    },
}

/// A state to look for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum StateArgument {
    /// Being done, or waiting.
    Running,
    /// All done.
    Done,
    /// Ended early by a problem.
    Failed,
    /// Ended early by someone.
    Cancelled,
}

/// Whether a command waits for the end of what it begins.
#[derive(Debug, Clone, Copy, Args)]
pub struct Waiting {
    /// Do not wait until it is done: `gonvel operation wait` does.
    #[arg(long)]
    no_wait: bool,
}

fn word(state: OperationState) -> &'static str {
    match state {
        OperationState::Running => "running",
        OperationState::Done => "done",
        OperationState::Failed => "failed",
        OperationState::Cancelled => "cancelled",
    }
}

fn amount(unit: OperationUnit, count: i64) -> String {
    match unit {
        OperationUnit::Bytes => bytes(count),
        OperationUnit::Records => format!("{count} records"),
        OperationUnit::Rows => format!("{count} rows"),
        OperationUnit::Steps => format!("{count} steps"),
    }
}

/// How far an operation is, in a line.
fn progress(operation: &Operation) -> String {
    let done = amount(operation.unit, operation.done);
    let of = operation.total.map(|total| format!(" of {}", amount(operation.unit, total))).unwrap_or_default();
    let left = operation.left_ms.map(|ms| format!(", {} left", span(ms / 1_000 * 1_000))).unwrap_or_default();
    let waits = operation.waits.as_ref().map(|waits| format!("; it waits: {waits}")).unwrap_or_default();
    format!("{done}{of}{left}{waits}")
}

fn table(operations: &Vec<Operation>) -> Table {
    let mut table = Table::new(&["id", "what", "state", "how far", "began", "asked by"], "no operation");
    for operation in operations {
        table.row([
            operation.id.to_string(),
            operation.says.clone(),
            word(operation.state).into(),
            progress(operation),
            operation.began_at.clone(),
            operation.asked_by.clone().unwrap_or_default(),
        ]);
    }
    table
}

/// What came of an operation, in words; empty where there is nothing to say.
fn outcome(operation: &Operation) -> String {
    let result = &operation.result;
    let counted = [
        (result.records, "imported"),
        (result.delivered, "delivered"),
        (result.superseded.filter(|n| *n > 0), "superseded"),
        (result.discarded.filter(|n| *n > 0), "discarded meanwhile"),
        (result.waiting.filter(|n| *n > 0), "failed again"),
    ];
    let counted = counted.into_iter().filter_map(|(count, what)| Some(format!("{} records {what}", count?)));
    let remains = result.remains.iter().map(|left| format!("there stays: {left}"));
    counted.chain(remains).collect::<Vec<_>>().join("\n")
}

fn is_away(error: &CommandError) -> bool {
    error.exit_code() == 5
}

impl Waiting {
    pub(crate) fn waits(self) -> bool {
        !self.no_wait
    }

    /// Waits for the end of an operation that was begun, unless it is not to be waited for, and prints how it ended.
    pub(crate) async fn to_the_end(self, client: &Client, begun: Operation) -> Result<(), CommandError> {
        if self.no_wait {
            return client.print(&begun, |begun| table(&vec![begun.clone()]));
        }
        let ended = wait(client, begun, |_| Ok(())).await?;
        match client.output {
            Output::Json => client.print_json(&ended),
            Output::Table => match outcome(&ended) {
                said if said.is_empty() => client.done(&format!("{}: done", ended.says)),
                said => client.done(&said),
            },
        }
    }

    /// Shows what deleting something does that leaves a system; told to, has it done and waits for it.
    pub(crate) async fn after_deleting(
        self,
        client: &Client,
        path: &str,
        query: &[(&str, &str)],
        yes: bool,
    ) -> Result<(), CommandError> {
        match after_a_look_with(client, (Method::DELETE, path, query), None, NOTHING, yes).await? {
            Some(begun) => self.to_the_end(client, client.parsed(begun).await?).await,
            None => Ok(()),
        }
    }

    /// Begins an operation, once however often that is asked, and waits for it.
    pub(crate) async fn begin(self, client: &Client, path: &str, body: &impl Serialize) -> Result<(), CommandError> {
        self.to_the_end(client, client.create(path, body).await?).await
    }
}

/// Waits for the end of an operation; on a terminal it is shown how far it is. `tell` hears of it each time.
pub(crate) async fn wait(
    client: &Client,
    mut operation: Operation,
    mut tell: impl FnMut(&Operation) -> Result<(), CommandError>,
) -> Result<Operation, CommandError> {
    let path = format!("/operations/{}", operation.id);
    let shows = client.output == Output::Table && io::stderr().is_terminal();
    let (mut pause, mut heard, mut said) = (FIRST, Instant::now(), None);
    let ended = loop {
        tell(&operation)?;
        if operation.state != OperationState::Running {
            break operation;
        }
        if shows {
            write!(io::stderr(), "\r\x1b[K{}", progress(&operation))?;
            io::stderr().flush()?;
        } else if operation.waits.is_some() && operation.waits != said {
            eprintln!("{}", progress(&operation));
        }
        said.clone_from(&operation.waits);
        tokio::time::sleep(pause).await;
        pause = (pause * 2).min(LONGEST);
        match client.get(&path, &[]).await {
            Ok(now) => (operation, heard) = (now, Instant::now()),
            Err(error) if is_away(&error) && heard.elapsed() < AWAY => {}
            Err(error) => return Err(error),
        }
    };
    if shows {
        write!(io::stderr(), "\r\x1b[K")?;
    }
    match (ended.state, &ended.problem) {
        (OperationState::Failed, Some(problem)) => Err(CommandError::Problem(Box::new(problem.clone()))),
        (OperationState::Failed, None) => Err(CommandError::Failed(format!("{}: it failed", ended.says))),
        (OperationState::Cancelled, _) => {
            Err(CommandError::Refused(format!("{}: it was cancelled after {}", ended.says, progress(&ended))))
        }
        _ => Ok(ended),
    }
}

pub(crate) async fn run(client: &Client, command: OperationCommand) -> Result<(), CommandError> {
    match command {
        OperationCommand::List { state, subject, limit } => {
            let state = state.and_then(|state| Some(("state", state.to_possible_value()?.get_name().to_owned())));
            let query: Vec<_> = state.into_iter().chain(subject.map(|subject| ("subject", subject))).collect();
            let operations: Vec<Operation> = client.some("/operations", &query, limit, 1_000).await?;
            client.print(&operations, table)
        }
        OperationCommand::Show { operation } => {
            let found: Operation = client.get(&format!("/operations/{operation}"), &[]).await?;
            client.print(&found, |found| table(&vec![found.clone()]))?;
            let problem = found.problem.as_ref().map(|problem| problem.told()).unwrap_or_default();
            for said in [outcome(&found), problem].into_iter().filter(|said| !said.is_empty()) {
                client.done(&said)?;
            }
            Ok(())
        }
        OperationCommand::Wait { operation } => {
            let found = client.get(&format!("/operations/{operation}"), &[]).await?;
            Waiting { no_wait: false }.to_the_end(client, found).await
        }
        OperationCommand::Cancel { operation } => {
            let path = format!("/operations/{operation}");
            let after: Operation = client.parsed(client.send(Method::DELETE, &path, &[], |r| r).await?).await?;
            client.print(&after, |after| table(&vec![after.clone()]))
        }
    }
}
