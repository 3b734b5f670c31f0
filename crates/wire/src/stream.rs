//! Bytes to a server and back.

use std::pin::Pin;
use std::task::{Context, Poll};
use std::time::Duration;

use socket2::{SockRef, TcpKeepalive};
use tokio::io::{AsyncRead, AsyncWrite, ReadBuf};
use tokio::net::{TcpStream, UnixStream};
use tokio_rustls::client::TlsStream;

/// Probes of a session over which nothing goes: one that is idle is found out as well.
const ALIVE: TcpKeepalive =
    TcpKeepalive::new().with_time(Duration::from_secs(30)).with_interval(Duration::from_secs(10)).with_retries(3);

/// Reaches a host.
///
/// # Errors
/// Those of the network.
pub async fn dial(host: &str, port: u16) -> std::io::Result<TcpStream> {
    let stream = TcpStream::connect((host, port)).await?;
    stream.set_nodelay(true)?;
    SockRef::from(&stream).set_tcp_keepalive(&ALIVE)?;
    Ok(stream)
}

/// What a session's bytes go over.
pub enum Wire {
    /// As they are.
    Plain(TcpStream),
    /// Encrypted.
    Encrypted(Box<TlsStream<TcpStream>>),
    /// Through a socket of this machine.
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
