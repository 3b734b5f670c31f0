//! `gonvel connector …`

use std::io::{self, Write};
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

use clap::builder::{PossibleValuesParser, TypedValueParser};
use clap::{Args, Subcommand, ValueEnum};
use gonvel_http_api::{
    Action, ActionOutcome, ActionRequest, BeginAnew, Connector, ConnectorPositions, ConnectorRequest, Deed, ExistingRows,
    LARGEST_LONG_PAGE, Line, ManifestReading, ManifestText, ManyActions, NamedDefinition, ReloadRequest, State,
};
use reqwest::Method;

use crate::client::Client;
use crate::connector_named::find;
use crate::context::Output;
use crate::error::CommandError;
use crate::moving::{MoveArguments, move_after_a_look};
use crate::operations::Waiting;
use crate::planning::plan;
use crate::table::{Table, bytes, span};

fn existing_rows() -> impl TypedValueParser<Value = ExistingRows> {
    PossibleValuesParser::new(["keep", "empty", "compare"]).map(|word| ExistingRows::of_word(&word))
}

/// What to do with connectors. One is named by its name or its id.
#[derive(Debug, Subcommand)]
pub enum ConnectorCommand {
    /// List connectors with their state and lag.
    List,
    /// Make a connector from its manifest, and start it.
    Create {
        /// The file; - for standard input.
        manifest: PathBuf,
        /// Save it as a draft.
        #[arg(long)]
        draft: bool,
    },
    /// Print a connector's manifest.
    Describe {
        /// The connector.
        connector: String,
    },
    /// Print a connector's state, or wait for one.
    Status {
        /// The connector.
        connector: String,
        /// Wait until it is in this state: following, paused, stopped, …
        #[arg(long, value_name = "STATE")]
        wait: Option<String>,
        /// How long at most.
        #[arg(long, default_value = "5m", value_name = "SPAN")]
        within: humantime::Duration,
    },
    /// Delete a connector with its traces in its system. Its topics and the rows it delivered stay. Shows first what that does, and does
    /// it with --yes.
    Delete {
        /// The connector.
        connector: String,
        /// Leave in its system what it left there, since that system is gone for good; it is listed.
        #[arg(long)]
        leave_remains: bool,
        /// Do it.
        #[arg(long)]
        yes: bool,
        /// Whether it is waited for.
        #[command(flatten)]
        waiting: Waiting,
    },
    /// Show a connector lane by lane.
    #[command(visible_alias = "lanes")]
    Show {
        /// The connector.
        connector: String,
    },
    /// Start connectors, or go on after a pause, a stop or a halt.
    #[command(visible_alias = "resume")]
    Start(Several),
    /// Hold connectors where they are.
    Pause(Several),
    /// Stop connectors: no runner has them, their places are kept.
    Stop(Several),
    /// Start lanes anew where they stand.
    Restart {
        /// The connector.
        connector: String,
        /// Only this lane.
        #[arg(long)]
        lane: Option<i32>,
    },
    /// Print a connector's log.
    Log(LogArguments),
    /// Show where a connector stands.
    Positions {
        /// The connector.
        connector: String,
    },
    /// Move a sink that is paused or stopped. Shows first what is skipped or delivered again, and does it with --yes.
    Move {
        /// The sink.
        sink: String,
        /// Where to.
        #[command(flatten)]
        to: MoveArguments,
    },
    /// Let a source that is paused, stopped or halted begin anew: every table is loaded again.
    BeginAnew {
        /// The source.
        connector: String,
        /// What becomes of rows that are there: keep, empty (they go first) or compare (what did not come goes).
        #[arg(long, value_parser = existing_rows(), default_value = "keep")]
        existing_rows: ExistingRows,
        /// Do it.
        #[arg(long)]
        yes: bool,
    },
    /// Load tables of a source again from their start, beside what is followed.
    LoadAgain {
        /// The source.
        connector: String,
        /// The tables, as schema.table.
        #[arg(required = true)]
        tables: Vec<String>,
        /// What becomes of rows that are there: keep, empty (they go first) or compare (what did not come goes).
        #[arg(long, value_parser = existing_rows(), default_value = "keep")]
        existing_rows: ExistingRows,
        /// Whether it is waited for.
        #[command(flatten)]
        waiting: Waiting,
    },
    /// Print who did what with a connector.
    History {
        /// The connector.
        connector: String,
        /// At most so many, the newest.
        #[arg(long, short = 'n', default_value_t = 200)]
        limit: usize,
    },
}

