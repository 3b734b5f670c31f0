//! Finding the few changes of a round that the target refuses: all others are written.

use gonvel_core::connector::TargetRows;
use gonvel_core::fold::Place;

use super::apply::Statements;
use super::client::{explain, explain_write};
use super::sink::{PgSink, Round, TopicChanges, fold_all};
use crate::error::ConnectorError;

/// A change that the target refuses.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Refused {
    /// Which of the round's topics it is of.
    pub part: usize,
    /// Which of its changes it is.
    pub change: usize,
    /// What was found, and what to do.
    pub finding: String,
}

/// What came of trying a part.
enum Attempt {
    Written,
    Refused {
        finding: String,
        /// The change that was refused, if the server told which.
        at: Option<usize>,
    },
}

impl PgSink {
    /// Writes a round, but for the changes that the target refuses: halves are tried until those stand alone. Everything is
    /// written in order, so keys keep theirs. Nothing is committed, and the positions are not moved yet.
    ///
    /// # Errors
    /// [`ConnectorError`], other than of a record; the sink must be started again.
    pub async fn sift(&mut self, round: &Round) -> Result<Vec<Refused>, ConnectorError> {
        // a table that was mended since takes what it refused
        self.targets.clear();
        self.statements = Statements::default();
        for changes in &round.topics {
            self.prepare(changes).await?;
        }
        self.open = true;
        self.command("BEGIN; SAVEPOINT part").await?;
        let mut refused = Vec::new();
        for (part, changes) in round.topics.iter().enumerate() {
            // what is still to be written, the first on top
            let all = 0..changes.changes.len();
            let mut ranges = vec![all];
            while let Some(range) = ranges.pop() {
                let Attempt::Refused { finding, at } = self.attempt(changes, range.clone()).await? else { continue };
                let first = record_of(changes, range.start);
                if first.end >= range.end {
                    refused.push(Refused { part, change: range.start, finding });
                    continue;
                }
                match at {
                    // the server told which row it was: what is before its record and after it is tried as a whole
                    Some(at) => {
                        let record = record_of(changes, range.start + at);
                        ranges.extend([record.end..range.end, record.clone(), range.start..record.start]);
                    }
                    None => {
                        let middle = record_of(changes, range.start + range.len() / 2).start.max(first.end);
                        ranges.extend([middle..range.end, range.start..middle]);
                    }
                }
            }
        }
        Ok(refused)
    }

    async fn attempt(&self, changes: &TopicChanges, range: std::ops::Range<usize>) -> Result<Attempt, ConnectorError> {
        if range.is_empty() {
            return Ok(Attempt::Written);
        }
        let part = &changes.changes[range];
        let applied = self.apply_changes(changes, part).await;
        // a constraint that is checked at the commit would refuse the whole round then: it speaks now
        let outcome = match applied {
            Ok(()) => self.keep_part(changes).await,
            refused => refused,
        };
        match outcome {
            Ok(()) => Ok(Attempt::Written),
            Err(ConnectorError::BadRecord { finding, copied_line }) => {
                self.command("ROLLBACK TO SAVEPOINT part").await?;
                let at = copied_line.and_then(|line| self.copied(changes, part, line));
                Ok(Attempt::Refused { finding, at })
            }
            Err(error) => Err(error),
        }
    }

    /// Which change of a part was a line of its copied rows, as far as all of them were copied at once.
    fn copied(&self, changes: &TopicChanges, part: &[(Place, bytes::Bytes)], line: usize) -> Option<usize> {
        let index = line.checked_sub(1)?;
        match self.settings.writes.rows {
            TargetRows::Current => {
                let segments = fold_all(&changes.batches, part);
                let [segment] = segments.as_slice() else { return None };
                let place = segment.inserts.get(index)?;
                part.iter().position(|(p, _)| p == place)
            }
            TargetRows::Appended | TargetRows::Changes => (index < part.len()).then_some(index),
            TargetRows::History => None,
        }
    }

    /// Makes a part that was written stay, and begins the next.
    async fn keep_part(&self, changes: &TopicChanges) -> Result<(), ConnectorError> {
        let (_, topic) = &self.settings.topics[changes.topic];
        let table = format!("{}.{}", topic.schema, topic.table);
        let kept = self.client.batch_execute(
            "SET CONSTRAINTS ALL IMMEDIATE; SET CONSTRAINTS ALL DEFERRED; RELEASE SAVEPOINT part; SAVEPOINT part",
        );
        kept.await.map_err(|e| explain_write(&e, &table))
    }

    async fn command(&self, text: &str) -> Result<(), ConnectorError> {
        self.client.batch_execute(text).await.map_err(|e| explain(&e, "sifting a round"))
    }

    /// Moves the positions after a round was sifted, and makes it last.
    ///
    /// # Errors
    /// [`ConnectorError`]; the sink must be started again.
    pub async fn finish(&mut self, round: &Round) -> Result<(), ConnectorError> {
        self.advance(&round.delivered).await?;
        self.commit().await
    }

    /// Which of these numbers of quarantine were delivered already.
    ///
    /// # Errors
    /// [`ConnectorError`].
    pub async fn retried(&self, ids: &[i64]) -> Result<Vec<i64>, ConnectorError> {
        let found = self
            .client
            .query(
                "SELECT id FROM gonvel.sink_retried WHERE connector = $1 AND id = ANY ($2)",
                &[&self.settings.connector.0, &ids],
            )
            .await
            .map_err(|e| explain(&e, "looking for records that were tried again"))?;
        Ok(found.iter().map(|row| row.get(0)).collect())
    }

    /// Notes, with what is written, that these numbers of quarantine are delivered. Their commit waits for the target's disk: they leave
    /// quarantine by it.
    ///
    /// # Errors
    /// [`ConnectorError`].
    pub async fn note_retried(&self, ids: &[i64]) -> Result<(), ConnectorError> {
        const NOTE: &str = "INSERT INTO gonvel.sink_retried (connector, id)
             SELECT $1, * FROM unnest($2::bigint[]) ON CONFLICT DO NOTHING";
        self.command("SET LOCAL synchronous_commit = on").await?;
        let noted = self.client.execute(NOTE, &[&self.settings.connector.0, &ids]).await;
        noted.map(|_| ()).map_err(|e| explain(&e, "noting records that were tried again"))
    }

    /// Forgets numbers of quarantine that are settled there.
    ///
    /// # Errors
    /// [`ConnectorError`].
    pub async fn forget_retried(&self, ids: &[i64]) -> Result<(), ConnectorError> {
        self.client
            .execute(
                "DELETE FROM gonvel.sink_retried WHERE connector = $1 AND id = ANY ($2)",
                &[&self.settings.connector.0, &ids],
            )
            .await
            .map(|_| ())
            .map_err(|e| explain(&e, "forgetting records that were tried again"))
    }
}

/// The changes of one record, of which one is that of a number: most records are one change, and all of a record goes or stays.
fn record_of(changes: &TopicChanges, number: usize) -> std::ops::Range<usize> {
    let from = &changes.from;
    let same = |other: usize| from[other] == from[number];
    let first = (0..number).rev().take_while(|other| same(*other)).last().unwrap_or(number);
    let last = (number + 1..from.len()).take_while(|other| same(*other)).last().unwrap_or(number);
    first..last + 1
}
