//! `gonvel schema …`

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};

use clap::{Args, Subcommand};
use gonvel_http_api::{
    LARGEST_LONG_PAGE, Language, NewSchema, Registered, Rule, Schema, SchemaDifference, SchemaReference, SchemaSummary,
    SchemaText, SchemaVerdict, SchemaVersion,
};
use reqwest::Method;
use serde::Serialize;

use crate::client::{Client, segment};
use crate::error::CommandError;
use crate::planning::{NOTHING, after_a_look};
use crate::table::Table;

/// What to do with schemas.
#[derive(Debug, Subcommand)]
pub enum SchemaCommand {
    /// List schemas.
    List {
        /// What their name, description, owner, labels or fields contain.
        #[arg(long, short, default_value = "")]
        search: String,
    },
    /// Show a schema's versions.
    Show {
        /// The schema.
        schema: String,
    },
    /// Print a version's text, or write the latest texts of all schemas into a folder.
    Pull {
        /// The schema; all of them without it.
        schema: Option<String>,
        /// Its version; the latest without it.
        #[arg(long)]
        version: Option<i32>,
        /// Where to write the texts of all.
        #[arg(long, required_unless_present = "schema")]
        folder: Option<PathBuf>,
    },
    /// Register a file as a new schema or as the next version.
    Register {
        /// The schema.
        schema: String,
        /// The file: .avsc for Avro, .json for JSON Schema, .proto for Protocol Buffers.
        file: PathBuf,
        /// Why; it stays with the version.
        #[arg(long, default_value = "")]
        why: String,
        /// Versions it names types of.
        #[command(flatten)]
        references: References,
    },
    /// Check a file as the next version without registering it. Ends with 4 if it does not keep the rule or cannot be read.
    Check {
        /// The schema.
        schema: String,
        /// The file.
        file: PathBuf,
        /// Versions it names types of.
        #[command(flatten)]
        references: References,
    },
    /// Say what changed between two versions, in words.
    Difference {
        /// The schema.
        schema: String,
        /// The earlier version.
        from: i32,
        /// The later version; the latest without it.
        to: Option<i32>,
    },
    /// Register every schema file of a folder under its own name. Ends with 4 if one is refused; the others are registered.
    Push {
        /// The folder.
        folder: PathBuf,
        /// Why; it stays with the versions.
        #[arg(long, default_value = "")]
        why: String,
        /// Only check them.
        #[arg(long)]
        dry_run: bool,
    },
    /// Delete a schema that nothing uses. Shows first what that does, and does it with --yes.
    Delete {
        /// The schema.
        schema: String,
        /// Do it.
        #[arg(long)]
        yes: bool,
    },
}

/// Versions of other schemas.
#[derive(Debug, Args)]
pub struct References {
    /// A version that is named, as schema:version.
    #[arg(long = "reference", value_name = "SCHEMA:VERSION")]
    references: Vec<String>,
}

impl References {
    fn read(&self) -> Result<Vec<SchemaReference>, CommandError> {
        let one = |text: &String| {
            let found = text.rsplit_once(':').and_then(|(name, version)| Some((name, version.parse().ok()?)));
            let (name, version) =
                found.ok_or_else(|| CommandError::Usage(format!("{text:?}: write it as schema:version")))?;
            Ok(SchemaReference { name: name.to_owned(), version })
        };
        self.references.iter().map(one).collect()
    }
}

/// Who runs the command, as far as the environment says it.
fn author() -> String {
    std::env::var("USER").or_else(|_| std::env::var("USERNAME")).unwrap_or_else(|_| "the command line".to_owned())
}

fn language_of(file: &Path) -> Option<Language> {
    match file.extension()?.to_str()? {
        "avsc" => Some(Language::Avro),
        "json" => Some(Language::JsonSchema),
        "proto" => Some(Language::Protobuf),
        _ => None,
    }
}

fn extension(language: Language) -> &'static str {
    match language {
        Language::Avro => "avsc",
        Language::JsonSchema => "json",
        Language::Protobuf => "proto",
    }
}

