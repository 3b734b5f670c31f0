//! Sessions of which it is known whether the server owes an answer, and since when nothing came.

use std::collections::VecDeque;
use std::io::{Error, ErrorKind};
use std::pin::Pin;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::task::{Context, Poll};
use std::time::Duration;

use tokio::io::{AsyncRead, AsyncWrite, ReadBuf};
use tokio::time::{Instant, Sleep};

/// Since when a session's server owes an answer and nothing went either way.
#[derive(Debug, Clone)]
pub struct Owed {
    /// Milliseconds after `start`, and one; 0 for nothing.
    since: Arc<AtomicU64>,
    start: Instant,
}

impl Owed {
    fn new() -> Self {
        Self { since: Arc::default(), start: Instant::now() }
    }

    fn now(&self) {
        let now = u64::try_from(self.start.elapsed().as_millis()).unwrap_or(u64::MAX - 1);
        self.since.store(now + 1, Ordering::Relaxed);
    }

    fn nothing(&self) {
        self.since.store(0, Ordering::Relaxed);
    }

    fn since(&self) -> Option<Instant> {
        let since = self.since.load(Ordering::Relaxed);
        (since > 0).then(|| self.start + Duration::from_millis(since - 1))
    }

    /// How long it is.
    #[must_use]
    pub fn lasts(&self) -> Option<Duration> {
        self.since().map(|since| since.elapsed())
    }
}

/// What becomes of a session whose server is silent.
#[derive(Debug, Clone, Copy)]
pub struct Listening {
    /// How long an answer may be owed and nothing come, until the session ends; none where someone else decides.
    pub silence: Option<Duration>,
    /// Takes what the server refuses, as it sent it.
    pub refused: fn(&[u8]),
}

/// A session's bytes, of which it is known whether the server owes an answer.
pub struct Heard<S> {
    inner: S,
    silence: Duration,
    owed: Owed,
    /// When it is looked whether that is too long; armed once for many questions.
    until: Pin<Box<Sleep>>,
    armed: bool,
    said: Messages,
    asked: Messages,
    /// Kinds of the questions that are not answered to their end yet; several may be asked before the first answer.
    open: VecDeque<u8>,
}

impl<S> Heard<S> {
    /// Listens to a session.
    pub fn of(inner: S, Listening { silence, refused }: Listening) -> Self {
        // what never ends does within the session's life
        let silence = silence.unwrap_or(Duration::from_secs(10 * 365 * 86_400));
        let until = Box::pin(tokio::time::sleep(silence));
        let said = Messages::of(b"ZG", refused);
        // the first message has no kind; a question ends with a query or a sync
        let asked = Messages { came: 1, ..Messages::of(b"QS\0", |_| {}) };
        Self { inner, silence, owed: Owed::new(), until, armed: false, said, asked, open: VecDeque::new() }
    }

    /// Whether the server owes an answer, to be looked at from elsewhere.
    #[must_use]
    pub fn owed(&self) -> Owed {
        self.owed.clone()
    }

    /// Whether an answer is owed for too long. If not, the task is woken when it may be.
    fn is_silent(&mut self, context: &mut Context<'_>) -> bool {
        while self.armed && self.until.as_mut().poll(context).is_ready() {
            self.armed = false;
            let Some(since) = self.owed.since() else { return false };
            if since.elapsed() >= self.silence {
                return true;
            }
            self.until.as_mut().reset(since + self.silence);
            self.armed = true;
        }
        false
    }
}

/// Messages one way, told apart by their lengths: a byte for the kind, four for the length of what follows with themselves.
#[derive(Debug)]
struct Messages {
    /// Kinds that are counted.
    counted: &'static [u8],
    head: [u8; 5],
    /// Bytes of the head that came.
    came: usize,
    /// Bytes of the message that are still to come.
    left: usize,
    /// What came of a refusal.
    refusal: Vec<u8>,
    refused: fn(&[u8]),
}

/// Longest part of a refusal that is looked at: its code and text stand before what is longer.
const REFUSAL: usize = 4096;

impl Messages {
    fn of(counted: &'static [u8], refused: fn(&[u8])) -> Self {
        Self { counted, head: [0; 5], came: 0, left: 0, refusal: Vec::new(), refused }
    }

