//! `gonvel reader …`

use clap::Subcommand;
use gonvel_http_api::{NewReader, Reader, ReaderTopics};
use reqwest::Method;

use crate::client::{Client, segment};
use crate::error::CommandError;
use crate::moving::{MoveArguments, TargetArguments, move_after_a_look};
use crate::planning::{NOTHING, after_a_look};
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
    /// Let a reader read other topics. Shows first where it begins and what is lost, and does it with --yes.
    Change {
        /// The reader.
        reader: String,
        /// All topics that it is to read.
        #[arg(required = true)]
        topics: Vec<String>,
        /// Where it begins in topics that it did not read; at the oldest records without it.
        #[command(flatten)]
        target: TargetArguments,
        /// Do it.
        #[arg(long)]
        yes: bool,
    },
    /// Delete a reader with its positions. Shows first what that does, and does it with --yes.
    Delete {
        /// The reader.
        reader: String,
        /// Do it.
        #[arg(long)]
        yes: bool,
    },
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

pub(crate) async fn run(client: &Client, command: ReaderCommand) -> Result<(), CommandError> {
    match command {
        ReaderCommand::List => {
            let readers: Vec<Reader> = client.all("/readers", &[]).await?;
            client.print(&readers, list_table)
        }
        ReaderCommand::Show { reader } => {
            let reader: Reader = client.get(&format!("/readers/{}", segment(&reader)), &[]).await?;
            client.print(&reader, reader_table)
        }
        ReaderCommand::Create { reader, topics, target } => {
            let made: Reader =
                client.create("/readers", &NewReader { name: reader, topics, start: target.target(client).await? }).await?;
            client.print(&made, reader_table)
        }
        ReaderCommand::Reposition { reader, to } => {
            move_after_a_look(client, &format!("/readers/{}/reposition", segment(&reader)), to, &reader).await
        }
        ReaderCommand::Change { reader, topics, target, yes } => {
            let path = format!("/readers/{}", segment(&reader));
            let body = ReaderTopics { topics, start: target.target(client).await? };
            match after_a_look(client, Method::PUT, &format!("{path}/topics"), None, Some(&body), yes).await? {
                Some(answer) => client.print(&client.parsed::<Reader>(answer).await?, reader_table),
                None => Ok(()),
            }
        }
        ReaderCommand::Delete { reader, yes } => {
            let path = format!("/readers/{}", segment(&reader));
            match after_a_look(client, Method::DELETE, &path, None, NOTHING, yes).await? {
                Some(_) => client.done(&format!("{reader} is deleted")),
                None => Ok(()),
            }
        }
    }
}
