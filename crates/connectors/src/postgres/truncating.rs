//! A truncate of a topic whose partitions are shared out among lanes: it is carried out once, when all of them have come to it.

use std::sync::PoisonError;

use gonvel_core::ports::systems::{Comes, ConnectorError, Round, ahead};
use gonvel_core::trail::{Seen, Trail};
use gonvel_core::truncate::{Come, Here, Mark};

use super::client::explain;
use super::sink::PgSink;

impl PgSink {
    /// Says that partitions have come to a truncate, and carries it out if all the topic's partitions have. Whether it is carried out,
    /// by this lane or another; if not, it is to be called again.
    ///
    /// # Errors
    /// [`ConnectorError`]; the sink must be started again.
    pub async fn truncate_together(&mut self, round: &Round, comes: &Comes<'_>) -> Result<bool, ConnectorError> {
        let Comes { at, own, ends, partitions } = *comes;
        let Some(mark) = round.topics.first().and_then(|t| Some(Mark::from(*t.batches.first()?.origins.first()?))) else {
            return Ok(true);
        };
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
                "SELECT partition, next_offset, at_truncate, epoch, at_mark, trail FROM gonvel.sink_positions
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
            let mut trails = self.trails.lock().unwrap_or_else(PoisonError::into_inner);
            for (at, offset) in at {
                trails.entry(*at).or_default().pin(Seen { offset: *offset, time_us: mark.time_us });
            }
            return Ok(true);
        }
        let mut here = Vec::new();
        let mut all = i32::try_from(rows.len()).is_ok_and(|there| there == partitions);
        for row in rows.iter().filter(|row| place_of(row).is_none()) {
            let (partition, next) = (row.get::<_, i32>(0), row.get::<_, i64>(1));
            if own.contains(&partition) {
                // this lane has none such of it
                continue;
            }
            let is_at = row.get::<_, Option<i64>>(2) == Some(next);
            let stands = Here {
                // noted by an earlier version it is not said which
                truncate: is_at.then(|| row.get::<_, Option<&str>>(4).and_then(Mark::read).unwrap_or(mark)),
                at_end: ends.get(&partition).is_some_and(|end| *end <= next),
                newest_us: Trail::read(row.get(5)).newest_first().next().map(|seen| seen.time_us),
            };
            match mark.reached(stands) {
                Come::Here => here.push(partition),
                Come::Without => {}
                Come::NotYet => all = false,
                Come::Ahead => return Err(ahead(partition, mark)),
            }
        }
        if all {
            for changes in &round.topics {
                self.apply_changes(changes, &changes.changes).await?;
            }
            self.advance(&round.delivered, true).await?;
            for row in rows.iter().filter(|row| here.contains(&row.get(0))) {
                let (partition, offset) = (row.get::<_, i32>(0), row.get::<_, i64>(1));
                let mut trail = Trail::read(row.get(5));
                trail.pin(Seen { offset, time_us: mark.time_us });
                self.client
                    .execute(
                        "UPDATE gonvel.sink_positions SET next_offset = next_offset + 1, at_truncate = NULL, at_mark = NULL, trail = $4
                         WHERE connector = $1 AND topic = $2 AND partition = $3",
                        &[&connector, &topic, &partition, &trail.to_string()],
                    )
                    .await
                    .map_err(during)?;
            }
        } else {
            let numbers: Vec<i32> = at.iter().map(|(p, _)| p.partition.0).collect();
            self.client
                .execute(
                    "UPDATE gonvel.sink_positions SET at_truncate = next_offset, at_mark = $4
                     WHERE connector = $1 AND topic = $2 AND partition = ANY ($3)",
                    &[&connector, &topic, &numbers, &mark.to_string()],
                )
                .await
                .map_err(during)?;
        }
        self.commit().await?;
        Ok(all)
    }
}
