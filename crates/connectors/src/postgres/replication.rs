//! A session in replication mode: the wire protocol that PostgreSQL's logical replication speaks ("Streaming Replication
//! Protocol" in its documentation). Ordinary clients do not offer it.

use std::time::Duration;

use bytes::{Buf, Bytes, BytesMut};
use fallible_iterator::FallibleIterator;
use gonvel_core::ports::systems::ConnectorError;
use gonvel_wire::Wire;
use postgres_protocol::authentication::{md5_hash, sasl};
use postgres_protocol::message::backend::{ErrorFields, ErrorResponseBody, Message};
use postgres_protocol::message::frontend;
use tokio::io::{AsyncReadExt, AsyncWriteExt, ReadHalf, WriteHalf};

use super::client::{refusal_to_connect, start_options};
use super::tls;
use crate::postgres::address::DatabaseAddress;
use crate::reaching::Road;

/// Microseconds between 1970-01-01 and PostgreSQL's epoch 2000-01-01.
pub const EPOCH_US: i64 = 946_684_800_000_000;
const ROOM: usize = 1 << 18;

/// Rows of text from a simple query.
pub type TextRows = Vec<Vec<Option<String>>>;

fn lost(during: &str, error: &std::io::Error) -> ConnectorError {
    ConnectorError::try_again(
        format!("the replication session ended while {during} ({error})"),
        "Gonvel connects again by itself; if it stays so, see the server's log",
    )
}

fn garbled(what: &str) -> ConnectorError {
    ConnectorError::try_again(format!("the server sent {what} that the protocol does not have"), "see the server's log")
}

struct Refusal {
    code: String,
    message: String,
}

fn refusal(mut fields: ErrorFields<'_>) -> Refusal {
    let mut out = Refusal { code: String::new(), message: String::new() };
    while let Ok(Some(field)) = fields.next() {
        let value = String::from_utf8_lossy(field.value_bytes()).into_owned();
        match field.type_() {
            b'C' => out.code = value,
            b'M' => out.message = value,
            _ => {}
        }
    }
    out
}

/// What a refusal within the replication session means.
fn explain(refusal: &Refusal, during: &str) -> ConnectorError {
    let finding = format!("the server refused {during}: {} ({})", refusal.message, refusal.code);
    match refusal.code.as_str() {
        "55006" | "53400" | "53300" => ConnectorError::try_again(finding, "Gonvel tries again by itself"),
        "42501" => ConnectorError::settings(Some("user"), finding, "give the user the right to replicate"),
        "55000" => ConnectorError::settings(None, finding, "set wal_level = logical and restart the server"),
        "42704" if refusal.message.contains("publication") => ConnectorError::settings(
            None,
            format!("{finding}: it was dropped, and changes since then are gone"),
            "begin anew: every row is loaded again, and rows that were deleted meanwhile go if the tables are emptied first",
        ),
        code if matches!(code.get(..2), Some("08" | "57" | "58" | "53")) => {
            ConnectorError::try_again(finding, "Gonvel tries again by itself")
        }
        _ => ConnectorError::settings(None, finding, "see the server's log"),
    }
}

/// A session in replication mode.
pub struct ReplicationSession {
    read: ReadHalf<Wire<Road>>,
    write: WriteHalf<Wire<Road>>,
    buffer: BytesMut,
}

impl ReplicationSession {
    /// Opens a session as the login that reads the log.
    ///
    /// # Errors
    /// [`ConnectorError`] as for any session.
    pub async fn connect(address: &DatabaseAddress) -> Result<Self, ConnectorError> {
        let address = &address.for_log();
        let patience = address.reaching.patience;
        let stream = address.reaching.dial(&address.host, address.port).await?;
        if let Some(stream) = stream.of_this_machine() {
            // where it cannot be set, changes only come more slowly
            let _ = socket2::SockRef::from(stream).set_recv_buffer_size(NARROW);
        }
        let late = |_| lost("agreeing on encryption", &std::io::ErrorKind::TimedOut.into());
        let wire = tokio::time::timeout(patience, tls::open(stream, address)).await.map_err(late)??;
        let (read, write) = tokio::io::split(wire);
        let mut session = Self { read, write, buffer: BytesMut::with_capacity(ROOM) };
        tokio::time::timeout(patience, session.log_in(address))
            .await
            .map_err(|_| lost("logging in", &std::io::ErrorKind::TimedOut.into()))?
            .map_err(|error| tls::refused(address, &error.to_string()).unwrap_or(error))?;
        Ok(session)
    }

