//! What lanes do with quarantine whatever they carry: put records in, limit how many, tell of them, take up what is asked for.

use std::time::Duration;

use gonvel_core::bad_records::BadRecords;
use gonvel_core::connector::Failing;
use gonvel_core::failure;
use gonvel_core::naming::TopicPartition;
use gonvel_core::ports::systems::ConnectorError;
use gonvel_core::ports::{AskedRecord, BadRecord, HeldLane, Level, Settled, Step, WaitingKey};
use tokio::time::Instant;

use crate::failing::Failure;
use crate::services::Services;
use crate::status::Board;
use crate::work::Work;

/// Records that are tried again at a time.
pub(super) const AT_A_TIME: i64 = 500;
/// Keys that are read of what waits at a time.
const KEYS_AT_A_TIME: i64 = 10_000;
/// What is held of a waiting record beside its key.
pub(super) const BESIDE: usize = 150;
/// Records put into quarantine that are told one by one in the log; more of a round are counted.
const TOLD: usize = 5;

/// A record that failed again: its number, what was being done, what was found.
pub(super) type Failed = (i64, Step, String);

/// A lane's book of what it cannot handle.
pub(crate) struct Book {
    pub(super) services: Services,
    board: Board,
    pub(super) held: HeldLane,
    version: i32,
    failing: Failing,
    bad: BadRecords,
    began: Instant,
}

impl Book {
    /// A lane's.
    pub(crate) fn of(work: &Work<'_>) -> Self {
        Self {
            services: work.services.clone(),
            board: work.board.clone(),
            held: work.held(),
            version: work.assignment.version,
            failing: work.assignment.connector.definition().failing().clone(),
            bad: BadRecords::default(),
            began: Instant::now(),
        }
    }

    /// Halts the lane when too much is bad: a disk full of quarantine helps nobody.
    pub(super) fn count(&mut self, records: impl Iterator<Item = bool>, first: Option<&BadRecord>) -> Result<(), Failure> {
        let counted = self.bad.count(records, self.began.elapsed(), &self.failing);
        let Err(too_many) = counted else { return Ok(()) };
        let example = first.map(|r| format!("; the first of them: {}", r.finding)).unwrap_or_default();
        Err(ConnectorError::settings(
            Some("failing"),
            format!("{too_many}{example}"),
            "mend what they have in common, then start the connector; it goes on where it stands",
        )
        .into())
    }

    /// Puts records into quarantine. What would be in neither place is lost: this comes before the position.
    pub(super) async fn put(&self, bad: &[BadRecord]) -> Result<(), Failure> {
        let kept = Duration::from_secs(u64::from(self.failing.kept_days) * 86_400);
        Ok(self.services.quarantine.put(self.held, self.version, bad, kept).await?)
    }

    /// The records that are asked to be tried again now, and how long to wait before the next ones, if there may be more.
    pub(super) async fn asked(&self, places: &[TopicPartition]) -> Result<(Vec<AskedRecord>, Option<Duration>), Failure> {
        let mut asked = self.services.quarantine.asked_for(self.held.connector, self.version, places, AT_A_TIME).await?;
        let pace = asked.iter().filter_map(|a| a.pace).min();
        let most = pace.map_or(asked.len(), |pace| usize::try_from(pace.max(1)).unwrap_or(usize::MAX));
        let more = asked.len() > most || i64::try_from(asked.len()).unwrap_or(i64::MAX) >= AT_A_TIME;
        asked.truncate(most);
        Ok((asked, more.then(|| if pace.is_some() { Duration::from_secs(1) } else { Duration::ZERO })))
    }

    /// Notes what became of records that were tried again.
    pub(super) async fn settle(&self, delivered: &[i64], failed: &[Failed]) -> Result<(), Failure> {
        let quarantine = &self.services.quarantine;
        quarantine.settle(self.held, delivered, &Settled::Delivered).await?;
        for (id, step, finding) in failed {
            let cause = failure::cause(step.word(), finding);
            quarantine.settle(self.held, &[*id], &Settled::Failed { step: *step, finding: finding.clone(), cause }).await?;
        }
        let facts = [("delivered", delivered.len().into()), ("failed again", failed.len().into())];
        let level = if failed.is_empty() { Level::Info } else { Level::Warning };
        self.board.say(level, "records of the quarantine were tried again", facts);
        Ok(())
    }

    /// Goes through the keys of all records of partitions that wait, some at a time.
    pub(super) async fn waiting_keys(
        &self,
        places: &[TopicPartition],
        mut take: impl FnMut(WaitingKey) -> Result<(), Failure>,
    ) -> Result<(), Failure> {
        let mut after = 0;
        loop {
            let some = self.services.quarantine.waiting_keys(self.held.connector, places, after, KEYS_AT_A_TIME).await?;
            let Some(last) = some.last() else { return Ok(()) };
            after = last.id;
            some.into_iter().try_for_each(&mut take)?;
        }
    }

    /// Refuses more in memory of what waits than the lane has room for.
    pub(super) fn fits(&self, bytes: usize, waiting: usize) -> Result<(), Failure> {
        let most = self.services.runner.lane_bytes;
        if bytes <= most {
            return Ok(());
        }
        Err(ConnectorError::settings(
            Some("failing"),
            format!(
                "so many records wait in quarantine that their keys do not fit in the memory that a lane may take for them: {waiting} take {} MiB of {}",
                bytes.div_ceil(1 << 20),
                most >> 20
            ),
            "discard those that are not wanted any more, or start the runners with more (--lane-memory, in MiB)",
        )
        .into())
    }

    pub(super) fn say<const N: usize>(&self, level: Level, text: &str, facts: [(&str, serde_json::Value); N]) {
        self.board.say(level, text, facts);
    }

    pub(super) fn tell(&self, bad: &[BadRecord]) {
        for record in bad.iter().take(TOLD) {
            let facts = [
                ("topic", record.topic.as_str().into()),
                ("partition", record.at.partition.0.into()),
                ("offset", record.offset.0.into()),
            ];
            self.board.say(Level::Warning, &format!("a record went into quarantine: {}", record.finding), facts);
        }
        if bad.len() > TOLD {
            let says = format!("{} more records went into quarantine", bad.len() - TOLD);
            self.board.say(Level::Warning, &says, []);
        }
    }
}
