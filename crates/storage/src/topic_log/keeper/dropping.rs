//! Removing what no one can reach any more: blocks of deleted topics, forgotten files, old sessions and keys.

use diesel::prelude::*;
use diesel::sql_types::{Int8, Text};
use diesel_async::RunQueryDsl;
use gonvel_core::ports::PortError;

use super::{Failures, Keeper};
use crate::failing::failed;

/// Blocks that go in one statement.
const AT_ONCE: usize = 500;

#[derive(QueryableByName)]
struct Deleted {
    #[diesel(sql_type = Int8)]
    topic_id: i64,
}

#[derive(QueryableByName)]
struct File {
    #[diesel(sql_type = Text)]
    path: String,
}

impl Keeper {
    pub(super) async fn drop_deleted(&mut self) -> Result<(), PortError> {
        let deleted: Vec<Deleted> = {
            let mut connection = self.database.connection().await?;
            diesel::sql_query("SELECT topic_id FROM deleted_topics ORDER BY deleted_at")
                .load(&mut connection)
                .await
                .map_err(failed("looking for deleted topics"))?
        };
        let mut failures = Failures::default();
        for Deleted { topic_id } in deleted {
            failures.take(self.drop_topic(topic_id).await);
        }
        failures.take(self.drop_files().await);
        self.said.drops_waiting = self
            .count("SELECT (SELECT count(*) FROM deleted_topics) + (SELECT count(*) FROM cold_files WHERE state = 'dropping') AS count")
            .await?;
        failures.into_result()
    }

    async fn drop_topic(&mut self, topic: i64) -> Result<(), PortError> {
        loop {
            let mut connection = self.database.connection().await?;
            let gone = diesel::sql_query(format!(
                "DELETE FROM blocks WHERE (topic_id, partition, first_offset) IN \
                 (SELECT topic_id, partition, first_offset FROM blocks WHERE topic_id = $1 LIMIT {AT_ONCE})"
            ))
            .bind::<Int8, _>(topic)
            .execute(&mut connection)
            .await
            .map_err(failed("removing blocks of a deleted topic"))?;
            self.said.dropped += i64::try_from(gone).unwrap_or(0);
            if gone < AT_ONCE {
                break;
            }
        }
        let mut connection = self.database.connection().await?;
        for statement in [
            "UPDATE cold_files SET state = 'dropping' WHERE topic_id = $1 AND state = 'there'",
            "DELETE FROM deleted_topics WHERE topic_id = $1",
        ] {
            diesel::sql_query(statement)
                .bind::<Int8, _>(topic)
                .execute(&mut connection)
                .await
                .map_err(failed("removing a deleted topic"))?;
        }
        Ok(())
    }

    /// Files that were forgotten, and those a crash left half written.
    async fn drop_files(&mut self) -> Result<(), PortError> {
        let files: Vec<File> = {
            let mut connection = self.database.connection().await?;
            // who wrote one so long ago finds out that it is given up, however long it slept: its blocks are where they were
            diesel::sql_query(
                "UPDATE cold_files SET state = 'dropping' WHERE state = 'writing' AND moved_at < now() - interval '10 minutes'",
            )
            .execute(&mut connection)
            .await
            .map_err(failed("giving up files"))?;
            diesel::sql_query("SELECT path FROM cold_files WHERE state = 'dropping'")
                .load(&mut connection)
                .await
                .map_err(failed("looking for files to remove"))?
        };
        let mut failures = Failures::default();
        for file in files {
            let dropped = failures.take(self.drop_file(&file.path).await);
            self.said.dropped += i64::from(dropped.is_some());
        }
        failures.into_result()
    }

    async fn drop_file(&self, path: &str) -> Result<(), PortError> {
        self.database.cold.remove(path).await?;
        let mut connection = self.database.connection().await?;
        diesel::sql_query("DELETE FROM cold_files WHERE path = $1 AND state = 'dropping'")
            .bind::<Text, _>(path)
            .execute(&mut connection)
            .await
            .map_err(failed("removing a file"))?;
        Ok(())
    }

    pub(super) async fn drop_old_identities(&self) -> Result<(), PortError> {
        let mut connection = self.database.connection().await?;
        for statement in [
            "DELETE FROM idempotency_keys WHERE at < now() - interval '1 day'",
            "DELETE FROM producer_sessions WHERE last_at < now() - interval '7 days'",
            "DELETE FROM producers WHERE greatest(first_at, last_append, last_refused) < now() - interval '90 days'",
        ] {
            diesel::sql_query(statement).execute(&mut connection).await.map_err(failed("removing old sessions and keys"))?;
        }
        Ok(())
    }
}
