//! Sessions with Gonvel's own database that end when the server falls silent.
//!
//! A server whose machine is cut off, or that hangs, answers nothing and closes nothing; whoever waits for it would wait for ever. So each
//! statement has a limit in the server, and a session from which nothing comes for somewhat longer, although it owes an answer, is given up:
//! all who wait are told, and the next one gets a session of its own.

use std::future::Future;
use std::io::{Error, ErrorKind};
use std::pin::Pin;
use std::sync::Arc;
use std::task::{Context, Poll};
use std::time::Duration;

use diesel::ConnectionError;
use diesel_async::{AsyncPgConnection, SimpleAsyncConnection};
use gonvel_core::ports::TlsMode;
pub use gonvel_tls::Shown;
use gonvel_tls::{NotOpened, Opened, TlsStream, Unusable, client_config};
use rustls::ClientConfig;
use socket2::{SockRef, TcpKeepalive};
use tokio::io::{AsyncRead, AsyncWrite, ReadBuf};
use tokio::net::{TcpStream, UnixStream};
use tokio::time::{Instant, Sleep};
use tokio_postgres::config::{Host, SslMode};
use tokio_postgres::{Config, NoTls};

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
}

impl Default for Patience {
    fn default() -> Self {
        let of = Duration::from_secs;
        Self { connect: of(5), statement: of(60), silence: of(75) }
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
        Self { config, tls, encryption: Arc::new(client_config(tls, None, None)?), patience: Patience::default() }
            .encrypted(tls, None, None)
    }

