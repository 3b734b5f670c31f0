//! Bytes to a server and back.

use std::pin::Pin;
use std::task::{Context, Poll};
use std::time::Duration;

use socket2::{SockRef, TcpKeepalive};
use tokio::io::{AsyncRead, AsyncWrite, ReadBuf};
use tokio::net::{TcpStream, UnixStream};
use tokio_rustls::client::TlsStream;

/// After so long without a word a session is asked for a sign of life: one that is idle is found out as well.
pub const KEEPALIVE: Duration = Duration::from_secs(30);

/// Reaches a host; `keepalive` is as [`KEEPALIVE`], after which it has a third of that for each of three answers.
///
/// # Errors
/// Those of the network.
pub async fn dial(host: &str, port: u16, keepalive: Duration) -> std::io::Result<TcpStream> {
    let stream = TcpStream::connect((host, port)).await?;
    stream.set_nodelay(true)?;
    let third = (keepalive / 3).max(Duration::from_secs(1));
    let alive = TcpKeepalive::new().with_time(keepalive).with_interval(third).with_retries(3);
    SockRef::from(&stream).set_tcp_keepalive(&alive)?;
    Ok(stream)
}

/// What a session's bytes go over.
pub enum Wire<S = TcpStream> {
    /// As they are.
    Plain(S),
    /// Encrypted.
    Encrypted(Box<TlsStream<S>>),
    /// Through a socket of this machine.
    OfThisMachine(UnixStream),
}

impl<S: AsyncRead + AsyncWrite + Unpin> AsyncRead for Wire<S> {
    fn poll_read(self: Pin<&mut Self>, context: &mut Context<'_>, buffer: &mut ReadBuf<'_>) -> Poll<std::io::Result<()>> {
        match self.get_mut() {
            Self::Plain(stream) => Pin::new(stream).poll_read(context, buffer),
            Self::Encrypted(stream) => Pin::new(stream).poll_read(context, buffer),
            Self::OfThisMachine(stream) => Pin::new(stream).poll_read(context, buffer),
        }
    }
}

impl<S: AsyncRead + AsyncWrite + Unpin> AsyncWrite for Wire<S> {
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
