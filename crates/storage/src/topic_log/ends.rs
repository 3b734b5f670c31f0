//! What this process knows of where partitions end, so that readers in it wake the moment an append has committed.

use std::collections::HashMap;
use std::sync::Mutex;
use std::time::Duration;

use gonvel_core::naming::{Offset, TopicPartition};
use gonvel_core::ports::Landed;
use tokio::sync::watch;

/// Longest wait before a reader looks for itself: what other processes append is not announced here.
const LOOK_AGAIN: Duration = Duration::from_millis(500);

#[derive(Debug)]
pub(crate) struct Ends {
    ends: Mutex<HashMap<TopicPartition, Offset>>,
    appends: watch::Sender<u64>,
}

impl Default for Ends {
    fn default() -> Self {
        Self { ends: Mutex::default(), appends: watch::channel(0).0 }
    }
}

impl Ends {
    pub(crate) fn announce(&self, landed: &[Landed]) {
        if let Ok(mut ends) = self.ends.lock() {
            for part in landed {
                let end = ends.entry(part.to).or_insert(Offset(0));
                *end = (*end).max(Offset(part.first.0 + part.records));
            }
        }
        self.appends.send_modify(|n| *n += 1);
    }

    fn any_past(&self, after: &[(TopicPartition, Offset)]) -> bool {
        let Ok(ends) = self.ends.lock() else { return true };
        after.iter().any(|(at, offset)| ends.get(at).is_some_and(|end| end > offset))
    }

    pub(crate) async fn wait_for(&self, after: &[(TopicPartition, Offset)], timeout: Duration) {
        let mut appends = self.appends.subscribe();
        let waiting = async {
            while !self.any_past(after) {
                if appends.changed().await.is_err() {
                    return;
                }
            }
        };
        let _ = tokio::time::timeout(timeout.min(LOOK_AGAIN), waiting).await;
    }
}
