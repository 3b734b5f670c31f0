//! Whether the log still has what a reader goes on from.

use std::sync::PoisonError;

use gonvel_core::change::KindCounts;
use gonvel_core::ports::systems::ConnectorError;
use gonvel_core::ports::{OTHER_GROUND, PortError};

use super::missed::{Missed, PassedOver};
use super::{Cursor, Reader};
use crate::failing::Failure;

impl Reader {
    /// The same, with records that were forgotten passed over, and told here.
    pub(crate) fn passing_over(mut self, told: Option<PassedOver>) -> Self {
        self.passes_over = told;
        self
    }

    /// The same for what is delivered, from positions that were found on a ground of the log's: records that were forgotten are not
    /// passed over.
    pub(crate) fn delivering(mut self, ground: u64) -> Self {
        (self.ground, self.delivers) = (ground, true);
        self
    }

    /// Refuses to go on where the log may have given offsets out again: the lane is to look anew where it stands.
    pub(super) fn same_ground(&self) -> Result<(), PortError> {
        if self.log.ground() == self.ground {
            return Ok(());
        }
        Err(PortError::TryAgain { during: "reading on", cause: OTHER_GROUND.into() })
    }

    /// Refuses to go on where records were forgotten that were to be delivered; gives the offset of the oldest that is kept.
    pub(super) async fn forgotten(&self, place: usize) -> Result<i64, Failure> {
        let Cursor { at, delivered, .. } = &self.cursors[place];
        let bounds = self.log.bounds(at.topic).await?;
        let kept_from = bounds.iter().find(|b| b.partition == at.partition).map_or(0, |b| b.first.0);
        // one that never delivered anything begins with the oldest record there is
        let begins = delivered.next == 0 && delivered.last.is_none() && delivered.counts == KindCounts::default();
        if !self.delivers || kept_from <= delivered.next || begins {
            return Ok(kept_from);
        }
        if let Some(told) = &self.passes_over {
            let missed = Missed { at: *at, from: delivered.next, to: kept_from };
            told.lock().unwrap_or_else(PoisonError::into_inner).push(missed);
            return Ok(kept_from);
        }
        let topics = self.log.topics().await?;
        let name = topics.iter().find(|t| t.id == at.topic).map_or_else(String::new, |t| t.name.to_string());
        Err(ConnectorError::settings(
            None,
            format!(
                "{} records of partition {} of {name} were forgotten before they were delivered (offsets {} to {})",
                kept_from - delivered.next,
                at.partition.0,
                delivered.next,
                kept_from - 1
            ),
            "pause this connector and move it to the oldest kept record: that accepts the loss. If the rows are still in the source, load their \
             table again. Let the topic forget later, so that it does not happen again",
        )
        .into())
    }
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used, reason = "what fails here fails the test")]

    use std::sync::Arc;

    use gonvel_core::block::pack;
    use gonvel_core::naming::{PartitionId, TopicName, TopicPartition};
    use gonvel_core::ports::systems::Delivered;
    use gonvel_core::ports::{AppendBatch, PartitionBlocks, TopicLog};
    use gonvel_core::record::Record;
    use gonvel_core::topic_settings::TopicSettings;
    use gonvel_stand_ins::test_cluster::TestCluster;
    use gonvel_storage::Database;
    use gonvel_storage::sealing::Sealer;

    use super::*;

    /// Who only looks for rows passes over what was forgotten meanwhile; who delivers them does not, unless it never began.
    #[tokio::test]
    async fn what_was_forgotten_is_passed_over_only_by_who_delivers_nothing() {
        let cluster = TestCluster::start(&["gonvel"]).await;
        let database = Arc::new(Database::open(&cluster.url("gonvel"), Sealer::new(&[7; 32])).await.unwrap());
        let name = TopicName::parse("bins").unwrap();
        let topic = database.create_topic(&name, 1, &TopicSettings::default()).await.unwrap();
        let at = TopicPartition { topic: topic.id, partition: PartitionId(0) };
        for _ in 0..2 {
            let parts = vec![PartitionBlocks { to: at, blocks: pack(&vec![Record::default(); 10]) }];
            database.append(AppendBatch { parts, ..AppendBatch::default() }).await.unwrap();
        }
        let own = cluster.connect("gonvel").await.unwrap();
        own.batch_execute("DELETE FROM blocks WHERE first_offset = 0; UPDATE topic_partitions SET first_offset = 10")
            .await
            .unwrap();
        let reader = |next| {
            let starts = [(at, 0, Delivered { next, ..Delivered::default() })];
            Reader::new(database.clone(), database.clone(), starts).aside(vec!["bins".into()])
        };
        assert_eq!(reader(3).forgotten(0).await.unwrap(), 10);
        let refused = reader(3).delivering(0).forgotten(0).await.unwrap_err().message();
        assert!(refused.contains("7 records of partition 0 of bins") && refused.contains("offsets 3 to 9"), "{refused}");
        for next in [0, 10, 15] {
            assert_eq!(reader(next).delivering(0).forgotten(0).await.unwrap(), 10, "{next}");
        }
    }
}