    async fn log_in(&mut self, address: &DatabaseAddress) -> Result<(), ConnectorError> {
        let mut out = BytesMut::new();
        let options = format!(
            "{}-c datestyle=ISO,YMD -c timezone=UTC -c bytea_output=hex -c intervalstyle=postgres -c extra_float_digits=1 \
             -c statement_timeout=0",
            start_options(address)
        );
        let parameters = [
            ("user", address.user.as_str()),
            ("database", address.database.as_str()),
            ("replication", "database"),
            ("application_name", "gonvel"),
            ("client_encoding", "UTF8"),
            ("options", options.as_str()),
        ];
        frontend::startup_message(parameters, &mut out).map_err(|e| lost("logging in", &e))?;
        self.send(&mut out, "logging in").await?;
        let password = address.password.expose().as_bytes();
        let mut scram = None;
        loop {
            match self.message("logging in").await? {
                Message::AuthenticationOk
                | Message::ParameterStatus(_)
                | Message::BackendKeyData(_)
                | Message::NoticeResponse(_) => {}
                Message::AuthenticationCleartextPassword => {
                    frontend::password_message(password, &mut out).map_err(|e| lost("logging in", &e))?;
                }
                Message::AuthenticationMd5Password(body) => {
                    let hash = md5_hash(address.user.as_bytes(), password, body.salt());
                    frontend::password_message(hash.as_bytes(), &mut out).map_err(|e| lost("logging in", &e))?;
                }
                Message::AuthenticationSasl(_) => {
                    let exchange = sasl::ScramSha256::new(password, sasl::ChannelBinding::unsupported());
                    frontend::sasl_initial_response(sasl::SCRAM_SHA_256, exchange.message(), &mut out)
                        .map_err(|e| lost("logging in", &e))?;
                    scram = Some(exchange);
                }
                Message::AuthenticationSaslContinue(body) => {
                    let exchange = scram.as_mut().ok_or_else(|| garbled("an answer to no question"))?;
                    exchange.update(body.data()).map_err(|e| lost("logging in", &e))?;
                    frontend::sasl_response(exchange.message(), &mut out).map_err(|e| lost("logging in", &e))?;
                }
                Message::AuthenticationSaslFinal(body) => {
                    let exchange = scram.as_mut().ok_or_else(|| garbled("an answer to no question"))?;
                    exchange.finish(body.data()).map_err(|e| lost("logging in", &e))?;
                }
                Message::ErrorResponse(body) => {
                    let refusal = refusal(body.fields());
                    return Err(refusal_to_connect(address, &refusal.code, &refusal.message));
                }
                Message::ReadyForQuery(_) => return Ok(()),
                _ => return Err(garbled("a message at login")),
            }
            if !out.is_empty() {
                self.send(&mut out, "logging in").await?;
            }
        }
    }

    async fn send(&mut self, out: &mut BytesMut, during: &str) -> Result<(), ConnectorError> {
        self.write.write_all(out).await.map_err(|e| lost(during, &e))?;
        self.write.flush().await.map_err(|e| lost(during, &e))?;
        out.clear();
        Ok(())
    }

    async fn message(&mut self, during: &str) -> Result<Message, ConnectorError> {
        loop {
            if let Some(message) = Message::parse(&mut self.buffer).map_err(|e| lost(during, &e))? {
                return Ok(message);
            }
            self.fill(during).await?;
        }
    }

    async fn fill(&mut self, during: &str) -> Result<(), ConnectorError> {
        if self.read.read_buf(&mut self.buffer).await.map_err(|e| lost(during, &e))? == 0 {
            return Err(lost(during, &std::io::ErrorKind::UnexpectedEof.into()));
        }
        Ok(())
    }