/// Connectors that something is done with.
#[derive(Debug, Args)]
pub struct Several {
    /// The connectors.
    #[arg(required_unless_present = "all")]
    connectors: Vec<String>,
    /// All of them.
    #[arg(long, conflicts_with = "connectors")]
    all: bool,
    /// Only tell what would be done.
    #[arg(long)]
    dry_run: bool,
}

/// How grave a line is.
#[derive(Debug, Clone, Copy, ValueEnum)]
pub enum Level {
    /// What it does.
    Info,
    /// What should be looked at.
    Warning,
    /// What kept it from working.
    Error,
}

/// Which lines are printed.
#[derive(Debug, Args)]
pub struct LogArguments {
    /// The connector.
    connector: String,
    /// Only of this lane.
    #[arg(long)]
    lane: Option<i32>,
    /// At least as grave.
    #[arg(long, value_enum)]
    level: Option<Level>,
    /// Only with this text.
    #[arg(long)]
    text: Option<String>,
    /// Only up to this time (RFC 3339).
    #[arg(long, value_name = "TIME")]
    until: Option<String>,
    /// At most so many, the newest.
    #[arg(long, short = 'n', default_value_t = 200)]
    limit: usize,
    /// Go on with what comes.
    #[arg(long, short)]
    follow: bool,
}

fn word(state: State) -> String {
    serde_json::to_value(state).ok().and_then(|s| s.as_str().map(str::to_owned)).unwrap_or_default()
}

#[allow(clippy::cast_possible_truncation, reason = "milliseconds for people")]
fn lag(connector: &Connector) -> String {
    match (connector.condition.lag_records, connector.lag_ms) {
        (Some(0), _) => "none".into(),
        (Some(records), Some(ms)) => format!("{records} records, {}", span(ms as i64)),
        (Some(records), None) => format!("{records} records"),
        _ => String::new(),
    }
}

fn list_table(connectors: &Vec<Connector>) -> Table {
    let head = ["connector", "kind", "system", "state", "#changes/s", "lag", "#quarantine", "reason"];
    let mut table = Table::new(&head, "no connector");
    for c in connectors {
        let rate = format!("{:.1}", c.condition.rate_per_s);
        let (name, kind, system) = (c.name.clone(), c.kind.clone(), c.system.clone());
        let (quarantined, reason) = (c.quarantined.to_string(), c.condition.reason.clone().unwrap_or_default());
        table.row([name, kind, system, word(c.condition.state), rate, lag(c), quarantined, reason]);
    }
    table
}

fn lanes_table(connector: &Connector) -> Table {
    let mut table = Table::new(&["#lane", "runner", "state", "since", "#changes/s", "#lag records", "reason"], "no lane");
    for lane in &connector.lanes {
        table.row([
            lane.lane.to_string(),
            lane.runner.clone().unwrap_or_else(|| "none".into()),
            word(lane.condition.state),
            lane.condition.since.clone().unwrap_or_default(),
            format!("{:.1}", lane.condition.rate_per_s),
            lane.condition.lag_records.map(|l| l.to_string()).unwrap_or_default(),
            lane.condition.reason.clone().unwrap_or_default(),
        ]);
    }
    table
}

fn outcomes_table(outcomes: &Vec<ActionOutcome>) -> Table {
    let mut table = Table::new(&["connector", "state before", "what it comes to"], "no connector");
    for outcome in outcomes {
        let says = outcome.refused.clone().map_or_else(|| outcome.says.clone(), |reason| format!("refused: {reason}"));
        table.row([outcome.name.clone(), word(outcome.state), says]);
    }
    table
}

fn positions_table(positions: &ConnectorPositions) -> Table {
    if let Some(source) = &positions.source {
        let mut table = Table::new(&["held by", "in the topics up to", "end of the log", "log kept", "missing"], "");
        let position = source.position.clone().unwrap_or_default();
        let Some(held) = &source.held else {
            table.row(["".into(), position, "".into(), "".into(), "".into()]);
            return table;
        };
        let missing = held.missing.as_ref().map(|m| format!("{} to {}", m.from, m.to)).unwrap_or_default();
        let kept = if held.kept { bytes(held.kept_bytes) } else { "none".into() };
        table.row([held.held_by.clone(), position, held.end.clone(), kept, missing]);
        return table;
    }
    let head = ["topic", "#partition", "#next", "#kept from", "#up to", "#to deliver", "#missed"];
    let mut table = Table::new(&head, "it has not delivered anything yet");
    for p in &positions.partitions {
        let numbers = [i64::from(p.partition), p.next_offset, p.first_offset, p.end_offset, p.waiting, p.missed];
        table.row(std::iter::once(p.topic.clone()).chain(numbers.map(|n| n.to_string())));
    }
    table
}

