//! `gonvel apply` and `gonvel export`: an installation as manifests.

use std::collections::BTreeMap;
use std::fs;
use std::io::{self, BufRead, IsTerminal, Write};
use std::path::{Path, PathBuf};

use clap::Args;
use gonvel_http_api::{
    ApplyRequest, FieldChange, InstallationPlan, ManifestFile, NeededSecret, Operation, OperationState, SecretFrom,
    StepDeed, StepOutcome, ThingKind,
};
use reqwest::Method;

use crate::client::Client;
use crate::context::Output;
use crate::error::CommandError;
use crate::operations::{Waiting, wait};
use crate::planning::plan;

/// What is applied, and how.
#[derive(Debug, Args)]
pub struct ApplyArguments {
    /// Files with manifests, and folders of them (`*.yaml`, `*.yml`); - for standard input.
    #[arg(required = true)]
    paths: Vec<PathBuf>,
    /// Delete what no manifest names.
    #[arg(long)]
    prune: bool,
    /// Only tell what would be done: exit code 0 if that is nothing, 6 if it is something.
    #[arg(long)]
    dry_run: bool,
    /// Do it without asking.
    #[arg(long)]
    yes: bool,
    /// Whether it is waited for.
    #[command(flatten)]
    waiting: Waiting,
}

/// What is written.
#[derive(Debug, Args)]
pub struct ExportArguments {
    /// The folder, with a file for each kind; standard output without it.
    folder: Option<PathBuf>,
}

fn unreadable(path: &Path, error: &io::Error) -> CommandError {
    CommandError::File { path: path.display().to_string(), cause: error.to_string() }
}

/// The files of a folder and of those in it, by name.
fn within(folder: &Path, out: &mut Vec<PathBuf>) -> Result<(), CommandError> {
    let entries = fs::read_dir(folder).and_then(Iterator::collect::<io::Result<Vec<_>>>);
    let mut paths: Vec<PathBuf> = entries.map_err(|e| unreadable(folder, &e))?.into_iter().map(|e| e.path()).collect();
    paths.sort();
    for path in paths {
        if path.is_dir() {
            within(&path, out)?;
        } else if path.extension().is_some_and(|end| end == "yaml" || end == "yml") {
            out.push(path);
        }
    }
    Ok(())
}

fn files(paths: &[PathBuf]) -> Result<Vec<ManifestFile>, CommandError> {
    let mut out = Vec::new();
    for path in paths {
        if path.as_os_str() == "-" {
            let text = io::read_to_string(io::stdin()).map_err(|e| unreadable(path, &e))?;
            out.push(ManifestFile { name: "standard input".into(), text });
            continue;
        }
        let mut found = vec![path.clone()];
        if path.is_dir() {
            found.clear();
            within(path, &mut found)?;
            if found.is_empty() {
                let finding = format!("{} has no manifests: they end in .yaml or .yml", path.display());
                return Err(CommandError::Usage(finding));
            }
        }
        for file in found {
            let text = fs::read_to_string(&file).map_err(|e| unreadable(&file, &e))?;
            out.push(ManifestFile { name: file.display().to_string(), text });
        }
    }
    Ok(out)
}

/// A secret from where its manifest says; none where it is not there, or is not asked for. One that is typed is not shown.
fn secret(needed: &NeededSecret) -> Result<Option<String>, CommandError> {
    let (connection, field) = (&needed.connection, needed.field.replace('_', " "));
    let missing = |what: String| match needed.needed {
        true => Err(CommandError::Usage(format!("the {field} of {connection} comes from {}: {what}", needed.from))),
        false => Ok(None),
    };
    match &needed.from {
        SecretFrom::Env(name) => match std::env::var(name) {
            Ok(secret) => Ok(Some(secret)),
            Err(_) => missing(format!("set {name}")),
        },
        SecretFrom::File(path) => match fs::read_to_string(path) {
            Ok(secret) => Ok(Some(secret.trim_end_matches(['\r', '\n']).to_owned())),
            Err(error) => missing(error.to_string()),
        },
        SecretFrom::Ask if !needed.needed => Ok(None),
        SecretFrom::Ask if !io::stdin().is_terminal() => missing("there is no one to ask here".into()),
        SecretFrom::Ask => rpassword::prompt_password(format!("the {field} of {connection}: "))
            .map(Some)
            .map_err(|error| CommandError::Failed(format!("the {field} of {connection} cannot be asked for: {error}"))),
    }
}

fn sign(deed: StepDeed) -> &'static str {
    match deed {
        StepDeed::Make => "make",
        StepDeed::Change => "change",
        StepDeed::Delete => "delete",
    }
}

fn change(change: &FieldChange) -> String {
    match (&change.from, &change.to) {
        (None, None) => format!("{}: another one", change.field),
        (None, Some(to)) => format!("{}: {to}", change.field),
        (Some(from), None) => format!("{}: no more {from}", change.field),
        (Some(from), Some(to)) => format!("{}: {from} → {to}", change.field),
    }
}

fn told(plan: &InstallationPlan) -> String {
    let mut out = String::new();
    for step in &plan.steps {
        out += &format!("{:6} {} {}\n", sign(step.deed), step.kind.word(), step.name);
        for line in step.changes.iter().map(change).chain(step.says.iter().cloned()) {
            out += &format!("         {}\n", line.replace('\n', "\n         "));
        }
    }
    let count = |deed: StepDeed| plan.steps.iter().filter(|step| step.deed == deed).count();
    let [make, change, delete] = [StepDeed::Make, StepDeed::Change, StepDeed::Delete].map(count);
    out + &match plan.steps.len() {
        0 => format!("There is nothing to do: all {} are as they are to be.\n", plan.unchanged),
        _ => format!("{make} to make, {change} to change, {delete} to delete; {} stay as they are.\n", plan.unchanged),
    }
}

