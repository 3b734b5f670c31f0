//! `gonvel`: the server, the demo and its workload, in one program. The console's files come from `main.rs`, so that all else
//! can be built while the console is.

mod arguments;
mod coldstore;
mod demo;
mod demo_events;
mod demo_schemas;
#[doc(hidden)]
pub mod examples;
mod serve;
mod workload;

use std::io::IsTerminal as _;
use std::process::ExitCode;

use clap::{CommandFactory, FromArgMatches, Parser, Subcommand};
use gonvel_command_line::ClientCommand;
use gonvel_server::ConsoleFiles;

use crate::arguments::{DemoArguments, OwnDatabase, RunnerArguments, ServeArguments, WorkloadArguments};

/// Topics and fleets of connectors that carry database changes and application events between systems.
#[derive(Parser)]
#[command(name = "gonvel", version, about)]
struct Arguments {
    #[command(subcommand)]
    command: Command,
}

#[derive(Subcommand)]
enum Command {
    /// Run the server with one runner inside.
    Serve(ServeArguments),
    /// Run one more runner on the database of a server, on this machine or another.
    #[command(name = "runner")]
    Runner(RunnerArguments),
    /// Run the demo: a PostgreSQL cluster of its own, the packhouse's data, the server.
    Demo(DemoArguments),
    /// Run the day at the packhouse against a running demo.
    DemoWorkload(WorkloadArguments),
    /// Change the key that secrets are sealed with.
    #[command(subcommand)]
    Key(KeyCommand),
    /// Print the OpenAPI document.
    Openapi,
    /// Print the reference of all commands, as Markdown.
    #[command(hide = true)]
    Reference,
    /// Print a script that completes commands in a shell.
    Completion {
        /// The shell.
        shell: clap_complete::Shell,
    },
    #[command(flatten)]
    Client(ClientCommand),
}

#[derive(Subcommand)]
enum KeyCommand {
    /// Make a new key, put it before the others in the key file, and seal every secret with it. Servers and runners that run read the file
    /// again by themselves.
    Rotate(OwnDatabase),
    /// Seal every secret with the first key that is given.
    Seal(OwnDatabase),
}

/// All that the program can be told to do.
#[doc(hidden)]
#[must_use]
pub fn command() -> clap::Command {
    Arguments::command()
}

/// The program: reads its arguments and does what they say.
#[must_use]
pub fn run(console: ConsoleFiles) -> ExitCode {
    let told = examples::with_examples(Arguments::command()).get_matches();
    let arguments = Arguments::from_arg_matches(&told).unwrap_or_else(|error| error.exit());
    gonvel_storage::provide_tls();
    gonvel_server::panics::count();
    let filter =
        tracing_subscriber::EnvFilter::try_from_env("GONVEL_LOG").unwrap_or_else(|_| "info,tokio_postgres=warn".into());
    tracing_subscriber::fmt()
        .with_env_filter(filter)
        .with_writer(std::io::stderr)
        .with_ansi(std::io::stderr().is_terminal())
        .with_target(false)
        .init();
    let runtime = match tokio::runtime::Runtime::new() {
        Ok(runtime) => runtime,
        Err(error) => {
            eprintln!("gonvel: no threads could be started: {error}");
            return ExitCode::FAILURE;
        }
    };
    let outcome = runtime.block_on(async {
        match arguments.command {
            Command::Serve(arguments) => serve::run(arguments, console).await.map(|()| ExitCode::SUCCESS),
            Command::Runner(arguments) => serve::run_runner(arguments).await.map(|()| ExitCode::SUCCESS),
            Command::Demo(arguments) => demo::run(arguments, console).await.map(|()| ExitCode::SUCCESS),
            Command::DemoWorkload(arguments) => workload::run(arguments).await.map(|()| ExitCode::SUCCESS),
            Command::Key(KeyCommand::Rotate(place)) => serve::rotate_key(&place).await.map(|()| ExitCode::SUCCESS),
            Command::Key(KeyCommand::Seal(place)) => serve::seal_anew(&place).await.map(|()| ExitCode::SUCCESS),
            Command::Openapi => {
                println!("{}", gonvel_server::openapi_json());
                Ok(ExitCode::SUCCESS)
            }
            Command::Reference => {
                print!("{}", examples::reference(Arguments::command()));
                Ok(ExitCode::SUCCESS)
            }
            Command::Completion { shell } => {
                clap_complete::generate(shell, &mut Arguments::command(), "gonvel", &mut std::io::stdout());
                Ok(ExitCode::SUCCESS)
            }
            Command::Client(command) => Ok(gonvel_command_line::run(command).await),
        }
    });
    // sessions with databases may hang in a reconnection; nothing of theirs is worth waiting for
    runtime.shutdown_timeout(std::time::Duration::from_secs(1));
    match outcome {
        Ok(code) => code,
        Err(error) => {
            let mut text = error.to_string();
            let mut cause = error.source();
            while let Some(inner) = cause {
                text = format!("{text}: {inner}");
                cause = inner.source();
            }
            eprintln!("gonvel: {text}");
            ExitCode::FAILURE
        }
    }
}
