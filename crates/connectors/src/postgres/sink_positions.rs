//! The positions of sink connectors that are kept in their target, beside the rows they belong to.

use std::collections::{HashMap, HashSet};

use gonvel_core::change::KindCounts;
use gonvel_core::naming::{ConnectorId, Epoch, PartitionId, TopicId, TopicPartition};
use gonvel_core::ports::systems::{ConnectorError, Delivered, SinkSettings, Stand};
use gonvel_core::trail::Trail;
use tokio_postgres::Client;

use super::client::{connect, explain};
use super::target;
use crate::postgres::address::DatabaseAddress;

/// The rows are taken in one order by whoever takes several: lanes that come to the same ones never wait in a circle.
pub(super) const ADVANCE: &str = "UPDATE gonvel.sink_positions p SET next_offset = a.next_offset, counts = a.counts, trail = a.trail
    FROM (SELECT held.topic, held.partition, a.next_offset, a.counts, a.trail
        FROM unnest($3::bigint[], $4::int[], $5::bigint[], $6::text[], $7::text[]) AS a(topic, partition, next_offset, counts, trail)
        JOIN gonvel.sink_positions held ON held.connector = $1 AND held.topic = a.topic AND held.partition = a.partition
        WHERE held.epoch = $2 ORDER BY held.topic, held.partition FOR UPDATE OF held) a
    WHERE p.connector = $1 AND p.topic = a.topic AND p.partition = a.partition";

/// Opens a transaction in which no other lane of a connector begins, and tells which of these topics none has delivered yet.
pub(super) async fn unbegun_of(
    client: &Client,
    connector: ConnectorId,
    asked: &HashSet<TopicId>,
) -> Result<HashSet<TopicId>, ConnectorError> {
    let during = |e: tokio_postgres::Error| explain(&e, "looking which topics are new");
    client.batch_execute("BEGIN").await.map_err(during)?;
    let lock = format!("gonvel begins {}", connector.simple());
    client.execute("SELECT pg_advisory_xact_lock(8471, hashtext($1))", &[&lock]).await.map_err(during)?;
    let known = client
        .query("SELECT DISTINCT topic FROM gonvel.sink_positions WHERE connector = $1", &[&connector.0])
        .await
        .map_err(during)?;
    let known: HashSet<i64> = known.iter().map(|row| row.get(0)).collect();
    Ok(asked.iter().copied().filter(|topic| !known.contains(&topic.0)).collect())
}

/// Refuses a lease after which a later one took some of these partitions over.
///
/// # Errors
/// [`ConnectorError::Later`] with that one.
pub(super) async fn refuse_later(
    client: &Client,
    connector: ConnectorId,
    epoch: Epoch,
    partitions: &[(TopicPartition, Delivered)],
) -> Result<(), ConnectorError> {
    const LATER: &str = "SELECT max(p.epoch) FROM unnest($2::bigint[], $3::int[]) AS a(topic, partition)
         JOIN gonvel.sink_positions p ON p.connector = $1 AND p.topic = a.topic AND p.partition = a.partition";
    let topics: Vec<i64> = partitions.iter().map(|(at, _)| at.topic.0).collect();
    let numbers: Vec<i32> = partitions.iter().map(|(at, _)| at.partition.0).collect();
    let row = client.query_one(LATER, &[&connector.0, &topics, &numbers]).await;
    let later: Option<i64> = row.map_err(|e| explain(&e, "looking who holds the sink's positions"))?.get(0);
    match later.filter(|later| *later > epoch.0) {
        Some(epoch) => Err(ConnectorError::Later { epoch }),
        None => Ok(()),
    }
}

/// Takes the positions over for a lease, and tells where they stand.
pub(super) async fn take_over(
    client: &Client,
    settings: &SinkSettings,
    epoch: Epoch,
    partitions: &[(TopicPartition, Delivered)],
) -> Result<HashMap<TopicPartition, Stand>, ConnectorError> {
    let during = |e: tokio_postgres::Error| explain(&e, "taking over the sink's positions");
    let topics: Vec<i64> = partitions.iter().map(|(p, _)| p.topic.0).collect();
    let all: Vec<i64> = settings.topics.iter().map(|(topic, _)| topic.0).collect();
    let numbers: Vec<i32> = partitions.iter().map(|(p, _)| p.partition.0).collect();
    let first: Vec<i64> = partitions.iter().map(|(_, first)| first.next).collect();
    let counts = partitions.iter().map(|(_, first)| counts_text(first.counts)).collect::<Result<Vec<_>, _>>()?;
    let rows = client
        .query(
            "INSERT INTO gonvel.sink_positions AS p (connector, topic, partition, next_offset, epoch, counts)
             SELECT $1, a.topic, a.partition, a.first, $4, a.counts
             FROM unnest($2::bigint[], $3::int[], $5::bigint[], $6::text[]) AS a(topic, partition, first, counts)
             ORDER BY a.topic, a.partition
             ON CONFLICT (connector, topic, partition) DO UPDATE SET epoch = EXCLUDED.epoch WHERE p.epoch <= EXCLUDED.epoch
             RETURNING topic, partition, next_offset, counts, trail, epoch",
            &[&settings.connector.0, &topics, &numbers, &epoch.0, &first, &counts],
        )
        .await
        .map_err(during)?;
    if rows.len() != partitions.len() {
        let later = client
            .query_one(
                "SELECT coalesce(max(epoch), 0) FROM gonvel.sink_positions WHERE connector = $1",
                &[&settings.connector.0],
            )
            .await
            .map_err(during)?;
        return Err(ConnectorError::Later { epoch: later.get(0) });
    }
    // a topic that was let go of begins anew should it come back
    client
        .execute(
            "DELETE FROM gonvel.sink_positions WHERE connector = $1 AND epoch <= $2 AND topic <> ALL ($3)",
            &[&settings.connector.0, &epoch.0, &all],
        )
        .await
        .map_err(during)?;
    Ok(rows.iter().map(stand).collect())
}