/// Makes the installation what manifests say.
pub(crate) async fn apply(client: &Client, arguments: &ApplyArguments) -> Result<(), CommandError> {
    let mut request = ApplyRequest { files: files(&arguments.paths)?, prune: arguments.prune, secrets: BTreeMap::new() };
    let (mut tag, mut plan) = planned(client, &request).await?;
    if !plan.faults.is_empty() {
        let faults: Vec<String> = plan.faults.iter().map(ToString::to_string).collect();
        return Err(CommandError::Refused(format!("nothing was done, the manifests are wrong:\n{}", faults.join("\n"))));
    }
    for needed in &plan.secrets {
        let found = if arguments.dry_run && needed.from == SecretFrom::Ask { None } else { secret(needed)? };
        if let Some(secret) = found {
            request.secrets.entry(needed.connection.clone()).or_default().insert(needed.field.clone(), secret);
        }
    }
    if !request.secrets.is_empty() {
        (tag, plan) = planned(client, &request).await?;
    }
    match client.output {
        // what is carried out is told by its operation
        Output::Json if arguments.yes && !arguments.dry_run && !plan.steps.is_empty() => {}
        Output::Json => client.print_json(&plan)?,
        Output::Table => client.print_text(&told(&plan))?,
    }
    if plan.steps.is_empty() {
        return Ok(());
    }
    if arguments.dry_run {
        return Err(CommandError::Differs);
    }
    if !arguments.yes && !agreed()? {
        return Err(CommandError::Usage("nothing was done: say --yes if it is meant".into()));
    }
    carry_out(client, &request, tag, arguments.waiting).await
}

/// What manifests change, and the tag that confirms it.
async fn planned(client: &Client, request: &ApplyRequest) -> Result<(String, InstallationPlan), CommandError> {
    let plan = plan(client, Method::POST, "/manifests/apply", |r| r.json(request)).await?;
    let none = || CommandError::Failed("the server gave no plan of an installation".into());
    Ok((plan.tag, plan.installation.ok_or_else(none)?))
}

fn agreed() -> Result<bool, CommandError> {
    if !io::stdin().is_terminal() {
        return Ok(false);
    }
    write!(io::stdout(), "Do it? (yes) ")?;
    io::stdout().flush()?;
    let mut answer = String::new();
    io::stdin().lock().read_line(&mut answer)?;
    Ok(answer.trim().eq_ignore_ascii_case("yes"))
}

async fn carry_out(client: &Client, request: &ApplyRequest, tag: String, waiting: Waiting) -> Result<(), CommandError> {
    let begun = client.send(Method::POST, "/manifests/apply", &[("confirm", tag)], |r| r.json(request)).await?;
    let begun: Operation = client.parsed(begun).await?;
    if !waiting.waits() || client.output == Output::Json {
        return waiting.to_the_end(client, begun).await;
    }
    let mut told = 0;
    let ended = wait(client, begun, |operation| {
        for outcome in operation.result.steps.iter().skip(told).filter(|outcome| outcome.refused.is_none()) {
            let what = format!("{} {} {}", sign(outcome.deed), outcome.kind.word(), outcome.name);
            client.done(&format!("{:>4} of {}  {what}", outcome.number, outcome.of))?;
            told = outcome.number;
        }
        match operation.result.steps.last() {
            Some(StepOutcome { refused: Some(refused), number, of, deed, kind, name })
                if operation.state == OperationState::Failed =>
            {
                let (left, what) = (of - number, format!("{} {} {name}", sign(*deed), kind.word()));
                let after = if left == 0 { String::new() } else { format!(" ({left} more steps were not begun)") };
                Err(CommandError::Refused(format!("{what}: {refused}{after}; apply once more when that is mended")))
            }
            _ => Ok(()),
        }
    });
    ended.await.map(drop)
}

/// Writes the installation as manifests.
pub(crate) async fn export(client: &Client, arguments: &ExportArguments) -> Result<(), CommandError> {
    let Some(folder) = &arguments.folder else {
        return client.print_text(&client.text("/manifests", &[]).await?);
    };
    let failed = |error: io::Error| unreadable(folder, &error);
    fs::create_dir_all(folder).map_err(failed)?;
    // one look at all: what refers to each other must be of one moment
    let all = client.text("/manifests", &[]).await?;
    let parts: Vec<&str> = all.split("---\n").filter(|part| !part.is_empty()).collect();
    for kind in ThingKind::ALL {
        let begins = format!("{}: ", kind.word());
        let own: Vec<&str> = parts.iter().copied().filter(|part| part.starts_with(&begins)).collect();
        let text = own.join("---\n");
        let path = folder.join(format!("{}s.yaml", kind.word()));
        if text.is_empty() {
            // what was written there before is gone by now
            match fs::remove_file(&path) {
                Err(error) if error.kind() != io::ErrorKind::NotFound => return Err(failed(error)),
                _ => continue,
            }
        }
        fs::write(&path, text).map_err(failed)?;
        client.done(&format!("{}", path.display()))?;
    }
    Ok(())
}
