//! Unfinished drafts: connectors that lack too much to be saved as one.

use chrono::{DateTime, Utc};
use diesel::prelude::*;
use diesel_async::{AsyncConnection, RunQueryDsl};
use gonvel_core::ports::PortError;
use uuid::Uuid;

use crate::Database;
use crate::failing::failed;
use crate::schema::drafts;

/// An unfinished draft in a list.
#[derive(Debug, Clone, Queryable, Selectable)]
#[diesel(table_name = drafts)]
pub struct DraftEntry {
    /// Its id.
    pub id: Uuid,
    /// The name that the connector is to have; empty while it has none.
    pub name: String,
    /// The kind of connector.
    pub kind: String,
    /// What it lacks, in a sentence.
    pub lacks: String,
    /// Counts its changes, from 1.
    pub revision: i32,
    /// Who saved it; empty if that is not known.
    pub saved_by: String,
    /// When.
    pub saved_at: DateTime<Utc>,
}

/// An unfinished draft.
#[derive(Debug, Clone, Queryable, Selectable)]
#[diesel(table_name = drafts)]
pub struct UnfinishedDraft {
    /// What a list tells of it.
    #[diesel(embed)]
    pub entry: DraftEntry,
    /// What its builder holds.
    pub work: serde_json::Value,
}

/// What is saved of an unfinished draft.
#[derive(Debug, Clone, Insertable, AsChangeset)]
#[diesel(table_name = drafts)]
pub struct DraftInput {
    /// The name that the connector is to have.
    pub name: String,
    /// The kind of connector.
    pub kind: String,
    /// What it lacks.
    pub lacks: String,
    /// What its builder holds.
    pub work: serde_json::Value,
    /// Who saves it.
    pub saved_by: String,
}

fn missing(id: Uuid) -> PortError {
    PortError::NotFound { what: format!("unfinished draft {id}: it was created or discarded") }
}

impl Database {
    /// All unfinished drafts, the one saved last first.
    ///
    /// # Errors
    /// [`PortError::TryAgain`].
    pub async fn drafts(&self) -> Result<Vec<DraftEntry>, PortError> {
        let mut connection = self.connection().await?;
        drafts::table
            .select(DraftEntry::as_select())
            .order(drafts::saved_at.desc())
            .load(&mut connection)
            .await
            .map_err(failed("listing drafts"))
    }

    /// One unfinished draft.
    ///
    /// # Errors
    /// [`PortError::NotFound`].
    pub async fn find_draft(&self, id: Uuid) -> Result<UnfinishedDraft, PortError> {
        let mut connection = self.connection().await?;
        let found = drafts::table.find(id).select(UnfinishedDraft::as_select()).first(&mut connection).await.optional();
        found.map_err(failed("reading a draft"))?.ok_or_else(|| missing(id))
    }

    /// Saves a new unfinished draft.
    ///
    /// # Errors
    /// [`PortError::TryAgain`].
    pub async fn create_draft(&self, input: &DraftInput) -> Result<UnfinishedDraft, PortError> {
        let mut connection = self.connection().await?;
        let made = connection.transaction(async |c| {
            let made: UnfinishedDraft = diesel::insert_into(drafts::table)
                .values((drafts::id.eq(Uuid::now_v7()), input))
                .returning(UnfinishedDraft::as_returning())
                .get_result(c)
                .await?;
            self.note_made(c, &made.entry.id.to_string()).await?;
            Ok(made)
        });
        made.await.map_err(failed("saving a draft"))
    }

    /// Saves an unfinished draft again, if it is still the revision that it was made from.
    ///
    /// # Errors
    /// [`PortError::NotFound`]; [`PortError::Changed`] if someone saved it meanwhile.
    pub async fn replace_draft(&self, id: Uuid, revision: i32, input: &DraftInput) -> Result<UnfinishedDraft, PortError> {
        let mut connection = self.connection().await?;
        let saved = diesel::update(drafts::table.find(id).filter(drafts::revision.eq(revision)))
            .set((input, drafts::revision.eq(revision + 1), drafts::saved_at.eq(diesel::dsl::now)))
            .returning(UnfinishedDraft::as_returning())
            .get_result(&mut connection)
            .await
            .optional()
            .map_err(failed("saving a draft"))?;
        match saved {
            Some(saved) => Ok(saved),
            None => {
                self.find_draft(id).await?;
                Err(PortError::Changed { what: "the draft".into() })
            }
        }
    }

    /// Removes an unfinished draft.
    ///
    /// # Errors
    /// [`PortError::NotFound`].
    pub async fn discard_draft(&self, id: Uuid) -> Result<(), PortError> {
        let mut connection = self.connection().await?;
        let gone = diesel::delete(drafts::table.find(id)).execute(&mut connection).await;
        if gone.map_err(failed("discarding a draft"))? == 0 { Err(missing(id)) } else { Ok(()) }
    }
}
