//! Looks how far operations are that lanes do, and ends those whose server stopped.

use std::sync::Weak;
use std::time::Duration;

use crate::state::ServerState;

/// How often it is looked while something is being done, and while nothing is.
const WHILE_DONE: Duration = Duration::from_millis(300);
const AT_REST: Duration = Duration::from_secs(1);

/// Looks for as long as the server is there.
pub(crate) async fn look(state: Weak<ServerState>) {
    loop {
        let Some(state) = state.upgrade() else { return };
        let settled = state.database.settle_operations().await;
        drop(state);
        tokio::time::sleep(if settled.unwrap_or(false) { WHILE_DONE } else { AT_REST }).await;
    }
}
