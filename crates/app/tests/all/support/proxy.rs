//! A way to a server that can be cut.

use std::sync::{Arc, Mutex};

use tokio::io::copy_bidirectional;
use tokio::net::{TcpListener, TcpStream};
use tokio::task::{AbortHandle, JoinHandle};

/// Carries connections to a port of this machine until they are cut.
pub struct Proxy {
    pub port: u16,
    open: Arc<Mutex<Vec<AbortHandle>>>,
    task: JoinHandle<()>,
}

impl Proxy {
    pub async fn to(port: u16) -> Self {
        let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
        let own = listener.local_addr().unwrap().port();
        let open: Arc<Mutex<Vec<AbortHandle>>> = Arc::default();
        let kept = open.clone();
        let task = tokio::spawn(async move {
            while let Ok((mut near, _)) = listener.accept().await {
                let carried = tokio::spawn(async move {
                    if let Ok(mut far) = TcpStream::connect(("127.0.0.1", port)).await {
                        let _ = copy_bidirectional(&mut near, &mut far).await;
                    }
                });
                let mut kept = kept.lock().unwrap();
                kept.retain(|c| !c.is_finished());
                kept.push(carried.abort_handle());
            }
        });
        Self { port: own, open, task }
    }

    /// Cuts all connections that are open; new ones are carried again.
    pub fn cut(&self) {
        self.open.lock().unwrap().drain(..).for_each(|c| c.abort());
    }
}

impl Drop for Proxy {
    fn drop(&mut self) {
        self.task.abort();
        self.cut();
    }
}
