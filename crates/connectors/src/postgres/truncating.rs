//! A truncate of a topic whose partitions are shared out among lanes: it is carried out once, when all of them have come to it.

use gonvel_core::naming::TopicPartition;

use super::client::explain;
use super::sink::{PgSink, Round};
use crate::error::ConnectorError;

impl PgSink {
    /// Says that these partitions have come to a truncate, each at its offset, and carries it out if all the topic's
    /// partitions have. Whether it is carried out, by this lane or another; if not, it is to be called again.
    ///
    /// # Errors
    /// [`ConnectorError`]; the sink must be started again.
    pub async fn truncate_together(
        &mut self,
        round: &Round,
        at: &[(TopicPartition, i64)],
        partitions: i32,
    ) -> Result<bool, ConnectorError> {
        for changes in &round.topics {
            self.prepare(changes).await?;
        }
        let Some((first, _)) = at.first() else { return Ok(true) };
        let during = |e: tokio_postgres::Error| explain(&e, "a truncate of several lanes");
        let (connector, topic) = (self.settings.connector.0, first.topic.0);
        self.open = true;
        self.client.batch_execute("BEGIN").await.map_err(during)?;
        // all rows in one order, so that lanes wait for each other and never in a circle
        let rows = self
            .client
            .query(
                "SELECT partition, next_offset, at_truncate, epoch FROM gonvel.sink_positions
                 WHERE connector = $1 AND topic = $2 ORDER BY partition FOR UPDATE",
                &[&connector, &topic],
            )
            .await
            .map_err(during)?;
        let place_of = |row: &tokio_postgres::Row| at.iter().find(|(p, _)| p.partition.0 == row.get::<_, i32>(0));
        let mine: Vec<_> = rows.iter().filter(|row| place_of(row).is_some()).collect();
        if mine.len() != at.len() || mine.iter().any(|row| row.get::<_, i64>(3) != self.epoch.0) {
            return Err(ConnectorError::Fenced);
        }
        if mine.iter().all(|row| place_of(row).is_some_and(|(_, offset)| row.get::<_, i64>(1) > *offset)) {
            self.commit().await?;
            return Ok(true);
        }
        let come = |row: &tokio_postgres::Row| place_of(row).is_some() || row.get::<_, Option<i64>>(2) == Some(row.get(1));
        let all = i32::try_from(rows.len()).is_ok_and(|there| there == partitions) && rows.iter().all(come);
        if all {
            for changes in &round.topics {
                self.apply_changes(changes, &changes.changes).await?;
            }
            self.advance(&round.delivered).await?;
            let others: Vec<i32> =
                rows.iter().filter(|row| place_of(row).is_none()).map(|row| row.get::<_, i32>(0)).collect();
            self.client
                .execute(
                    "UPDATE gonvel.sink_positions SET next_offset = next_offset + 1, at_truncate = NULL
                     WHERE connector = $1 AND topic = $2 AND partition = ANY ($3)",
                    &[&connector, &topic, &others],
                )
                .await
                .map_err(during)?;
        } else {
            let numbers: Vec<i32> = at.iter().map(|(p, _)| p.partition.0).collect();
            self.client
                .execute(
                    "UPDATE gonvel.sink_positions SET at_truncate = next_offset
                     WHERE connector = $1 AND topic = $2 AND partition = ANY ($3)",
                    &[&connector, &topic, &numbers],
                )
                .await
                .map_err(during)?;
        }
        self.commit().await?;
        Ok(all)
    }
}
