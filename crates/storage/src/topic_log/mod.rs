//! The topic log on PostgreSQL: blocks of records, one row each.

pub(crate) mod appender;
pub(crate) mod cold;
pub(crate) mod ends;
mod identity;
pub mod keeper;
mod landing;
mod plain;
mod reading;
mod recent;
pub mod topics;

use std::time::Duration;

use async_trait::async_trait;
use diesel::result::Error;
use diesel::sql_types::Uuid as SqlUuid;
use diesel_async::{AsyncConnection, RunQueryDsl};
use gonvel_core::naming::{ConnectorId, Offset, TopicId, TopicName, TopicPartition};
use gonvel_core::ports::{
    Answered, AppendBatch, Identity, Landed, PartitionBounds, PortError, StoredBlock, Topic, TopicLog, Watch,
};
use gonvel_core::topic_settings::TopicSettings;
use uuid::Uuid;

use crate::Database;
use crate::failing::failed;

#[async_trait]
impl TopicLog for Database {
    async fn create_topic(&self, name: &TopicName, partitions: i32, settings: &TopicSettings) -> Result<Topic, PortError> {
        topics::create(self, name, partitions, settings).await
    }

    async fn topic(&self, name: &TopicName) -> Result<Topic, PortError> {
        topics::find(self, name).await
    }

    async fn topics(&self) -> Result<Vec<Topic>, PortError> {
        topics::all(self).await
    }

    async fn change_topic(&self, topic: TopicId, revision: i32, settings: &TopicSettings) -> Result<Topic, PortError> {
        let changed = topics::change(self, topic, revision, settings).await?;
        self.settings_changed.send_modify(|changes| *changes += 1);
        Ok(changed)
    }

    async fn add_partitions(&self, topic: TopicId, partitions: i32, writers: &[ConnectorId]) -> Result<Topic, PortError> {
        topics::add_partitions(self, topic, partitions, writers).await
    }

    async fn delete_topic(&self, topic: TopicId) -> Result<(), PortError> {
        topics::delete(self, topic).await
    }

    async fn begin_session(&self) -> Result<Uuid, PortError> {
        let session = Uuid::now_v7();
        let mut connection = self.connection().await?;
        let begun = connection.transaction::<(), Error, _>(async |c| {
            diesel::sql_query("INSERT INTO producer_sessions (session) VALUES ($1)")
                .bind::<SqlUuid, _>(session)
                .execute(c)
                .await?;
            self.note_made(c, &session.to_string()).await
        });
        begun.await.map_err(failed("beginning a session"))?;
        Ok(session)
    }

    async fn append(&self, batch: AppendBatch) -> Result<Vec<Landed>, PortError> {
        self.appender.append(batch).await
    }

    async fn answered(&self, identity: &Identity) -> Result<Option<Answered>, PortError> {
        identity::answered(&mut *self.connection().await?, identity).await
    }

    async fn scatter(&self, topic: TopicId) -> Result<(), PortError> {
        topics::scatter(self, topic).await
    }

    async fn read(&self, at: TopicPartition, from: Offset, max_bytes: i64) -> Result<Vec<StoredBlock>, PortError> {
        reading::read(self, at, from, max_bytes).await
    }

    async fn read_back(&self, at: TopicPartition, last: Offset) -> Result<Option<StoredBlock>, PortError> {
        reading::read_back(self, at, last).await
    }

    async fn nothing_from(&self, at: TopicPartition, from: Offset) -> Result<Option<Offset>, PortError> {
        reading::nothing_from(self, at, from).await
    }

    fn recent(&self, at: TopicPartition, from: Offset, max_bytes: i64) -> Option<Vec<StoredBlock>> {
        // what was appended on an earlier ground may not be in the log any more
        self.ends.recent.begin(self.ground.now());
        self.ends.recent.from(at, from, max_bytes)
    }

    fn ground(&self) -> u64 {
        self.ground.now()
    }

    fn watch(&self, places: &[TopicPartition]) -> Watch {
        Box::new(self.ends.watch(places.to_vec()))
    }

    fn may_have(&self, after: &[(TopicPartition, Offset)]) -> Vec<bool> {
        self.ends.may_have(after)
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
