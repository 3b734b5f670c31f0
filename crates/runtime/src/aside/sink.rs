//! Records that a sink cannot handle, put aside and tried again.

use std::collections::BTreeMap;
use std::time::Duration;

use gonvel_core::connector::{Deletes, Writes};
use gonvel_core::naming::TopicPartition;
use gonvel_core::ports::Step;
use gonvel_core::ports::systems::{ConnectorError, Delivered, Held, Round, RowBefore};

use super::{Aside, Keeps, in_order};
use crate::failing::Failure;
use crate::reading::Beside;
use crate::target::Target;

impl From<Writes> for Keeps {
    fn from(writes: Writes) -> Self {
        Self { rows: writes.keeps_rows(), emptied: writes.deletes != Deletes::Ignored, itself: false }
    }
}

impl Aside {
    /// Delivers a round: what was put aside while it was read and what the target refuses goes into quarantine, all else into
    /// the target, with the position.
    pub(crate) async fn deliver(&mut self, target: &mut Target, round: &mut Round, beside: Beside) -> Result<(), Failure> {
        let Beside { bad, left_out } = beside;
        self.correct(&mut round.delivered);
        let held = self.held(&round.topics, &bad, &[]);
        if bad.is_empty() && !goes_behind(round, &held) {
            let overtaken = self.overtaken(&round.topics, &left_out, &[]);
            let mut written = target.write(round).await.map_err(Failure::from);
            if is_bad(&written) {
                target.roll_back().await?;
            } else {
                written?;
                self.supersede(&overtaken).await?;
                written = target.commit(round).await;
            }
            if !is_bad(&written) {
                written?;
                self.forget(&overtaken);
                // nothing is bad: whatever row there was has ended
                let good = round.topics.iter().map(|t| t.changes.len()).sum();
                return self.book.count(std::iter::repeat_n(false, good), None);
            }
        }
        let refused = target.sift(round, held).await?;
        let described = refused.iter().map(|r| {
            let changes = &round.topics[r.part];
            (changes.topic, changes.from[r.change], r.finding.clone())
        });
        let mut all = self.unwritten(described.collect()).await?;
        all.extend(bad);
        all.sort_by_key(|record| (record.at, record.offset));
        self.book.count(in_order(round, &all).into_iter(), all.first())?;
        self.put(&all).await?;
        let overtaken = self.overtaken(&round.topics, &left_out, &refused);
        self.supersede(&overtaken).await?;
        for refused in &refused {
            let changes = &round.topics[refused.part];
            self.not_delivered(&mut round.delivered, changes.from[refused.change].0, changes.kind(refused.change));
        }
        target.finish(round).await?;
        self.forget(&overtaken);
        self.book.tell(&all);
        Ok(())
    }

    /// Before a truncate that other lanes have to come to as well: what waits of its topic is void. Said before this lane says
    /// that it has come, so that none of it can be tried after the table was emptied.
    pub(crate) async fn before_truncate(&mut self, round: &mut Round) -> Result<(), Failure> {
        self.correct(&mut round.delivered);
        let overtaken = self.overtaken(&round.topics, &[], &[]);
        self.supersede(&overtaken).await?;
        self.forget(&overtaken);
        Ok(())
    }

    /// Tries records again that are asked for; gives how long to wait before the next ones, if there may be more.
    ///
    /// What waits of their rows from before them is void by them: it could only bring back what was. What brings a part of its row waits
    /// on as long as something from before it does.
    pub(crate) async fn retry(
        &mut self,
        target: &mut Target,
        delivered: &BTreeMap<TopicPartition, Delivered>,
    ) -> Result<Option<Duration>, Failure> {
        let (mut asked, wait) = self.book.asked(&self.places()).await?;
        if asked.is_empty() {
            return Ok(None);
        }
        // some may have been discarded meanwhile, and keep nothing back any more
        self.learn().await?;
        // what was delivered before a crash is not delivered twice
        let ids: Vec<i64> = asked.iter().map(|a| a.id).collect();
        let before = target.retried(&ids).await?;
        asked.retain(|a| !before.contains(&a.id));
        let (mut topics, mut failed) = self.read_again(&asked).await?;
        // what a part belongs to may have been discarded
        for changes in &mut topics {
            changes.row_before = changes.row_before.max(RowBefore::MayBeMissing);
        }
        let mut touched: Vec<TopicPartition> = asked.iter().map(|a| a.at).collect();
        touched.sort_unstable();
        touched.dedup();
        // the positions are written as they are: only the holder of the lease can do so
        let positions = touched.iter().filter_map(|at| Some((*at, *delivered.get(at)?)));
        let round = Round { topics, delivered: positions.collect(), more: false };
        let tried: Vec<i64> = asked.iter().map(|a| a.id).filter(|id| !failed.iter().any(|(f, ..)| f == id)).collect();
        let held = self.held(&round.topics, &[], &[tried, before.clone()].concat());
        let refused = target.sift(&round, held).await?;
        let mut overtaken = self.overtaken(&round.topics, &[], &refused);
        for refused in refused {
            let place = round.topics[refused.part].from[refused.change];
            if let Some(asked) = asked.iter().find(|a| (a.at, a.offset.0) == place) {
                failed.push((asked.id, Step::Write, refused.finding));
            }
        }
        let done: Vec<i64> = asked.iter().map(|a| a.id).filter(|id| !failed.iter().any(|(f, ..)| f == id)).collect();
        // what goes on with them is delivered, and not void
        overtaken.retain(|(id, _)| !done.contains(id));
        self.supersede(&overtaken).await?;
        target.note_retried(&done).await?;
        target.finish(&round).await?;
        let settled: Vec<i64> = done.iter().chain(&before).copied().collect();
        self.settle(&settled, &failed).await?;
        target.forget_retried(&settled).await?;
        Ok(wait)
    }
}

/// Whether a round brings a part of a row that goes behind what waits.
fn goes_behind(round: &Round, held: &Held) -> bool {
    round.topics.iter().any(|changes| held.first_behind(changes, 0..changes.changes.len()).is_some())
}

/// Whether a record was refused.
fn is_bad(outcome: &Result<(), Failure>) -> bool {
    matches!(outcome, Err(Failure::Connector(ConnectorError::BadRecord { .. })))
}
