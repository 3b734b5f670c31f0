//! `gonvel connection …`

use std::collections::BTreeMap;

use clap::{Args, Subcommand};
use gonvel_http_api::{
    CapturedTable, Connection, ConnectionRequest, Outcome, Preflight, RowSample, SampleRequest, Setting, SettingType,
    SourceTable, SystemKind, Values,
};
use reqwest::Method;
use serde_json::{Map, Value, json};

use crate::client::{Client, segment};
use crate::error::CommandError;
use crate::planning::{NOTHING, after_a_look};
use crate::table::Table;

/// What to do with connections.
#[derive(Debug, Subcommand)]
pub enum ConnectionCommand {
    /// List connections.
    List,
    /// Show the kinds of systems with their settings.
    Kinds,
    /// Save a connection, once the system was reached with it.
    Create {
        /// Its name.
        name: String,
        /// How it is reached.
        #[command(flatten)]
        settings: SettingsArguments,
    },
    /// Try a connection.
    Test {
        /// The connection.
        connection: String,
    },
    /// List the tables of a connection's database.
    Tables {
        /// The connection.
        connection: String,
    },
    /// Show a few rows of a table, and the records they would become.
    Sample {
        /// The connection.
        connection: String,
        /// The table, as schema.table; without a schema, one of the usual schema.
        table: String,
    },
    /// Delete a connection that nothing uses. Shows first what that does, and does it with --yes.
    Delete {
        /// The connection.
        connection: String,
        /// Do it.
        #[arg(long)]
        yes: bool,
    },
}

/// The settings of a connection.
#[derive(Debug, Args)]
pub struct SettingsArguments {
    /// The kind of system; `gonvel connection kinds` shows them.
    #[arg(long)]
    kind: String,
    /// A setting: name=value; of one with values by name, name=value=… for each.
    #[arg(long = "set", value_name = "NAME=VALUE")]
    settings: Vec<String>,
    /// A secret from a variable of the environment: password=VARIABLE, or the variable alone for the password.
    #[arg(long, value_name = "[NAME=]VARIABLE")]
    secret_from_env: Vec<String>,
    /// A secret from a file: password=PATH, or the path alone for the password.
    #[arg(long, value_name = "[NAME=]PATH")]
    secret_from_file: Vec<String>,
}

fn usage(text: impl Into<String>) -> CommandError {
    CommandError::Usage(text.into())
}

/// A text as the type of a setting.
fn value(setting: &Setting, text: &str, before: Option<Value>) -> Result<Value, CommandError> {
    let name = &setting.name;
    Ok(match &setting.takes {
        SettingType::Text | SettingType::Lines => json!(text),
        SettingType::Whole { least, most } => {
            let number = text.parse::<i64>().ok().filter(|number| (*least..=*most).contains(number));
            json!(number.ok_or_else(|| usage(format!("{name} takes a whole number from {least} to {most}, not {text:?}")))?)
        }
        SettingType::Choice { choices } => {
            let known: Vec<&str> = choices.iter().map(|choice| choice.value.as_ref()).collect();
            if !known.contains(&text) {
                return Err(usage(format!("{name} takes {}, not {text:?}", known.join(", "))));
            }
            json!(text)
        }
        SettingType::Pairs => {
            let (key, value) =
                text.split_once('=').ok_or_else(|| usage(format!("{name} takes name=value, not {text:?}")))?;
            let mut pairs = before.and_then(|before| before.as_object().cloned()).unwrap_or_default();
            pairs.insert(key.to_owned(), json!(value));
            Value::Object(pairs)
        }
    })
}

/// `name=place`, or the place alone for the password.
#[allow(clippy::ptr_arg, reason = "it is mapped over a list of them")]
fn named_secret(given: &String) -> (String, String) {
    given.split_once('=').map_or_else(|| ("password".into(), given.clone()), |(name, place)| (name.into(), place.into()))
}