fn read(file: &Path) -> Result<(Language, String), CommandError> {
    let failed = |cause: String| CommandError::File { path: file.display().to_string(), cause };
    let language = language_of(file)
        .ok_or_else(|| failed("its name ends neither with .avsc (Avro), .json (JSON Schema) nor .proto".to_owned()))?;
    Ok((language, std::fs::read_to_string(file).map_err(|e| failed(e.to_string()))?))
}

fn list_table(schemas: &Vec<SchemaSummary>) -> Table {
    let mut table = Table::new(&["schema", "language", "#version", "owner", "bound to", "fields found"], "no schema");
    for schema in schemas {
        let bound = schema.topics.iter().map(|t| format!("{}s of {}", t.role, t.topic)).collect::<Vec<_>>().join(", ");
        table.row([
            schema.about.name.clone(),
            word(schema.about.language),
            schema.version.map_or_else(String::new, |v| v.to_string()),
            schema.about.owner.clone(),
            bound,
            schema.fields.join(", "),
        ]);
    }
    table
}

fn word(language: Language) -> String {
    serde_json::to_value(language).ok().and_then(|v| v.as_str().map(str::to_owned)).unwrap_or_default()
}

fn versions_table(schema: &Schema) -> Table {
    let mut table = Table::new(&["#version", "registered", "by", "why", "fingerprint"], "no version");
    for version in &schema.versions {
        let SchemaVersion { version, created_at, author, why, fingerprint, .. } = version.clone();
        table.row([version.to_string(), created_at, author, why, fingerprint]);
    }
    table
}

fn difference_table(differences: &Vec<SchemaDifference>) -> Table {
    let mut table = Table::new(&["where", "what", "breaks"], "nothing changed that data would show");
    for difference in differences {
        table.row([
            difference.path.clone(),
            difference.words.clone(),
            difference.breaks.clone().unwrap_or_else(|| "nothing".to_owned()),
        ]);
    }
    table
}

fn verdict_table(verdict: &SchemaVerdict) -> Table {
    let mut table = Table::new(&["where", "found", "rule", "to pass"], "it keeps the rule");
    if let Some(fault) = &verdict.fault {
        let place = format!("line {}, column {}", fault.line, fault.column);
        table.row([place, fault.finding.clone(), String::new(), String::new()]);
    }
    for breach in &verdict.breaches {
        for misfit in &breach.misfits {
            let rule = format!("{} {}: {}", breach.half, breach.version, misfit.rule);
            table.row([misfit.path.clone(), misfit.finding.clone(), rule, misfit.remedy.clone()]);
        }
    }
    table
}

fn refusal(verdict: &SchemaVerdict) -> Option<String> {
    if let Some(fault) = &verdict.fault {
        return Some(format!("line {}, column {}: {}", fault.line, fault.column, fault.finding));
    }
    let first = verdict.breaches.first()?;
    let misfit = first.misfits.first()?;
    Some(format!("{} {}: at {} {}; {}", first.half, first.version, misfit.path, misfit.finding, misfit.remedy))
}

async fn schema(client: &Client, name: &str) -> Result<Schema, CommandError> {
    client.get(&format!("/schemas/{}", segment(name)), &[]).await
}

async fn all(client: &Client, search: &str) -> Result<Vec<SchemaSummary>, CommandError> {
    let query = [("search", search.to_owned())];
    client.some("/schemas", &query, usize::MAX, LARGEST_LONG_PAGE).await
}

