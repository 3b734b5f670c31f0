//! A session that waits: for whom.

use gonvel_core::ports::systems::ConnectorError;

use super::client::{connect, explain};
use crate::postgres::address::DatabaseAddress;

/// Who keeps a session waiting, as a person is told: the session, whose it is, what it does and what is waited for; none if nobody does.
///
/// # Errors
/// [`ConnectorError`] if the server does not answer.
pub async fn blocked_by(address: &DatabaseAddress, session: i32) -> Result<Option<String>, ConnectorError> {
    let blocking = connect(address)
        .await?
        .query_opt(
            "SELECT b.pid, coalesce(b.usename::text, '?'), coalesce(nullif(b.application_name, ''), '?'), coalesce(b.state, '?'),
               extract(epoch FROM now() - coalesce(b.state_change, now()))::bigint,
               (SELECT relation::regclass::text FROM pg_locks WHERE pid = $1 AND relation IS NOT NULL AND NOT granted LIMIT 1)
             FROM unnest(pg_blocking_pids($1)) AS blocking(pid) JOIN pg_stat_activity b ON b.pid = blocking.pid
             ORDER BY b.state_change LIMIT 1",
            &[&session],
        )
        .await
        .map_err(|e| explain(&e, "asking for whom a session waits"))?;
    Ok(blocking.map(|row| {
        let (pid, user, application, state): (i32, String, String, String) = (row.get(0), row.get(1), row.get(2), row.get(3));
        let (seconds, table): (i64, Option<String>) = (row.get(4), row.get(5));
        let of = table.map_or_else(|| "rows".to_owned(), |table| format!("the table {table}"));
        format!(
            "it waits for a lock on {of} that session {pid} holds (user {user}, application {application}, {state} for {seconds} s): \
             let that session commit, or end it with SELECT pg_terminate_backend({pid})"
        )
    }))
}