fn deeds_table(deeds: &Vec<Deed>) -> Table {
    let mut table = Table::new(&["when", "who", "what", "#version", "detail"], "nothing was done");
    for deed in deeds {
        let (who, detail) = (deed.who.clone(), deed.detail.clone().unwrap_or_default());
        table.row([deed.at.clone(), who, deed.what.clone(), deed.version.to_string(), detail]);
    }
    table
}

async fn act(client: &Client, several: Several, action: Action) -> Result<(), CommandError> {
    let all: Vec<Connector> = client.all("/connectors", &[]).await?;
    let connectors = if several.all {
        all.iter().map(|c| c.id).collect()
    } else {
        let find = |name: &String| {
            let found = all.iter().find(|c| c.name == *name || c.id.to_string() == *name);
            found.map(|c| c.id).ok_or_else(|| CommandError::Missing(format!("there is no connector {name}")))
        };
        several.connectors.iter().map(find).collect::<Result<_, _>>()?
    };
    let request = ManyActions { connectors, action };
    if several.dry_run {
        let plan = plan(client, Method::POST, "/connectors/actions", |r| r.json(&request)).await?;
        return client.print(&plan.outcomes, outcomes_table);
    }
    let outcomes: Vec<ActionOutcome> = client.post("/connectors/actions", &request).await?;
    client.print(&outcomes, outcomes_table)?;
    match outcomes.iter().filter(|o| o.refused.is_some()).count() {
        0 => Ok(()),
        refused => Err(CommandError::Refused(format!("{refused} of {} refused", outcomes.len()))),
    }
}

async fn log(client: &Client, arguments: LogArguments) -> Result<(), CommandError> {
    let connector = find(client, &arguments.connector).await?;
    let path = format!("/connectors/{}/log", connector.id);
    let mut query: Vec<(&str, String)> = Vec::new();
    let mut add = |name, value: Option<String>| query.extend(value.map(|value| (name, value)));
    add("lane", arguments.lane.map(|l| l.to_string()));
    add("level", arguments.level.and_then(|l| l.to_possible_value()).map(|l| l.get_name().to_owned()));
    add("text", arguments.text);
    add("until", arguments.until);
    let mut lines: Vec<Line> = client.some(&path, &query, arguments.limit, LARGEST_LONG_PAGE).await?;
    lines.reverse();
    let mut last = 0;
    loop {
        for line in &lines {
            last = last.max(line.number);
            if client.output == Output::Json {
                let text = serde_json::to_string(line).map_err(|e| CommandError::Failed(e.to_string()))?;
                writeln!(io::stdout().lock(), "{text}")?;
            } else {
                let facts = if line.facts.as_object().is_some_and(|f| f.is_empty()) {
                    String::new()
                } else {
                    line.facts.to_string()
                };
                let Line { at, level, lane, says, .. } = line;
                writeln!(io::stdout().lock(), "{at} {level:<7} lane {lane} {says} {facts}")?;
            }
        }
        if !arguments.follow {
            return Ok(());
        }
        tokio::time::sleep(Duration::from_secs(1)).await;
        let mut asked = query.clone();
        asked.extend([("order", "oldest".to_owned()), ("after", last.to_string())]);
        lines = client.some(&path, &asked, usize::MAX, LARGEST_LONG_PAGE).await?;
    }
}

async fn create(client: &Client, manifest: &Path, draft: bool) -> Result<(), CommandError> {
    let text = if manifest.as_os_str() == "-" { io::read_to_string(io::stdin()) } else { std::fs::read_to_string(manifest) };
    let file = manifest.display().to_string();
    let text = text.map_err(|e| CommandError::File { path: file.clone(), cause: e.to_string() })?;
    let reading: ManifestReading = client.post("/manifests/read", &ManifestText { text }).await?;
    let Some(read) = reading.connector else {
        let faults = reading.faults.iter().map(|f| format!("{file}:{}:{}: {}", f.line, f.column, f.finding));
        return Err(CommandError::Refused(faults.collect::<Vec<_>>().join("\n")));
    };
    let NamedDefinition { name, definition } = read;
    let request = ConnectorRequest { name, definition, start: !draft, checked: false, draft: None };
    let made: Connector = client.create("/connectors", &request).await?;
    client.print(&vec![made], list_table)
}