/// The request that settings make.
fn request(name: &str, kinds: &[SystemKind], arguments: &SettingsArguments) -> Result<ConnectionRequest, CommandError> {
    let about = kinds.iter().find(|about| about.kind == arguments.kind).ok_or_else(|| {
        let known: Vec<&str> = kinds.iter().map(|about| about.kind.as_ref()).collect();
        usage(format!("there is no kind {:?}: the kinds are {}", arguments.kind, known.join(", ")))
    })?;
    let find = |name: &str| {
        let known: Vec<&str> = about.settings.iter().map(|setting| setting.name.as_ref()).collect();
        let found = about.settings.iter().find(|setting| setting.name == name);
        found.ok_or_else(|| usage(format!("{} has no setting {name:?}: it has {}", about.name, known.join(", "))))
    };
    let mut fields: Map<String, Value> = Map::new();
    for given in &arguments.settings {
        let (name, text) = given.split_once('=').ok_or_else(|| usage(format!("write name=value, not {given:?}")))?;
        let setting = find(name)?;
        if setting.secret {
            let finding = format!(
                "{name} is a secret, and other users of this machine see what a command is given: use --secret-from-env or --secret-from-file"
            );
            return Err(usage(finding));
        }
        let value = value(setting, text, fields.remove(name))?;
        fields.insert(name.to_owned(), value);
    }
    let mut secrets: BTreeMap<String, String> = BTreeMap::new();
    for (name, variable) in arguments.secret_from_env.iter().map(named_secret) {
        let secret = std::env::var(&variable).map_err(|_| usage(format!("there is no variable {variable}: set it")))?;
        secrets.insert(name, secret);
    }
    for (name, path) in arguments.secret_from_file.iter().map(named_secret) {
        let text =
            std::fs::read_to_string(&path).map_err(|e| CommandError::File { path: path.clone(), cause: e.to_string() })?;
        secrets.insert(name, text.trim_end_matches(['\r', '\n']).to_owned());
    }
    for (name, secret) in secrets {
        if !find(&name)?.secret {
            return Err(usage(format!("{name} is no secret: give it with --set")));
        }
        fields.insert(name, json!(secret));
    }
    let missing: Vec<&str> = about
        .settings
        .iter()
        .filter(|s| s.needed && !fields.contains_key(s.name.as_ref()))
        .map(|s| s.name.as_ref())
        .collect();
    if !missing.is_empty() {
        return Err(usage(format!("not given: {}; add --set {}=…", missing.join(", "), missing[0])));
    }
    Ok(ConnectionRequest { name: name.into(), kind: Some(about.kind.to_string()), settings: fields })
}

fn kinds_table(kinds: &Vec<SystemKind>) -> Table {
    let mut table = Table::new(&["kind", "setting", "takes", "usually", "what it is for"], "no kind");
    for about in kinds {
        let ends = match (about.source.is_some(), about.sink.is_some()) {
            (true, true) => "sources and sinks",
            (true, false) => "sources",
            _ => "sinks",
        };
        table.row([
            about.kind.to_string(),
            String::new(),
            ends.into(),
            String::new(),
            format!("{}: {}", about.name, about.says),
        ]);
        for setting in &about.settings {
            let takes = match &setting.takes {
                _ if setting.secret => "a secret".into(),
                SettingType::Text => "text".into(),
                SettingType::Lines => "lines of text".into(),
                SettingType::Whole { least, most } => format!("{least} to {most}"),
                SettingType::Choice { choices } => choices.iter().map(|c| c.value.as_ref()).collect::<Vec<_>>().join(", "),
                SettingType::Pairs => "name=value".into(),
            };
            let usual = match (&setting.usual, setting.needed) {
                (Some(usual), false) => usual.to_string(),
                (_, true) => "(needed)".into(),
                (None, false) => String::new(),
            };
            let help = if setting.help.is_empty() {
                setting.label.to_string()
            } else {
                format!("{}: {}", setting.label, setting.help)
            };
            table.row([String::new(), setting.name.to_string(), takes, usual, help]);
        }
    }
    table
}