    /// Takes bytes, and tells the kind of each message that ends in them and is counted.
    fn take(&mut self, mut bytes: &[u8], mut ended: impl FnMut(u8)) {
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
                    (self.refused)(&self.refusal);
                    self.refusal.clear();
                }
            } else {
                self.head[self.came] = bytes[0];
                self.came += 1;
                bytes = &bytes[1..];
                if self.came < self.head.len() {
                    continue;
                }
                let length = u32::from_be_bytes([self.head[1], self.head[2], self.head[3], self.head[4]]);
                self.left = usize::try_from(length).unwrap_or(usize::MAX).saturating_sub(4);
                self.came = 0;
            }
            // of a head that is not whole yet, the kind is the next message's
            if self.left == 0 && self.came == 0 && self.counted.contains(&self.head[0]) {
                ended(self.head[0]);
            }
        }
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
                let Self { said, open, .. } = &mut *self;
                said.take(&buffer.filled()[before..], |kind| match kind {
                    b'Z' => drop(open.pop_front()),
                    // lines to be copied in are waited for: a sync that came before them is passed over, the next one counts
                    _ if open.front() == Some(&b'S') => drop(open.pop_front()),
                    _ => {}
                });
                if self.open.is_empty() {
                    self.owed.nothing();
                } else {
                    self.owed.now();
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
        if let Poll::Ready(Ok(some)) = written {
            let Self { asked, open, .. } = &mut *self;
            asked.take(&bytes[..some], |kind| open.push_back(kind));
            let now = Instant::now();
            self.owed.now();
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
        /// However the bytes are cut, messages are counted where they end, and only those that are asked about.
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
            let (mut messages, mut at, mut counted) = (Messages::of(b"Z", |_| {}), 0, 0);
            for cut in cuts.into_iter().cycle() {
                if at == bytes.len() {
                    break;
                }
                let next = (at + cut).min(bytes.len());
                messages.take(&bytes[at..next], |_| counted += 1);
                let expected = ends.iter().filter(|(end, ready)| *end <= next && *ready).count();
                prop_assert_eq!(counted, expected, "after {} bytes", next);
                at = next;
            }
        }
    }

    fn message(kind: u8, body: &[u8]) -> Vec<u8> {
        let length = u32::try_from(body.len() + 4).unwrap().to_be_bytes();
        [&[kind][..], &length, body].concat()
    }

    /// A server that answers the first of two questions, which were asked together, still owes the second.
    #[tokio::test(start_paused = true)]
    async fn what_was_asked_together_is_owed_until_the_last_of_it_is_answered() {
        use tokio::io::{AsyncReadExt, AsyncWriteExt};
        let (near, mut far) = tokio::io::duplex(1 << 16);
        let mut heard = Heard::of(near, Listening { silence: Some(Duration::from_secs(10)), refused: |_| {} });
        let owed = heard.owed();
        // the first message of a session has no kind
        let startup = message(0, &[0, 3, 0, 0]);
        heard.write_all(&startup[1..]).await.unwrap();
        assert!(owed.lasts().is_some());
        far.write_all(&message(b'Z', b"I")).await.unwrap();
        let mut came = [0; 6];
        heard.read_exact(&mut came).await.unwrap();
        assert_eq!(owed.lasts(), None);
        // a query, and an extended one: its parts end with the sync
        let asked = [message(b'Q', b"BEGIN\0"), message(b'P', b"\0SELECT 1\0\0\0"), message(b'S', b"")].concat();
        heard.write_all(&asked).await.unwrap();
        far.write_all(&message(b'Z', b"T")).await.unwrap();
        heard.read_exact(&mut came).await.unwrap();
        assert!(owed.lasts().is_some(), "the second is not answered");
        let silent = heard.read_exact(&mut came).await.unwrap_err();
        assert_eq!(silent.kind(), ErrorKind::TimedOut, "{silent}");
        far.write_all(&message(b'Z', b"I")).await.unwrap();
        heard.read_exact(&mut came).await.unwrap();
        assert_eq!(owed.lasts(), None);
    }
}
