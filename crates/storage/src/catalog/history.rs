//! What was done with connectors, and what their lanes said.

use chrono::{DateTime, Utc};
use diesel::prelude::*;
use diesel::result::Error;
use diesel::sql_types::{Array, Int4, Int8, Jsonb, Nullable, Text, Timestamptz, Uuid as SqlUuid};
use diesel_async::{AsyncConnection, AsyncPgConnection, RunQueryDsl};
use gonvel_core::naming::ConnectorId;
use gonvel_core::ports::{Deed, HeldLane, Line, PortError};
use uuid::Uuid;

use crate::Database;
use crate::failing::failed;
use crate::schema::connectors;

/// Lines that are kept of each connector; the keeper removes older ones.
pub(crate) const KEPT_LINES: i64 = 20_000;

/// Something that was done with a connector, as it is kept.
#[derive(Debug, Clone, QueryableByName)]
pub struct Done {
    /// Its number; later ones are greater.
    #[diesel(sql_type = Int8)]
    pub number: i64,
    /// When.
    #[diesel(sql_type = Timestamptz)]
    pub at: DateTime<Utc>,
    /// Who; empty if it is not known.
    #[diesel(sql_type = Text)]
    pub who: String,
    /// What, in a word or two.
    #[diesel(sql_type = Text)]
    pub what: String,
    /// The version of the connector's configuration then.
    #[diesel(sql_type = Int4)]
    pub version: i32,
    /// What else is to be said.
    #[diesel(sql_type = Nullable<Text>)]
    pub detail: Option<String>,
}

/// A line of a connector's log, as it is kept.
#[derive(Debug, Clone, QueryableByName)]
pub struct KeptLine {
    /// Its number; later ones are greater.
    #[diesel(sql_type = Int8)]
    pub number: i64,
    /// The lane that said it.
    #[diesel(sql_type = Int4)]
    pub lane: i32,
    /// The runner that carried it.
    #[diesel(sql_type = Text)]
    pub runner: String,
    /// When.
    #[diesel(sql_type = Timestamptz)]
    pub at: DateTime<Utc>,
    /// `info`, `warning` or `error`.
    #[diesel(sql_type = Text)]
    pub level: String,
    /// What happened.
    #[diesel(sql_type = Text)]
    pub says: String,
    /// What it is about, by name.
    #[diesel(sql_type = Jsonb)]
    pub facts: serde_json::Value,
}

/// Which lines are looked for.
#[derive(Debug, Clone, Default)]
pub struct LineFilter {
    /// Of this lane.
    pub lane: Option<i32>,
    /// Of these levels; all if none is given.
    pub levels: Vec<String>,
    /// With this text in what they say or are about, whatever the case.
    pub text: Option<String>,
    /// Not after this time.
    pub until: Option<DateTime<Utc>>,
    /// With a greater number.
    pub after: Option<i64>,
    /// With a smaller number.
    pub before: Option<i64>,
    /// The oldest first.
    pub oldest: bool,
}

pub(super) async fn note_on(connection: &mut AsyncPgConnection, deed: Deed<'_>) -> QueryResult<()> {
    diesel::sql_query(
        "INSERT INTO connector_history (connector_id, connector, who, what, version, detail) \
         SELECT id, name, $2, $3, version, $4 FROM connectors WHERE id = $1",
    )
    .bind::<SqlUuid, _>(deed.connector.0)
    .bind::<Text, _>(deed.who)
    .bind::<Text, _>(deed.what)
    .bind::<Nullable<Text>, _>(deed.detail)
    .execute(connection)
    .await
    .map(|_| ())
}

pub(super) async fn note(database: &Database, deed: Deed<'_>) -> Result<(), PortError> {
    let mut connection = database.connection().await?;
    note_on(&mut connection, deed).await.map_err(failed("noting what was done"))
}

pub(super) async fn note_passed_over(database: &Database, deed: Deed<'_>, records: i64) -> Result<(), PortError> {
    let mut connection = database.connection().await?;
    let noted = connection.transaction::<_, Error, _>(async |c| {
        diesel::update(connectors::table.find(deed.connector.0))
            .set(connectors::passed_over.eq(connectors::passed_over + records))
            .execute(c)
            .await?;
        note_on(c, deed).await
    });
    noted.await.map_err(failed("counting what was passed over"))
}