fn list_table(connections: &Vec<Connection>) -> Table {
    let mut table = Table::new(&["connection", "kind", "where", "used by"], "no connection");
    for c in connections {
        table.row([c.name.clone(), c.kind.clone(), c.place.clone(), c.used_by.join(", ")]);
    }
    table
}

fn checks_table(preflight: &Preflight) -> Table {
    let mut table = Table::new(&["check", "outcome", "what was found", "what to do"], "nothing was checked");
    for check in &preflight.checks {
        let outcome = match check.outcome {
            Outcome::Passed => "passed",
            Outcome::Warning => "warning",
            Outcome::Failed => "failed",
        };
        table.row([check.name.clone(), outcome.into(), check.finding.clone(), check.remedy.clone().unwrap_or_default()]);
    }
    table
}

fn tables_table(tables: &Vec<SourceTable>) -> Table {
    let mut table = Table::new(&["table", "#rows, about", "key"], "no table");
    for t in tables {
        table.row([
            CapturedTable::whole(&t.schema, &t.table, "").qualified(),
            t.rows.map(|rows| rows.to_string()).unwrap_or_default(),
            t.key.join(", "),
        ]);
    }
    table
}

fn sample_table(sample: &RowSample) -> Table {
    let head: Vec<&str> = sample.columns.iter().map(|column| column.name.as_str()).collect();
    let mut table = Table::new(&head, "no row");
    for row in &sample.rows {
        table.row(row.cells.iter().map(|cell| cell.clone().unwrap_or_else(|| "null".into())));
    }
    table
}

async fn find(client: &Client, name: &str) -> Result<Connection, CommandError> {
    client.get(&format!("/connections/{}", segment(name)), &[]).await
}

pub(crate) async fn run(client: &Client, command: ConnectionCommand) -> Result<(), CommandError> {
    match command {
        ConnectionCommand::List => {
            let connections: Vec<Connection> = client.all("/connections", &[]).await?;
            client.print(&connections, list_table)
        }
        ConnectionCommand::Kinds => {
            let kinds: Vec<SystemKind> = client.all("/kinds", &[]).await?;
            client.print(&kinds, kinds_table)
        }
        ConnectionCommand::Create { name, settings } => {
            let kinds: Vec<SystemKind> = client.all("/kinds", &[]).await?;
            let request = request(&name, &kinds, &settings)?;
            let made: Connection = client.create("/connections", &request).await?;
            client.print(&vec![made], list_table)
        }
        ConnectionCommand::Test { connection } => {
            let found = find(client, &connection).await?;
            let tested: Preflight = client.post(&format!("/connections/{}/test", found.id), &()).await?;
            client.print(&tested, checks_table)?;
            match tested.checks.iter().find(|check| check.outcome == Outcome::Failed) {
                Some(failed) => Err(CommandError::Refused(failed.finding.clone())),
                None => Ok(()),
            }
        }
        ConnectionCommand::Tables { connection } => {
            let found = find(client, &connection).await?;
            let tables: Vec<SourceTable> = client.all(&format!("/connections/{}/tables", found.id), &[]).await?;
            client.print(&tables, tables_table)
        }
        ConnectionCommand::Sample { connection, table } => {
            let found = find(client, &connection).await?;
            // where tables stand in no schemas, a name's dots are its own
            let (schema, name) = match &found.usual_schema {
                Some(usual) => table.split_once('.').unwrap_or((usual, &table)),
                None => ("", &*table),
            };
            let request = SampleRequest { table: CapturedTable::whole(schema, name, "sample"), values: Values::default() };
            let sample: RowSample = client.post(&format!("/connections/{}/sample", found.id), &request).await?;
            client.print(&sample, sample_table)
        }
        ConnectionCommand::Delete { connection, yes } => {
            let path = format!("/connections/{}", segment(&connection));
            match after_a_look(client, Method::DELETE, &path, None, NOTHING, yes).await? {
                Some(_) => client.done(&format!("{connection} is deleted")),
                None => Ok(()),
            }
        }
    }
}
