//! The command line: topics, records and readers of a running server, over its HTTP interface.
//!
//! Tables for people, `--output json` for scripts. Exit codes: 0 done, 1 another failure, 2 wrong arguments, 3 not there,
//! 4 refused, 5 the server does not answer, 6 there is something to do that was only to be told.

mod client;
mod connections;
mod connector_named;
mod connectors;
mod context;
mod error;
mod fleet;
mod installation;
mod moving;
mod operations;
mod planning;
mod quarantine;
mod readers;
mod records;
mod restored;
mod schemas;
mod table;
mod topics;

use std::process::ExitCode;

use clap::Subcommand;

use client::Client;
pub use context::{Context, Output};
pub use error::CommandError;

/// Commands that talk to a server.
#[derive(Debug, Subcommand)]
pub enum ClientCommand {
    /// Topics: list, show, create, change, add partitions, delete.
    Topic {
        /// Which server.
        #[command(flatten)]
        context: Context,
        /// What to do.
        #[command(subcommand)]
        command: topics::TopicCommand,
    },
    /// Records: read, write, search, export, import.
    Records {
        /// Which server.
        #[command(flatten)]
        context: Context,
        /// What to do.
        #[command(subcommand)]
        command: records::RecordsCommand,
    },
    /// Schemas: list, show, register, check, compare, pull, push, delete.
    Schema {
        /// Which server.
        #[command(flatten)]
        context: Context,
        /// What to do.
        #[command(subcommand)]
        command: schemas::SchemaCommand,
    },
    /// Readers: list, show, create, reposition, delete.
    Reader {
        /// Which server.
        #[command(flatten)]
        context: Context,
        /// What to do.
        #[command(subcommand)]
        command: readers::ReaderCommand,
    },
    /// Connections: list, kinds, create, test, tables, sample, delete.
    Connection {
        /// Which server.
        #[command(flatten)]
        context: Context,
        /// What to do.
        #[command(subcommand)]
        command: connections::ConnectionCommand,
    },
    /// Connectors: list, show, describe, create, start, pause, stop, restart, status, log, history, delete.
    Connector {
        /// Which server.
        #[command(flatten)]
        context: Context,
        /// What to do.
        #[command(subcommand)]
        command: connectors::ConnectorCommand,
    },
    /// Runners: list, empty, forget.
    Fleet {
        /// Which server.
        #[command(flatten)]
        context: Context,
        /// What to do.
        #[command(subcommand)]
        command: fleet::FleetCommand,
    },
    /// Operations: work that takes longer than a request: list, show, wait, cancel.
    Operation {
        /// Which server.
        #[command(flatten)]
        context: Context,
        /// What to do.
        #[command(subcommand)]
        command: operations::OperationCommand,
    },
    /// Make an installation what manifests say: shows first what that does.
    Apply {
        /// Which server.
        #[command(flatten)]
        context: Context,
        /// What, and how.
        #[command(flatten)]
        arguments: installation::ApplyArguments,
    },
    /// Write an installation as manifests.
    Export {
        /// Which server.
        #[command(flatten)]
        context: Context,
        /// Where to.
        #[command(flatten)]
        arguments: installation::ExportArguments,
    },
    /// Check that every source and sink goes on from where it stands, after Gonvel's own database was restored.
    CheckRestored {
        /// Which server.
        #[command(flatten)]
        context: Context,
    },
    /// Quarantine: records that could not be handled.
    Quarantine {
        /// Which server.
        #[command(flatten)]
        context: Context,
        /// What to do.
        #[command(subcommand)]
        command: quarantine::QuarantineCommand,
    },
}

/// Runs a command and says how it went.
pub async fn run(command: ClientCommand) -> ExitCode {
    let outcome = match command {
        ClientCommand::Topic { context, command } => in_context(&context, async |c| topics::run(&c, command).await).await,
        ClientCommand::Records { context, command } => in_context(&context, async |c| records::run(&c, command).await).await,
        ClientCommand::Schema { context, command } => in_context(&context, async |c| schemas::run(&c, command).await).await,
        ClientCommand::Reader { context, command } => in_context(&context, async |c| readers::run(&c, command).await).await,
        ClientCommand::Connection { context, command } => {
            in_context(&context, async |c| connections::run(&c, command).await).await
        }
        ClientCommand::Connector { context, command } => {
            in_context(&context, async |c| connectors::run(&c, command).await).await
        }
        ClientCommand::Fleet { context, command } => in_context(&context, async |c| fleet::run(&c, command).await).await,
        ClientCommand::Operation { context, command } => {
            in_context(&context, async |c| operations::run(&c, command).await).await
        }
        ClientCommand::Apply { context, arguments } => {
            in_context(&context, async |c| installation::apply(&c, &arguments).await).await
        }
        ClientCommand::Export { context, arguments } => {
            in_context(&context, async |c| installation::export(&c, &arguments).await).await
        }
        ClientCommand::CheckRestored { context } => in_context(&context, async |c| restored::check(&c).await).await,
        ClientCommand::Quarantine { context, command } => {
            in_context(&context, async |c| quarantine::run(&c, command).await).await
        }
    };
    match outcome {
        Ok(()) => ExitCode::SUCCESS,
        // whoever reads what we print has had enough
        Err(CommandError::Output(error)) if error.kind() == std::io::ErrorKind::BrokenPipe => ExitCode::SUCCESS,
        Err(error) => {
            eprintln!("gonvel: {error}");
            ExitCode::from(error.exit_code())
        }
    }
}

async fn in_context(
    context: &Context,
    command: impl AsyncFnOnce(Client) -> Result<(), CommandError>,
) -> Result<(), CommandError> {
    command(Client::new(&context::resolve(context)?)?).await
}
