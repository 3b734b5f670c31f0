//! Records that cannot be carried into other topics, put aside and tried again.

use std::time::Duration;

use bytes::Bytes;
use gonvel_connectors::postgres::sink::{Round, TopicChanges};
use gonvel_core::naming::TopicPartition;
use gonvel_core::ports::BadRecord;

use super::book::Failed;
use super::{Aside, in_order};
use crate::lane::Failure;
use crate::reading::Beside;

/// What is left to be done once a round was appended.
pub(crate) struct Taken {
    overtaken: Vec<(i64, (TopicPartition, Bytes))>,
    bad: Vec<BadRecord>,
}

/// Records that are tried again.
pub(crate) struct Again {
    /// As what they are now shaped to.
    pub(crate) topics: Vec<TopicChanges>,
    /// The numbers of those that go on.
    pub(crate) delivered: Vec<i64>,
    failed: Vec<Failed>,
}

impl Aside {
    /// Before a round is appended: what is bad of it goes into quarantine, and what it overtakes is void.
    pub(crate) async fn take(&mut self, round: &Round, beside: Beside) -> Result<Taken, Failure> {
        let Beside { bad, left_out } = beside;
        if bad.is_empty() {
            let good = round.topics.iter().map(|t| t.changes.len()).sum();
            self.book.count(std::iter::repeat_n(false, good), None)?;
        } else {
            self.book.count(in_order(round, &bad).into_iter(), bad.first())?;
            self.put(&bad).await?;
        }
        let overtaken = self.overtaken(round, &left_out, &[]);
        self.supersede(&overtaken).await?;
        Ok(Taken { overtaken, bad })
    }

    /// Once it was.
    pub(crate) fn taken(&mut self, taken: &Taken) {
        self.forget(&taken.overtaken);
        self.book.tell(&taken.bad);
    }

    /// The records that are asked to be tried again, and how long to wait before the next ones, if there may be more.
    pub(crate) async fn again(&mut self) -> Result<(Option<Again>, Option<Duration>), Failure> {
        let (asked, wait) = self.book.asked(&self.places()).await?;
        if asked.is_empty() {
            return Ok((None, wait));
        }
        let (topics, failed) = self.read_again(&asked).await?;
        let delivered = asked.iter().map(|a| a.id).filter(|id| !failed.iter().any(|(f, ..)| f == id)).collect();
        Ok((Some(Again { topics, delivered, failed }), wait))
    }

    /// Once they were appended.
    pub(crate) async fn done(&mut self, again: &Again) -> Result<(), Failure> {
        self.settle(&again.delivered, &again.failed).await
    }
}
