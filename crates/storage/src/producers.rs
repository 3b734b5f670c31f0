//! Applications that append to topics, by the names they give.

use chrono::{DateTime, Utc};
use diesel::sql_types::{Array, Double, Int8, Nullable, Text, Timestamptz};
use diesel_async::RunQueryDsl;
use gonvel_core::ports::PortError;

use crate::Database;
use crate::failing::failed;

/// What one producer did since it was last noted.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct ProducerTally {
    /// The topic.
    pub topic_id: i64,
    /// The name that it gives; empty if it gives none.
    pub name: String,
    /// Records appended.
    pub records: i64,
    /// Records refused; a request that is refused as a whole counts as one.
    pub refused: i64,
    /// Why the last one was.
    pub why: String,
}

/// A producer of a topic.
#[derive(Debug, Clone, PartialEq, diesel::QueryableByName)]
pub struct Producer {
    /// The topic's number.
    #[diesel(sql_type = Int8)]
    pub topic_id: i64,
    /// The topic's name.
    #[diesel(sql_type = Text)]
    pub topic: String,
    /// The name that it gives; empty if it gives none.
    #[diesel(sql_type = Text)]
    pub name: String,
    /// When it was first heard of.
    #[diesel(sql_type = Timestamptz)]
    pub first_at: DateTime<Utc>,
    /// When it last appended.
    #[diesel(sql_type = Nullable<Timestamptz>)]
    pub last_append: Option<DateTime<Utc>>,
    /// Records appended so far.
    #[diesel(sql_type = Int8)]
    pub records: i64,
    /// Records per second over the last minute.
    #[diesel(sql_type = Double)]
    pub rate_per_s: f64,
    /// Records refused so far.
    #[diesel(sql_type = Int8)]
    pub refused: i64,
    /// When one was last refused.
    #[diesel(sql_type = Nullable<Timestamptz>)]
    pub last_refused: Option<DateTime<Utc>>,
    /// Why.
    #[diesel(sql_type = Text)]
    pub why: String,
}

/// Names that are kept of one topic: more than that are no names.
const MOST_NAMES: i64 = 500;

impl Database {
    /// Adds what producers did. A topic that is gone meanwhile is passed over.
    ///
    /// # Errors
    /// [`PortError::Unavailable`].
    pub async fn note_producers(&self, tallies: &[ProducerTally]) -> Result<(), PortError> {
        let mut connection = self.connection().await?;
        // rows are locked in one order, whoever notes at the same time
        diesel::sql_query(
            "INSERT INTO producers AS p (topic_id, name, last_append, records, minute, in_minute, refused, last_refused, why) \
             SELECT u.topic_id, u.name, CASE WHEN u.records > 0 THEN now() END, u.records, \
                floor(extract(epoch FROM now()) / 60)::bigint, u.records, u.refused, CASE WHEN u.refused > 0 THEN now() END, u.why \
             FROM unnest($1, $2, $3, $4, $5) AS u(topic_id, name, records, refused, why) JOIN topics t ON t.id = u.topic_id \
             WHERE EXISTS (SELECT FROM producers k WHERE k.topic_id = u.topic_id AND k.name = u.name) \
                OR (SELECT count(*) FROM producers k WHERE k.topic_id = u.topic_id) < $6 \
             ORDER BY 1, 2 \
             ON CONFLICT (topic_id, name) DO UPDATE SET \
                last_append = coalesce(excluded.last_append, p.last_append), records = p.records + excluded.records, \
                in_minute = excluded.in_minute + CASE WHEN p.minute >= excluded.minute THEN p.in_minute ELSE 0 END, \
                in_minute_before = CASE WHEN p.minute >= excluded.minute THEN p.in_minute_before \
                    WHEN p.minute = excluded.minute - 1 THEN p.in_minute ELSE 0 END, \
                minute = greatest(p.minute, excluded.minute), refused = p.refused + excluded.refused, \
                last_refused = coalesce(excluded.last_refused, p.last_refused), \
                why = CASE WHEN excluded.refused > 0 THEN excluded.why ELSE p.why END",
        )
        .bind::<Array<Int8>, _>(tallies.iter().map(|t| t.topic_id).collect::<Vec<_>>())
        .bind::<Array<Text>, _>(tallies.iter().map(|t| t.name.as_str()).collect::<Vec<_>>())
        .bind::<Array<Int8>, _>(tallies.iter().map(|t| t.records).collect::<Vec<_>>())
        .bind::<Array<Int8>, _>(tallies.iter().map(|t| t.refused).collect::<Vec<_>>())
        .bind::<Array<Text>, _>(tallies.iter().map(|t| t.why.as_str()).collect::<Vec<_>>())
        .bind::<Int8, _>(MOST_NAMES)
        .execute(&mut connection)
        .await
        .map_err(failed("noting producers"))?;
        Ok(())
    }

    /// Producers of all topics or of one, by topic and name.
    ///
    /// # Errors
    /// [`PortError::Unavailable`].
    pub async fn producers(&self, topic_id: Option<i64>) -> Result<Vec<Producer>, PortError> {
        let mut connection = self.connection().await?;
        diesel::sql_query(
            "SELECT p.topic_id, t.name AS topic, p.name, p.first_at, p.last_append, p.records, p.refused, p.last_refused, p.why, \
                (CASE p.minute WHEN m.minute THEN p.in_minute + p.in_minute_before * (1 - m.part) \
                    WHEN m.minute - 1 THEN p.in_minute * (1 - m.part) ELSE 0 END \
                 / greatest(1, least(60, extract(epoch FROM now() - p.first_at))))::double precision AS rate_per_s \
             FROM producers p JOIN topics t ON t.id = p.topic_id, \
                (SELECT floor(e / 60)::bigint AS minute, e / 60 - floor(e / 60) AS part \
                 FROM (SELECT extract(epoch FROM now()) AS e) n) m \
             WHERE $1 IS NULL OR p.topic_id = $1 ORDER BY t.name, p.name",
        )
        .bind::<Nullable<Int8>, _>(topic_id)
        .load(&mut connection)
        .await
        .map_err(failed("reading producers"))
    }
}
