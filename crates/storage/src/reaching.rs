//! Sessions with Gonvel's own database that end when the server falls silent.
//!
//! A server whose machine is cut off, or that hangs, answers nothing and closes nothing; whoever waits for it would wait for ever. So each
//! statement has a limit in the server, and a session from which nothing comes for somewhat longer, although it owes an answer, is given up:
//! all who wait are told, and the next one gets a session of its own.

use std::future::Future;
use std::io::{Error, ErrorKind};
use std::pin::Pin;
use std::task::{Context, Poll};
use std::time::Duration;

use diesel::ConnectionError;
use diesel_async::{AsyncPgConnection, SimpleAsyncConnection};
use tokio::io::{AsyncRead, AsyncWrite, ReadBuf};
use tokio::net::TcpStream;
use tokio::time::{Instant, Sleep};
use tokio_postgres::config::Host;
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

/// Opens a session.
///
/// # Errors
/// [`ConnectionError`] if the server cannot be reached in time, or refuses.
pub(crate) async fn reach(url: &str, patience: Patience) -> Result<AsyncPgConnection, ConnectionError> {
    let bad = |what: String| ConnectionError::BadConnection(what);
    let opening = async {
        let config: Config = url.parse().map_err(|e: tokio_postgres::Error| bad(e.to_string()))?;
        let mut refused = "its address names no host".to_owned();
        for (place, host) in config.get_hosts().iter().enumerate() {
            let port = config.get_ports().get(place).or(config.get_ports().first()).copied().unwrap_or(5432);
            let opened = match host {
                Host::Tcp(host) => over_tcp(&config, host, port, patience.silence).await,
                // a socket of this machine hangs only with the machine
                Host::Unix(_) => return <AsyncPgConnection as diesel_async::AsyncConnection>::establish(url).await,
            };
            match opened {
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

async fn over_tcp(config: &Config, host: &str, port: u16, silence: Duration) -> Result<tokio_postgres::Client, String> {
    let stream = TcpStream::connect((host, port)).await.map_err(|e| format!("{host}:{port}: {e}"))?;
    stream.set_nodelay(true).map_err(|e| e.to_string())?;
    let told = |e: tokio_postgres::Error| match e.as_db_error() {
        Some(refusal) => refusal.message().to_owned(),
        None => e.to_string(),
    };
    let (client, connection) = config.connect_raw(Heard::of(stream, silence), NoTls).await.map_err(told)?;
    tokio::spawn(async move {
        if let Err(error) = connection.await {
            tracing::debug!(%error, "a session with Gonvel's own database ended");
        }
    });
    Ok(client)
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