/// Where a sink connector stands in its target; empty if it never stood anywhere.
///
/// # Errors
/// [`ConnectorError`] if the server does not answer.
pub async fn stands(
    address: &DatabaseAddress,
    connector: ConnectorId,
) -> Result<HashMap<TopicPartition, Stand>, ConnectorError> {
    let client = connect(address).await?;
    let during = |e: tokio_postgres::Error| explain(&e, "reading a sink's positions");
    let there = client.query_opt("SELECT 1 WHERE to_regclass('gonvel.sink_positions') IS NOT NULL", &[]).await;
    if there.map_err(during)?.is_none() {
        return Ok(HashMap::new());
    }
    let rows = client
        .query(
            // a table of an earlier version has no trails
            "SELECT topic, partition, next_offset, counts, coalesce(to_jsonb(p) ->> 'trail', ''), epoch
             FROM gonvel.sink_positions p WHERE connector = $1",
            &[&connector.0],
        )
        .await
        .map_err(during)?;
    Ok(rows.iter().map(stand).collect())
}

/// A partition's place from a row of topic, partition, next offset, counts, trail and epoch.
fn stand(row: &tokio_postgres::Row) -> (TopicPartition, Stand) {
    let at = TopicPartition { topic: TopicId(row.get(0)), partition: PartitionId(row.get(1)) };
    let counts = serde_json::from_str(row.get(3)).unwrap_or_default();
    let trail = Trail::read(row.get(4));
    let delivered = Delivered { next: row.get(2), counts, last: trail.newest_first().next() };
    (at, Stand { delivered, trail, epoch: Epoch(row.get(5)) })
}

pub(super) fn counts_text(counts: KindCounts) -> Result<String, ConnectorError> {
    serde_json::to_string(&counts).map_err(|e| ConnectorError::Defect(e.to_string()))
}

/// Moves a sink that does not run: each partition from where it stands to another offset, all or none. Where both agree up to there, what
/// is known of the records before it stays known.
///
/// # Errors
/// [`ConnectorError::Settings`] if one stands elsewhere by now; others if the server does not answer.
pub async fn reposition(
    address: &DatabaseAddress,
    connector: ConnectorId,
    moves: &[(TopicPartition, i64, i64)],
    agreed: bool,
) -> Result<(), ConnectorError> {
    let mut client = connect(address).await?;
    target::ensure_own_tables(&client).await?;
    let during = |e: tokio_postgres::Error| explain(&e, "moving a sink's positions");
    let transaction = client.transaction().await.map_err(during)?;
    for (at, from, to) in moves {
        let place: &[&(dyn tokio_postgres::types::ToSql + Sync)] = &[&connector.0, &at.topic.0, &at.partition.0];
        let known = "SELECT trail FROM gonvel.sink_positions WHERE connector = $1 AND topic = $2 AND partition = $3";
        let known = transaction.query_opt(known, place).await.map_err(during)?;
        let mut trail = known.filter(|_| agreed).map(|row| Trail::read(row.get(0))).unwrap_or_default();
        trail.cut(*to);
        let moved = transaction
            .execute(
                // whoever wrote here before is fenced, also where its term is later than any of this log's
                "UPDATE gonvel.sink_positions SET next_offset = $5, at_truncate = NULL, at_mark = NULL, trail = $6, epoch = 0
                 WHERE connector = $1 AND topic = $2 AND partition = $3 AND next_offset = $4",
                &[&connector.0, &at.topic.0, &at.partition.0, from, to, &trail.to_string()],
            )
            .await
            .map_err(during)?;
        if moved != 1 {
            return Err(ConnectorError::settings(
                None,
                format!("partition {} does not stand at {from} any more", at.partition.0),
                "look again, and decide anew",
            ));
        }
    }
    transaction.commit().await.map_err(during)
}

/// What stays of a sink that is not cleaned up.
#[must_use]
pub fn remains(connector: ConnectorId) -> Vec<String> {
    vec![format!("rows of the connector {connector} in gonvel.sink_positions and gonvel.sink_retried")]
}

/// Removes the sink's positions from the target, and Gonvel's own schema with the last of them. The tables with the
/// delivered rows stay: they are the target's.
///
/// # Errors
/// [`ConnectorError`]; it says what could not be removed.
pub async fn clean_up(address: &DatabaseAddress, connector: ConnectorId) -> Result<(), ConnectorError> {
    let client = connect(address).await?;
    let during = |e: tokio_postgres::Error| explain(&e, "removing the sink's positions");
    let there =
        client.query_opt("SELECT 1 WHERE to_regclass('gonvel.sink_positions') IS NOT NULL", &[]).await.map_err(during)?;
    if there.is_none() {
        return Ok(());
    }
    client.execute("DELETE FROM gonvel.sink_positions WHERE connector = $1", &[&connector.0]).await.map_err(during)?;
    let retried = client.query_opt("SELECT 1 WHERE to_regclass('gonvel.sink_retried') IS NOT NULL", &[]).await;
    if retried.map_err(during)?.is_some() {
        client.execute("DELETE FROM gonvel.sink_retried WHERE connector = $1", &[&connector.0]).await.map_err(during)?;
    }
    let left = client.query_opt("SELECT 1 FROM gonvel.sink_positions LIMIT 1", &[]).await.map_err(during)?;
    if left.is_none() {
        client
            .batch_execute("DROP TABLE gonvel.sink_positions; DROP TABLE IF EXISTS gonvel.sink_retried; DROP SCHEMA gonvel")
            .await
            .map_err(during)?;
    }
    Ok(())
}
