//! Functions of one's own, version after version; a version without a definition says that the function is gone.

use chrono::{DateTime, Utc};
use diesel::sql_types::{Int4, Json, Nullable, Text, Timestamptz};
use diesel_async::{AsyncConnection, RunQueryDsl};
use gonvel_core::own_function::OwnFunction;
use gonvel_core::ports::PortError;

use crate::Database;
use crate::failing::{Stop, failed, stopped};

#[derive(diesel::QueryableByName)]
struct Row {
    #[diesel(sql_type = Int4)]
    version: i32,
    #[diesel(sql_type = Nullable<Json>)]
    definition: Option<serde_json::Value>,
    #[diesel(sql_type = Text)]
    saved_by: String,
    #[diesel(sql_type = Timestamptz)]
    saved_at: DateTime<Utc>,
}

/// A version of a function.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct KeptFunction {
    /// It.
    pub function: OwnFunction,
    /// Counts its changes, from 1.
    pub version: i32,
    /// Who saved it; empty if that is not known.
    pub saved_by: String,
    /// When.
    pub saved_at: DateTime<Utc>,
}

fn kept(row: Row) -> Result<Option<KeptFunction>, PortError> {
    let Some(definition) = row.definition else { return Ok(None) };
    let function = serde_json::from_value(definition)
        .map_err(|e| PortError::Refused(format!("a function that was kept cannot be read: {e}")))?;
    Ok(Some(KeptFunction { function, version: row.version, saved_by: row.saved_by, saved_at: row.saved_at }))
}

impl Database {
    /// The functions in force, by name.
    ///
    /// # Errors
    /// [`PortError::TryAgain`].
    pub async fn kept_functions(&self) -> Result<Vec<KeptFunction>, PortError> {
        let mut connection = self.connection().await?;
        let rows: Vec<Row> = diesel::sql_query(
            "SELECT DISTINCT ON (name) version, definition, saved_by, saved_at FROM functions ORDER BY name, version DESC",
        )
        .load(&mut connection)
        .await
        .map_err(failed("reading functions"))?;
        rows.into_iter().filter_map(|row| kept(row).transpose()).collect()
    }

    /// All versions of a function that it had since it was last gone, the newest first.
    ///
    /// # Errors
    /// [`PortError::NotFound`].
    pub async fn function_versions(&self, name: &str) -> Result<Vec<KeptFunction>, PortError> {
        let mut connection = self.connection().await?;
        let rows: Vec<Row> = diesel::sql_query(
            "SELECT version, definition, saved_by, saved_at FROM functions WHERE name = $1 ORDER BY version DESC",
        )
        .bind::<Text, _>(name)
        .load(&mut connection)
        .await
        .map_err(failed("reading a function"))?;
        let found: Vec<KeptFunction> = rows
            .into_iter()
            .map(kept)
            .take_while(|row| !matches!(row, Ok(None)))
            .filter_map(Result::transpose)
            .collect::<Result<_, _>>()?;
        if found.is_empty() { Err(PortError::NotFound { what: format!("function {name}") }) } else { Ok(found) }
    }

    /// Saves a function's next version, if the one in force is the one it was made from (0 for none); without a definition it is gone.
    ///
    /// # Errors
    /// [`PortError::Changed`] if someone saved it meanwhile.
    pub async fn save_function(
        &self,
        name: &str,
        from: i32,
        function: Option<&OwnFunction>,
        by: &str,
    ) -> Result<i32, PortError> {
        let definition = function.map(serde_json::to_value).transpose();
        let definition = definition.map_err(|e| PortError::Refused(e.to_string()))?;
        let mut connection = self.connection().await?;
        let saved = connection
            .transaction::<i32, Stop, _>(async |c| {
                diesel::sql_query("SELECT pg_advisory_xact_lock(hashtextextended($1, 12))")
                    .bind::<Text, _>(name)
                    .execute(c)
                    .await?;
                let last: Vec<Row> = diesel::sql_query(
                    "SELECT version, definition, saved_by, saved_at FROM functions WHERE name = $1 ORDER BY version DESC LIMIT 1",
                )
                .bind::<Text, _>(name)
                .load(c)
                .await?;
                let (version, there) = match last.as_slice() {
                    [row] => (row.version, if row.definition.is_some() { row.version } else { 0 }),
                    _ => (0, 0),
                };
                if there != from {
                    return Err(Stop::Refused(PortError::Changed { what: format!("the function {name}") }));
                }
                diesel::sql_query("INSERT INTO functions (name, version, definition, saved_by) VALUES ($1, $2, $3, $4)")
                    .bind::<Text, _>(name)
                    .bind::<Int4, _>(version + 1)
                    .bind::<Nullable<Json>, _>(&definition)
                    .bind::<Text, _>(by)
                    .execute(c)
                    .await?;
                Ok(version + 1)
            })
            .await;
        saved.map_err(stopped("saving a function"))
    }
}
