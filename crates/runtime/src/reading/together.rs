//! Truncates that several lanes carry out together.

use std::collections::HashSet;
use std::sync::{Mutex, PoisonError};

use gonvel_core::naming::TopicPartition;
use tokio::sync::Notify;

/// Partitions at a truncate that other lanes are to come to: nothing that is behind it is read before it is carried out, while all else goes on.
#[derive(Default)]
pub(crate) struct Together {
    waiting: Mutex<HashSet<TopicPartition>>,
    carried_out: Notify,
}

impl Together {
    pub(super) fn wait(&self, at: impl Iterator<Item = TopicPartition>) {
        self.waiting.lock().unwrap_or_else(PoisonError::into_inner).extend(at);
    }

    pub(super) fn has(&self, at: TopicPartition) -> bool {
        self.waiting.lock().unwrap_or_else(PoisonError::into_inner).contains(&at)
    }

    /// A truncate was carried out: its partitions go on.
    pub(crate) fn go_on(&self, at: &[(TopicPartition, i64)]) {
        let mut waiting = self.waiting.lock().unwrap_or_else(PoisonError::into_inner);
        waiting.retain(|held| !at.iter().any(|(at, _)| at == held));
        drop(waiting);
        self.carried_out.notify_one();
    }

    /// Resolves when one was carried out since.
    pub(crate) async fn carried_out(&self) {
        self.carried_out.notified().await;
    }
}