pub(super) async fn save_lines(database: &Database, held: HeldLane, lines: &[Line]) -> Result<(), PortError> {
    let mut connection = database.connection().await?;
    let time = |us: i64| DateTime::<Utc>::from_timestamp_micros(us).unwrap_or_default();
    let facts = lines.iter().map(|l| serde_json::to_value(&l.facts)).collect::<Result<Vec<_>, _>>();
    let facts = facts.map_err(|e| PortError::Refused(e.to_string()))?;
    diesel::sql_query(
        "INSERT INTO connector_lines (connector_id, lane, runner, at, level, says, facts) \
         SELECT l.connector_id, l.lane, coalesce(l.holder, ''), a.at, a.level, a.says, a.facts \
         FROM lanes l, unnest($4, $5, $6, $7) AS a(at, level, says, facts) \
         WHERE l.connector_id = $1 AND l.lane = $2 AND l.epoch = $3",
    )
    .bind::<SqlUuid, _>(held.connector.0)
    .bind::<Int4, _>(held.lane)
    .bind::<Int8, _>(held.epoch.0)
    .bind::<Array<Timestamptz>, _>(lines.iter().map(|l| time(l.at_us)).collect::<Vec<_>>())
    .bind::<Array<Text>, _>(lines.iter().map(|l| l.level.word()).collect::<Vec<_>>())
    .bind::<Array<Text>, _>(lines.iter().map(|l| l.says.as_str()).collect::<Vec<_>>())
    .bind::<Array<Jsonb>, _>(facts)
    .execute(&mut connection)
    .await
    .map_err(failed("keeping a lane's lines"))?;
    Ok(())
}

/// Removes lines beyond those that are kept.
pub(crate) async fn trim_lines(database: &Database) -> Result<usize, PortError> {
    let mut connection = database.connection().await?;
    diesel::sql_query(
        "DELETE FROM connector_lines l USING (SELECT c.id, (SELECT number FROM connector_lines o WHERE o.connector_id = c.id \
           ORDER BY number DESC OFFSET $1 LIMIT 1) AS number FROM connectors c) AS oldest \
         WHERE l.connector_id = oldest.id AND l.number <= oldest.number",
    )
    .bind::<Int8, _>(KEPT_LINES)
    .execute(&mut connection)
    .await
    .map_err(failed("removing old lines of connectors"))
}

impl Database {
    /// What was done with a connector, the newest first; also of one that is gone.
    ///
    /// # Errors
    /// [`PortError::TryAgain`].
    pub async fn history_of(&self, connector: Uuid, before: Option<i64>, most: i64) -> Result<Vec<Done>, PortError> {
        let mut connection = self.connection().await?;
        diesel::sql_query(
            "SELECT number, at, who, what, version, detail FROM connector_history \
             WHERE connector_id = $1 AND number < coalesce($2, 9223372036854775807) ORDER BY number DESC LIMIT $3",
        )
        .bind::<SqlUuid, _>(connector)
        .bind::<Nullable<Int8>, _>(before)
        .bind::<Int8, _>(most)
        .load(&mut connection)
        .await
        .map_err(failed("reading a connector's history"))
    }

    /// A connector's lines that fit, `most` of them from the newest or the oldest on.
    ///
    /// # Errors
    /// [`PortError::TryAgain`].
    pub async fn lines_of(
        &self,
        connector: ConnectorId,
        filter: &LineFilter,
        most: i64,
    ) -> Result<Vec<KeptLine>, PortError> {
        let mut connection = self.connection().await?;
        let text =
            filter.text.as_ref().map(|t| format!("%{}%", t.replace('\\', "\\\\").replace('%', "\\%").replace('_', "\\_")));
        let order = if filter.oldest { "number" } else { "number DESC" };
        diesel::sql_query(format!(
            "SELECT number, lane, runner, at, level, says, facts FROM connector_lines WHERE connector_id = $1 \
               AND ($2 IS NULL OR lane = $2) AND (cardinality($3) = 0 OR level = ANY ($3)) \
               AND ($4 IS NULL OR says ILIKE $4 OR facts::text ILIKE $4) AND ($5 IS NULL OR at <= $5) \
               AND ($6 IS NULL OR number > $6) AND ($7 IS NULL OR number < $7) ORDER BY {order} LIMIT $8"
        ))
        .bind::<SqlUuid, _>(connector.0)
        .bind::<Nullable<Int4>, _>(filter.lane)
        .bind::<Array<Text>, _>(&filter.levels)
        .bind::<Nullable<Text>, _>(text)
        .bind::<Nullable<Timestamptz>, _>(filter.until)
        .bind::<Nullable<Int8>, _>(filter.after)
        .bind::<Nullable<Int8>, _>(filter.before)
        .bind::<Int8, _>(most)
        .load(&mut connection)
        .await
        .map_err(failed("reading a connector's lines"))
    }
}