/// Registers a text; none if the version it gives was there already.
async fn register(
    client: &Client,
    name: &str,
    (language, text): (Language, &str),
    references: &[SchemaReference],
    why: &str,
) -> Result<(i32, bool), CommandError> {
    match schema(client, name).await {
        Ok(there) => {
            if there.about.language != language {
                return Err(CommandError::Failed(format!(
                    "{name} is in {}, the file in {}: register it under another name",
                    word(there.about.language),
                    word(language)
                )));
            }
            let body =
                SchemaText { text: text.to_owned(), references: references.to_vec(), author: author(), why: why.to_owned() };
            let Registered { version } = client.post(&format!("/schemas/{}/versions", segment(name)), &body).await?;
            Ok((version, there.versions.iter().all(|v| v.version != version)))
        }
        Err(error) if error.exit_code() == 3 => {
            let body = NewSchema {
                name: name.to_owned(),
                language,
                text: text.to_owned(),
                references: references.to_vec(),
                description: String::new(),
                owner: String::new(),
                labels: Vec::new(),
                rule: Rule::default(),
                author: author(),
                why: why.to_owned(),
            };
            let _: Schema = client.create("/schemas", &body).await?;
            Ok((1, true))
        }
        Err(error) => Err(error),
    }
}

/// What became of a file.
#[derive(Debug, Serialize)]
struct Pushed {
    schema: String,
    outcome: String,
    refused: bool,
}

fn pushed_table(pushed: &Vec<Pushed>) -> Table {
    let mut table = Table::new(&["schema", "outcome"], "no schema file in the folder");
    for one in pushed {
        table.row([one.schema.clone(), one.outcome.clone()]);
    }
    table
}

/// The files that a Protocol Buffers file imports, by the names of their schemas.
fn imports(text: &str) -> Vec<String> {
    let statements = text.lines().map(str::trim).filter(|line| line.starts_with("import"));
    statements
        .filter_map(|line| line.split('"').nth(1))
        .filter(|path| !path.starts_with("google/protobuf/"))
        .map(|path| path.trim_end_matches(".proto").to_owned())
        .collect()
}

async fn push(client: &Client, folder: &Path, why: &str, dry_run: bool) -> Result<(), CommandError> {
    let failed = |cause: std::io::Error| CommandError::File { path: folder.display().to_string(), cause: cause.to_string() };
    let mut files: BTreeMap<String, (Language, String)> = BTreeMap::new();
    for entry in std::fs::read_dir(folder).map_err(failed)? {
        let path = entry.map_err(failed)?.path();
        if let (Some(name), Some(_)) = (path.file_stem().and_then(|n| n.to_str()), language_of(&path)) {
            files.insert(name.to_owned(), read(&path)?);
        }
    }
    let mut pushed = Vec::new();
    // one that others import goes before them
    let mut waiting: BTreeSet<String> = files.keys().cloned().collect();
    while !waiting.is_empty() {
        let needs =
            |name: &String| imports(&files[name].1).into_iter().any(|other| other != *name && waiting.contains(&other));
        let next = waiting.iter().find(|name| !needs(name)).or_else(|| waiting.first()).cloned().unwrap_or_default();
        waiting.remove(&next);
        let (language, text) = &files[&next];
        let outcome = push_one(client, &next, (*language, text), why, dry_run).await;
        let (outcome, refused) = match outcome {
            Ok(outcome) => (outcome, false),
            Err(error @ CommandError::Unreachable { .. }) => return Err(error),
            Err(error) => (format!("refused: {error}"), true),
        };
        pushed.push(Pushed { schema: next, outcome, refused });
    }
    client.print(&pushed, pushed_table)?;
    let refused = pushed.iter().filter(|p| p.refused).count();
    if refused > 0 {
        return Err(CommandError::Refused(format!("{refused} of {} were refused", pushed.len())));
    }
    Ok(())
}

