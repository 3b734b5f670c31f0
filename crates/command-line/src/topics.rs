//! `gonvel topic …`

use clap::{Args, Subcommand, ValueEnum};
use gonvel_http_api::{Keep, MorePartitions, NewTopic, Topic, TopicSettings, TopicSummary};
use reqwest::Method;

use crate::client::{Client, segment};
use crate::error::CommandError;
use crate::planning::{NOTHING, after_a_look};
use crate::table::{Table, bytes, parse_bytes, parse_span, span};

/// What to do with topics.
#[derive(Debug, Subcommand)]
pub enum TopicCommand {
    /// List topics.
    List {
        /// Only those whose name holds this text.
        #[arg(long)]
        name: Option<String>,
    },
    /// Show a topic with its partitions.
    Show {
        /// The topic.
        topic: String,
    },
    /// Make a topic.
    Create {
        /// Its name.
        topic: String,
        /// Partitions, 1 to 1000.
        #[arg(long, short, default_value_t = 6)]
        partitions: i32,
        /// What it keeps.
        #[command(flatten)]
        settings: SettingsArguments,
    },
    /// Change what a topic keeps. Shows first what that removes, and does it with --yes.
    Change {
        /// The topic.
        topic: String,
        /// What it is to keep.
        #[command(flatten)]
        settings: SettingsArguments,
        /// Do it.
        #[arg(long)]
        yes: bool,
    },
    /// Add partitions. Keys go to other partitions from then on.
    AddPartitions {
        /// The topic.
        topic: String,
        /// How many it is to have.
        partitions: i32,
        /// Do it.
        #[arg(long)]
        yes: bool,
    },
    /// Delete a topic with all its records. Shows first what is lost, and does it with --yes.
    Delete {
        /// The topic.
        topic: String,
        /// Do it.
        #[arg(long)]
        yes: bool,
    },
}

/// Which records of a key a topic keeps.
#[derive(Debug, Clone, Copy, ValueEnum)]
pub enum KeepArgument {
    /// Every record.
    All,
    /// The newest of each key.
    Latest,
}

/// What a topic keeps.
#[derive(Debug, Args)]
pub struct SettingsArguments {
    /// Keep every record, or the newest of each key.
    #[arg(long, value_enum)]
    keep: Option<KeepArgument>,
    /// Forget records after a span of time, like 7d; `never` for no limit.
    #[arg(long, value_name = "SPAN")]
    forget_after: Option<String>,
    /// Forget the oldest beyond a size, like 10GiB; `none` for no limit.
    #[arg(long, value_name = "SIZE")]
    most_bytes: Option<String>,
    /// How long deletes stay when the newest of each key is kept, like 1d.
    #[arg(long, value_name = "SPAN")]
    deletes_kept: Option<String>,
    /// Move older blocks to object storage after a span of time, like 2d; `never` to move none.
    #[arg(long, value_name = "SPAN")]
    hot_span: Option<String>,
}

fn limit(
    option: &str,
    text: Option<&String>,
    none: &str,
    before: Option<i64>,
    parse: fn(&str) -> Result<i64, String>,
) -> Result<Option<i64>, CommandError> {
    match text {
        None => Ok(before),
        Some(text) if text == none => Ok(None),
        Some(text) => parse(text).map(Some).map_err(|e| CommandError::Usage(format!("--{option} {text}: {e}, or {none}"))),
    }
}

impl SettingsArguments {
    fn over(&self, before: &TopicSettings) -> Result<TopicSettings, CommandError> {
        Ok(TopicSettings {
            keep: match self.keep {
                None => before.keep,
                Some(KeepArgument::All) => Keep::All,
                Some(KeepArgument::Latest) => Keep::Latest,
            },
            forget_after_ms: limit("forget-after", self.forget_after.as_ref(), "never", before.forget_after_ms, parse_span)?,
            most_bytes: limit("most-bytes", self.most_bytes.as_ref(), "none", before.most_bytes, parse_bytes)?,
            deletes_kept_ms: match &self.deletes_kept {
                None => before.deletes_kept_ms,
                Some(text) => parse_span(text).map_err(|e| CommandError::Usage(format!("--deletes-kept {text}: {e}")))?,
            },
            hot_span_ms: limit("hot-span", self.hot_span.as_ref(), "never", before.hot_span_ms, parse_span)?,
        })
    }
}

