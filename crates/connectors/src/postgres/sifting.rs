//! Finding the few changes of a round that the target refuses: all others are written.

use std::ops::Range;

use bytes::Bytes;
use gonvel_core::connector::TargetRows;
use gonvel_core::fold::Place;
use gonvel_core::ports::systems::{BEHIND, ConnectorError, Held, Refused, Round, TopicChanges};

use super::apply::Statements;
use super::client::{explain, explain_write};
use super::sink::{PgSink, fold_all};

/// What came of trying a part.
enum Attempt {
    Written,
    Refused {
        finding: String,
        /// The change that was refused, if the server told which.
        at: Option<usize>,
    },
}

/// When constraints are looked at that are checked at the commit.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Checks {
    AtTheEnd,
    ByPart,
}

/// Refused changes that have another chance, at most: each is tried alone.
const MOST_AGAIN: usize = 1_000;

/// One going through a round.
struct Pass<'s> {
    sink: &'s PgSink,
    held: Held,
    checks: Checks,
    refused: Vec<Refused>,
}

impl Pass<'_> {
    async fn topic(&mut self, part: usize, changes: &TopicChanges) -> Result<(), ConnectorError> {
        // what is still to be written, the first on top
        let all = 0..changes.changes.len();
        let mut ranges = vec![all];
        while let Some(range) = ranges.pop() {
            if range.is_empty() {
                continue;
            }
            if let Some(behind) = self.held.first_behind(changes, range.clone()) {
                let record = record_of(changes, behind);
                if record.start > range.start {
                    ranges.extend([record.start..range.end, range.start..record.start]);
                } else {
                    self.put_aside(part, changes, &record, BEHIND.to_owned());
                    ranges.push(record.end..range.end);
                }
                continue;
            }
            let Attempt::Refused { finding, at } = self.sink.attempt(changes, range.clone(), self.checks).await? else {
                self.held.written(changes, range);
                continue;
            };
            let first = record_of(changes, range.start);
            if first.end >= range.end {
                self.put_aside(part, changes, &first, finding);
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
        Ok(())
    }

    fn put_aside(&mut self, part: usize, changes: &TopicChanges, record: &Range<usize>, finding: String) {
        if self.sink.settings.writes.keeps_rows() {
            for change in record.clone() {
                let (at, offset) = changes.from[change];
                self.held.note(at, changes.record_key(change), offset);
            }
        }
        self.refused.push(Refused { part, change: record.start, finding });
    }

    /// Tries what was refused again as long as some of it is taken: values that rows exchange are free only once both have moved on. What
    /// a newer change of its row made void is not tried.
    async fn second_chance(&mut self, round: &Round) -> Result<(), ConnectorError> {
        let mut takes = true;
        while takes && self.refused.len() <= MOST_AGAIN {
            takes = false;
            for refused in std::mem::take(&mut self.refused) {
                let changes = &round.topics[refused.part];
                let record = record_of(changes, refused.change);
                let is_void = |change: usize| !self.held.has(changes, change);
                let hindered = self.sink.settings.writes.keeps_rows()
                    && (record.clone().all(is_void) || self.held.first_behind(changes, record.clone()).is_some());
                if hindered {
                    self.refused.push(refused);
                    continue;
                }
                match self.sink.attempt(changes, record.clone(), self.checks).await? {
                    Attempt::Written => {
                        self.held.settled(changes, record.clone());
                        self.held.written(changes, record);
                        takes = true;
                    }
                    Attempt::Refused { .. } => self.refused.push(refused),
                }
            }
        }
        Ok(())
    }
}

impl PgSink {
    /// Writes a round, but for the changes that the target refuses: halves are tried until those stand alone. Everything is
    /// written in order, so keys keep theirs, and what brings a part of a row whose earlier change waits is refused with it. What is
    /// refused has another chance once all else is written: it may need what comes after it. Constraints that are checked at the commit
    /// are looked at when all is written, and one by one only where they do not hold then. Nothing is committed, and the positions are
    /// not moved yet.
    ///
    /// # Errors
    /// [`ConnectorError`], other than of a record; the sink must be started again.
    pub async fn sift(&mut self, round: &Round, held: Held) -> Result<Vec<Refused>, ConnectorError> {
        // a table that was mended since takes what it refused
        self.targets.clear();
        self.statements = Statements::default();
        for changes in &round.topics {
            self.prepare(changes).await?;
        }
        self.open = true;
        self.command("BEGIN; SAVEPOINT all_of_it").await?;
        let refused = self.pass(round, held.clone(), Checks::AtTheEnd).await?;
        match self.client.batch_execute("SET CONSTRAINTS ALL IMMEDIATE").await {
            Ok(()) => return Ok(refused),
            Err(error) => {
                let ConnectorError::BadRecord { .. } = explain_write(&error, "the target") else {
                    return Err(explain(&error, "checking constraints"));
                };
            }
        }
        self.command("ROLLBACK TO SAVEPOINT all_of_it").await?;
        self.pass(round, held, Checks::ByPart).await
    }

    async fn pass(&self, round: &Round, held: Held, checks: Checks) -> Result<Vec<Refused>, ConnectorError> {
        self.command("SAVEPOINT part").await?;
        let mut pass = Pass { sink: self, held, checks, refused: Vec::new() };
        for (part, changes) in round.topics.iter().enumerate() {
            pass.topic(part, changes).await?;
        }
        pass.second_chance(round).await?;
        self.command("RELEASE SAVEPOINT part").await?;
        Ok(pass.refused)
    }

    async fn attempt(&self, changes: &TopicChanges, range: Range<usize>, checks: Checks) -> Result<Attempt, ConnectorError> {
        let part = &changes.changes[range];
        let applied = self.apply_changes(changes, part).await;
        let outcome = match applied {
            Ok(()) => self.keep_part(changes, checks).await,
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
    fn copied(&self, changes: &TopicChanges, part: &[(Place, Bytes)], line: usize) -> Option<usize> {
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
    async fn keep_part(&self, changes: &TopicChanges, checks: Checks) -> Result<(), ConnectorError> {
        let (_, topic) = &self.settings.topics[changes.topic];
        let table = format!("{}.{}", topic.schema, topic.table);
        let kept = match checks {
            Checks::AtTheEnd => "RELEASE SAVEPOINT part; SAVEPOINT part",
            Checks::ByPart => {
                "SET CONSTRAINTS ALL IMMEDIATE; SET CONSTRAINTS ALL DEFERRED; RELEASE SAVEPOINT part; SAVEPOINT part"
            }
        };
        self.client.batch_execute(kept).await.map_err(|e| explain_write(&e, &table))
    }

    async fn command(&self, text: &str) -> Result<(), ConnectorError> {
        self.client.batch_execute(text).await.map_err(|e| explain(&e, "sifting a round"))
    }

    /// Moves the positions after a round was sifted, and makes it last.
    ///
    /// # Errors
    /// [`ConnectorError`]; the sink must be started again.
    pub async fn finish(&mut self, round: &Round) -> Result<(), ConnectorError> {
        self.advance(&round.delivered, round.is_truncate()).await?;
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
fn record_of(changes: &TopicChanges, number: usize) -> Range<usize> {
    let from = &changes.from;
    let same = |other: usize| from[other] == from[number];
    let first = (0..number).rev().take_while(|other| same(*other)).last().unwrap_or(number);
    let last = (number + 1..from.len()).take_while(|other| same(*other)).last().unwrap_or(number);
    first..last + 1
}