    /// Runs a statement or replication command and gives its rows as text.
    ///
    /// # Errors
    /// [`ConnectorError`] if the server refuses it.
    pub async fn query(&mut self, statement: &str, during: &str) -> Result<TextRows, ConnectorError> {
        let mut out = BytesMut::new();
        frontend::query(statement, &mut out).map_err(|e| lost(during, &e))?;
        self.send(&mut out, during).await?;
        let mut rows = Vec::new();
        let mut refused = None;
        loop {
            match self.message(during).await? {
                Message::DataRow(row) => {
                    let mut cells = Vec::new();
                    let mut ranges = row.ranges();
                    while let Some(range) = ranges.next().map_err(|e| lost(during, &e))? {
                        cells.push(range.map(|r| String::from_utf8_lossy(&row.buffer()[r]).into_owned()));
                    }
                    rows.push(cells);
                }
                Message::ErrorResponse(body) => refused = Some(refusal(body.fields())),
                Message::ReadyForQuery(_) => break,
                _ => {}
            }
        }
        refused.map_or(Ok(rows), |r| Err(explain(&r, during)))
    }

    /// Begins streaming a slot's changes from a position, with values in binary form or as text.
    ///
    /// # Errors
    /// [`ConnectorError`] if the server refuses it.
    pub async fn stream(
        mut self,
        slot: &str,
        publication: &str,
        from: u64,
        binary: bool,
    ) -> Result<(Frames, Feedback), ConnectorError> {
        let during = "starting to stream changes";
        let command = format!(
            "START_REPLICATION SLOT \"{slot}\" LOGICAL {:X}/{:X} (proto_version '1', publication_names '\"{publication}\"', messages 'true', binary '{binary}')",
            from >> 32,
            from & 0xffff_ffff
        );
        let mut out = BytesMut::new();
        frontend::query(&command, &mut out).map_err(|e| lost(during, &e))?;
        self.send(&mut out, during).await?;
        loop {
            while self.buffer.len() < 5 {
                self.fill(during).await?;
            }
            // CopyBothResponse is the one message that the library does not know
            if self.buffer[0] == b'W' {
                break;
            }
            match self.message(during).await? {
                Message::ErrorResponse(body) => return Err(explain(&refusal(body.fields()), during)),
                Message::NoticeResponse(_) | Message::ParameterStatus(_) => {}
                _ => return Err(garbled("an answer")),
            }
        }
        let mut frames = Frames { read: self.read, buffer: self.buffer, pace: Pace::default() };
        frames.raw().await?;
        Ok((frames, Feedback { write: self.write }))
    }
}

/// Bytes that may come in from a server on the same machine before they are read. It sends every change by itself, and on the
/// same machine each goes the whole way at once, in the server's own time; when there is no room they gather on its side, and go
/// together.
const NARROW: usize = 64 << 10;

/// One unit of the stream.
#[derive(Debug, Clone)]
pub enum Frame {
    /// A message of the output plug-in.
    Data(Bytes),
    /// The server is there and has sent everything before this position.
    KeepAlive {
        /// The position.
        sent: u64,
    },
}

/// Bytes a second from which a stream counts as fast: some 25,000 changes.
const FAST: u64 = 4 << 20;
/// Bytes after which the speed is looked at anew.
const STRETCH: u64 = 64 << 10;
/// How long a fast stream's bytes are left to gather.
const GATHER: Duration = Duration::from_millis(1);

/// How fast bytes come. The server sends every change by itself; taking each as it comes costs both sides a wake-up a
/// change, which in a backlog is more than the change's own work.
struct Pace {
    since: std::time::Instant,
    bytes: u64,
    fast: bool,
}

impl Default for Pace {
    fn default() -> Self {
        Self { since: std::time::Instant::now(), bytes: 0, fast: false }
    }
}

impl Pace {
    fn note(&mut self, bytes: usize) {
        self.bytes += u64::try_from(bytes).unwrap_or(0);
        if self.bytes >= STRETCH {
            let elapsed_us = u64::try_from(self.since.elapsed().as_micros()).unwrap_or(u64::MAX).max(1);
            self.fast = self.bytes.saturating_mul(1_000_000) / elapsed_us >= FAST;
            (self.since, self.bytes) = (std::time::Instant::now(), 0);
        } else if self.since.elapsed() > Duration::from_millis(16) {
            // less than a stretch in the time that a fast stream takes for one
            self.fast = false;
            (self.since, self.bytes) = (std::time::Instant::now(), 0);
        }
    }
}