/// Waits until a connector is in a state; one that halts meanwhile needs a person.
async fn status(client: &Client, name: &str, wanted: Option<&str>, within: Duration) -> Result<(), CommandError> {
    let state_of = |word: &str| serde_json::from_value::<State>(word.into());
    let wanted =
        wanted.map(|word| state_of(word).map_err(|_| CommandError::Usage(format!("{word:?} is no state")))).transpose()?;
    let start = Instant::now();
    loop {
        let found = find(client, name).await?;
        let (state, reason) = (found.condition.state, found.condition.reason.clone().unwrap_or_default());
        match wanted {
            Some(wanted) if wanted != state && state == State::Halted => {
                return Err(CommandError::Refused(format!("{name} is halted: {reason}")));
            }
            Some(wanted) if wanted != state && start.elapsed() < within => {
                tokio::time::sleep(Duration::from_millis(500)).await
            }
            Some(wanted) if wanted != state => {
                return Err(CommandError::Refused(format!("{name} is {} still, not {}", word(state), word(wanted))));
            }
            _ => return client.print(&vec![found], list_table),
        }
    }
}

pub(crate) async fn run(client: &Client, command: ConnectorCommand) -> Result<(), CommandError> {
    match command {
        ConnectorCommand::List => {
            let connectors: Vec<Connector> = client.all("/connectors", &[]).await?;
            client.print(&connectors, list_table)
        }
        ConnectorCommand::Create { manifest, draft } => create(client, &manifest, draft).await,
        ConnectorCommand::Describe { connector } => {
            let found = find(client, &connector).await?;
            let named = NamedDefinition { name: found.name, definition: found.definition };
            let written: ManifestText = client.post("/manifests/write", &named).await?;
            client.print_text(&written.text)
        }
        ConnectorCommand::Status { connector, wait, within } => {
            status(client, &connector, wait.as_deref(), within.into()).await
        }
        ConnectorCommand::Delete { connector, leave_remains, yes, waiting } => {
            let found = find(client, &connector).await?;
            let query: &[_] = if leave_remains { &[("leave_remains", "true")] } else { &[] };
            waiting.after_deleting(client, &format!("/connectors/{}", found.id), query, yes).await
        }
        ConnectorCommand::Show { connector } => {
            let found = find(client, &connector).await?;
            client.print(&found, lanes_table)?;
            client.done(&found.guarantee)
        }
        ConnectorCommand::Start(several) => act(client, several, Action::Start).await,
        ConnectorCommand::Pause(several) => act(client, several, Action::Pause).await,
        ConnectorCommand::Stop(several) => act(client, several, Action::Stop).await,
        ConnectorCommand::Restart { connector, lane } => {
            let found = find(client, &connector).await?;
            let request = ActionRequest { action: Action::Restart, lane };
            let after: Connector = client.post(&format!("/connectors/{}/actions", found.id), &request).await?;
            client.print(&after, lanes_table)
        }
        ConnectorCommand::Positions { connector } => {
            let found = find(client, &connector).await?;
            let positions: ConnectorPositions = client.get(&format!("/connectors/{}/positions", found.id), &[]).await?;
            client.print(&positions, positions_table)
        }
        ConnectorCommand::Move { sink, to } => {
            let found = find(client, &sink).await?;
            move_after_a_look(client, &format!("/connectors/{}/positions", found.id), to, &sink).await
        }
        ConnectorCommand::BeginAnew { connector, existing_rows, yes } => {
            let found = find(client, &connector).await?;
            if !yes {
                return client.done(&format!(
                    "{connector} would give up its place in {}'s log and load all of its tables again; {}. Say --yes to do it.",
                    found.system,
                    existing_rows.told()
                ));
            }
            let path = format!("/connectors/{}/begin-anew", found.id);
            let after: Connector = client.post(&path, &BeginAnew { existing_rows }).await?;
            client.print(&after, lanes_table)
        }
        ConnectorCommand::LoadAgain { connector, tables, existing_rows, waiting } => {
            let found = find(client, &connector).await?;
            let request = ReloadRequest { tables, existing_rows };
            waiting.begin(client, &format!("/connectors/{}/reload", found.id), &request).await
        }
        ConnectorCommand::Log(arguments) => log(client, arguments).await,
        ConnectorCommand::History { connector, limit } => {
            let found = find(client, &connector).await?;
            let deeds: Vec<Deed> =
                client.some(&format!("/connectors/{}/history", found.id), &[], limit, LARGEST_LONG_PAGE).await?;
            client.print(&deeds, deeds_table)
        }
    }
}
