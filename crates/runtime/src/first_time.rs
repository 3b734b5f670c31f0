//! A sink that delivers a topic for the first time: what becomes of the rows that are in its table.

use std::collections::HashSet;

use gonvel_core::connector::ExistingRows;
use gonvel_core::naming::{TopicId, TopicPartition};
use gonvel_core::ports::systems::Sink;
use gonvel_core::ports::{Level, Topic};

use crate::events::Events;
use crate::failing::Failure;
use crate::reading::Reader;
use crate::shaping::Shared;
use crate::work::Work;

/// What was said of the rows that are there, and how the topics are read that they are compared with.
pub(crate) struct FirstTime {
    pub(crate) existing: ExistingRows,
    /// The place at which each topic is read.
    pub(crate) places: Vec<usize>,
    pub(crate) shaping: Option<Shared>,
    pub(crate) events: Events,
}

impl FirstTime {
    /// The topics that may never have been delivered, if something is to become of the rows that are there.
    pub(crate) fn asked<'k>(&self, topics: &[Topic], known: impl Iterator<Item = &'k TopicPartition>) -> HashSet<TopicId> {
        if self.existing == ExistingRows::Keep {
            return HashSet::new();
        }
        let known: HashSet<TopicId> = known.map(|at| at.topic).collect();
        topics.iter().map(|topic| topic.id).filter(|topic| !known.contains(topic)).collect()
    }

    /// Removes rows from the tables of topics that are new, in the transaction that is open, and ends it.
    pub(crate) async fn remove(
        &self,
        work: &Work<'_>,
        sink: &mut dyn Sink,
        topics: &[Topic],
        unbegun: &HashSet<TopicId>,
    ) -> Result<(), Failure> {
        let removed = match self.existing {
            ExistingRows::Keep => 0,
            ExistingRows::Empty => sink.remove_all(unbegun).await?,
            ExistingRows::Compare => {
                self.note_keys(work, sink, topics, unbegun).await?;
                sink.remove_unknown(unbegun).await?
            }
        };
        sink.begun().await?;
        let names = topics.iter().filter(|topic| unbegun.contains(&topic.id)).map(|topic| topic.name.as_str());
        let facts = [
            ("topics", names.collect::<Vec<_>>().join(", ").into()),
            ("existing_rows", self.existing.word().into()),
            ("removed", removed.into()),
        ];
        work.board.say(Level::Info, "rows that were in the tables before the first delivery were removed", facts);
        Ok(())
    }

    async fn note_keys(
        &self,
        work: &Work<'_>,
        sink: &mut dyn Sink,
        topics: &[Topic],
        unbegun: &HashSet<TopicId>,
    ) -> Result<(), Failure> {
        let read = topics.iter().zip(&self.places).enumerate().filter(|(place, (_, first))| place == *first);
        for (place, (topic, _)) in read.filter(|(_, (topic, _))| unbegun.contains(&topic.id)) {
            for bounds in work.services.log.bounds(topic.id).await? {
                let at = TopicPartition { topic: topic.id, partition: bounds.partition };
                let (log, schemas) = (work.services.log.clone(), work.services.schemas.clone());
                let reader = Reader::of_one(log, schemas, (at, place), (bounds.first.0, bounds.next.0));
                // a record that cannot be read ends it: which row it is about cannot be told
                let mut reader = reader.shaped(self.shaping.clone()).events(&self.events);
                while let Some(round) = reader.next().await? {
                    for changes in &round.round.topics {
                        sink.note_keys(changes).await?;
                    }
                }
            }
        }
        Ok(())
    }
}
