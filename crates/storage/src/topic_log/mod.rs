//! The topic log on PostgreSQL: blocks of records, one row each.

pub(crate) mod appender;
pub(crate) mod ends;
mod reading;
mod topics;

use std::time::Duration;

use async_trait::async_trait;
use gonvel_core::naming::{Offset, TopicId, TopicName, TopicPartition};
use gonvel_core::ports::{AppendBatch, Landed, PartitionBounds, PortError, StoredBlock, Topic, TopicLog};

use crate::Database;

#[async_trait]
impl TopicLog for Database {
    async fn create_topic(&self, name: &TopicName, partitions: i32) -> Result<Topic, PortError> {
        topics::create(self, name, partitions).await
    }

    async fn topic(&self, name: &TopicName) -> Result<Topic, PortError> {
        topics::find(self, name).await
    }

    async fn topics(&self) -> Result<Vec<Topic>, PortError> {
        topics::all(self).await
    }

    async fn append(&self, batch: AppendBatch) -> Result<Vec<Landed>, PortError> {
        self.appender.append(batch).await
    }

    async fn read(&self, at: TopicPartition, from: Offset, max_bytes: i64) -> Result<Vec<StoredBlock>, PortError> {
        reading::read(self, at, from, max_bytes).await
    }

    async fn bounds(&self, topic: TopicId) -> Result<Vec<PartitionBounds>, PortError> {
        topics::bounds(self, topic).await
    }

    async fn block_at_time(&self, at: TopicPartition, time_us: i64) -> Result<Offset, PortError> {
        reading::block_at_time(self, at, time_us).await
    }

    async fn wait_for(&self, after: &[(TopicPartition, Offset)], timeout: Duration) -> Result<(), PortError> {
        self.ends.wait_for(after, timeout).await;
        Ok(())
    }
}
