//! What stands between a client and a server: it can be cut, and fall silent without closing.

use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, PoisonError};

use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::{TcpListener, TcpStream};
use tokio::task::{AbortHandle, JoinHandle};

/// Carries bytes both ways, but for connections made before it was last told to fall silent: they stay open, and nothing comes of them.
pub struct Between {
    /// Where it is reached.
    pub port: u16,
    made: Arc<AtomicUsize>,
    silent: Arc<AtomicUsize>,
    open: Arc<Mutex<Vec<AbortHandle>>>,
    task: JoinHandle<()>,
}

impl Drop for Between {
    fn drop(&mut self) {
        self.task.abort();
        self.cut();
    }
}

impl Between {
    /// One before a port of this machine.
    ///
    /// # Panics
    /// If there is no free port.
    pub async fn start(to: u16) -> Self {
        let listener = TcpListener::bind("127.0.0.1:0").await.expect("a free port");
        let port = listener.local_addr().expect("its address").port();
        let (made, silent) = (Arc::new(AtomicUsize::new(0)), Arc::new(AtomicUsize::new(0)));
        let (counted, until) = (made.clone(), silent.clone());
        let open: Arc<Mutex<Vec<AbortHandle>>> = Arc::default();
        let kept = open.clone();
        let task = tokio::spawn(async move {
            loop {
                let Ok((near, _)) = listener.accept().await else { return };
                let Ok(far) = TcpStream::connect(("127.0.0.1", to)).await else { continue };
                let number = counted.fetch_add(1, Ordering::SeqCst) + 1;
                let ((near_in, near_out), (far_in, far_out)) = (near.into_split(), far.into_split());
                let there = carry(near_in, far_out, number, until.clone());
                let back = carry(far_in, near_out, number, until.clone());
                let carried = tokio::spawn(async move { tokio::join!(there, back) });
                let mut kept = kept.lock().unwrap_or_else(PoisonError::into_inner);
                kept.retain(|carried| !carried.is_finished());
                kept.push(carried.abort_handle());
            }
        });
        Self { port, made, silent, open, task }
    }

    /// Connections that were made.
    #[must_use]
    pub fn made(&self) -> usize {
        self.made.load(Ordering::SeqCst)
    }

    /// Cuts all connections that are there; new ones are carried.
    pub fn cut(&self) {
        self.open.lock().unwrap_or_else(PoisonError::into_inner).drain(..).for_each(|carried| carried.abort());
    }

    /// From now on nothing comes of those that are there.
    pub fn fall_silent(&self) {
        self.silent.store(self.made.load(Ordering::SeqCst), Ordering::SeqCst);
    }
}

async fn carry(
    mut from: tokio::net::tcp::OwnedReadHalf,
    mut to: tokio::net::tcp::OwnedWriteHalf,
    number: usize,
    silent: Arc<AtomicUsize>,
) {
    let mut bytes = vec![0; 64 << 10];
    while let Ok(some) = from.read(&mut bytes).await {
        if silent.load(Ordering::SeqCst) >= number {
            if some == 0 {
                // also an end does not come through
                return std::future::pending().await;
            }
            // held open, and swallowed
            continue;
        }
        if some == 0 || to.write_all(&bytes[..some]).await.is_err() {
            return;
        }
    }
}
