//! Moves of readers and sinks, which are shown before they are done.

use clap::Args;
use gonvel_http_api::{Moves, Reposition, Target};
use reqwest::Method;

use crate::client::Client;
use crate::connector_named::find;
use crate::context::Output;
use crate::error::CommandError;
use crate::planning::{after_a_look, moves_table};

/// A move, which is shown before it is done.
#[derive(Debug, Args)]
pub struct MoveArguments {
    /// Where to.
    #[command(flatten)]
    target: TargetArguments,
    /// Only in this topic.
    #[arg(long)]
    topic: Option<String>,
    /// Only in this partition.
    #[arg(long, short)]
    partition: Option<i32>,
    /// Do it.
    #[arg(long)]
    yes: bool,
}

/// A place in a topic.
#[derive(Debug, Args)]
#[group(multiple = false)]
pub struct TargetArguments {
    /// At the oldest kept records.
    #[arg(long)]
    earliest: bool,
    /// After the newest records.
    #[arg(long)]
    latest: bool,
    /// At a time (RFC 3339).
    #[arg(long, value_name = "TIME")]
    time: Option<String>,
    /// At an offset.
    #[arg(long, value_name = "OFFSET")]
    offset: Option<i64>,
    /// So many records further on, or back if negative.
    #[arg(long, value_name = "RECORDS", allow_negative_numbers = true)]
    by: Option<i64>,
    /// Where a sink's target and the log agree up to, after the log was rolled back.
    #[arg(long)]
    agreed: bool,
    /// Where a sink connector stands, by its name or id.
    #[arg(long, value_name = "SINK")]
    connector: Option<String>,
}

impl TargetArguments {
    pub(crate) async fn target(&self, client: &Client) -> Result<Option<Target>, CommandError> {
        if self.earliest {
            return Ok(Some(Target::Earliest));
        }
        if self.latest {
            return Ok(Some(Target::Latest));
        }
        if self.agreed {
            return Ok(Some(Target::Agreed));
        }
        if let Some(name) = &self.connector {
            return Ok(Some(Target::Connector { connector: find(client, name).await?.id }));
        }
        let time = self.time.clone().map(|time| Target::Time { time });
        let offset = self.offset.map(|offset| Target::Offset { offset });
        Ok(time.or(offset).or(self.by.map(|records| Target::By { records })))
    }
}

/// Shows what a move does; told so, carries out what was shown.
pub(crate) async fn move_after_a_look(
    client: &Client,
    path: &str,
    to: MoveArguments,
    name: &str,
) -> Result<(), CommandError> {
    let target = to.target.target(client).await?.ok_or_else(|| {
        CommandError::Usage("say where to: --earliest, --latest, --time, --offset, --by or --connector".into())
    })?;
    let request = Reposition { target, topic: to.topic, partition: to.partition };
    let Some(answer) = after_a_look(client, Method::POST, path, None, Some(&request), to.yes).await? else { return Ok(()) };
    let done: Moves = client.parsed(answer).await?;
    client.print(&done, |done| moves_table(&done.moves))?;
    if client.output == Output::Table { client.done(&format!("{name} was moved")) } else { Ok(()) }
}
