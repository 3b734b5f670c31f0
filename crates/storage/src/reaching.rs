//! Sessions with Gonvel's own database that end when the server falls silent.
//!
//! A server whose machine is cut off, or that hangs, answers nothing and closes nothing; whoever waits for it would wait for ever. So each
//! statement has a limit in the server, and a session from which nothing comes for somewhat longer, although it owes an answer, is given up:
//! all who wait are told, and the next one gets a session of its own.

use std::future::poll_fn;
use std::sync::Arc;
use std::time::Duration;

use diesel::ConnectionError;
use diesel_async::{AsyncPgConnection, SimpleAsyncConnection};
use gonvel_core::ports::TlsMode;
pub use gonvel_wire::Shown;
use gonvel_wire::{Heard, KEEPALIVE, Listening, NotOpened, Unusable, Wire, client_config, dial};
use rustls::ClientConfig;
use tokio::net::UnixStream;
use tokio::sync::mpsc;
use tokio_postgres::config::{Host, SslMode};
use tokio_postgres::{AsyncMessage, Client, Config, NoTls};

use crate::codes;

/// How long Gonvel's own database is waited for.
#[derive(Debug, Clone, Copy)]
pub struct Patience {
    /// A session is made.
    pub connect: Duration,
    /// A statement is carried out; then the server gives it up.
    pub statement: Duration,
    /// Something comes of an answer; then the session is given up. Longer than a statement may take.
    pub silence: Duration,
    /// The next statement of a transaction comes; then the server gives it up, with all that it holds. A process that is frozen within one would keep
    /// others from planning, for as long as it is.
    pub transaction: Duration,
    /// Another process brings the tables up to date.
    pub migration: Duration,
}

impl Default for Patience {
    fn default() -> Self {
        let of = Duration::from_secs;
        Self { connect: of(5), statement: of(60), silence: of(75), transaction: of(15), migration: of(120) }
    }
}

/// Where Gonvel's own database is, and how sessions with it are kept.
#[derive(Debug, Clone)]
pub struct Address {
    config: Config,
    tls: TlsMode,
    encryption: Arc<ClientConfig>,
    patience: Patience,
}

/// An address that cannot be used.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum BadAddress {
    /// It is no URL of a PostgreSQL database. The text does not repeat it: it may hold a password.
    #[error(
        "the address of Gonvel's own database is no PostgreSQL URL ({0}): write it as postgresql://user@host:5432/database"
    )]
    Url(String),
    /// Its certificates cannot be used.
    #[error("Gonvel's own database: {0}")]
    Certificates(#[from] Unusable),
}

impl Address {
    /// Reads a URL. Sessions are encrypted if the server offers it, or as the URL's `sslmode` says.
    ///
    /// # Errors
    /// [`BadAddress`].
    pub fn parse(url: &str) -> Result<Self, BadAddress> {
        let config: Config = url.parse().map_err(|e: tokio_postgres::Error| BadAddress::Url(e.to_string()))?;
        let tls = match config.get_ssl_mode() {
            SslMode::Disable => TlsMode::Off,
            SslMode::Require => TlsMode::Require,
            _ => TlsMode::Prefer,
        };
        let encryption = Arc::new(client_config(tls, None, None)?);
        let mut address = Self { config, tls, encryption, patience: Patience::default() };
        // what encrypts is before the session, which then finds it as it is
        address.config.ssl_mode(SslMode::Disable);
        Ok(address)
    }

    /// The same, encrypted in another mode: `ca` is PEM text of whom to trust, `shown` what this side shows of itself.
    ///
    /// # Errors
    /// [`BadAddress`].
    pub fn encrypted(mut self, mode: TlsMode, ca: Option<&str>, shown: Option<Shown<'_>>) -> Result<Self, BadAddress> {
        self.encryption = Arc::new(client_config(mode, ca, shown)?);
        self.tls = mode;
        Ok(self)
    }

    /// The mode in which sessions are encrypted.
    #[must_use]
    pub fn tls(&self) -> TlsMode {
        self.tls
    }

    /// The same with another patience.
    #[must_use]
    pub fn patient(mut self, patience: Patience) -> Self {
        self.patience = patience;
        self
    }

    /// How long another process may bring the tables up to date.
    pub(crate) fn migration(&self) -> Duration {
        self.patience.migration
    }

    /// The same for what takes as long as it takes.
    pub(crate) fn endless(&self) -> Self {
        const DAYS: Duration = Duration::from_secs(7 * 86_400);
        let patience = Patience { statement: DAYS, silence: DAYS, transaction: DAYS, ..self.patience };
        self.clone().patient(patience)
    }
}