/// The receiving half of a stream.
pub struct Frames {
    read: ReadHalf<Wire<Road>>,
    buffer: BytesMut,
    pace: Pace,
}

impl Frames {
    fn whole(&self) -> Option<usize> {
        let length = self.buffer.get(1..5)?;
        let length = usize::try_from(u32::from_be_bytes(length.try_into().ok()?)).ok()? + 1;
        (self.buffer.len() >= length).then_some(length)
    }

    /// Whether a frame can be had without waiting.
    #[must_use]
    pub fn has_one(&self) -> bool {
        self.whole().is_some()
    }

    /// Cancel safety: what was received stays in the buffer.
    async fn raw(&mut self) -> Result<(u8, Bytes), ConnectorError> {
        let during = "receiving changes";
        loop {
            if let Some(length) = self.whole() {
                let mut frame = self.buffer.split_to(length).freeze();
                let tag = frame.get_u8();
                frame.advance(4);
                return Ok((tag, frame));
            }
            if self.pace.fast {
                tokio::time::sleep(GATHER).await;
            }
            self.buffer.reserve(ROOM);
            match self.read.read_buf(&mut self.buffer).await.map_err(|e| lost(during, &e))? {
                0 => return Err(lost(during, &std::io::ErrorKind::UnexpectedEof.into())),
                bytes => self.pace.note(bytes),
            }
        }
    }

    /// The next frame.
    ///
    /// Cancel safety: dropped while waiting, nothing is lost.
    ///
    /// # Errors
    /// [`ConnectorError`] if the session ended.
    pub async fn next(&mut self) -> Result<Frame, ConnectorError> {
        loop {
            let (tag, mut body) = self.raw().await?;
            match tag {
                b'd' if body.first() == Some(&b'w') && body.len() >= 25 => {
                    body.advance(25);
                    return Ok(Frame::Data(body));
                }
                b'd' if body.first() == Some(&b'k') && body.len() >= 18 => {
                    body.advance(1);
                    return Ok(Frame::KeepAlive { sent: body.get_u64() });
                }
                b'E' => return Err(explain(&refusal_of(&body), "streaming on")),
                b'c' => return Err(lost("receiving changes", &std::io::ErrorKind::UnexpectedEof.into())),
                b'N' | b'S' => {}
                _ => return Err(garbled("a frame")),
            }
        }
    }
}

fn refusal_of(body: &Bytes) -> Refusal {
    let mut out = BytesMut::from(&b"E"[..]);
    out.extend_from_slice(&(u32::try_from(body.len()).unwrap_or(0) + 4).to_be_bytes());
    out.extend_from_slice(body);
    match Message::parse(&mut out) {
        Ok(Some(Message::ErrorResponse(body))) => refusal(ErrorResponseBody::fields(&body)),
        _ => Refusal { code: String::new(), message: "the server ended the stream".into() },
    }
}

/// The sending half of a stream: says how far changes are kept.
pub struct Feedback {
    write: WriteHalf<Wire<Road>>,
}

impl Feedback {
    /// Tells the server that everything before `kept` is durable here. It answers, whatever else it has to say.
    ///
    /// # Errors
    /// [`ConnectorError`] if the session ended.
    pub async fn confirm(&mut self, kept: u64) -> Result<(), ConnectorError> {
        let now = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap_or(Duration::ZERO);
        let now_us = i64::try_from(now.as_micros()).unwrap_or(0) - EPOCH_US;
        let mut out = BytesMut::with_capacity(39);
        out.extend_from_slice(b"d");
        out.extend_from_slice(&38_u32.to_be_bytes());
        out.extend_from_slice(b"r");
        for position in [kept, kept, kept] {
            out.extend_from_slice(&position.to_be_bytes());
        }
        out.extend_from_slice(&now_us.to_be_bytes());
        out.extend_from_slice(&[1]);
        self.write.write_all(&out).await.map_err(|e| lost("confirming changes", &e))?;
        self.write.flush().await.map_err(|e| lost("confirming changes", &e))
    }
}