    /// The same, encrypted in another mode: `ca` is PEM text of whom to trust, `shown` what this side shows of itself.
    ///
    /// # Errors
    /// [`BadAddress`].
    pub fn encrypted(mut self, mode: TlsMode, ca: Option<&str>, shown: Option<Shown<'_>>) -> Result<Self, BadAddress> {
        self.encryption = Arc::new(client_config(mode, ca, shown)?);
        self.tls = mode;
        // what encrypts is before the session, which then finds it as it is
        self.config.ssl_mode(SslMode::Disable);
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

    /// The same for what takes as long as it takes.
    pub(crate) fn endless(&self) -> Self {
        const DAYS: Duration = Duration::from_secs(7 * 86_400);
        let patience = Patience { statement: DAYS, silence: DAYS, ..self.patience };
        self.clone().patient(patience)
    }
}

/// Probes of a session over which nothing goes.
const ALIVE: TcpKeepalive =
    TcpKeepalive::new().with_time(Duration::from_secs(30)).with_interval(Duration::from_secs(10)).with_retries(3);

/// Opens a session.
///
/// # Errors
/// [`ConnectionError`] if the server cannot be reached in time, or refuses.
pub(crate) async fn reach(address: &Address) -> Result<AsyncPgConnection, ConnectionError> {
    let bad = |what: String| ConnectionError::BadConnection(what);
    let (config, patience) = (&address.config, address.patience);
    let opening = async {
        let mut refused = "its address names no host".to_owned();
        for (place, host) in config.get_hosts().iter().enumerate() {
            let port = config.get_ports().get(place).or(config.get_ports().first()).copied().unwrap_or(5432);
            match open(address, host, port).await {
                Ok(client) => {
                    let mut connection = AsyncPgConnection::try_from(client).await?;
                    let limit = format!("SET statement_timeout = {}", patience.statement.as_millis());
                    connection.batch_execute(&limit).await.map_err(ConnectionError::CouldntSetupConfiguration)?;
                    return Ok(connection);
                }
                Err(error) => refused = error,
            }
        }
        Err(bad(refused))
    };
    tokio::time::timeout(patience.connect, opening).await.map_err(|_| bad("it did not answer in time".into()))?
}

async fn open(address: &Address, host: &Host, port: u16) -> Result<tokio_postgres::Client, String> {
    let wire = match host {
        Host::Tcp(host) => {
            let stream = TcpStream::connect((host.as_str(), port)).await.map_err(|e| format!("{host}:{port}: {e}"))?;
            stream.set_nodelay(true).map_err(|e| e.to_string())?;
            // a session that is idle is found out as well
            SockRef::from(&stream).set_tcp_keepalive(&ALIVE).map_err(|e| e.to_string())?;
            let encryption = address.encryption.clone();
            match gonvel_tls::open(stream, host, address.tls, move || Ok((*encryption).clone())).await {
                Ok(Opened::Plain(stream)) => Wire::Plain(stream),
                Ok(Opened::Encrypted(stream)) => Wire::Encrypted(stream),
                Err(error) => return Err(format!("{host}:{port}: {}", not_opened(&error))),
            }
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
    let heard = Heard::of(wire, address.patience.silence);
    let (client, connection) = address.config.connect_raw(heard, NoTls).await.map_err(told)?;
    tokio::spawn(async move {
        if let Err(error) = connection.await {
            tracing::debug!(%error, "a session with Gonvel's own database ended");
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

/// What a session's bytes go over.
enum Wire {
    Plain(TcpStream),
    Encrypted(Box<TlsStream<TcpStream>>),
    OfThisMachine(UnixStream),
}

impl AsyncRead for Wire {
    fn poll_read(self: Pin<&mut Self>, context: &mut Context<'_>, buffer: &mut ReadBuf<'_>) -> Poll<std::io::Result<()>> {
        match self.get_mut() {
            Self::Plain(stream) => Pin::new(stream).poll_read(context, buffer),
            Self::Encrypted(stream) => Pin::new(stream).poll_read(context, buffer),
            Self::OfThisMachine(stream) => Pin::new(stream).poll_read(context, buffer),
        }
    }
}

impl AsyncWrite for Wire {
    fn poll_write(self: Pin<&mut Self>, context: &mut Context<'_>, bytes: &[u8]) -> Poll<std::io::Result<usize>> {
        match self.get_mut() {
            Self::Plain(stream) => Pin::new(stream).poll_write(context, bytes),
            Self::Encrypted(stream) => Pin::new(stream).poll_write(context, bytes),
            Self::OfThisMachine(stream) => Pin::new(stream).poll_write(context, bytes),
        }
    }

    fn poll_flush(self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<std::io::Result<()>> {
        match self.get_mut() {
            Self::Plain(stream) => Pin::new(stream).poll_flush(context),
            Self::Encrypted(stream) => Pin::new(stream).poll_flush(context),
            Self::OfThisMachine(stream) => Pin::new(stream).poll_flush(context),
        }
    }

    fn poll_shutdown(self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<std::io::Result<()>> {
        match self.get_mut() {
            Self::Plain(stream) => Pin::new(stream).poll_shutdown(context),
            Self::Encrypted(stream) => Pin::new(stream).poll_shutdown(context),
            Self::OfThisMachine(stream) => Pin::new(stream).poll_shutdown(context),
        }
    }
}

/// A session's bytes, that ends where an answer is owed and nothing comes of it.
struct Heard<S> {
    inner: S,
    silence: Duration,
    /// Since when nothing came, where something was asked since the server last said that it is ready.
    owed: Option<Instant>,
    /// When it is looked whether that is too long; armed once for many questions.
    until: Pin<Box<Sleep>>,
    armed: bool,
    frames: Frames,
}

impl<S> Heard<S> {
    fn of(inner: S, silence: Duration) -> Self {
        let until = Box::pin(tokio::time::sleep(silence));
        Self { inner, silence, owed: None, until, armed: false, frames: Frames::default() }
    }

    /// Whether an answer is owed for too long. If not, the task is woken when it may be.
    fn is_silent(&mut self, context: &mut Context<'_>) -> bool {
        while self.armed && self.until.as_mut().poll(context).is_ready() {
            self.armed = false;
            let Some(since) = self.owed else { return false };
            if since.elapsed() >= self.silence {
                return true;
            }
            self.until.as_mut().reset(since + self.silence);
            self.armed = true;
        }
        false
    }
}

/// Messages of the server, told apart by their lengths: a byte for the kind, four for the length of what follows with themselves.
#[derive(Debug, Default)]
struct Frames {
    head: [u8; 5],
    /// Bytes of the head that came.
    came: usize,
    /// Bytes of the message that are still to come.
    left: usize,
    /// What came of a refusal.
    refusal: Vec<u8>,
}

/// Longest part of a refusal that is looked at: its code and text stand before what is longer.
const REFUSAL: usize = 4096;

impl Frames {
    /// Takes bytes; whether the server said last that it is ready for the next question.
    fn take(&mut self, mut bytes: &[u8]) -> bool {
        let mut ready = false;
        while !bytes.is_empty() {
            if self.left > 0 {
                let some = self.left.min(bytes.len());
                if self.head[0] == b'E' {
                    let room = REFUSAL.saturating_sub(self.refusal.len());
                    self.refusal.extend_from_slice(&bytes[..some.min(room)]);
                }
                bytes = &bytes[some..];
                self.left -= some;
                if self.left == 0 && self.head[0] == b'E' {
                    codes::note(&self.refusal);
                    self.refusal.clear();
                }
            } else {
                self.head[self.came] = bytes[0];
                self.came += 1;
                bytes = &bytes[1..];
                if self.came < self.head.len() {
                    ready = false;
                    continue;
                }
                let length = u32::from_be_bytes([self.head[1], self.head[2], self.head[3], self.head[4]]);
                self.left = usize::try_from(length).unwrap_or(usize::MAX).saturating_sub(4);
                self.came = 0;
            }
            ready = self.left == 0 && self.head[0] == b'Z';
        }
        ready
    }
}

impl<S: AsyncRead + Unpin> AsyncRead for Heard<S> {
    fn poll_read(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
        buffer: &mut ReadBuf<'_>,
    ) -> Poll<std::io::Result<()>> {
        let before = buffer.filled().len();
        match Pin::new(&mut self.inner).poll_read(context, buffer) {
            Poll::Ready(read) => {
                if self.frames.take(&buffer.filled()[before..]) {
                    self.owed = None;
                } else if self.owed.is_some() {
                    self.owed = Some(Instant::now());
                }
                Poll::Ready(read)
            }
            Poll::Pending if self.is_silent(context) => {
                let silent = format!("nothing came for {} s", self.silence.as_secs());
                Poll::Ready(Err(Error::new(ErrorKind::TimedOut, silent)))
            }
            Poll::Pending => Poll::Pending,
        }
    }
}

impl<S: AsyncWrite + Unpin> AsyncWrite for Heard<S> {
    fn poll_write(mut self: Pin<&mut Self>, context: &mut Context<'_>, bytes: &[u8]) -> Poll<std::io::Result<usize>> {
        let written = Pin::new(&mut self.inner).poll_write(context, bytes);
        if matches!(written, Poll::Ready(Ok(_))) && self.owed.is_none() {
            let now = Instant::now();
            self.owed = Some(now);
            if !self.armed {
                self.armed = true;
                let until = now + self.silence;
                self.until.as_mut().reset(until);
                // one task reads and writes: it is woken by this
                let _ = self.is_silent(context);
            }
        }
        written
    }

    fn poll_flush(mut self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<std::io::Result<()>> {
        Pin::new(&mut self.inner).poll_flush(context)
    }

    fn poll_shutdown(mut self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<std::io::Result<()>> {
        Pin::new(&mut self.inner).poll_shutdown(context)
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        /// However the bytes are cut, the server is ready where its last message says so, and only there.
        #[test]
        fn messages_are_told_apart_however_they_are_cut(
            messages in prop::collection::vec((any::<bool>(), 0_usize..40), 1..20), cuts in prop::collection::vec(1_usize..9, 1..60),
        ) {
            let mut bytes = Vec::new();
            let mut ends = Vec::new();
            for (ready, length) in messages {
                bytes.push(if ready { b'Z' } else { b'D' });
                bytes.extend(u32::try_from(length + 4).unwrap().to_be_bytes());
                bytes.extend(std::iter::repeat_n(b'Z', length));
                ends.push((bytes.len(), ready));
            }
            let (mut frames, mut at) = (Frames::default(), 0);
            for cut in cuts.into_iter().cycle() {
                if at == bytes.len() {
                    break;
                }
                let next = (at + cut).min(bytes.len());
                let said = frames.take(&bytes[at..next]);
                let expected = ends.iter().any(|(end, ready)| *end == next && *ready);
                prop_assert_eq!(said, expected, "after {} bytes", next);
                at = next;
            }
        }
    }
}
