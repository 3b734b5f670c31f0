//! Bytes to a host and back, by whatever way.

use std::any::Any;
use std::pin::Pin;
use std::sync::Arc;
use std::task::{Context, Poll};

use hyper::upgrade::Upgraded;
use hyper_util::rt::TokioIo;
use russh::ChannelStream;
use russh::client::Msg;
use tokio::io::{AsyncRead, AsyncWrite, ReadBuf};
use tokio::net::TcpStream;

/// What leads to a host.
pub enum Road {
    /// A connection, to it or to a proxy that hands on.
    Direct(TcpStream),
    /// What an HTTP proxy hands on.
    Proxied(Box<TokioIo<Upgraded>>),
    /// A channel through a jump host, and what keeps the login there.
    Jump(Box<ChannelStream<Msg>>, Arc<dyn Any + Send + Sync>),
}

impl Road {
    /// A channel through a jump host; the login there lasts as long as it.
    #[must_use]
    pub fn through_jump_host(channel: ChannelStream<Msg>, login: Arc<dyn Any + Send + Sync>) -> Self {
        Self::Jump(Box::new(channel), login)
    }

    /// Whether it ends on this machine, so that what it holds back need not be much.
    #[must_use]
    pub fn of_this_machine(&self) -> Option<&TcpStream> {
        match self {
            Self::Direct(stream) => {
                Some(stream).filter(|stream| stream.peer_addr().is_ok_and(|peer| peer.ip().is_loopback()))
            }
            Self::Proxied(_) | Self::Jump(..) => None,
        }
    }
}

impl AsyncRead for Road {
    fn poll_read(self: Pin<&mut Self>, context: &mut Context<'_>, buffer: &mut ReadBuf<'_>) -> Poll<std::io::Result<()>> {
        match self.get_mut() {
            Self::Direct(stream) => Pin::new(stream).poll_read(context, buffer),
            Self::Proxied(stream) => Pin::new(stream).poll_read(context, buffer),
            Self::Jump(channel, _) => Pin::new(channel).poll_read(context, buffer),
        }
    }
}

impl AsyncWrite for Road {
    fn poll_write(self: Pin<&mut Self>, context: &mut Context<'_>, bytes: &[u8]) -> Poll<std::io::Result<usize>> {
        match self.get_mut() {
            Self::Direct(stream) => Pin::new(stream).poll_write(context, bytes),
            Self::Proxied(stream) => Pin::new(stream).poll_write(context, bytes),
            Self::Jump(channel, _) => Pin::new(channel).poll_write(context, bytes),
        }
    }

    fn poll_flush(self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<std::io::Result<()>> {
        match self.get_mut() {
            Self::Direct(stream) => Pin::new(stream).poll_flush(context),
            Self::Proxied(stream) => Pin::new(stream).poll_flush(context),
            Self::Jump(channel, _) => Pin::new(channel).poll_flush(context),
        }
    }

    fn poll_shutdown(self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<std::io::Result<()>> {
        match self.get_mut() {
            Self::Direct(stream) => Pin::new(stream).poll_shutdown(context),
            Self::Proxied(stream) => Pin::new(stream).poll_shutdown(context),
            Self::Jump(channel, _) => Pin::new(channel).poll_shutdown(context),
        }
    }
}
