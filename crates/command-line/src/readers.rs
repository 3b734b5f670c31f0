//! `gonvel reader …`

use clap::{Args, Subcommand};
use gonvel_http_api::{ConfirmedMove, Moves, NewReader, Reader, Reposition, Target};

use crate::Output;
use crate::client::{Client, CommandError, segment};
use crate::connectors;
use crate::table::{Table, span};

/// What to do with readers.
#[derive(Debug, Subcommand)]
pub enum ReaderCommand {
    /// List readers with their lag.
    List,
    /// Show where a reader stands.
    Show {
        /// The reader.
        reader: String,
    },
    /// Make a reader.
    Create {
        /// Its name.
        reader: String,
        /// The topics it reads.
        #[arg(required = true)]
        topics: Vec<String>,
        /// Where it begins; at the oldest records without it.
        #[command(flatten)]
        target: TargetArguments,
    },
    /// Move a reader. Shows first what is skipped or read again, and does it with --yes.
    Reposition {
        /// The reader.
        reader: String,
        /// Where to.
        #[command(flatten)]
        to: MoveArguments,
    },
    /// Delete a reader with its positions.
    Delete {
        /// The reader.
        reader: String,
    },
}

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
    async fn target(&self, client: &Client) -> Result<Option<Target>, CommandError> {
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
            return Ok(Some(Target::Connector { connector: connectors::find(client, name).await?.id }));
        }
        let time = self.time.clone().map(|time| Target::Time { time });
        let offset = self.offset.map(|offset| Target::Offset { offset });
        Ok(time.or(offset).or(self.by.map(|records| Target::By { records })))
    }
}

fn list_table(readers: &Vec<Reader>) -> Table {
    let mut table = Table::new(&["reader", "topics", "members", "#lag records", "lag", "last commit"], "no reader");
    for reader in readers {
        table.row([
            reader.name.clone(),
            reader.topics.join(", "),
            reader.members.len().to_string(),
            reader.lag_records.to_string(),
            reader.lag_ms.map_or_else(|| "none".to_owned(), span),
            reader.committed_at.clone().unwrap_or_else(|| "never".to_owned()),
        ]);
    }
    table
}

fn reader_table(reader: &Reader) -> Table {
    let mut table =
        Table::new(&["topic", "#partition", "#next offset", "#lag records", "lag", "last commit", "member"], "no partition");
    for position in &reader.positions {
        let label = position.member.and_then(|id| reader.members.iter().find(|m| m.id == id)).map(|m| m.label.clone());
        table.row([
            position.topic.clone(),
            position.partition.to_string(),
            position.next_offset.to_string(),
            position.lag_records.to_string(),
            position.lag_ms.map_or_else(|| "none".to_owned(), span),
            position.committed_at.clone().unwrap_or_else(|| "never".to_owned()),
            label.unwrap_or_default(),
        ]);
    }
    table
}

fn moves_table(moves: &Moves) -> Table {
    let mut table = Table::new(&["topic", "#partition", "#from", "#to", "#skipped", "#read again"], "no partition");
    for one in &moves.moves {
        table.row([
            one.topic.clone(),
            one.partition.to_string(),
            one.from.to_string(),
            one.to.to_string(),
            one.skipped.to_string(),
            one.repeated.to_string(),
        ]);
    }
    table
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
    let mut request = Reposition { target, topic: to.topic, partition: to.partition, confirmed: None };
    let shown: Moves = client.post(path, &request).await?;
    if !to.yes {
        client.print(&shown, moves_table)?;
        return client.done("Nothing was moved: say --yes to do it.");
    }
    let confirmed =
        shown.moves.iter().map(|m| ConfirmedMove { topic: m.topic.clone(), partition: m.partition, from: m.from, to: m.to });
    request.confirmed = Some(confirmed.collect());
    let done: Moves = client.post(path, &request).await?;
    client.print(&done, moves_table)?;
    if client.output == Output::Table { client.done(&format!("{name} was moved")) } else { Ok(()) }
}

pub(crate) async fn run(client: &Client, command: ReaderCommand) -> Result<(), CommandError> {
    match command {
        ReaderCommand::List => {
            let readers: Vec<Reader> = client.get("/readers", &[]).await?;
            client.print(&readers, list_table)
        }
        ReaderCommand::Show { reader } => {
            let reader: Reader = client.get(&format!("/readers/{}", segment(&reader)), &[]).await?;
            client.print(&reader, reader_table)
        }
        ReaderCommand::Create { reader, topics, target } => {
            let made: Reader =
                client.post("/readers", &NewReader { name: reader, topics, start: target.target(client).await? }).await?;
            client.print(&made, reader_table)
        }
        ReaderCommand::Reposition { reader, to } => {
            move_after_a_look(client, &format!("/readers/{}/reposition", segment(&reader)), to, &reader).await
        }
        ReaderCommand::Delete { reader } => {
            client.delete(&format!("/readers/{}", segment(&reader)), &[]).await?;
            client.done(&format!("{reader} is deleted"))
        }
    }
}
