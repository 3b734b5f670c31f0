//! Records that cannot be carried into other topics, put aside and tried again.

use std::collections::HashMap;
use std::time::Duration;

use bytes::Bytes;
use gonvel_connectors::postgres::sifting::{BEHIND, Held};
use gonvel_connectors::postgres::sink::{Delivered, Round, TopicChanges};
use gonvel_core::change::{ChangeKind, KindCounts};
use gonvel_core::failure;
use gonvel_core::naming::{Offset, TopicPartition};
use gonvel_core::ports::{BadRecord, Step};

use super::book::Failed;
use super::{Aside, in_order};
use crate::fetching::records_at;
use crate::lane::Failure;
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
            bad.extend(self.behind(behind, &mut round.delivered).await?);
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
        overtaken.retain(|(id, _)| !tried.contains(id));
        self.supersede(&overtaken).await?;
        let delivered = asked.iter().map(|a| a.id).filter(|id| !failed.iter().any(|(f, ..)| f == id)).collect();
        Ok((Some(Again { topics, delivered, failed }), wait))
    }

    /// Changes that go behind what waits, with their records; they were counted when they were read.
    async fn behind(
        &mut self,
        behind: Vec<(usize, Place, ChangeKind)>,
        delivered: &mut [(TopicPartition, Delivered)],
    ) -> Result<Vec<BadRecord>, Failure> {
        let places: Vec<Place> = behind.iter().map(|(_, place, _)| *place).collect();
        let records = records_at(&*self.book.services.log, &places).await?;
        let mut bad = Vec::with_capacity(behind.len());
        for ((topic, (at, offset), kind), record) in behind.into_iter().zip(records) {
            let mut one = KindCounts::default();
            one.add(kind);
            let before = self.refused.entry(at).or_default();
            *before = before.with(one);
            if let Some((_, delivered)) = delivered.iter_mut().find(|(place, _)| *place == at) {
                delivered.counts = delivered.counts.without(one);
            }
            let (step, finding) = (Step::Write, BEHIND.to_owned());
            let cause = failure::cause(step.word(), &finding);
            bad.push(BadRecord {
                at,
                topic: self.topics[topic].clone(),
                offset: Offset(offset),
                record,
                step,
                finding,
                cause,
            });
        }
        Ok(bad)
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
