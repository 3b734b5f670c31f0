//! The leases that a runner holds, renewed together by its heartbeat.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use gonvel_core::ports::{HeldLane, PortError, RunnerStore};
use tokio::sync::watch;
use tokio::time::Instant;

/// How long a lease lasts without renewal, and how often it is renewed.
pub(crate) const LEASE: Duration = Duration::from_secs(6);
const RENEW: Duration = Duration::from_millis(1_500);

struct Holding {
    lost: watch::Sender<bool>,
}

/// The leases of one runner. Cheap to clone.
#[derive(Clone, Default)]
pub(crate) struct Leases {
    held: Arc<Mutex<HashMap<HeldLane, Holding>>>,
}

/// A lease that is renewed as long as this lives.
pub(crate) struct Renewed {
    leases: Leases,
    held: HeldLane,
    lost: watch::Receiver<bool>,
}

impl Renewed {
    /// Resolves when the lease is lost.
    ///
    /// Cancel safety: holds no progress.
    pub(crate) async fn lost(&self) {
        let mut lost = self.lost.clone();
        // a sender that is gone means that the runner ends: whoever waits is stopped by other means
        if lost.wait_for(|lost| *lost).await.is_err() {
            std::future::pending::<()>().await;
        }
    }
}

impl Drop for Renewed {
    fn drop(&mut self) {
        self.leases.held.lock().unwrap_or_else(PoisonError::into_inner).remove(&self.held);
    }
}

impl Leases {
    /// Renews a lease from now on.
    pub(crate) fn hold(&self, held: HeldLane) -> Renewed {
        let (sender, lost) = watch::channel(false);
        self.held.lock().unwrap_or_else(PoisonError::into_inner).insert(held, Holding { lost: sender });
        Renewed { leases: self.clone(), held, lost }
    }

    fn all(&self) -> Vec<HeldLane> {
        self.held.lock().unwrap_or_else(PoisonError::into_inner).keys().copied().collect()
    }

    fn lose(&self, lost: &[HeldLane]) {
        let held = self.held.lock().unwrap_or_else(PoisonError::into_inner);
        lost.iter().filter_map(|lane| held.get(lane)).for_each(|holding| {
            let _ = holding.lost.send(true);
        });
    }

    /// Renews for ever. What one writes is fenced by the lease's epoch in any case; leases that cannot be renewed are given up
    /// only when they have run out.
    pub(crate) async fn renew(self, runners: Arc<dyn RunnerStore>) {
        let mut renewed = Instant::now();
        loop {
            tokio::time::sleep(RENEW).await;
            let held = self.all();
            if held.is_empty() {
                renewed = Instant::now();
                continue;
            }
            match runners.renew(&held, LEASE).await {
                Ok(lost) => {
                    renewed = Instant::now();
                    self.lose(&lost);
                }
                Err(error) => {
                    let cause = match &error {
                        PortError::TryAgain { cause, .. } => cause.to_string(),
                        other => other.to_string(),
                    };
                    tracing::warn!(cause, lanes = held.len(), "the leases could not be renewed");
                    if renewed.elapsed() > LEASE {
                        self.lose(&held);
                    }
                }
            }
        }
    }
}
