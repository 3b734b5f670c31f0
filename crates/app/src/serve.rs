//! The server with a runner inside.

use std::error::Error;
use std::net::SocketAddr;
use std::sync::Arc;

use gonvel_runtime::{Fleet, Services};
use gonvel_server::{DemoWorkload, ServerState};
use gonvel_storage::Database;
use gonvel_storage::sealing::Sealer;
use tokio::net::TcpListener;

use crate::ServeArguments;

/// Runs until a signal.
pub(crate) async fn run(arguments: ServeArguments) -> Result<(), Box<dyn Error>> {
    let sealer = match std::env::var("GONVEL_KEY") {
        Ok(text) => Sealer::from_text("GONVEL_KEY", &text)?,
        Err(_) => Sealer::from_file(&arguments.key_file)?,
    };
    let listener = listen(arguments.listen, "GONVEL_LISTEN").await?;
    let mut database = Database::open(&arguments.database_url, sealer).await?;
    if let Some(url) = &arguments.cold_store {
        let options = std::env::vars().filter(|(name, _)| name.starts_with("AWS_"));
        database = database.with_cold_store(url, options)?;
    }
    println!("Gonvel listens on http://{}", arguments.listen);
    until_signal(database, listener, arguments.runner, None, async |_| Ok(())).await
}

/// Binds an address; a taken one is named with what changes it.
pub(crate) async fn listen(address: SocketAddr, variable: &str) -> Result<TcpListener, Box<dyn Error>> {
    TcpListener::bind(address).await.map_err(|cause| {
        if cause.kind() == std::io::ErrorKind::AddrInUse {
            let port = address.port();
            format!(
                "port {port} on {} is taken by another program: stop it, or choose another with {variable}",
                address.ip()
            )
            .into()
        } else {
            format!("{address} cannot be listened on ({cause}): choose another with {variable}").into()
        }
    })
}

/// Serves until Ctrl-C or SIGTERM, then stops lanes in good order. `ready` runs once requests are answered.
pub(crate) async fn until_signal(
    database: Database,
    listener: TcpListener,
    runner: String,
    demo: Option<Arc<dyn DemoWorkload>>,
    ready: impl AsyncFnOnce(SocketAddr) -> Result<(), Box<dyn Error>>,
) -> Result<(), Box<dyn Error>> {
    let services = Services {
        log: Arc::new(database.clone()),
        fleet: Arc::new(database.clone()),
        schemas: Arc::new(database.clone()),
        runner,
    };
    let fleet = Fleet::start(services);
    let keeping = tokio::spawn(database.clone().keep());
    let state = ServerState::new(database, fleet.nudge(), demo);
    let address = listener.local_addr()?;
    let mut serving = tokio::spawn(async move { gonvel_server::serve(listener, state).await });
    let outcome = ready(address).await;
    if outcome.is_ok() {
        tokio::select! {
            () = signal() => {}
            ended = &mut serving => { ended??; }
        }
        println!("stopping");
    }
    // open streams of events would keep a graceful shutdown waiting for ever
    serving.abort();
    keeping.abort();
    fleet.stop().await;
    outcome
}

/// Resolves at Ctrl-C or SIGTERM.
pub(crate) async fn signal() {
    let mut terminate = match tokio::signal::unix::signal(tokio::signal::unix::SignalKind::terminate()) {
        Ok(signal) => signal,
        Err(_) => return std::future::pending().await,
    };
    tokio::select! {
        _ = tokio::signal::ctrl_c() => {}
        _ = terminate.recv() => {}
    }
}