async fn push_one(
    client: &Client,
    name: &str,
    (language, text): (Language, &str),
    why: &str,
    dry_run: bool,
) -> Result<String, CommandError> {
    let mut references = Vec::new();
    if language == Language::Protobuf {
        for import in imports(text) {
            let there = match schema(client, &import).await {
                Err(error) if dry_run && error.exit_code() == 3 => {
                    return Ok(format!("is checked once {import} is registered"));
                }
                there => there?,
            };
            references.extend(there.versions.first().map(|v| SchemaReference { name: import.clone(), version: v.version }));
        }
    }
    if !dry_run {
        let (version, new) = register(client, name, (language, text), &references, why).await?;
        return Ok(if new { format!("version {version}") } else { format!("version {version}, as before") });
    }
    let body = SchemaText { text: text.to_owned(), references, author: String::new(), why: String::new() };
    let checked: Result<SchemaVerdict, _> = client.post(&format!("/schemas/{}/check", segment(name)), &body).await;
    match checked {
        Ok(verdict) => match (refusal(&verdict), verdict.same_as) {
            (Some(refusal), _) => Err(CommandError::Refused(refusal)),
            (None, Some(version)) => Ok(format!("version {version}, as before")),
            (None, None) => Ok("would be a new version".to_owned()),
        },
        Err(error) if error.exit_code() == 3 => Ok("would be a new schema".to_owned()),
        Err(error) => Err(error),
    }
}

async fn pull_all(client: &Client, folder: &Path) -> Result<(), CommandError> {
    let failed =
        |path: &Path, e: std::io::Error| CommandError::File { path: path.display().to_string(), cause: e.to_string() };
    std::fs::create_dir_all(folder).map_err(|e| failed(folder, e))?;
    let listed = all(client, "").await?;
    for one in &listed {
        let found = schema(client, &one.about.name).await?;
        let Some(latest) = found.versions.first() else { continue };
        let path = folder.join(format!("{}.{}", found.about.name, extension(found.about.language)));
        std::fs::write(&path, &latest.text).map_err(|e| failed(&path, e))?;
    }
    client.done(&format!("{} schemas are in {}", listed.len(), folder.display()))
}

pub(crate) async fn run(client: &Client, command: SchemaCommand) -> Result<(), CommandError> {
    match command {
        SchemaCommand::List { search } => client.print(&all(client, &search).await?, list_table),
        SchemaCommand::Show { schema: name } => client.print(&schema(client, &name).await?, versions_table),
        SchemaCommand::Pull { schema: None, folder, .. } => pull_all(client, &folder.unwrap_or_default()).await,
        SchemaCommand::Pull { schema: Some(name), version, .. } => {
            let found = schema(client, &name).await?;
            let wanted = found.versions.iter().find(|v| version.is_none_or(|wanted| v.version == wanted));
            let wanted = wanted.ok_or_else(|| CommandError::Usage(format!("{name} has no such version")))?;
            client.print_text(&wanted.text)
        }
        SchemaCommand::Register { schema: name, file, why, references } => {
            let (language, text) = read(&file)?;
            let (version, _) = register(client, &name, (language, &text), &references.read()?, &why).await?;
            client.print(&Registered { version }, |r| {
                let mut table = Table::new(&["schema", "#version"], "nothing");
                table.row([name.clone(), r.version.to_string()]);
                table
            })
        }
        SchemaCommand::Check { schema: name, file, references } => {
            let (_, text) = read(&file)?;
            let body = SchemaText { text, references: references.read()?, author: String::new(), why: String::new() };
            let verdict: SchemaVerdict = client.post(&format!("/schemas/{}/check", segment(&name)), &body).await?;
            client.print(&verdict, verdict_table)?;
            if verdict.passes { Ok(()) } else { Err(CommandError::Refused(format!("{name} would not take it"))) }
        }
        SchemaCommand::Difference { schema: name, from, to } => {
            let to = match to {
                Some(to) => to,
                None => schema(client, &name).await?.versions.first().map_or(from, |v| v.version),
            };
            let query = [("from", from.to_string()), ("to", to.to_string())];
            let found: Vec<SchemaDifference> =
                client.all(&format!("/schemas/{}/difference", segment(&name)), &query).await?;
            client.print(&found, difference_table)
        }
        SchemaCommand::Push { folder, why, dry_run } => push(client, &folder, &why, dry_run).await,
        SchemaCommand::Delete { schema: name, yes } => {
            let path = format!("/schemas/{}", segment(&name));
            match after_a_look(client, Method::DELETE, &path, None, NOTHING, yes).await? {
                Some(_) => client.done(&format!("{name} is deleted")),
                None => Ok(()),
            }
        }
    }
}
