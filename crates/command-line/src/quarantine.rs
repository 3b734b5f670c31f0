//! `gonvel quarantine …`

use clap::{Args, Subcommand};
use gonvel_http_api::{
    Affected, Cause, DiscardRequest, LARGEST_RECORD_PAGE, MendRecord, QuarantinedRecord, RetryRequest, WhichRecords,
};
use reqwest::Method;

use crate::client::Client;
use crate::connector_named::find;
use crate::error::CommandError;
use crate::operations::Waiting;
use crate::planning::after_a_look;
use crate::table::Table;

/// What to do with records that could not be handled.
#[derive(Debug, Subcommand)]
pub enum QuarantineCommand {
    /// List causes with how many records wait.
    Causes {
        /// Only of this connector.
        #[arg(long)]
        connector: Option<String>,
    },
    /// List records.
    List {
        /// Only of this connector.
        #[arg(long)]
        connector: Option<String>,
        /// Only of this cause.
        #[arg(long)]
        cause: Option<String>,
        /// In this state: waiting, asked, delivered, discarded, superseded or all; those that wait without it.
        #[arg(long)]
        state: Option<String>,
        /// At most so many.
        #[arg(long, short = 'n', default_value_t = 50)]
        limit: usize,
    },
    /// Show a record whole.
    Show {
        /// Its number.
        record: i64,
    },
    /// Give a record another value, as JSON; the record in its topic stays as it is.
    Mend {
        /// Its number.
        record: i64,
        /// The value; without it a mending is taken back.
        value: Option<String>,
    },
    /// Try records again.
    Retry {
        /// Which.
        #[command(flatten)]
        which: Which,
        /// At most so many a second.
        #[arg(long)]
        per_second: Option<i32>,
        /// Whether it is waited for.
        #[command(flatten)]
        waiting: Waiting,
    },
    /// Give records up. Shows first how many, and does it with --yes.
    Discard {
        /// Which.
        #[command(flatten)]
        which: Which,
        /// Why.
        #[arg(long)]
        reason: String,
        /// Do it.
        #[arg(long)]
        yes: bool,
    },
}

/// Records by their numbers, or by connector and cause.
#[derive(Debug, Args)]
pub struct Which {
    /// Their numbers.
    #[arg(required_unless_present = "connector", conflicts_with = "connector")]
    records: Vec<i64>,
    /// All that wait of this connector.
    #[arg(long)]
    connector: Option<String>,
    /// Only of this cause of it.
    #[arg(long, requires = "connector")]
    cause: Option<String>,
}

impl Which {
    async fn records(self, client: &Client) -> Result<WhichRecords, CommandError> {
        let connector = match &self.connector {
            Some(name) => Some(find(client, name).await?.id),
            None => None,
        };
        Ok(WhichRecords { ids: self.records, connector, cause: self.cause })
    }
}

fn causes_table(causes: &Vec<Cause>) -> Table {
    let mut table =
        Table::new(&["cause", "connector", "step", "#wait", "#asked for", "last", "forgotten", "finding"], "nothing waits");
    for cause in causes {
        table.row([
            cause.cause.clone(),
            cause.name.clone(),
            cause.step.clone(),
            cause.waiting.to_string(),
            cause.asked.to_string(),
            cause.last_at.clone(),
            cause.expires_at.clone(),
            cause.finding.clone(),
        ]);
    }
    table
}

fn records_table(records: &Vec<QuarantinedRecord>) -> Table {
    let mut table =
        Table::new(&["#record", "topic", "#partition", "#offset", "key", "state", "#tries", "finding"], "no record");
    for record in records {
        table.row([
            record.id.to_string(),
            record.topic.clone(),
            record.partition.to_string(),
            record.offset.map_or_else(|| "-".to_owned(), |offset| offset.to_string()),
            record.key.to_string(),
            record.state.clone(),
            record.tries.to_string(),
            record.finding.clone(),
        ]);
    }
    table
}

pub(crate) async fn run(client: &Client, command: QuarantineCommand) -> Result<(), CommandError> {
    let id_of = async |name: &Option<String>| match name {
        Some(name) => find(client, name).await.map(|c| Some(("connector", c.id.to_string()))),
        None => Ok(None),
    };
    match command {
        QuarantineCommand::Causes { connector } => {
            let query: Vec<_> = id_of(&connector).await?.into_iter().collect();
            let causes: Vec<Cause> = client.all("/quarantine/causes", &query).await?;
            client.print(&causes, causes_table)
        }
        QuarantineCommand::List { connector, cause, state, limit } => {
            let mut query: Vec<_> = id_of(&connector).await?.into_iter().collect();
            query.extend(cause.map(|c| ("cause", c)));
            query.extend(state.map(|s| ("state", s)));
            let records: Vec<QuarantinedRecord> =
                client.some("/quarantine/records", &query, limit, LARGEST_RECORD_PAGE).await?;
            client.print(&records, records_table)
        }
        QuarantineCommand::Show { record } => {
            let record: QuarantinedRecord = client.get(&format!("/quarantine/records/{record}"), &[]).await?;
            client.print_json(&record)
        }
        QuarantineCommand::Mend { record, value } => {
            let read = |text: String| {
                serde_json::from_str(&text).map_err(|e| CommandError::Usage(format!("the value is no JSON: {e}")))
            };
            let value = value.map(read).transpose()?;
            let path = format!("/quarantine/records/{record}/mended");
            let mended: QuarantinedRecord = client.put(&path, &MendRecord { value }).await?;
            client.print_json(&mended)
        }
        QuarantineCommand::Retry { which, per_second, waiting } => {
            let request = RetryRequest { which: which.records(client).await?, per_second };
            waiting.begin(client, "/quarantine/retry", &request).await
        }
        QuarantineCommand::Discard { which, reason, yes } => {
            let request = DiscardRequest { which: which.records(client).await?, reason };
            let look = after_a_look(client, Method::POST, "/quarantine/discard", None, Some(&request), yes).await?;
            let Some(answer) = look else { return Ok(()) };
            let gone: Affected = client.parsed(answer).await?;
            client.print(&gone, |gone| {
                let mut table = Table::new(&["#discarded"], "");
                table.row([gone.records.to_string()]);
                table
            })
        }
    }
}