fn keeps(settings: &TopicSettings) -> String {
    let mut parts = vec![match settings.keep {
        Keep::All => "all".to_owned(),
        Keep::Latest => "latest of each key".to_owned(),
    }];
    parts.extend(settings.forget_after_ms.map(|ms| format!("for {}", span(ms))));
    parts.extend(settings.most_bytes.map(|size| format!("up to {}", bytes(size))));
    parts.extend(settings.hot_span_ms.map(|ms| format!("hot for {}", span(ms))));
    parts.join(", ")
}

fn list_table(topics: &Vec<TopicSummary>) -> Table {
    let mut table = Table::new(&["topic", "#partitions", "#records", "#size", "keeps", "written by", "read by"], "no topic");
    for topic in topics {
        table.row([
            topic.name.clone(),
            topic.partitions.to_string(),
            topic.records.to_string(),
            bytes(topic.bytes),
            keeps(&topic.settings),
            topic.written_by.join(", "),
            topic.read_by.join(", "),
        ]);
    }
    table
}

fn topic_table(topic: &Topic) -> Table {
    let mut table = Table::new(&["#partition", "#first offset", "#next offset", "#records", "#size"], "no partition");
    for part in &topic.partition_list {
        table.row([
            part.partition.to_string(),
            part.first_offset.to_string(),
            part.next_offset.to_string(),
            part.records.to_string(),
            bytes(part.bytes),
        ]);
    }
    table
}

pub(crate) async fn run(client: &Client, command: TopicCommand) -> Result<(), CommandError> {
    match command {
        TopicCommand::List { name } => {
            let query: Vec<_> = name.map(|name| ("search", name)).into_iter().collect();
            let topics: Vec<TopicSummary> = client.all("/topics", &query).await?;
            client.print(&topics, list_table)
        }
        TopicCommand::Show { topic } => {
            let topic: Topic = client.get(&format!("/topics/{}", segment(&topic)), &[]).await?;
            client.done(&format!(
                "{}: {} records, {}, keeps {}",
                topic.summary.name,
                topic.summary.records,
                bytes(topic.summary.bytes),
                keeps(&topic.summary.settings)
            ))?;
            client.print(&topic, topic_table)
        }
        TopicCommand::Create { topic, partitions, settings } => {
            let settings = settings.over(&TopicSettings::default())?;
            let made: Topic = client.create("/topics", &NewTopic { name: topic, partitions, settings }).await?;
            client.print(&made, topic_table)
        }
        TopicCommand::Change { topic, settings, yes } => {
            let path = format!("/topics/{}", segment(&topic));
            let now: Topic = client.get(&path, &[]).await?;
            let settings = settings.over(&now.summary.settings)?;
            let path = format!("{path}/settings");
            let look = after_a_look(client, Method::PUT, &path, Some(now.revision), Some(&settings), yes).await?;
            let Some(answer) = look else { return Ok(()) };
            let changed: Topic = client.parsed(answer).await?;
            client.done(&format!("{} keeps {}", changed.summary.name, keeps(&changed.summary.settings)))?;
            if client.output == crate::context::Output::Json { client.print_json(&changed) } else { Ok(()) }
        }
        TopicCommand::AddPartitions { topic, partitions, yes } => {
            let path = format!("/topics/{}/partitions", segment(&topic));
            let more = MorePartitions { partitions };
            let look = after_a_look(client, Method::POST, &path, None, Some(&more), yes).await?;
            let Some(answer) = look else { return Ok(()) };
            let grown: Topic = client.parsed(answer).await?;
            client.print(&grown, topic_table)
        }
        TopicCommand::Delete { topic, yes } => {
            let path = format!("/topics/{}", segment(&topic));
            match after_a_look(client, Method::DELETE, &path, None, NOTHING, yes).await? {
                Some(_) => client.done(&format!("{topic} is deleted")),
                None => Ok(()),
            }
        }
    }
}