/// Opens a session.
///
/// # Errors
/// [`ConnectionError`] if the server cannot be reached in time, or refuses.
pub(crate) async fn reach(address: &Address) -> Result<AsyncPgConnection, ConnectionError> {
    let patience = address.patience;
    let opening = async {
        let mut connection = AsyncPgConnection::try_from(open_any(address, None).await?).await?;
        let limit = format!(
            "SET statement_timeout = {}; SET idle_in_transaction_session_timeout = {}",
            patience.statement.as_millis(),
            patience.transaction.as_millis()
        );
        connection.batch_execute(&limit).await.map_err(ConnectionError::CouldntSetupConfiguration)?;
        Ok(connection)
    };
    in_time(patience, opening).await
}

/// Opens a session whose notifications are told, as texts; they end with the session.
///
/// # Errors
/// As [`reach`].
pub(crate) async fn listen(address: &Address) -> Result<(Client, mpsc::UnboundedReceiver<String>), ConnectionError> {
    let (tell, told) = mpsc::unbounded_channel();
    let client = in_time(address.patience, open_any(address, Some(tell))).await?;
    Ok((client, told))
}

async fn in_time<T>(
    patience: Patience,
    opening: impl Future<Output = Result<T, ConnectionError>>,
) -> Result<T, ConnectionError> {
    let late = |_| ConnectionError::BadConnection("it did not answer in time".into());
    tokio::time::timeout(patience.connect, opening).await.map_err(late)?
}

/// A session with the first of its hosts that takes one.
async fn open_any(address: &Address, tell: Option<mpsc::UnboundedSender<String>>) -> Result<Client, ConnectionError> {
    let config = &address.config;
    let mut refused = "its address names no host".to_owned();
    for (place, host) in config.get_hosts().iter().enumerate() {
        let port = config.get_ports().get(place).or(config.get_ports().first()).copied().unwrap_or(5432);
        match open(address, host, port, tell.clone()).await {
            Ok(client) => return Ok(client),
            Err(error) => refused = error,
        }
    }
    Err(ConnectionError::BadConnection(refused))
}

async fn open(
    address: &Address,
    host: &Host,
    port: u16,
    tell: Option<mpsc::UnboundedSender<String>>,
) -> Result<Client, String> {
    let wire = match host {
        Host::Tcp(host) => {
            let stream = dial(host, port, KEEPALIVE).await.map_err(|e| format!("{host}:{port}: {e}"))?;
            let encryption = address.encryption.clone();
            gonvel_wire::open(stream, host, address.tls, || Ok(encryption))
                .await
                .map_err(|error| format!("{host}:{port}: {}", not_opened(&error)))?
        }
        Host::Unix(folder) => {
            let path = folder.join(format!(".s.PGSQL.{port}"));
            let stream = UnixStream::connect(&path).await.map_err(|e| format!("{}: {e}", path.display()))?;
            Wire::OfThisMachine(stream)
        }
    };
    let told = |e: tokio_postgres::Error| match e.as_db_error() {
        Some(refusal) => refusal.message().to_owned(),
        None => e.to_string(),
    };
    let listening = Listening { silence: Some(address.patience.silence), refused: codes::note };
    let heard = Heard::of(wire, listening);
    let (client, mut connection) = address.config.connect_raw(heard, NoTls).await.map_err(told)?;
    tokio::spawn(async move {
        loop {
            match poll_fn(|context| connection.poll_message(context)).await {
                Some(Ok(AsyncMessage::Notification(notification))) => {
                    if let Some(tell) = &tell {
                        // nobody to tell: the session ends with its client
                        let _ = tell.send(notification.payload().to_owned());
                    }
                }
                Some(Ok(AsyncMessage::Notice(notice))) => tracing::debug!(%notice, "Gonvel's own database says"),
                Some(Ok(_)) => {}
                Some(Err(error)) => {
                    tracing::debug!(%error, "a session with Gonvel's own database ended");
                    return;
                }
                None => return,
            }
        }
    });
    Ok(client)
}

fn not_opened(error: &NotOpened) -> String {
    let cause = error.to_string();
    match error {
        NotOpened::WithoutTls => format!("{cause}: let it use TLS (ssl = on), or choose the mode prefer or off"),
        _ if cause.contains("ertificate") => format!(
            "its certificate is not trusted ({cause}): give the certificate authority that signed it, connect by a name that the \
             certificate has, or choose the mode require to encrypt without checking"
        ),
        _ => cause,
    }
}
