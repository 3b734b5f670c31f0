//! Snapshots: which transactions the server has ended.

use gonvel_core::loading::Snapshot;
use gonvel_core::ports::systems::ConnectorError;
use tokio_postgres::Client;

use super::client::explain;

/// How often subtransactions are looked for while no transaction ends.
const LOOKS: u32 = 100;

pub(crate) async fn current_snapshot(client: &Client) -> Result<Snapshot, ConnectorError> {
    let row =
        client.query_one("SELECT pg_current_snapshot()::text", &[]).await.map_err(|e| explain(&e, "taking a snapshot"))?;
    let text: String = row.get(0);
    Snapshot::parse(&text).ok_or_else(|| ConnectorError::Defect(format!("the snapshot {text:?} cannot be read")))
}

/// The same with the subtransactions that are under way, whose numbers the rows have that they write: a snapshot names only the
/// transactions that they belong to. Where transactions end all the while one of theirs may be missing.
pub(crate) async fn snapshot_with_subtransactions(client: &Client) -> Result<Snapshot, ConnectorError> {
    const UNDER_WAY: &str = "SELECT n FROM generate_series($1::bigint, $2::bigint - 1) n
         WHERE pg_xact_status(n::text::xid8) = 'in progress' ORDER BY n";
    let number = |n: u64| i64::try_from(n).unwrap_or(i64::MAX);
    let mut now = current_snapshot(client).await?;
    for _ in 0..LOOKS {
        if now.under_way.is_empty() {
            break;
        }
        let found = client
            .query(UNDER_WAY, &[&number(now.xmin), &number(now.xmax)])
            .await
            .map_err(|e| explain(&e, "looking for subtransactions"))?;
        let after = current_snapshot(client).await?;
        if now.under_way.iter().all(|t| after.under_way.contains(t)) {
            now.under_way.extend(found.iter().map(|row| row.get::<_, i64>(0).unsigned_abs()));
            now.under_way.sort_unstable();
            now.under_way.dedup();
            break;
        }
        now = after;
    }
    Ok(now)
}
