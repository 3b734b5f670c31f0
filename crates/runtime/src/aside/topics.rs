//! Records that cannot be carried into other topics, put aside and tried again.

use std::collections::HashMap;
use std::time::Duration;

use bytes::Bytes;
use gonvel_core::change::ChangeKind;
use gonvel_core::naming::TopicPartition;
use gonvel_core::ports::systems::{BEHIND, Held, Round, TopicChanges};
use gonvel_core::ports::{BadRecord, Step};

use super::book::Failed;
use super::{Aside, in_order};
use crate::failing::Failure;
use crate::reading::{Beside, Place};

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
    pub(crate) async fn take(&mut self, round: &mut Round, beside: Beside) -> Result<Taken, Failure> {
        let Beside { mut bad, left_out } = beside;
        self.correct(&mut round.delivered);
        let held = self.held(&round.topics, &bad, &[]);
        let behind = without_behind(&mut round.topics, &held);
        if !behind.is_empty() {
            // they were counted when they were read
            for (_, (at, _), kind) in &behind {
                self.not_delivered(&mut round.delivered, *at, *kind);
            }
            let behind = behind.into_iter().map(|(topic, place, _)| (topic, place, BEHIND.to_owned()));
            bad.extend(self.unwritten(behind.collect()).await?);
            bad.sort_by_key(|record| (record.at, record.offset));
        }
        if bad.is_empty() {
            let good = round.topics.iter().map(|t| t.changes.len()).sum();
            self.book.count(std::iter::repeat_n(false, good), None)?;
        } else {
            self.book.count(in_order(round, &bad).into_iter(), bad.first())?;
            self.put(&bad).await?;
        }
        let overtaken = self.overtaken(&round.topics, &left_out, &[]);
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
        self.learn().await?;
        let (mut topics, mut failed) = self.read_again(&asked).await?;
        let tried: Vec<i64> = asked.iter().map(|a| a.id).filter(|id| !failed.iter().any(|(f, ..)| f == id)).collect();
        let held = self.held(&topics, &[], &tried);
        let behind = without_behind(&mut topics, &held);
        let ids: HashMap<Place, i64> = asked.iter().map(|a| ((a.at, a.offset.0), a.id)).collect();
        failed.extend(behind.iter().filter_map(|(_, place, _)| Some((*ids.get(place)?, Step::Write, BEHIND.to_owned()))));
        let mut overtaken = self.overtaken(&topics, &[], &[]);
        let delivered: Vec<i64> = asked.iter().map(|a| a.id).filter(|id| !failed.iter().any(|(f, ..)| f == id)).collect();
        // what goes on with them is delivered, and not void
        overtaken.retain(|(id, _)| !delivered.contains(id));
        self.supersede(&overtaken).await?;
        Ok((Some(Again { topics, delivered, failed }), wait))
    }

    /// Once they were appended.
    pub(crate) async fn done(&mut self, again: &Again) -> Result<(), Failure> {
        self.settle(&again.delivered, &again.failed).await
    }
}

/// Takes out of changes those that go behind what waits: each with its topic's place and its kind.
fn without_behind(topics: &mut [TopicChanges], held: &Held) -> Vec<(usize, Place, ChangeKind)> {
    let mut out = Vec::new();
    for changes in topics {
        let behind = held.all_behind(changes);
        if behind.is_empty() {
            continue;
        }
        let mut which = vec![true; changes.changes.len()];
        for change in behind {
            which[change] = false;
            out.push((changes.topic, changes.from[change], changes.kind(change)));
        }
        changes.keep(&which);
    }
    out
}
