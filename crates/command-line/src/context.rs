//! Where the server is: from flags, the environment, a file.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use clap::{Args, ValueEnum};
use serde::Deserialize;

use crate::error::CommandError;

const USUAL: &str = "http://127.0.0.1:8470";

/// How results are printed.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, ValueEnum)]
pub enum Output {
    /// A table for people.
    #[default]
    Table,
    /// JSON for scripts.
    Json,
}

/// Which server, and how results are printed. What no flag says comes from the environment, then from the file.
#[derive(Debug, Clone, Args)]
pub struct Context {
    /// Address of the server.
    #[arg(long, global = true, env = "GONVEL_SERVER", value_name = "URL")]
    pub server: Option<String>,
    /// A context of the file of contexts.
    #[arg(long, global = true, env = "GONVEL_CONTEXT", value_name = "NAME")]
    pub context: Option<String>,
    /// The file of contexts; ~/.config/gonvel/contexts.toml without it.
    #[arg(long, global = true, env = "GONVEL_CONTEXTS", value_name = "FILE")]
    pub contexts: Option<PathBuf>,
    /// How results are printed.
    #[arg(long, short, global = true, env = "GONVEL_OUTPUT", value_enum)]
    pub output: Option<Output>,
}

/// What is known after flags, environment and file were looked at.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Resolved {
    pub(crate) server: String,
    pub(crate) output: Output,
}

#[derive(Debug, Default, Deserialize)]
#[serde(deny_unknown_fields)]
struct File {
    /// The context that is used if none is named.
    #[serde(default)]
    current: Option<String>,
    #[serde(default)]
    contexts: BTreeMap<String, Entry>,
}

#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
struct Entry {
    server: String,
    #[serde(default)]
    output: Option<String>,
}

fn usual_file() -> Option<PathBuf> {
    let folder = std::env::var_os("XDG_CONFIG_HOME")
        .map(PathBuf::from)
        .or_else(|| std::env::var_os("HOME").map(|home| PathBuf::from(home).join(".config")))?;
    Some(folder.join("gonvel").join("contexts.toml"))
}

fn load(path: &Path) -> Result<File, CommandError> {
    let text = std::fs::read_to_string(path)
        .map_err(|e| CommandError::Usage(format!("the file of contexts {} cannot be read: {e}", path.display())))?;
    toml::from_str(&text)
        .map_err(|e| CommandError::Usage(format!("the file of contexts {} is not right: {e}", path.display())))
}

/// Flags win over the environment, and both over the file.
pub(crate) fn resolve(context: &Context) -> Result<Resolved, CommandError> {
    let file = match (&context.contexts, usual_file()) {
        (Some(path), _) => load(path)?,
        (None, Some(path)) if path.exists() => load(&path)?,
        _ => File::default(),
    };
    let named = context.context.as_ref().or(file.current.as_ref());
    let entry = match named {
        None => None,
        Some(name) => Some(file.contexts.get(name).cloned().ok_or_else(|| {
            let known: Vec<&str> = file.contexts.keys().map(String::as_str).collect();
            let known =
                if known.is_empty() { "there is none".to_owned() } else { format!("there are {}", known.join(", ")) };
            CommandError::Usage(format!("there is no context {name:?} in the file of contexts: {known}"))
        })?),
    };
    let output = match (context.output, entry.as_ref().and_then(|e| e.output.as_deref())) {
        (Some(output), _) => output,
        (None, None | Some("table")) => Output::Table,
        (None, Some("json")) => Output::Json,
        (None, Some(other)) => {
            return Err(CommandError::Usage(format!("output is {other:?} in the file of contexts: give table or json")));
        }
    };
    let server = context.server.clone().or(entry.map(|e| e.server)).unwrap_or_else(|| USUAL.to_owned());
    Ok(Resolved { server: server.trim_end_matches('/').to_owned(), output })
}
