//! Preflights that were made before there was anything to look at: they are made again when there is.

use std::sync::Weak;
use std::time::Duration;

use gonvel_core::preflight::{NO_ROWS_YET, records_of};

use crate::preflights::{check, shapes};
use crate::problems::Refusal;
use crate::state::ServerState;

/// How often it is looked.
const EVERY: Duration = Duration::from_secs(5);

/// Looks for as long as the server is there.
pub(crate) async fn look(state: Weak<ServerState>) {
    loop {
        tokio::time::sleep(EVERY).await;
        let Some(state) = state.upgrade() else { return };
        if once(&state).await.is_err() {
            tracing::debug!("preflights are made again later");
        }
    }
}

/// Checks sinks again whose topics had no rows when they were checked, and have some by now.
async fn once(state: &ServerState) -> Result<(), Refusal> {
    for (id, report) in state.database.reports_with(NO_ROWS_YET).await? {
        let connector = state.database.find_connector(id).await?;
        let known = shapes(state, &connector.definition).await?;
        let waits = |topic: &str| {
            let name = records_of(topic);
            report.checks.iter().any(|check| check.finding == NO_ROWS_YET && check.name == name)
        };
        if connector.definition.read_topics().iter().any(|read| known.contains_key(&read.name) && waits(read.topic)) {
            state.database.keep_report(id, &check(state, &connector.definition, Some(id)).await?).await?;
        }
    }
    Ok(())
}
