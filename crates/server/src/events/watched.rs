//! What a server shares of what it told, and who watches what.

use std::collections::HashSet;
use std::sync::{Mutex, PoisonError};

use gonvel_http_api::ObjectKind;
use tokio::sync::watch;

use super::known::Known;

/// What was told, and who watches what.
#[derive(Default)]
pub(crate) struct Events {
    known: Mutex<Known>,
    /// How many watch each kind.
    watching: Mutex<Vec<ObjectKind>>,
    /// Kinds that someone watches.
    watched: watch::Sender<HashSet<ObjectKind>>,
    /// Kinds that are looked at: what is known of them is what is there.
    pub(super) looked_at: watch::Sender<HashSet<ObjectKind>>,
    /// The place of the newest change.
    pub(super) last: watch::Sender<u64>,
}

impl Events {
    pub(super) fn watched(&self) -> watch::Receiver<HashSet<ObjectKind>> {
        self.watched.subscribe()
    }

    pub(super) fn looks_at(&self, kinds: &HashSet<ObjectKind>) {
        self.looked_at.send_if_modified(|before| {
            let differs = before != kinds;
            if differs {
                before.clone_from(kinds);
            }
            differs
        });
    }

    pub(super) fn known<T>(&self, of: impl FnOnce(&mut Known) -> T) -> T {
        of(&mut self.known.lock().unwrap_or_else(PoisonError::into_inner))
    }

    pub(super) fn tell(&self, how: impl FnOnce(&mut Known)) {
        let last = self.known(|known| {
            how(known);
            known.last()
        });
        self.last.send_if_modified(|before| std::mem::replace(before, last) != last);
    }

    pub(super) fn count(&self, change: impl FnOnce(&mut Vec<ObjectKind>)) {
        let mut watching = self.watching.lock().unwrap_or_else(PoisonError::into_inner);
        change(&mut watching);
        let now: HashSet<ObjectKind> = watching.iter().copied().collect();
        self.watched.send_if_modified(|before| std::mem::replace(before, now.clone()) != now);
    }
}
